"""The work that a plan asks for: what, when, where, how much and how many minutes."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, timedelta

from aldrip_core.batch_plan import Plan, PlannedStage
from aldrip_core.ground import Key
from aldrip_core.stages import TaskSpec
from aldrip_core.working_calendar import WorkingCalendar

LEAST_MINUTES, USUAL_MINUTES = 5, 15


@dataclass(frozen=True, slots=True)
class PlannedTask:
    """One piece of work of a batch, known by its stage's key and its own."""

    stage: str
    key: str
    kind: str
    at: str
    title: str
    place: Key | None
    day: date
    part: str
    quantity: float | None
    unit: str
    minutes: int
    caution: str


def tasks_of(plan: Plan, working: WorkingCalendar) -> Iterator[PlannedTask]:
    """All tasks that hang on a plan's stages, in order of work. What is done the day before falls on the last `working` day."""
    crop = plan.request.crop.name.lower()
    for stage in plan.stages:
        for task in stage.spec.tasks:
            quantity, unit = _quantity(stage, task)
            # Words are a person's own: a brace in them is a brace.
            yield PlannedTask(
                stage.spec.key, task.key, task.kind, task.at, task.words.replace("{crop}", crop), stage.place, _day(stage, task, working),
                task.part, quantity, unit, _minutes(task, quantity or 0), task.caution,
            )  # fmt: skip


def _quantity(stage: PlannedStage, task: TaskSpec) -> tuple[float | None, str]:
    """What a task is done to: units, trays, or nothing that is counted."""
    if task.minutes_per_unit:
        return float(round(stage.into)), stage.spec.unit.words
    return (float(stage.trays), "trays") if task.minutes_per_tray and stage.trays else (None, "")


def _day(stage: PlannedStage, task: TaskSpec, working: WorkingCalendar) -> date:
    if task.at == "end":
        return stage.dates.end
    return working.on_or_before(stage.dates.start - timedelta(days=1)) if task.at == "before" else stage.dates.start


def _minutes(task: TaskSpec, quantity: float) -> int:
    each = task.minutes_per_tray or task.minutes_per_unit
    return max(LEAST_MINUTES, round(each * quantity)) if each else round(task.minutes or USUAL_MINUTES)
