"""Mother plants as a person works with them: planted, cut, stuck, tested and held, on the screen."""

from datetime import timedelta

from aldrip.lots.models import Lot
from aldrip.stockplants.models import CutLog, MotherStock
from tests.browser.driver import BrowserCase


class StockPlants(BrowserCase):
    def test_planted_cut_and_not_clean_everything_made_of_them_is_held(self) -> None:
        ctx = self.ctx
        self.sign_in()
        self.open("/stockplants")
        self.see("No mother plants yet")
        self.press("Plant mothers")
        self.choose("Crop", "Lavender")
        self.fill("How many", "40")
        self.fill_day("Planted on", ctx.today - timedelta(weeks=9))
        self.press("They are planted")
        self.see("Nothing was cut of them yet")
        self.see("Week 10 of 35. Not tested yet.")
        self.fill("How many were cut", "60")
        self.press("They are cut")
        self.see("Cut, 60 in all")
        cut = CutLog.objects.get()
        assert cut.lot is not None
        self.assertEqual(cut.lot.balance, 60)
        self.press("Enter a health test")
        self.fill("Tested for", "wilt")
        self.field("It was found").click()
        self.press("Hold everything made of them")
        self.see("not clean of wilt")
        self.assertIn("held since", Lot.objects.get(pk=cut.lot.pk).on_hold)
        self.press("They are exhausted, or retired")
        self.fill("What becomes of them", "burnt")
        self.field("40 mothers are taken out").click()
        self.press("Retire them")
        self.until(lambda: MotherStock.objects.get().retired_on == ctx.today, "retired")
        self.assertEqual(self.complaints(), [])
