"""Trays by the API: counted, washed, filled by what is sown, short, due to be washed the day before, corrected, taken back."""

from datetime import timedelta
from typing import Any

from django.db import connection
from django.test import Client
from django.test.utils import CaptureQueriesContext

from aldrip.accounts.models import AuditEvent
from aldrip.batches.containers import BEGUN, containers_used
from aldrip.batches.models import Batch
from aldrip.methods.models import Method
from tests.server.house import HouseCase, advance, member, seed_lot, uid

ONE = timedelta(days=1)


class Trays(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx)
        _, self.batch = self.planned()
        container = self.batch.container
        assert container is not None
        self.name = container.name
        self.need = self.batch.trays or 0

    def write(
        self, what: str = "counted", many: Any = 900, status: int = 200, sure: str | None = None, **more: Any
    ) -> Any:
        body = {"name": self.name, "what": what, "many": str(many), "client_uuid": uid(), **more}
        return self.post("/trays", body, status=status, sure=sure)

    def asked(self) -> list[str]:
        on = self.batch.stages.get(order=0).planned.lower
        days = (self.ctx.today, on - ONE)
        return [one["words"] for day in days for one in self.get(f"/day?day={day}")["beside"] if "Wash" in one["words"]]

    def test_counted_they_say_what_is_to_be_washed_before_what_is_planned(self) -> None:
        self.assertEqual(self.get("/trays"), [])
        row = self.write(clean=str(self.need - 1))[0]
        self.assertEqual(
            (row["owned"], row["clean"], row["dirty"], row["in_use"]), (900, self.need - 1, 901 - self.need, 0)
        )
        self.assertEqual(row["wash"], 1)
        self.assertIn("Wash 1 of", self.asked()[0])
        row = self.write("washed", 1)[0]
        self.assertEqual((row["wash_on"], row["sentence"]), (None, "Enough clean ones for all that is planned."))
        self.assertEqual(self.asked(), [])

    def test_what_is_sown_is_in_use_and_clean_no_more(self) -> None:
        self.write(clean="900", on=str(self.ctx.today - ONE))
        self.sow()
        row = self.get("/trays")[0]
        self.assertEqual((row["in_use"], row["clean"], row["dirty"]), (self.need, 900 - self.need, 0))
        self.assertAlmostEqual(row["fills_each"], self.need / 900)

    def test_what_waits_beyond_its_day_is_in_use_until_it_goes(self) -> None:
        """Also where nobody wrote anything down for a year: none of it is dirty while it stands there."""
        self.write(clean="900", on=str(self.ctx.today - ONE))
        self.sow()
        last = self.batch.stages.get(order=0).planned.upper
        for day in (last - ONE, last, last + 9 * ONE, last + 365 * ONE):
            advance(self.ctx, day)
            row = self.get("/trays")[0]
            self.assertEqual((row["in_use"], row["dirty"]), (self.need, 0), day)

    def test_what_is_pricked_on_late_fills_no_trays_before_it_is(self) -> None:
        method = Method.objects.filter(stages__kind="prick", stages__container__isnull=False, organisation=None)[0]
        ready = str(self.ctx.today + 300 * ONE)
        body = {"crop_id": method.crop_id, "method_id": method.pk, "needed": 900, "ready_on": ready}
        batch = Batch.objects.get(pk=self.post("/batches", body)["id"])
        first = batch.stages.get(order=0)
        Batch.objects.filter(pk=batch.pk).update(state="sown")
        batch.stages.filter(pk=first.pk).update(actual_start=first.planned.lower)
        for late in (-1, 0, 6, 60):
            pricked = batch.stages.get(key="prick").planned.lower
            advance(self.ctx, pricked + late * ONE)
            used = list(containers_used(self.ctx, self.ctx.today, self.ctx.today + ONE, BEGUN))
            self.assertEqual([one for one in used if one.start <= self.ctx.today < one.end], used[:1], late)
            self.assertEqual([one.start for one in used[1:]], [max(pricked, self.ctx.today + ONE)])

    def sow(self) -> None:
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(self.ctx.today), "trays": self.need})

    def test_fewer_than_are_used_is_told_with_its_day(self) -> None:
        row = self.write(many=self.need - 2, clean="0")[0]
        self.assertEqual((row["short_by"], row["pressing"]), (2, True))
        self.assertIn("2 too few from", row["sentence"])

    def test_each_refusal_at_its_field_and_each_doubt(self) -> None:
        self.write("washed", 5, status=422)
        self.write(name="No such tray", status=422)
        self.write(clean="901", status=422)
        self.write(on=str(self.ctx.today + ONE), status=422)
        self.write(lasts="0", status=422)
        self.write(clean="890")
        for what in ("washed", "thrown"):
            told = self.write(what, 901, status=422, sure="")["errors"][0]
            self.assertEqual((told["field"], told["code"]), ("many", "doubtful"))
        for what, many in (("counted", 9000), ("counted", 90), ("bought", 9000)):
            self.assertEqual(self.write(what, many, status=422, sure="")["errors"][0]["code"], "doubtful")
        self.write("bought", 0, status=422)
        key = uid()
        self.write("bought", 100, client_uuid=key)
        self.assertEqual(self.write("bought", 100, client_uuid=key)[0]["owned"], 1000)  # sent twice

    def test_worn_ones_are_told_and_a_mistake_is_taken_back(self) -> None:
        self.write(clean="900", many=900, lasts="1", on=str(self.ctx.today - ONE))
        self.write(many=self.need, clean=str(self.need), lasts="1", on=str(self.ctx.today - ONE), sure="trays")
        self.sow()
        self.assertIn("one lasts 1 filling", self.get("/trays")[0]["sentence"])
        self.write("thrown", self.need, sure="trays")
        event = AuditEvent.objects.filter(action="trays.record").latest("id")
        told = self.get(f"/acts/{event.pk}/back")
        known = [one["id"] for one in (*told["events"], *told["rests"])]
        self.post(f"/acts/{event.pk}/take-back", {"reason": "counted twice", "known": known})
        self.assertEqual(self.get("/trays")[0]["owned"], self.need)

    def test_the_queries_do_not_grow_and_who_only_looks_writes_nothing(self) -> None:
        counted = []
        for many in (1, 6):
            for _ in range(many):
                self.write(clean="5")
            with CaptureQueriesContext(connection) as caught:
                self.get("/trays")
            counted.append(len(caught))
        self.assertEqual(*counted)
        looks = Client()
        looks.force_login(member(self.ctx, "guest", "viewer"))
        body = {"name": self.name, "what": "counted", "many": "5", "client_uuid": uid()}
        self.call("post", "/trays", body, client=looks, status=403)
