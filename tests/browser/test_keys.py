"""Ways in and ways on: a session that ends under somebody's hands, a link to a password, an address that is none."""

from django.contrib.sessions.models import Session
from selenium.webdriver.common.keys import Keys

from aldrip.accounts.models import Member, Role, User
from aldrip.diary.models import Task
from aldrip.diary.services import add_task
from tests.browser.driver import BrowserCase
from tests.server.house import member


class WaysIn(BrowserCase):
    def test_a_session_that_ends_while_somebody_types_is_taken_up_over_the_page(self) -> None:
        self.sign_in()
        self.open("/diary")
        self.press("Add a task")
        self.fill("What", "Wash 40 trays before noon")
        Session.objects.all().delete()
        self.press("Add", "form button")
        self.see("Your session has ended. Sign in, and go on where you were.")
        self.assertEqual(self.axe(), [])
        self.fill("Password", "a long password")
        self.press("Sign in")
        self.gone("Your session has ended")
        self.assertEqual(self.field("What").get_attribute("value"), "Wash 40 trays before noon")
        self.press("Add", "form button")
        self.until(lambda: Task.objects.filter(title__startswith="Wash 40").count() == 1, "the task to be saved once")

    def test_what_was_sent_and_not_answered_is_pressed_again_and_saved_once(self) -> None:
        self.sign_in()
        self.open("/diary")
        self.press("Add a task")
        self.fill("What", "Turn the compost")
        self.stop_server()
        self.press("Add", "form button")
        self.see("press again, unchanged, and it is saved once")
        self.see("No answer from the server since")
        self.start_server()
        self.press("Add", "form button")
        self.until(lambda: Task.objects.filter(title="Turn the compost").count() == 1, "the task")
        self.gone("No answer from the server since")

    def test_a_manager_lets_somebody_in_with_a_link(self) -> None:
        pip = member(self.ctx, "pip", Role.SUPERVISOR)
        Member.objects.filter(user=self.ctx.user).update(role=Role.MANAGER)
        self.sign_in()
        self.open("/house")
        self.see("First password")
        self.until(lambda: "pip" in self.text(), "everybody who may enter")
        self.driver.execute_script(
            "for (const one of document.querySelectorAll('summary')) if (one.innerText.includes('pip')) one.click()"
        )
        self.press("Link to set a password")
        self.see("It opens once, and for a day")
        self.assertEqual(self.axe(), [])
        path = next(line for line in self.text().split() if "/password/" in line).split("/password/")[1]
        self.driver.delete_all_cookies()
        self.open(f"/password/{path}")
        self.fill("Password", "two blue watering cans")
        self.press("Set it")
        self.see("is set. Sign in with it.")
        self.assertTrue(User.objects.get(pk=pip.pk).check_password("two blue watering cans"))
        self.press("Sign in")
        self.fill("Name", "pip")
        self.fill("Password", "two blue watering cans")
        self.press("Sign in")
        self.see("Sign out")
        self.open(f"/password/{path}")
        self.fill("Password", "another 7 cans")
        self.press("Set it")
        self.see("This link was used, or is older than a day")

    def test_what_is_not_there_is_told_inside_the_frame_with_ways_on(self) -> None:
        self.sign_in()
        for path, words in (
            ("/batches/999999", "It is not here"),
            ("/nowhere/at/all", "There is no such page"),
            ("/seedcrops/00000000-0000-4000-8000-000000000001", "It is not here"),
        ):
            self.open(path)
            self.see(words)
            self.see("Deliveries")  # the rooms stand beside it
            self.assertEqual(self.axe(), [], path)
            self.press("Go to the diary")
            self.see("Diary")


class OneTap(BrowserCase):
    def test_a_tap_is_done_as_planned_a_number_is_another_amount_and_both_are_undone(self) -> None:
        task = add_task(
            self.ctx, title="Wash trays", due=self.ctx.today, place_id=None, part_of_day="morning", minutes=None
        )
        Task.objects.filter(pk=task.pk).update(quantity=90, unit="trays")

        def stands(state: str, done: float | None) -> None:
            self.until(
                lambda: Task.objects.filter(pk=task.pk, state=state, quantity_done=done).exists(), f"{state}, {done}"
            )

        self.sign_in()
        self.open("/diary")
        self.press("to do: Wash trays")
        stands("done", 90)
        self.press("undo", "main button")
        stands("todo", None)
        self.press("Wash trays: another amount")
        self.named("input", "How much was done of Wash trays").send_keys("7o", Keys.ENTER)
        self.see("cannot be read")
        field = self.named("input", "How much was done of Wash trays")
        field.send_keys(Keys.CONTROL, "a")
        field.send_keys("70", Keys.ENTER)
        stands("done", 70)
        self.see("70 trays of 90 trays")
        self.assertEqual(self.axe(), [])
