"""The cures of an order agree with the order: its own batch is no hindrance to it."""

from typing import Any

from tests.server.house import HouseCase, advance, seed_lot, take_order
from tests.server.test_cool_and_spread import MANY


class Cures(HouseCase):
    def asked(self, line: Any, **more: Any) -> Any:
        body = {
            "crop_id": line.crop_id,
            "form": line.form,
            "quantity": f"{line.quantity:.0f}",
            "due": str(line.due.lower),
            **more,
        }
        return self.post("/orders/can-we-take-it", body)

    def test_the_space_of_its_own_batch_is_not_counted_twice(self) -> None:
        """P16 with other numbers: a batch that fills both benches."""
        seed_lot(self.ctx, grams=5000)
        line, _ = self.planned(quantity=MANY, due="2027-W36")
        self.assertEqual([one["sentence"] for one in self.asked(line, for_line=line.pk)["limits"]], [])
        self.assertIn("space", [one["kind"] for one in self.asked(line)["limits"]])

    def test_an_order_that_is_late_and_its_cure_name_the_same_day(self) -> None:
        seed_lot(self.ctx, "celeriac", grams=90)
        line, batch = self.planned(crop="Celeriac", quantity="2100", due="2027-W31")
        line.refresh_from_db()
        told = next(one for one in line.problems if one["code"] == "late")
        cures = self.asked(line, for_line=line.pk)
        self.assertEqual(cures["earliest"], told["ready_on"])
        self.assertIn(told["ready_on"], [one["ready_on"] for one in cures["remedies"]])
        self.assertEqual(str(batch.stages.get(key="dispatch").planned.upper), told["ready_on"])

    def test_an_order_whose_days_have_begun_can_still_be_cured(self) -> None:
        seed_lot(self.ctx, "celeriac", grams=90)
        line = take_order(self.ctx, crop="Celeriac", quantity="2100", due="2027-07-12", until="2027-07-23")
        advance(self.ctx, line.due.lower.replace(day=16))
        self.assertFalse(self.asked(line, for_line=line.pk)["can"])
