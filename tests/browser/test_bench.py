"""At the bench: a sower is set with trays that are caught and weighed, and the batch is sown by its card."""

from threading import Thread

from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.orders import services as orders
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
        self.press("It is the sower for practice", "label")
        self.press("Add it", "form button")
        self.see("Nothing was caught yet: set 5")
        self.fill("Setting, 0 to 10", "11")
        self.press("Sow a tray for practice")
        self.see("11 would be forced")
        self.assertFalse(Trial.objects.exists())
        self.fill("Setting, 0 to 10", "5")
        for tray in range(1, 13):
            self.press("Sow a tray for practice")
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
