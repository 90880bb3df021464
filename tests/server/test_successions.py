"""A succession asked about: planned as its orders would be, beside the habit; nothing is saved."""

from datetime import timedelta
from typing import Any

from aldrip.batches.models import Batch
from aldrip.methods.models import Crop
from aldrip.orders.models import OrderLine
from tests.server.house import HouseCase, seed_lot, uid


class Successions(HouseCase):
    def ask(self, status: int = 200, **more: Any) -> Any:
        crop = Crop.objects.get(slug="pak-choi")
        body = {"crop_id": crop.pk, "form": "plug", "quantity": "900", "first": "week 36", "last": "week 44"}
        return self.post("/orders/succession", {**body, "every_weeks": "1", **more}, status=status)

    def test_what_is_shown_is_what_its_orders_get_and_nothing_is_saved_before(self) -> None:
        seed_lot(self.ctx, grams=5000)
        told = self.ask()
        self.assertEqual(len(told["sowings"]), 9)
        self.assertFalse(Batch.objects.exists() or OrderLine.objects.exists())
        self.assertEqual([one["late_days"] for one in told["sowings"]], [0] * 9)
        self.assertEqual(sum(week["even"] for week in told["weeks"]), 9 * 900)
        rows = [{"customer": "own use", "crop": "Pak choi", "form": "plug", "quantity": "900", "due": "week 36"}]
        made = self.post("/orders", {"rows": rows, "series": {"every_weeks": "1", "times": "9"}, "client_uuid": uid()})
        self.post("/batches/plan-lines", {"lines": made["lines"]})
        sown = [
            batch.stages.get(key="sow").planned.lower
            for batch in Batch.objects.order_by("allocations__order_line__due")
        ]
        for one, day in zip(told["sowings"], sown, strict=True):
            self.assertEqual(str(day), one["sow_on"])

    def test_sown_at_equal_intervals_the_harvest_is_uneven_towards_autumn(self) -> None:
        seed_lot(self.ctx, grams=5000)
        told = self.ask(first="week 30", last="week 46")
        self.assertLess(told["even"]["spread_days"], told["by_habit"]["spread_days"])
        self.assertEqual(sum(week["habit"] for week in told["weeks"]), 900 * len(told["habit"]))

    def test_what_cannot_be_asked_is_refused_at_its_field(self) -> None:
        for field, typed, code in (
            ("every_weeks", "0", "nothing"),
            ("every_weeks", "27", "out_of_range"),
            ("every_weeks", "half", "not_a_number"),
            ("first", "2020-01-06", "past"),
            ("last", "week 35", "out_of_range"),
            ("quantity", "many", "not_a_number"),
            ("last", "2031-06-02", "too_many"),
        ):
            told = self.ask(status=422, **{field: typed})["errors"][0]
            named = "every_weeks" if code == "too_many" else field
            self.assertEqual((told["field"], told["code"]), (named, code), typed)

    def test_late_for_the_first_weeks_it_says_so(self) -> None:
        seed_lot(self.ctx, grams=5000)
        told = self.ask(first=str(self.ctx.today + timedelta(days=1)), last="week 40")
        self.assertGreater(told["sowings"][0]["late_days"], 0)
        self.assertIn("too late", told["sentence"])
