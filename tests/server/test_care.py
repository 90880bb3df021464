"""Care that comes again, lived through by the API: on the day sheet, missed, done, moved with its batch."""

from datetime import date, timedelta
from itertools import pairwise
from typing import Any

from aldrip.diary.models import Task
from aldrip_core.work import again_on
from tests.server.house import advance, seed_lot
from tests.server.test_trees import EMERGE, GRADE, GROW, SOW, TreeCase

ONE = timedelta(days=1)
WATER = {"kind": "water", "words": "Water {crop} to the drip", "part": "early", "every_days": 3, "minutes": 20}


class Care(TreeCase):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, "fennel")
        method = self.method("fennel-watered", "fennel", [SOW, EMERGE, {**GROW, "tasks": [WATER]}, GRADE])
        self.grown = self.batch(method, needed=2000)
        self.live(self.grown, "sow", "emerge")

    def test_what_is_no_number_is_refused_where_it_stands(self) -> None:
        for wrong in ({"every_days": "3"}, {"every_days": 2.5}, {"every_days": 91}, {"minutes": "20"}, {"minutes": -1}):
            with self.subTest(wrong):
                stages = [SOW, EMERGE, {**GROW, "tasks": [{**WATER, **wrong}]}, GRADE]
                told = self.post("/library/method/fennel-watered", {"values": {"stages": stages}}, status=422)
                self.assertEqual(told["errors"][0]["field"], f"stages.2.tasks.0.{next(iter(wrong))}")

    def care(self) -> list[Task]:
        return list(Task.objects.filter(subject=self.grown.uuid, every=3).order_by("due_from"))

    def on_sheet(self, day: date | None = None) -> list[dict[str, Any]]:
        found = self.get(f"/day?day={day or self.ctx.today}")["tasks"]
        return [one for one in found if one["every"]]

    def test_each_time_is_asked_until_the_next_one_and_none_is_ever_overdue(self) -> None:
        care, stage = self.care(), self.grown.stages.get(key="grow")
        self.assertGreater(len(care), 5)
        self.assertEqual((care[0].due_from, care[-1].due_to), (stage.planned.lower, stage.planned.upper))
        for one, following in pairwise(care):
            self.assertEqual(one.due_to, following.due_from)
        at = next(n for n, one in enumerate(care) if n and (one.due_to - one.due_from).days >= 3)
        advance(self.ctx, care[at].due_from)
        self.assertEqual([(one["id"], one["late"]) for one in self.on_sheet()], [(care[at].pk, False)])
        self.post(f"/tasks/{care[at].pk}/mark", {"state": "done"})
        self.assertEqual([one["state"] for one in self.on_sheet()], ["done"])
        between = care[at].due_from + ONE
        self.assertEqual(self.on_sheet(between), [])  # what is done is not asked again on the days between
        self.post(f"/tasks/{care[at].pk}/mark", {"state": "todo"})
        advance(self.ctx, between)
        self.assertEqual([one["id"] for one in self.on_sheet()], [care[at].pk])  # not done: still asked, not yet late
        self.assertEqual(self.on_sheet(between + ONE), [])  # nor promised twice for tomorrow
        advance(self.ctx, care[at + 2].due_from)
        self.assertEqual([one["id"] for one in self.on_sheet()], [care[at + 2].pk])
        told = [one for one in self.get("/season-line")["decisions"] if one["code"] == "late_tasks"]
        missed = Task.objects.filter(state="todo", every=0, due_to__lte=self.ctx.today).count()
        self.assertEqual([one["sentence"].split()[0] for one in told], [str(missed)] if missed else [])

    def test_it_moves_with_its_batch_and_what_was_done_stays(self) -> None:
        care = self.care()
        keys = [one.key for one in care]
        self.assertEqual(len(set(keys)), len(keys))
        self.post(f"/tasks/{care[0].pk}/mark", {"state": "done"})
        begun = care[0].due_from + 2 * ONE
        advance(self.ctx, begun)
        self.post(f"/batches/{self.grown.pk}/moved", {"on": str(begun), "stage": "grow"})
        again, stage = self.care(), self.grown.stages.get(key="grow")
        self.assertEqual((again[0].state, again[0].due_from), ("done", care[0].due_from))
        days = again_on(begun, stage.planned.upper, 3, self.ctx.calendars()[0])
        self.assertEqual(tuple(one.due_from for one in again[1:]), days[1:])
