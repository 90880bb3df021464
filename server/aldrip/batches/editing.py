"""Edits to a batch: first a proposal with its consequences, then kept or dropped. What has happened stays."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from django.db.models import DateField, Exists, F, Func, Max, OuterRef, QuerySet

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.models import AuditEvent
from aldrip.base.bulk import copy_rows, days
from aldrip.base.errors import Conflict, Refused, ServiceError, refuse
from aldrip.base.quantity import read_count, read_quantity
from aldrip.base.words import share, who
from aldrip.batches.forecasting import Group, groups, in_stock_then, standing
from aldrip.batches.ground import Ground, lot_spec
from aldrip.batches.in_time import last_day_of, ready_in_time
from aldrip.batches.models import Batch, BatchInput, BatchStage, Occupancy
from aldrip.batches.saved import InHand, Saved, dates_of, load_batch, request_of, snapshot_of, state_of
from aldrip.batches.saving import (
    INPUT,
    OCCUPANCY,
    batch_values,
    inputs_of,
    occupancies_of,
    planned_days,
    upsert_tasks,
)
from aldrip.batches.where import named_stage, stood_elsewhere
from aldrip.lots.models import Lot
from aldrip.lots.taking import may_be_started_from
from aldrip.methods.models import Container
from aldrip.methods.snapshot import container_spec, container_values, with_container
from aldrip_core.batch_plan import Plan, Request, TypedRate, plan_batch
from aldrip_core.forecast import forecast
from aldrip_core.ground import WouldLoad, peaks, would_load
from aldrip_core.problems import words
from aldrip_core.stage_dates import Anchor
from aldrip_core.stages import Trait
from aldrip_core.standing_stock import Seen, stocks_of
from aldrip_core.units import Unit, exact, from_base, unit


@dataclass(frozen=True)
class Change:
    """What a person typed or dragged; absent fields stay. Quantities are in the units of the ladder."""

    needed: float | None = None
    chance: float | None = None
    rung: tuple[str, float] | None = None  # (stage, quantity out of it)
    start: int | None = None
    trays: int | None = None
    seed_g: float | None = None
    sow_on: date | None = None
    ready_on: date | None = None
    shift_days: int | None = None
    stage: str | None = None
    place_id: int | None = None
    split: tuple[tuple[int, float], ...] = ()  # (place, share) of a stage that stands in several
    container_id: int | None = None
    lot_id: int | None = None
    lots: tuple[tuple[int, float], ...] = ()  # (lot, share of the weight)
    rate: TypedRate | None = None
    typed: tuple[str, str] | None = None  # (rung of the ladder, what was typed on it)
    back_to_planned: bool = False  # let the start follow from need and chance again


#: What was started is a fact; these fields would change it.
OF_THE_START = ("needed", "rung", "start", "trays", "seed_g", "container_id", "lot_id", "sow_on")
LONGEST_REST = 14  # days without work that a move by days goes over
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
    quantity: float
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
    snapshot: Mapping[str, Any] | None = None  # where the edit changes what it is planned with
    event: int | None = None  # once it is kept: the record by which it is undone
    shift_days: int | None = None  # by which it moves; further than asked, where those days are nobody's working days
    loads: tuple[WouldLoad, ...] = ()  # of the places it touches, as they would stand


def _quantity_changes(request: Request, change: Change) -> Request:
    cells = request.container.cells if request.container else 1
    main = request.method.form
    if change.needed is not None:
        request = replace(request, needs={**request.needs, main: change.needed}, start=None)
    if change.chance is not None:
        request = replace(request, chance=change.chance, start=request.start if request.happened else None)
    if change.back_to_planned:
        request = replace(request, start=None)
    if change.trays is not None:
        request = replace(request, start=change.trays * cells)
    if change.start is not None:
        request = replace(request, start=change.start)
    if change.rung is not None:
        if change.rung[0] not in request.method.by_key:
            raise refuse("rung", "out_of_range", "There is no such rung.")
        request = replace(request, start=None, rung=change.rung)
    if change.seed_g is not None:
        request = replace(request, start=None, seed_g=change.seed_g)
    return request


def _source_changes(ctx: Ctx, saved: Saved, request: Request, change: Change) -> Request:
    if change.container_id is not None:
        container = ctx.get(Container, change.container_id, shared=True)
        request = replace(request, container=container_spec(container_values(container)))
    named = change.lots or (((change.lot_id, 1.0),) if change.lot_id is not None else ())
    if named:
        lots = []
        for pk, part in named:
            lot = ctx.get(Lot, pk)
            may_be_started_from(lot, crop=saved.batch.crop, line=saved.batch.line, field="lot_id")
            lots.append((lot_spec(lot), part))
        emerging = {stage.key for stage in request.method.with_trait(Trait.EMERGES)}
        kept = {key: rate for key, rate in request.kept_rates.items() if key not in emerging}
        request = replace(request, lots=tuple(lots), kept_rates=kept)
    if change.rate is not None:
        stage = named_stage(request, change.stage, "Say which stage the rate belongs to.")
        request = replace(request, rates={**request.rates, stage.key: change.rate})
    return request


def _place_changes(ctx: Ctx, saved: Saved, request: Request, change: Change) -> Request:
    if change.place_id is None and not change.split:
        return request
    stage = named_stage(request, change.stage, "Say which stage is to move there.")
    return stood_elsewhere(ctx, saved, request, stage, change.split or ((change.place_id or 0, 1.0),))


def _date_changes(saved: Saved, request: Request, change: Change, ground: Ground) -> Request:
    """New dates; what has begun keeps its own."""
    following = saved.next
    if change.ready_on is not None:
        return replace(request, anchor=Anchor(ready=change.ready_on))
    if change.sow_on is not None:
        return replace(request, anchor=Anchor(move=(request.method.root.key, change.sow_on)))
    if change.shift_days:
        if following is None:
            raise refuse(
                "shift_days", "happened", f"Every stage of {saved.batch.code} has begun; nothing is left to move."
            )
        # Moved to another place as well, what has not begun moves as a whole; the stage says what stands there.
        own = saved.stages.get(change.stage or "") if saved.begun or change.place_id is None else None
        stage = own if own is not None and own.actual_start is None else following
        start = request.dates[stage.key].start + timedelta(days=change.shift_days)
        calendar = ground.sowing if request.method.by_key[stage.key].does(Trait.STARTS) else ground.working
        start = calendar.on_or_before(start) if change.shift_days < 0 else calendar.on_or_after(start)
        return replace(request, anchor=Anchor(move=(stage.key, start)))
    thermal = any(stage.duration.target for stage in request.method.stages)
    if change.place_id is not None and thermal and following is not None:
        # Another place may be warmer or cooler: durations by warmth follow from the same start.
        if request.happened:
            return replace(request, anchor=Anchor(follow=True))
        return replace(request, anchor=Anchor(move=(following.key, request.dates[following.key].start)))
    return request


def changed_request(ctx: Ctx, saved: Saved, change: Change, ground: Ground) -> Request:
    """The saved batch with a change on top. Raises Refused for what cannot change any more."""
    batch = saved.batch
    if batch.state in (Batch.State.DELIVERED, Batch.State.ABANDONED):
        raise refuse("state", "closed", f"Batch {batch.code} is {batch.state}; its plan is closed.")
    change = understood(saved, change)
    for barred in bars:
        barred(batch, change)
    if saved.begun:
        touched = [name for name in OF_THE_START if getattr(change, name) is not None]
        touched += ["lots"] if change.lots else []
        touched += ["back_to_planned"] if change.back_to_planned else []
        if touched:
            raise refuse(
                touched[0], "happened", f"Batch {batch.code} is sown; what was sown cannot change. Sow again instead."
            )
        if (
            change.rate is not None
            and change.stage in saved.stages
            and saved.stages[change.stage].actual_end is not None
        ):
            raise refuse("stage", "happened", f"“{saved.stages[change.stage].name}” is over; count what it kept.")
    request = request_of(saved, ground.stood)
    request = _source_changes(ctx, saved, request, change)
    request = _place_changes(ctx, saved, request, change)
    return _date_changes(saved, _quantity_changes(request, change), change, ground)


def understood(saved: Saved, change: Change) -> Change:
    """A change with what was typed on a rung read in the rung's unit. Raises Refused."""
    if change.typed is None:
        return change
    rung, text = change.typed
    change = replace(change, typed=None)
    if rung == "trays":
        return replace(change, trays=read_count(text, "typed"))
    if rung == "start":
        return replace(change, start=read_count(text, "typed"))
    if rung == "seeds":
        per_cell = saved.method.seeds_per_cell
        return replace(change, start=max(1, round(read_count(text, "typed") / per_cell)))
    if rung == "seed_g":
        return replace(change, seed_g=float(read_quantity(text, Unit.GRAM, "typed").base))
    key = rung.removeprefix("stage:")
    if key not in saved.stages:
        raise refuse("typed", "out_of_range", "There is no such rung.")
    of = saved.method.by_key[key].unit
    return replace(change, rung=(key, float(from_base(read_quantity(text, of, "typed").base, of))))


def propose(ctx: Ctx, batch_id: Ref, change: Change) -> Proposal:
    """The consequences of a change, nothing saved."""
    return _proposal(ctx, load_batch(ctx, batch_id, light=True), change)


def _proposal(ctx: Ctx, saved: Saved, change: Change) -> Proposal:
    batch = saved.batch
    change = understood(saved, change)
    ground = Ground(ctx, without=[batch.pk])
    change, plan = _moved_at_last(ctx, saved, change, ground)
    found = groups(ctx, batches=[batch.pk], known=InHand([saved]))
    figures = (*_main_figures(saved, plan, ground), *_space_figures(plan, ground))
    effects = tuple(effect for group in found if batch.pk in group.ids for effect in _effects(saved, plan, group))
    return Proposal(
        _sentence(saved, plan, change, ground),
        figures,
        effects,
        tuple(words(p) for p in plan.problems),
        batch.version,
        plan,
        _new_snapshot(ctx, saved, change),
        shift_days=change.shift_days,
        loads=would_load(ground, ground.left_out, plan.standing),
    )


def _moved_at_last(ctx: Ctx, saved: Saved, change: Change, ground: Ground) -> tuple[Change, Plan]:
    """The plan of a change; a move by days goes on over days on which nobody sows or works, until something moves."""
    plan = plan_batch(changed_request(ctx, saved, change, ground), ground, working=False)
    if not change.shift_days:
        return change, plan
    before, step = dates_of(saved), 1 if change.shift_days > 0 else -1
    for _ in range(LONGEST_REST):
        if any(stage.dates != before[stage.spec.key] for stage in plan.stages):
            break
        change = replace(change, shift_days=(change.shift_days or 0) + step)
        plan = plan_batch(changed_request(ctx, saved, change, ground), ground, working=False)
    moved = [(stage.dates.start - before[stage.spec.key].start).days for stage in plan.stages]
    far = next((days * step for days in moved if days), 0)  # how far it went: the next press goes on from there
    return replace(change, shift_days=max(far, (change.shift_days or 0) * step) * step), plan


def _new_snapshot(ctx: Ctx, saved: Saved, change: Change) -> dict[str, Any] | None:
    if change.container_id is None:
        return None
    return with_container(snapshot_of(saved.batch), ctx.get(Container, change.container_id, shared=True))


def _main_figures(saved: Saved, plan: Plan, ground: Ground) -> list[Figure]:
    batch, figures = saved.batch, []
    sow, ready = (
        saved.first.actual_start or saved.first.planned.lower,
        saved.last.actual_end or saved.last.planned.upper,
    )
    figures.append(Figure("Sow", sow, plan.sow_on, kind="date"))
    figures.append(Figure("Ready", ready, plan.ready_on, kind="date", worse=plan.ready_on > ready))
    figures += _in_time_figure(saved, plan, ground)
    if plan.quantities.trays is not None:
        figures.append(Figure("Trays", batch.trays, plan.quantities.trays, "trays"))
    elif batch.start != plan.quantities.start:
        figures.append(Figure("Start", batch.start, plan.quantities.start, plan.request.method.start_unit.words))
    if plan.quantities.seed_g is not None:
        figures.append(_seed_figure(saved, plan))
    return figures


def _in_time_figure(saved: Saved, plan: Plan, ground: Ground) -> list[Figure]:
    """The chance to be ready by the last day promised, where the method says how sure its days are."""
    last_day = last_day_of(saved, ground.working)
    before = ready_in_time(saved, dates_of(saved), last_day, ground.today)
    after = ready_in_time(saved, {stage.spec.key: stage.dates for stage in plan.stages}, last_day, ground.today)
    if before is None or after is None or before.chance is None or after.chance is None:
        return []
    return [Figure("In time", before.chance, after.chance, kind="share", worse=after.chance < before.chance - 0.005)]


def _seed_figure(saved: Saved, plan: Plan) -> Figure:
    """What is sown; of a batch that is sown, what really was."""
    batch, lot = saved.batch, plan.request.lot
    if batch.state != Batch.State.PLANNED:
        return Figure("Seed", batch.seed_g, batch.seed_g, "g", f"from lot {lot.code}" if lot else "")
    left = float(lot.left) if lot and lot.unit.is_mass else 0.0
    note = "no lot chosen" if lot is None else f"lot {lot.code} holds {left:,.1f} g"
    short = lot is not None and lot.unit.is_mass and (plan.quantities.seed_g or 0.0) > left
    return Figure("Seed", batch.seed_g, plan.quantities.seed_g, "g", note, worse=short)


def _space_figures(plan: Plan, ground: Ground) -> list[Figure]:
    """Peak of every touched place with and without the change."""
    figures = []
    for lane, before, after in peaks(ground, ground.left_out, plan.standing):
        usable, of = lane.usable or 0.0, lane.place.unit.words
        over = after - usable
        note = f"over by {over:,.0f} {of}" if over > 1e-6 else f"{share(after / usable)} of {usable:,.0f} {of}"
        figures.append(Figure(lane.place.name, before, after, of, note, "space", over > 1e-6))
    return figures


def _effects(saved: Saved, plan: Plan, group: Group) -> tuple[OrderEffect, ...]:
    if not group.lines:
        return ()
    own = next(one for one in group.batches if one.saved.batch.pk == saved.batch.pk)
    new = own.stocks
    if saved.batch.state != Batch.State.READY:
        state = standing(saved, own.lost, None)
        rates = {stage.spec.key: stage.rate for stage in plan.stages}
        counted: Mapping[str, Seen] = state.counted
        new = stocks_of(replace(state, rates=rates, start=plan.quantities.start, counted=counted), group.form)
    stocks = [
        stock
        for one in group.batches
        for stock in in_stock_then(
            group.lines, one.saved, *((plan.ready_on, new) if one is own else (one.ready, one.stocks))
        )
    ]
    after = forecast(needed=group.needed, stocks=stocks).chance
    return tuple(
        OrderEffect(
            line.pk,
            line.order.number,
            line.order.customer,
            float(from_base(line.quantity, unit(line.unit))),
            line.due.upper - timedelta(days=1),
            group.result.chance,
            0.0 if plan.ready_on >= line.due.upper else after,
        )
        for line in group.lines
    )


def _sentence(saved: Saved, plan: Plan, change: Change, ground: Ground) -> str:
    batch = saved.batch
    name = f"{batch.crop.name.lower()} {batch.code}"
    if change.split and change.stage is not None:
        where = " and ".join(ground.places[pk].name for pk, _ in change.split if pk in ground.places)
        return f"Stand {name} in {where}."
    shift = (plan.sow_on - (saved.first.actual_start or saved.first.planned.lower)).days
    days = f"{abs(shift)} {'day' if abs(shift) == 1 else 'days'} {'sooner' if shift < 0 else 'later'}"
    if change.place_id is not None and change.stage is not None:
        old = saved.stages[change.stage].place
        new = ground.places[change.place_id].name if change.place_id in ground.places else "another place"
        when = "" if not change.shift_days else f", and sow {days}" if shift else ", on other days"
        return f"Move {name} from {old.name if old else 'nowhere'} to {new}{when}."
    if change.sow_on or change.shift_days or change.ready_on:
        return f"Sow {name} {days}." if shift else f"Move {name} on the calendar."
    return _sentence_of_amounts(name, plan, change)


def _sentence_of_amounts(name: str, plan: Plan, change: Change) -> str:
    if (change.lot_id is not None or change.lots) and plan.request.lots:
        return f"Sow {name} from lot {' and '.join(lot.code for lot, _ in plan.request.lots)}."
    if change.rate is not None and change.stage is not None:
        stage = plan.request.method.by_key[change.stage].name.lower()
        return f"Reckon {name} with {share(change.rate.mean, 1)} {stage}: {change.rate.reason}."
    if change.container_id is not None and plan.request.container:
        return f"Sow {name} in {plan.request.container.name.lower()}."
    if change.chance is not None and plan.request.happened:
        return f"Ask {name} for a chance of {share(change.chance)}."
    told = f"Start {name} with {plan.quantities.start:,} {plan.request.method.start_unit.words}"
    return f"{told}, for a chance of {share(change.chance, 1)}." if change.chance is not None else f"{told}."


@act
def keep(ctx: Ctx, batch_id: Ref, change: Change, version: int) -> Proposal:
    """Save a change whose consequences were seen. Raises Conflict when somebody saved first."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    if batch.version != version:
        raise _conflict(ctx, saved, change)
    before = state_of(saved)
    proposal = _proposal(ctx, saved, change)
    if change.container_id is not None:
        batch.container_id = change.container_id
    apply_plan(ctx, saved, proposal.plan, snapshot=proposal.snapshot)
    after = state_of(load_batch(ctx, batch.pk))
    event = ctx.record("batch.keep", proposal.sentence, batch, before=before, after=after)
    return replace(proposal, version=batch.version, event=event.pk)


def apply_plan(ctx: Ctx, saved: Saved, plan: Plan, *, snapshot: Mapping[str, Any] | None = None) -> None:
    """Write a plan over a saved batch; what has happened stays. Call inside a transaction."""
    ground = Ground(ctx, without=[saved.batch.pk])
    batch = saved.batch
    begun = batch.state != Batch.State.PLANNED
    _set_batch(batch, plan, begun, snapshot)
    over = frozenset(stage.key for stage in saved.stages.values() if stage.actual_end is not None)
    for planned in plan.stages:
        row = saved.stages[planned.spec.key]
        row.needed, row.out = planned.needed, planned.out
        row.alpha, row.beta = planned.rate.spread.alpha, planned.rate.spread.beta
        row.origin, row.source = planned.rate.origin.value, planned.rate.source[:200]
        if row.key not in over:
            start, end = planned_days(planned)
            row.place_id, row.planned = planned.place, days(start, end)
    BatchStage.objects.bulk_update(
        saved.stages.values(), ["place", "alpha", "beta", "origin", "source", "needed", "out", "planned"]
    )
    Occupancy.objects.filter(stage__batch=batch).exclude(stage__key__in=over).delete()
    rows = [
        row
        for planned in plan.stages
        if planned.spec.key not in over
        for row in occupancies_of(planned, saved.stages[planned.spec.key].pk, ground, begun)
    ]
    copy_rows(Occupancy, OCCUPANCY, rows)
    if begun:
        stands_alone(batch, Occupancy.objects.filter(firm=True))
    else:
        BatchInput.objects.filter(stage=saved.first, lot__isnull=False, taken_on=None).delete()
        fed = BatchInput.objects.filter(stage=saved.first, upstream__isnull=False, taken_on=None)
        fed.update(quantity=exact(plan.quantities.start))
        copy_rows(BatchInput, INPUT, list(inputs_of(plan.request, plan.quantities, saved.first.pk)))
    upsert_tasks(ctx, batch, plan, over)


def _set_batch(batch: Batch, plan: Plan, begun: bool, snapshot: Mapping[str, Any] | None) -> None:
    values = batch_values(plan)
    if begun:  # what was started is a fact: so much, from there, in those
        values = {name: values[name] for name in ("chance_wanted", "planned_chance", "expected", "problems")}
    else:
        batch.lot_id = plan.request.lot.key if plan.request.lot else None
    for name, value in values.items():
        setattr(batch, name, value)
    if snapshot is not None:
        batch.method_snapshot = dict(snapshot)
    batch.version += 1
    batch.save()


def stands_alone(batch: Batch, others: QuerySet[Occupancy]) -> None:
    """A place that is taken whole takes one crop at a time. Raises Refused with the crop of `others` that is in the way."""
    own = Occupancy.objects.filter(
        stage__batch=batch, whole=True, place=OuterRef("place"), during__overlap=OuterRef("during")
    )
    taken = others.filter(Exists(own), whole=True).exclude(stage__batch=batch)
    there = taken.select_related("place", "stage__batch__crop").order_by("during").first()
    if there is not None:
        other = there.stage.batch
        ends = Func(F("during"), function="upper", output_field=DateField())
        until = others.filter(stage__batch=other, place=there.place).aggregate(last=Max(ends))["last"]
        raise refuse(
            "place_id",
            "taken",
            f"{there.place.name} carries {other.crop.name.lower()} {other.code} until {until}. "
            f"Choose another place or other days for {batch.code}.",
        )


def _conflict(ctx: Ctx, saved: Saved, change: Change) -> Conflict:
    """Both values: what stands saved now, and what this person wanted."""
    last = ctx.rows(AuditEvent).filter(subject=saved.batch.uuid).select_related("actor").order_by("-id").first()
    name = who(last.actor if last else None, "Somebody")
    try:
        wanted = _proposal(ctx, saved, change)
        rows = [
            {"name": f.name, "theirs": f.before, "yours": f.after, "unit": f.unit, "kind": f.kind}
            for f in wanted.figures
            if f.before != f.after
        ]
        yours = wanted.sentence
    except (Refused, ServiceError):  # the change may make no sense any more
        rows, yours = [], "Your change no longer fits what is saved."
    theirs = last.sentence if last else "A change was saved."
    return Conflict(
        f"{name} saved this batch first. Nothing of yours was saved; look at both and decide again.",
        version=saved.batch.version,
        theirs=theirs,
        yours=yours,
        values=rows,
    )
