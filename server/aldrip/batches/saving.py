"""Write plans: one path for one batch and for a season, by COPY with ids taken beforehand."""

from collections.abc import Iterator, Mapping, Sequence
from datetime import date, timedelta
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.base.bulk import copy_rows, days, json_value, take_ids
from aldrip.batches.ground import Ground
from aldrip.batches.models import Allocation, Batch, BatchStage, Occupancy
from aldrip.batches.planner import Plan, PlannedStage
from aldrip.diary.models import Task

BATCH = (
    "id", "organisation", "code", "crop", "line", "method", "method_snapshot", "container", "mix", "lot", "state",
    "tops_up", "needed", "start", "start_typed", "trays", "seeds", "seed_g", "chance_wanted", "planned_chance",
    "expected", "decide_text", "note", "version",
)  # fmt: skip
STAGE = (
    "id", "batch", "order", "name", "kind", "planned", "place", "alpha", "beta", "origin", "source", "multiply", "unit",
    "needed", "out",
)  # fmt: skip
OCCUPANCY = ("stage", "place", "during", "amount", "whole", "firm")
TASK = (
    "organisation", "subject_kind", "subject_id", "subject_code", "stage", "kind", "title", "place", "due_from", "due_to",
    "part_of_day", "quantity", "unit", "minutes", "state", "caution", "note",
)  # fmt: skip


def planned_days(stage: PlannedStage) -> tuple[date, date]:
    """A stage's days for its row. A stage without length still stands on its day."""
    start, end = stage.dates.start, stage.dates.end
    return start, end if end > start else start + timedelta(days=1)


def batch_values(plan: Plan) -> dict[str, Any]:
    """What a plan says of its batch, as fields of Batch."""
    request, quantities = plan.request, plan.quantities
    return {
        "container_id": request.container.pk if request.container else None,
        "mix_id": request.mix.pk if request.mix else None,
        "lot_id": request.lot.pk if request.lot else None,
        "needed": quantities.needed, "start": quantities.start,
        "start_typed": request.start is not None or request.rung is not None or request.seed_g is not None,
        "trays": quantities.trays, "seeds": quantities.seeds, "seed_g": quantities.seed_g,
        "chance_wanted": request.chance, "planned_chance": quantities.chance, "expected": quantities.expected,
    }  # fmt: skip


def tasks_of(
    plan: Plan, code: str, batch_id: int, organisation_id: int, from_stage: int = 0
) -> Iterator[tuple[Any, ...]]:
    """Tasks that hang on a plan's stages, in the order of TASK."""
    trays, crop = plan.quantities.trays, plan.request.crop.name
    for stage in plan.stages:
        if stage.definition.order < from_stage:
            continue
        for task in stage.definition.tasks:
            quantity, unit = _task_quantity(stage, task, trays)
            day = _task_day(stage, task)
            yield (
                organisation_id, "batch", batch_id, code, stage.definition.order, task["kind"],
                task["words"].format(crop=crop.lower()), stage.place, day, day + timedelta(days=1),
                task.get("part", "morning"), quantity, unit, _minutes(task, quantity or 0), Task.State.TODO.value,
                task.get("caution", ""), "",
            )  # fmt: skip


def _task_quantity(stage: PlannedStage, task: Mapping[str, Any], trays: int | None) -> tuple[int | None, str]:
    """What a task is done to: trays, units, or nothing that is counted."""
    if task.get("minutes_per_unit"):
        return round(stage.into), stage.definition.unit
    return (trays, "trays") if task.get("minutes_per_tray") and trays else (None, "")


def _task_day(stage: PlannedStage, task: Mapping[str, Any]) -> date:
    at = task.get("at", "start")
    if at == "end":
        return stage.dates.end
    return stage.dates.start - timedelta(days=1) if at == "before" else stage.dates.start


def _minutes(task: Mapping[str, Any], quantity: float) -> int:
    each = task.get("minutes_per_tray") or task.get("minutes_per_unit")
    return max(5, round(each * quantity)) if each else int(task.get("minutes", 15))


def occupancies_of(
    plan: Plan, stage_ids: Sequence[int], ground: Ground, firm: bool = False
) -> Iterator[tuple[Any, ...]]:
    """What a plan takes up, in the order of OCCUPANCY."""
    for stage, stage_id in zip(plan.stages, stage_ids, strict=True):
        if stage.place is not None and stage.amount and stage.dates.end > stage.dates.start:
            whole = ground.lanes[stage.place].place.sharing == "whole"
            yield stage_id, stage.place, days(stage.dates.start, stage.dates.end), stage.amount, whole, firm


def write_plans(
    ctx: Ctx, plans: Sequence[Plan], ground: Ground, allocations: Sequence[Mapping[int, int]], *,
    tops_up: int | None = None, note: str = "",
) -> list[int]:  # fmt: skip
    """Save new batches with stages, occupancies, tasks and allocations {order line: quantity}.

    Call inside a transaction. Returns the ids of the batches in the order of `plans`.
    """
    codes = ctx.next_code("batch", len(plans))
    ids = take_ids(Batch, len(plans))
    stage_ids = iter(take_ids(BatchStage, sum(len(plan.stages) for plan in plans)))
    snapshots = {pk: json_value(snapshot) for pk, snapshot in ground.snapshots.items()}
    batches: list[tuple[Any, ...]] = []
    stages: list[tuple[Any, ...]] = []
    occupied: list[tuple[Any, ...]] = []
    tasks: list[tuple[Any, ...]] = []
    organisation = ctx.organisation.pk
    for plan, code, pk in zip(plans, codes, ids, strict=True):
        request, values = plan.request, batch_values(plan)
        batches.append((
            pk, organisation, code, request.crop.pk, request.line_id, request.method.pk, snapshots[request.method.pk],
            values["container_id"], values["mix_id"], values["lot_id"], Batch.State.PLANNED.value, tops_up,
            values["needed"], values["start"], values["start_typed"], values["trays"], values["seeds"], values["seed_g"],
            values["chance_wanted"], values["planned_chance"], values["expected"], "", note, 1,
        ))  # fmt: skip
        own = [next(stage_ids) for _ in plan.stages]
        for stage, stage_id in zip(plan.stages, own, strict=True):
            start, end = planned_days(stage)
            stages.append((
                stage_id, pk, stage.definition.order, stage.definition.name, stage.definition.kind, days(start, end),
                stage.place, stage.rate.spread.alpha, stage.rate.spread.beta, stage.rate.origin.value,
                stage.rate.source[:200], stage.definition.multiply, stage.definition.unit, stage.needed, stage.out,
            ))  # fmt: skip
        occupied.extend(occupancies_of(plan, own, ground))
        tasks.extend(tasks_of(plan, code, pk, organisation))
    copy_rows(Batch, BATCH, batches)
    copy_rows(BatchStage, STAGE, stages)
    copy_rows(Occupancy, OCCUPANCY, occupied)
    copy_rows(Task, TASK, tasks)
    copy_rows(
        Allocation, ("order_line", "batch", "quantity"),
        [(line, pk, quantity) for pk, meant in zip(ids, allocations, strict=True) for line, quantity in meant.items()],
    )  # fmt: skip
    return ids
