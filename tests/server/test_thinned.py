"""A stand that is thinned, on the card of its batch: thick against at stand, as usual and as typed, and on no other card."""

from datetime import timedelta
from typing import Any

from aldrip.batches.models import Batch
from aldrip.methods.models import Crop, Method
from tests.server.house import HouseCase


class Thinned(HouseCase):
    def batch(self, crop: str, form: str) -> Batch:
        found = Crop.objects.get(slug=crop, organisation=None)
        method = Method.objects.filter(crop=found, form=form, organisation=None)[0]
        day = self.ctx.today + timedelta(days=120)
        body = {"crop_id": found.pk, "method_id": method.pk, "needed": 20_000, "ready_on": str(day)}
        return Batch.objects.get(pk=self.post("/batches", body)["id"])

    def figures(self, batch: Batch, typed: str = "") -> dict[str, Any]:
        return {one["key"]: one for one in self.get(f"/batches/{batch.pk}/stand{typed}")}

    def test_both_ways_with_their_workings_and_the_sentence(self) -> None:
        batch = self.batch("parsnip", "thinned stand")
        found = self.figures(batch)
        self.assertTrue(all(one["working"] for one in found.values()))
        told = found["stand_hours"]["note"]
        self.assertIn("hours by hand less", told)
        # What the plan sows is held against the same stand: fewer seeds than “thick” leave more gaps.
        self.assertGreater(float(told.split("of the plan leave ")[1].split(" %")[0]), 3.0)
        self.assertGreater(found["thick_pulled"]["value"], 0)
        # Twice as far apart is half as thick; fewer gaps are more seed.
        self.assertAlmostEqual(
            self.figures(batch, "?in_row=20 cm")["thick_metre"]["value"] * 2, found["thick_metre"]["value"]
        )
        self.assertGreater(self.figures(batch, "?gaps=1")["thick_metre"]["value"], found["thick_metre"]["value"])
        inches = self.figures(batch, "?in_row=4 in")["thick_metre"]["value"]
        self.assertAlmostEqual(inches * 10.16, found["thick_metre"]["value"] * 10)
        half = self.figures(batch, "?pulled=3000&singled=1800")
        self.assertAlmostEqual(half["thick_hours"]["value"] * 2, found["thick_hours"]["value"])
        self.assertAlmostEqual(half["stand_hours"]["value"] * 2, found["stand_hours"]["value"])

    def test_what_cannot_be_is_refused_where_it_was_typed(self) -> None:
        batch = self.batch("parsnip", "thinned stand")
        for typed, field in (
            ("in_row=0", "in_row"),
            ("gaps=100", "gaps"),
            ("pulled=0", "pulled_an_hour"),
            ("singled=x", "singled_an_hour"),
        ):
            with self.subTest(typed):
                self.assertEqual(
                    self.get(f"/batches/{batch.pk}/stand?{typed}", status=422)["errors"][0]["field"], field
                )

    def test_what_is_not_thinned_has_no_such_choice(self) -> None:
        self.assertEqual(self.figures(self.batch("pak-choi", "plug")), {})
