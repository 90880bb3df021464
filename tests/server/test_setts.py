"""The work of setts on the card of their batch: as usual, as typed, and on no other card."""

from datetime import timedelta
from typing import Any

from aldrip.batches.models import Batch
from aldrip.methods.models import Crop, Method
from tests.server.house import HouseCase


class Setts(HouseCase):
    def batch(self, crop: str, form: str) -> Batch:
        found = Crop.objects.get(slug=crop, organisation=None)
        method = Method.objects.filter(crop=found, form=form, organisation=None)[0]
        day = self.ctx.today + timedelta(days=60)
        made = self.post(
            "/batches", {"crop_id": found.pk, "method_id": method.pk, "needed": 2000, "ready_on": str(day)}
        )
        return Batch.objects.get(pk=made["id"])

    def figures(self, batch: Batch, typed: str = "") -> dict[str, Any]:
        return {one["key"]: one for one in self.get(f"/batches/{batch.pk}/setts{typed}")}

    def test_every_figure_of_a_batch_with_its_working(self) -> None:
        batch = self.batch("ginger", "sett")
        found = self.figures(batch)
        laid = found["knife"]["value"] * 120  # setts an hour, as usual
        self.assertGreaterEqual(laid, 2000)
        self.assertAlmostEqual(found["bed"]["value"], laid * 40 / 60 / 100, places=3)
        self.assertTrue(all(one["working"] for one in found.values()))
        card = self.get(f"/batches/{batch.pk}/card")
        self.assertEqual((card["verb"], "Set" in [one["label"] for one in card["steps"]]), ("Set", True))

    def test_typed_in_other_measures_it_is_the_same(self) -> None:
        batch = self.batch("ginger", "sett")
        plain = self.figures(batch, "?tuber_g=1134&sett_g=113.4&bed_width_cm=60.96")
        other = self.figures(batch, "?tuber_g=2.5 lb&sett_g=4 oz&bed_width_cm=2 ft")
        for key in plain:
            self.assertAlmostEqual(plain[key]["value"], other[key]["value"], delta=0.001 * plain[key]["value"] + 1)
        told = self.get(f"/batches/{batch.pk}/setts?sett_g=many", status=422)
        self.assertEqual(told["errors"][0]["field"], "sett_g")

    def test_other_batches_have_none(self) -> None:
        self.assertEqual(self.figures(self.batch("lavender", "rooted cutting")), {})
