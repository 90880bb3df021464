"""Edits to a batch: first a proposal with its consequences, then kept or dropped; undo."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Exists, OuterRef, QuerySet

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import AuditEvent
from aldrip.base.bulk import copy_rows, days
from aldrip.base.errors import Conflict, Refused, ServiceError, refuse
from aldrip.base.words import share
from aldrip.batches.forecasting import Group, groups, in_time, refresh, stock_of
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchStage, Occupancy
from aldrip.batches.planner import Plan, Request, TypedRate, plan_batch
from aldrip.batches.resowing import refresh_decision
from aldrip.batches.saved import load_batch, request_of, state_of
from aldrip.batches.saving import OCCUPANCY, TASK, batch_values, occupancies_of, planned_days, tasks_of
from aldrip.diary.models import Task
from aldrip.lots.models import Lot
from aldrip.methods.models import Container
from aldrip.places.models import Place
from aldrip_core.forecast import forecast


@dataclass(frozen=True)
class Change:
    """What a person typed or dragged; absent fields stay."""

    needed: int | None = None
    chance: float | None = None
    rung: tuple[int, float] | None = None  # (stage order, quantity out of it)
    start: int | None = None
    trays: int | None = None
    seed_g: float | None = None
    sow_on: date | None = None
    ready_on: date | None = None
    shift_days: int | None = None
    stage: int | None = None
    place_id: int | None = None
    container_id: int | None = None
    lot_id: int | None = None
    rate: TypedRate | None = None
    back_to_planned: bool = False  # let the start follow from need and chance again


#: Rooms above that lay a batch out say here what may no longer be changed from the plan; each raises Refused.
bars: list[Callable[[Batch, Change], None]] = []


@dataclass(frozen=True)
class Figure:
    """One figure before and after, as the bar shows it."""

    name: str
    before: Any
    after: Any
    unit: str = ""
    note: str = ""
    kind: str = "number"
    worse: bool = False


@dataclass(frozen=True)
class OrderEffect:
    """What an edit does to the chance of an order."""

    line_id: int
    number: str
    customer: str
    quantity: int
    due_last: date
    before: float | None
    after: float | None


@dataclass(frozen=True)
class Proposal:
    """The consequences of an edit, not saved."""

    sentence: str
    figures: tuple[Figure, ...]
    orders: tuple[OrderEffect, ...]
    problems: tuple[str, ...]
    version: int
    plan: Plan


def _quantity_changes(request: Request, change: Change) -> Request:
    cells = request.container.cells if request.container else 1
    if change.needed is not None:
        request = replace(request, needed=change.needed, start=None)
    if change.chance is not None:
        request = replace(request, chance=change.chance, start=None)
    if change.back_to_planned:
        request = replace(request, start=None)
    if change.trays is not None:
        request = replace(request, start=change.trays * cells)
    if change.start is not None:
        request = replace(request, start=change.start)
    if change.rung is not None:
        order = change.rung[0]
        if order >= len(request.definition.stages):
            raise refuse("rung", "out_of_range", "There is no such rung.")
        request = replace(request, start=None, rung=change.rung)
    if change.seed_g is not None:
        request = replace(request, start=None, seed_g=change.seed_g)
    return request


def _source_changes(ctx: Ctx, request: Request, change: Change) -> Request:
    if change.container_id is not None:
        request = replace(request, container=ctx.get(Container, change.container_id, shared=True))
    if change.lot_id is not None:
        lot = ctx.get(Lot, change.lot_id)
        if lot.crop_id != request.crop.pk:
            raise refuse(
                "lot_id", "other_crop", f"Lot {lot.code} is not {request.crop.name.lower()}. Choose a lot of that crop."
            )
        germinate = {s.order for s in request.definition.stages if s.kind == "germinate"}
        kept = {order: rate for order, rate in request.kept_rates.items() if order not in germinate}
        request = replace(request, lot=lot, kept_rates=kept)
    if change.rate is not None:
        if change.stage is None or change.stage >= len(request.definition.stages):
            raise refuse("stage", "missing", "Say which stage the rate belongs to.")
        request = replace(request, rates={**request.rates, change.stage: change.rate})
    return request


def _date_changes(request: Request, change: Change, ground: Ground, running: int) -> Request:
    """New dates; stages before `running` have happened and stay."""
    if change.ready_on is not None:
        return replace(request, ready=change.ready_on, sow=None)
    move = None
    if change.sow_on is not None:
        move = (0, change.sow_on)
    elif change.shift_days:
        order = change.stage if change.stage is not None and change.stage > 0 else 0
        order = max(order, running)
        start = request.dates[order].start + timedelta(days=change.shift_days)
        days_ = ground.sowing if order == 0 else ground.working
        start = days_.on_or_before(start) if change.shift_days < 0 else days_.on_or_after(start)
        move = (order, start)
    elif change.place_id is not None:
        # Another place may be warmer or cooler: durations by warmth follow from the same start.
        thermal = any(stage.duration.heat_sum_c_d for stage in request.definition.stages)
        move = (running, request.dates[running].start) if thermal else None
    if move is None:
        return request
    if move[0] < running:
        raise refuse("sow_on", "happened", "This batch is sown; its sowing day cannot move. Move a later stage.")
    return replace(request, move=move)


def _place_change(ctx: Ctx, request: Request, change: Change) -> Request:
    if change.place_id is None:
        return request
    place = ctx.get(Place, change.place_id)
    if change.stage is None or change.stage >= len(request.definition.stages):
        raise refuse("stage", "missing", "Say which stage is to move there.")
    stage = request.definition.stages[change.stage]
    counted_in_trays = stage.density == "tray"
    if place.capacity is not None and stage.density and (place.unit == "trays") != counted_in_trays:
        wanted = "trays" if counted_in_trays else "m²"
        raise refuse(
            "place_id", "other_unit", f"{place.name} is measured in {place.unit}; “{stage.name}” takes {wanted}."
        )
    moved = {change.stage: place.pk}
    if place.sharing == "whole":  # the crop cannot leave its field half-way
        moved = {s.order: place.pk for s in request.definition.stages if s.place_kind == stage.place_kind}
    return replace(request, places={**request.places, **moved})


def running_stage(stages: Sequence[BatchStage]) -> int:
    """Index of the first stage that has not begun; 0 when nothing has happened."""
    return sum(1 for stage in stages if stage.actual_start is not None)


def changed_request(ctx: Ctx, batch: Batch, stages: list[BatchStage], change: Change, ground: Ground) -> Request:
    """The saved batch with a change on top. Raises Refused for what cannot change any more."""
    if batch.state in (Batch.State.DELIVERED, Batch.State.ABANDONED):
        raise refuse("state", "closed", f"Batch {batch.code} is {batch.state}; its plan is closed.")
    for barred in bars:
        barred(batch, change)
    running = running_stage(stages)
    if running:
        fixed = ("needed", "rung", "start", "trays", "seed_g", "container_id", "lot_id", "sow_on")
        touched = [name for name in fixed if getattr(change, name) is not None]
        if touched:
            raise refuse(
                touched[0], "happened", f"Batch {batch.code} is sown; what was sown cannot change. Sow again instead."
            )
    request = _source_changes(ctx, request_of(batch, stages), change)
    request = _place_change(ctx, request, change)
    return _date_changes(_quantity_changes(request, change), change, ground, running)


def propose(ctx: Ctx, batch_id: int, change: Change) -> Proposal:
    """The consequences of a change, nothing saved."""
    batch, stages = load_batch(ctx, batch_id)
    return _proposal(ctx, batch, stages, change)


def _proposal(ctx: Ctx, batch: Batch, stages: list[BatchStage], change: Change) -> Proposal:
    ground = Ground(ctx, without=[batch.pk])
    request = changed_request(ctx, batch, stages, change, ground)
    plan = plan_batch(request, ground, working=False, put=True)
    group = next((g for g in groups(ctx, batches=[batch.pk], known=(batch, stages)) if batch.pk in g.batches), None)
    figures = (*_main_figures(batch, stages, plan), *_space_figures(batch, stages, plan, ground))
    return Proposal(
        _sentence(batch, stages, plan, change, ground), figures, _effects(batch, stages, plan, group),
        plan.problems, batch.version, plan,
    )  # fmt: skip


def _main_figures(batch: Batch, stages: list[BatchStage], plan: Plan) -> list[Figure]:
    figures = []
    sow, ready = stages[0].actual_start or stages[0].planned.lower, stages[-1].planned.upper
    figures.append(Figure("Sow", sow, plan.sow_on, kind="date"))
    figures.append(Figure("Ready", ready, plan.ready_on, kind="date", worse=plan.ready_on > ready))
    if plan.quantities.trays is not None:
        figures.append(Figure("Trays", batch.trays, plan.quantities.trays, "trays"))
    elif batch.start != plan.quantities.start:
        figures.append(Figure("Start", batch.start, plan.quantities.start, plan.request.definition.start_unit))
    if plan.quantities.seed_g is not None:
        lot = plan.request.lot
        left = float(lot.balance) if lot else 0.0
        note = "no lot chosen" if lot is None else f"lot {lot.code} holds {left:,.1f} g"
        short = lot is not None and plan.quantities.seed_g > left and batch.state == Batch.State.PLANNED
        figures.append(Figure("Seed", batch.seed_g, plan.quantities.seed_g, "g", note, worse=short))
    return figures


def _space_figures(batch: Batch, stages: list[BatchStage], plan: Plan, ground: Ground) -> list[Figure]:
    """Peak of every touched place with and without the change. The ground holds the new plan."""
    figures = []
    spans: dict[int, list[tuple[date, date]]] = {}
    for stage in plan.stages:
        if stage.place is not None and stage.amount and stage.dates.end > stage.dates.start:
            spans.setdefault(stage.place, []).append((stage.dates.start, stage.dates.end))
    old = ground.left_out
    for place, start, end, _ in old:
        spans.setdefault(place, []).append((start, end))
    after = {pk: lane.load.copy() for pk, lane in ground.lanes.items() if pk in spans}
    before = {pk: load.copy() for pk, load in after.items()}
    for stage in plan.stages:
        if stage.place in before and stage.amount:
            before[stage.place][ground.index(stage.dates.start) : ground.index(stage.dates.end)] -= stage.amount
    for place, start, end, amount in old:
        before[place][ground.index(start) : ground.index(end)] += amount
    for pk, days_ in spans.items():
        lane = ground.lanes.get(pk)
        if lane is None or not lane.usable:
            continue
        first = min(ground.index(start) for start, _ in days_)
        last = max(ground.index(end) for _, end in days_)
        peak_before, peak_after = (float(load[pk][first:last].max()) for load in (before, after))
        over = peak_after - lane.usable
        note = (
            f"over by {over:,.0f} {lane.place.unit}"
            if over > 1e-6
            else f"{share(peak_after / lane.usable)} of {lane.usable:,.0f} {lane.place.unit}"
        )
        figures.append(Figure(lane.place.name, peak_before, peak_after, lane.place.unit, note, "space", over > 1e-6))
    return figures


def _effects(batch: Batch, stages: list[BatchStage], plan: Plan, group: Group | None) -> tuple[OrderEffect, ...]:
    if group is None or not group.lines:
        return ()
    counted = {stage.order: stage for stage in stages}
    rows = []
    for stage in plan.stages:
        row = counted[stage.definition.order]
        rows.append(BatchStage(alpha=stage.rate.spread.alpha, beta=stage.rate.spread.beta, multiply=row.multiply,
                               counted_share=row.counted_share, counted_sd=row.counted_sd))  # fmt: skip
    position = group.batches.index(batch.pk)
    new = stock_of(Batch(start=plan.quantities.start), rows, group.lost[position], None)
    if batch.state == Batch.State.READY:
        new = group.stocks[position]
    stocks = tuple(
        new if index == position else stock
        for index, (stock, ready) in enumerate(zip(group.stocks, group.ready, strict=True))
        if index == position or in_time(group.lines, ready)
    )
    after = forecast(needed=group.needed, stocks=stocks).chance
    late = {line.pk: plan.ready_on >= line.due.upper for line in group.lines}
    return tuple(
        OrderEffect(line.pk, line.order.number, line.order.customer, line.quantity, line.due.upper - timedelta(days=1),
                    group.result.chance, 0.0 if late[line.pk] else after)
        for line in group.lines
    )  # fmt: skip


def _sentence(batch: Batch, stages: list[BatchStage], plan: Plan, change: Change, ground: Ground) -> str:
    crop = batch.crop.name.lower()
    if change.place_id is not None and change.stage is not None:
        old = stages[change.stage].place
        new = ground.lanes[change.place_id].place.name if change.place_id in ground.lanes else "another place"
        return f"Move {crop} {batch.code} from {old.name if old else 'nowhere'} to {new}."
    if change.sow_on or change.shift_days or change.ready_on:
        shift = (plan.sow_on - (stages[0].actual_start or stages[0].planned.lower)).days
        if shift:
            return f"Sow {crop} {batch.code} {abs(shift)} {'day' if abs(shift) == 1 else 'days'} {'sooner' if shift < 0 else 'later'}."
        return f"Move {crop} {batch.code} on the calendar."
    if change.lot_id is not None and plan.request.lot:
        return f"Sow {crop} {batch.code} from lot {plan.request.lot.code}."
    if change.rate is not None and change.stage is not None:
        name = plan.request.definition.stages[change.stage].name.lower()
        return f"Reckon {crop} {batch.code} with {share(change.rate.mean, 1)} {name}: {change.rate.reason}."
    if change.container_id is not None and plan.request.container:
        return f"Sow {crop} {batch.code} in {plan.request.container.name.lower()}."
    return f"Start {crop} {batch.code} with {plan.quantities.start:,} {plan.request.definition.start_unit}."


@transaction.atomic
def keep(ctx: Ctx, batch_id: int, change: Change, version: int) -> Proposal:
    """Save a change whose consequences were seen. Raises Conflict when somebody saved first."""
    batch, stages = load_batch(ctx, batch_id, lock=True)
    if batch.version != version:
        raise _conflict(ctx, batch, stages, change)
    before = state_of(batch, stages)
    proposal = _proposal(ctx, batch, stages, change)
    apply_plan(ctx, batch, stages, proposal.plan)
    after = state_of(*load_batch(ctx, batch_id))
    ctx.record("batch.keep", proposal.sentence, batch, before=before, after=after)
    refresh(ctx, batches=[batch.pk])
    refresh_decision(ctx, [batch.pk])
    return replace(proposal, version=batch.version)


def apply_plan(ctx: Ctx, batch: Batch, stages: list[BatchStage], plan: Plan) -> None:
    """Write a plan over a saved batch; what has happened stays. Call inside a transaction."""
    ground = Ground(ctx, without=[batch.pk])
    for name, value in batch_values(plan).items():
        setattr(batch, name, value)
    batch.version += 1
    batch.save()
    running = running_stage(stages)
    for row, stage in zip(stages, plan.stages, strict=True):
        start, end = planned_days(stage)
        row.place_id = stage.place
        row.alpha, row.beta = stage.rate.spread.alpha, stage.rate.spread.beta
        row.origin, row.source = stage.rate.origin.value, stage.rate.source[:200]
        row.needed, row.out = stage.needed, stage.out
        if row.actual_end is None:
            row.planned = days(start, end)
    BatchStage.objects.bulk_update(stages, ["place", "alpha", "beta", "origin", "source", "needed", "out", "planned"])
    Occupancy.objects.filter(stage__batch=batch).delete()
    firm = batch.state != Batch.State.PLANNED
    copy_rows(Occupancy, OCCUPANCY, list(occupancies_of(plan, [s.pk for s in stages], ground, firm)))
    if firm:
        stands_alone(batch, Occupancy.objects.filter(firm=True))
    redo_tasks(ctx, batch, plan, running)


def stands_alone(batch: Batch, others: QuerySet[Occupancy]) -> None:
    """A place that is taken whole takes one crop at a time. Raises Refused with the crop of `others` that is in the way."""
    own = Occupancy.objects.filter(
        stage__batch=batch, whole=True, place=OuterRef("place"), during__overlap=OuterRef("during")
    )
    taken = others.filter(Exists(own), whole=True).exclude(stage__batch=batch)
    there = taken.select_related("place", "stage__batch__crop").order_by("during").first()
    if there is not None:
        other = there.stage.batch
        raise refuse(
            "place_id", "taken",
            f"{there.place.name} carries {other.crop.name.lower()} {other.code} until {there.during.upper}. "
            f"Choose another place or other days for {batch.code}.",
        )  # fmt: skip


def redo_tasks(ctx: Ctx, batch: Batch, plan: Plan, running: int) -> None:
    """Put the open tasks of a batch where the plan now wants them; done ones stay."""
    todo = ctx.rows(Task).filter(subject_kind="batch", subject_id=batch.pk, stage__isnull=False)
    done = set(todo.exclude(state=Task.State.TODO).values_list("stage", "kind"))
    todo.filter(state=Task.State.TODO).delete()
    rows = [
        row for row in tasks_of(plan, batch.code, batch.pk, ctx.organisation.pk, max(0, running - 1))
        if (row[4], row[5]) not in done
    ]  # fmt: skip
    copy_rows(Task, TASK, rows)


def _conflict(ctx: Ctx, batch: Batch, stages: list[BatchStage], change: Change) -> Conflict:
    """Both values: what stands saved now, and what this person wanted."""
    last = (
        ctx.rows(AuditEvent)
        .filter(subject_kind="batch", subject_id=batch.pk)
        .select_related("actor")
        .order_by("-id")
        .first()
    )
    who = last.actor.get_full_name() or last.actor.username if last and last.actor else "Somebody"
    try:
        wanted = _proposal(ctx, batch, stages, change)
        rows = [{"name": f.name, "theirs": f.before, "yours": f.after, "unit": f.unit, "kind": f.kind}
                for f in wanted.figures if f.before != f.after]  # fmt: skip
        yours = wanted.sentence
    except (Refused, ServiceError):  # the change may make no sense any more
        rows, yours = [], "Your change no longer fits what is saved."
    theirs = last.sentence if last else "A change was saved."
    return Conflict(
        f"{who} saved this batch first. Nothing of yours was saved; look at both and decide again.",
        version=batch.version, theirs=theirs, yours=yours, values=rows,
    )  # fmt: skip
