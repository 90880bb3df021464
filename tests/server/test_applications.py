"""What was applied by its label: who is kept out until when, and what may leave from which day on, on every route."""

from datetime import timedelta
from typing import Any
from uuid import uuid4

from django.db import transaction
from django.utils import timezone

from aldrip.accounts.context import ANYTHING
from aldrip.batches import doing, grading, sowings
from aldrip.batches.models import Batch, BatchStage
from aldrip.diary.models import Application, Task
from aldrip.lots.models import Lot
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from tests.server.house import HouseCase, advance, make_house, member, seed_lot, uid

SPRAY = {
    "product": "Garden soap", "rate": "20 ml/L", "amount": "0.4 L in 20 L", "why": "aphids", "operator": "Ada",
    "entry_hours": "6 h", "harvest_days": "7",
}  # fmt: skip


class Applications(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, grams=2000)
        self.line, self.batch = self.planned(quantity="3,000", due="2027-W37")
        sowings.sown(self.ctx, self.batch.pk, on=self.ctx.today)
        self.room = self.stage("germinate").place

    def stage(self, key: str) -> BatchStage:
        return self.batch.stages.get(key=key)

    def spray(self, place: Place | None = None, *, status: int = 200, sure: str = "", **more: Any) -> Any:
        where = place or self.room
        assert where is not None
        body = {**SPRAY, "place_id": where.pk, "uuid": uid(), **more}
        return self.post("/applications", body, status=status, sure=sure)

    def test_it_names_what_stood_there_and_until_when(self) -> None:
        told = self.spray()
        self.assertEqual(told["stood"], [self.batch.code])
        self.assertEqual(told["harvest_from"], str(self.ctx.today + timedelta(days=7)))
        (other,) = self.get("/clocks")["others"]
        self.assertEqual((other["kind"], other["until"]), ("re_entry", told["entry_from"]))
        empty = self.spray(Place.objects.get(name="Store"), entry_hours="", harvest_days="")
        self.assertEqual((empty["stood"], empty["entry_from"], empty["harvest_from"]), ([], None, None))

    def test_nobody_is_sent_in_before_the_hour(self) -> None:
        task = self.post("/tasks", {"title": "Look", "due": str(self.ctx.today), "place_id": self.room.pk})  # type: ignore[union-attr]
        made = self.spray()
        day = {one["id"]: one for one in self.get("/day")["tasks"]}
        self.assertIn("not entered before", day[task["id"]]["held"])
        path = f"/tasks/{task['id']}/mark"
        self.assertEqual(self.post(path, {"state": "done"}, status=422, sure="")["code"], "doubtful")
        self.assertEqual(Task.objects.get(pk=task["id"]).state, "todo")
        self.post(path, {"state": "not_done", "note": "sprayed"}, sure="")  # what was not done needs no entering
        moved = {"stage": "grow", "on": str(self.ctx.today)}
        self.assertEqual(self.post(f"/batches/{self.batch.pk}/moved", moved, status=422, sure="")["code"], "doubtful")
        self.post(f"/batches/{self.batch.pk}/moved", moved, sure="re_entry")
        Application.objects.filter(pk=made["id"]).update(entry_from=timezone.now() - timedelta(seconds=1))
        self.assertEqual({one["held"] for one in self.get("/day")["tasks"]}, {""})
        self.post(path, {"state": "done"}, sure="")

    def test_nothing_of_it_leaves_before_the_day(self) -> None:
        """Delivered, by the same door as everything; picked as well. A day before is refused, the day itself is not."""
        self.ready()
        lot = Lot.objects.get(form="plug")
        days = (self.ctx.today - self.sprayed_on).days
        for harvest_days, may in ((days + 1, False), (days, True), (None, True)):
            with self.subTest(harvest_days), transaction.atomic():
                Application.objects.update(
                    harvest_from=None if harvest_days is None else self.sprayed_on + timedelta(days=harvest_days)
                )
                pick = {"line_id": self.line.pk, "lot_id": lot.pk, "quantity": 100}
                body = {
                    "order_id": self.line.order_id,
                    "on": str(self.ctx.today),
                    "client_uuid": uid(),
                    "picks": [pick],
                }
                told = self.post("/deliveries", body, status=200 if may else 422)
                if not may:
                    self.assertEqual(told["errors"][0]["code"], "before_harvest")
                transaction.set_rollback(True)

    def ready(self) -> None:
        """The batch stood on the bench when it was sprayed, and is graded."""
        ctx = self.ctx
        ctx.sure = frozenset({ANYTHING})
        for key in ("grow", "harden"):
            planned = self.stage(key).planned
            if planned is not None and planned.lower > ctx.today:
                advance(ctx, planned.lower)
            doing.moved(ctx, self.batch.pk, stage=key, on=ctx.today)
            if key == "grow":
                self.spray(self.stage("grow").place)
                self.sprayed_on = ctx.today
        grading.graded(ctx, self.batch.pk, good=3000, out=[], on=ctx.today, client_uuid=uuid4())
        self.assertEqual(Batch.objects.get(pk=self.batch.pk).state, "ready")
        self.assertEqual(OrderLine.objects.get(pk=self.line.pk).state, "open")

    def test_a_record_is_put_right_or_taken_back_with_a_reason(self) -> None:
        made = self.spray()
        self.assertEqual(self.spray(replaces=made["id"], status=422)["errors"][0]["field"], "reason")
        right = self.spray(replaces=made["id"], reason="read the other label", entry_hours="2")
        self.assertEqual([one["id"] for one in self.get("/applications")], [right["id"]])
        # A slip put right opens no place and lets nothing leave: what is not said stays; 0 says that there is none.
        slip = self.spray(replaces=right["id"], reason="the wind", weather="calm", entry_hours="", harvest_days="")
        self.assertEqual((slip["entry_from"], slip["harvest_from"]), (right["entry_from"], right["harvest_from"]))
        right = self.spray(replaces=slip["id"], reason="no such line on it", entry_hours="0", harvest_days="")
        self.assertEqual((self.get("/clocks")["others"], right["harvest_from"]), ([], slip["harvest_from"]))
        self.spray(replaces=right["id"], reason="it was another house", void=True)
        self.assertEqual((self.get("/applications"), self.get("/clocks")["others"]), ([], []))
        self.assertEqual(self.spray(replaces=made["id"], reason="x", status=422)["errors"][0]["code"], "replaced")

    def test_what_cannot_be_and_what_is_banned(self) -> None:
        for wrong, field in (
            ({"product": " "}, "product"),
            ({"rate": ""}, "rate"),
            ({"operator": ""}, "operator"),
            ({"why": ""}, "why"),
            ({"entry_hours": "-1"}, "entry_hours"),
            ({"entry_hours": "9000"}, "entry_hours"),
            ({"harvest_days": "9 years"}, "harvest_days"),
            ({"at": (timezone.now() + timedelta(hours=1)).isoformat()}, "at"),
            ({"at": (timezone.now() - timedelta(days=90)).isoformat()}, "at"),
        ):
            with self.subTest(wrong):
                self.assertEqual(self.spray(status=422, **wrong)["errors"][0]["field"], field)
        self.assertEqual(self.spray(product="Lindane dust", status=422)["code"], "doubtful")
        self.spray(product="Lindane dust", sure="banned_product")  # what was done is recorded, with a word

    def test_twice_is_once_who_may_and_whose(self) -> None:
        one = uid()
        self.spray(uuid=one)
        self.spray(uuid=one)
        self.assertEqual(Application.objects.count(), 1)
        for role, may in (("viewer", 403), ("laboratory", 403), ("inspector", 200)):
            with self.subTest(role):
                self.client.force_login(member(self.ctx, role, role))
                self.spray(status=may)
        other = make_house("Other", username="bert")
        assert other.user is not None
        self.client.force_login(other.user)
        self.assertEqual(self.get("/applications"), [])
        self.spray(status=404)
