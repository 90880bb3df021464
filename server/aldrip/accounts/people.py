"""People and their keys: passwords changed and set anew, doors unlocked and closed, a second factor for who wants one."""

import hmac
import re
import time
from dataclasses import dataclass

import pyotp
from axes.models import AccessAttempt
from axes.utils import reset as unlock_axes
from django.conf import settings
from django.contrib.auth.tokens import PasswordResetTokenGenerator
from django.core.exceptions import ValidationError
from django.db import connection, models, transaction
from django.http import HttpRequest
from django.utils import timezone
from django.utils.http import base36_to_int, int_to_base36

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.models import Member, Organisation, User
from aldrip.accounts.services import check_password
from aldrip.base.errors import Forbidden, LockedOut, SignInNeeded, refuse
from aldrip.base.words import who

FIRST_RUN = 7_305_002  # of advisory locks: one first run at a time
STEP_S = 30
KNOWN_COOKIE = "aldrip_known"
KNOWN_DAYS = 180
#: Wrong passwords for one name from anywhere, in the time that a lock lasts, after which only known devices are heard.
MOST_ANYWHERE = 40
LINKS = PasswordResetTokenGenerator()


def may_begin(word: str) -> None:
    """Whether somebody may set up the first nursery here; waits for anybody who just does. Raises Forbidden, Refused."""
    with connection.cursor() as cursor:
        cursor.execute("select pg_advisory_xact_lock(%s)", [FIRST_RUN])
    if Organisation.objects.exists():
        raise Forbidden("A nursery is set up already. Sign in, or ask its manager.")
    asked = settings.SET_UP_WORD
    if asked and not hmac.compare_digest(word.strip().encode(), asked.encode()):
        raise refuse(
            "word", "wrong", "This is not the word that stands where Aldrip was started. Look there, and copy it."
        )


class EnoughOfIt:
    """Ten spaces are no password."""

    def validate(self, password: str, user: User | None = None) -> None:
        if len(set(password.strip().lower())) < 5:
            raise ValidationError(
                "It repeats the same few characters; use at least five different ones.", code="too_plain"
            )

    def get_help_text(self) -> str:
        return "At least five different characters."


# --- signing in ----------------------------------------------------------------------------------------------------


def check_anywhere(request: HttpRequest, username: str) -> None:
    """Refuse a name that is being guessed from many addresses, except on a device on which it signed in before."""
    since = timezone.now() - settings.AXES_COOLOFF
    rows = AccessAttempt.objects.filter(username=username, attempt_time__gte=since)
    tried = rows.aggregate(n=models.Sum("failures_since_start"))["n"] or 0
    if tried < MOST_ANYWHERE:
        return
    known = request.get_signed_cookie(KNOWN_COOKIE, default="", max_age=KNOWN_DAYS * 86_400)
    if known != username:
        raise LockedOut(
            "This name is being guessed from many places. Sign in on a device on which you did before, or wait a quarter of an hour."
        )


def check_second(user: User, code: str) -> None:
    """The second factor of whoever has one. Raises SignInNeeded; a code counts once."""
    if not user.totp:
        return
    if not code.strip():
        raise SignInNeeded("Type the six digits that your second device shows now.", step="code")
    if not _counts(user, code):
        raise SignInNeeded("These six digits are not the ones of now. Wait for the next, and type those.", step="code")


def _counts(user: User, code: str) -> bool:
    """Whether a code is right and newer than the last one that was taken; it is taken then."""
    digits, now = "".join(one for one in code if one.isdigit()), int(time.time()) // STEP_S
    for step in (now, now - 1, now + 1):
        if hmac.compare_digest(pyotp.TOTP(user.totp).at(step * STEP_S), digits):
            newer = User.objects.filter(pk=user.pk, totp_step__lt=step).update(totp_step=step)
            return bool(newer)
    return False


# --- one's own -----------------------------------------------------------------------------------------------------


def _me(ctx: Ctx, password: str) -> User:
    if ctx.user is None:
        raise Forbidden("Nobody is signed in.")
    user = User.objects.select_for_update().get(pk=ctx.user.pk)
    if not user.check_password(password):
        raise refuse("password", "wrong", "This is not your password of now.")
    return user


@act
def change_password(ctx: Ctx, *, password: str, fresh: str) -> User:
    """Another password of one's own; it ends every other session of this person."""
    user = _me(ctx, password)
    if fresh == password:
        raise refuse("fresh", "same", "This is the password you have. Choose another one.")
    _set(user, fresh, "fresh")
    ctx.record("password.change", f"{who(user)} changed their password.", user)
    return user


def _set(user: User, password: str, field: str) -> None:
    check_password(password, user, field)
    user.set_password(password)
    user.save(update_fields=["password"])


@act
def end_sessions(ctx: Ctx) -> User:
    """Sign oneself out on every other device."""
    assert ctx.user is not None
    return _out_everywhere(ctx, ctx.user)


def _out_everywhere(ctx: Ctx, user: User) -> User:
    User.objects.filter(pk=user.pk).update(session_mark=models.F("session_mark") + 1)
    user.refresh_from_db()
    ctx.record("sessions.end", f"{who(user)} is signed out everywhere.", user)
    return user


@dataclass(frozen=True)
class Second:
    """A second factor that is offered: the secret, and the address that a device reads as a picture."""

    secret: str
    address: str


def offer_second(ctx: Ctx) -> Second:
    """A fresh secret for the person's device; nothing is kept until a code of it was typed."""
    assert ctx.user is not None
    secret = pyotp.random_base32()
    address = pyotp.TOTP(secret).provisioning_uri(name=ctx.user.username, issuer_name=f"Aldrip {ctx.organisation.name}")
    return Second(secret, address)


@act
def keep_second(ctx: Ctx, *, password: str, secret: str, code: str) -> User:
    """Ask for a code of that device at every sign-in from now on."""
    user = _me(ctx, password)
    if len(secret) != 32 or not set(secret) <= set("ABCDEFGHIJKLMNOPQRSTUVWXYZ234567"):
        raise refuse("code", "expired", "Begin again: this secret is not one that was offered.")
    user.totp, user.totp_step = secret, 0
    if not _valid_now(user, code):
        raise refuse(
            "code", "wrong", "These six digits are not the ones that the device shows now. Type the next ones."
        )
    user.save(update_fields=["totp", "totp_step"])
    ctx.record("second.on", f"{who(user)} signs in with a second factor from now on.", user)
    return user


def _valid_now(user: User, code: str) -> bool:
    digits = "".join(one for one in code if one.isdigit())
    return pyotp.TOTP(user.totp).verify(digits, valid_window=1)


@act
def drop_second(ctx: Ctx, *, password: str) -> User:
    """Sign in with the password alone again."""
    user = _me(ctx, password)
    return _without_second(ctx, user)


def _without_second(ctx: Ctx, user: User) -> User:
    user.totp = ""
    user.save(update_fields=["totp"])
    ctx.record("second.off", f"{who(user)} signs in without a second factor.", user)
    return user


# --- a manager's ---------------------------------------------------------------------------------------------------


def _other(ctx: Ctx, member_id: Ref) -> User:
    member = ctx.get(Member, member_id, lock=True)
    user = User.objects.select_for_update().get(pk=member.user_id)
    if Member.objects.filter(user=user).exclude(organisation=ctx.organisation).exists():
        raise Forbidden(f"{who(user)} belongs to another nursery as well; only they themselves may change this.")
    return user


@act
def link_for(ctx: Ctx, member_id: Ref) -> tuple[User, str]:
    """A link with which somebody sets a password of their own; it opens once, and for a day."""
    user = _other(ctx, member_id)
    ctx.record("password.link", f"Gave {who(user)} a link to set a password.", user)
    return user, link_of(user)


def link_of(user: User) -> str:
    """The end of an address that lets somebody set this person's password, once."""
    return f"{int_to_base36(user.pk)}.{LINKS.make_token(user)}"


@act
def unlock(ctx: Ctx, member_id: Ref) -> User:
    """Let somebody try again who typed too many wrong passwords."""
    user = _other(ctx, member_id)
    unlock_axes(username=user.username)
    ctx.record("member.unlock", f"Unlocked {who(user)}.", user)
    return user


@act
def sign_out(ctx: Ctx, member_id: Ref) -> User:
    """Sign somebody out on every device."""
    return _out_everywhere(ctx, _other(ctx, member_id))


@act
def take_second(ctx: Ctx, member_id: Ref) -> User:
    """Somebody lost the device of their second factor: they sign in with the password alone again."""
    return _without_second(ctx, _other(ctx, member_id))


def locked_names(names: list[str]) -> set[str]:
    """Which of some names are locked at one address or another. One query."""
    since = timezone.now() - settings.AXES_COOLOFF
    rows = AccessAttempt.objects.filter(username__in=names, attempt_time__gte=since)
    return set(rows.filter(failures_since_start__gte=settings.AXES_FAILURE_LIMIT).values_list("username", flat=True))


# --- with a link ---------------------------------------------------------------------------------------------------


@transaction.atomic
def set_by_link(link: str, password: str) -> User:
    """Set a password with a manager's link. The link is used up then, and every session of before has ended."""
    number, _, token = link.partition(".")
    pk = base36_to_int(number) if re.fullmatch("[0-9a-z]{1,12}", number) else None
    members = list(Member.objects.filter(user=pk).select_related("organisation").order_by("organisation"))
    for member in members:  # in line behind what else their houses do, as every act is
        Ctx(member.organisation, None, member.role).lock()
    user = User.objects.select_for_update().filter(pk=pk or 0).first()
    if user is None or not LINKS.check_token(user, token):
        raise Forbidden("This link was used, or is older than a day. Ask a manager for another one.")
    _set(user, password, "password")
    unlock_axes(username=user.username)
    for member in members:
        Ctx(member.organisation, user, member.role).record(
            "password.set", f"{who(user)} set a password with a link.", user
        )
    return user
