"""The calendar address: what it tells, who may read it, and how it ends. Read back with the library that others use."""

from datetime import date, timedelta

from django.test import Client
from icalendar import Calendar

from aldrip.accounts.models import AuditEvent, Member
from aldrip.diary.models import Task
from tests.server.house import HouseCase, advance, make_house, member, seed_lot


class OwnCalendar(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx)
        self.planned()
        self.post("/account/calendar")
        self.path = self.get("/account")["calendar"]

    def read(self, path: str) -> Calendar:
        answer = Client().get(path)  # nobody is signed in
        self.assertEqual(answer.status_code, 200, answer.content[:200])
        self.assertEqual(answer["Content-Type"], "text/calendar; charset=utf-8")
        found = Calendar.from_ical(answer.content)
        assert isinstance(found, Calendar)
        return found

    def test_it_tells_the_tasks_that_the_day_sheet_tells(self) -> None:
        told = {str(one["uid"]): one for one in self.read(self.path).walk("VEVENT")}
        sheet = [task for task in self.get("/day?days=62")["tasks"] if task["state"] == "todo"]
        self.assertTrue(sheet)
        for task in sheet:
            one = told[f"{Task.objects.get(pk=task['id']).uuid}@aldrip"]
            self.assertEqual(str(one["summary"]), task["words"])
            self.assertEqual(str(one.get("location", "")), task["place"])
            self.assertEqual((one["dtstart"].dt, one["dtend"].dt), tuple(map(date.fromisoformat, self.days(task))))

    def days(self, task: dict[str, str]) -> tuple[str, str]:
        return task["due_from"], task["due_to"]

    def test_what_is_overdue_stands_on_today_and_what_is_done_is_gone(self) -> None:
        first = Task.objects.order_by("due_from", "pk")[0]
        advance(self.ctx, first.due_to + timedelta(days=3))
        events = {str(one["uid"]): one for one in self.read(self.path).walk("VEVENT")}
        one = events[f"{first.uuid}@aldrip"]
        self.assertTrue(str(one["summary"]).startswith("Overdue: "))
        self.assertEqual(one["dtstart"].dt, self.ctx.today)
        Task.objects.filter(pk=first.pk).update(state="done")
        self.assertNotIn(f"{first.uuid}@aldrip", {str(one["uid"]) for one in self.read(self.path).walk("VEVENT")})

    def test_a_text_with_anything_in_it_is_read_back_as_it_was(self) -> None:
        title = "Ring; Mr. Quill, about\nC:\\trays “80 %” 🌱" + " and more" * 12
        task = Task.objects.order_by("pk")[0]
        Task.objects.filter(pk=task.pk).update(title=title, note="BEGIN:VEVENT\nX:1")
        events = self.read(self.path).walk("VEVENT")
        one = next(one for one in events if str(one["uid"]).startswith(str(task.uuid)))
        self.assertIn(title, str(one["summary"]))
        self.assertEqual(len([e for e in events if str(e["uid"]).startswith(str(task.uuid))]), 1)

    def test_another_address_ends_the_first_and_ended_or_left_reads_nothing(self) -> None:
        self.post("/account/calendar")
        again = self.get("/account")["calendar"]
        self.assertEqual(Client().get(self.path).status_code, 404)
        self.read(again)
        self.post("/account/calendar/drop")
        self.post("/account/calendar/drop")
        self.assertEqual(self.get("/account")["calendar"], "")
        self.assertEqual(Client().get(again).status_code, 404)
        self.post("/account/calendar")
        fresh = self.get("/account")["calendar"]
        self.assertNotIn(fresh, (self.path, again))
        Member.objects.update(active=False)
        self.assertEqual(Client().get(fresh).status_code, 404)
        self.assertEqual(AuditEvent.objects.filter(action__startswith="calendar.").count(), 4)

    def test_what_was_made_and_taken_back_reads_nothing_also_after_another_was_made(self) -> None:
        made = AuditEvent.objects.get(action="calendar.make")
        body = {"reason": "given to the wrong one", "known": [made.pk]}
        self.post(f"/acts/{made.pk}/take-back", body)
        self.assertEqual(Client().get(self.path).status_code, 404)
        self.post("/account/calendar")
        self.assertEqual(Client().get(self.path).status_code, 404)
        self.read(self.get("/account")["calendar"])

    def test_no_address_but_the_own_one_reads_and_each_house_its_own(self) -> None:
        for wrong in (
            "x",
            "1-" + "0" * 16 + "-" + "0" * 40,
            self.path[len("/api/calendar/") : -6] + "ff",
            "zzzzzzzzzzzz-" + "a" * 16 + "-" + "a" * 40,
            "%00",
        ):
            self.assertEqual(Client().get(f"/api/calendar/{wrong}.ics").status_code, 404, wrong)
        other = make_house("Elsewhere", username="elsewhere")
        assert other.user is not None
        self.client.force_login(other.user)
        self.post("/account/calendar")
        self.assertEqual(self.read(self.get("/account")["calendar"]).walk("VEVENT"), [])
        eye = Client()
        eye.force_login(member(self.ctx, "eye", "viewer"))
        self.post("/account/calendar", client=eye)
        self.assertTrue(self.read(self.get("/account", client=eye)["calendar"]).walk("VEVENT"))
