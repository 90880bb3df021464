"""The tuber store as a person works in it: received, stood, drawn, rejected and sorted, turned, listed, carried out; a bad chain."""

from datetime import timedelta

from aldrip.lots import services as lots
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop
from aldrip.stockplants.models import LiftingSample, TuberStack
from aldrip_core.units import Quantity, Unit
from tests.browser.driver import BrowserCase
from tests.server.house import advance


class TuberStore(BrowserCase):
    def test_from_the_load_to_the_planting_list(self) -> None:
        ctx = self.ctx
        crop = Crop.objects.get(slug="oca", organisation=None)
        quantity = Quantity.of(60_000, Unit.TUBER)
        lot = lots.receive(ctx, crop_id=crop.pk, line_id=None, quantity=quantity, form="tuber")
        self.sign_in()
        self.open("/stockplants")
        self.press("Tuber store")
        self.see("Nothing stands in the store")
        self.press("Stand tubers")
        self.choose("Lot", f"{lot.code}, Oca , 60,000")
        for grade, kg, one, tray in ((1, "600", "30 g", "250"), (3, "1.8 t", "60", "160")):
            self.fill(f"Grade {grade}, kilos", kg)
            self.fill(f"Grade {grade}, one weighs", one)
            self.fill(f"Grade {grade}, in a tray", tray)
        self.see("268 trays in 7 stacks")
        # What the server refuses stands at the row of its grade.
        self.fill("Grade 3, kilos", "18 t")
        self.press("They stand")
        self.see("are to be stood")
        self.fill("Grade 3, kilos", "1.8 t")
        self.press("They stand")
        self.see("268 trays, 50,000 tubers in 7 stacks")

        small, large = TuberStack.objects.order_by("first")
        self.open(f"/stockplants/tubers?stack={large.uuid}")
        self.see("Trays to draw")
        self.fill("Trays drawn", "2")
        self.fill("Tubers looked at", "200")
        self.fill("Below standard", "12")
        self.press("Give the verdict")
        self.see("Rejected on")
        self.fill("Trays carried out", "10")
        self.fill("Where to, or why", "North slope")
        self.press("They are out")
        self.see("or throw them away")
        self.fill("Trays drawn", "2")
        self.fill("Tubers looked at", "200")
        self.press("Give the verdict")
        self.see("Passed on")
        self.press("They are out")
        self.see("178 trays of 160")
        self.assertEqual(Lot.objects.get(pk=lot.pk).balance, 60_000 - 1_600)

        advance(ctx, ctx.today + timedelta(days=4))
        self.open("/diary")
        self.see("Turn 2 ranges of tuber stacks: 1–2, 3–7")
        self.open(f"/stockplants/tubers?stack={small.uuid}")
        self.press("They are turned")
        self.until(lambda: TuberStack.objects.get(pk=small.pk).turned_on == ctx.today, "turned")

        self.open("/stockplants/tubers")
        self.press("Planting list")
        self.fill("Place 1, where", "Tunnel 1")
        self.fill("Place 1, area", "2000 m²")
        self.fill("Place 1, sheet wide", "13 m")
        self.fill("Place 2, where", "Flat")
        self.fill("Place 2, area", "2 ha")
        self.press("Reckon the list")
        self.see("tubers are lacking in 1 place")
        self.see("160 m of sheet")
        self.assertEqual(self.axe(), [])

        for n, damaged in enumerate((8, 12, 9, 11, 10, 60)):
            self.open("/stockplants/tubers")
            self.fill("Crew, machine or field", f"Crew {n % 2}")
            self.fill("Looked at", "400")
            self.fill("Damaged", str(damaged))
            self.press("Enter the sample")
            self.until(lambda n=n: LiftingSample.objects.count() == n + 1, "the sample")
        self.see("damaged is more than")
        self.assertEqual(self.axe(), [])
        self.assertEqual(self.complaints(), [])
