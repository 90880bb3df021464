"""Mother plants as a person works with them: planted, cut, stuck, tested and held, on the screen."""

from datetime import timedelta

from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.lots.models import Lot
from aldrip.lots.services import receive
from aldrip.methods.models import Crop
from aldrip.places.models import Place
from aldrip.stockplants.models import CutLog, MotherStart, MotherStock
from aldrip_core.units import Quantity, Unit
from tests.browser.driver import BrowserCase
from tests.server.house import advance, take_order

WEEK = timedelta(weeks=1)


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

    def test_from_an_order_to_mothers_to_the_day_of_cutting_to_the_delivery(self) -> None:
        ctx = self.ctx
        line = take_order(ctx, crop="Lavender", form="rooted cutting", quantity="400", due=str(ctx.today + WEEK * 34))
        plan_lines(ctx, [line.pk])
        batch = Batch.objects.get()
        stick = batch.stages.get(order=0).planned.lower
        self.assertGreater(stick, ctx.today + 9 * WEEK)
        self.sign_in()

        # What the batch lacks is planned: how many plantlets, when; ordered, and planted in its week.
        self.open("/stockplants?plan=new")
        self.choose("Crop", "Lavender")
        self.field("And what batches lack").click()
        self.press("Reckon the fewest")
        self.see("every week has what is wanted")
        self.press("Keep this plan")
        self.see("Lavender mothers, planned")
        starts = list(MotherStart.objects.all())
        self.press("they are ordered")
        self.fill("From whom", "Marram Lab")
        self.press("Ordered")
        self.see("Ordered from Marram Lab")
        for start in starts:
            advance(ctx, max(ctx.today, start.on))
            self.open("/stockplants")
            self.press("they are planted")
            many = str(start.plantlets)
            self.until(lambda many=many: self.field("How many").get_attribute("value") == many, "the plan's number")
            self.until(lambda: self.field("Crop").get_attribute("value"), "the crop among those that are fetched")
            self.press("They are planted")
            self.see("Nothing was cut of them yet")

        # On the morning of its day the sheet says who is cut, with the number at hand.
        advance(ctx, stick)
        self.open("/diary")
        self.see("Cut ")
        self.see(f"for {batch.code}")
        while True:
            self.open("/stockplants")
            self.see("mothers, planned")
            self.see("Not tested yet")  # the stocks are there, and with them what is cut of whom
            if "cut them" not in self.text():
                break
            done = CutLog.objects.count()
            self.press("cut them")
            self.press("They are cut")
            self.until(lambda done=done: CutLog.objects.count() == done + 1, "the cuttings to be written down")
        self.assertEqual(sum(one.cuttings for one in CutLog.objects.all()), batch.start)
        lot = CutLog.objects.order_by("-cuttings")[0].lot
        assert lot is not None
        self.open("/diary")
        self.gone(f"for {batch.code}.")

        # Stuck, counted, graded, handed over.
        self.open(f"/sowing?card={batch.pk}")
        self.see("Stick lavender")
        self.until(lambda: self.field("From lot").get_attribute("value") == str(lot.pk), "the cuttings that wait")
        self.press("Stuck")
        self.see("This batch is sown")
        self.assertTrue(batch.stages.get(order=0).inputs.filter(lot=lot, taken_on__isnull=False).exists())
        advance(ctx, stick + 4 * WEEK)
        self.open(f"/batches/{batch.pk}")
        self.press("Count rooting")
        for tray in range(1, batch.trays + 1):
            self.fill(f"Tray {tray}", "90")
        self.press("Save the count")
        self.see("Counted 87 %")
        advance(ctx, line.due.lower)
        self.open("/deliveries")
        self.press(f"grade {batch.code}")
        self.fill("Good ones", "420")
        self.press("Graded")
        self.until(lambda: Lot.objects.filter(from_stages__stage__batch=batch).exists(), "the graded lot")
        self.open("/deliveries")
        self.press(f"Hand over order {line.order.number}")
        self.press("Hand over and write the note")
        self.see("Delivery note D")
        line.refresh_from_db()
        self.assertEqual(line.state, "delivered")
        self.assertEqual(self.complaints(), [])

    def test_what_is_stuck_of_several_lots_is_taken_from_each(self) -> None:
        ctx = self.ctx
        lavender = Crop.objects.get(slug="lavender", organisation=None)
        line = take_order(ctx, crop="Lavender", form="rooted cutting", quantity="300", due=str(ctx.today + WEEK * 12))
        plan_lines(ctx, [line.pk])
        batch = Batch.objects.get()
        first, second, third = (
            receive(ctx, crop_id=lavender.pk, line_id=None, quantity=Quantity.of(many, Unit.CUTTING), form="cutting")
            for many in (150, batch.start - 200, 400)
        )
        self.sign_in()
        self.open(f"/sowing?card={batch.pk}")
        # What waits is offered until it is enough: the whole of two, and the rest of the third.
        self.see("And lot 3")
        self.fill("Of it, lot 3", "40")
        self.press("Stuck", tag="button")
        self.see(f"{batch.start - 10:,} taken from stock, 10 too few")
        self.fill("Of it, lot 3", "50")
        self.press("Stuck", tag="button")
        self.until(lambda: Batch.objects.get().state == "sown", "stuck")
        lots = [first.pk, second.pk, third.pk]
        self.assertEqual([int(Lot.objects.get(pk=pk).balance) for pk in lots], [0, 0, 350])
        # Put right, every lot stands there as it was recorded; those that are not touched stay.
        self.open(f"/batches/{batch.pk}")
        self.press("Correct the start")
        self.until(lambda: self.field("Of it, lot 3").get_attribute("value") == "50", "what was recorded")
        self.fill("Of it, lot 3", "60")
        self.fill("Why", "counted again")
        self.press("Correct it")
        self.until(lambda: int(Lot.objects.get(pk=third.pk).balance) == 340, "the third lot put right")
        self.assertEqual([int(Lot.objects.get(pk=pk).balance) for pk in lots], [0, 0, 340])
        self.assertEqual(self.complaints(), [])

    def test_a_trap_is_read_and_told_when_it_is_over_what_is_acted_on(self) -> None:
        self.sign_in()
        self.open("/stockplants")
        self.press("Read a trap")
        self.choose("Where it hangs", Place.objects.filter(kind="bench").order_by("pk")[0].name)
        self.fill("What it caught", "whitefly")
        self.fill("How many, on all of them", "40")
        self.fill("Traps", "4")
        self.fill("You act from", "8")
        self.press("Write it down")
        self.see("10 a trap and week. You act from 8")
        self.press("read", tag="button")
        self.see("Days they hung")
        self.assertEqual(self.axe(), [])
        self.assertEqual(self.complaints(), [])
