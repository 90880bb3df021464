"""Seed through the real interface: one promise to its quality declaration, a refusal, and a count without a server."""

import json
from datetime import date

from selenium.webdriver.common.by import By

from aldrip.accounts.models import Role
from aldrip.batches.models import Batch
from aldrip.deliveries.models import Document
from aldrip.lots.models import Lot
from aldrip.lots.moving import shown_of
from aldrip.methods.services import save_field_standard, save_rule
from aldrip.orders.models import OrderLine
from aldrip.seedcrops.models import BlockSowing, Inspection, InspectionCount, SeedBlock
from aldrip.seedcrops.neighbours import NeighbourSpec, record_neighbour
from tests.browser.driver import BrowserCase
from tests.server.house import advance, member
from tests.server.seed_house import FIELD_STANDARD, NEAR, SPRING, make_seed_house, parent_seed, sunflower

# Few plants an area, so that a browser may count them all.
SMALL = {
    **FIELD_STANDARD,
    "plants_per_area": 20,
    "limits": [
        {
            "attribute": "off_types",
            "words": "off-types",
            "limit": 0.05,
            "decision": "reject_number",
            "is_plant": True,
            "cures": True,
        },
        {
            "attribute": "diseased",
            "words": "diseased",
            "limit": 0.05,
            "decision": "plain_max",
            "is_plant": True,
            "cures": False,
        },
    ],
}


class SeedBrowserCase(BrowserCase):
    def setUp(self) -> None:
        super().setUp()
        advance(self.ctx, SPRING)
        make_seed_house(self.ctx)
        save_field_standard(self.ctx, {"crop_id": sunflower().pk, **SMALL})
        parent_seed(self.ctx, "AA-1")
        parent_seed(self.ctx, "RR-2", label="B-2")

    def enter_order(self) -> Batch:
        self.press("Orders")
        self.press("New order")
        self.fill("Customer", "Westmark")
        self.fill("Crop", "Sunflower")
        self.fill("Cultivar", "Testhybrid")
        self.choose("Class", "certified 1")
        self.fill("Quantity", "1.2 t")
        self.fill("Due", "2027-W44")
        self.fill("Until", "2027-W46")
        self.press("Save and plan")
        return self.until(lambda: Batch.objects.filter(line__name="Testhybrid").first(), "the planned batch")

    def lay_out(self, batch: Batch) -> SeedBlock:
        self.open(f"/seedcrops?batch={batch.pk}")
        self.choose("Field", "Long field")
        self.press("Lay it out")
        self.see("Rows and flowering")
        return SeedBlock.objects.get(batch=batch)

    def sow(self, block: SeedBlock, line: str, kilos: str, day: date) -> None:
        done = BlockSowing.objects.count()
        self.open(f"/seedcrops/{block.pk}")
        self.see("Sowing record")
        if not self.driver.find_elements(By.CSS_SELECTOR, "details[open] form"):
            self.press("Record a sowing")
        self.choose("Line", line)
        self.choose("From lot", line)
        self.fill("Kilos", kilos)
        self.fill_day("Sown on", day)
        self.press("Record", "details[open] button[type=submit]")
        self.until(lambda: BlockSowing.objects.count() == done + 1, f"the sowing of {line}")

    def tap(self, words: str) -> None:
        self.press(words, "button.tap")

    def count_in_full(self, visit: Inspection, off_types: int = 0) -> None:
        self.open(f"/seedcrops/inspections/{visit.pk}")
        self.press("Begin the count")
        self.see("Carry on")
        areas = Inspection.objects.get(pk=visit.pk).areas
        for area in range(1, areas + 1):
            for _ in range(off_types if area == 1 else 0):
                self.tap("+1 off-types")
            self.tap("+10 plants")
            self.tap("+10 plants")
            if area < areas:
                self.press(f"Close area {area}")
        wanted = areas * 20 + off_types
        self.until(lambda: _counted(visit) == wanted, f"{wanted} plants counted on the server")

    def sign(self, visit: Inspection, words: str, decision: str) -> None:
        self.press("Decide and sign")
        self.press(words)
        self.until(
            lambda: Inspection.objects.get(pk=visit.pk).decision == decision, f"the visit to be signed {decision}"
        )

    def grown(self) -> SeedBlock:
        """An order entered, laid out and sown through the interface."""
        batch = self.enter_order()
        block = self.lay_out(batch)
        advance(self.ctx, date(2027, 4, 16))
        self.sow(block, "F", "6.4 kg", date(2027, 4, 15))
        self.sow(block, "M", "4 lb", date(2027, 4, 16))
        return block

    def clean_seed(self, block: SeedBlock) -> Lot:
        """The male out, a load, dried and cleaned, through the interface."""
        advance(self.ctx, date(2027, 9, 14))
        self.open(f"/seedcrops/{block.pk}/harvest")
        self.see("Barred: the male stands")
        self.press("The male is out")
        self.see("The female may be cut")
        self.fill("Gross", "9.2 t")
        self.fill("Tare", "7200")
        self.fill("Moisture", "12.5")
        self.field("Combine and trailers").click()
        self.press("Take it in")
        raw = self.until(lambda: Lot.objects.filter(status="raw").first(), "the raw lot")
        self.open(f"/lots?lot={raw.pk}")
        self.fill("Dried to", "9")
        self.press("It is dry")
        self.until(lambda: Lot.objects.get(pk=raw.pk).moisture_percent == 9, "the lot to be dry")
        balance = shown_of(Lot.objects.get(pk=raw.pk))
        self.open(f"/lots?lot={raw.pk}")
        self.fill("Clean seed", "1700 kg")
        self.fill("Screenings", f"{balance - 1705:.1f} kg")
        self.press("It is cleaned")
        return self.until(lambda: Lot.objects.filter(status="clean").first(), "the clean lot")

    def result(self, lot: Lot, test: str, **fields: str) -> None:
        before = lot.test_results.count()
        self.open(f"/lots?lot={lot.pk}")
        self.see("Laboratory")
        if not self.driver.find_elements(By.CSS_SELECTOR, "[role=group][aria-label=Test]"):
            self.press("Enter a result")
        self.until(lambda: self.named("summary", "Enter a result"), "the form")
        if not self.driver.find_element(By.CSS_SELECTOR, "[aria-label=Test]").is_displayed():
            self.press("Enter a result")
        self.press(test, "[aria-label=Test] button")
        for label, text in fields.items():
            self.fill(label, text)
        self.press("Record the result")
        self.until(lambda: lot.test_results.count() == before + 1, f"the {test} result")


def _counted(visit: Inspection) -> int:
    rows = InspectionCount.objects.filter(inspection=visit, replaced_by=None)
    return sum(row.plants + sum(row.faults.values()) for row in rows)


class AtAnotherTime(SeedBrowserCase):
    def test_other_sowing_days_are_proposed_with_what_they_do_and_kept(self) -> None:
        self.sign_in()
        block = self.lay_out(self.enter_order())
        save_rule(
            self.ctx,
            {
                "crop_id": sunflower().pk,
                "seed_class": "certified-1",
                "step": "hybrid",
                "kind": "other cultivar",
                "metres": 500,
                "time_allowed": True,
                "time_margin_days": 10,
                "source": "invented",
            },
        )
        record_neighbour(
            self.ctx,
            NeighbourSpec(
                "Fallow Bank",
                sunflower().pk,
                "other cultivar",
                2027,
                self.ctx.today,
                corners_m=NEAR,
                flowers_from=date(2027, 7, 1),
                flowers_to=date(2027, 7, 20),
            ),
        )
        self.open(f"/seedcrops/{block.pk}/isolation")
        self.see("80 m too close")
        self.press("Propose these days")
        self.see("Seed ready")
        female = self.field("Sow F").get_attribute("value")
        self.press("Keep")
        self.gone("Proposed")
        block.refresh_from_db()
        kept = block.parents.get(role="F").sow_on
        self.assertEqual(female, f"{kept:%a} {kept.day} {kept:%b} {kept.year}")
        self.open(f"/seedcrops/{block.pk}/isolation")
        self.see("or flowers at another time")

    def test_a_day_that_cannot_be_read_is_told_and_changes_nothing(self) -> None:
        self.sign_in()
        block = self.lay_out(self.enter_order())
        before = block.parents.get(role="M").sow_on
        self.open(f"/seedcrops/{block.pk}")
        self.fill("Sow M", "31 Feb")
        self.field("Pattern").click()
        self.see("Write a day such as")
        self.fill("Bearing", "north")
        self.field("Pattern").click()
        self.see("“north” is no number; nothing changed.")
        self.fill("Sow M", "Wed week 18")
        self.field("Pattern").click()
        self.see("Proposed")
        self.press("Drop")
        self.until(
            lambda: self.field("Sow M").get_attribute("value") == f"{before:%a} {before.day} {before:%b} {before.year}",
            "the day to stand as before",
        )
        self.assertEqual(block.parents.get(role="M").sow_on, before)


class WhereFingersPoint(SeedBrowserCase):
    def test_a_day_is_picked_in_the_devices_own_calendar_and_nothing_is_too_small_to_hit(self) -> None:
        self.sign_in()
        block = self.lay_out(self.enter_order())
        advance(self.ctx, date(2027, 4, 16))
        self.size(390, 844)
        touch = "Emulation.setTouchEmulationEnabled"
        self.driver.execute_cdp_cmd(touch, {"enabled": True, "maxTouchPoints": 1})
        self.addCleanup(self.driver.execute_cdp_cmd, touch, {"enabled": False})
        self.open(f"/seedcrops/{block.pk}")
        self.see("Sowing record")
        day = self.field("Sown on")
        self.assertEqual(day.get_attribute("type"), "date")
        day.send_keys("04152027")
        self.see("Thu 15 Apr 2027, week 15")
        shown = [
            one
            for one in self.driver.find_elements(By.CSS_SELECTOR, "main .btn, main .input, main summary")
            if one.is_displayed()
        ]
        self.assertGreater(len(shown), 4)
        low = [(one.tag_name, one.text, one.size["height"]) for one in shown if one.size["height"] < 44]
        self.assertEqual(low, [])


class FromPromiseToDeclaration(SeedBrowserCase):
    def test_one_order_of_hybrid_seed_from_entry_to_quality_declaration(self) -> None:
        self.sign_in()
        block = self.grown()
        self.see("of the metres female")
        self.see("of the days on which the female is receptive have pollen")

        # The neighbour is entered, is too near, and the strip is left.
        self.open(f"/seedcrops/{block.pk}/isolation")
        self.press("Enter a neighbour")
        self.fill("Whose field", "Fallow Bank")
        self.choose("What it is", "other cultivar")
        self.fill("Outline", "\n".join(f"{x:g} {y:g}" for x, y in NEAR))
        self.press("Put it on the map")
        self.see("80 m too close")
        self.see("short of the 1,200 kg promised")
        self.see("takes no other time")
        self.see("Drop to quality-declared")
        drawn = (By.CSS_SELECTOR, ".map-line")
        self.until(lambda: len(self.driver.find_elements(*drawn)) == 1, "one line on the map")
        self.press("no longer there")
        self.fill("Why", "ploughed in")
        self.press("Take it off the map")
        self.see("nothing was measured")  # nobody else is near any more

        # Three visits; the first rejects and passes after roguing.
        first, second, third = block.inspections.order_by("number")
        advance(self.ctx, date(2027, 6, 28))
        self.count_in_full(first, off_types=13)
        self.see("Reject")
        self.sign(first, "Rogue and inspect again", "rogue")
        again = Inspection.objects.get(follows=first)
        advance(self.ctx, date(2027, 7, 1))
        self.count_in_full(again, off_types=1)
        self.see("Within the limits")
        self.sign(again, "Accept the field", "accept")
        for visit, day in ((second, date(2027, 7, 20)), (third, date(2027, 8, 20))):
            advance(self.ctx, day)
            self.count_in_full(visit)
            self.sign(visit, "Accept the field", "accept")

        lot = self.clean_seed(block)
        self.result(lot, "Germination", **{"Normal seedlings": "93, 92, 94, 91"})
        self.result(lot, "Purity", **{"Pure seed, g": "99.1", "Inert": "0.7", "Other seed, g": "0.2"})
        self.result(lot, "Moisture", **{"Two duplicates": "8.9, 9.0"})
        self.open(f"/lots?lot={lot.pk}")
        self.see("Every result meets the standard")
        self.press("Release")
        self.see("Our own label")
        self.see("sown with")  # the descent reaches back to the parent seed

        # Handed over with its papers.
        advance(self.ctx, date(2027, 11, 2))
        self.open("/deliveries")
        self.press("Hand over")
        self.see("1,200 kg wanted")
        self.press("Hand over and write the note")
        self.see("Print the quality declaration")
        link = self.named("a", "Print the quality declaration").get_attribute("href") or ""
        document = Document.objects.get(kind="quality declaration")
        self.assertIn(f"/deliveries/{document.delivery_id}/quality-declaration.pdf", link)
        self.assertEqual(document.payload["lots"][0]["code"], lot.code)
        self.assertEqual(OrderLine.objects.get().state, "delivered")
        self.assertEqual(self.complaints(), [])


class RefusedAtRelease(SeedBrowserCase):
    def test_another_is_refused_at_release_with_the_words_that_say_what_is_missing(self) -> None:
        self.sign_in()
        block = self.grown()
        lot = self.clean_seed(block)
        self.result(lot, "Purity", **{"Pure seed, g": "99.1", "Inert": "0.7", "Other seed, g": "0.2"})
        self.open(f"/lots?lot={lot.pk}")
        self.see("Held: germination was not tested; moisture was not tested.")
        self.see("Field inspection “before flowering” is not signed.")
        self.press("Release")
        self.see("Cannot be released: field inspection “before flowering” is not signed")
        block.inspections.update(state="signed", decision="accept")
        self.press("Release")
        self.see("Cannot be released: germination was not tested; moisture was not tested. Enter the result first.")
        self.assertEqual(Lot.objects.get(pk=lot.pk).status, "clean")
        self.assertEqual(self.axe(), [])


class OnThePhone(SeedBrowserCase):
    def begun(self) -> Inspection:
        member(self.ctx, "wren", Role.INSPECTOR)
        self.sign_in()
        block = self.grown()
        self.driver.delete_all_cookies()
        advance(self.ctx, date(2027, 6, 28))
        self.size(390, 844)
        self.open("/")
        self.fill("Name", "wren")
        self.fill("Password", "a long password")
        self.press("Sign in")
        self.see("Sign out")
        visit = block.inspections.get(number=1)
        self.open(f"/seedcrops/inspections/{visit.pk}")
        self.press("Begin the count")
        self.see("Carry on")
        return visit

    def test_one_thumb_reaches_everything_and_what_was_counted_without_a_server_arrives_once(self) -> None:
        visit = self.begun()
        measured = json.loads(
            self.driver.execute_script(
                "return JSON.stringify([document.documentElement.scrollWidth, [...document.querySelectorAll('button.tap')].map(b => {"
                "const r = b.getBoundingClientRect(); return [r.width, r.height, r.left, r.right, r.bottom]})])"
            )
        )
        self.assertLessEqual(measured[0], 390)
        for width, height, left, right, bottom in measured[1]:
            self.assertGreaterEqual(min(width, height), 60)
            self.assertTrue(left >= 0 and right <= 390 and bottom <= 844, measured[1])
        self.assertEqual(self.axe(), [])

        self.tap("+10 plants")
        self.until(lambda: _counted(visit) == 10, "the first tap on the server")
        self.see("Everything has arrived")  # its answer too
        self.stop_server()
        for _ in range(3):
            self.tap("+1 off-types")
        self.tap("diseased")
        self.press("Take back last")
        self.see("No signal since")
        self.see("5 entries kept here")
        self.see("3 off-types in 13 plants")
        self.assertEqual(_counted(visit), 10)
        self.start_server()
        self.see("Everything has arrived")
        self.assertEqual(_counted(visit), 13)
        self.assertEqual(InspectionCount.objects.filter(inspection=visit).count(), 6)
        # Loaded anew, the sheet says the same, and nothing is sent twice.
        self.open(f"/seedcrops/inspections/{visit.pk}")
        self.see("3 off-types in 13 plants")
        self.assertEqual(InspectionCount.objects.filter(inspection=visit).count(), 6)

    def test_what_was_counted_after_the_visit_was_signed_is_kept_and_shown(self) -> None:
        visit = self.begun()
        self.stop_server()
        self.tap("+10 plants")
        self.see("1 entry kept here")
        Inspection.objects.filter(pk=visit.pk).update(state="signed", decision="accept")
        self.start_server()
        self.see("is signed. What you counted since stays on this phone")
        self.assertEqual(_counted(visit), 0)
        self.open(f"/seedcrops/inspections/{visit.pk}")
        self.see("1 entries were made after signing")


class ViewsOfSeed(SeedBrowserCase):
    def test_axe_finds_nothing_on_the_views_of_a_block_and_the_browser_complains_of_nothing(self) -> None:
        self.sign_in()
        block = self.lay_out(self.enter_order())
        for path, words in (
            ("/seedcrops", "Testhybrid"),
            (f"/seedcrops/{block.pk}", "Flowering"),
            (f"/seedcrops/{block.pk}/isolation", "Nearby"),
            (f"/seedcrops/{block.pk}/harvest", "Field inspections"),
            ("/methods", "yours stand over what ships"),
        ):
            self.open(path)
            self.see(words)
            self.assertEqual(self.axe(), [], path)
        self.assertEqual(self.complaints(), [])

    def test_a_change_of_the_layout_is_a_proposal_drawn_before_it_is_kept(self) -> None:
        self.sign_in()
        block = self.lay_out(self.enter_order())
        self.fill("Pattern", "FFMM\n")
        self.see("Change the layout")
        self.see("Female share")
        self.assertEqual(SeedBlock.objects.get(pk=block.pk).pattern, "FFFFMM")
        self.press("Keep")
        self.until(lambda: SeedBlock.objects.get(pk=block.pk).pattern == "FFMM", "the layout to be kept")
        self.gone("Change the layout")
        self.fill("Border rows", "90\n")
        self.see("cannot be here")
        self.press("Drop")
        self.gone("cannot be here")
