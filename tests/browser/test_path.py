"""From an order file to a delivery note, through the real interface."""

import re
from datetime import date
from pathlib import Path
from tempfile import TemporaryDirectory

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from aldrip.batches.models import Batch
from aldrip.deliveries.models import Delivery
from aldrip.lots.models import Lot
from aldrip.orders.models import OrderLine
from tests.browser.driver import BrowserCase
from tests.server.house import advance, seed_lot

FILE = """Order,Customer,Crop,Form,Quantity,Week
118,Greenlane Salads,Pack choy,plug,18000,2027-W31
119,Three Gates Farm,Endive,plug,6000,2027-W53
"""


class FromOrderToNote(BrowserCase):
    def test_order_file_plan_card_sown_count_resow_note(self) -> None:
        lot = seed_lot(self.ctx, grams=900)
        advance(self.ctx, date(2027, 6, 28))
        self.sign_in()

        # Orders come from a file; two faults are mended in place.
        self.press("Orders")
        self.press("Paste or import")
        with TemporaryDirectory() as folder:
            file = Path(folder) / "orders.csv"
            file.write_text(FILE)
            self.field("or a file").send_keys(str(file))
            self.see("2 problems in 2 rows")
        self.see("Did you mean Pak choi?")
        self.see("2027 has 52 weeks")
        self.assertEqual(OrderLine.objects.count(), 0)
        self.fill("Crop, line 2", "Pak choi")
        self.fill("Due, line 3", "week 36")
        self.press("Check again")
        self.see("no problem")
        self.press("Take in and plan 2 lines")
        self.see("Greenlane Salads")
        self.assertEqual((OrderLine.objects.count(), Batch.objects.count()), (2, 2))
        batch = Batch.objects.get(crop__slug="pak-choi")

        # The ladder says what to start with; the card says the same.
        self.open(f"/batches/{batch.pk}")
        self.see("Cells sown")
        self.assertEqual(self.field("Trays, trays").get_attribute("value"), str(batch.trays))
        self.assertEqual(self.field("Cells sown").get_attribute("value"), f"{batch.start:,}")
        self.field("Cells sown").click()
        self.driver.find_element(By.TAG_NAME, "h1").click()
        self.keys("w")
        self.see("On top, because batches differ")
        self.press("W close")
        self.press("Sowing card")
        self.see(f"{batch.trays} trays")
        self.see(lot.code)

        # Sown: the stock moves and the batch runs.
        advance(self.ctx, date(2027, 6, 29))
        self.open(f"/sowing?card={batch.pk}")
        self.see("When it is sown")
        self.press("Sown")
        self.see("This batch is sown")
        lot.refresh_from_db()
        self.assertLess(lot.balance, 900)

        # Counted at 61 %: the chance falls, and sowing again is offered while it helps.
        advance(self.ctx, date(2027, 7, 5))
        self.open(f"/batches/{batch.pk}")
        self.press("Count emergence")
        for tray, found in enumerate((149, 139, 156, 144, 137, 154), start=1):
            self.fill(f"Tray {tray}", str(found))
        self.see("61 %")
        self.press("Save the count")
        self.see("Counted 61 %")
        advance(self.ctx, date(2027, 7, 6))
        self.open(f"/batches/{batch.pk}")
        self.see("Decide by Fri 9 Jul")
        offered = int(re.search(r"Sow (\d+) trays more", self.text()).group(1))  # type: ignore[union-attr]
        self.press("Sow ")
        self.gone("Decide by")
        new = Batch.objects.get(tops_up=batch)
        self.assertEqual(new.trays, offered)
        self.see("2 batches together")
        self.press("Diary")
        self.see(f"Sow pak choi, {offered} trays")

        # Both are sown, graded and handed over in one delivery.
        self.open(f"/sowing?card={new.pk}")
        self.press("Sown")
        self.see("This batch is sown")
        advance(self.ctx, date(2027, 8, 5))
        for one, good in ((batch, 13_200), (new, 5_100)):
            self.open("/deliveries")
            self.press(f"grade {one.code}")
            self.fill("Good ones", str(good))
            self.fill("damaged", "40")
            self.press("Graded")
            self.until(lambda one=one: Lot.objects.filter(from_stages__stage__batch=one).exists(), "the graded lot")
        self.open("/deliveries")
        self.press("Hand over order 118")
        self.see("18,000 plants wanted")
        self.press("Hand over and write the note")
        self.see("Delivery note D27-")
        delivery = Delivery.objects.get()
        self.see(delivery.code)
        self.see(batch.code)
        self.assertEqual(sum(item.quantity for item in delivery.items.all()), 18_000)
        self.assertEqual(OrderLine.objects.get(order__number="118").state, "delivered")
        self.assertEqual(self.complaints(), [])


class ByKeyboardOnly(BrowserCase):
    def tab_to(self, name: str) -> None:
        """Press Tab until the focus is on what begins with a name."""
        for _ in range(120):
            label = self.driver.execute_script(
                "const at = document.activeElement; return at.ariaLabel || at.innerText || "
                "(at.matches('input, select') && at.closest('label')?.innerText) || ''"
            )
            if " ".join(label.split()).startswith(name):
                return
            self.keys(Keys.TAB)
        raise AssertionError(f"Tab never reached “{name}”")

    def test_an_order_is_entered_planned_moved_on_the_board_and_kept_without_a_mouse(self) -> None:
        seed_lot(self.ctx, grams=900)
        self.open("/")
        self.named("button", "Sign in")
        self.tab_to("Name")
        self.keys("ada", Keys.TAB, "a long password", Keys.ENTER)
        self.see("Sign out")
        self.tab_to("Orders")
        self.keys(Keys.ENTER)
        self.see("Paste or import orders")
        self.tab_to("New order")
        self.keys(Keys.ENTER)
        self.tab_to("Customer")
        self.keys(
            "Harrow End",
            Keys.TAB,
            "Pak choi",
            Keys.TAB,
            Keys.TAB,
            Keys.TAB,
            Keys.TAB,
            "12k",
            Keys.TAB,
            "week 37",
            Keys.ENTER,
        )
        self.until(lambda: Batch.objects.exists(), "the planned batch")
        batch = Batch.objects.get()
        self.gone("Save and plan")
        self.see("What is asked")  # what became of it is seen at once
        self.see(batch.code)
        self.keys(Keys.ESCAPE)
        self.gone("What is asked")

        self.keys("/")
        self.named("input", "Code, crop, customer or place")
        self.keys(batch.code)
        self.see(f"Batch {batch.code}")
        self.keys(Keys.ENTER)
        self.see("Cells sown")
        self.tab_to("Trays, trays")
        self.driver.switch_to.active_element.send_keys(Keys.CONTROL, "a")
        self.keys("80", Keys.ENTER)
        self.see("Start pak choi")
        self.driver.execute_script("document.activeElement.blur()")
        self.keys(Keys.ENTER)
        self.until(lambda: Batch.objects.get().trays == 80, "the kept trays")

        self.open("/batches")
        self.see("Season board")
        self.tab_to(f"{batch.code} Pak choi grown on")
        sow = batch.stages.get(key="sow").planned.lower
        self.keys(Keys.ARROW_RIGHT)
        self.see("later.")
        self.keys(Keys.ESCAPE)
        self.gone("Proposed")
        self.assertEqual(Batch.objects.get().stages.get(key="sow").planned.lower, sow)
        self.tab_to(f"{batch.code} Pak choi grown on")
        self.keys(Keys.ARROW_DOWN)
        self.see("Move pak choi")
        self.keys(Keys.ENTER)
        self.until(lambda: Batch.objects.get().version == 3, "the kept move")
        self.keys("s")
        self.until(
            lambda: self.driver.execute_script("return document.documentElement.dataset.sun") == "on", "sun mode"
        )
        self.keys("s")
        self.assertEqual(self.complaints(), [])
