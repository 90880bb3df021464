"""Long work: whole steps, told as it goes, stopped, and taken up again after its worker died."""

from datetime import timedelta
from typing import Any
from unittest.mock import patch

from django.core.management import call_command
from django.db import OperationalError, connection
from django.test import Client, TransactionTestCase
from django.utils import timezone

from aldrip.accounts.models import Role
from aldrip.batches import long_work
from aldrip.batches.models import Allocation, Batch
from aldrip.jobs import services
from aldrip.jobs.models import Job
from aldrip.orders.models import OrderLine
from tests.server.house import SURE, HouseCase, ensure_library, make_house, member, order_row, seed_lot


def many(count: int) -> list[dict[str, str]]:
    return [
        order_row(customer=f"Customer {n}", quantity=str(500 + n), due=f"2027-W{33 + n % 12}") for n in range(count)
    ]


MANY = 33  # with the limits a tenth of what they are


class Jobs(HouseCase):
    def enqueue(self, count: int = MANY, **more: Any) -> Job:
        made = self.post("/orders", {"rows": many(count), "plan": True, **more})
        self.assertEqual((made["lines"], OrderLine.objects.count()), ([], 0))
        return Job.objects.get(pk=made["job"])

    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, grams=5000)
        for target, value in (
            ("aldrip.orders.api.INLINE", 30),
            ("aldrip.batches.long_work.INLINE", 15),
            ("aldrip.batches.long_work.STEP", 4),
        ):
            patched = patch(target, value)
            patched.start()
            self.addCleanup(patched.stop)

    def test_many_rows_are_taken_in_and_planned_step_by_step_and_everybody_sees_how_far(self) -> None:
        told = self.enqueue()
        client = Client()
        client.force_login(member(self.ctx, "vera", Role.VIEWER))
        seen: list[dict[str, Any]] = []
        planned = long_work.plan_lines

        def look(ctx: Any, lines: Any) -> Any:
            seen.append(self.get("/jobs", client=client)[0])
            return planned(ctx, lines)

        with patch.object(long_work, "plan_lines", look):
            services.run(told.pk)
        steps = -(-MANY // long_work.STEP)
        self.assertEqual([one["done"] for one in seen], [long_work.STEP * n for n in range(steps)])
        self.assertEqual({one["total"] for one in seen}, {MANY})
        self.assertIn(f"Planned {long_work.STEP} of {MANY} lines", seen[1]["words"])
        self.assertFalse(seen[0]["may_stop"])
        self.assertEqual((OrderLine.objects.count(), Allocation.objects.count()), (MANY, MANY))
        ended = self.get("/jobs")[0]
        self.assertEqual((ended["state"], ended["done"], ended["total"]), ("done", MANY, MANY))
        self.assertIn(f"Took in {MANY} order lines. Planned {MANY} lines", ended["words"])
        self.assertEqual(Job.objects.get().arguments, {})

    def test_stopped_in_the_middle_what_is_planned_is_whole_and_the_rest_is_planned_later(self) -> None:
        told = self.enqueue()
        planned = long_work.plan_lines

        def then_stop(ctx: Any, lines: Any) -> Any:
            if Batch.objects.count() >= 2 * long_work.STEP:
                self.post(f"/jobs/{told.pk}/stop")
            return planned(ctx, lines)

        with patch.object(long_work, "plan_lines", then_stop):
            services.run(told.pk)
        told.refresh_from_db()
        self.assertEqual(told.state, "cancelled")
        self.assertEqual(Allocation.objects.count(), 3 * long_work.STEP)
        self.assertFalse(Batch.objects.filter(stages=None).exists())
        self.assertIn(f"Planned {3 * long_work.STEP} of {MANY}", told.words)
        again = self.post("/batches/plan-lines", {})
        services.run(again["job"])
        self.assertEqual(Allocation.objects.count(), MANY)
        self.post(f"/jobs/{told.pk}/stop", status=422)  # it has ended

    def test_stopped_before_it_began_nothing_is_there(self) -> None:
        told = self.enqueue()
        client = Client()
        client.force_login(member(self.ctx, "dan", Role.DISPATCH))
        self.post(f"/jobs/{told.pk}/stop", client=client, status=403)
        self.post(f"/jobs/{told.pk}/stop")
        services.run(told.pk)
        self.assertEqual((Job.objects.get().state, OrderLine.objects.count()), ("cancelled", 0))

    def test_a_worker_that_dies_leaves_it_whole_and_another_goes_on(self) -> None:
        told = self.enqueue()
        planned = long_work.plan_lines

        def die(ctx: Any, lines: Any) -> Any:
            if Batch.objects.count() >= long_work.STEP:
                raise KeyboardInterrupt  # as a process that is killed: nothing is told any more
            return planned(ctx, lines)

        with patch.object(long_work, "plan_lines", die), self.assertRaises(KeyboardInterrupt):
            services.run(told.pk)
        told.refresh_from_db()
        self.assertEqual(
            (told.state, OrderLine.objects.count(), Allocation.objects.count()), ("running", MANY, long_work.STEP)
        )
        self.assertEqual(services.take_up_again(), 0)  # it may still live
        Job.objects.update(beat_at=timezone.now() - timedelta(minutes=2))
        self.assertEqual(services.take_up_again(), 1)
        services.run(told.pk)
        told.refresh_from_db()
        self.assertEqual((told.state, OrderLine.objects.count(), Allocation.objects.count()), ("done", MANY, MANY))

    def test_what_kills_its_worker_again_and_again_is_given_up_in_words(self) -> None:
        told = self.enqueue()
        with patch.object(long_work, "_saved", side_effect=KeyboardInterrupt):
            for _ in range(services.MOST_TRIES):
                with self.assertRaises(KeyboardInterrupt):
                    services.run(told.pk)
        services.run(told.pk)
        told.refresh_from_db()
        self.assertEqual((told.state, OrderLine.objects.count()), ("failed", 0))
        self.assertIn("start it again", told.words)

    def test_what_is_refused_and_what_breaks_is_told(self) -> None:
        told = self.enqueue(rows=[*many(31), order_row(quantity="some")])
        services.run(told.pk)
        told.refresh_from_db()
        self.assertEqual((told.state, OrderLine.objects.count()), ("failed", 0))
        self.assertIn("some", told.words)
        other = self.enqueue()
        with (
            self.assertLogs("aldrip.jobs", "ERROR"),
            patch.object(long_work, "plan_lines", side_effect=OperationalError("gone")),
        ):
            services.run(other.pk)
        other.refresh_from_db()
        self.assertEqual((other.state, OrderLine.objects.count()), ("failed", MANY))

    def test_a_series_is_the_same_again_every_so_many_weeks(self) -> None:
        body = {"rows": [order_row(order="77", due="2027-W36")], "series": {"every_weeks": "2", "times": "5"}}
        made = self.post("/orders", body)
        due = OrderLine.objects.filter(pk__in=made["lines"]).order_by("due").values_list("due", flat=True)
        self.assertEqual([(one.lower - due[0].lower).days for one in due], [0, 14, 28, 42, 56])
        self.assertEqual({line.order.number for line in OrderLine.objects.all()}, {"77"})
        for series, field in (
            ({"every_weeks": "0", "times": "3"}, "series.every_weeks"),
            ({"every_weeks": "1", "times": "many"}, "series.times"),
            ({"every_weeks": "1", "times": "61"}, "series.times"),
        ):
            refused = self.post("/orders", {**body, "series": series}, status=422)
            self.assertEqual(refused["errors"][0]["field"], field)


class TheWorker(TransactionTestCase):
    """The queue itself, as the launcher starts it."""

    def test_it_runs_what_was_asked_for_and_nothing_that_was_rolled_back(self) -> None:
        ensure_library()
        ctx = make_house()
        client = Client()
        assert ctx.user is not None
        client.force_login(ctx.user)
        before = self.waiting()  # the queue's own tables are not emptied between tests
        made = client.post(
            "/api/orders", {"rows": many(301), "plan": False}, content_type="application/json", headers=SURE
        ).json()
        self.assertEqual(self.waiting(), before + 1)
        call_command("procrastinate", "worker", "--one-shot", "--queues", "aldrip")
        self.assertEqual(Job.objects.get(pk=made["job"]).state, "done")
        self.assertEqual(OrderLine.objects.count(), 301)

    def waiting(self) -> int:
        with connection.cursor() as cursor:
            cursor.execute("select count(*) from procrastinate_jobs where status = 'todo'")
            return int(cursor.fetchone()[0])
