"""The first hour of a nursery: what it raises, its orders in its own words, what it must buy, what came in."""

from datetime import timedelta

from django.core.management import call_command
from django.utils import timezone

from aldrip.accounts.models import Organisation
from aldrip.batches.models import Batch
from aldrip.lots.models import Lot
from aldrip.methods.library import load_library
from aldrip.orders.models import OrderLine, OwnWord, WaitingRow
from aldrip.places.models import Place
from tests.browser.driver import BrowserCase


class FirstHour(BrowserCase):
    def set_up(self) -> None:
        call_command("flush", interactive=False, verbosity=0)
        load_library()
        self.open("/")
        for label, text in (
            ("What is the nursery called?", "Ridge Growers"),
            ("Your name", "Ida Holm"),
            ("Name to sign in with", "ida"),
            ("Password", "quiet-harbour-9"),
            ("Latitude", "51.5"),
        ):
            self.fill(label, text)
        self.press_label("Pots")
        self.press_label("Cut stems and leaf")
        self.see("crops are taken")
        self.assertEqual(self.axe(), [], "first run with what is raised")
        self.press("Set up")
        self.see("The season begins with a promise")

    def press_label(self, words: str) -> None:
        self.press(words, tag="label")

    def paste(self, rows: str) -> None:
        box = self.field("Paste rows")
        self.driver.execute_script(
            "const set = Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set;"
            "set.call(arguments[0], arguments[1]); arguments[0].dispatchEvent(new Event('input', {bubbles: true}))",
            box,
            rows,
        )
        self.press("Read what is pasted")

    def test_from_nothing_to_seed_in_hand(self) -> None:
        self.set_up()
        house = Organisation.objects.get()
        self.assertIn("tomato", house.raises)
        self.assertNotIn("carrot", house.raises)
        self.assertIn("bed", set(Place.objects.values_list("kind", flat=True)))

        due = timezone.localdate() + timedelta(weeks=24)
        week = f"{due.isocalendar().year}-W{due.isocalendar().week:02d}"
        self.open("/orders/import")
        self.paste(
            "PO\tClient\tPlant\tProduct\tQty\tWeek\n"
            f"1\tAsh Lane\tTomatoes\t9 cm pot\t240\t{week}\n1\tAsh Lane\tBush tomato\tpots\t4.000\t{week}\n"
            f"2\tAsh Lane\tMoonwort\tplugs\t300\t{week}\n2\tAsh Lane\tIceberg lettuce\tplug 150\t900\t{week}\n"
        )
        self.see("4 rows read")
        self.see("4 problems in 3 rows")
        self.assertEqual(self.axe(), [], "an import with choices")
        self.press("4,000")
        self.see("3 problems in 3 rows")
        self.press("Tomato")
        self.see("2 problems in 2 rows")
        self.press("Lettuce")
        self.see("1 problem in 1 row")
        self.press("Take in and plan 3; keep 1 waiting")
        self.see("to be understood: Moonwort")
        self.assertEqual(OwnWord.objects.count(), 2)
        lettuce = OrderLine.objects.get(crop__slug="lettuce")
        assert lettuce.container is not None
        self.assertEqual((lettuce.container.slug, lettuce.note), ("tray-150", "Ordered as Iceberg lettuce"))
        house.refresh_from_db()
        self.assertIn("lettuce", house.raises)  # it is promised now

        self.open("/lots?view=buy")
        self.see("any cultivar")
        self.assertEqual(self.axe(), [], "what is to be bought")
        self.open("/lots")
        self.press("Receive seed")
        self.choose("Crop", "Tomato")
        self.fill("How much came", "5 packets of 2,000 seeds")
        self.fill("Germination on the label", "88")
        self.press("Receive", tag="form button")
        self.see("2 batches wait for such seed")
        self.assertEqual(self.axe(), [], "a lot with batches that wait")
        self.press("Give it to 2 batches")
        self.gone("wait for such seed")
        lot = Lot.objects.get()
        self.assertEqual(Batch.objects.filter(lot=lot).count(), 2)

        self.open("/orders/import")
        self.press("Go on with it")
        self.press("leave it out")
        self.press("Leave them out for good")
        self.until(lambda: not WaitingRow.objects.exists(), "the row to be let go")

    def test_a_place_that_was_missing_is_added_where_it_is_asked_for(self) -> None:
        self.set_up()
        due = timezone.localdate() + timedelta(weeks=30)
        week = f"{due.isocalendar().year}-W{due.isocalendar().week:02d}"
        self.open("/orders/import")
        self.paste(f"Customer\tCrop\tForm\tQuantity\tDue\nAsh Lane\tPelargonium\tcuttings\t300\t{week}\n")
        self.press("Take in and plan 1")
        self.see("a place of kind hot bed, and there is none")
        self.open("/places")
        self.press("Add a hot bed")
        self.fill("Name", "Warm bench")
        self.fill("Holds", "12")
        self.fill("Heated to at least", "24")
        self.press("Save")
        self.press("Plan them again")
        self.see("Planned again")
        self.assertEqual(Batch.objects.get().problems, [])
