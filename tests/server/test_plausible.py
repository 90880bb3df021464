"""A slip of the key is asked about before it is kept; what is as planned is not; the answer stays with the record."""

from typing import Any

from aldrip.accounts.models import AuditEvent
from aldrip.batches.models import Batch
from aldrip.diary.models import Count
from tests.server.house import HouseCase, seed_lot, uid


class Plausible(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.lot = seed_lot(self.ctx, grams=900)
        _, self.batch = self.planned()

    def said(self, path: str, body: dict[str, Any], sure: str = "") -> Any:
        more = {"HTTP_X_SURE": sure} if sure else {}
        answer = self.client.post(f"/api{path}", body, content_type="application/json", **more)  # type: ignore[arg-type]
        return answer.status_code, answer.json()

    def sow(self, sure: str = "", **more: Any) -> Any:
        return self.said(f"/batches/{self.batch.pk}/sown", {"on": str(self.ctx.today), **more}, sure)

    def test_ten_times_the_plan_is_asked_and_nothing_kept_until_it_is_said(self) -> None:
        trays = self.batch.trays or 0
        status, told = self.sow(trays=trays * 10, grams=600)
        self.assertEqual(
            (status, told["code"], told["ask"], told["errors"][0]["field"]), (422, "doubtful", "sown", "trays")
        )
        self.assertEqual(told["title"], f"{trays * 10:,} trays is ten times what the plan says, {trays:,}. Is it so?")
        self.lot.refresh_from_db()
        self.assertEqual((Batch.objects.get().state, self.lot.balance), ("planned", 900))
        status, told = self.sow("grams", trays=trays * 10, grams=600)
        self.assertEqual(told["ask"], "sown", "an answer to another question is none to this one")
        status, _ = self.sow("sown", trays=trays * 10, grams=600)
        self.assertEqual((status, Batch.objects.get().trays), (200, trays * 10))
        kept = AuditEvent.objects.get(action="batch.sown").after or {}
        self.assertIn("ten times what the plan says", kept["said_to_be_so"][0])

    def test_what_is_as_planned_is_never_asked_about(self) -> None:
        for trays in (self.batch.trays or 0, round((self.batch.trays or 0) * 1.4)):
            status, told = self.sow(trays=trays)
            self.assertEqual(status, 200, told)
            event = AuditEvent.objects.filter(action="batch.sown").latest("id")
            self.said(f"/acts/{event.pk}/take-back", {"reason": "again", "known": [event.pk]})

    def test_the_weight_of_the_seed_follows_its_number(self) -> None:
        _, told = self.sow(grams=(self.batch.seed_g or 0) * 5)
        self.assertEqual((told["ask"], told["errors"][0]["field"]), ("grams", "grams"))
        self.assertIn("five times what so many seeds weigh", told["title"])

    def test_counts_and_losses(self) -> None:
        self.sow()
        path = f"/batches/{self.batch.pk}/counts"
        count = {"on": str(self.ctx.today), "client_uuid": uid()}
        _, told = self.said(path, {**count, "trays": [{"sampled": 500, "found": 450}]})
        self.assertEqual(
            (told["ask"], told["title"]), ("cells", "500 cells in one tray? A tray of this batch has 240.")
        )
        _, told = self.said(path, {**count, "trays": [{"sampled": 240, "found": 21}]})
        self.assertEqual(told["ask"], "emerged")
        self.assertEqual(
            self.said(path, {**count, "trays": [{"sampled": 240, "found": 146}]})[0], 200, "a bad count is a count"
        )
        lost = {"lost": self.batch.start - 100, "cause": "slugs", "on": str(self.ctx.today), "client_uuid": uid()}
        _, told = self.said(f"/batches/{self.batch.pk}/losses", lost)
        self.assertEqual(told["ask"], "lost")
        self.assertFalse(Count.objects.filter(kind="loss").exists())
        self.assertEqual(self.said(f"/batches/{self.batch.pk}/losses", lost, "lost")[0], 200)

    def test_a_lot_that_hardly_can_be(self) -> None:
        crop = self.batch.crop_id
        _, told = self.said("/lots", {"crop_id": crop, "quantity": "200 g", "germination_percent": 0.95})
        self.assertEqual((told["code"], told["ask"]), ("doubtful", "germination"), told)
        _, told = self.said("/lots", {"crop_id": crop, "quantity": "200 g", "germination_percent": 90, "tgw": "110"})
        self.assertEqual(told["ask"], "tgw")
