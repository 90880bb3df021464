"""At the bench: a sower is set with trays that are caught and weighed, and the batch is sown by its card."""

import json
from threading import Thread
from urllib.request import urlopen

from selenium.webdriver.common.keys import Keys

from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.orders import services as orders
from aldrip.places.models import Place
from aldrip.sowing.models import Machine, Trial
from aldrip.sowing.practice_device import device
from aldrip_core.practice_sower import PracticeSower
from tests.browser.driver import BrowserCase
from tests.server.house import advance, order_row, seed_lot


class Bench(BrowserCase):
    def test_from_a_sower_that_nobody_set_to_trays_with_labels(self) -> None:
        seed_lot(self.ctx, grams=2000)
        plan_lines(self.ctx, orders.take_in(self.ctx, [order_row(quantity="9,000", due="2027-W37")]))
        batch = Batch.objects.get()
        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        running = device(4)
        Thread(target=running.serve_forever, daemon=True).start()
        self.addCleanup(running.server_close)
        self.addCleanup(running.shutdown)
        self.sign_in()
        self.open(f"/sowing?card={batch.pk}")
        self.see("not set for it yet")
        self.press("Set the sower")
        self.see("No sower is described yet")
        self.press("add a sower")
        self.fill("Name at the bench", "Tray sower")
        self.fill("The dial goes from", "0")
        self.fill("to", "10")
        if not PracticeSower(4).up:
            self.choose("Which way", "a higher setting sows less")
        self.fill("Scale on this computer", f"http://127.0.0.1:{running.server_address[1]}")
        self.press("Add it", "form button")
        self.see("Nothing was caught yet: set 5")
        self.fill("Setting, 0 to 10", "11")
        self.fill("The tray caught", "0.5")
        self.press("Write it down", "form button")
        self.see("11 would be forced")
        self.assertFalse(Trial.objects.exists())
        self.fill("Setting, 0 to 10", "5")
        self.field("The tray caught").send_keys(Keys.CONTROL, "a", Keys.NULL, Keys.BACKSPACE)
        wanted = (batch.seed_g or 0) / (batch.trays or 1)
        for tray in range(1, 13):
            # Somebody walks the sower over a tray and puts the tray on the scale.
            setting = float(self.field("Setting, 0 to 10").get_attribute("value") or 5)
            body = json.dumps({"setting": setting, "of_g": wanted}).encode()
            urlopen(f"http://127.0.0.1:{running.server_address[1]}/sow", body, timeout=5).close()
            self.press("Read the scale")
            self.until(lambda: self.field("The tray caught").get_attribute("value"), "a weight")
            self.press("Write it down", "form button")
            self.until(lambda n=tray: Trial.objects.count() == n, f"tray {tray}")  # type: ignore[misc]
            self.until(lambda: self.field("The tray caught").get_attribute("value") == "", "the next tray's form")
            if "Settled at" in self.text():
                break
        self.see("Settled at")
        self.assertEqual(self.axe(target_size=True), [])
        self.press("Close")
        self.see("Go on setting it")
        self.see(f"{Machine.objects.get().name}.")
        self.fill("Grams", f"{batch.seed_g:.1f}")
        self.press("Sown", "form button")
        self.until(lambda: Batch.objects.get().state == "sown", "the sowing")
        self.open(f"/sowing?card={batch.pk}")
        self.see("This batch is sown")
        self.named("a", "Tray labels")
        self.assertEqual(self.complaints(), [])

    def test_beds_that_do_not_fit_say_what_would_and_become_a_place(self) -> None:
        self.sign_in()
        self.open("/places")
        self.press("Lay out beds")
        house = {"House, long": "30 ft", "wide": "12 ft", "A bed, wide": "30 in", "A path, wide": "1 ft"}
        for label, text in (house | {"Free at each end": "2 ft", "Beds wanted": "6", "of length": "46 ft"}).items():
            self.fill(label, text)
        self.press("Lay them out", "form button")
        self.see("3 of 7.92 m would fit. The smallest house that would do is 15.24 m long and 6.71 m wide")
        self.fill("House, long", "50 ft")
        self.fill("wide", "2 gal")
        self.press("Lay them out", "form button")
        self.see("not the same everywhere")
        self.fill("wide", "22 ft")
        for label, text in (("Rows on a bed", "4"), ("Plant to plant", "8 in")):
            self.fill(label, text)
        self.press("Lay them out", "form button")
        self.see("6 beds of 14.02 m, 1,656 plants")  # 46 ft at 8 in are 69 along; × 4 × 6
        self.see("64 m²")  # 690 square feet
        self.assertEqual(self.axe(target_size=True), [])
        self.press("Add these beds as a place")
        self.fill("Name", "Long house")
        self.press("Save", "form button")
        self.until(lambda: Place.objects.filter(name="Long house").exists(), "the beds as a place")
        made = Place.objects.get(name="Long house")
        self.assertEqual((made.kind, made.capacity), ("bed", 64.1))
        self.assertEqual([one for one in self.complaints() if "422" not in one], [])
