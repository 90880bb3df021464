"""Orders come in whole or not at all, and every fault is named by row and column in words."""

import io
import os
import signal
import subprocess
import sys
import threading
from datetime import date, datetime
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import TransactionTestCase
from openpyxl import Workbook

from aldrip.accounts.models import AuditEvent
from aldrip.base.errors import Refused
from aldrip.base.importing import read_text
from aldrip.orders import services
from aldrip.orders.models import Order, OrderLine
from tests.server.house import HouseCase, ensure_library, make_house, order_row, take_order

HEAD = "Order\tCustomer\tCrop\tForm\tQuantity\tWeek\n"


def forty_lines() -> list[str]:
    """Forty rows of somebody's own, six of them faulty."""
    crops = ("Pak choi", "Endive", "Bulb fennel", "Statice", "Zinnia")
    rows = [f"{200 + n}\tFarm {n % 7}\t{crops[n % 5]}\tplug\t{4000 + 100 * n}\t2027-W{32 + n % 14}" for n in range(40)]
    rows[3] = "203\tFarm 3\tPack choy\tplug\t4000\t2027-W36"
    rows[8] = "208\tFarm 1\tStatice\tplug\t4800\t2027-W53"
    rows[12] = "212\tFarm 5\tBulb fennel\tplug\t-500\t2027-W36"
    rows[17] = "217\tFarm 3\tBulb fennel\tplug\t60 trays\t2027-W36"
    rows[25] = rows[24]
    rows[31] = "231\tFarm 3\tEndive\t\t7100\t2027-W36"
    return rows


class FortyLines(HouseCase):
    def test_six_faults_are_named_and_nothing_is_taken_in_until_they_are_mended(self) -> None:
        rows = forty_lines()
        checked = self.post("/orders/import/paste", {"text": HEAD + "\n".join(rows)})
        found = {(f["row"], f["column"], f["code"]) for f in checked["faults"]}
        self.assertEqual(
            found,
            {
                (3, "crop", "unknown_crop"),
                (8, "due", "no_such_week"),
                (12, "quantity", "negative"),
                (17, "quantity", "unit_in_number"),
                (25, "order", "duplicate"),
                (31, "form", "missing"),
            },
        )
        words = {f["row"]: f["message"] for f in checked["faults"]}
        self.assertIn("Did you mean Pak choi?", words[3])
        self.assertIn("2027 has 52 weeks", words[8])
        self.assertIn("-500", words[12])
        self.assertIn("“trays”", words[17])
        self.assertIn("row 25", words[25])
        self.assertEqual(checked["lines"][3], 5)  # as the person counts, with the headings on line 1
        refused = self.post("/orders", {"rows": checked["rows"]}, status=422)
        self.assertEqual(len(refused["errors"]), 6)
        self.assertIn("rows.8.due", {e["field"] for e in refused["errors"]})
        self.assertEqual(OrderLine.objects.count(), 0)

        mended = checked["rows"]
        mended[3]["crop"] = "Pak choi"
        mended[8]["due"] = "2027-W52"
        mended[12]["quantity"] = "500"
        mended[17]["quantity"] = "14,400"
        mended[25]["order"] = "225"
        mended[31]["form"] = "plug"
        self.assertEqual(self.post("/orders/import/check", {"rows": mended})["faults"], [])
        taken = self.post("/orders", {"rows": mended})
        self.assertEqual(len(taken["lines"]), 40)
        planned = self.post("/batches/plan-lines", {"lines": taken["lines"]})
        self.assertEqual((planned["planned"], planned["unplanned"]), (40, []))
        again = self.post("/orders", {"rows": mended}, status=422)
        self.assertEqual({e["code"] for e in again["errors"]}, {"duplicate"})

    def test_what_is_exported_can_be_read_again(self) -> None:
        take_order(self.ctx, order="77", note="=1+1")
        text = self.get("/orders/export").content.decode("utf-8-sig")
        table = read_text(text)
        self.assertEqual(
            table.headings[:8], ["order", "customer", "crop", "cultivar", "form", "container", "seed_class", "quantity"]
        )
        self.assertIn("'=1+1", table.rows[0])


class Files(HouseCase):
    def upload(self, name: str, content: bytes, status: int = 200) -> dict:
        answer = self.client.post("/api/orders/import/file", {"file": SimpleUploadedFile(name, content)})
        self.assertEqual(answer.status_code, status, answer.content[:300])
        return answer.json()

    def test_a_spreadsheet_with_real_dates_and_numbers(self) -> None:
        book = Workbook()
        sheet = book.active
        assert sheet is not None
        sheet.append(["PO", "Buyer", "Kind", "Product", "Qty", "Delivery date", "Remarks"])
        sheet.append(["A-1", "Moss & Daughters", "pak choy", "Plugs", 12000.0, datetime(2027, 9, 6), "ring first"])
        sheet.append([None, None, None, None, None, None, None])
        sheet.append(["A-2", "Moss & Daughters", "Cyclamen", "pot", 300, date(2027, 12, 1), ""])
        out = io.BytesIO()
        book.save(out)
        checked = self.upload("orders.xlsx", out.getvalue())
        self.assertEqual(checked["faults"], [])
        self.assertEqual(checked["lines"], [2, 4])
        self.assertEqual([u["quantity"] for u in checked["understood"]], [12000, 300])
        self.assertEqual(checked["understood"][0]["due_from"], "2027-09-06")

    def test_csv_with_semicolons_and_an_old_encoding(self) -> None:
        text = "customer;crop;form;quantity;due\nGärtnerei Süd;Endive;plug;1000;week 40\n"
        checked = self.upload("orders.csv", text.encode("cp1252"))
        self.assertEqual(checked["faults"], [])
        self.assertEqual(checked["rows"][0]["customer"], "Gärtnerei Süd")

    def test_what_cannot_be_read_says_why(self) -> None:
        for name, content, field in (
            ("broken.xlsx", b"PK\x03\x04 not a zip", "file"),
            ("empty.csv", b"   \n", "file"),
            ("heads.csv", b"customer,crop,form,quantity,due\n", "file"),
            ("other.csv", b"a,b\n1,2\n", "crop"),
            ("large.csv", b"x" * (6 * 1024 * 1024), "file"),
        ):
            refused = self.upload(name, content, status=422)
            self.assertEqual(refused["errors"][0]["field"], field, name)
            self.assertTrue(refused["errors"][0]["message"].endswith("."), name)

    def test_empty_and_wild_cells_are_named_and_never_crash(self) -> None:
        rows = [
            order_row(customer=""),
            order_row(crop=""),
            order_row(due=""),
            order_row(quantity=""),
            order_row(quantity="1e9"),
            order_row(quantity="12.5"),
            order_row(quantity="0"),
            order_row(quantity="99,999,999"),
            order_row(due="2020-01-01"),
            order_row(due="2027-W40", until="2027-W39"),
            order_row(cultivar="Nobody"),
            order_row(form="tree"),
            order_row(customer="x" * 500),
            order_row(quantity="٣"),
            order_row(due="31.02.2028"),
        ]
        faults = self.post("/orders/import/check", {"rows": rows})["faults"]
        self.assertEqual({f["row"] for f in faults}, set(range(len(rows))))
        for fault in faults:
            self.assertGreater(len(fault["message"]), 12)

    def test_an_order_number_belongs_to_one_customer(self) -> None:
        take_order(self.ctx, order="500", customer="Farm A")
        with self.assertRaises(Refused) as caught:
            services.take_in(self.ctx, [order_row(order="500", customer="Farm B", due="week 40")])
        self.assertEqual(caught.exception.errors[0].code, "other_customer")

    def test_rows_without_a_number_get_one_a_customer(self) -> None:
        ids = services.take_in(
            self.ctx, [order_row(customer="A"), order_row(customer="B"), order_row(customer="a", due="week 40")]
        )
        numbers = [OrderLine.objects.get(pk=pk).order.number for pk in ids]
        self.assertEqual(numbers[0], numbers[2])
        self.assertNotEqual(numbers[0], numbers[1])


KILLED = """
import os, signal, sys
import django
django.setup()
from django.conf import settings
settings.DATABASES["default"]["NAME"] = sys.argv[1]
from aldrip.accounts.context import Ctx
from aldrip.accounts.models import Organisation
from aldrip.orders import services
from aldrip.orders.models import OrderLine
from tests.server.house import order_row
real = services.copy_rows
def and_die(model, names, rows):
    real(model, names, rows)
    assert model is OrderLine and OrderLine.objects.count() == 30
    os.kill(os.getpid(), signal.SIGKILL)
services.copy_rows = and_die
ctx = Ctx(Organisation.objects.get(), None, "manager")
services.take_in(ctx, [order_row(order=str(n), quantity=str(1000 + n)) for n in range(30)])
"""


class Killed(TransactionTestCase):
    def test_a_server_killed_in_the_middle_leaves_nothing_half_imported(self) -> None:
        ensure_library()
        ctx = make_house()
        env = {**os.environ, "ALDRIP_DB_NAME": str(connection.settings_dict["NAME"])}
        root = Path(settings.ROOT)
        env["PYTHONPATH"] = f"{root / 'core'}:{root / 'server'}:{root}"
        ended = subprocess.run(
            [sys.executable, "-c", KILLED, env["ALDRIP_DB_NAME"]], env=env, capture_output=True, text=True
        )
        self.assertEqual(ended.returncode, -signal.SIGKILL, ended.stderr[-800:])
        self.assertEqual((Order.objects.count(), OrderLine.objects.count()), (0, 0))
        self.assertFalse(AuditEvent.objects.filter(action="orders.take_in").exists())
        self.assertEqual(len(services.take_in(ctx, [order_row(order="1")])), 1)

    def test_the_same_file_taken_in_by_two_people_at_once_is_taken_in_once(self) -> None:
        ensure_library()
        ctx = make_house()
        rows = [order_row(order=str(n), quantity=str(1000 + n)) for n in range(10)]
        outcomes: list[str] = []

        def work() -> None:
            try:
                services.take_in(ctx, rows)
                outcomes.append("taken")
            except Refused as refused:
                outcomes.append(refused.errors[0].code)
            finally:
                connection.close()

        threads = [threading.Thread(target=work) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(30)
        self.assertEqual(sorted(outcomes), ["duplicate", "taken"])
        self.assertEqual(OrderLine.objects.count(), 10)
