"""Everything made of a lot is held, on every route, until somebody says what shows that it is sound."""

from datetime import date
from typing import Any

from aldrip.accounts.models import Role
from aldrip.batches.models import Batch
from aldrip.lots.models import Hold, Lot
from aldrip.orders.models import OrderLine
from tests.server.house import HouseCase, advance, member, seed_lot, take_order, uid
from tests.server.seed_house import SeedCase

LIFTED = {"reason": "second sample clean, laboratory of 14 September"}


class Plants(HouseCase):
    """Kale: one lot of seed, a batch that stands, one that was graded, and one that is only planned."""

    def setUp(self) -> None:
        super().setUp()
        self.seed = seed_lot(self.ctx, "kale", grams=260)
        self.standing = self.begun("2027-W38", 900)
        self.graded = self.begun("2027-W36", 700)
        advance(self.ctx, date(2027, 9, 6))
        self.post(f"/batches/{self.graded[1].pk}/graded", {"good": 720, "on": "2027-09-06", "client_uuid": uid()})
        self.lot = Lot.objects.get(from_stages__stage__batch=self.graded[1])
        self.later = self.planned(crop="Kale", quantity="650", due="2027-W46")

    def begun(self, due: str, many: int) -> tuple[OrderLine, Batch]:
        line, batch = self.planned(crop="Kale", quantity=str(many), due=due)
        day = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, day)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(day)})
        return line, batch

    def hold(self, lot: Lot, status: int = 200, **more: Any) -> Any:
        body = {"reason": "black rot found in a sample", "client_uuid": uid(), **more}
        return self.post(f"/lots/{lot.pk}/hold", body, status=status)

    def lift(self, status: int = 200, **more: Any) -> Any:
        return self.post(
            f"/holds/{Hold.objects.latest('id').pk}/lift", {**LIFTED, "client_uuid": uid(), **more}, status=status
        )

    def hand_over(self, status: int = 200, many: int = 700) -> Any:
        line = self.graded[0]
        pick = {"line_id": line.pk, "lot_id": self.lot.pk, "quantity": many}
        body = {"order_id": line.order_id, "on": str(self.ctx.today), "client_uuid": uid(), "picks": [pick]}
        return self.post("/deliveries", body, status=status)

    def chances(self) -> list[float]:
        return [OrderLine.objects.get(pk=line.pk).chance or 0.0 for line, _ in (self.standing, self.graded, self.later)]

    def test_what_was_made_of_it_stands_still_and_goes_on_when_it_is_lifted(self) -> None:
        before = self.chances()
        self.assertTrue(all(chance > 0.8 for chance in before), before)
        self.hold(self.seed)
        self.assertEqual(self.chances(), [0.0, 0.0, 0.0])
        for line, _ in (self.standing, self.graded, self.later):
            self.assertIn("black rot", OrderLine.objects.get(pk=line.pk).problem)
        told = self.hand_over(422)["errors"][0]
        self.assertIn(f"made of lot {self.seed.code}: black rot", told["message"])
        barred = next(d for d in self.get("/deliveries")["due"] if d["line_id"] == self.graded[0].pk)["stock"][0]
        self.assertIn("black rot", barred["barred"])
        self.assertEqual(barred["proposed"], 0)
        day = str(self.ctx.today)
        body = {"on": day, "lots": [{"lot_id": self.seed.pk, "quantity": "5 g"}]}
        refused = self.post(f"/batches/{self.later[1].pk}/sown", body, status=422)
        self.assertIn("on_hold", [error["code"] for error in refused["errors"]])
        # A batch that stands may still be graded: what it gives is held with it.
        self.post(f"/batches/{self.standing[1].pk}/graded", {"good": 905, "on": day, "client_uuid": uid()})
        self.assertIn("black rot", Lot.objects.get(from_stages__stage__batch=self.standing[1]).on_hold)
        self.lift()
        self.assertEqual(self.chances()[1], before[1])
        self.assertGreater(self.chances()[0], 0.8)
        self.assertGreater(self.chances()[2], 0.8)
        self.hand_over()

    def test_it_says_who_has_what(self) -> None:
        self.hand_over(many=410)
        self.hold(self.seed)
        (told,) = self.get(f"/lots/{self.lot.pk}/holds")
        self.assertEqual({one["code"] for one in told["lots"]}, {self.seed.code, self.lot.code})
        self.assertEqual(
            {(one["code"], one["only_meant"]) for one in told["batches"]},
            {(self.standing[1].code, False), (self.graded[1].code, False), (self.later[1].code, True)},
        )
        (out,) = told["out"]
        self.assertEqual((out["customer"], out["quantity"], out["lot"]), ("Greenlane Salads", 410, self.lot.code))

    def test_one_lot_is_cleared_and_the_rest_stays_held(self) -> None:
        self.hold(self.seed)
        self.lift(lot_id=self.lot.pk)
        self.hand_over()
        self.assertIn("black rot", Batch.objects.get(pk=self.standing[1].pk).on_hold)
        other = seed_lot(self.ctx, "fennel")
        self.assertEqual(self.lift(422, lot_id=other.pk)["errors"][0]["code"], "not_held")

    def test_a_reason_is_asked_twice_is_once_and_only_who_may_lifts(self) -> None:
        self.assertEqual(self.hold(self.seed, 422, reason=" ")["errors"][0]["code"], "missing")
        same = uid()
        self.hold(self.seed, client_uuid=same)
        self.hold(self.seed, client_uuid=same)
        self.assertEqual(Hold.objects.count(), 1)
        self.assertEqual(self.hold(self.seed, 422)["errors"][0]["code"], "held_already")
        self.assertEqual(self.lift(422, reason="")["errors"][0]["code"], "missing")
        self.client.force_login(member(self.ctx, "bob", Role.SUPERVISOR))
        self.lift(403)
        self.client.force_login(member(self.ctx, "lil", Role.LABORATORY))
        self.lift()
        self.assertEqual(self.lift(422)["errors"][0]["code"], "lifted")
        self.hold(self.seed)  # and it may be held again

    def test_taken_back_it_holds_nothing(self) -> None:
        self.hold(self.seed)
        event = self.get(f"/acts?subject={self.seed.uuid}")[0]
        self.post(f"/acts/{event['id']}/take-back", {"reason": "wrong lot", "known": [event["id"]]})
        self.assertEqual(set(Lot.objects.values_list("on_hold", flat=True)), {""})
        self.hand_over()

    def test_new_plans_go_round_a_held_lot(self) -> None:
        self.hold(self.seed)
        line = take_order(self.ctx, crop="Kale", quantity="500", due="2027-W45")
        self.post("/batches/plan-lines", {"line_ids": [line.pk]})
        self.assertIsNone(Batch.objects.get(allocations__order_line=line).lot)


class Seeds(SeedCase):
    def test_seed_of_a_held_parent_is_neither_released_nor_blended_until_it_is_lifted(self) -> None:
        block = self.sown()
        parent = Lot.objects.get(line__name="RR-2")
        self.on(date(2027, 7, 6))
        self.accept_all(block)
        lot = self.clean_lot(block)
        self.post(f"/lots/{parent.pk}/hold", {"reason": "wrong male in the bag", "client_uuid": uid()})
        lot.refresh_from_db()
        self.assertIn("wrong male", lot.on_hold)
        self.assertEqual(self.decide(lot, "release", 422)["errors"][0]["code"], "on_hold")
        self.assertEqual(OrderLine.objects.get().chance, 0.0)
