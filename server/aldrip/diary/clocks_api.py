"""Clocks: what runs in the house, what was read, what comes next."""

from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from django.utils import timezone
from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_measure
from aldrip.base.words import who
from aldrip.diary import clocks
from aldrip.diary.models import Clock
from aldrip_core.timed_procedure import minutes_words

room = Room("diary")

LATELY = timedelta(hours=24)
MOST_OVER = 20  # that ended lately


class ClockStepOut(Schema):
    """A step: how long [min], how warm [°C] within what; when it was begun, where it was."""

    name: str
    minutes: float
    lasts: str
    at_c: float | None
    give_c: float
    caution: str
    begun_at: datetime | None


class ClockReadOut(Schema):
    id: int
    at: datetime
    temp_c: float
    by: str
    reason: str


class ClockOut(Schema):
    """A clock: the step that runs, since when and until when; `strayed`: what was not as it should be, in words."""

    id: int
    name: str
    subject_kind: str
    subject_id: UUID | None
    subject_code: str
    of: str
    uses: str
    note: str
    by: str
    steps: list[ClockStepOut]
    step: int
    since: datetime
    until: datetime
    begun_at: datetime
    ended_at: datetime | None
    outcome_words: str
    readings: list[ClockReadOut]
    strayed: list[str]
    sentence: str


class OtherOut(Schema):
    """What else runs: since when, until when (None: until something is read), and what it blocks."""

    kind: str
    name: str
    code: str
    words: str
    since: datetime
    until: datetime | None
    link: str


class RunningOut(Schema):
    """`now`: the house's own clock, so that a device whose clock is wrong still shows what is left."""

    now: datetime
    zone: str
    clocks: list[ClockOut]
    over: list[ClockOut]
    others: list[OtherOut]


def clock_out(course: clocks.Course) -> dict[str, Any]:
    clock, now = course.clock, timezone.now()
    at = course.at(now)
    names = ("name", "subject_kind", "subject_code", "of", "uses", "note", "begun_at", "ended_at")
    return {
        "id": clock.pk,
        **{name: getattr(clock, name) for name in names},
        "subject_id": clock.subject,
        "by": who(clock.by),
        "steps": [
            {
                "name": step.name,
                "minutes": step.minutes,
                "lasts": minutes_words(step.minutes),
                "at_c": step.at_c,
                "give_c": step.give_c,
                "caution": row.get("caution") or "",
                "begun_at": course.begun[n] if n < len(course.begun) else None,
            }
            for n, (step, row) in enumerate(zip(course.steps, clock.steps, strict=True))
        ],
        "step": at.index,
        "since": at.since,
        "until": at.until,
        "outcome_words": clock.get_outcome_display() if clock.outcome else "",
        "readings": [
            {"id": one.pk, "at": one.at, "temp_c": one.temp_c, "by": who(one.by), "reason": one.reason}
            for one in course.readings
        ],
        "strayed": [one.words() for one in course.strayed],
        "sentence": clocks.said_of(clock) if clock.ended_at else "",
    }


@room.get("/clocks", "see", response=RunningOut)
def running(ctx: Ctx) -> Any:
    """What runs by the clock now, the first to end before the others, and what ended in the last day."""
    ended = ctx.rows(Clock).filter(ended_at__gte=timezone.now() - LATELY).order_by("-ended_at")
    over = ended.select_related("by").prefetch_related("marks__by")[:MOST_OVER]
    return {
        "now": timezone.now(),
        "zone": ctx.organisation.timezone,
        "clocks": [clock_out(one) for one in clocks.running(ctx)],
        "over": [clock_out(clocks.course_of(one, sorted(one.marks.all(), key=lambda mark: mark.pk))) for one in over],
        "others": [row for other in clocks.others for row in other(ctx)],
    }


class ClockBeginIn(Schema):
    """A clock of somebody's own: “Curing, tunnel 2” for “24 h”, at “30 C” where that matters."""

    name: str = Field(max_length=120)
    minutes: str = Field(max_length=20)
    at_c: str = Field("", max_length=20)
    at: datetime | None = None
    uuid: UUID


def _warmth(text: str, field: str) -> float:
    return read_measure(text, "°C", field)


@room.post("/clocks", "clocks.run", response=ClockOut)
def begin_clock(ctx: Ctx, body: ClockBeginIn) -> Any:
    """Begin a clock of one's own."""
    made = clocks.begin_own(
        ctx,
        name=body.name,
        minutes=read_measure(body.minutes, "min", "minutes"),
        at_c=_warmth(body.at_c, "at_c") if body.at_c.strip() else None,
        at=body.at,
        client_uuid=body.uuid,
    )
    return clock_out(clocks.course_of(made))


class ClockStepIn(Schema):
    """`step`: which step was begun, counted from 0; `at`: when, where that was not just now."""

    step: int
    at: datetime | None = None
    uuid: UUID


@room.post("/clocks/{ref:clock_id}/step", "clocks.run", response=ClockOut)
def next_step(ctx: Ctx, clock_id: Ref, body: ClockStepIn) -> Any:
    """The next step of a clock was begun."""
    return clock_out(clocks.course_of(clocks.go_on(ctx, clock_id, step=body.step, at=body.at, client_uuid=body.uuid)))


class ClockWarmthIn(Schema):
    """A warmth as it was read: “50.2”, “122 F”."""

    temp: str = Field(max_length=20)
    at: datetime | None = None
    uuid: UUID
    replaces: int | None = None
    reason: str = Field("", max_length=300)


@room.post("/clocks/{ref:clock_id}/warmth", "clocks.run", response=ClockOut)
def read_warmth(ctx: Ctx, clock_id: Ref, body: ClockWarmthIn) -> Any:
    """Write down what a thermometer read, or put a reading right."""
    if not body.temp.strip():
        raise refuse("temp", "missing", "What did the thermometer read?")
    made = clocks.read_warmth(
        ctx,
        clock_id,
        temp_c=_warmth(body.temp, "temp"),
        at=body.at,
        client_uuid=body.uuid,
        replaces=body.replaces,
        reason=body.reason,
    )
    return clock_out(clocks.course_of(made))


class ClockEndIn(Schema):
    at: datetime | None = None
    broken_off: bool = False
    note: str = Field("", max_length=300)
    uuid: UUID


@room.post("/clocks/{ref:clock_id}/end", "clocks.run", response=ClockOut)
def end_clock(ctx: Ctx, clock_id: Ref, body: ClockEndIn) -> Any:
    """A clock ended, or was broken off."""
    made = clocks.end(ctx, clock_id, at=body.at, broken_off=body.broken_off, note=body.note, client_uuid=body.uuid)
    return clock_out(clocks.course_of(made))
