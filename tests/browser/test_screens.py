"""Axe finds nothing where the walk through every view does not come; two managers meet; first runs."""

import uuid
from datetime import date

from django.conf import settings
from django.core.management import call_command
from selenium.webdriver.common.keys import Keys

from aldrip.batches import counts, sowings
from aldrip.batches.editing import Change, keep
from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.methods.library import load_library
from aldrip.orders import services as orders
from aldrip_core.forecast import TrayCount
from tests.browser.driver import BrowserCase
from tests.server.house import advance, order_row, seed_lot


class EveryScreen(BrowserCase):
    def furnish(self) -> Batch:
        """A house in which every screen has something to show, a decision among it."""
        seed_lot(self.ctx, grams=900)
        advance(self.ctx, date(2027, 6, 28))
        rows = [
            order_row(order="118", quantity="18000", due="2027-W31"),
            order_row(order="119", crop="Endive", due="2027-W36"),
            order_row(order="120", crop="Cyclamen", form="pot", quantity="900", due="2028-W10"),
            order_row(order="121", crop="Lavender", form="rooted cutting", quantity="4000", due="2027-W27"),
        ]
        plan_lines(self.ctx, orders.take_in(self.ctx, rows))
        batch = Batch.objects.get(crop__slug="pak-choi")
        advance(self.ctx, date(2027, 6, 29))
        sowings.sown(self.ctx, batch.pk, on=date(2027, 6, 29))
        advance(self.ctx, date(2027, 7, 5))
        trays = [TrayCount(240, n) for n in (149, 139, 156, 144, 137, 154)]
        counts.count_emergence(self.ctx, batch.pk, trays=trays, on=date(2027, 7, 5), client_uuid=uuid.uuid4())
        advance(self.ctx, date(2027, 7, 6))
        return batch

    def check(self, where: str) -> None:
        self.assertEqual(self.axe(), [], where)

    def test_axe_finds_nothing_where_nobody_is_signed_in_and_where_something_is_wrong(self) -> None:
        batch = self.furnish()
        self.open("/")
        self.see("Sign in")
        self.check("sign-in")
        self.sign_in()
        self.open(f"/batches/{batch.pk}")
        self.see("Decide by")
        self.check("a batch that came up badly")
        self.keys("w")
        self.see("Good ones wanted")
        self.check("working")
        self.open("/orders")
        self.press("Can we take it?")
        self.see("Work it out")
        self.check("can we take it")
        self.open("/orders/import")
        self.fill("Paste rows", "Customer;Crop;Form;Quantity;Due\nA;Tulip;plug;-4;week 60\n")
        self.press("Read what is pasted")
        self.see("3 problems in 1 row")
        self.check("import with problems")
        self.assertEqual(self.complaints(), [])

    def test_two_managers_on_one_batch_the_second_sees_both_values(self) -> None:
        seed_lot(self.ctx)
        plan_lines(self.ctx, orders.take_in(self.ctx, [order_row(due="2027-W37")]))
        batch = Batch.objects.get()
        self.sign_in()
        self.open(f"/batches/{batch.pk}")
        self.fill("Trays, trays", "50")
        self.field("Trays, trays").send_keys(Keys.ENTER)
        self.see("Proposed")
        keep(self.ctx, batch.pk, Change(trays=70), 1)
        self.press("Keep")
        self.see("saved this batch first")
        self.see("saved now")
        self.see("70 trays")
        self.see("50 trays")
        self.press("Look again")
        self.gone("saved now")
        self.until(lambda: self.field("Trays, trays").get_attribute("value") == "70", "the saved trays")

    def test_an_empty_house_is_set_up_by_its_first_visitor(self) -> None:
        call_command("flush", interactive=False, verbosity=0)
        load_library()
        self.open("/")
        self.see("Set up your nursery")
        self.check("first run")
        self.fill("What is the nursery called?", "Own Nursery")
        self.fill("Your name", "Ola Nord")
        self.fill("Name to sign in with", "ola")
        self.fill("Password", "short")
        self.fill("Latitude", "59.9")
        self.press("Set up")
        self.see("too short")
        self.fill("Password", "quiet-harbour-9")
        self.press("Set up")
        self.see("Own Nursery")
        self.see("The season begins with a promise")
        for path, words in (
            ("/orders", "No orders yet"),
            ("/batches", "Nothing stands in these weeks"),
            ("/lots", "No lots yet"),
            ("/sowing", "Nothing to sow"),
            ("/deliveries", "Nothing is due"),
        ):
            self.open(path)
            self.see(words)
            self.check(f"empty {path}")

    def test_a_nursery_is_brought_in_on_the_first_screen_and_its_manager_signs_in(self) -> None:
        call_command("flush", interactive=False, verbosity=0)
        load_library()
        self.open("/")
        self.see("Or bring your nursery in from an archive")
        self.field("Or bring your nursery in").send_keys(str(settings.ROOT / "library" / "README.md"))
        self.see("is no archive")
        self.field("Or bring your nursery in").send_keys(str(settings.ROOT / "tests" / "golden" / "archive-1.zip"))
        self.see("Write these down")
        self.check("brought in")
        password = self.named("code", "").text
        self.press("Sign in", "a")
        self.fill("Name", "manager")
        self.fill("Password", password)
        self.press("Sign in", "form button")
        self.see("Quillmere Nursery & Seed")
        self.see("Morning")
        self.open("/house")
        self.see("Take everything out")
        self.check("the house")
