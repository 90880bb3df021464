"""Write plans: one path for one batch and for a season, by COPY with ids taken beforehand."""

import uuid
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.base.bulk import copy_rows, days, days_text, json_once, json_value, take_ids, update_rows
from aldrip.batches.ground import Ground
from aldrip.batches.models import Allocation, Batch, BatchInput, BatchStage, Occupancy
from aldrip.batches.saved import Saved, main_needed
from aldrip.diary.models import Task
from aldrip.methods.models import Method
from aldrip_core.batch_plan import Plan, PlannedStage, Request
from aldrip_core.forecast import forecast
from aldrip_core.ground import LotSpec
from aldrip_core.quantities import Quantities
from aldrip_core.standing_stock import Standing, stocks_of
from aldrip_core.units import Unit, exact, to_base
from aldrip_core.work import PlannedTask, tasks_of

BATCH = (
    "id",
    "uuid",
    "organisation",
    "code",
    "crop",
    "line",
    "method",
    "method_snapshot",
    "container",
    "mix",
    "lot",
    "state",
    "tops_up",
    "needed",
    "start",
    "start_typed",
    "trays",
    "seeds",
    "seed_g",
    "chance_wanted",
    "planned_chance",
    "expected",
    "low",
    "high",
    "decide_text",
    "problems",
    "note",
    "version",
)
STAGE = (
    "id",
    "batch",
    "order",
    "key",
    "name",
    "kind",
    "planned",
    "place",
    "alpha",
    "beta",
    "origin",
    "source",
    "multiply",
    "multiply_sd",
    "unit",
    "needed",
    "out",
)
OCCUPANCY = ("stage", "place", "during", "amount", "whole", "firm")
INPUT = ("stage", "lot", "quantity", "part")
TASK = (
    "organisation",
    "subject_kind",
    "subject",
    "subject_code",
    "stage",
    "key",
    "at",
    "kind",
    "title",
    "place",
    "due_from",
    "due_to",
    "part_of_day",
    "quantity",
    "unit",
    "minutes",
    "state",
    "caution",
    "note",
    "input",
    "uses",
    "every",
)


def planned_days(stage: PlannedStage) -> tuple[date, date]:
    """A stage's days for its row. A stage without length still stands on its day."""
    start, end = stage.dates.start, stage.dates.end
    return start, end if end > start else start + timedelta(days=1)


def seed_of(lot: LotSpec, quantities: Quantities, share: float = 1.0) -> Decimal | None:
    """What a sowing takes of a lot, in the lot's base unit; None where its weight is not known."""
    amount = quantities.seeds if lot.unit is Unit.SEED else quantities.seed_g
    return None if amount is None else exact(amount * share)


def batch_values(plan: Plan) -> dict[str, Any]:
    """What a plan says of its batch, as fields of Batch."""
    request, quantities = plan.request, plan.quantities
    return {
        "needed": main_needed(request.method, quantities.needed),
        "start": quantities.start,
        "start_typed": request.start is not None or request.rung is not None or request.seed_g is not None,
        "trays": quantities.trays,
        "seeds": quantities.seeds,
        "seed_g": quantities.seed_g,
        "chance_wanted": request.chance,
        "planned_chance": quantities.chance,
        "expected": float(to_base(quantities.expected, request.method.unit)),
        "problems": [p.plain() for p in plan.problems],
    }


def occupancies_of(stage: PlannedStage, stage_id: int, ground: Ground, firm: bool = False) -> Iterator[tuple[Any, ...]]:
    """What a stage takes up, in the order of OCCUPANCY."""
    for one in stage.standing:
        if one.amount and one.end > one.start:
            whole = ground.lanes[one.place].place.whole
            yield stage_id, one.place, days_text(one.start, one.end), one.amount, whole, firm


def inputs_of(request: Request, quantities: Quantities, stage_id: int) -> Iterator[tuple[Any, ...]]:
    """What is to be started from, in the order of INPUT."""
    if not request.method.by_seed:
        return
    whole = sum(share for _, share in request.lots)
    for lot, share in request.lots:
        amount = seed_of(lot, quantities, share / whole if whole else 1 / len(request.lots))
        if amount is not None:
            yield stage_id, lot.key, amount, "seed"


def task_row(task: PlannedTask, organisation: int, subject: uuid.UUID, code: str) -> tuple[Any, ...]:
    """A planned task, in the order of TASK."""
    return (
        organisation,
        "batch",
        subject,
        code,
        task.stage,
        task.key,
        task.at,
        task.kind,
        task.title[:200],
        task.place,
        task.day,
        task.ends,
        task.part,
        task.quantity,
        task.unit,
        task.minutes,
        Task.State.TODO.value,
        task.caution[:300],
        "",
        task.input,
        task.uses[:200],
        task.every,
    )


@dataclass(frozen=True)
class Draft:
    """A plan with the rows it belongs to, not yet saved. `meant`: how many of it for which order line."""

    plan: Plan
    method: Method
    crop_id: int
    line_id: int | None = None
    meant: Mapping[int, Decimal] = field(default_factory=dict)
    snapshot: Mapping[str, Any] | None = None  # of an earlier batch, where that is to be repeated as it was
    container_id: int | None = None
    mix_id: int | None = None


def write_plans(
    ctx: Ctx, drafts: Sequence[Draft], ground: Ground, *, tops_up: int | None = None, note: str = ""
) -> list[Saved]:
    """Save new batches with stages, occupancies, inputs, tasks and allocations.

    Call inside a transaction. Returns the batches in the order of `drafts`, with what a forecast asks of them.
    """
    codes = ctx.next_code("batch", len(drafts))
    ids = take_ids(Batch, len(drafts))
    stage_ids = iter(take_ids(BatchStage, sum(len(draft.plan.stages) for draft in drafts)))
    snapshots = {pk: json_once(snapshot) for pk, snapshot in ground.snapshots.items()}
    batches: list[tuple[Any, ...]] = []
    stages: list[tuple[Any, ...]] = []
    occupied: list[tuple[Any, ...]] = []
    inputs: list[tuple[Any, ...]] = []
    tasks: list[tuple[Any, ...]] = []
    organisation = ctx.organisation.pk
    made: list[Saved] = []
    for draft, code, pk in zip(drafts, codes, ids, strict=True):
        plan, known = draft.plan, uuid.uuid4()
        one = _in_hand(ctx, draft, pk, known, code)
        made.append(one)
        batches.append(_batch_row(draft, one.batch, organisation, snapshots, tops_up, note))
        for order, stage in enumerate(plan.stages):
            stage_id = next(stage_ids)
            stages.append(_stage_row(stage, stage_id, pk, order))
            occupied.extend(occupancies_of(stage, stage_id, ground))
            if stage.spec.after is None:
                inputs.extend(inputs_of(plan.request, plan.quantities, stage_id))
        tasks.extend(task_row(task, organisation, known, code) for task in tasks_of(plan, ground.working))
    copy_rows(Batch, BATCH, batches)
    copy_rows(BatchStage, STAGE, stages)
    copy_rows(Occupancy, OCCUPANCY, occupied)
    copy_rows(BatchInput, INPUT, inputs)
    copy_rows(Task, TASK, tasks)
    meant = [
        (line, pk, quantity) for pk, draft in zip(ids, drafts, strict=True) for line, quantity in draft.meant.items()
    ]
    copy_rows(Allocation, ("order_line", "batch", "quantity"), meant)
    return made


def _in_hand(ctx: Ctx, draft: Draft, pk: int, known: uuid.UUID, code: str) -> Saved:
    """A new batch as it will be read back, as far as a forecast asks; its figures are those of a forecast already."""
    plan, values = draft.plan, batch_values(draft.plan)
    request = plan.request
    batch = Batch(
        id=pk,
        uuid=known,
        organisation=ctx.organisation,
        code=code,
        crop_id=draft.crop_id,
        lot_id=request.lot.key if request.lot else None,
        state=Batch.State.PLANNED.value,
        start=values["start"],
        seed_g=values["seed_g"],
        problems=values["problems"],
    )
    stages = {stage.spec.key: _stage_in_hand(stage, pk, order) for order, stage in enumerate(plan.stages)}
    method = request.method
    rates = {stage.spec.key: stage.rate for stage in plan.stages}
    alone = forecast(needed=0, stocks=stocks_of(Standing(method, rates, batch.start, {}), method.form))
    factor = float(method.unit.value.factor)
    batch.expected, batch.low, batch.high = (one * factor for one in (alone.expected, alone.low, alone.high))
    return Saved(batch, stages, method)


#: Of a stage that was just planned nothing is known but these; read as rows are, which is quicker than by name.
STAGE_FIELDS = tuple(field.attname for field in BatchStage._meta.concrete_fields)
STAGE_UNKNOWN = dict.fromkeys(STAGE_FIELDS)


def _stage_in_hand(stage: PlannedStage, batch: int, order: int) -> BatchStage:
    spec, rate = stage.spec, stage.rate
    known = {
        **STAGE_UNKNOWN,
        "batch_id": batch,
        "order": order,
        "key": spec.key,
        "name": spec.name,
        "kind": spec.kind,
        "planned": days(*planned_days(stage)),
        "place_id": stage.place,
        "alpha": rate.spread.alpha,
        "beta": rate.spread.beta,
        "origin": rate.origin.value,
        "source": rate.source[:200],
        "multiply": rate.multiply,
        "multiply_sd": rate.multiply_sd,
        "unit": spec.unit.words,
        "needed": stage.needed,
        "out": stage.out,
    }
    return BatchStage.from_db(None, STAGE_FIELDS, known.values())


def _batch_row(
    draft: Draft,
    batch: Batch,
    organisation: int,
    snapshots: Mapping[int, Any],
    tops_up: int | None,
    note: str,
) -> tuple[Any, ...]:
    request, values, method = draft.plan.request, batch_values(draft.plan), draft.method
    own = draft.snapshot is not None
    return (
        batch.pk,
        batch.uuid,
        organisation,
        batch.code,
        draft.crop_id,
        draft.line_id,
        method.pk,
        json_value(draft.snapshot) if own else snapshots[method.pk],
        draft.container_id if own else method.container_id,
        draft.mix_id if own else method.mix_id,
        request.lot.key if request.lot else None,
        Batch.State.PLANNED.value,
        tops_up,
        values["needed"],
        values["start"],
        values["start_typed"],
        values["trays"],
        values["seeds"],
        values["seed_g"],
        values["chance_wanted"],
        values["planned_chance"],
        batch.expected,
        batch.low,
        batch.high,
        "",
        json_value(values["problems"]),
        note,
        1,
    )


def _stage_row(stage: PlannedStage, stage_id: int, batch: int, order: int) -> tuple[Any, ...]:
    start, end = planned_days(stage)
    spec, rate = stage.spec, stage.rate
    return (
        stage_id,
        batch,
        order,
        spec.key,
        spec.name,
        spec.kind,
        days_text(start, end),
        stage.place,
        rate.spread.alpha,
        rate.spread.beta,
        rate.origin.value,
        rate.source[:200],
        rate.multiply,
        rate.multiply_sd,
        spec.unit.words,
        stage.needed,
        stage.out,
    )


SAME_TASK = (
    "at",
    "kind",
    "title",
    "place",
    "due_from",
    "due_to",
    "part_of_day",
    "quantity",
    "unit",
    "minutes",
    "caution",
    "input",
    "uses",
    "every",
)


def upsert_tasks(ctx: Ctx, batch: Batch, plan: Plan, over: frozenset[str]) -> None:
    """Put the work of a batch where the plan now wants it; each task stays the one it was, with its note.

    What is marked stays as it was marked. Of stages that are `over` nothing is moved or asked anew; a task that the
    plan no longer has goes, unless somebody wrote on it.
    """
    rows = {
        (task.stage, task.key): task
        for task in ctx.rows(Task).filter(subject=batch.uuid).exclude(stage="").exclude(key="")
    }
    wanted = {(task.stage, task.key): task for task in tasks_of(plan, ctx.calendars()[0])}
    fresh, moved = [], []
    for known, task in wanted.items():
        row = rows.pop(known, None)
        if known[0] in over or (row is not None and row.state != Task.State.TODO):
            continue
        values = dict(zip(TASK, task_row(task, ctx.organisation.pk, batch.uuid, batch.code), strict=True))
        if row is None:
            fresh.append(tuple(values.values()))
            continue
        before = {**{name: getattr(row, name) for name in SAME_TASK}, "place": row.place_id}
        if before != {name: values[name] for name in SAME_TASK}:
            moved.append((row.pk, *(values[name] for name in SAME_TASK)))
    stages = {stage.spec.key for stage in plan.stages}
    gone = [
        row.pk
        for row in rows.values()
        if row.state == Task.State.TODO and not row.note and row.stage in stages and row.stage not in over
    ]
    if gone:
        Task.objects.filter(pk__in=gone).delete()
    update_rows(Task, SAME_TASK, moved)
    copy_rows(Task, TASK, fresh)
