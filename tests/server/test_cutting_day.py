"""The day of cutting by the API: on the day sheet and the evening before, from the first to be stuck, and gone when done."""

from datetime import timedelta
from io import BytesIO
from typing import Any

from pypdf import PdfReader

from aldrip.batches.models import Batch
from aldrip.lots.models import Lot
from tests.server.house import advance, uid
from tests.server.test_mothers import ONE, WEEK, MothersCase


class CuttingDay(MothersCase):
    def beside(self, after: int = 0) -> list[dict[str, Any]]:
        return list(self.get(f"/day?day={self.ctx.today + timedelta(days=after)}")["beside"])

    def due(self, many: int, day: Any) -> Batch:
        batch = self.sticking(many, 0)
        stage = batch.stages.get(order=0)
        stage.planned = (day, day + ONE)
        stage.save()
        return batch

    def test_cut_in_the_morning_of_its_mothers_watered_the_evening_before_and_gone_when_it_is_done(self) -> None:
        advance(self.ctx, self.first + WEEK)
        old = self.planted("50", weeks=12, shoots="2 2 2 2 2 2 2 2", first_cut_week=8, life_weeks=20)
        young = self.planted("200", weeks=9, shoots="2 2 2 2 2 2 2 2", first_cut_week=8, life_weeks=20)
        batch = self.due(200, self.ctx.today + 2 * ONE)
        start = batch.start
        told = [one["words"] for one in self.beside(2)]
        self.assertEqual(
            told,
            [
                f"Cut 100 of lavender {old['code']} for {batch.code}.",
                f"Cut {start - 100} of lavender {young['code']} for {batch.code}.",
            ],
        )
        evening = self.beside(1)
        self.assertEqual([one["part"] for one in evening], ["evening"])
        self.assertIn(old["code"], evening[0]["words"])
        self.assertEqual(self.beside(0), [])
        self.assertEqual([one["many"] for one in self.get("/mothers")["to_cut"]], [100, start - 100])
        advance(self.ctx, self.ctx.today + 2 * ONE)
        self.cut(old["id"], "100")
        self.assertEqual([one["stock"] for one in self.get("/mothers")["to_cut"]], [young["code"]])
        self.cut(young["id"], str(start - 100))
        self.assertEqual(self.beside(), [])

    def test_what_is_late_is_cut_today_and_what_no_mother_gives_is_told_as_wrong(self) -> None:
        advance(self.ctx, self.first + WEEK + 3 * ONE)
        stock = self.planted("10", weeks=12, shoots="2 2 2 2 2 2 2 2", first_cut_week=8, life_weeks=20)
        batch = self.due(200, self.ctx.today - 2 * WEEK)
        told = self.beside()
        self.assertEqual([one["wrong"] for one in told], [True, False], told)
        self.assertIn(
            f"{batch.start - 20} cuttings of lavender for {batch.code} are given by no mother", told[0]["words"]
        )
        self.post(f"/mothers/{stock['id']}/exhausted", {"on": str(self.ctx.today - ONE)})
        self.assertEqual([one["wrong"] for one in self.beside()], [True])
        self.assertEqual(self.beside(-1), [], "what was is no more to be cut")

    def test_the_label_of_cuttings_says_of_whom_and_by_when_and_what_is_held_gets_none(self) -> None:
        stock = self.planted("50", weeks=12)
        made = self.cut(stock["id"], "40")["cuts"][0]
        path = f"/mothers/cuts/{made['id']}/label.pdf"

        def read() -> str:
            return " ".join(page.extract_text() for page in PdfReader(BytesIO(self.get(path).content)).pages)

        lot = Lot.objects.get(pk=made["lot_id"])
        assert lot.use_by is not None
        for words in (stock["code"], lot.code, "40 cuttings", f"{self.ctx.local(lot.use_by):%H:%M}"):
            self.assertIn(words, read())
        self.assertNotIn("ask before", read())
        Lot.objects.filter(pk=lot.pk).update(use_by=self.ctx.now - timedelta(minutes=1))
        self.assertIn("ask before they are stuck", read())
        self.post(f"/mothers/{stock['id']}/index", {"what": "wilt", "sound": False, "client_uuid": uid()})
        self.assertEqual(self.get(path, status=422)["errors"][0]["code"], "on_hold")
        thrown = self.cut(stock["id"], "4", into="discarded")["cuts"][0]
        self.assertEqual(
            self.get(f"/mothers/cuts/{thrown['id']}/label.pdf", status=422)["errors"][0]["code"], "thrown_away"
        )

    def test_the_sheet_of_a_month_asks_no_more_than_that_of_a_day(self) -> None:
        from django.db import connection
        from django.test.utils import CaptureQueriesContext

        self.planted("50", weeks=12)
        counts = []
        for days in (1, 30):
            for more in range(2):
                self.due(20 + more, self.ctx.today + ONE)
            with CaptureQueriesContext(connection) as asked:
                self.get(f"/day?day={self.ctx.today}&days={days}")
            counts.append(len(asked))
        self.assertEqual(counts[0], counts[1])

    def test_the_card_of_cuttings_speaks_of_nodes_and_blades_and_of_no_depth(self) -> None:
        card = self.get(f"/batches/{self.due(40, self.ctx.today).pk}/card")
        labels = [one["label"] for one in card["steps"]]
        self.assertEqual((card["verb"], "Stick" in labels, "Depth" in labels), ("Stick", True, False))
        self.assertTrue(any("Blades" in one for one in card["cautions"]))
