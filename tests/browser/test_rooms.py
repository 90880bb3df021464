"""The other rooms through the real interface: receive, ask, change, mark, correct, undo, move in time."""

from datetime import date
from typing import Any
from unittest.mock import patch

from django.test import Client
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from aldrip.accounts.context import ANYTHING
from aldrip.accounts.models import AuditEvent, Member
from aldrip.batches import long_work, sowings
from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.diary.models import Count, Task
from aldrip.jobs import services
from aldrip.jobs.models import Job
from aldrip.lots.models import Lot
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from tests.browser.driver import BrowserCase
from tests.server.house import SURE, advance, member, order_row, seed_lot


class Rooms(BrowserCase):
    def plan(self, **more: str) -> Batch:
        plan_lines(self.ctx, orders.take_in(self.ctx, [order_row(**more)]))
        return Batch.objects.latest("id")

    def test_seed_is_received_in_ounces_and_its_balance_corrected_with_a_reason(self) -> None:
        self.sign_in()
        self.press("Lots")
        self.see("No lots yet")
        self.press("Receive seed")
        self.choose("Crop", "Celeriac")
        self.fill("How much came", "2 oz")
        self.fill("Germination on the label", "120")
        self.fill("Thousand-grain weight", "0.4 g")
        self.fill("Supplier", "Ember Seedhouse")
        self.driver.find_element(By.CSS_SELECTOR, "form button[type=submit]").click()
        self.see("between 0 and 100 %")
        self.assertEqual(Lot.objects.count(), 0)
        self.fill("Germination on the label", "82")
        self.driver.find_element(By.CSS_SELECTOR, "form button[type=submit]").click()
        self.until(lambda: Lot.objects.exists(), "the lot")
        lot = Lot.objects.get()
        self.see(lot.code)
        self.see("56.7 g")
        self.open(f"/lots?lot={lot.pk}")
        self.press("Correct the balance")
        self.fill("Weighed now", "55")
        self.press("Correct", "form button")
        self.see("Say why the balance")
        self.fill("Why", "weighed again")
        self.press("Correct", "form button")
        self.see("corrected")
        lot.refresh_from_db()
        self.assertEqual(lot.balance, 55)

    def test_a_succession_is_worked_out_and_entered_as_its_orders(self) -> None:
        seed_lot(self.ctx, grams=3000)
        self.sign_in()
        self.open("/orders")
        self.press("A succession")
        self.choose("Crop", "Pak choi")
        for label, text in (("How many each time", "600"), ("First harvest", "week 36"), ("Last harvest", "week 40")):
            self.fill(label, text)
        self.press("Work it out")
        self.see("5 sowings from")
        self.see("equal intervals")
        self.assertFalse(OrderLine.objects.exists())
        self.press("Enter 5 order lines")
        self.fill("Customer", "own use")
        self.press("Save and plan")
        self.until(lambda: Batch.objects.count() == 5, "five batches")
        self.assertEqual({line.order.customer for line in OrderLine.objects.all()}, {"own use"})

    def test_can_we_take_it_answers_and_saves_nothing(self) -> None:
        seed_lot(self.ctx)
        self.sign_in()
        self.press("Orders")
        self.press("Can we take it?")
        self.choose("Crop", "Pak choi")
        self.fill("How many", "12k")
        self.fill("When", "2027-W53")
        self.press("Work it out")
        self.see("2027 has 52 weeks")
        self.fill("When", "week 28")
        self.press("Work it out")
        self.see("Not as asked.")
        self.see("Remedies")
        self.fill("When", "week 36")
        self.press("Work it out")
        self.see("Yes: sow")
        self.see("Nothing was saved.")
        self.press("working")
        self.see("On top, because batches differ")
        self.assertEqual(OrderLine.objects.count(), 0)
        self.press("Can we take it?")
        self.press("Work it out")
        self.press("Take the order")
        self.fill("Customer", "Corner Farm")
        self.press("Save and plan")
        self.until(
            lambda: OrderLine.objects.filter(order__customer="Corner Farm", allocations__isnull=False).exists(),
            "the order, planned",
        )

    def test_an_order_is_changed_and_cancelled_from_its_sheet(self) -> None:
        seed_lot(self.ctx)
        batch = self.plan(order="55", quantity="12000")
        line = OrderLine.objects.get()
        self.sign_in()
        self.open(f"/orders?line={line.pk}")
        self.fill("Quantity", "12 bunches")
        self.press("See what it does")
        self.see("has a unit in it")
        self.fill("Quantity", "20k")
        self.press("See what it does")
        self.see("20,000 plants instead of 12,000 plants")
        self.assertEqual(OrderLine.objects.get().quantity, 12_000)  # only looked at
        self.press("Keep")
        self.until(lambda: OrderLine.objects.get().quantity == 20_000, "the changed quantity")
        batch.refresh_from_db()
        self.assertEqual(int(batch.needed), 20_000)
        self.press("Undo")
        self.until(lambda: OrderLine.objects.get().quantity == 12_000, "the quantity as it was")
        self.open(f"/orders?line={line.pk}")
        self.press("Split some off for another day")
        self.fill("How much of it", "5,000")
        self.fill("When", "week 41")
        self.press("See what splitting does")
        self.press("Keep")
        self.until(lambda: OrderLine.objects.count() == 2, "two lines")
        self.open(f"/orders?line={line.pk}")
        self.press("Cancel this line")
        self.fill("Why", "field was sold")
        self.press("See what cancelling does")
        self.press("Keep")
        self.until(lambda: OrderLine.objects.get(pk=line.pk).state == "cancelled", "the cancelled line")
        self.see("cancelled")
        batch.refresh_from_db()
        self.assertEqual(batch.state, "abandoned")

    def test_a_task_not_done_needs_its_reason_and_the_sheet_keeps_it(self) -> None:
        seed_lot(self.ctx)
        batch = self.plan(order="56", due="2027-W32")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.sign_in()
        self.press("Diary")
        self.see("Sow pak choi")
        self.press("Sow pak choi")
        self.see("Record the sowing on its card")
        self.press("☒ Not done")
        self.see("Say why")
        self.fill("Note", "sower is broken")
        self.press("☒ Not done")
        self.see("not done:")
        self.see("sower is broken")
        self.assertEqual(Task.objects.get(kind="sow").state, "not_done")
        self.press("not done: Sow pak choi")
        self.fill("How much was done", "14")
        self.fill("How long it took", "1.5 heures")
        self.press("◪ Partly")
        self.see("cannot be read as min")
        self.fill("How long it took", "1.5 h")
        self.press("◪ Partly")
        self.see(", 90 min")
        done = Task.objects.get(kind="sow")
        self.assertEqual((done.state, done.quantity_done, done.minutes_spent), ("partly", 14, 90))
        self.press("Add a task")
        self.fill("What is to be done", "Mend the sower")
        self.fill("Minutes", "1.5 h")
        self.press("Add", "form button")
        self.see("Mend the sower")
        self.see("1.5 h")
        self.press("day after")
        sheet = self.driver.find_element(By.TAG_NAME, "main")  # the top line tells of the last act
        self.until(lambda: "Mend the sower" not in sheet.text, "the task to go")

    def test_an_edit_is_kept_and_undone_from_the_frame(self) -> None:
        seed_lot(self.ctx)
        batch = self.plan(order="57", due="2027-W38")
        start = batch.start
        self.sign_in()
        self.open(f"/batches/{batch.pk}")
        self.fill("Trays, trays", "90")
        self.field("Trays, trays").send_keys(Keys.ENTER)
        self.see("Touches order 57.")
        self.press("Drop")
        self.gone("Proposed")
        self.assertEqual(self.field("Trays, trays").get_attribute("value"), str(batch.trays))
        self.fill("Trays, trays", "90")
        self.field("Trays, trays").send_keys(Keys.ENTER)
        self.see("90 trays")
        self.press("Keep")
        self.until(lambda: Batch.objects.get().trays == 90, "the kept trays")
        self.see("Last: Start pak choi")
        self.press("undo")
        self.until(lambda: Batch.objects.get().start == start, "the old start")
        self.see("Took back")
        self.assertEqual(AuditEvent.objects.filter(action="batch.undo").count(), 1)

    def test_a_rate_is_overruled_in_the_working_with_its_reason(self) -> None:
        seed_lot(self.ctx)
        batch = self.plan(order="58", due="2027-W38")
        self.sign_in()
        self.open(f"/batches/{batch.pk}")
        self.press("graded 95.0 %")
        self.see("Reckon with another rate")
        self.fill("Delivered, %", "80")
        self.press("See what it does")
        self.see("Say why; the reason stays beside the rate.")
        self.fill("Why", "new graders this week")
        self.press("See what it does")
        self.see("new graders this week")
        self.press("Keep")
        self.until(lambda: Batch.objects.get().version == 2, "the kept rate")
        self.see("typed")
        self.assertGreater(Batch.objects.get().start, batch.start)

    def test_the_season_line_moves_every_room_in_time(self) -> None:
        seed_lot(self.ctx)
        self.plan(order="59", due="2027-W45")
        self.sign_in()
        self.open("/deliveries")
        self.see("Nothing is due in this span")
        slider = (By.CSS_SELECTOR, "[role=slider]")
        line = self.until(lambda: self.driver.find_elements(*slider), "the season line")[0]
        before = line.get_attribute("aria-valuetext")
        line.send_keys(Keys.ARROW_RIGHT * 10)
        self.see("Pak choi")
        self.assertNotEqual(line.get_attribute("aria-valuetext"), before)
        line.send_keys("+")
        line.send_keys(Keys.HOME)
        self.see("Nothing is due in this span")
        self.open("/sowing")
        self.see("Nothing to sow in this span")

    def test_places_people_rules_and_clock(self) -> None:
        self.sign_in()
        self.press("Places")
        self.press("change Bench 1")
        self.fill("Holds, m²", "-4")
        self.press("Save")
        self.see("cannot be")
        self.fill("Holds, m²", "75")
        self.press("Save")
        self.until(lambda: Place.objects.get(name="Bench 1").capacity == 75, "the changed bench")
        self.press("ada")
        self.see("House rules")
        self.fill("Chance wanted, %", "90")
        self.press("Save")
        self.see("New plans follow these rules.")
        self.fill("Signs in as", "nia")
        self.fill("First password", "quiet-harbour-9")
        self.press("Add", "form button")
        self.until(lambda: Member.objects.count() == 2, "the new person")
        self.press("advance")
        self.see("only moves forward")
        self.press("Advance", "form button")
        self.see("Wednesday 7 July 2027")

    def test_a_dispatcher_hands_over_and_sees_no_planning(self) -> None:
        seed_lot(self.ctx)
        advance(self.ctx, date(2027, 7, 2))
        batch = self.plan(order="60", quantity="1000", due="2027-W32")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        sowings.sown(self.ctx, batch.pk, on=sow)
        advance(self.ctx, date(2027, 8, 12))
        member(self.ctx, "corin", "dispatch")
        self.sign_in("corin")
        self.open("/deliveries")
        self.see("Graded, in stock")
        self.assertNotIn("grade", self.text().split("Graded, in stock")[1].lower().split())
        self.open("/batches")
        self.see("Season board")
        self.assertNotIn("New batch", self.text())
        self.open("/deliveries")
        self.press("Hand over order 60")
        self.see("Nothing is graded for it yet.")
        self.press("Close the line short", "label")
        self.fill("Why it is short", "slugs took the trays")
        self.press("Hand over and write the note")
        self.see("1,000 missing, slugs took the trays")
        self.assertEqual(OrderLine.objects.get().state, "short")

    def test_a_count_on_a_phone_with_one_hand_is_saved_once(self) -> None:
        seed_lot(self.ctx)
        advance(self.ctx, date(2027, 7, 2))
        batch = self.plan(order="61", due="2027-W33")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        sowings.sown(self.ctx, batch.pk, on=sow)
        advance(self.ctx, batch.stages.get(key="germinate").planned.upper)
        self.size(390, 844)
        self.sign_in()
        self.open(f"/batches/{batch.pk}?do=count")
        self.see("Good seedlings, tray by tray")
        save = self.named("button", "Save the count")
        self.assertGreaterEqual(save.size["height"], 44)
        for tray, found in enumerate((210, 214, 208), start=1):
            control = self.field(f"Tray {tray}")
            self.assertGreaterEqual(control.size["height"], 44)
            self.assertEqual(control.get_attribute("inputmode"), "numeric")
            self.fill(f"Tray {tray}", str(found))
        self.see("88 %")
        self.press("Save the count")
        self.until(lambda: Count.objects.count() == 1, "the saved count")
        self.see("632 of 720 cells, 88 %, in 3 trays")
        self.assertEqual(Count.objects.count(), 1)
        wide = self.driver.execute_script("return document.documentElement.scrollWidth")
        self.assertLessEqual(wide, 390)

    def test_a_sowing_typed_wrong_is_corrected_on_its_batch_and_found_again_by_its_customer(self) -> None:
        seed_lot(self.ctx, grams=900)
        batch = self.plan(order="62", customer="Wick Lane", quantity="1900", due="2027-W33")
        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        self.ctx.sure = frozenset({ANYTHING})
        sowings.sown(self.ctx, batch.pk, on=self.ctx.today, trays=90, grams=43)
        self.sign_in()
        self.open("/orders/customers")
        self.press("Wick Lane")
        self.see("1 line open")
        self.press(batch.code)
        self.press("Correct the sowing")
        self.assertFalse(self.named("button", "Correct it").is_enabled(), "nothing is another yet")
        self.fill("Trays", "9")
        self.fill("Grams", "4.3")
        self.press("Correct it")
        self.see("Say why it is corrected")
        self.fill("Why", "one nought too many")
        self.press("Correct it")
        self.see("Corrected the sowing of")
        batch.refresh_from_db()
        self.assertEqual((batch.trays, batch.start), (9, 9 * 240))

    def test_long_work_is_watched_stopped_and_read_by_somebody_else(self) -> None:
        seed_lot(self.ctx, grams=900)
        rows = [order_row(order=str(700 + n), quantity=str(400 + n), due=f"2027-W{34 + n}") for n in range(6)]
        orders.take_in(self.ctx, rows)
        with patch("aldrip.batches.long_work.INLINE", 2), patch("aldrip.batches.long_work.STEP", 2):
            client = Client()
            assert self.ctx.user is not None
            client.force_login(self.ctx.user)
            told = client.post("/api/batches/plan-lines", {}, content_type="application/json", headers=SURE).json()
            job = Job.objects.get(pk=told["job"])
            self.sign_in()
            self.open("/batches")
            self.see("Waits its turn")
            planned = long_work.plan_lines

            def as_it_goes(ctx: Any, ids: Any) -> Any:
                if Job.objects.get(pk=job.pk).done == 2:
                    self.see("Planned 2 of 6")
                    self.driver.refresh()
                    self.see("Planned 2 of 6")
                    self.press("Stop")
                    self.until(lambda: Job.objects.get(pk=job.pk).cancel_asked, "the wish to stop")
                return planned(ctx, ids)

            with patch.object(long_work, "plan_lines", as_it_goes):
                services.run(job.pk)
        self.see("cancelled")
        self.assertEqual(OrderLine.objects.exclude(allocations=None).count(), 4)
