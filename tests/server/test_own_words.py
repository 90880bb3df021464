"""Orders in somebody's own words: understood, settled once, or kept waiting until they are."""

from aldrip.accounts.models import AuditEvent
from aldrip.batches.models import Batch
from aldrip.methods.models import Container
from aldrip.orders.models import OrderLine, WaitingRow
from tests.server.house import HouseCase, member, order_row


class InOwnWords(HouseCase):
    def check(self, *rows: dict[str, str]) -> dict:
        return self.post("/orders/import/check", {"rows": list(rows)})

    def faults(self, **row: str) -> list[tuple[str, str]]:
        return [(fault["column"], fault["code"]) for fault in self.check(order_row(**row))["faults"]]

    def test_plurals_sizes_and_words_of_the_trade_are_understood(self) -> None:
        for row in (
            {"crop": "Tomatoes", "form": "Plugs"},
            {"crop": "cabbage, white", "form": "bare root"},
            {"crop": "Leeks", "form": "modules"},
            {"crop": "French beans", "form": "thinned", "quantity": "500"},
            {"crop": "Stocks", "form": "cut flowers"},
            {"due": "1 June"},
            {"due": "12 Dec"},
        ):
            self.assertEqual(self.faults(**row), [], row)
        understood = self.check(order_row(form="plug 150"))["understood"][0]
        self.assertEqual((understood["form"], understood["container"]), ("plug", "Tray of 150"))
        self.assertEqual(self.check(order_row(container="104s"))["understood"][0]["container"], "Tray of 104")

    def test_what_can_be_read_two_ways_is_asked(self) -> None:
        fault = self.check(order_row(quantity="4.000"))["faults"][0]
        self.assertEqual((fault["code"], [c["value"] for c in fault["choices"]]), ("two_ways", ["4,000"]))
        self.assertEqual(self.faults(quantity="4,000"), [])

    def test_the_unit_of_a_form_nobody_knows_is_not_judged(self) -> None:
        self.assertEqual(self.faults(form="bulbils", quantity="60 kg"), [("form", "unknown_form")])

    def test_a_size_that_is_not_here_offers_those_that_are(self) -> None:
        fault = self.check(order_row(form="plug 72"))["faults"][0]
        self.assertEqual(fault["code"], "unknown_container")
        self.assertIn("Tray of 77", [choice["value"] for choice in fault["choices"]])
        self.assertEqual(self.faults(form="plug 72", container="Tray of 77"), [])

    def test_a_word_is_settled_once_and_can_be_forgotten(self) -> None:
        row = order_row(crop="Bok salad", form="starter")
        fault = self.check(row)["faults"][0]
        self.assertEqual(fault["code"], "unknown_crop")
        self.post("/orders/words", {"column": "crop", "said": "bok  SALAD", "means": "pak-choi"})
        fault = self.check(row)["faults"][0]
        self.assertEqual((fault["code"], fault["crop"]), ("unknown_form", "pak-choi"))
        self.post("/orders/words", {"column": "form", "said": "starter", "means": "plug", "crop": "pak-choi"})
        self.assertEqual(self.check(row)["faults"], [])
        self.assertEqual(self.faults(crop="Lettuce", form="starter"), [("form", "unknown_form")])  # of pak choi alone
        line = OrderLine.objects.get(pk=self.post("/orders", {"rows": [row]})["lines"][0])
        self.assertEqual((line.crop.slug, line.form, line.note), ("pak-choi", "plug", "Ordered as Bok salad"))
        for word in self.get("/orders/words"):
            self.post(f"/orders/words/{word['id']}/forget", {})
        self.assertEqual(self.faults(crop="Bok salad"), [("crop", "unknown_crop")])

    def test_a_word_can_only_mean_what_there_is(self) -> None:
        for body in (
            {"column": "crop", "said": "x", "means": "nothing"},
            {"column": "form", "said": "x", "means": "tree", "crop": "pak-choi"},
            {"column": "quantity", "said": "x", "means": "12"},
            {"column": "crop", "said": "--", "means": "pak-choi"},
            {"column": "cultivar", "said": "x", "means": "Nobody", "crop": "pak-choi"},
        ):
            self.post("/orders/words", body, status=422)

    def test_the_container_that_was_asked_is_planned_with(self) -> None:
        asked = [
            order_row(order="1"),
            order_row(order="2", form="plug 104"),
            order_row(order="3", crop="Lettuce", form="pricked on 150"),
        ]
        lines = self.post("/orders", {"rows": asked})["lines"]
        self.post("/batches/plan-lines", {"lines": lines})
        usual, larger, pricked = (Batch.objects.get(allocations__order_line=pk) for pk in lines)
        cells = {slug: Container.objects.get(slug=slug).cells for slug in ("tray-240", "tray-104")}
        self.assertEqual(usual.trays, -(-usual.start // cells["tray-240"]))
        self.assertEqual((larger.container.slug, larger.trays), ("tray-104", -(-larger.start // cells["tray-104"])))
        self.assertEqual(pricked.container.slug, "open-tray")  # what it begins in stays
        prick = next(s for s in pricked.method_snapshot["stages"] if s["key"] == "prick")
        self.assertEqual(prick["container"], "tray-150")
        self.assertEqual(self.get(f"/batches/{larger.pk}")["container"], "Tray of 104")


class Waiting(HouseCase):
    def rows(self) -> list[dict[str, str]]:
        return [
            order_row(order="1"),
            order_row(order="2", crop="Moonwort"),
            order_row(order="3", crop="Moonwort", due="week 40"),
        ]

    def test_what_holds_is_taken_in_and_the_rest_waits(self) -> None:
        taken = self.post("/orders", {"rows": self.rows(), "keep": True})
        self.assertEqual((len(taken["lines"]), taken["waiting"]), (1, 2))
        waiting = self.get("/orders/waiting")
        self.assertEqual([row["crop"] for row in waiting["rows"]], ["Moonwort", "Moonwort"])
        self.assertEqual({fault["code"] for fault in waiting["faults"]}, {"unknown_crop"})
        told = [decision["title"] for decision in self.get("/season-line")["decisions"]]
        self.assertTrue(any("wait" in title for title in told), told)

        mended = [{**waiting["rows"][0], "crop": "Endive"}, waiting["rows"][1]]
        body = {"rows": mended, "keep": True, "waited": waiting["waited"]}
        taken = self.post("/orders", body)
        self.assertEqual((len(taken["lines"]), taken["waiting"]), (1, 1))
        self.post("/orders", body, status=409)  # somebody else with the same rows in hand
        self.assertEqual((OrderLine.objects.count(), WaitingRow.objects.count()), (2, 1))

    def test_they_can_be_let_go_and_that_is_on_record(self) -> None:
        self.post("/orders", {"rows": self.rows()[1:], "keep": True})
        waited = self.get("/orders/waiting")["waited"]
        self.post("/orders/waiting/let-go", {"waiting": waited})
        self.assertEqual(WaitingRow.objects.count(), 0)
        self.assertEqual(len(AuditEvent.objects.get(action="orders.let_go").before["rows"]), 2)

    def test_nothing_is_not_kept(self) -> None:
        self.post("/orders", {"rows": [], "keep": True}, status=422)

    def test_a_viewer_neither_settles_nor_keeps(self) -> None:
        self.client.force_login(member(self.ctx, "looks", "viewer"))
        self.post("/orders", {"rows": self.rows(), "keep": True}, status=403)
        self.post("/orders/words", {"column": "crop", "said": "x", "means": "endive"}, status=403)
        self.get("/orders/waiting", status=403)
