"""What waits is an object of its room: a code with data, told in words by that room alone."""

import ast
from pathlib import Path

from django.test import SimpleTestCase

from aldrip.accounts.decisions import SOURCES, WORDS, Look, waiting
from aldrip.orders.models import OrderLine
from tests.server.house import HouseCase, advance, order_row

ROOMS = Path(__file__).parents[2] / "server" / "aldrip"


def told_codes(path: Path) -> set[str]:
    """The codes of every Decision that a file makes."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "Decision" and len(node.args) > 1:
            code = node.args[1]
            if isinstance(code, ast.Constant):
                found.add(str(code.value))
    return found


class Registered(SimpleTestCase):
    def test_every_room_that_asks_is_heard_and_every_code_has_words(self) -> None:
        files = sorted(ROOMS.glob("*/deciding.py"))
        self.assertGreater(len(files), 4)
        rooms = {source.__module__.split(".")[1] for source in SOURCES.values()}
        self.assertEqual(rooms, {path.parent.name for path in files})
        made = set().union(*(told_codes(path) for path in files))
        self.assertLessEqual(made, set(WORDS))


class Waits(HouseCase):
    def order(self) -> OrderLine:
        self.post("/orders", {"rows": [order_row(order="641", crop="Zinnia", quantity="740", due="2027-07-09")]})
        return OrderLine.objects.get()

    def test_an_order_nobody_can_keep_waits_in_orders_until_it_is_cancelled(self) -> None:
        line = self.order()
        asked = [one for one in waiting(Look(self.ctx)) if one.room == "orders"]
        self.assertEqual([(one.code, one.about) for one in asked], [("line", f"{line.order.number}/{line.number}")])
        self.assertIn("no batch yet", asked[0].words.sentence)
        told = [one for one in self.get("/season-line")["decisions"] if one["room"] == "orders"]
        self.assertEqual([one["sentence"] for one in told], [asked[0].words.sentence])
        self.post(f"/order-lines/{line.pk}/cancel", {"reason": "too late"})
        self.assertFalse([one for one in waiting(Look(self.ctx)) if one.room == "orders"])

    def test_what_is_over_waits_in_deliveries_and_no_longer_in_orders(self) -> None:
        line = self.order()
        advance(self.ctx, line.due.upper)
        self.assertEqual(
            [one.room for one in waiting(Look(self.ctx)) if line.order.number in one.about], ["deliveries"]
        )
