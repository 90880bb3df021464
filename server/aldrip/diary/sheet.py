"""The day sheet: what is due on a day, by place and part of day; what is overdue comes first."""

from collections import defaultdict
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any
from uuid import UUID

from django.db.models import Q

from aldrip.accounts.context import Ctx
from aldrip.base.words import day as day_words
from aldrip.base.words import number
from aldrip.diary.applications import closed_places
from aldrip.diary.models import OVERDUE, Task, reckoned
from aldrip.methods.models import Input
from aldrip.methods.resolver import Library
from aldrip_core.stages import Allowed

#: Rooms above say here which of these things are held, and why.
holders: list[Callable[[Ctx, Collection[UUID]], Mapping[UUID, str]]] = []


@dataclass(frozen=True)
class Beside:
    """Something to be done on a day that is no task: it follows from what is planned, and goes when that is done."""

    on: date
    part: str  # of the day
    words: str
    link: str
    wrong: bool = False


#: Rooms above say here what else is to be done on so many days from a day on.
beside: list[Callable[[Ctx, date, int], Sequence[Beside]]] = []
PARTS = ("early", "morning", "afternoon", "evening")
MARKS = {"todo": "☐", "done": "☑", "partly": "◪", "not_done": "☒", "held": "▥"}


def tasks_for(ctx: Ctx, day: date, days: int = 1) -> list[Task]:
    """Tasks due in `[day, day + days)`, and those still to do from before the organisation's today."""
    end = day + timedelta(days=days)
    # Care that comes again stands on its own day; on today's sheet too until it is done or the next one comes.
    care = Q(every=0) | Q(begins__gte=day)
    if day <= ctx.today < end:
        midnight = ctx.local(ctx.now).replace(hour=0, minute=0, second=0, microsecond=0)
        care |= Q(state__in=(Task.State.TODO, Task.State.PARTLY)) | Q(done_at__gte=midnight)
    due = Q(begins__lt=end, ends__gt=day) & care
    if day <= ctx.today < end:
        due |= OVERDUE & Q(ends__lte=day)
    rows = reckoned(ctx.rows(Task)).filter(due).select_related("place", "done_by")
    order = {part: index for index, part in enumerate(PARTS)}
    return sorted(
        _flag_held(ctx, _flag_banned(ctx, list(rows))),
        key=lambda t: (t.place.order if t.place else 999, order.get(t.part_of_day, 9), t.due_now, t.pk),
    )


def _flag_held(ctx: Ctx, tasks: list[Task]) -> list[Task]:
    """Say why nothing is to be done with what is held, where a task is about it."""
    subjects = {task.subject for task in tasks if task.subject and task.state == Task.State.TODO}
    held = {uuid: why for holder in holders for uuid, why in holder(ctx, subjects).items()} if subjects else {}
    shut = closed_places(ctx) if any(task.place_id and task.state == Task.State.TODO for task in tasks) else {}
    for task in tasks:
        todo = task.state == Task.State.TODO
        task.held = held.get(task.subject, "") if task.subject and todo else ""
        if todo and not task.held and task.place_id is not None:
            task.held = shut.get(task.place_id, "")
    return tasks


def _flag_banned(ctx: Ctx, tasks: list[Task]) -> list[Task]:
    """Say so at work that was planned with something which the house does not allow any more."""
    used = {task.input for task in tasks if task.input and task.state == Task.State.TODO}
    banned = dict(
        Library(ctx).rows(Input).filter(slug__in=used, allowed=Allowed.BANNED.value).values_list("slug", "name")
        if used
        else ()
    )
    for task in tasks:
        if task.input in banned and task.state == Task.State.TODO:
            now = f"{banned[task.input]} is banned in this house now: do not use it"
            task.caution = f"{now}. {task.caution}" if task.caution else now
    return tasks


def beside_of(ctx: Ctx, day: date, days: int = 1) -> list[Beside]:
    """What else is to be done on these days, by day and part of it."""
    found = [one for asked in beside for one in asked(ctx, day, days)]
    return sorted(found, key=lambda one: (one.on, PARTS.index(one.part), one.words))


def words_of(task: Task) -> str:
    """A task as a sentence: what, which batch, how much, and what is used."""
    quantity = f", {number(task.quantity)} {task.unit}" if task.quantity and task.unit else ""
    code = f" {task.subject_code}" if task.subject_code else ""
    uses = f"; with {task.uses}" if task.uses else ""
    return f"{task.title}{code}{quantity}{uses}"


def _why_now(task: Task, day: date) -> str:
    """Why it stands on this day although it was planned for another one."""
    if task.late_from <= day:
        return f" (since {day_words(task.due_now)})"
    return f" (planned for {day_words(task.due_from)}, waits for what comes before it)" if task.waits else ""


def sheet_of(ctx: Ctx, day: date) -> dict[str, Any]:
    """The facts of a printed day sheet."""
    by_place: dict[str, list[dict[str, Any]]] = defaultdict(list)
    tasks = tasks_for(ctx, day)
    for task in tasks:
        late = _why_now(task, day) if task.state == Task.State.TODO else ""
        by_place[task.place.name if task.place else "Anywhere"].append(
            {
                "mark": MARKS["held" if task.held else task.state],
                "part": task.part_of_day,
                "words": f"{'held: ' if task.held else ''}{words_of(task)}{late}",
                "held": task.held,
                "caution": task.caution,
                "note": task.note,
                "state": task.get_state_display(),
                "minutes_words": f"{task.minutes} min" if task.minutes else "",
            }
        )
    minutes = sum(t.minutes or 0 for t in tasks if t.state == Task.State.TODO)
    return {
        "organisation": ctx.organisation.name,
        "day_words": f"{day_words(day)} {day.year}",
        "summary": f"{len(tasks)} tasks, {minutes / 60:.1f} hours still to do",
        "beside": [{"part": one.part, "words": one.words, "mark": MARKS["todo"]} for one in beside_of(ctx, day)],
        "places": [{"name": name, "tasks": rows} for name, rows in by_place.items()],
    }
