"""Tasks and counts: done, partly, not done with why; what was seen, once for each entry."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from django.db import models

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.diary.applications import ask_before_entering
from aldrip.diary.models import Count, Task
from aldrip.places.models import Place

LONGEST_MINUTES = 100_000


def _can_take(minutes: int | None, field: str) -> None:
    if minutes is not None and not 0 <= minutes <= LONGEST_MINUTES:
        raise refuse(field, "out_of_range", f"{minutes:,} minutes cannot be; write 0 to {LONGEST_MINUTES:,}.")


@act
def mark(
    ctx: Ctx,
    task_id: Ref,
    state: str,
    note: str = "",
    *,
    minutes_spent: int | None = None,
    quantity_done: float | None = None,
) -> Task:
    """Mark a task: by whom, how long it took [min] and how much of it was done. `not_done` and `partly` need a reason."""
    task = ctx.get(Task, task_id, lock=True)
    _can_take(minutes_spent, "minutes_spent")
    if quantity_done is not None and not 0 <= quantity_done <= 1e9:
        raise refuse("quantity_done", "out_of_range", "How much was done? Nothing or more.")
    if state in (Task.State.NOT_DONE, Task.State.PARTLY) and not note.strip():
        raise refuse("note", "missing", "Say why, so that whoever comes next knows.")
    if state in (Task.State.DONE, Task.State.PARTLY) and task.place is not None:
        ask_before_entering(ctx, task.place)
    task.state, task.note = state, note[:300]
    done = state in (Task.State.DONE, Task.State.PARTLY)
    task.minutes_spent = minutes_spent if done else None
    task.quantity_done = (
        (task.quantity if quantity_done is None and state == Task.State.DONE else quantity_done) if done else None
    )
    task.done_at = ctx.now if state != Task.State.TODO else None
    task.done_by = ctx.user if state != Task.State.TODO else None
    task.save()
    ctx.record(
        "task.mark",
        f"{task.title}: {Task.State(state).label}.",
        task,
        after={"state": state, "note": note, "minutes_spent": task.minutes_spent, "quantity_done": task.quantity_done},
    )
    return task


@act
def add_task(
    ctx: Ctx, *, title: str, due: date, place_id: int | None, part_of_day: str, minutes: int | None, note: str = ""
) -> Task:
    """A task of somebody's own."""
    if not title.strip():
        raise refuse("title", "missing", "Write what is to be done.")
    _can_take(minutes, "minutes")
    place = ctx.get(Place, place_id) if place_id else None
    task = Task.objects.create(
        organisation=ctx.organisation,
        kind="other",
        title=title.strip()[:200],
        due_from=due,
        due_to=due + timedelta(days=1),
        place=place,
        part_of_day=part_of_day,
        minutes=minutes,
        note=note,
    )
    ctx.record("task.add", f"Added: {task.title}.", task)
    return task


@dataclass(frozen=True)
class Work:
    """A piece of planned work of a subject: the key by which it is known, its kind, its words."""

    key: str
    kind: str
    title: str


def put_task(
    ctx: Ctx,
    subject: Any,
    work: Work,
    *,
    place: Place | None,
    due: date,
    until: date | None = None,
    part: str = "morning",
    minutes: int | None = None,
    caution: str = "",
    quantity: float | None = None,
    unit: str = "",
) -> Task:
    """Plan a piece of work of a subject, or move the one that stands open; a finished one is followed by a new one.

    `subject`: a row with a uuid and a code. Call inside a transaction.
    """
    rows = ctx.rows(Task).filter(subject=subject.uuid, stage="")
    values: dict[str, Any] = {
        "kind": work.kind,
        "title": work.title[:200],
        "place": place,
        "due_from": due,
        "due_to": until or due + timedelta(days=1),
        "part_of_day": part,
        "minutes": minutes,
        "caution": caution,
        "quantity": quantity,
        "unit": unit,
        "subject_kind": subject._meta.model_name,
        "subject_code": subject.code,
    }
    open_one = rows.filter(_is(work.key), state=Task.State.TODO).first()
    if open_one is not None:
        rows.filter(pk=open_one.pk).update(**values)
        open_one.refresh_from_db()
        return open_one
    before = rows.filter(_is(work.key)).count()
    key = f"{work.key}#{before + 1}" if before else work.key
    return Task.objects.create(organisation=ctx.organisation, subject=subject.uuid, key=key, **values)


def _is(key: str) -> models.Q:
    return models.Q(key=key) | models.Q(key__startswith=f"{key}#")


def drop_task(ctx: Ctx, subject: Any, work: Work) -> None:
    """The work is not wanted any more; what was done stays."""
    ctx.rows(Task).filter(subject=subject.uuid, stage="", state=Task.State.TODO).filter(_is(work.key)).delete()


def finish_task(ctx: Ctx, subject: Any, key: str) -> None:
    """The work of a key is done."""
    rows = ctx.rows(Task).filter(subject=subject.uuid, stage="", state=Task.State.TODO).filter(_is(key))
    rows.update(state=Task.State.DONE, done_at=ctx.now, done_by=ctx.user, quantity_done=models.F("quantity"))


def finish(
    ctx: Ctx, *, subject: uuid.UUID, stages: Sequence[str], at: Sequence[str] = ("start",), kinds: Sequence[str] = ()
) -> None:
    """Tick the tasks that a recorded event completes: of these stages, at these moments, of these kinds if any are named."""
    rows = ctx.rows(Task).filter(subject=subject, stage__in=list(stages), state=Task.State.TODO).exclude(key="")
    rows = rows.filter(kind__in=list(kinds)) if kinds else rows.filter(at__in=list(at))
    rows.update(state=Task.State.DONE, done_at=ctx.now, done_by=ctx.user, quantity_done=models.F("quantity"))


def record_count(
    ctx: Ctx,
    *,
    subject_kind: str,
    subject: uuid.UUID,
    stage: str,
    kind: str,
    sampled: int,
    found: int,
    parts: list[dict[str, Any]],
    cause: str,
    on: date,
    client_uuid: uuid.UUID,
    reason: str = "",
    replaces: Count | None = None,
) -> tuple[Count, bool]:
    """One count; a repeat with the same uuid answers with the first record. (count, whether new)."""
    first = ctx.rows(Count).filter(client_uuid=client_uuid).first()
    if first is not None:
        return first, False
    if not 0 <= found <= sampled:
        raise refuse("found", "out_of_range", f"{found} of {sampled} cannot be. Found lies between 0 and {sampled}.")
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Count today, or enter an earlier day.")
    return Count.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        subject_kind=subject_kind,
        subject=subject,
        stage=stage,
        kind=kind,
        sampled=sampled,
        found=found,
        parts=parts,
        cause=cause,
        happened_at=ctx.at(on),
        client_uuid=client_uuid,
        reason=reason[:300],
        replaces=replaces,
    ), True
