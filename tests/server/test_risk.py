"""All promises together: what is drawn is what is forecast, batches of one lot fail together, and nothing is hidden."""

from aldrip.batches import risk
from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from tests.server.house import HouseCase, order_row, seed_lot


class Together(HouseCase):
    def plan(self, **more: str) -> OrderLine:
        line = orders.take_in(self.ctx, [order_row(**more)])[0]
        plan_lines(self.ctx, [line])
        return OrderLine.objects.get(pk=line)

    def test_each_line_is_as_sure_as_its_forecast_and_all_of_them_hang_on_their_lot(self) -> None:
        lot = seed_lot(self.ctx, grams=9000)
        lines = [self.plan(order=str(n), due=f"2027-W{34 + n}", customer=f"Customer {n % 2}") for n in range(6)]
        self.plan(order="9", crop="Zinnia", due="2027-W36")
        told = self.get("/risk")
        self.assertEqual((told["lines"], told["unserved"], told["lost"]), (7, 0, []))
        self.assertAlmostEqual(sum(told["missed"]), 1, places=6)
        self.assertGreater(told["all"], told["apart"] + 0.02)
        for one in told["customers"]:
            line = OrderLine.objects.get(pk=one["least_line_id"])
            assert line.chance is not None
            self.assertLess(abs(line.chance - one["least"]), 0.015)
            self.assertLessEqual(one["all"], one["least"] + 1e-9)
        first = told["causes"][0]
        self.assertIn(lot.code, first["words"])
        self.assertGreater(first["missed"], first["usual"] + 0.5)
        self.assertEqual({w["line_id"] for w in first["worse"]}, {line.pk for line in lines})

    def test_what_was_counted_hangs_on_its_lot_no_more(self) -> None:
        seed_lot(self.ctx, grams=9000)
        self.plan(order="1")
        saved = risk.together(self.ctx).groups[0].batches[0].saved
        self.assertIn("lot", {one.key[0] for one in risk.causes_of(saved) if isinstance(one.key, tuple)})
        for stage in saved.stages.values():
            stage.counted_share = 0.9
        self.assertNotIn("lot", {one.key[0] for one in risk.causes_of(saved) if isinstance(one.key, tuple)})
        saved.batch.state = Batch.State.READY
        self.assertEqual(risk.causes_of(saved), ())

    def test_what_cannot_be_kept_and_what_nothing_serves_is_said_and_not_mixed_in(self) -> None:
        self.assertIn("No open order line", self.get("/risk")["sentence"])
        seed_lot(self.ctx, grams=9000)
        self.plan(order="1", due="2027-W36")
        late = self.plan(order="2", due="2027-W28")
        orders.take_in(self.ctx, [order_row(order="3", due="2027-W38")])
        told = self.get("/risk")
        self.assertEqual((told["lines"], told["unserved"]), (1, 1))
        self.assertEqual([one["line_id"] for one in told["lost"]], [late.pk])
        self.assertIn("1 of 3 open lines can be kept", told["sentence"])
        self.assertGreater(told["all"], 0.9)
