"""Sign-in, the nursery, its people, what was done."""

import json
from datetime import date, datetime
from typing import Any
from uuid import UUID

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.contrib.auth.signals import user_login_failed
from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import get_token
from ninja import Field, Query, Router, Schema
from ninja.utils import check_csrf

from aldrip.accounts import people, services, taking_back
from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.models import AuditEvent, ClosedDay, Member, Role, User
from aldrip.accounts.permissions import ALLOWED, may
from aldrip.accounts.routes import Room
from aldrip.base.errors import Forbidden, LockedOut, SignInNeeded
from aldrip.base.schemas import Done
from aldrip.base.typed import MaybeCount, MaybeShare
from aldrip.base.words import who

open_router = Router(tags=["session"])
room = Room("accounts")


class OrganisationOut(Schema):
    id: int
    name: str
    timezone: str
    practice_date: date | None
    working_days: list[int]
    sowing_days: list[int]
    chance_wanted: float
    safety_days: int
    hours_week: int | None
    part_trays: bool
    two_pairs: bool
    raises: list[str]


class SessionOut(Schema):
    csrf: str
    empty: bool
    asks_word: bool = False  # an empty house asks for the word that its start says
    signed_in: bool
    username: str = ""
    full_name: str = ""
    role: str = ""
    may: list[str] = []
    today: date | None = None
    new_day: bool = False  # what is overdue was not reckoned from today yet
    organisation: OrganisationOut | None = None


LONGEST_NAME = 150


class SignInIn(Schema):
    username: str
    password: str
    code: str = ""  # of the second factor, where there is one


def _session(request: HttpRequest) -> dict[str, Any]:
    base: dict[str, Any] = {"csrf": get_token(request), "empty": services.is_empty(), "signed_in": False}
    base["asks_word"] = base["empty"] and bool(settings.SET_UP_WORD)
    user = request.user
    if not isinstance(user, User):
        return base
    member = Member.objects.select_related("organisation").filter(user=user, active=True).order_by("id").first()
    if member is None:
        return base
    ctx = Ctx(member.organisation, user, member.role)
    return {
        **base,
        "signed_in": True,
        "username": user.username,
        "full_name": who(user),
        "role": member.role,
        "may": [action for action in ALLOWED if may(member.role, action)],
        "today": ctx.today,
        "organisation": member.organisation,
        "new_day": member.organisation.reckoned_on != ctx.today,
    }


@open_router.get("/session", response=SessionOut)
def session(request: HttpRequest) -> dict[str, Any]:
    """Who is signed in, and the token that every change needs."""
    return _session(request)


@open_router.post("/session", response=SessionOut)
def sign_in(request: HttpRequest, answer: HttpResponse, body: SignInIn) -> dict[str, Any]:
    """Sign in. After five wrong passwords the name is locked for a quarter of an hour."""
    if check_csrf(request):
        raise Forbidden("This page is out of date. Reload it and try again.")
    username = body.username.strip().lower()
    if len(username) > LONGEST_NAME:  # nobody is called so, and no record of it is kept
        raise SignInNeeded("Name or password is wrong.")
    people.check_anywhere(request, username)
    user = authenticate(request, username=username, password=body.password)
    if not isinstance(user, User):
        raise SignInNeeded("Name or password is wrong.")
    try:
        people.check_second(user, body.code)
    except SignInNeeded:
        if body.code.strip():  # guessing digits is guessing
            user_login_failed.send(__name__, credentials={"username": username}, request=request)
        raise
    login(request, user)
    answer.set_signed_cookie(
        people.KNOWN_COOKIE,
        username,
        max_age=people.KNOWN_DAYS * 86_400,
        httponly=True,
        samesite="Lax",
        secure=request.is_secure(),
    )
    return _session(request)


def locked_out(request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
    """What axes answers while a name is locked."""
    locked = LockedOut("Too many wrong passwords. Wait a quarter of an hour, or ask a manager.")
    return HttpResponse(json.dumps(locked.problem()), status=locked.status, content_type="application/problem+json")


@open_router.delete("/session", response=SessionOut)
def sign_out(request: HttpRequest) -> dict[str, Any]:
    if check_csrf(request):
        raise Forbidden("This page is out of date. Reload it and try again.")
    logout(request)
    return _session(request)


class OrganisationIn(Schema):
    name: str | None = None
    timezone: str | None = None
    working_days: list[int] | None = None
    sowing_days: list[int] | None = None
    chance_wanted: MaybeShare = None
    safety_days: MaybeCount = None
    hours_week: MaybeCount = None
    part_trays: bool | None = None
    two_pairs: bool | None = None


@room.patch("/organisation", "accounts.manage", response=OrganisationOut)
def change_organisation(ctx: Ctx, body: OrganisationIn) -> Any:
    return services.change_organisation(ctx, **body.dict())


class MemberOut(Schema):
    id: int
    username: str
    full_name: str
    role: str
    active: bool
    locked: bool = False
    second: bool = False


class MemberIn(Schema):
    username: str
    password: str
    full_name: str
    role: str


class MemberChange(Schema):
    role: str | None = None
    active: bool | None = None


def _member(member: Member) -> dict[str, Any]:
    return {
        "id": member.pk,
        "username": member.user.username,
        "full_name": member.user.get_full_name(),
        "role": member.role,
        "active": member.active,
        "second": bool(member.user.totp),
    }


@room.get("/members", "accounts.manage", response=list[MemberOut])
def members(ctx: Ctx) -> Any:
    found = list(ctx.rows(Member).select_related("user").order_by("id"))
    locked = people.locked_names([member.user.username for member in found])
    return [{**_member(member), "locked": member.user.username in locked} for member in found]


@room.post("/members", "accounts.manage", response=MemberOut)
def add_member(ctx: Ctx, body: MemberIn) -> Any:
    return _member(services.add_member(ctx, **body.dict()))


@room.patch("/members/{ref:member_id}", "accounts.manage", response=MemberOut)
def change_member(ctx: Ctx, member_id: Ref, body: MemberChange) -> Any:
    return _member(services.change_member(ctx, member_id, **body.dict()))


class ClosedDayIn(Schema):
    """One day, or all `until` another one."""

    day: date
    until: date | None = None
    name: str = ""
    closed: bool = True


class ClosedDayOut(Schema):
    day: date
    name: str


@room.get("/closed-days", "see", response=list[ClosedDayOut])
def closed_days(ctx: Ctx) -> Any:
    return ctx.rows(ClosedDay).order_by("day")


@room.post("/closed-days", "accounts.manage", response=Done)
def close_day(ctx: Ctx, body: ClosedDayIn) -> Any:
    services.close_days(ctx, body.day, body.until or body.day, body.name, body.closed)
    return {"message": "Saved."}


class ClockIn(Schema):
    to: date


@room.post("/practice-clock", "clock.advance", response=OrganisationOut)
def advance_clock(ctx: Ctx, body: ClockIn) -> Any:
    return services.advance_clock(ctx, body.to)


class AuditOut(Schema):
    id: int
    action: str
    sentence: str
    actor: str
    happened_at: datetime
    recorded_at: datetime
    subject_kind: str
    subject_id: UUID | None
    can_undo: bool
    can_take_back: bool
    taken_back: str  # why, and by whom; empty where it stands


UNDOABLE = ("batch.keep", "batch.new", "batch.resow")


def audit_row(ctx: Ctx, event: AuditEvent) -> dict[str, Any]:
    return {
        "id": event.pk,
        "action": event.action,
        "sentence": event.sentence,
        "actor": who(event.actor),
        "happened_at": ctx.local(event.happened_at),
        "recorded_at": ctx.local(event.recorded_at),
        "subject_kind": event.subject_kind,
        "subject_id": event.subject,
        "can_undo": event.action in UNDOABLE and event.undone_by_id is None,
        "can_take_back": taking_back.may_be(ctx, event),
        "taken_back": _taken_back(event),
    }


def _taken_back(event: AuditEvent) -> str:
    done = event.undone_by
    if done is None:
        return ""
    return f"taken back by {who(done.actor, 'nobody')}"


@room.get("/acts", "see", response=list[AuditOut])
def acts(ctx: Ctx, subject: Query[list[UUID]], limit: int = 30) -> Any:
    """What was done to one thing and what belongs to it, newest first."""
    rows = ctx.rows(AuditEvent).filter(subject__in=subject).select_related("actor", "undone_by__actor").order_by("-id")
    return [audit_row(ctx, event) for event in rows[: min(max(limit, 1), 200)]]


class ActOut(Schema):
    id: int
    sentence: str
    actor: str
    happened_at: datetime


class BackOut(Schema):
    """What would go if an act were taken back: what it did, what rests on it, the papers that are out."""

    events: list[ActOut]
    rests: list[ActOut]
    papers: list[str]


def _act_row(ctx: Ctx, event: AuditEvent) -> dict[str, Any]:
    actor = who(event.actor)
    return {"id": event.pk, "sentence": event.sentence, "actor": actor, "happened_at": ctx.local(event.happened_at)}


@room.get("/acts/{ref:event_id}/back", "acts.take_back", response=BackOut)
def rests_on(ctx: Ctx, event_id: Ref) -> Any:
    back = taking_back.rests_on(ctx, event_id)
    return {
        "events": [_act_row(ctx, one) for one in back.events],
        "rests": [_act_row(ctx, one) for one in back.rests],
        "papers": list(back.papers),
    }


class TakeBackIn(Schema):
    reason: str = Field(max_length=300)
    known: list[int] = Field(max_length=2000)


@room.post("/acts/{ref:event_id}/take-back", "acts.take_back", response=AuditOut)
def take_back(ctx: Ctx, event_id: Ref, body: TakeBackIn) -> Any:
    return audit_row(ctx, taking_back.take_back(ctx, event_id, reason=body.reason, known=body.known))


@room.get("/audit", "accounts.audit", response=list[AuditOut])
def audit(ctx: Ctx, kind: str = "", subject: UUID | None = None, limit: int = 100) -> Any:
    rows = ctx.rows(AuditEvent).select_related("actor", "undone_by__actor").order_by("-id")
    if kind:
        rows = rows.filter(subject_kind=kind)
    if subject is not None:
        rows = rows.filter(subject=subject)
    return [audit_row(ctx, event) for event in rows[: min(max(limit, 1), 500)]]


class RoleOut(Schema):
    value: str
    label: str


@room.get("/roles", "see", response=list[RoleOut])
def roles(ctx: Ctx) -> Any:
    return [{"value": value, "label": label} for value, label in Role.choices]
