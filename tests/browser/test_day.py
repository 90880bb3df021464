"""The jobs of a day and how many presses they cost, by mouse, by keys alone and by a thumb; and a day whose server comes and goes."""

import uuid
from datetime import date
from typing import Any

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from aldrip.batches import counts, sowings
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.starting import plan_lines
from aldrip.deliveries.models import Delivery
from aldrip.diary.models import Count, Task
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from aldrip_core.forecast import TrayCount
from tests.browser.driver import BrowserCase
from tests.server.house import advance, order_row, seed_lot

#: True once the work has kept its height for a look or two.
STILL = "const h = document.getElementById('work').scrollHeight, was = window.__was; window.__was = h; return h === was"


class Day(BrowserCase):
    def furnish(self) -> Batch:
        """Pak choi that was sown a week ago, and endive that is planned."""
        seed_lot(self.ctx, grams=900)
        advance(self.ctx, date(2027, 6, 28))
        rows = [
            order_row(order="118", quantity="12000", due="2027-W31"),
            order_row(order="119", crop="Endive", due="2027-W36"),
        ]
        plan_lines(self.ctx, orders.take_in(self.ctx, rows))
        batch = Batch.objects.get(crop__slug="pak-choi")
        advance(self.ctx, date(2027, 6, 29))
        sowings.sown(self.ctx, batch.pk, on=date(2027, 6, 29))
        advance(self.ctx, date(2027, 7, 6))
        return batch


class Presses(Day):
    """At most so many, as `interface.md` has it; fields that are typed into are not counted."""

    presses = 0

    def push(self, name: str, tag: str = "button, a, summary") -> None:
        self.presses += 1
        self.press(name, tag)

    def spent(self, most: int) -> None:
        self.assertLessEqual(self.presses, most)
        self.presses = 0

    def test_the_jobs_of_a_day(self) -> None:
        batch = self.furnish()
        Task.objects.create(
            organisation=self.ctx.organisation,
            kind="own",
            title="Wash trays",
            due_from=date(2027, 7, 6),
            due_to=date(2027, 7, 7),
            quantity=90,
            unit="trays",
        )
        Task.objects.create(
            organisation=self.ctx.organisation,
            kind="own",
            title="Open the vents",
            due_from=date(2027, 7, 6),
            due_to=date(2027, 7, 7),
        )
        self.sign_in()
        self.see("Wash trays")

        self.push("to do: Open the vents")
        self.until(lambda: Task.objects.get(title="Open the vents").state == "done", "the tick")
        self.spent(1)

        self.push("Wash trays: another amount")
        self.field("How much was done of Wash trays").send_keys("70", Keys.ENTER)
        self.until(lambda: Task.objects.get(title="Wash trays").quantity_done == 70, "the other amount")
        self.spent(1)

        count = Task.objects.filter(subject=batch.uuid, kind="count", state="todo").order_by("due_from")[0]
        self.push(f"to do: {count.title}")
        for tray, found in enumerate((215, 220, 211), start=1):
            self.fill(f"Tray {tray}", str(found))
        self.push("Save the count")
        self.until(lambda: Count.objects.exists(), "the count")
        self.spent(2)

        self.push("Orders")
        self.push("New order")
        for label, text in (("Customer", "Harrow End"), ("Crop", "Pak choi"), ("Quantity", "4k"), ("Due", "week 38")):
            self.fill(label, text)
        self.push("Save and plan")
        self.see("What is asked")
        line = OrderLine.objects.get(order__customer="Harrow End")
        self.see(f"Order {line.order.number}, line 1")
        self.see(line.allocations.get().batch.code)
        self.spent(3)
        self.press("Close")

        self.press("Can we take it?")
        self.choose("Crop", "Endive")
        self.fill("How many", "3000")
        self.fill("When", "week 40")
        self.press("Work it out")
        self.see("Nothing was saved")
        self.push("Take ")
        self.assertEqual(self.field("Quantity").get_attribute("value"), "3000")
        self.fill("Customer", "Pellow Fields")
        self.push("Save and plan")
        self.until(lambda: OrderLine.objects.filter(order__customer="Pellow Fields").exists(), "the order")
        self.spent(2)

        self.open("/diary")
        self.see(batch.code)
        self.push(batch.code)
        self.see("Cells sown")
        self.presses += 1
        labels = self.named("a", "Tray labels").get_attribute("href")
        self.spent(2)
        kind = self.driver.execute_async_script(
            "const done = arguments[1]; fetch(arguments[0]).then(r => done([r.status, r.headers.get('Content-Type')]))",
            labels,
        )
        self.assertEqual(kind, [200, "application/pdf"])

        self.hand_over(batch)

    def hand_over(self, batch: Batch) -> None:
        advance(self.ctx, date(2027, 8, 4))
        self.open("/deliveries")
        self.press(f"grade {batch.code}")
        self.fill("Good ones", "12100")
        self.press("Graded")
        self.gone("Graded out, by cause")
        self.open("/diary")
        self.push("Deliveries")
        self.push("Hand over order 118")
        self.see("12,000 plants wanted")
        self.push("Hand over and write the note")
        self.until(lambda: Delivery.objects.exists(), "the note")
        self.spent(3)

    def test_a_place_and_a_day_are_one_drag_and_the_lanes_say_what_they_would_hold(self) -> None:
        self.furnish()
        batch = Batch.objects.get(crop__slug="endive")
        grow = BatchStage.objects.get(batch=batch, key="grow")
        self.sign_in()
        self.open("/batches")
        body = self.until(
            lambda: self.driver.find_elements(By.CSS_SELECTOR, f'[data-body^="{batch.pk}.grow"]'), "the body"
        )[0]
        other = self.ctx.rows(type(grow.place)).exclude(pk=grow.place_id).get(name__startswith="Bench")  # type: ignore[arg-type]
        self.press("show them")
        lane = self.driver.find_element(By.CSS_SELECTOR, f'[data-place="{other.pk}"]')
        self.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", body)
        rise = lane.rect["y"] + lane.rect["height"] / 2 - body.rect["y"] - body.rect["height"] / 2
        week = self.driver.execute_script("return (innerWidth - 136 - 104 - 132 - 12) / 16")
        hand: Any = ActionChains(self.driver, duration=60).move_to_element(body).click_and_hold()
        hand.move_by_offset(int(week / 2), int(rise / 2)).move_by_offset(
            int(week / 2), int(rise - int(rise / 2))
        ).perform()
        self.see("full")
        ActionChains(self.driver).release().perform()
        self.see(f"from {grow.place.name} to {other.name}, and sow")  # type: ignore[union-attr]
        before = batch.stages.get(key="sow").planned.lower
        self.press("Keep")
        self.until(lambda: BatchStage.objects.get(pk=grow.pk).place_id == other.pk, "the other place")
        self.assertGreater(batch.stages.get(key="sow").planned.lower, before)

    def test_by_keys_alone_from_a_promise_to_its_delivery_in_45_presses(self) -> None:
        """Keys that type words into a field are its text, as with the mouse."""
        seed_lot(self.ctx, grams=900)
        self.sign_in()
        pressed = 0

        def key(*keys: str) -> None:
            nonlocal pressed
            pressed += len(keys)
            self.keys(*keys)

        def find(words: str, said: str) -> None:
            key("/")
            self.until(lambda: self.driver.switch_to.active_element.tag_name == "input", "the field of Find")
            self.keys(words)
            self.see(said)
            key(Keys.ENTER)

        find("new order", "New order")
        self.see("Save and plan")
        key(Keys.TAB)
        self.keys("Harrow End")
        key(Keys.TAB)
        self.keys("Pak choi")
        key(Keys.TAB, Keys.TAB, Keys.TAB, Keys.TAB)
        self.keys("6k")
        key(Keys.TAB)
        self.keys("week 33")
        key(Keys.ENTER)
        self.see("What is asked")
        batch = Batch.objects.get()
        key(Keys.ESCAPE)
        self.gone("What is asked")

        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        self.driver.refresh()
        self.see("Sign out")
        find(f"sow {batch.code}", f"Sow {batch.code}")
        self.see("When it is sown")
        self.tab_to("Sown on", key)
        key(Keys.ENTER)
        self.see("This batch is sown")

        advance(self.ctx, batch.stages.order_by("-order")[0].planned.upper)
        self.driver.refresh()
        self.see("Sign out")
        find(f"grade {batch.code}", f"Grade {batch.code}")
        self.see("Graded out, by cause")
        self.keys("6200")
        key(Keys.ENTER)
        self.until(lambda: Batch.objects.get().state == "ready", "the graded batch")
        self.gone("Graded out, by cause")
        number = OrderLine.objects.get().order.number
        find(f"hand over {number}", f"Hand over order {number}")
        self.see("Hand over and write the note")
        key(Keys.ENTER)
        self.until(lambda: Delivery.objects.exists(), "the note")
        self.assertLessEqual(pressed, 45)

    def tab_to(self, name: str, key: Any) -> None:
        """Tab until a field or a button of that name has the focus; each Tab is a press."""
        for _ in range(30):
            label = self.driver.execute_script(
                "const at = document.activeElement; return (at.closest('label') ?? at).innerText.trim()"
            )
            if label.startswith(name):
                return
            key(Keys.TAB)
        raise AssertionError(f"Tab never reached “{name}”")


class ByThumb(Day):
    def touch(self, name: str, tag: str = "button, a, summary") -> None:
        """A finger on what is named: put down and lifted, as a phone says it."""

        def put() -> bool:
            element = self.named(tag, name)
            self.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", element)
            box = self.driver.execute_script(
                "const b = arguments[0].getBoundingClientRect(); return [b.x + b.width / 2, b.y + b.height / 2]",
                element,
            )
            at = [{"x": box[0], "y": box[1]}]
            self.driver.execute_cdp_cmd("Input.dispatchTouchEvent", {"type": "touchStart", "touchPoints": at})
            self.driver.execute_cdp_cmd("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})
            return True

        self.until(put, f"“{name}” to touch")

    def test_a_batch_from_its_count_to_the_note_with_a_thumb_and_a_server_that_goes_and_comes(self) -> None:
        batch = self.furnish()
        self.size(390, 844)
        self.driver.execute_cdp_cmd("Emulation.setTouchEmulationEnabled", {"enabled": True})
        self.addCleanup(self.driver.execute_cdp_cmd, "Emulation.setTouchEmulationEnabled", {"enabled": False})
        self.sign_in()
        self.until(
            lambda: self.driver.execute_script("return navigator.serviceWorker.controller !== null"), "the page kept"
        )
        self.open("/diary")
        count = Task.objects.filter(subject=batch.uuid, kind="count", state="todo").order_by("due_from")[0]
        self.see(count.title)
        self.open(f"/batches/{batch.pk}?do=count")
        self.see("Tray 1")
        own = Task.objects.filter(subject=None, state="todo")
        self.assertFalse(own.exists())
        Task.objects.create(
            organisation=self.ctx.organisation,
            kind="own",
            title="Shade the glass",
            due_from=date(2027, 7, 6),
            due_to=date(2027, 7, 7),
        )
        self.open("/diary")
        self.see("Shade the glass")

        # Nothing answers any more: the page opens anew all the same, and what is done waits.
        self.stop_server()
        self.open("/diary")
        self.see("No answer from the server")
        self.touch("to do: Shade the glass")
        self.see("1 record waits here")
        self.open(f"/batches/{batch.pk}?do=count")
        for tray, found in enumerate((215, 220, 211), start=1):
            self.fill(f"Tray {tray}", str(found))
        self.touch("Save the count")
        self.see("2 records wait here")
        self.open("/diary")
        self.see("2 records wait here")
        self.assertEqual((Count.objects.count(), Task.objects.get(title="Shade the glass").state), (0, "todo"))

        self.start_server()
        self.gone("wait here")
        self.until(lambda: Count.objects.count() == 1, "the count, once")
        self.until(lambda: Task.objects.get(title="Shade the glass").state == "done", "the tick")
        self.gone("on the way")

        advance(self.ctx, date(2027, 8, 4))
        self.open("/deliveries")
        self.touch(f"grade {batch.code}")
        self.fill("Good ones", "12100")
        self.touch("Graded")
        self.gone("Graded out, by cause")
        self.see("L27-")
        self.until(lambda: self.driver.execute_script(STILL), "the list to be still")
        self.touch("Hand over order 118")
        self.touch("Hand over and write the note")
        self.see("Delivery note D27-")
        self.assertEqual(Delivery.objects.get().items.get().quantity, 12_000)
        self.assertEqual(Count.objects.filter(kind="emergence").count(), 1)


class Windows(Day):
    def test_a_flock_of_counts_is_not_lost_behind_one_that_is_refused(self) -> None:
        """What the server does not take stays in sight with its reason; what comes after it is sent."""
        batch = self.furnish()
        self.sign_in()
        trays = [TrayCount(240, 200)]
        counts.count_emergence(self.ctx, batch.pk, trays=trays, on=date(2027, 7, 5), client_uuid=uuid.uuid4())
        bad = {"key": str(uuid.uuid4()), "at": 1, "words": "Count of nothing", "path": "/api/batches/999999/counts"}
        body = {
            "trays": [{"sampled": 10, "found": 9}],
            "on": "2027-07-06",
            "client_uuid": str(uuid.uuid4()),
            "reason": "",
        }
        task = Task.objects.filter(state="todo", subject=batch.uuid)[0]
        good = {
            "key": str(uuid.uuid4()),
            "at": 2,
            "words": "Done: a task",
            "path": f"/api/tasks/{task.pk}/mark",
            "body": {"state": "not_done", "note": "too wet"},
        }
        self.driver.execute_script(
            "localStorage.setItem('aldrip.later', JSON.stringify(arguments[0]))", [{**bad, "body": body}, good]
        )
        self.open("/diary")
        self.see("Count of nothing")
        self.see("not taken")
        self.until(lambda: Task.objects.get(pk=task.pk).state == "not_done", "the one behind it")
        self.press("Do not record it")
        self.gone("Count of nothing")
