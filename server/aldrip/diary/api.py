"""The diary: the day sheet and its marks."""

from datetime import date, datetime
from typing import Any, Literal
from uuid import UUID

from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from aldrip.accounts import calendars
from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.pdf import answer_pdf, pdf
from aldrip.base.quantity import read_measure
from aldrip.base.schemas import TaskState
from aldrip.base.words import who
from aldrip.diary import services, sheet
from aldrip.diary.calendar import calendar_of
from aldrip.diary.models import Task
from aldrip_core.stage_work import AT_THE_BENCH

room = Room("diary")
open_router = Router(tags=["calendar"])


class TaskOut(Schema):
    id: int
    kind: str
    title: str
    words: str
    subject_kind: str
    subject_id: UUID | None
    subject_code: str
    stage: str
    place: str
    place_id: int | None
    due_from: date
    due_to: date
    planned_for: date | None  # where it waits for a step that is overdue
    late: bool
    part_of_day: str
    card: bool  # whether it is work at the bench, with a card of its stage
    every: int  # days after which it comes again; 0: it is done once
    quantity: float | None
    unit: str
    minutes: int | None
    minutes_spent: int | None
    quantity_done: float | None
    state: TaskState
    state_words: str
    held: str  # why it is held; empty where it is not
    caution: str
    note: str
    done_at: datetime | None
    done_by: str


class BesideOut(Schema):
    on: date
    part: str
    words: str
    link: str
    wrong: bool


class DayOut(Schema):
    day: date
    tasks: list[TaskOut]
    beside: list[BesideOut]  # what is to be done and is no task: it follows from what is planned
    minutes_todo: int


def task_out(task: Task, today: date) -> dict[str, Any]:
    names = (
        "id",
        "kind",
        "title",
        "subject_kind",
        "subject_code",
        "stage",
        "place_id",
        "part_of_day",
        "every",
        "quantity",
        "unit",
        "minutes",
        "minutes_spent",
        "quantity_done",
        "state",
        "caution",
        "note",
        "done_at",
    )
    return {
        **{name: getattr(task, name) for name in names},
        "words": sheet.words_of(task),
        "subject_id": task.subject,
        "place": task.place.name if task.place else "",
        "due_from": task.due_now,
        "due_to": task.late_from,
        "planned_for": task.due_from if task.waits else None,
        "late": task.state == Task.State.TODO and not task.every and task.late_from <= today,
        "state_words": task.get_state_display(),
        "held": task.held,
        "card": task.kind in AT_THE_BENCH and bool(task.stage) and task.subject_kind == "batch",
        "done_by": who(task.done_by),
    }


@room.get("/day", "see", response=DayOut)
def day(ctx: Ctx, day: date | None = None, days: int = 1) -> Any:
    """Tasks of a day or a few; what is overdue stands with today's."""
    if not 1 <= days <= 62:
        raise refuse("days", "out_of_range", "A sheet shows between 1 and 62 days.")
    chosen = day or ctx.today
    tasks = sheet.tasks_for(ctx, chosen, days)
    todo = sum(task.minutes or 0 for task in tasks if task.state == Task.State.TODO)
    return {
        "day": chosen,
        "tasks": [task_out(task, ctx.today) for task in tasks],
        "beside": sheet.beside_of(ctx, chosen, days),
        "minutes_todo": todo,
    }


@room.get("/day.pdf", "see")
def day_pdf(ctx: Ctx, day: date | None = None) -> HttpResponse:
    chosen = day or ctx.today
    return answer_pdf(f"day-sheet-{chosen}", pdf("print/day.html", sheet.sheet_of(ctx, chosen)))


@open_router.get("/calendar/{token}.ics")
def calendar(request: HttpRequest, token: str) -> HttpResponse:
    """The tasks of the house for whoever has a private address; no sign-in, and nothing but tasks."""
    ctx = calendars.read(token)
    return HttpResponse(calendar_of(ctx), content_type="text/calendar; charset=utf-8")


class TaskIn(Schema):
    title: str = Field(max_length=200)
    due: date
    place_id: int | None = None
    part_of_day: Literal["early", "morning", "afternoon", "evening"] = "morning"
    minutes: int | str | None = Field(default=None, description="minutes, or as typed: “1.5 h”")
    note: str = Field(default="", max_length=300)


@room.post("/tasks", "diary.do", response=TaskOut)
def add_task(ctx: Ctx, body: TaskIn) -> Any:
    given = body.dict() | {"minutes": _minutes(body.minutes, "minutes")}
    return task_out(services.add_task(ctx, **given), ctx.today)


def _minutes(given: int | str | None, field: str) -> int | None:
    """Minutes as a number or as typed."""
    if not isinstance(given, str):
        return given
    return round(read_measure(given, "min", field)) if given.strip() else None


class MarkIn(Schema):
    state: Literal["todo", "partly", "done", "not_done"]
    note: str = Field(default="", max_length=300)
    minutes_spent: int | str | None = Field(default=None, description="minutes, or as typed: “1.5 h”")
    quantity_done: float | str | None = Field(default=None, description="in the unit of the task, or as typed")


@room.post("/tasks/{ref:task_id}/mark", "diary.do", response=TaskOut)
def mark(ctx: Ctx, task_id: Ref, body: MarkIn) -> Any:
    minutes, quantity = _minutes(body.minutes_spent, "minutes_spent"), body.quantity_done
    if isinstance(quantity, str):
        of = ctx.get(Task, task_id).unit
        quantity = read_measure(quantity, of, "quantity_done") if quantity.strip() else None
    marked = services.mark(ctx, task_id, body.state, body.note, minutes_spent=minutes, quantity_done=quantity)
    return task_out(marked, ctx.today)
