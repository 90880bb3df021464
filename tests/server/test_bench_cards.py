"""Cards of what is done after sowing: what is potted, pricked out, spaced, thinned and drilled, recounted by hand."""

import math
from datetime import timedelta
from typing import Any

from django.db import connection
from django.test.utils import CaptureQueriesContext

from aldrip.batches.models import Batch
from aldrip.batches.saved import saved_of
from aldrip.methods.models import Method
from aldrip.places.models import Kind, Place, Site
from aldrip.sowing.stage_cards import has_card
from tests.server.house import HouseCase

FAR = timedelta(weeks=50)


class BenchCards(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        site = Site.objects.get(organisation=self.ctx.organisation)
        for kind in {*Kind.values} - {*Place.objects.filter(site=site).values_list("kind", flat=True)}:
            self.post("/places", {"name": f"Own {kind}", "kind": kind, "site_id": site.pk, "capacity": 90_000})

    def planned_batch(self, slug: str, needed: int = 900) -> Batch:
        method = Method.objects.get(slug=slug, organisation=None)
        ready = self.ctx.today + timedelta(weeks=40)
        body = {"crop_id": method.crop_id, "method_id": method.pk, "needed": needed, "ready_on": str(ready)}
        return Batch.objects.get(pk=self.post("/batches", body)["id"])

    def later(self) -> Any:
        return self.get(f"/sowing/later?before={self.ctx.today + FAR}")

    def figures(self, card: Any) -> dict[str, float]:
        return {one["key"]: one["value"] for one in card["figures"]}

    def test_every_stage_of_every_method_that_is_bench_work_has_its_card(self) -> None:
        """Of the whole library, a method of each template: what is listed opens, and nothing else does."""
        seen = set()
        for method in Method.objects.filter(organisation=None, way="plants").order_by("pk"):
            kinds = tuple(method.stages.order_by("order").values_list("kind", "container"))
            if kinds in seen or not {kind for kind, _ in kinds} & {"pot", "prick", "space", "thin"}:
                continue
            seen.add(kinds)
            with self.subTest(method.slug):
                batch = self.planned_batch(method.slug)
                saved = saved_of(batch, list(batch.stages.order_by("order")))
                cards = {spec.key for spec in saved.method.stages if has_card(spec)}
                self.assertTrue(cards)
                self.assertEqual({one["stage"] for one in self.later() if one["batch_id"] == batch.pk}, cards)
                for spec in saved.method.stages:
                    path = f"/batches/{batch.pk}/stages/{spec.key}/card"
                    card = self.get(path, status=200 if spec.key in cards else 404)
                    if spec.key not in cards:
                        continue
                    found, before = self.figures(card), saved.stages[spec.after or ""].out * spec.share
                    self.assertEqual(found["plants"], math.floor(before + 1e-9))
                    if spec.container:
                        self.assertEqual(found["pieces"], math.ceil(found["plants"] / spec.container.cells))
                    if spec.unit_m2 and spec.density == "unit_m2":
                        self.assertAlmostEqual(found["m2"], found["plants"] * spec.unit_m2)
                        self.assertIn(f"{math.sqrt(spec.unit_m2) * 100:.0f} cm", card["apart_words"])
                    self.assertTrue(self.get(path + ".pdf").content.startswith(b"%PDF"))
        self.assertGreater(len(seen), 1)

    def test_mix_goes_by_the_pots_and_its_parts_are_all_of_it(self) -> None:
        batch = self.planned_batch(Method.objects.filter(slug__startswith="pot-from-plug", organisation=None)[0].slug)
        card = self.get(f"/batches/{batch.pk}/stages/pot/card")
        listed = next(one for one in self.later() if one["batch_id"] == batch.pk)
        self.assertEqual(listed["many"], self.figures(card)["plants"])
        on = self.get(f"/day?day={card['on']}")["tasks"]
        self.assertEqual({one["card"] for one in on if one["stage"] == "pot"}, {True})
        found, mix = self.figures(card), batch.method_snapshot["mix"]
        ml = batch.method_snapshot["containers"]["pot-9"]["cell_ml"]
        self.assertAlmostEqual(found["litres"], found["plants"] * ml / 1000 * (1 + mix["settling"] + mix["spillage"]))
        self.assertAlmostEqual(sum(one["litres"] for one in card["parts"]), found["litres"], delta=0.01)
        self.assertEqual(card["title"], card["work"][0]["words"])

    def test_the_queries_do_not_grow_with_the_batches(self) -> None:
        slug = Method.objects.filter(slug__startswith="pot-from-plug", organisation=None)[0].slug
        counted = []
        for many in (1, 4):
            for _ in range(many):
                self.planned_batch(slug, 100)
            with CaptureQueriesContext(connection) as caught:
                self.later()
            counted.append(len(caught))
        self.assertEqual(*counted)

    def test_what_was_potted_is_listed_no_more(self) -> None:
        batch = self.planned_batch(Method.objects.filter(slug__startswith="pot-from-plug", organisation=None)[0].slug)
        stage = batch.stages.get(key="pot")
        stage.actual_start = self.ctx.today
        stage.save()
        self.assertFalse([one for one in self.later() if one["batch_id"] == batch.pk])
        self.assertTrue(self.get(f"/batches/{batch.pk}/stages/pot/card")["done"])
        self.get(f"/batches/{batch.pk}/stages/nothing/card", status=404)
