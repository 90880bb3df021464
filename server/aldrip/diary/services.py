"""Tasks and counts: done, partly, not done with why; what was seen, once for each entry."""

import uuid
from collections.abc import Sequence
from datetime import date, timedelta
from typing import Any

from django.db import IntegrityError, transaction

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.diary.models import Count, Task
from aldrip.places.models import Place


@transaction.atomic
def mark(ctx: Ctx, task_id: int, state: str, note: str = "") -> Task:
    """Mark a task. `not_done` and `partly` need a reason."""
    task = ctx.get(Task, task_id, lock=True)
    if state in (Task.State.NOT_DONE, Task.State.PARTLY) and not note.strip():
        raise refuse("note", "missing", "Say why, so that whoever comes next knows.")
    task.state, task.note = state, note
    task.done_at = ctx.now if state != Task.State.TODO else None
    task.done_by = ctx.user if state != Task.State.TODO else None
    task.save()
    ctx.record("task.mark", f"{task.title}: {Task.State(state).label}.", task, after={"state": state, "note": note})
    return task


@transaction.atomic
def add_task(
    ctx: Ctx, *, title: str, due: date, place_id: int | None, part_of_day: str, minutes: int | None, note: str = ""
) -> Task:
    """A task of somebody's own."""
    if not title.strip():
        raise refuse("title", "missing", "Write what is to be done.")
    place = ctx.get(Place, place_id) if place_id else None
    task = Task.objects.create(
        organisation=ctx.organisation, kind="other", title=title.strip()[:200], due_from=due,
        due_to=due + timedelta(days=1), place=place, part_of_day=part_of_day, minutes=minutes, note=note,
    )  # fmt: skip
    ctx.record("task.add", f"Added: {task.title}.", task)
    return task


def finish(ctx: Ctx, *, subject_kind: str, subject_id: int, stage: int, kinds: Sequence[str]) -> None:
    """Tick the tasks that a recorded event completes."""
    ctx.rows(Task).filter(
        subject_kind=subject_kind, subject_id=subject_id, stage=stage, kind__in=kinds, state=Task.State.TODO
    ).update(state=Task.State.DONE, done_at=ctx.now, done_by=ctx.user)


def record_count(
    ctx: Ctx, *, subject_kind: str, subject_id: int, stage: int | None, kind: str, sampled: int, found: int,
    parts: list[dict[str, Any]], cause: str, on: date, client_uuid: uuid.UUID, reason: str = "",
    replaces: Count | None = None,
) -> tuple[Count, bool]:  # fmt: skip
    """One count; a repeat with the same uuid answers with the first record. (count, whether new)."""
    first = ctx.rows(Count).filter(client_uuid=client_uuid).first()
    if first is not None:
        return first, False
    if not 0 <= found <= sampled:
        raise refuse("found", "out_of_range", f"{found} of {sampled} cannot be. Found lies between 0 and {sampled}.")
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Count today, or enter an earlier day.")
    try:
        with transaction.atomic():
            return Count.objects.create(
                organisation=ctx.organisation, by=ctx.user, subject_kind=subject_kind, subject_id=subject_id, stage=stage,
                kind=kind, sampled=sampled, found=found, parts=parts, cause=cause, happened_at=ctx.at(on),
                client_uuid=client_uuid, reason=reason, replaces=replaces,
            ), True  # fmt: skip
    except IntegrityError:  # the same entry arrived twice at once
        return ctx.rows(Count).get(client_uuid=client_uuid), False
