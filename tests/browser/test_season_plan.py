"""A season planned from sixty lines to what is to be bought, as one afternoon at the desk."""

from pathlib import Path
from tempfile import TemporaryDirectory
from unittest.mock import patch

from selenium.webdriver.support.ui import Select

from aldrip.batches import levelling
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.jobs import services
from aldrip.jobs.models import Job
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from tests.browser.driver import BrowserCase
from tests.server.house import order_row, seed_lot

CROPS = ("Pak choi", "Zinnia", "Endive")


class SeasonPlan(BrowserCase):
    def over(self) -> float:
        """What is over on all places, summed by day, as shares of them."""
        ground = Ground(self.ctx)
        lanes = [lane for lane in ground.lanes.values() if lane.usable and not lane.place.whole]
        return sum(float((lane.load / (lane.usable or 1) - 1).clip(0).sum()) for lane in lanes)

    def level(self) -> None:
        self.open("/batches?view=board&span=2027-07-05.182")
        self.press("Level")
        self.press("Look for moves")
        self.until(lambda: Job.objects.filter(state="waiting").exists(), "the job")
        with patch.object(levelling, "SECONDS", 5.0):
            services.run(Job.objects.get(state="waiting").pk)
        self.see("takes away")
        self.press("See what")
        self.see("Proposed")

    def test_succession_levelled_asked_by_telephone_and_bought_for(self) -> None:
        for crop in ("pak-choi", "zinnia"):
            seed_lot(self.ctx, crop, grams=9000)
        rows = [
            order_row(order=str(n), crop=CROPS[n % 3], quantity=str(2500 + 400 * (n % 4)), due=f"2027-W{34 + n // 4}")
            for n in range(60)
        ]
        plan_lines(self.ctx, orders.take_in(self.ctx, rows))
        Place.objects.filter(kind="bench").update(capacity=40)
        self.sign_in()
        self.open("/orders")
        self.press("A succession")
        self.choose("Crop", "Pak choi")
        for label, text in (("How many each time", "600"), ("First harvest", "week 40"), ("Last harvest", "week 44")):
            self.fill(label, text)
        self.press("Work it out")
        self.press("Enter 5 order lines")
        self.fill("Customer", "own use")
        self.press("Save and plan")
        self.until(lambda: Batch.objects.count() == 65, "five batches more")
        before, versions = self.over(), dict(Batch.objects.values_list("pk", "version"))
        self.assertGreater(before, 1)
        self.level()
        self.press("Drop")
        self.gone("Proposed")
        self.assertEqual(dict(Batch.objects.values_list("pk", "version")), versions)
        self.level()
        self.press("Keep")
        self.see("Kept.")
        self.assertLess(self.over(), before)
        self.open("/orders")
        self.press("Can we take it?")
        self.choose("Crop", "Pak choi")
        self.fill("How many", "400")
        self.fill("When", "week 50")
        self.press("Work it out")
        self.see("Yes")
        self.press("Take the order")
        self.fill("Customer", "Corner Farm")
        self.press("Save and plan")
        self.until(
            lambda: OrderLine.objects.filter(order__customer="Corner Farm", chance__gt=0.9).exists(), "the order"
        )
        self.two_lines_are_asked_kept_and_entered()
        self.open("/orders")
        self.press("How sure is it?")
        self.see("lines missed, in so many of 100 futures")
        self.open("/lots?view=buy")
        self.see("Endive")
        paper = self.named("a", "Print the list")
        self.assertTrue(self.got(str(paper.get_attribute("href"))).startswith("%PDF"))

    def test_weather_comes_by_file_and_two_proposals_are_compared(self) -> None:
        seed_lot(self.ctx)
        plan_lines(self.ctx, orders.take_in(self.ctx, [order_row()]))
        batch = Batch.objects.get()
        self.sign_in()
        self.open("/places?weather=1")
        self.see("Nothing was read and nothing is forecast")
        with TemporaryDirectory() as folder:
            days = Path(folder) / "days.csv"
            days.write_text("date,lowest,highest\n2027-07-05,12,24\n2027-07-07,14,31\n", encoding="utf-8")
            self.driver.execute_script("return document.querySelector('input[type=file]')").send_keys(str(days))
            self.see("1 day read and 1 day forecast")
            days.write_text("date,lowest,highest\n2027-07-05,12,9\n", encoding="utf-8")
            self.driver.execute_script("return document.querySelector('input[type=file]')").send_keys(str(days))
            self.see("Row 2: The highest, 9 °C, is below the lowest, 12 °C.")
        self.press("let the forecast go")
        self.see("1 day of forecast let go.")
        self.open(f"/batches/{batch.pk}")
        self.press("wanted 95 %")
        self.fill("One too many costs", "0.04")
        self.fill("One missing costs", "3.96")
        self.press_last("See what it does")
        self.see("for a chance of 99.0 %")
        self.press("Set aside")
        self.see("Side by side")
        self.fill("Chance wanted", "80")
        self.press("See what it does")
        self.see("for a chance of 80.0 %")
        self.see("What is proposed below")
        self.press("take up A")
        self.see("for a chance of 99.0 %")
        self.press("Keep")
        self.see("Kept.")
        batch.refresh_from_db()
        self.assertAlmostEqual(batch.chance_wanted, 0.99)
        self.gone("Side by side")
        self.assertEqual(self.complaints(), [])

    def press_last(self, name: str) -> None:
        """Of several buttons of a name the last."""
        self.until(
            lambda: [one for one in self.driver.find_elements("css selector", "button") if one.text == name], name
        )[-1].click()

    def two_lines_are_asked_kept_and_entered(self) -> None:
        self.open("/orders")
        self.press("Can we take it?")
        self.choose("Crop", "Pak choi")
        self.fill("How many", "500")
        self.fill("When", "week 50")
        self.press("Another line")
        self.see("leave line 2 out")
        crop, many, when = self.driver.execute_script(
            "return [...document.querySelectorAll('fieldset:nth-of-type(2) :is(select, input)')].filter((_, n) => n !== 1)"
        )
        Select(crop).select_by_visible_text("Endive")
        many.send_keys("300")
        when.send_keys("week 51")
        self.press("Work it out")
        self.see("Yes, both together, if the seed is there.")
        self.fill("Who asks", "Elm Farm")
        self.press("Keep the question")
        self.see("500 pak choi for week 50; 300 endive for week 51")
        self.press("Go on with it")
        self.see("The question of Elm Farm")
        self.press("Enter these 2 lines")
        lines = OrderLine.objects.filter(order__customer="Elm Farm")
        self.until(lambda: lines.filter(chance__gt=0.9).count() == 2, "both lines are planned")
        self.open("/orders")
        self.gone("Go on with it")

    def got(self, address: str) -> str:
        """The first letters of what a link gives."""
        script = "const [at, done] = arguments; fetch(at).then((r) => r.text()).then((t) => done(t.slice(0, 8)))"
        return str(self.driver.execute_async_script(script, address))
