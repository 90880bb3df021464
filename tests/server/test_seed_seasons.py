"""Every shipped seed crop, promised in every month of two years: in season and stored until due, or no, with its day."""

from datetime import date, timedelta
from itertools import pairwise
from typing import Any

from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch
from aldrip.methods.models import Method
from aldrip.methods.resolver import Library
from aldrip.methods.snapshot import crop_spec, crop_values, read_snapshot, take_snapshot
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place, Site
from aldrip_core.batch_plan import Plan, Request, plan_batch
from aldrip_core.stage_dates import Anchor
from aldrip_core.stages import MethodSpec, StageSpec, Trait
from tests.server.house import COAST, HouseCase, advance, take_order

DAY = timedelta(days=1)
TODAY = date(2027, 1, 11)
MONTHS = [date(2027 + (month - 1) // 12, (month - 1) % 12 + 1, 15) for month in range(2, 26)]
INLAND = [-4.0, -2.0, 3.0, 9.0, 14.0, 18.0, 20.5, 19.5, 15.0, 9.0, 3.0, -2.0]
FAR = 760  # days of starts that the slow reckoning tries
MIDDLES = (15.5, 45.0, 74.5, 105.0, 135.5, 166.0, 196.5, 227.5, 258.0, 288.5, 319.0, 349.5)


class Slowly:
    """The same question answered day by day, from daily means of its own, for people who do not trust the quick one."""

    def __init__(self, method: MethodSpec, monthly: list[float], frost: tuple[int, int] | None) -> None:
        self.method, self.monthly, self.frost = method, monthly, frost
        self.means = {n: self._mean(n) for n in range(1, 367)}

    def _mean(self, day: int) -> float:
        at = day - 0.5
        points = [
            (MIDDLES[-1] - 366, self.monthly[-1]),
            *zip(MIDDLES, self.monthly, strict=True),
            (MIDDLES[0] + 366, self.monthly[0]),
        ]
        for (x0, y0), (x1, y1) in pairwise(points):
            if x0 <= at <= x1:
                return y0 + (y1 - y0) * (at - x0) / (x1 - x0)
        raise AssertionError(day)

    def mean(self, stage: StageSpec, day: date) -> float:
        return self.means[day.timetuple().tm_yday] if stage.place_kind == "field" else 8.0

    def _may_begin(self, stage: StageSpec, day: date) -> bool:
        said = (day.month, day.day)
        windows = stage.season.begins
        inside = not windows or any(
            (w.first <= said <= w.last) if w.first <= w.last else (said >= w.first or said <= w.last) for w in windows
        )
        if stage.season.after_frost_days is None or self.frost is None:
            return inside
        year = day.year
        since = date(year, *self.frost) + stage.season.after_frost_days * DAY
        if day < since:
            since = date(year - 1, *self.frost) + stage.season.after_frost_days * DAY
        return inside and (day - since).days < 240

    def lives(self, start: date) -> tuple[date, date] | None:
        """First day of harvest and the day on which it may be delivered, from a start; None where it leaves its season."""
        day, cut = start, start
        for stage in self.method.stages:
            begun = day
            if not self._may_begin(stage, begun):
                return None
            if stage.duration.heat_sum_c_d is not None:
                heat = 0.0
                while heat < stage.duration.heat_sum_c_d - 1e-9:
                    heat += max(0.0, self.mean(stage, day) - stage.duration.base_c)
                    day += DAY
            else:
                day += round(stage.duration.days or 0) * DAY
            span = [begun + n * DAY for n in range(max(1, (day - begun).days))]
            floor = stage.season.floor_c
            if floor is not None and any(self.mean(stage, one) < floor - 1e-9 for one in span):
                return None
            if stage.does(Trait.LOADS):
                cut = begun
        return cut, day


class SeedSeasons(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        advance(self.ctx, TODAY)
        organisation = self.ctx.organisation
        organisation.working_days, organisation.sowing_days, organisation.safety_days = (
            list(range(7)),
            list(range(7)),
            0,
        )
        organisation.save()
        self.site = Site.objects.get(organisation=organisation)
        self.field = Place.objects.create(
            organisation=organisation, site=self.site, name="Field", kind="field", sharing="whole", capacity=900_000
        )
        if not self.ctx.rows(Place).filter(kind="store").exists():
            Place.objects.create(organisation=organisation, site=self.site, name="Store", kind="store", cooled_to_c=8)

    def seed_methods(self) -> list[Method]:
        rows = Library(self.ctx).rows(Method).filter(form="seed").select_related("crop").order_by("slug")
        return list(rows)

    def planned(self, method: Method, ready: date) -> Plan:
        assert method.crop is not None
        ground = Ground(self.ctx)
        request = Request(
            crop=crop_spec(crop_values(method.crop)),
            method=read_snapshot(take_snapshot(method)),
            needs={"seed": 300.0},
            chance=0.8,
            anchor=Anchor(ready=ready),
        )
        return plan_batch(request, ground, working=False)

    def check_site(self, monthly: list[float], frost: str) -> None:
        self.site.monthly_c, self.site.last_frost = monthly, frost
        self.site.save()
        self.ctx.organisation.refresh_from_db()
        methods = self.seed_methods()
        self.assertGreater(len(methods), 15)
        for method in methods:
            spec = read_snapshot(take_snapshot(method))
            slowly = Slowly(spec, monthly, (int(frost[:2]), int(frost[3:])))
            lives = {TODAY + n * DAY: slowly.lives(TODAY + n * DAY) for n in range(FAR)}
            for due in MONTHS:
                with self.subTest(method.slug, due=due):
                    self.one_promise(self.planned(method, due), spec, due, lives)

    def one_promise(self, plan: Plan, spec: MethodSpec, due: date, lives: dict[date, Any]) -> None:
        in_time = [start for start, found in lives.items() if found and found[1] <= due]
        self.assertFalse([one for one in plan.problems if one.code == "out_of_season"])
        own = lives[plan.sow_on]
        self.assertIsNotNone(own, f"sown on {plan.sow_on}, out of season")
        loads = spec.first_with(Trait.LOADS)
        assert loads is not None and own is not None
        self.assertEqual(plan.stage(loads.key).dates.start, own[0])
        if in_time:  # yes: done in its season, and stored until it is wanted
            self.assertEqual((plan.late_days, plan.ready_on), (0, due))
            self.assertLessEqual(own[1], due)
        else:  # no, and the day that is named is the first there is
            first = min(found[1] for found in lives.values() if found)
            self.assertEqual(plan.ready_on, first)
            self.assertEqual(plan.late_days, (first - due).days)

    def test_at_the_coast_every_promise_is_kept_in_season_or_told_no(self) -> None:
        self.check_site(COAST, "04-12")

    def test_inland_with_hard_winters_as_well(self) -> None:
        self.check_site(INLAND, "05-06")

    def test_an_order_for_march_is_grown_in_the_summer_before_and_an_impossible_one_names_its_day(self) -> None:
        """S3 with other numbers: 240 kg of buckwheat due in April."""
        self.site.last_frost = "04-12"
        self.site.save()
        for due, until in (("2028-04-17", "2028-04-28"), ("2027-04-12", "2027-04-23")):
            line = take_order(self.ctx, crop="Buckwheat", form="seed", quantity="240 kg", due=due, until=until)
            self.post("/batches/plan-lines", {"line_ids": [line.pk]})
            line.refresh_from_db()
            batch = Batch.objects.get(allocations__order_line=line)
            stages = {one.key: one for one in batch.stages.all()}
            self.assertIn(stages["flower"].planned.lower.month, (5, 6, 7))
            self.assertIn(stages["harvest"].planned.lower.month, (7, 8, 9))
            if due.startswith("2028"):
                self.assertEqual(line.problems, [])
                self.assertGreater((stages["test"].planned.upper - stages["test"].planned.lower).days, 100)
            else:
                self.assertEqual([one["code"] for one in line.problems], ["late"])
                self.assertEqual(line.chance, 0.0)

    def test_two_cultivars_of_one_crop_are_sown_each_in_its_own_weeks(self) -> None:
        """Windows by earliness; the days are invented."""
        method = next(one for one in self.seed_methods() if one.crop and one.crop.slug == "linseed")
        sow = method.stages.get(key="sow")
        sow.begins = ["early: 25 Apr to 10 May", "late: 10 Mar to 20 Mar", "1 Apr to 20 Apr"]
        sow.save()
        sown = {}
        for earliness in ("early", "late", "mid"):
            body = {"crop_id": method.crop_id, "name": f"Linnet {earliness}", "earliness": earliness}
            made = self.post("/lines", body)
            self.assertEqual(made["earliness"], earliness)
            line = take_order(
                self.ctx,
                crop="Linseed",
                cultivar=made["name"],
                form="seed",
                quantity="200 kg",
                due="2028-02-14",
                until="2028-02-25",
            )
            self.post("/batches/plan-lines", {"line_ids": [line.pk]})
            batch = Batch.objects.get(allocations__order_line=line)
            on = batch.stages.get(key="sow").planned.lower
            sown[earliness] = (on.month, on.day)
        self.assertTrue((4, 25) <= sown["early"] <= (5, 10), sown)
        self.assertTrue((3, 10) <= sown["late"] <= (3, 20), sown)
        self.assertTrue((4, 1) <= sown["mid"] <= (4, 20), sown)
        told = self.post("/lines", {"crop_id": method.crop_id, "name": "Linnet", "earliness": "soon"}, status=422)
        self.assertEqual(told["errors"][0]["field"], "earliness")

    def test_a_day_typed_out_of_season_is_kept_counts_for_nothing_and_says_why(self) -> None:
        line = take_order(
            self.ctx, crop="Linseed", form="seed", quantity="300 kg", due="2028-05-15", until="2028-06-15"
        )
        self.post("/batches/plan-lines", {"line_ids": [line.pk]})
        batch = Batch.objects.get(allocations__order_line=line)
        self.post(f"/batches/{batch.pk}/keep", {"version": batch.version, "change": {"sow_on": "2027-09-13"}})
        line = OrderLine.objects.get(pk=line.pk)
        self.assertEqual(line.chance, 0.0)
        told = [one for one in line.problems if one["code"] == "out_of_season"]
        self.assertTrue(told)
        self.assertIn("10 Mar to 10 May", str(told))
