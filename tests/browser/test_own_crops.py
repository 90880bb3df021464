"""A grower whose crops do not ship plans them on the first day, through the screens alone."""

from datetime import date, timedelta

from django.core.management import call_command
from django.utils import timezone
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from aldrip.batches.models import Batch
from aldrip.methods.library import load_library
from aldrip.methods.models import Container, Crop, Line, Method, Mix, Standard
from aldrip.methods.writing import form_of, write_form
from tests.browser.driver import BrowserCase
from tests.browser.test_seed import SeedBrowserCase

STAGES = (
    ("Sown thick", "sow", {"Lasts": "0", "Counted in": "cells", "Stands in": "Potting shed"}),
    (
        "Up",
        "germinate",
        {"Lasts": "7", "Counted in": "cells", "Stands in": "Germination room", "Takes up": "its trays, counted"},
    ),
    (
        "Pricked out",
        "prick",
        {"Lasts": "24", "Keeps": "96", "Stands in": "Glasshouse bench", "Takes up": "the area of its trays"},
    ),
    ("Graded", "grade", {"Lasts": "0", "Keeps": "95", "Stands in": "Potting shed"}),
    ("Delivered", "dispatch", {"Lasts": "1", "Stands in": "Cold store", "Takes up": "the area of its trays"}),
)


class OwnSeedCrops(SeedBrowserCase):
    def order(self, crop: str, form: str, quantity: str, due: str, cultivar: str = "") -> Batch:
        self.open("/orders")
        self.press("New order")
        self.fill("Customer", "Westmark")
        self.fill("Crop", crop)
        if cultivar:
            self.fill("Cultivar", cultivar)
        self.choose("Form", form)
        self.fill("Quantity", quantity)
        self.fill("Due", due)
        self.press("Save and plan")
        return self.until(lambda: Batch.objects.filter(crop__name=crop).first(), "the planned batch")

    def test_a_new_species_is_drilled_for_seed_after_a_shipped_one(self) -> None:
        self.sign_in()
        self.open("/methods?kind=crop&act=new")
        for label, text in (
            ("Name", "Camelina"),
            ("Botanical name", "Camelina sativa"),
            ("Weight of a thousand seeds", "1.2"),
            ("Germination to reckon with", "90"),
            ("Least germination allowed", "80"),
            ("Sown at a depth of", "1 cm"),
        ):
            self.fill(label, text)
        self.press("Add it")
        self.press("Say how it is raised")
        self.choose("Begin with the stages of", "White lupin seed, drilled and combined")
        self.see("made after White lupin seed")
        self.assertEqual(self.field("Crop").get_attribute("value"), "camelina")
        self.fill("Name", "Camelina seed, drilled and combined")
        self.see("1,000 kg asked: start")
        self.press("Add it")
        self.see("your own, edition 1")
        method = Method.objects.get(crop__slug="camelina")
        self.assertEqual((method.way, method.layout["step"]), ("drilled", "open"))
        self.open("/methods?kind=line&act=new")
        self.fill("Name", "Goldlight")
        self.choose("Crop", "Camelina")
        self.press("Add it")
        self.see("your own, edition 1")
        batch = self.order("Camelina", "seed", "900 kg", "2028-W40", "Goldlight")
        self.assertEqual(batch.method, method)
        self.assertGreater(batch.start, 900 / 0.35)
        block = self.lay_out(batch)
        self.assertEqual(block.field.name, "Long field")
        self.open("/methods?kind=crop&row=camelina")
        self.see("Standards of seed")  # where the crop's seed rules are written
        self.check_seed_axe("seed crop in the library")

    def test_a_biennial_is_planned_over_its_winter_both_ways(self) -> None:
        self.sign_in()
        batch = self.order("Parsnip", "seed", "40 kg", "2029-W44")
        self.open(f"/batches/{batch.pk}")
        self.see("Wintered")
        sown, flowers = (batch.stages.get(key=key).planned.lower for key in ("sow", "flower"))
        self.assertGreater((flowers - sown).days, 300)
        self.assertGreater(flowers.year, sown.year)
        self.open("/methods?kind=method&row=biennial-roots-parsnip")
        self.see("Lifted and selected")
        self.see("Stored cold")

    def check_seed_axe(self, where: str) -> None:
        self.assertEqual(self.axe(), [], where)


class OwnCrops(BrowserCase):
    def empty_house(self) -> None:
        call_command("flush", interactive=False, verbosity=0)
        load_library()
        self.open("/")
        self.fill("What is the nursery called?", "Salad Yard")
        self.fill("Your name", "Ola Nord")
        self.fill("Name to sign in with", "ola")
        self.fill("Password", "quiet-harbour-9")
        self.fill("Latitude", "54.2")
        self.press("Set up")
        self.see("The season begins with a promise")

    def stage(self, number: int) -> WebElement:
        items = self.driver.find_elements(By.CSS_SELECTOR, 'section[aria-label="Stages"] > ol > li')
        self.assertGreater(len(items), number)
        return items[number]

    def write(self, at: WebElement, label: str, text: str) -> None:
        """Type or choose in a field of one stage."""
        for one in at.find_elements(By.TAG_NAME, "label"):
            if one.text.strip().startswith(label):
                control = one.find_element(By.CSS_SELECTOR, "input, select")
                if control.tag_name == "select":
                    control.find_element(By.XPATH, f'./option[normalize-space()="{text}"]').click()
                else:
                    control.send_keys(Keys.CONTROL, "a")
                    control.send_keys(text)
                return
        self.fail(f"no field {label}")

    def add(self, kind: str, button: str, **fields: str) -> None:
        self.open(f"/methods?kind={kind}&act=new")
        for label, text in fields.items():
            self.fill(label.replace("_", " "), text)
        self.press(button)
        self.see("your own, edition 1")

    def test_purslane_pricked_out_from_an_unknown_crop_to_its_card(self) -> None:
        self.empty_house()
        due = timezone.localdate() + timedelta(weeks=10)
        week = f"{due.isocalendar().year}-W{due.isocalendar().week:02d}"
        self.open("/orders/import")
        rows = "".join(f"{n}\tMarket {n}\tWinter purslane\tRed leaf\tplug\t{n}00\t{week}\n" for n in range(14, 18))
        box = self.field("Paste rows")
        self.driver.execute_script(
            "const set = Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set;"
            "set.call(arguments[0], arguments[1]); arguments[0].dispatchEvent(new Event('input', {bubbles: true}))",
            box,
            f"Order\tCustomer\tCrop\tCultivar\tForm\tQuantity\tDue\n{rows}",
        )
        self.press("Read what is pasted")
        self.see("4 rows, Crop")
        self.press("add it as a crop")
        self.see("A new crop")
        self.assertEqual(self.field("Name").get_attribute("value"), "Winter purslane")
        self.fill("Weight of a thousand seeds", "0.04 oz")
        self.fill("Germination to reckon with", "190")
        self.press("Add it")
        self.see("190 % cannot be; 0 to 100 %.")
        self.see("1 field needs mending")
        self.fill("Germination to reckon with", "90")
        self.fill("Where do these values come from?", "packet of the seed house")
        self.press("Add it")
        self.see("No method raises winter purslane yet")
        self.see("packet of the seed house")
        self.assertAlmostEqual(Crop.objects.get(slug="winter-purslane").tgw_g or 0, 1.134, places=3)

        self.add(
            "container",
            "Add it",
            Name="Tray of 60",
            Cells="60",
            A_cell_holds="45 ml",
            Length="60",
            Width="40 cm",
            Depth="5",
        )
        self.add("mix", "Add it", Name="Peat-free mix", Parts_by_volume="bark 2, coir 1")
        self.assertEqual(Mix.objects.get(slug="peat-free-mix").parts, {"bark": 2, "coir": 1})
        self.standard()

        self.open("/methods?kind=method&act=new&crop=winter-purslane")
        self.fill("Name", "Purslane, sown thick and pricked out")
        self.fill("Form", "plug")
        self.choose("Container", "Tray of 240")
        self.choose("Mix", "Peat-free mix")
        self.choose("Standard", "Salad plugs")
        self.press("Put the first stage in")
        for number, (name, kind, fields) in enumerate(STAGES):
            if number:
                self.press_in(self.stage(number - 1), "put a stage in after this one")
                self.until(
                    lambda n=number: (
                        len(self.driver.find_elements(By.CSS_SELECTOR, 'section[aria-label="Stages"] > ol > li')) > n
                    ),
                    "a stage",
                )
            self.write(self.stage(number), "Stage", name)
            self.write(self.stage(number), "Kind", kind)
            for label, text in fields.items():
                self.write(self.stage(number), label, text)
        self.press_in(self.stage(2), "more of it")
        self.write(self.stage(2), "Other container", "Tray of 60")
        self.see("1,000 plants asked: start")
        self.check_axe("method editor")
        self.write(self.stage(2), "Keeps", "130")
        self.press("Add it")
        self.see("130 % cannot be")
        self.write(self.stage(2), "Keeps", "96")
        self.press("Add it")
        self.see("your own, edition 1")
        self.check_axe("own method")
        method = Method.objects.get(crop__slug="winter-purslane")
        self.assertEqual(
            [stage.key for stage in method.stages.all()], ["sow", "germinate", "prick", "grade", "dispatch"]
        )
        self.assertEqual(method.stages.get(key="prick").container, Container.objects.get(slug="tray-of-60"))

        self.press("Go on with them")
        self.see("4 rows, Cultivar")
        self.press("Add Red leaf")
        self.see("no problem")
        self.press("Take in and plan 4 lines")
        self.see("Market 17")
        self.assertEqual(Batch.objects.filter(crop__slug="winter-purslane", state="planned").count(), 4)
        self.assertTrue(Line.objects.filter(name="Red leaf", crop__slug="winter-purslane").exists())
        batch = Batch.objects.order_by("-start")[0]
        self.assertGreater(batch.start, 1700 / 0.9 / 0.95 / 0.96 / 0.95)
        self.assertLessEqual(
            max(stage.planned.upper for stage in batch.stages.all()), date.fromisocalendar(*due.isocalendar()[:2], 7)
        )
        self.open(f"/batches/{batch.pk}")
        self.see("Pricked out")
        self.open(f"/sowing?card={batch.pk}")
        self.see("Peat-free mix")
        self.see("Winter purslane")

    def test_rows_come_in_as_yaml_all_of_them_or_none(self) -> None:
        self.sign_in()
        self.open("/methods?kind=crop&act=yaml")
        self.fill("Rows", "- {row: crop, name: Cress, tgw_g: 2.3, germination: 190}")
        self.press("See what it would change")
        self.see("190 % cannot be")
        self.see("nothing is saved before")
        self.fill("Rows", "- {row: crop, name: Cress, tgw_g: 2.3, germination: 90}")
        self.press("See what it would change")
        self.press("Save 1 row")
        self.see("Saved: 1 row.")
        self.check_axe("YAML")
        self.assertEqual(Crop.objects.get(slug="cress").germination, 0.9)

    def standard(self) -> None:
        self.open("/methods?kind=standard&act=new")
        self.fill("Name", "Salad plugs")
        self.fill("Form", "plug")
        self.press("add limits")
        self.fill("What is judged", "height")
        self.fill("At least", "4")
        self.fill("At most", "8")
        self.fill("Unit", "cm")
        self.press("Add it")
        self.see("your own, edition 1")
        self.assertEqual(Standard.objects.get(slug="salad-plugs").limits[0]["attribute"], "height")

    def press_in(self, at: WebElement, name: str) -> None:
        for one in at.find_elements(By.CSS_SELECTOR, "button, summary"):
            if one.text.strip().startswith(name):
                self.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", one)
                one.click()
                return
        self.fail(f"no {name}")

    def check_axe(self, where: str) -> None:
        self.assertEqual(self.axe(), [], where)

    def test_a_shipped_value_is_changed_seen_beside_its_own_and_taken_back(self) -> None:
        self.sign_in()
        self.open("/methods?kind=crop&row=endive")
        self.see("ships with Aldrip")
        self.press("Change")
        self.fill("Germination to reckon with", "71")
        self.fill("Why is it changed?", "two poor lots")
        self.press("Save the change")
        self.see("your own, edition 1, over one that ships")
        self.see("ships as 85 %")
        self.press("What it was before")
        self.see("two poor lots")
        self.see("now 0.71")
        self.press("Take back")
        self.see("edition 2")
        self.gone("ships as 85 %")
        self.press("Retire")
        self.fill("Why", "not grown any more")
        self.press("Retire it")
        self.see("retired")
        self.size(390, 844)
        self.check_axe("methods on a phone")


class BetweenTwo(BrowserCase):
    """One form, two people, and no signal: nothing typed is lost, and whoever is second chooses."""

    def germination(self) -> float | None:
        own = Crop.objects.filter(slug="endive", organisation=self.ctx.organisation).first()
        return own.germination if own else None

    def test_the_second_sees_what_the_first_changed_and_what_was_typed_outlives_a_lost_page(self) -> None:
        self.sign_in()
        page = "/methods?kind=crop&row=endive&act=change"
        self.open(page)
        self.fill("Germination to reckon with", "70")
        typed = form_of(self.ctx, "crop", "endive")["typed"]
        write_form(self.ctx, "crop", "endive", {**typed, "germination": "81"})
        self.press("Save the change")
        self.see("Somebody changed it while you typed. Yours is not saved")
        self.see("is 81 now")
        self.assertEqual(self.axe(), [])
        self.press("Take theirs and go on from there")
        self.until(lambda: self.field("Germination to reckon with").get_attribute("value") == "81", "their figure")
        self.fill("Germination to reckon with", "72")
        self.until(
            lambda: (
                "72"
                in self.driver.execute_script(
                    "return Object.entries(sessionStorage).filter(([key]) => key.startsWith('draft')).join()"
                )
            ),
            "the draft",
        )
        self.open("/lots")
        self.open(page)
        self.see("What you had typed and not saved is here again")
        self.driver.execute_cdp_cmd("Network.enable", {})
        line = {"latency": 0, "downloadThroughput": -1, "uploadThroughput": -1}
        self.driver.execute_cdp_cmd("Network.emulateNetworkConditions", {"offline": True, **line})
        self.press("Save the change")
        self.see("No signal here: nothing was sent")
        self.assertEqual(self.germination(), 0.81)
        self.driver.execute_cdp_cmd("Network.emulateNetworkConditions", {"offline": False, **line})
        self.press("Save the change")
        self.until(lambda: self.germination() == 0.72, "what was typed to be saved")
        self.see("your own, edition 2")
        self.open(page)
        self.see("Change Endive")
        self.assertNotIn("here again", self.text())
