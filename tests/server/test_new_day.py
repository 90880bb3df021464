"""What was not done in its time is reckoned from today: nobody is told that it will be in time because it was planned so."""

from datetime import date, timedelta

from aldrip.accounts.models import AuditEvent, Change
from aldrip.batches.models import Batch, Occupancy
from aldrip.diary.models import Task
from tests.server.house import HouseCase, advance, seed_lot, uid


class Held(HouseCase):
    """Plants are loaded on the day of delivery, and hold their place until they leave."""

    def left(self, batch: Batch) -> tuple[date, date]:
        last = batch.stages.latest("order")
        stands = max(one.during.upper for one in Occupancy.objects.filter(stage=last))
        return Task.objects.get(subject=batch.uuid, kind="deliver").due_from, stands

    def test_ready_before_the_window_they_wait_for_it(self) -> None:
        seed_lot(self.ctx, "endive", grams=90)
        _, batch = self.planned(crop="Endive", cultivar="Frill", quantity="4100", due="2027-W39")
        monday = date(2027, 9, 27)
        self.assertLess(batch.stages.latest("order").planned.upper, monday)
        self.assertEqual(self.left(batch), (monday, monday))

    def test_a_kept_edit_and_what_happens_keep_it_so(self) -> None:
        seed_lot(self.ctx, "endive", grams=90)
        _, batch = self.planned(crop="Endive", cultivar="Frill", quantity="4100", due="2027-09-29")
        wednesday = date(2027, 9, 29)
        change = {"needed": 4300}
        self.post(f"/batches/{batch.pk}/keep", {"version": batch.version, "change": change})
        self.assertEqual(self.left(batch), (wednesday, wednesday))
        self.post(f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today)})
        self.assertEqual(self.left(batch), (wednesday, wednesday))


class Counted(HouseCase):
    """What a count saw is what is there; what was graded is known."""

    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, "endive", grams=90)
        _, self.batch = self.planned(crop="Endive", cultivar="Frill", quantity="6300", due="2027-W36")
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(self.ctx.today)})
        self.day = self.ctx.today

    def lose(self, many: int, days: int) -> None:
        advance(self.ctx, self.day + timedelta(days=days))
        body = {"lost": many, "cause": "slugs", "on": str(self.ctx.today), "client_uuid": uid()}
        self.post(f"/batches/{self.batch.pk}/losses", body)

    def count(self, found: int, days: int) -> None:
        advance(self.ctx, self.day + timedelta(days=days))
        body = {"trays": [{"sampled": 200, "found": found}], "on": str(self.ctx.today), "client_uuid": uid()}
        self.post(f"/batches/{self.batch.pk}/counts", body)

    def expected(self) -> float:
        self.batch.refresh_from_db()
        return self.batch.expected

    def test_a_loss_before_the_count_is_in_the_count_and_one_after_it_is_not(self) -> None:
        self.count(140, 8)
        counted = self.expected()
        self.lose(1300, 9)
        self.assertLess(self.expected(), counted - 1000)
        self.count(140, 10)
        self.assertAlmostEqual(self.expected(), counted, delta=2)
        self.lose(700, 11)
        left = counted - self.expected()
        self.assertTrue(500 < left <= 700, left)

    def test_graded_is_what_the_ladder_says_now(self) -> None:
        self.count(150, 8)
        advance(self.ctx, self.day + timedelta(days=30))
        body = {"good": 5210, "out": [], "on": str(self.ctx.today), "client_uuid": uid()}
        self.post(f"/batches/{self.batch.pk}/graded", body)
        rungs = {one["stage"]: one for one in self.get(f"/batches/{self.batch.pk}")["rungs"] if one["kind"] == "stage"}
        shown = rungs.get("dispatch") or rungs["grade"]
        self.assertEqual(shown["band"], {"middle": 5210.0, "low": 5210.0, "high": 5210.0})


class NewDay(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, "endive", grams=90)
        self.line, self.batch = self.planned(crop="Endive", cultivar="Frill", quantity="5200", due="2027-W36")
        self.sow_on = self.batch.stages.earliest("order").planned.lower

    def chance(self) -> float:
        self.line.refresh_from_db()
        return self.line.chance or 0.0

    def ready_in(self, days: int) -> int:
        """Days by which the promise is missed, this many days after it should have been sown."""
        advance(self.ctx, self.sow_on + timedelta(days=days))
        self.post("/new-day")
        self.line.refresh_from_db()
        late = [one for one in self.line.problems if one["code"] == "late"]
        return late[0]["days"] if late else 0

    def test_a_batch_that_is_not_sown_is_late_by_as_many_days_as_it_waits(self) -> None:
        self.assertGreater(self.chance(), 0.9)
        self.assertEqual(self.ready_in(0), 0)
        self.assertGreater(self.chance(), 0.9)
        spare = (self.line.due.upper - self.batch.stages.latest("order").planned.upper).days
        self.assertEqual(self.ready_in(spare - 1), 0, "within the window it is still in time")
        self.assertGreater(self.chance(), 0.9)
        self.assertEqual(self.ready_in(spare + 3), 4)
        self.assertEqual(self.chance(), 0.0)
        told = self.get(f"/batches/{self.batch.pk}")
        self.assertTrue(told["problems"][0].startswith("“Cells sown” was due on"), told["problems"])
        self.assertIn(f"{spare + 3} days behind", told["problems"][0])
        self.assertLess(told["in_time"]["chance"], 0.1)

    def test_sown_late_and_not_moved_on_it_goes_on_counting(self) -> None:
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(self.ctx.today)})
        following = next(one for one in self.batch.stages.order_by("order") if one.actual_start is None)
        advance(self.ctx, following.planned.lower + timedelta(days=2))
        self.post("/new-day")
        told = self.get(f"/batches/{self.batch.pk}")
        self.assertIn(f"“{following.name}” was due on", told["problems"][0])
        self.post(f"/batches/{self.batch.pk}/moved", {"stage": following.key, "on": str(self.ctx.today)})
        self.assertFalse([one for one in self.get(f"/batches/{self.batch.pk}")["problems"] if "was due on" in one])

    def test_the_work_of_what_follows_waits_with_it_and_a_load_uses_up_its_days_in_hand(self) -> None:
        working = self.ctx.calendars()[0]
        planned = {task.pk: task.due_from for task in Task.objects.filter(subject=self.batch.uuid)}
        spare = (self.line.due.lower - self.batch.stages.latest("order").planned.upper).days
        for days in (2, spare + 6):
            self.ready_in(days)
            ready = self.batch.stages.latest("order").planned.upper + timedelta(days=days)
            for task in Task.objects.filter(subject=self.batch.uuid):
                with self.subTest(days=days, task=task.title):
                    self.assertEqual(task.due_from, planned[task.pk], "the plan is the plan")
                    if task.kind == "deliver":
                        wanted = max(task.due_from, working.on_or_after(ready))
                    elif task.stage == self.batch.stages.earliest("order").key:
                        wanted = task.due_from
                    else:
                        wanted = working.on_or_after(task.due_from + timedelta(days=days))
                        self.assertGreaterEqual((task.due_now - task.due_from).days, days)
                    self.assertEqual(task.due_now, wanted)
                    shown = self.get(f"/day?day={task.due_now}")["tasks"]
                    self.assertIn(task.pk, [one["id"] for one in shown])
                    if task.waits:
                        others = self.get(f"/day?day={task.due_from}")["tasks"]
                        self.assertNotIn(task.pk, [one["id"] for one in others])

    def test_sown_at_last_nothing_waits_and_taken_back_it_waits_again(self) -> None:
        self.ready_in(4)
        waits = dict(Task.objects.filter(waits__gt=0).values_list("pk", "waits"))
        self.assertTrue(waits)
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(self.ctx.today)})
        self.assertEqual(list(Task.objects.filter(waits__gt=0).values_list("title")), [])
        entry = AuditEvent.objects.get(action="batch.sown")
        self.post(f"/acts/{entry.pk}/take-back", {"reason": "it was another batch", "known": [entry.pk]})
        self.assertEqual(dict(Task.objects.filter(waits__gt=0).values_list("pk", "waits")), waits)

    def test_it_is_done_once_a_day_and_is_nobodys_act(self) -> None:
        acts, changes = AuditEvent.objects.count(), Change.objects.count()
        self.ready_in(9)
        self.assertFalse(self.get("/session")["new_day"])
        self.assertEqual(self.post("/new-day")["message"], "0 batches reckoned from today.")
        self.assertEqual((AuditEvent.objects.count(), Change.objects.count()), (acts, changes))
        self.assertEqual(Batch.objects.get().state, "planned")
