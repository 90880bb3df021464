"""At the bench: a sower is set with trays that are caught and weighed, and the batch is sown by its card."""

import json
from datetime import timedelta
from threading import Thread
from urllib.request import urlopen

from django.utils import timezone
from selenium.webdriver.common.keys import Keys

from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.diary.models import Clock, ClockMark
from aldrip.lots.models import MediumLot, MediumUse
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

    def test_coir_is_washed_until_it_passes_and_is_sown_into(self) -> None:
        seed_lot(self.ctx, grams=2000)
        plan_lines(self.ctx, orders.take_in(self.ctx, [order_row(quantity="3,000", due="2027-W37")]))
        batch = Batch.objects.get()
        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        self.sign_in()
        self.open(f"/sowing?card={batch.pk}")
        self.press("Add a medium")
        self.fill("What it is", "Coir, block 9")
        self.fill("How much", "20 ft3")
        self.press("Add it", "form button")
        self.see("After the next wash")
        for ph, ec in (("6.4", "1.2 mS/cm"), ("6.3", "600 µS/cm")):
            self.fill("pH", ph)
            self.fill("EC, mS/cm", ec)
            self.press("Write it down", "form button")
            self.see(f"pH {ph}")
        self.see("About 1 more wash")
        self.assertEqual(self.axe(target_size=True), [])
        self.press("Close")
        self.choose("Filled from", "Coir, block 9")
        self.fill("Grams", f"{batch.seed_g:.1f}")
        self.press("Sown", "form button")
        self.see("Nothing is sown into it before that")
        self.assertEqual(Batch.objects.get().state, "planned")
        medium = MediumLot.objects.get()
        self.press(medium.code)
        self.fill("pH", "6.3")
        self.fill("EC, mS/cm", "0.3")
        self.press("Write it down", "form button")
        self.see("Inside its limits")
        self.press("It passes")
        self.see("Passed on")
        self.press("Close")
        self.press("Sown", "form button")
        self.until(lambda: Batch.objects.get().state == "sown", "the sowing")
        self.open(f"/sowing?card={batch.pk}&medium={medium.pk}")
        self.see("Sown into it")
        self.assertEqual(MediumUse.objects.get().subject_code, batch.code)
        self.assertEqual([one for one in self.complaints() if "422" not in one], [])

    def test_from_a_recipe_to_the_card_of_a_tank(self) -> None:
        self.sign_in()
        self.open("/methods?kind=recipe&act=new")
        self.fill("Name", "Bedding feed")
        self.fill("For", "1 m3")
        self.press("add salts and products")
        self.fill("Salt", "Ca(NO3)2·4H2O")
        self.fill("Grams", "590")
        self.press("Add it", "form button")
        self.see("your own, edition 1")
        self.open("/sowing")
        self.press("Mix a tank")
        self.choose("Feed", "Young plants, by salts")
        self.fill("How much at the plants", "2 gal")
        self.see("not the same everywhere")
        self.fill("How much at the plants", "400 L")
        self.see("54.4 g")
        self.fill("Injector", "1:100")
        self.see("Tank A: 4.0 L of stock")
        self.see("never together")
        self.see("EC comes to about 1.10 mS/cm")
        self.press("54.4 g")
        self.see("grams of the recipe × times")
        self.assertEqual(self.axe(target_size=True), [])
        self.named("a", "Print on A5")
        self.choose("Feed", "Bedding feed")
        self.see("236.0 g")
        self.press("Close")
        self.press("Write down EC and pH")
        self.choose("Feed", "Young plants")
        self.fill("EC", "2400 µS/cm")
        self.press("Write it down", "form button")
        self.see("0.8 over 1.6: thin it with water")
        self.assertEqual([one for one in self.complaints() if "422" not in one], [])

    def test_a_bath_on_a_phone_without_a_signal_is_right_when_it_is_back(self) -> None:
        lot = seed_lot(self.ctx, grams=400)
        self.size(390, 844)
        self.sign_in()
        self.open(f"/lots?lot={lot.pk}")
        self.press("Treat it by the clock", "summary")
        self.choose("Treatment", "Hot water, leafy brassicas")
        self.fill("How much of it", "2 g")
        self.press("Begin: the clock runs", "form button")
        self.until(lambda: Clock.objects.count() == 1, "the clock")
        clock = Clock.objects.get()
        # Begun a while ago: nothing but its marks says so, whichever process is asked.
        begun = timezone.now() - timedelta(minutes=19, seconds=51)
        Clock.objects.update(begun_at=begun)
        ClockMark.objects.update(at=begun)
        self.open("/diary")
        self.see("0 min")
        self.press("0 min", "[aria-label=Running] li button")
        self.see("Scalds")
        self.assertEqual(self.axe(target_size=True), [])
        self.stop_server()
        self.fill("The thermometer reads", "122 F")
        self.press("Write it down", "form button")
        self.see("waits for the server")
        self.until(lambda: "over by" in self.text(), "the end of the bath")
        self.press("Now: cool at once")
        self.until(lambda: "4 min" in self.text(), "the next step")
        self.assertEqual(ClockMark.objects.count(), 1)
        self.start_server()
        self.until(lambda: ClockMark.objects.count() == 3, "what waited to arrive")
        read, step = clock.marks.get(kind="read"), clock.marks.get(kind="begun", step=1)
        self.assertAlmostEqual(read.temp_c or 0, 50, places=6)
        self.assertLess(read.at, step.at)
        self.assertLess((step.at - begun).total_seconds(), 21 * 60)
        self.open("/diary")
        self.see("4 min")
        self.see("cool at once")
        self.assertEqual([one for one in self.complaints() if "net::ERR_" not in one], [])
