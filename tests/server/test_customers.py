"""A customer's page: what waits for them, and how promises were kept."""

from datetime import timedelta

from aldrip.orders.models import OrderLine
from tests.server.house import HouseCase, advance, order_row, seed_lot, uid


class Customers(HouseCase):
    def order(self, number: str, customer: str, **more: str) -> OrderLine:
        self.post("/orders", {"rows": [order_row(order=number, customer=customer, **more)]})
        return OrderLine.objects.get(order__number=number)

    def one(self, name: str) -> dict[str, object]:
        told: dict[str, object] = self.get(f"/customers/one?name={name}")
        return told

    def test_one_customer_however_it_is_spelt(self) -> None:
        self.order("71", "Wick  Lane nursery", quantity="900")
        self.order("72", " wick lane NURSERY", quantity="300")
        self.order("73", "Somebody else", quantity="300")
        told = self.get("/customers")
        self.assertEqual(sorted(one["orders"] for one in told), [1, 2])
        one = self.one("Wick Lane Nursery")
        self.assertEqual((one["open"], one["at_risk"], len(one["line_ids"])), (2, 2, 2))  # type: ignore[arg-type]
        self.assertIn("2 lines open, 2 of them at risk", str(one["sentence"]))
        self.assertEqual(self.client.get("/api/customers/one?name=nobody").status_code, 404)

    def test_kept_late_short_and_cancelled_are_told_apart(self) -> None:
        seed_lot(self.ctx, "endive", grams=900)
        lines = [
            self.order(str(80 + n), "Wick Lane", crop="Endive", cultivar="Frill", quantity="800", due="2027-W36")
            for n in range(4)
        ]
        self.post("/batches/plan-lines", {})
        self.assertEqual(self.one("wick lane")["open"], 4)
        lines[3].refresh_from_db()
        self.post(f"/order-lines/{lines[3].pk}/cancel", {"reason": "no need"})
        batches = [line.allocations.get().batch for line in lines[:3]]
        for batch in dict.fromkeys(batches):
            advance(self.ctx, max(self.ctx.today, batch.stages.earliest("order").planned.lower))
            self.post(f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today)})
        advance(self.ctx, lines[0].due.lower)
        lots = {}
        for batch in dict.fromkeys(batches):
            body = {"good": 800, "out": [], "on": str(self.ctx.today), "client_uuid": uid()}
            self.post(f"/batches/{batch.pk}/graded", body)
            lots[batch.pk] = batch.stages.filter(yields__isnull=False).first().yields.first().lot_id
        self.hand_over(lines[0], lots[batches[0].pk], 800)
        self.hand_over(lines[1], lots[batches[1].pk], 350, short=True)
        advance(self.ctx, lines[2].due.upper + timedelta(days=3))
        self.assertEqual(self.one("Wick Lane")["overdue"], 1)
        self.hand_over(lines[2], lots[batches[2].pk], 800)
        told = self.one("Wick Lane")
        self.assertEqual([told[name] for name in ("kept", "late", "short", "cancelled", "open")], [1, 1, 1, 1, 0])
        self.assertEqual(
            told["sentence"], "1 of 3 lines delivered whole and in time, 1 late and 1 short. 1 line cancelled."
        )
        notes = told["handed_over"]
        assert isinstance(notes, list)
        self.assertEqual(
            [one["words"] for one in notes], ["800 plants endive", "350 plants endive", "800 plants endive"]
        )
        self.assertTrue(all(one["papers"] for one in notes))

    def hand_over(self, line: OrderLine, lot: int, quantity: int, short: bool = False) -> None:
        body = {
            "order_id": line.order_id,
            "on": str(self.ctx.today),
            "picks": [{"line_id": line.pk, "lot_id": lot, "quantity": str(quantity)}],
            "short": [{"line_id": line.pk, "cause": "slugs"}] if short else [],
            "client_uuid": uid(),
            "note": "",
        }
        self.post("/deliveries", body)
