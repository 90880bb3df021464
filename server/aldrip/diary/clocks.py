"""What runs by the clock: begun, read, gone on with and ended, each once, by whoever stands there; late where it was late."""

import uuid
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from django.utils import timezone

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.diary.models import Clock, ClockMark
from aldrip.methods.writing import timed_steps
from aldrip_core.timed_procedure import (
    LONGEST_MINUTES,
    AtStep,
    Strayed,
    TempRead,
    TimedStep,
    check_begun,
    check_steps,
    minutes_words,
    stands,
    strayed,
)

AHEAD = timedelta(minutes=2)  # by which the clock of a phone may go before that of the house
MANY = 200  # clocks that may run in a house at once
Ended = Callable[[Ctx, Clock, Sequence[Strayed]], None]
#: Rooms above hear when a clock of theirs ended or was put right afterwards.
enders: list[Ended] = []
#: Rooms above say here what else runs in the house: a medium that is washed, a place that nobody enters.
others: list[Callable[[Ctx], Sequence[Mapping[str, Any]]]] = []


@dataclass(frozen=True)
class ClockSpec:
    """What is begun: its name, steps, whose it is, how much of what, what is used."""

    name: str
    steps: Sequence[Mapping[str, Any]]
    of: str = ""
    uses: str = ""
    treatment: str = ""
    use_within_h: float | None = None
    note: str = ""


@dataclass(frozen=True)
class Course:
    """How a clock went so far: when its steps were begun, what was read, when it ended, what strayed."""

    clock: Clock
    steps: list[TimedStep]
    begun: list[datetime]
    readings: list[ClockMark]
    ended: datetime | None
    strayed: tuple[Strayed, ...]

    def at(self, now: datetime) -> AtStep:
        """Where it stands, or stood at its end."""
        return stands(self.steps, begun=self.begun, now=self.ended or now)


def course_of(clock: Clock, marks: Sequence[ClockMark] | None = None) -> Course:
    """A clock with its marks as they are now, corrected ones as they were put right."""
    rows = list(clock.marks.select_related("by").order_by("pk")) if marks is None else list(marks)
    gone = {one.replaces_id for one in rows}
    rows = [one for one in rows if one.pk not in gone]
    begun = sorted((one for one in rows if one.kind == ClockMark.Kind.BEGUN), key=lambda one: one.step)
    readings = sorted((one for one in rows if one.kind == ClockMark.Kind.READ), key=lambda one: (one.at, one.pk))
    ended = next((one.at for one in rows if one.kind == ClockMark.Kind.ENDED), None)
    steps, starts = timed_steps(clock.steps), [one.at for one in begun]
    read = [TempRead(one.at, one.temp_c) for one in readings if one.temp_c is not None]
    off = strayed(steps, begun=starts, ended=ended, readings=read)
    return Course(clock, steps, starts, readings, ended, off)


def running(ctx: Ctx, subjects: Collection[UUID] | None = None) -> list[Course]:
    """Clocks that run, of these subjects or of all, the one that ends first before the others; two queries."""
    rows = ctx.rows(Clock).filter(ended_at=None).select_related("by").prefetch_related("marks__by").order_by("pk")
    if subjects is not None:
        rows = rows.filter(subject__in=subjects)
    found = [course_of(clock, sorted(clock.marks.all(), key=lambda one: one.pk)) for clock in rows[:MANY]]
    return sorted(found, key=lambda one: one.at(timezone.now()).until)


def runs_on(ctx: Ctx, subject: UUID) -> Clock | None:
    """The clock that runs on a subject, if one does."""
    return ctx.rows(Clock).filter(ended_at=None, subject=subject).first()


def _moment(at: datetime | None, field: str = "at") -> datetime:
    """A moment that was, on the house's real clock. Raises Refused for one that is to come or too long ago."""
    now = timezone.now()
    if at is None:
        return now
    if at > now + AHEAD:
        told = "That is still to come. Is the clock of this device right?"
        raise refuse(field, "in_the_future", told)
    if at < now - timedelta(minutes=LONGEST_MINUTES):
        raise refuse(field, "too_long_ago", f"That is more than {LONGEST_MINUTES // 1440} days ago.")
    return min(at, now)


def begin(
    ctx: Ctx, spec: ClockSpec, *, subject: Any = None, at: datetime | None = None, client_uuid: UUID | None = None
) -> Clock:
    """Begin a clock with its first step; a repeat by uuid answers with the first. Call inside an act. Raises Refused."""
    key = client_uuid or uuid.uuid4()
    first = ctx.rows(ClockMark).filter(client_uuid=key).select_related("clock").first()
    if first is not None:
        return first.clock
    if not spec.name.strip():
        raise refuse("name", "missing", "What runs? A word or two for whoever walks past.")
    check_steps(timed_steps(spec.steps))
    if ctx.rows(Clock).filter(ended_at=None).count() >= MANY:
        raise refuse("name", "too_many", f"{MANY} clocks run already. End those that are over.")
    since = _moment(at)
    clock = Clock.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        name=spec.name.strip()[:120],
        subject_kind=subject._meta.model_name if subject is not None else "",
        subject=subject.uuid if subject is not None else None,
        subject_code=subject.code if subject is not None else "",
        treatment=spec.treatment,
        of=spec.of[:80],
        uses=spec.uses[:200],
        steps=[dict(one) for one in spec.steps],
        use_within_h=spec.use_within_h,
        begun_at=since,
        note=spec.note[:300],
    )
    _mark(ctx, clock, ClockMark.Kind.BEGUN, since, client_uuid=key)
    what = f" of {clock.subject_code}" if clock.subject_code else ""
    used = f", with {clock.uses}" if clock.uses else ""
    ctx.record("clock.begin", f"{clock.name}{what} begun{used}.", subject if subject is not None else clock)
    return clock


@act
def begin_own(
    ctx: Ctx, *, name: str, minutes: float, at_c: float | None, at: datetime | None, client_uuid: UUID
) -> Clock:
    """A clock of somebody's own, over nothing in particular."""
    step = {"name": name.strip() or "It", "minutes": minutes, "at_c": at_c}
    return begin(ctx, ClockSpec(name, [step]), at=at, client_uuid=client_uuid)


def _mark(ctx: Ctx, clock: Clock, kind: str, at: datetime, *, client_uuid: UUID, **values: Any) -> ClockMark:
    return ClockMark.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        clock=clock,
        kind=kind,
        at=at,
        happened_at=ctx.now,
        client_uuid=client_uuid,
        **values,
    )


def _known(ctx: Ctx, client_uuid: UUID) -> Clock | None:
    first = ctx.rows(ClockMark).filter(client_uuid=client_uuid).select_related("clock").first()
    return first.clock if first is not None else None


def _open(ctx: Ctx, clock_id: Ref) -> Clock:
    clock = ctx.get(Clock, clock_id, lock=True)
    if clock.ended_at is not None:
        when = ctx.local(clock.ended_at)
        told = f"{clock.name} ended at {when:%H:%M} on {when.day} {when:%b}. What was written down wrongly is put right there."
        raise refuse("clock_id", "ended", told)
    return clock


@act
def go_on(ctx: Ctx, clock_id: Ref, *, step: int, at: datetime | None, client_uuid: UUID) -> Clock:
    """The next step of a clock was begun: lifted out, cooled, laid to dry. `step`: which, so that two hands do it once."""
    known = _known(ctx, client_uuid)
    if known is not None:
        return known
    clock = _open(ctx, clock_id)
    course = course_of(clock)
    if step < len(course.begun):
        return clock  # somebody else began it a moment ago
    if len(course.begun) == len(course.steps):
        raise refuse("step", "out_of_range", f"{clock.name} is at its last step; what comes next is to end it.")
    if step > len(course.begun):
        raise refuse("step", "out_of_order", f"“{course.steps[len(course.begun)].name}” comes first.")
    moment = _moment(at)
    check_begun(course.steps, [*course.begun, moment])
    _mark(ctx, clock, ClockMark.Kind.BEGUN, moment, client_uuid=client_uuid, step=step)
    ctx.record("clock.step", f"{clock.name} {clock.subject_code}: {course.steps[step].name} begun.", clock)
    return clock


HOTTEST_C, COLDEST_C = 120.0, -40.0


@act
def read_warmth(
    ctx: Ctx,
    clock_id: Ref,
    *,
    temp_c: float,
    at: datetime | None,
    client_uuid: UUID,
    replaces: int | None = None,
    reason: str = "",
) -> Clock:
    """What a thermometer read [°C] while a clock ran, or a reading put right, after its end as well."""
    known = _known(ctx, client_uuid)
    if known is not None:
        return known
    if not COLDEST_C <= temp_c <= HOTTEST_C:
        told = f"{temp_c:g} °C cannot be; {COLDEST_C:g} to {HOTTEST_C:g}. Was it read in Fahrenheit? Write “122 F”."
        raise refuse("temp_c", "out_of_range", told)
    if replaces is None:
        clock, moment, old = _open(ctx, clock_id), _moment(at), None
        if moment < clock.begun_at:
            raise refuse("at", "out_of_order", "It had not begun then.")
    else:
        clock = ctx.get(Clock, clock_id, lock=True)
        old = clock.marks.filter(pk=replaces, kind=ClockMark.Kind.READ).first()
        if old is None:
            raise refuse("replaces", "elsewhere", "No such reading was taken of this clock.")
        if ClockMark.objects.filter(replaces=old).exists():
            raise refuse("replaces", "replaced", "That was put right already. Look again.")
        if not reason.strip():
            raise refuse("reason", "missing", "Say why it was wrong.")
        moment = old.at
    _mark(
        ctx,
        clock,
        ClockMark.Kind.READ,
        moment,
        client_uuid=client_uuid,
        temp_c=temp_c,
        replaces=old,
        reason=reason[:300],
    )
    was = f" (was {old.temp_c:g} °C): {reason}" if old is not None else ""
    ctx.record("clock.read", f"{clock.name} {clock.subject_code}: {temp_c:g} °C{was}.", clock)
    if clock.ended_at is not None and clock.outcome != Clock.Outcome.BROKEN_OFF:
        _judge(ctx, clock)
    return clock


@act
def end(
    ctx: Ctx, clock_id: Ref, *, at: datetime | None, client_uuid: UUID, broken_off: bool = False, note: str = ""
) -> Clock:
    """A clock ended: with all of its steps, or broken off, which needs a reason. What strayed is told."""
    known = _known(ctx, client_uuid)
    if known is not None:
        return known
    clock = _open(ctx, clock_id)
    course = course_of(clock)
    if broken_off and not note.strip():
        raise refuse("note", "missing", "Say why it was broken off.")
    moment = _moment(at)
    if moment < course.begun[-1]:
        raise refuse("at", "out_of_order", "It ends after its last step was begun.")
    short = strayed(course.steps, begun=course.begun, ended=moment, readings=[])
    told = "; ".join(one.words() for one in short if (one.off_minutes or 0) < 0)
    if told and not broken_off:
        ctx.doubt("short", "clock_id", f"{told}. Is it over all the same?")
    _mark(ctx, clock, ClockMark.Kind.ENDED, moment, client_uuid=client_uuid)
    clock.ended_at, clock.note = moment, (note.strip() or clock.note)[:300]
    clock.outcome = Clock.Outcome.BROKEN_OFF if broken_off else ""
    clock.save(update_fields=["ended_at", "note", "outcome"])
    _judge(ctx, clock)
    ctx.record("clock.end", f"{said_of(clock)}.", clock)
    return clock


def _judge(ctx: Ctx, clock: Clock) -> None:
    """Say how it went, and let the rooms that began it know."""
    off = course_of(clock).strayed
    if clock.outcome != Clock.Outcome.BROKEN_OFF:
        clock.outcome = Clock.Outcome.STRAYED if off else Clock.Outcome.HELD
        clock.save(update_fields=["outcome"])
    for ender in enders:
        ender(ctx, clock, off)


def said_of(clock: Clock) -> str:
    """How a clock went, in words."""
    what = f" {clock.subject_code}" if clock.subject_code else ""
    if clock.outcome == Clock.Outcome.BROKEN_OFF:
        return f"{clock.name}{what} broken off: {clock.note}"
    off = "; ".join(one.words() for one in course_of(clock).strayed)
    took = minutes_words(((clock.ended_at or timezone.now()) - clock.begun_at).total_seconds() / 60)
    return f"{clock.name}{what}: {off or 'as it should be'}, {took} in all"
