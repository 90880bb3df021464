"""Once and only once: whatever is sent again under its key, in turn or at once, is done once and answered alike."""

import json
import threading
from typing import Any
from unittest import mock

from django.db import IntegrityError, OperationalError, connections
from django.test import Client, TransactionTestCase

from aldrip.accounts.models import Answered, AuditEvent, Member, Role, User
from aldrip.accounts.routes import ROUTES
from aldrip.batches.models import Allocation
from aldrip.diary.models import Task
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop
from tests.server.house import HouseCase, ensure_library, make_house, member, take_order, uid

TASK = {"title": "Whitewash the glass", "due": "2027-07-20"}


def send(client: Client, path: str, body: Any, key: str, method: str = "post") -> Any:
    return getattr(client, method)(
        f"/api{path}", json.dumps(body), content_type="application/json", headers={"Idempotency-Key": key}
    )


class InTurn(HouseCase):
    def test_sent_again_it_is_answered_as_at_first_and_not_done_again(self) -> None:
        key = uid()
        first, again = (send(self.client, "/tasks", TASK, key) for _ in range(2))
        self.assertEqual((first.status_code, first.content), (again.status_code, again.content))
        self.assertEqual(first["X-Touched"], again["X-Touched"])
        self.assertEqual((first.get("X-Answered-Before"), again["X-Answered-Before"]), (None, "1"))
        self.assertEqual(Task.objects.filter(title=TASK["title"]).count(), 1)
        other = send(self.client, "/tasks", TASK, uid())
        self.assertEqual(other.status_code, 200)
        self.assertEqual(Task.objects.filter(title=TASK["title"]).count(), 2)

    def test_a_key_stands_for_one_thing_of_one_person(self) -> None:
        key = uid()
        send(self.client, "/tasks", TASK, key)
        told = send(self.client, "/tasks", {**TASK, "title": "Shade the glass"}, key)
        self.assertEqual((told.status_code, told.json()["code"]), (422, "key_used"))
        self.assertFalse(Task.objects.filter(title="Shade the glass").exists())
        self.assertEqual(send(self.client, "/tasks", TASK, "no uuid").json()["code"], "not_a_key")
        stranger = Client()
        other = make_house("Elsewhere", username="bo")
        assert other.user is not None
        stranger.force_login(other.user)
        self.assertEqual(send(stranger, "/tasks", TASK, key).status_code, 200)
        self.assertEqual(Task.objects.filter(title=TASK["title"]).count(), 2)

    def test_what_was_refused_is_kept_nowhere_and_may_be_mended_under_its_key(self) -> None:
        key, events = uid(), AuditEvent.objects.count()
        told = send(self.client, "/tasks", {**TASK, "due": "soon"}, key)
        self.assertEqual(told.status_code, 422)
        self.assertEqual((Answered.objects.count(), AuditEvent.objects.count()), (0, events))
        self.assertEqual(send(self.client, "/tasks", TASK, key).status_code, 200)

    def test_what_is_said_once_is_kept_nowhere_and_still_done_once(self) -> None:
        member(self.ctx, "pip", Role.VIEWER)
        who, key = Member.objects.get(user__username="pip"), uid()
        first, again = (send(self.client, f"/members/{who.pk}/link", {}, key) for _ in range(2))
        self.assertIn("/password/", first.json()["path"])
        self.assertEqual((again.status_code, again.json()["errors"][0]["code"]), (409, "said_once"))
        self.assertNotIn(b"/password/", bytes(Answered.objects.get().body))
        self.assertEqual(AuditEvent.objects.filter(action="password.link").count(), 1)

    def test_a_question_that_changes_nothing_is_not_kept(self) -> None:
        send(self.client, "/orders/import/paste", {"text": "crop\tquantity\nEndive\t500"}, uid())
        self.assertEqual(Answered.objects.count(), 0)

    def test_two_in_each_others_way_are_tried_once_more_and_a_rule_is_told_in_words(self) -> None:
        def broken(kind: type[Exception], state: str) -> Exception:
            cause = Exception()
            cause.sqlstate = state  # type: ignore[attr-defined]
            error = kind("x")
            error.__cause__ = cause
            return error

        real = Task.save
        for error, status, code, calls in (
            (broken(OperationalError, "40P01"), 409, "changed_meanwhile", 2),
            (broken(IntegrityError, "23505"), 409, "changed_meanwhile", 2),
            (broken(IntegrityError, "23514"), 422, "impossible", 1),
            (broken(OperationalError, "57014"), 503, "too_much", 1),
            (broken(OperationalError, "55P03"), 503, "busy", 1),
            (MemoryError(), 503, "too_much", 1),
        ):
            with (
                self.subTest(code, error=error),
                self.assertLogs("aldrip.requests", "INFO"),  # a rule that was met is written down, with its trace
                mock.patch.object(Task, "save", side_effect=error) as save,
            ):
                told = send(self.client, "/tasks", TASK, uid())
                body = told.json()
                self.assertEqual(
                    (told.status_code, body.get("code") or body["errors"][0]["code"]),
                    (status, code) if code != "impossible" else (status, "refused"),
                )
                self.assertEqual(save.call_count, calls)
        with mock.patch.object(
            Task, "save", autospec=True, side_effect=[broken(OperationalError, "40P01"), None]
        ) as save:
            save.side_effect = _first(broken(OperationalError, "40P01"), real)
            self.assertEqual(send(self.client, "/tasks", TASK, uid()).status_code, 200)


def _first(error: Exception, then: Any) -> Any:
    left = [error]

    def call(*args: Any, **kwargs: Any) -> Any:
        if left:
            raise left.pop()
        return then(*args, **kwargs)

    return call


class AtOnce(TransactionTestCase):
    """Twenty at one moment, each with a connection of its own."""

    def setUp(self) -> None:
        ensure_library()
        self.ctx = make_house()
        assert self.ctx.user is not None
        self.user: User = self.ctx.user

    def all_at_once(self, path: str, body: Any, keys: list[str]) -> list[Any]:
        ready, answers = threading.Barrier(len(keys)), []

        def go(key: str) -> None:
            client = Client(raise_request_exception=False)
            client.force_login(self.user)
            ready.wait()
            answers.append(send(client, path, body, key))
            connections.close_all()

        threads = [threading.Thread(target=go, args=(key,)) for key in keys]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        return answers

    def test_twenty_of_one_key_are_one(self) -> None:
        endive = Crop.objects.get(slug="endive")
        for path, body, model in (
            ("/tasks", TASK, Task),
            ("/lots", {"crop_id": endive.pk, "quantity": "250 g", "received_on": "2027-07-01"}, Lot),
        ):
            before = model.objects.count()
            answers = self.all_at_once(path, body, [uid()] * 20)
            self.assertEqual({one.status_code for one in answers}, {200}, answers[0].content)
            self.assertEqual(len({one.content for one in answers}), 1)
            self.assertEqual(model.objects.count(), before + 1)

    def test_one_name_from_twenty_people_is_one_and_nineteen_are_told_at_the_field(self) -> None:
        endive = Crop.objects.get(slug="endive")
        body = {"crop_id": endive.pk, "name": "Frizz"}
        answers = self.all_at_once("/lines", body, [uid() for _ in range(20)])
        told = sorted(one.status_code for one in answers)
        self.assertEqual(told, [200] + [422] * 19, [one.content[:200] for one in answers])

    def test_of_two_managers_who_demote_each_other_one_stays(self) -> None:
        other = member(self.ctx, "bo", Role.MANAGER)
        members = {row.user_id: row.pk for row in Member.objects.filter(organisation=self.ctx.organisation)}
        ready, told = threading.Barrier(2), []

        def demote(by: User, whom: int) -> None:
            client = Client(raise_request_exception=False)
            client.force_login(by)
            ready.wait()
            answer = client.patch(f"/api/members/{whom}", {"role": "viewer"}, content_type="application/json")
            told.append(answer.status_code)
            connections.close_all()

        pairs = ((self.user, members[other.pk]), (other, members[self.user.pk]))
        threads = [threading.Thread(target=demote, args=pair) for pair in pairs]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertIn(sorted(told), ([200, 403], [200, 422]))
        self.assertEqual(Member.objects.filter(role="manager", active=True).count(), 1)

    def test_a_season_planned_by_two_at_once_is_planned_once(self) -> None:
        """D4: every line has one batch, however many press."""
        lines = [take_order(self.ctx, order=str(n), quantity="700", due="2027-W44").pk for n in range(3)]
        answers = self.all_at_once("/batches/plan-lines", {"line_ids": lines}, [uid() for _ in range(6)])
        self.assertTrue(all(one.status_code in (200, 422) for one in answers), [one.content for one in answers])
        given = list(Allocation.objects.values_list("order_line", flat=True))
        self.assertEqual(sorted(given), sorted(lines))

    def test_every_route_that_writes_goes_through_here(self) -> None:
        """A writing route that is answered outside of `Once` would break its promise."""
        from aldrip.accounts.once import APART

        apart = [path for method, path, _ in ROUTES if method != "GET" and f"/api{path}".startswith(APART)]
        self.assertEqual(apart, ["/calc/{name}"])
