"""People and their keys: each way in is opened and shut, twice, late, and by whoever may not."""

import time
from datetime import timedelta
from typing import Any
from unittest import mock

import pyotp
from axes.models import AccessAttempt
from django.conf import settings
from django.contrib.sessions.models import Session
from django.test import Client, override_settings
from django.utils import timezone

from aldrip.accounts import housekeeping, people
from aldrip.accounts.models import Answered, Member, Role, User
from tests.server.house import HouseCase, make_house, member, uid

OLD, NEW = "bright-orange-pots", "quiet 9 green trays"


class Keys(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.una = member(self.ctx, "una", Role.SUPERVISOR)
        self.una.set_password(OLD)
        self.una.save()
        self.her = Member.objects.get(user=self.una)

    def sign_in(self, password: str, client: Client | None = None, code: str = "", **more: Any) -> int:
        client = client or Client()
        body = {"username": "una", "password": password, "code": code}
        answer = client.post("/api/session", body, content_type="application/json", **more)
        self.last = answer.json()
        return int(answer.status_code)

    def as_una(self) -> Client:
        client = Client()
        self.assertEqual(self.sign_in(OLD, client), 200)
        return client

    def ask(self, client: Client, path: str, status: int = 200, **body: Any) -> Any:
        answer = client.post(f"/api{path}", body, content_type="application/json")
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def test_a_changed_password_keeps_this_session_and_ends_the_others(self) -> None:
        here, there = self.as_una(), self.as_una()
        told = self.ask(here, "/account/password", 422, password="wrong", fresh=NEW)
        self.assertEqual(told["errors"][0]["field"], "password")
        for fresh, code in (
            (OLD, "same"),
            ("short", "weak"),
            (" " * 12, "weak"),
            ("aaaaabbbbb", "weak"),
            ("una-una-una", "weak"),
        ):
            told = self.ask(here, "/account/password", 422, password=OLD, fresh=fresh)
            self.assertEqual((told["errors"][0]["field"], told["errors"][0]["code"]), ("fresh", code), fresh)
        self.ask(here, "/account/password", password=OLD, fresh=NEW)
        self.assertEqual(here.get("/api/account").status_code, 200)
        self.assertEqual(there.get("/api/account").status_code, 401)
        self.assertEqual((self.sign_in(OLD), self.sign_in(NEW)), (401, 200))

    def test_signed_out_elsewhere_and_by_a_manager_everywhere(self) -> None:
        here, there = self.as_una(), self.as_una()
        self.ask(here, "/account/sign-out-elsewhere")
        self.assertEqual((here.get("/api/account").status_code, there.get("/api/account").status_code), (200, 401))
        self.post(f"/members/{self.her.pk}/sign-out")
        self.assertEqual(here.get("/api/account").status_code, 401)
        self.assertEqual(self.sign_in(OLD), 200)

    def test_a_managers_link_sets_a_password_once_and_for_a_day(self) -> None:
        link = self.post(f"/members/{self.her.pk}/link")
        self.assertIn("<svg", link["picture"])
        token = link["path"].removeprefix("/password/")
        door = Client()
        self.assertEqual(self.ask(door, "/password", 422, link=token, password="short")["errors"][0]["code"], "weak")
        for wrong in ("", "x", token + "x", "1." + token.partition(".")[2], "zzzzzzzzzzzzzz.x", "ü.x"):
            self.ask(door, "/password", 403, link=wrong, password=NEW)
        with mock.patch("django.contrib.auth.tokens.PasswordResetTokenGenerator._now") as now:
            from datetime import datetime

            now.return_value = datetime.now() + timedelta(days=1, minutes=1)
            self.ask(door, "/password", 403, link=token, password=NEW)
        session = self.as_una()
        link = self.post(f"/members/{self.her.pk}/link")
        token = link["path"].removeprefix("/password/")
        self.ask(door, "/password", link=token, password=NEW)
        self.ask(door, "/password", 403, link=token, password=NEW + "!")
        self.assertEqual(session.get("/api/account").status_code, 401)
        self.assertEqual(self.sign_in(NEW), 200)

    def test_whoever_belongs_to_two_nurseries_is_not_a_managers_to_let_in(self) -> None:
        other = make_house("Elsewhere", username="bo")
        Member.objects.create(user=self.una, organisation=other.organisation, role=Role.VIEWER)
        for path in ("link", "unlock", "sign-out", "second/drop"):
            self.post(f"/members/{self.her.pk}/{path}", status=403)

    def test_locked_by_wrong_passwords_shown_and_unlocked(self) -> None:
        for _ in range(settings.AXES_FAILURE_LIMIT):
            self.sign_in("wrong")
        self.assertEqual(self.sign_in(OLD), 429)
        row = next(one for one in self.get("/members") if one["username"] == "una")
        self.assertTrue(row["locked"])
        self.post(f"/members/{self.her.pk}/unlock")
        self.assertFalse(next(one for one in self.get("/members") if one["username"] == "una")["locked"])
        self.assertEqual(self.sign_in(OLD), 200)

    def test_guessed_from_many_addresses_only_a_known_device_is_heard(self) -> None:
        known = self.as_una()
        for n in range(people.MOST_ANYWHERE):
            self.sign_in("wrong", REMOTE_ADDR=f"10.0.0.{n}")
        self.assertEqual(self.sign_in(OLD, REMOTE_ADDR="10.9.9.9"), 429)
        self.assertEqual(self.sign_in(OLD, known, REMOTE_ADDR="10.9.9.9"), 200)
        AccessAttempt.objects.update(attempt_time=timezone.now() - settings.AXES_COOLOFF - timedelta(minutes=1))
        self.assertEqual(self.sign_in(OLD, REMOTE_ADDR="10.9.9.9"), 200)

    def test_a_second_factor_asks_takes_each_code_once_and_can_be_done_without(self) -> None:
        here = self.as_una()
        offered = self.ask(here, "/account/second/offer")
        device = pyotp.TOTP(offered["secret"])
        self.assertEqual(self.sign_in(OLD), 200)  # nothing is asked before a code was typed
        told = self.ask(here, "/account/second", 422, password=OLD, secret=offered["secret"], code="000000")
        self.assertEqual(told["errors"][0]["field"], "code")
        self.ask(here, "/account/second", 422, password="x", secret=offered["secret"], code=device.now())
        self.ask(here, "/account/second", 422, password=OLD, secret="ABC", code=device.now())
        self.ask(here, "/account/second", password=OLD, secret=offered["secret"], code=device.now())
        self.assertEqual((self.sign_in(OLD), self.last["step"]), (401, "code"))
        code = device.now()
        self.assertEqual(self.sign_in(OLD, code=f"{code[:3]} {code[3:]}"), 200)
        self.assertEqual(self.sign_in(OLD, code=code), 401)  # the same six digits, read over a shoulder
        later = int(time.time()) + 30
        self.assertEqual(self.sign_in(OLD, code=device.at(later)), 200)
        for _ in range(settings.AXES_FAILURE_LIMIT):
            self.sign_in(OLD, code="123456")
        self.assertEqual(self.sign_in(OLD, code=device.at(later + 30)), 429)  # digits are not guessed for ever
        self.post(f"/members/{self.her.pk}/unlock")
        self.post(f"/members/{self.her.pk}/second/drop")
        self.assertEqual(self.sign_in(OLD), 200)

    def test_only_managers_hand_out_keys(self) -> None:
        hers = self.as_una()
        me = Member.objects.get(user=self.ctx.user)
        for path in ("link", "unlock", "sign-out", "second/drop"):
            self.ask(hers, f"/members/{me.pk}/{path}", 403)

    def test_what_is_over_is_swept_and_what_is_not_stays(self) -> None:
        self.as_una()
        self.as_una()
        Session.objects.filter(pk=Session.objects.first().pk).update(expire_date=timezone.now() - timedelta(days=1))  # type: ignore[union-attr]
        for age in (1, 8):
            row = Answered.objects.create(user=self.una, key=uid(), asked="", status=200, kind="", body=b"", rooms="")
            Answered.objects.filter(pk=row.pk).update(made_at=timezone.now() - timedelta(days=age))
        before = Session.objects.count()
        went = housekeeping.sweep()
        self.assertEqual((went["sessions"], went["keys"]), (1, 1))
        self.assertEqual((Session.objects.count(), Answered.objects.count()), (before - 1, 1))
        self.assertEqual(sum(housekeeping.sweep().values()), 0)

    @override_settings(SET_UP_WORD="teasel")
    def test_an_empty_house_asks_for_its_word_and_a_full_one_for_nothing(self) -> None:
        self.assertFalse(Client().get("/api/session").json()["asks_word"])
        Member.objects.all().delete()
        User.objects.all().delete()
        with mock.patch("aldrip.accounts.services.is_empty", return_value=True):
            self.assertTrue(Client().get("/api/session").json()["asks_word"])
