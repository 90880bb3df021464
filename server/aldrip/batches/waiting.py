"""Work that waits: what follows a step that was not done in its time stands as many days later on the day sheet."""

from collections.abc import Iterable
from datetime import date

from django.db.models import Q

from aldrip.accounts.context import Ctx
from aldrip.base.bulk import update_rows
from aldrip.batches.models import BatchStage
from aldrip.batches.overdue import overdue_days
from aldrip.batches.saved import Saved
from aldrip.diary.models import Task
from aldrip_core.work import delayed
from aldrip_core.working_calendar import WorkingCalendar


def refresh_waiting(ctx: Ctx, batches: Iterable[Saved]) -> None:
    """Bring `waits` of the tasks of these batches up to today. Days of the plan stay as they were planned."""
    by_subject = {one.batch.uuid: one for one in batches}
    behind = {known: days for known, one in by_subject.items() if (days := overdue_days(one, ctx.today))}
    # In most houses on most days nothing waits: one look at an index says so.
    rows = list(
        ctx.rows(Task)
        .filter(Q(waits__gt=0) | Q(subject__in=list(behind), state=Task.State.TODO), subject__in=list(by_subject))
        .exclude(stage="")
    )
    if not rows:
        return
    working = ctx.calendars()[0]
    changed = []
    for task in rows:
        saved = by_subject[task.subject]  # type: ignore[index]
        days = behind.get(saved.batch.uuid, 0)
        waits = (_now(saved, task, days, working) - task.due_from).days if days and task.state == Task.State.TODO else 0
        if waits != task.waits:
            changed.append((task.pk, waits))
    update_rows(Task, ("waits",), changed)


def _now(saved: Saved, task: Task, days: int, working: WorkingCalendar) -> date:
    stage, following = saved.stages.get(task.stage), saved.next
    if stage is None or following is None or not _comes_after(stage, following, task.at):
        return task.due_from
    return delayed(at=task.at, day=task.due_from, ends=stage.planned.upper, days=days, working=working)


def _comes_after(stage: BatchStage, following: BatchStage, at: str) -> bool:
    """Whether a task of a stage hangs on the step that is overdue. That step's own start is what is waited for."""
    if stage.key == following.key:
        return at == "end"
    return stage.actual_start is None and stage.order > following.order
