"""A medium from its first wash to the trays: nothing is sown into what has not passed, and both ways are found again."""

from typing import Any

from django.db import transaction

from aldrip.accounts.models import AuditEvent
from aldrip.lots.models import MediumLot, MediumUse
from tests.server.house import HouseCase, make_house, member, seed_lot, uid


class Media(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.lot = seed_lot(self.ctx, grams=2000)
        _, self.batch = self.planned(quantity="3,000", due="2027-W37")
        self.coir = self.add()

    def add(self, *, status: int = 200, **more: Any) -> Any:
        return self.post("/media", {"name": "Coir", "litres": "600", **more}, status=status)

    def read(self, ph: str, ec: str, *, status: int = 200, **more: Any) -> Any:
        body = {"ph": ph, "ec": ec, "uuid": uid(), **more}
        return self.post(f"/media/{self.coir['id']}/readings", body, status=status)

    def decide(self, decision: str, why: str = "", status: int = 200) -> Any:
        return self.post(f"/media/{self.coir['id']}/decide", {"decision": decision, "why": why}, status=status)

    def sow(self, *, status: int = 200, sure: str | None = None, **more: Any) -> Any:
        body = {"lot_id": self.lot.pk, "trays": self.batch.trays, "on": str(self.ctx.today)}
        body |= {"medium_id": self.coir["id"], **more}
        return self.post(f"/batches/{self.batch.pk}/sown", body, status=status, sure=sure)

    def test_from_the_first_wash_to_the_card_and_back(self) -> None:
        self.assertIn("nothing was read yet", self.coir["sentence"])
        self.read("6.1", "2")
        told = self.read("6.2", "1000 µS/cm")
        self.assertEqual((told["more_washes"], told["fit"]), (2, False))
        self.assertIn("About 2 more washes", told["sentence"])
        self.assertEqual([one["kind"] for one in self.get("/clocks")["others"]], ["medium"])
        refused = self.sow(status=422)["errors"][0]
        self.assertEqual((refused["field"], refused["code"]), ("medium_id", "not_passed"))
        self.read("6.2", "0.5")
        self.assertEqual(self.decide("passed", status=422)["errors"][0]["field"], "why")  # at the limit is not below it
        told = self.read("6.3", "0.3")
        self.assertTrue(told["fit"])
        self.assertEqual(self.decide("passed")["state"], "passed")
        self.sow()
        card = self.get(f"/batches/{self.batch.pk}/card")
        self.assertEqual(card["filled_from"][0]["code"], self.coir["code"])
        self.assertIn("pH 6.3, EC 0.3", card["filled_from"][0]["words"])
        (back,) = self.get("/media")
        self.assertEqual([one["code"] for one in back["uses"]], [self.batch.code])
        self.assertAlmostEqual(back["uses"][0]["litres"], card["litres"], delta=0.06)
        self.assertAlmostEqual(back["left"], 600 - back["uses"][0]["litres"], places=1)
        self.assertEqual(self.get("/clocks")["others"], [])

    def test_no_route_puts_a_batch_on_what_has_not_passed(self) -> None:
        """Every state of a medium, by both routes: as it is sown, and said afterwards."""
        ways = {
            "washing": (lambda: self.read("6.2", "0.9"), False),
            "inside, not let through": (lambda: self.read("6.2", "0.2"), False),
            "let through": (lambda: (self.read("6.2", "0.2"), self.decide("passed")), True),
            "let through with a reason": (lambda: self.decide("passed", "begonias do not mind"), True),
            "rejected": (lambda: self.decide("rejected", "smells of salt water"), False),
            "passed and read worse since": (
                lambda: (self.read("6.2", "0.2"), self.decide("passed"), self.read("6.2", "0.8")),
                False,
            ),
            "passed and taken back": (
                lambda: (self.read("6.2", "0.2"), self.decide("passed"), self.decide("waits")),
                False,
            ),
        }
        for name, (done, may) in ways.items():
            for late in (False, True):
                with self.subTest(name, late=late), transaction.atomic():
                    done()
                    if not late:
                        self.sow(status=200 if may else 422)
                    else:
                        self.sow(medium_id=None)
                        body = {"medium_id": self.coir["id"]}
                        self.post(f"/batches/{self.batch.pk}/medium", body, status=200 if may else 422)
                    self.assertEqual(MediumUse.objects.exists(), may)
                    self.batch.refresh_from_db()
                    self.assertEqual(self.batch.state, "sown" if may or late else "planned")
                    transaction.set_rollback(True)

    def test_what_was_wrong_is_put_right_and_the_order_stays(self) -> None:
        first = self.read("6.2", "20 mS/cm")["readings"][0]["id"]
        self.read("6.2", "1")
        right = self.read("6.2", "2", replaces=first, reason="a comma too far")
        self.assertEqual([one["ec"] for one in right["readings"]], [2, 1])
        self.assertEqual(right["more_washes"], 2)
        self.assertEqual(self.read("6.2", "2", replaces=first, reason="x", status=422)["errors"][0]["code"], "replaced")
        for ph, ec, field in (("15", "1", "ph"), ("6", "620", "ec"), ("", "1", "ph"), ("6", "", "ec")):
            with self.subTest(ph=ph, ec=ec):
                self.assertEqual(self.read(ph, ec, status=422)["errors"][0]["field"], field)

    def test_twice_is_once_and_more_than_there_is_is_asked_about(self) -> None:
        one = uid()
        self.read("6.2", "0.2", uuid=one)
        self.assertEqual(len(self.read("6.2", "0.2", uuid=one)["readings"]), 1)
        self.decide("passed")
        self.assertEqual(self.sow(medium_litres="9,000", status=422, sure="sown")["code"], "doubtful")
        self.sow(medium_litres="9,000", sure="sown,medium_left")
        self.assertEqual(MediumLot.objects.get().left, 0)
        self.assertEqual(self.get("/media"), [])
        self.assertEqual(len(self.get("/media?older=true")), 1)

    def test_a_mix_that_needs_no_washing_may_be_used_at_once(self) -> None:
        self.coir = self.add(name="Perlite and peat", washed=False, litres="20 ft3")
        self.assertEqual((self.coir["state"], self.coir["fit"]), ("passed", None))
        self.assertAlmostEqual(self.coir["litres"], 566.3, 1)
        self.sow()
        for wrong in ({"name": ""}, {"litres": "0"}, {"litres": "2 gal"}, {"ph_low": "7", "ph_high": "6"}):
            with self.subTest(wrong):
                self.add(**wrong, status=422)

    def test_a_sowing_taken_back_gives_its_medium_back(self) -> None:
        self.decide("passed", "looked at")
        self.sow()
        self.assertLess(MediumLot.objects.get().left, 600)
        event = AuditEvent.objects.get(action="batch.sown")
        told = self.get(f"/acts/{event.pk}/back")
        known = [one["id"] for one in (*told["events"], *told["rests"])]
        self.post(f"/acts/{event.pk}/take-back", {"reason": "the wrong bench", "known": known})
        self.assertEqual((MediumLot.objects.get().left, MediumUse.objects.count()), (600, 0))

    def test_who_may_and_whose_it_is(self) -> None:
        for role, read, decide in (("viewer", 403, 403), ("inspector", 200, 403), ("supervisor", 200, 200)):
            with self.subTest(role):
                self.client.force_login(member(self.ctx, role, role))
                self.read("6.2", "0.2", status=read)
                self.decide("passed", status=decide)
        other = make_house("Other", username="bert")
        assert other.user is not None
        self.client.force_login(other.user)
        self.assertEqual(self.get("/media"), [])
        self.read("6.2", "0.2", status=404)
