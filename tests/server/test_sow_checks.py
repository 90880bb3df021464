"""One seed in a cell: looked at while it is sown, told on the card against chance, once, in a row too, and taken back."""

from datetime import timedelta
from typing import Any

from aldrip.batches.models import Batch
from aldrip.methods.models import Crop, Method
from aldrip.sowing.models import SowCheck
from tests.server.house import HouseCase, member, uid


class Checks(HouseCase):
    def batch(self, crop: str = "pak-choi", form: str = "plug") -> Batch:
        found = Crop.objects.get(slug=crop, organisation=None)
        method = Method.objects.filter(crop=found, form=form, organisation=None)[0]
        day = self.ctx.today + timedelta(days=120)
        body = {"crop_id": found.pk, "method_id": method.pk, "needed": 20_000, "ready_on": str(day)}
        return Batch.objects.get(pk=self.post("/batches", body)["id"])

    def check(self, batch: Batch, status: int = 200, **more: Any) -> Any:
        return self.post(f"/batches/{batch.pk}/sow-checks", {"client_uuid": uid(), **more}, status=status)

    def test_counted_it_says_what_it_comes_to_and_a_repeat_is_one(self) -> None:
        batch, again = self.batch(), uid()
        for _ in (1, 2):
            card = self.check(batch, looked="208", misses="6", doubles="5", client_uuid=again)
        self.assertEqual([one["verdict"] for one in card["checks"]], ["well"])
        told = card["checks"][0]["sentence"]
        self.assertIn("6 without a seed (2.9 %, likely 1.1 to 6.2)", told)  # Clopper & Pearson 1934: 6 of 208
        self.assertIn(f"On all {batch.start:,} cells", told)
        self.assertEqual(self.check(batch, looked="20", misses="2")["checks"][0]["verdict"], "watch")
        self.assertIn("stop and set it anew", self.check(batch, looked="200", doubles="40")["checks"][0]["sentence"])
        self.assertEqual(SowCheck.objects.count(), 3)

    def test_measured_along_a_row(self) -> None:
        batch = self.batch("parsnip", "thinned stand")
        card = self.check(batch, spacings="10 9,5; 21 4 11\n26", wanted="10 cm")
        self.assertIn("Of 8: 3 without a seed", card["checks"][0]["sentence"])
        for more, field in (
            ({"spacings": "10 x", "wanted": "10"}, "spacings"),
            ({"spacings": "10 9"}, "wanted"),
            ({"looked": "10", "misses": "11"}, "misses"),
            ({"looked": "10", "misses": "6", "doubles": "6"}, "doubles"),
            ({"looked": "0"}, "looked"),
        ):
            with self.subTest(more):
                self.assertEqual(self.check(batch, status=422, **more)["errors"][0]["field"], field)

    def test_taken_back_it_is_gone_and_a_viewer_checks_nothing(self) -> None:
        batch = self.batch()
        self.check(batch, looked="100")
        event = next(one for one in self.get("/audit") if "without a seed" in one["sentence"])
        self.post(f"/acts/{event['id']}/take-back", {"reason": "the other tray", "known": [event["id"]]})
        self.assertEqual(self.get(f"/batches/{batch.pk}/card")["checks"], [])
        cuttings = self.batch("lavender", "rooted cutting")
        self.assertEqual(self.check(cuttings, looked="100", status=422)["errors"][0]["code"], "not_singled")
        clumps = self.batch("lobelia", "multi-seeded plug")
        self.assertFalse(self.get(f"/batches/{clumps.pk}/card")["one_by_one"])
        self.assertEqual(self.check(clumps, looked="100", status=422)["errors"][0]["code"], "not_singled")
        self.client.force_login(member(self.ctx, "viewer", "viewer"))
        self.check(batch, looked="100", status=403)
