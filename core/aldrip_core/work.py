"""The work that a plan asks for: what, when, where, how much and how many minutes."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date, timedelta

from aldrip_core.batch_plan import Plan, PlannedStage
from aldrip_core.ground import Key
from aldrip_core.stages import Allowed, TaskSpec
from aldrip_core.units import Quantity, Unit
from aldrip_core.whole import ceil_whole
from aldrip_core.working_calendar import WorkingCalendar

LEAST_MINUTES, USUAL_MINUTES = 5, 15
MOST_TIMES = 400  # that care comes in a stage: every day of a year


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
    input: str = ""  # slug of what is used
    uses: str = ""  # its name, and how much of it
    every: int = 0  # days after which it comes again; 0: it is done once
    until: date | None = (
        None  # first day on which it is not asked any more: care that comes again is by then the next one's
    )

    @property
    def ends(self) -> date:
        """The first day after."""
        return self.until or self.day + timedelta(days=1)


def tasks_of(plan: Plan, working: WorkingCalendar) -> Iterator[PlannedTask]:
    """All tasks that hang on a plan's stages, in order of work. What is done the day before falls on the last `working` day."""
    crop = plan.request.crop.name.lower()
    for stage in plan.stages:
        yield from _cool_moves(stage, crop, working)
        for task in stage.spec.tasks:
            quantity, unit = _quantity(stage, task)
            # Words are a person's own: a brace in them is a brace.
            title = task.words.replace("{crop}", crop)
            day = _day(stage, task, working)
            if task.after_days and day >= stage.dates.end > stage.dates.start:
                continue  # by then they have gone on
            if plan.request.leaves is not None and stage.spec.key == plan.request.method.last.key and task.at == "end":
                day = max(day, working.on_or_after(plan.request.leaves[0]))  # loaded on the day of delivery, not before
            planned = PlannedTask(
                stage.spec.key,
                task.key,
                task.kind,
                task.at,
                title,
                stage.place,
                day,
                task.part,
                quantity,
                unit,
                _minutes(task, quantity or 0),
                _caution(task),
                task.uses.slug if task.uses else "",
                _used(stage, task),
            )
            yield from _again(planned, task.every_days, stage.dates.end, working) if task.every_days else (planned,)


def again_on(first: date, end: date, every: int, working: WorkingCalendar) -> tuple[date, ...]:
    """Days of care that comes again every so many days from `first` on until before `end`, counted from `first`.

    The first day is kept as it is; what falls on a day that is not worked is done on the last one before, and left out
    where there is none since the time before.

    >>> from aldrip_core.working_calendar import WorkingCalendar as Calendar
    >>> [day.day for day in again_on(date(2027, 3, 1), date(2027, 3, 15), 5, Calendar())]
    [1, 5, 11]
    """
    found, meant = [first], first
    while (meant := meant + timedelta(days=every)) < end and len(found) < MOST_TIMES:
        day = meant
        while day > found[-1] and not working.works(day):
            day -= timedelta(days=1)
        if day > found[-1]:
            found.append(day)
    return tuple(found)


def _again(task: PlannedTask, every: int, end: date, working: WorkingCalendar) -> Iterator[PlannedTask]:
    """A task once for each day on which it comes, asked until the next one is."""
    days = again_on(task.day, end, every, working)
    for n, day in enumerate(days):
        until = days[n + 1] if n + 1 < len(days) else max(end, day + timedelta(days=1))
        key = task.key if n == 0 else f"{task.key}.{n + 1}"
        yield replace(task, key=key, day=day, every=every, until=until)


def _cool_moves(stage: PlannedStage, crop: str, working: WorkingCalendar) -> Iterator[PlannedTask]:
    """There and back for seed that must lie cool first."""
    stay = stage.cooled
    if stay is None:
        return
    moves = (
        ("cool-in", "start", f"Stand {crop} in the cool until it has swollen", stay.place, stay.since),
        ("cool-out", "during", f"Move {crop} out of the cool", stage.place, working.on_or_after(stay.until)),
    )
    for key, at, words, place, day in moves:
        spec = TaskSpec(key, "move", words, at=at, minutes_per_tray=0.5)
        many, unit = (float(stage.trays), "trays") if stage.trays else (None, "")
        caution = "Wet stacks topple and are heavy; two people"
        yield PlannedTask(
            stage.spec.key,
            key,
            "move",
            at,
            words,
            place,
            day,
            "early",
            many,
            unit,
            _minutes(spec, many or 0),
            caution,
            "",
            "",
        )


def _used(stage: PlannedStage, task: TaskSpec) -> str:
    """What is used, and how much of it where the method says how much: “calcium nitrate, 1.2 kg”."""
    if task.uses is None:
        return ""
    amount = amount_used(stage, task)
    return task.uses.name if amount is None else f"{task.uses.name}, {amount.words()}"


#: In what a quantity is read where it has grown out of, or under, the unit it was written in.
NEXT = {
    Unit.GRAM: (Unit.KILOGRAM, 1000),
    Unit.MILLILITRE: (Unit.LITRE, 1000),
    Unit.KILOGRAM: (Unit.GRAM, 1),
    Unit.LITRE: (Unit.MILLILITRE, 1),
}


def amount_used(stage: PlannedStage, task: TaskSpec) -> Quantity | None:
    """How much of its input a task takes, to three figures; None where the method does not say."""
    if task.amount is None or (
        task.per == "tray" and not stage.trays
    ):  # by the tray of what stands in none is not said
        return None
    times = {"tray": float(stage.trays or 0), "unit": float(stage.into), "": 1.0}[task.per]
    shown = float(task.amount.shown) * times
    of, (other, limit) = task.amount.unit, NEXT.get(task.amount.unit, (task.amount.unit, 0))
    if limit and (shown >= limit if limit > 1 else shown < limit):
        shown, of = shown * float(of.value.factor / other.value.factor), other
    # Three figures are as much as a spoon or a scale at the bench gives; pieces come whole.
    return Quantity.of(ceil_whole(shown) if of.is_pieces else float(f"{shown:.3g}"), of)


def _caution(task: TaskSpec) -> str:
    """The cautions of the work and of what is used, each once."""
    used = task.uses.cautions if task.uses else ()
    old = ("old: there are better ways",) if task.uses and task.uses.allowed is Allowed.OLD else ()
    return ". ".join(dict.fromkeys(one.strip().rstrip(".") for one in (task.caution, *old, *used) if one.strip()))


def _quantity(stage: PlannedStage, task: TaskSpec) -> tuple[float | None, str]:
    """What a task is done to: units, trays, or nothing that is counted."""
    if task.minutes_per_unit:
        return float(round(stage.into)), stage.spec.unit.words
    return (float(stage.trays), "trays") if task.minutes_per_tray and stage.trays else (None, "")


def _day(stage: PlannedStage, task: TaskSpec, working: WorkingCalendar) -> date:
    if task.at == "end":
        return stage.dates.end
    if task.at == "before":
        return working.on_or_before(stage.dates.start - timedelta(days=1))
    if task.after_days:
        return working.on_or_after(stage.dates.start + timedelta(days=task.after_days))
    return stage.dates.start


def _minutes(task: TaskSpec, quantity: float) -> int:
    each = task.minutes_per_tray or task.minutes_per_unit
    return max(LEAST_MINUTES, round(each * quantity)) if each else round(task.minutes or USUAL_MINUTES)


def delayed(*, at: str, day: date, ends: date, days: int, working: WorkingCalendar) -> date:
    """The day of a task of what follows a step that is `days` overdue: as much later, on a day that is worked.

    `at` as in TaskSpec; `ends`: planned end of its stage. What is done at the end of a stage waits only for that end,
    so days in hand before a delivery are used up first. Never sooner than planned.
    """
    if at == "end":
        return max(day, working.on_or_after(ends + timedelta(days=days)))
    later = day + timedelta(days=days)
    return max(day, working.on_or_before(later) if at == "before" else working.on_or_after(later))
