"""Stock balances: every movement is kept, the sum is the balance, and it never falls below nothing."""

import threading
from decimal import Decimal

from django.db import connection
from django.db.models import Sum
from django.test import TransactionTestCase
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase as PropertyCase

from aldrip.base.errors import Refused
from aldrip.lots import services
from aldrip.lots.models import Lot, Movement
from aldrip.lots.moving import move
from aldrip.methods.models import Crop
from aldrip_core.units import Quantity, Unit, exact
from tests.server.house import TODAY, HouseCase, ensure_library, make_house, seed_lot

STEPS = st.lists(st.tuples(st.sampled_from(["take", "correct"]), st.decimals("0.0001", "400", places=4)), max_size=12)


class Balances(PropertyCase):
    @classmethod
    def setUpTestData(cls) -> None:
        ensure_library()
        cls.ctx = make_house()

    @given(STEPS)
    @settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    def test_whatever_is_done_the_movements_add_up_to_the_balance(self, steps: list[tuple[str, Decimal]]) -> None:
        lot = seed_lot(self.ctx, grams=300)
        expected = Decimal(300)
        for kind, amount in steps:
            try:
                if kind == "take":
                    move(self.ctx, lot, -amount, "sown", on=TODAY)
                    expected -= amount
                else:
                    services.correct_balance(self.ctx, lot.pk, counted=Quantity.of(amount, Unit.GRAM), reason="weighed")
                    expected = exact(amount)
            except Refused as refused:
                self.assertEqual(refused.errors[0].code, "not_enough")
                self.assertGreater(amount, expected)
            lot.refresh_from_db()
            self.assertEqual(lot.balance, expected)
            self.assertEqual(Movement.objects.filter(lot=lot).aggregate(n=Sum("quantity"))["n"], expected)


class Receiving(HouseCase):
    def receive(self, status: int = 200, **more: object) -> dict:
        crop = Crop.objects.get(slug="celeriac")
        body = {
            "crop_id": crop.pk,
            "quantity": "60 g",
            "germination_percent": 82,
            "tgw": "0.4",
            "tested_on": "2027-01-10",
            **more,
        }
        return self.post("/lots", body, status=status)

    def test_units_as_typed_and_packets(self) -> None:
        self.assertAlmostEqual(self.receive(quantity="2 oz")["balance"], 56.6990, places=3)
        self.assertAlmostEqual(self.receive(quantity="0.5 lb")["balance"], 226.7962, places=3)
        packed = self.receive(quantity="", packets=12, packet_size="5 g")
        self.assertEqual((packed["balance"], packed["packets"], packed["packet_size"]), (60, 12, 5))
        self.assertTrue(packed["code"].startswith("L27-"))

    def test_a_label_that_cannot_be_is_refused(self) -> None:
        for more, field in (
            ({"quantity": ""}, "quantity"),
            ({"quantity": "much"}, "quantity"),
            ({"quantity": "3 miles"}, "quantity"),
            ({"germination_percent": 120}, "value"),
            ({"tgw": "0"}, "value"),
            ({"tested_on": "2030-01-01"}, "tested_on"),
            ({"received_on": "2030-01-01"}, "received_on"),
        ):
            self.assertEqual(self.receive(status=422, **more)["errors"][0]["field"], field, more)
        self.assertEqual((Lot.objects.count(), Movement.objects.count()), (0, 0))

    def test_the_newest_test_is_the_one_sown_by_and_an_old_one_is_flagged(self) -> None:
        lot = self.receive()
        self.post(f"/lots/{lot['id']}/tests", {"value": 0.7, "tested_on": "2027-06-01", "seeds": 400})
        self.post(f"/lots/{lot['id']}/tests", {"value": 0.9, "tested_on": "2026-06-01", "seeds": 400})
        now = self.get(f"/lots/{lot['id']}")
        self.assertEqual((now["germination"], now["tested_on"], now["test_is_old"]), (0.7, "2027-06-01", False))
        self.assertEqual(len(now["tests"]), 4)
        old = self.receive(tested_on="2026-01-01")
        self.assertTrue(old["test_is_old"])
        self.assertIn("lots", [d["room"] for d in self.get("/season-line")["decisions"]])

    def test_a_correction_says_why_and_is_a_movement(self) -> None:
        lot = self.receive()
        self.post(f"/lots/{lot['id']}/balance", {"counted": 55, "reason": ""}, status=422)
        self.post(f"/lots/{lot['id']}/balance", {"counted": 55, "reason": "weighed again"})
        moves = self.get(f"/lots/{lot['id']}")["movements"]
        self.assertEqual([(m["kind"], m["quantity"]) for m in moves], [("received", 60), ("corrected", -5)])


class AtOnce(TransactionTestCase):
    def test_two_hands_in_one_packet_never_take_more_than_is_in_it(self) -> None:
        ensure_library()
        ctx = make_house()
        lot = seed_lot(ctx, grams=100)
        outcomes: list[str] = []

        def take() -> None:
            from django.db import transaction

            try:
                with transaction.atomic():
                    services.move(ctx, Lot.objects.get(pk=lot.pk), Decimal(-60), "sown", on=TODAY)
                outcomes.append("taken")
            except Refused as refused:
                outcomes.append(refused.errors[0].code)
            finally:
                connection.close()

        threads = [threading.Thread(target=take) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(20)
        self.assertEqual(sorted(outcomes), ["not_enough", "not_enough", "not_enough", "taken"])
        lot.refresh_from_db()
        self.assertEqual(lot.balance, 40)
