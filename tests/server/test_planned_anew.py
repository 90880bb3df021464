"""Planning many lines at once: what is written is what reading everything again would find."""

from decimal import Decimal
from random import Random
from typing import Any

from django.db import transaction

from aldrip.batches.forecasting import refresh
from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.orders.models import OrderLine
from tests.server.house import HouseCase, seed_lot, take_order

PROMISED = [
    {},
    {"quantity": "12,500", "due": "2027-W38"},
    {"quantity": "40", "due": "2027-W33"},  # too soon
    {"crop": "Lavender", "form": "rooted cutting", "quantity": "2000", "due": "2027-W40"},
    {"crop": "Leaf amaranth", "form": "multi-seeded plug", "quantity": "4000", "due": "2027-W38"},
    {"quantity": "9,000,000", "due": "2027-W40"},  # far more seed than there is
]


def told() -> tuple[list[Any], list[Any]]:
    lines = OrderLine.objects.order_by("pk").values_list("pk", "chance", "forecast", "problems")
    return list(lines), list(Batch.objects.order_by("pk").values_list("pk", "expected", "low", "high"))


class PlannedAnew(HouseCase):
    def test_nothing_is_left_for_a_look_at_everything_to_find(self) -> None:
        for seed in range(4):
            with self.subTest(seed=seed):
                draw, before = Random(seed), transaction.savepoint()
                seed_lot(self.ctx)
                if draw.random() < 0.5:
                    seed_lot(self.ctx, "amaranth", germination=0.8)
                lines = [take_order(self.ctx, **draw.choice(PROMISED)).pk for _ in range(6)]
                first = draw.randrange(1, 6)
                plan_lines(self.ctx, lines[:first])
                plan_lines(self.ctx, lines[first:])
                was = told()
                refresh(self.ctx, everything=True)
                self.assertEqual(told(), was)
                self.assertEqual(Batch.objects.filter(low=None).count(), 0)
                transaction.savepoint_rollback(before)

    def test_a_plan_that_takes_the_last_of_a_lot_tells_those_planned_before(self) -> None:
        lot = seed_lot(self.ctx)
        early, batch = self.planned(quantity="5,000", due="2027-W38")
        self.assertNotIn("short_seed", [one["code"] for one in early.problems])
        lot.balance = Decimal(str(batch.seed_g)) * Decimal("1.5")
        lot.save()
        refresh(self.ctx, everything=True)
        self.planned(quantity="5,000", due="2027-W38")
        early.refresh_from_db()
        self.assertIn("short_seed", [one["code"] for one in early.problems])
