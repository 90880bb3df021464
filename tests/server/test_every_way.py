"""Every shipped method, from an order to its first day's work; and the library, checked against itself."""

import os
import re
from collections import defaultdict
from datetime import date
from typing import Any

from aldrip.batches.models import Batch, Occupancy
from aldrip.diary.models import Task
from aldrip.methods.models import Crop, Method, MethodStage
from aldrip.methods.resolver import Library
from aldrip.methods.snapshot import read_snapshot, take_snapshot
from aldrip.methods.writing import form_of
from aldrip.orders.models import OrderLine
from aldrip.places.models import Kind, Place
from aldrip_core.stages import Part, Trait
from aldrip_core.units import unit
from tests.server.house import HouseCase, order_row

#: The fourteen ways of raising, each by the shipped methods that carry it.
WAYS = {
    "plugs, one seed": ["plug-single"],
    "plugs, several seeds": ["plug-multi"],
    "bare-root": ["bare-root"],
    "sown in place": ["thinned-stand"],
    "broadcast and pricked on": ["pricked-on"],
    "mats by weight": ["mat"],
    "from tissue culture": ["apical-cutting"],
    "setts": ["sett"],
    "pre-sprouted tubers": ["chitted-tuber"],
    "open-pollinated": ["open-pollinated-seed"],
    "biennial": ["biennial-in-place", "biennial-roots"],
    "hybrid": ["hybrid-seed"],
    "parents of hybrids": ["parent-increase", "parent-upkeep"],
    "combined": ["drilled-seed"],
    "pots": ["pot", "pot-from-plug", "division", "bought-in-pot"],
    "cut flowers": ["cut-flower"],
    "repeated picking": ["leaf"],
    "cuttings": ["tip-cutting"],
    "grafts": ["graft"],
    "slips": ["slip"],
    "runners": ["runner"],
    "canes": ["cane"],
}
DUE = date(2029, 10, 1)
AT_ONCE = 60  # lines that are planned in one request, not as a job


class EveryWay(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        site = self.ctx.organisation.sites.get()
        for kind in Kind:
            if not self.ctx.rows(Place).filter(kind=kind).exists():
                ground = kind in (Kind.BED, Kind.FIELD, Kind.STANDING)
                Place.objects.create(
                    organisation=self.ctx.organisation,
                    site=site,
                    name=f"The {kind.label}",
                    kind=kind,
                    capacity=200_000 if ground else 900,
                    sharing="whole" if kind == Kind.FIELD else "shared",
                )

    def test_each_of_the_ways_is_carried_and_every_template_is_one_of_them(self) -> None:
        slugs = list(Library(self.ctx).rows(Method).values_list("slug", "crop__slug"))
        templates = {slug.removesuffix(f"-{crop}") for slug, crop in slugs}
        self.assertEqual(templates, {template for carried in WAYS.values() for template in carried})

    def test_an_order_of_every_method_is_planned_with_days_places_materials_and_first_work(self) -> None:
        methods = list(Library(self.ctx).rows(Method).select_related("crop").order_by("slug"))
        self.assertGreater(len(methods), 100)
        # A crop's ways to one form take turns at being its usual one; all that are so at a time are planned at once.
        turns: dict[tuple[int, str], list[Method]] = defaultdict(list)
        for method in methods:
            turns[method.crop_id or 0, method.form].append(method)
        for turn in range(max(map(len, turns.values()))):
            chosen = [ways[turn] for ways in turns.values() if turn < len(ways)]
            Method.objects.filter(pk__in=[one.pk for ways in turns.values() for one in ways]).update(default=False)
            Method.objects.filter(pk__in=[one.pk for one in chosen]).update(default=True)
            for first in range(0, len(chosen), AT_ONCE):
                self.post("/orders", {"rows": [self.row_of(one) for one in chosen[first : first + AT_ONCE]]})
                told = self.post("/batches/plan-lines", {})
                self.assertEqual((told["unplanned"], told["job"]), ([], None))
            for method in chosen:
                with self.subTest(method.slug):
                    self.one_way(method)

    def row_of(self, method: Method) -> dict[str, str]:
        assert method.crop is not None
        quantity = "40 kg" if unit(method.unit).is_mass else "300"
        number = method.slug[:30]
        return order_row(order=number, crop=method.crop.name, form=method.form, quantity=quantity, due=str(DUE))

    def one_way(self, method: Method) -> None:
        line = OrderLine.objects.get(order__number=method.slug[:30])
        batch = Batch.objects.select_related("method", "crop").get(allocations__order_line=line)
        self.assertEqual(batch.method, method)
        stages = list(batch.stages.order_by("order"))
        spec = read_snapshot(batch.method_snapshot)
        # Days: one after the other, over before it is due, and not in the past.
        self.assertGreaterEqual(min(stage.planned.lower for stage in stages), self.ctx.today)
        self.assertLessEqual(max(stage.planned.upper for stage in stages), DUE)
        for stage in spec.stages:
            if stage.follows is not None:
                before, own = (batch.stages.get(key=key).planned for key in (stage.follows, stage.key))
                self.assertLessEqual(before.lower, own.lower)
        # Quantities: what comes is what is needed, with the chance of the house.
        self.assertGreaterEqual(batch.planned_chance, self.ctx.organisation.chance_wanted - 1e-9)
        self.assertGreater(batch.start, 0)
        # Places: whatever takes up room and lasts stands somewhere.
        stood = set(Occupancy.objects.filter(stage__batch=batch).values_list("stage__key", flat=True))
        wanted = {
            one.key
            for one in spec.stages
            if one.density and batch.stages.get(key=one.key).planned.lower < batch.stages.get(key=one.key).planned.upper
        }
        self.assertEqual(wanted - stood, set())
        # Materials: seed that is sown is weighed, and a container that is filled is counted.
        if method.by_seed:
            self.assertGreater(batch.seed_g or 0, 0)
        if method.container is not None:
            self.assertGreater(batch.trays or 0, 0)
        # Work: something is to be done on the first day, in words that name the crop.
        first = Task.objects.filter(subject=batch.uuid).order_by("due_from")
        begins = batch.stages.get(key=spec.root.key).planned.lower
        self.assertTrue(first.filter(due_from=begins).exists(), "nothing to do on the first day")
        self.assertFalse(first.filter(title__contains="{").exists())
        working, _ = self.ctx.calendars()
        off = [(task.title, task.due_from) for task in first if not working.works(task.due_from)]
        self.assertEqual(off, [], "work on a day on which nobody works")
        self.assertIsNotNone(line.chance)

    def test_every_method_says_what_goes_in_and_what_comes_out(self) -> None:
        for method in (
            Library(self.ctx).rows(Method).select_related("crop", "container").prefetch_related("stages__container")
        ):
            spec = read_snapshot(take_snapshot(method))
            self.assertTrue(spec.root.does(Trait.STARTS), method.slug)
            self.assertIsNotNone(spec.root.takes, method.slug)
            self.assertTrue(any(stage.does(Trait.YIELDS) for stage in spec.stages), f"{method.slug} never gives a lot")
            self.assertTrue(any(stage.does(Trait.LEAVES) for stage in spec.stages), method.slug)
            self.assertEqual(spec.last.unit, spec.unit, method.slug)
            self.assertEqual(spec.root.takes is Part.SEED, spec.by_seed or spec.way != "plants", method.slug)

    def test_every_method_is_planned_or_says_what_stands_against_it_in_every_climate(self) -> None:
        """From a northern hill to a wet tropic coast: a plan, and a sentence where the crop rests or finds no room."""
        climates = {
            "hill": [-6, -5, -1, 4, 9, 13, 15, 14, 10, 5, -1, -5],
            "tropic": [26, 26, 27, 28, 28, 27, 27, 27, 27, 27, 27, 26],
        }
        site = self.ctx.organisation.sites.get()
        methods = list(Library(self.ctx).rows(Method).filter(way="plants"))
        forms: dict[str, dict[str, Any]] = {one.slug: form_of(self.ctx, "method", one.slug)["typed"] for one in methods}
        for name, monthly in climates.items():
            site.monthly_c = monthly
            site.save()
            # Each method in one of the climates, and in both when the seasons are long: the other one is like it.
            tried = methods if os.environ.get("ALDRIP_LONG") else methods[list(climates).index(name) :: len(climates)]
            for method in tried:
                typed = forms[method.slug]
                answer = self.client.post(
                    "/api/methods/try",
                    {"slug": method.slug, "typed": typed, "quantity": "250"},
                    content_type="application/json",
                )
                told = answer.json()
                if answer.status_code == 422:  # a coast where lettuce rests all year
                    self.assertEqual(
                        {error["code"] for error in told["errors"]} - {"never_reached", "never_cool"},
                        set(),
                        f"{name} {method.slug} {told}",
                    )
                    warm = min(monthly) > 20
                    self.assertIn("cooler" if warm else "warmer", told["errors"][0]["message"], f"{name} {method.slug}")
                    continue
                self.assertEqual(answer.status_code, 200, f"{name} {method.slug} {told}")
                self.assertTrue(told["rungs"] and 1 <= told["days"] <= 1200, f"{name} {method.slug} {told['days']}")
                self.assertTrue(all(problem.endswith(".") for problem in told["problems"]), told["problems"])


class LibraryIsPlausible(HouseCase):
    def test_at_least_sixty_crops_with_a_source_beside_every_value(self) -> None:
        crops = list(Library(self.ctx).rows(Crop))
        self.assertGreaterEqual(len(crops), 60)
        for crop in crops:
            for name in ("tgw_g", "germination", "minimum_germination", "depth_mm"):
                if getattr(crop, name) is not None:
                    self.assertTrue(crop.sources.get(name), f"{crop.slug} {name}")
            self.assertRegex(crop.botanical_name, r"^[A-Z][a-z]+ (× )?[a-z]+", crop.slug)
            self.assertEqual(
                Library(self.ctx).rows(Crop).filter(botanical_name=crop.botanical_name).count(), 1, crop.botanical_name
            )
        for stage in MethodStage.objects.select_related("method"):
            if stage.days:
                self.assertTrue(stage.sources.get("days"), f"{stage.method.slug} {stage.key}")
            if stage.keeps < 1:
                self.assertTrue(stage.sources.get("keeps"), f"{stage.method.slug} {stage.key}")

    def test_values_hold_together(self) -> None:
        for crop in Library(self.ctx).rows(Crop).filter(tgw_g__isnull=False):
            self.assertTrue(0.01 <= crop.tgw_g <= 2000, crop.slug)
            if crop.minimum_germination is not None:
                self.assertGreater(
                    crop.germination, crop.minimum_germination, f"{crop.slug} is reckoned below what the law allows"
                )
            # Fine seed lies on the surface, coarse seed deep: no deeper than some ten times its thickness.
            thickness_mm = (crop.tgw_g / 1000 / 0.0012) ** (1 / 3)  # of a ball of 1.2 g/cm³, in mm
            self.assertLessEqual(crop.depth_mm, 12 * thickness_mm + 1, crop.slug)

    def test_no_name_calls_two_crops(self) -> None:
        called: dict[str, str] = {}
        for crop in Library(self.ctx).rows(Crop):
            for name in {crop.name, *crop.other_names}:
                plain = re.sub(r"\W", "", name.lower())
                self.assertEqual(called.setdefault(plain, crop.slug), crop.slug, name)
