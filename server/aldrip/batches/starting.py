"""New batches: for one order line or several, for a season of lines, or asked about and not saved."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from psycopg.types.range import DateRange

from aldrip.accounts.context import Ctx, Ref, act, one_of
from aldrip.base.bulk import json_value, update_rows
from aldrip.base.errors import FieldError, Refused, refuse
from aldrip.base.quantity import read_quantity
from aldrip.base.words import plural
from aldrip.batches.feeding import check_feed
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchInput, BatchStage
from aldrip.batches.promises import Touched, follow, give, hold_of
from aldrip.batches.saved import Saved, keep_in_hand, unit_of
from aldrip.batches.saving import Draft, seed_of, write_plans
from aldrip.batches.spare import Gift, Spares
from aldrip.methods.models import Container, Crop, Line, Method
from aldrip.methods.resolver import Library
from aldrip.methods.snapshot import crop_spec, crop_values, delivered_in, first_container, for_cultivar, read_snapshot
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import in_grams
from aldrip_core.batch_plan import Plan, Request, plan_batch
from aldrip_core.can_we_take_it import Answer, Remedy, answer
from aldrip_core.problems import Problem
from aldrip_core.stage_dates import Anchor
from aldrip_core.stages import MethodSpec
from aldrip_core.units import Quantity, Unit, from_base, unit
from aldrip_core.weeks import Span, UnreadableDay, read_due


def method_for(ground: Ground, crop: Crop, form: str, line: Line | None = None) -> Method:
    """The method by which a form of a crop is raised: of seed, one that suits the line. Raises Refused when there is none."""
    known = ground.methods_of(crop.slug)
    methods = sorted((m for m in known if m.form == form), key=lambda m: not suits(m, line))
    # A form that comes beside another is raised with it.
    methods = methods or [m for m in known if form in ground.method(m.pk).products]
    if not methods:
        raise refuse(
            "form", "no_method", f"No method raises this crop as “{form}”. Add one in Methods, or change the form."
        )
    return methods[0]


def suits(method: Method, line: Line | None) -> bool:
    """Whether a method of seed is one for a line: two parents in rows for a hybrid or an A line, one line for the others."""
    if method.way == "plants" or line is None:
        return True
    if line.female_id is not None:
        return method.way == "hybrid" and method.layout.get("step") == "hybrid"
    if line.maintainer_id is not None:
        return method.way == "hybrid" and method.layout.get("step") == "increase"
    return method.way != "hybrid"


@dataclass(frozen=True)
class Asked:
    """What is to be raised: the rows, what is needed by form in its unit, and when."""

    crop: Crop
    method: Method
    needs: Mapping[str, float]
    due_from: date
    due_last: date
    line: Line | None = None
    container: Container | None = None  # to be delivered in, where another than the method's is asked
    leaves: tuple[date, date] | None = None  # the first and the last day on which it is handed over


def _snapshot_for(ground: Ground, asked: Asked) -> Mapping[str, Any]:
    """The method as it is to be used for this: its windows by the cultivar, the container that is asked in the place of its own."""
    ground.know_methods([asked.method])
    snapshot = for_cultivar(ground.snapshots[asked.method.pk], asked.line)
    return delivered_in(snapshot, asked.container) if asked.container else snapshot


def _draft(ground: Ground, asked: Asked, plan: Plan, meant: Mapping[int, Decimal]) -> Draft:
    method, line = asked.method, asked.line.pk if asked.line else None
    snapshot = _snapshot_for(ground, asked)
    if snapshot is ground.snapshots[method.pk]:
        return Draft(plan, method, asked.crop.pk, line, meant)
    other = asked.container is not None and snapshot["container"] == asked.container.slug
    begun_in = asked.container.pk if asked.container is not None and other else method.container_id
    return Draft(plan, method, asked.crop.pk, line, meant, snapshot, begun_in, method.mix_id)


def request_for(ground: Ground, asked: Asked) -> Request:
    """What to ask of the planner for a promise."""
    method, snapshot = asked.method, _snapshot_for(ground, asked)
    spec = ground.method(method.pk) if snapshot is ground.snapshots[method.pk] else read_snapshot(snapshot)
    line = asked.line.slug if asked.line else None
    lot = ground.lot_for(asked.crop.slug, line) if spec.by_seed else None
    return Request(
        crop=crop_spec(crop_values(asked.crop)),
        method=spec,
        needs=asked.needs,
        chance=ground.chance,
        line=line,
        container=first_container(snapshot),
        lots=((lot, 1.0),) if lot else (),
        anchor=Anchor(ready=ground.ready_day(asked.due_from, asked.due_last)),
        leaves=asked.leaves,
    )


def _choose_lot_that_holds(ground: Ground, plan: Plan) -> Plan:
    """Take the next lot when the first does not hold the seed this plan needs."""
    request = plan.request
    need = seed_of(request.lot, plan.quantities) if request.lot else None
    if request.lot is None or need is None or ground.left[request.lot.key] >= need:
        return plan
    for lot in ground.by_crop.get(request.crop.slug, []):
        wanted = seed_of(lot, plan.quantities)
        same = request.line is None or lot.line == request.line
        if same and wanted is not None and ground.left[lot.key] >= wanted:
            return plan_batch(replace(request, lots=((lot, 1.0),)), ground, working=False)
    return plan


def take_place(ground: Ground, plan: Plan) -> None:
    """Let a plan take its space and its seed, so that the next one sees it."""
    for one in plan.standing:
        ground.put(one.place, one.start, one.end, one.amount)
    need = seed_of(plan.request.lot, plan.quantities) if plan.request.lot else None
    if plan.request.lot is not None and need is not None:
        ground.speak_for(plan.request.lot.key, need)


def asked_for(ground: Ground, line: OrderLine, quantity: Decimal | None = None) -> Asked:
    """What an order line asks to be raised: all of it, or so much in its base unit. Raises Refused."""
    method = method_for(ground, line.crop, line.form, line.line)
    needs = {line.form: needed_by(line, ground.method(method.pk), quantity)}
    return Asked(
        line.crop,
        method,
        needs,
        line.due.lower,
        line.due.upper - timedelta(days=1),
        line.line,
        line.container,
        (line.due.lower, line.due.lower),
    )


def needed_by(line: OrderLine, method: MethodSpec, quantity: Decimal | None = None) -> float:
    """What a line promises, or so much of it in its base unit, in the unit of what the method gives."""
    of = unit_of(method, line.form)
    wanted = line.quantity if quantity is None else quantity
    base = wanted if unit(line.unit).same_measure(of) else in_grams(line, wanted)
    return float(from_base(base, of))


def problems_of(plan: Plan, due_last: date, ground: Ground) -> list[Problem]:
    """What an order line carries when its plan does not hold."""
    found = list(plan.problems)
    if plan.ready_on > due_last:
        days = (plan.ready_on - due_last).days
        found.insert(0, Problem("late", {"ready_on": plan.ready_on.isoformat(), "days": days}))
    lot = plan.request.lot
    if plan.request.method.by_seed and lot is None:
        found.append(
            Problem(
                "no_seed",
                {
                    "crop": plan.request.crop.name.lower(),
                    "grams": plan.quantities.seed_g or 0.0,
                    "seeds": plan.quantities.seeds or 0.0,
                },
            )
        )
    elif lot is not None and ground.left[lot.key] < 0:
        found.append(Problem("short_seed", {"lot": lot.code, "grams": -float(ground.left[lot.key])}))
    return found


@act
def plan_lines(ctx: Ctx, line_ids: Sequence[int] | None = None) -> dict[str, Any]:
    """Plan for every open line that nothing is meant for: what stands and is promised to nobody first, then a batch.

    Lines that cannot be planned keep the reason.
    """
    rows = ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN, allocations=None, set_aside=None)
    if line_ids is not None:
        rows = rows.filter(pk__in=line_ids)
    lines = list(rows.select_related("crop", "line", "order", "container").order_by("due", "id"))
    if not lines:
        return {"planned": 0, "unplanned": [], "late": 0, "batches": [], "given": 0}
    ground, touched = Ground(ctx), Touched()
    wanted = {line: line.quantity for line in lines}
    spares = Spares(ctx, crops={line.crop.slug for line in lines})
    if spares.found:
        ground.know_crops({line.crop.slug for line in lines})
        for line in lines:
            wanted[line] -= give(line, spares, line.quantity, touched, hold_of(ground, line))
    given = [line for line in lines if wanted[line] < line.quantity]
    follow(ctx, touched)
    if given:
        ground = Ground(ctx)
    saved, refused, served = _raise(ctx, ground, {line: left for line, left in wanted.items() if left > 0})
    made = [one.batch.pk for one in saved]
    keep_in_hand(saved, served)
    late = sum(1 for line in served if line.problems)
    told = [f"Planned {plural(len(made), 'batch', 'batches')} for {plural(len(served), 'order line')}."]
    if given:
        told.append(f"{plural(len(given), 'line')} {'has' if len(given) == 1 else 'have'} something of what stands.")
    ctx.record(
        "batch.plan", " ".join(told), after={"batches": len(made), "lines": [str(line.uuid) for line in served][:500]}
    )
    return {
        "planned": len(served),
        "late": late,
        "batches": made,
        "given": len(given),
        "unplanned": [{"line": line.pk, "number": line.order.number, "reason": why} for line, why in refused],
    }


def raise_for(ctx: Ctx, wanted: Mapping[OrderLine, Decimal]) -> tuple[list[int], list[tuple[OrderLine, str]]]:
    """Plan a batch for so much of each line, in its base unit. Returns the batches, and the lines that cannot be raised with why.

    Call inside an act.
    """
    saved, refused, _ = _raise(ctx, Ground(ctx), wanted)
    made = [one.batch.pk for one in saved]
    if made:
        codes = ", ".join(Batch.objects.filter(pk__in=made).order_by("id").values_list("code", flat=True)[:6])
        ctx.record("batch.plan", f"Planned {codes} for what was missing.", after={"batches": len(made)})
    return made, refused


def _raise(
    ctx: Ctx, ground: Ground, wanted: Mapping[OrderLine, Decimal]
) -> tuple[list[Saved], list[tuple[OrderLine, str]], list[OrderLine]]:
    drafts, served, refused = [], [], []
    ground.know_crops({line.crop.slug for line in wanted})
    for line, quantity in wanted.items():
        try:
            asked = asked_for(ground, line, quantity)
            plan = _choose_lot_that_holds(ground, plan_batch(request_for(ground, asked), ground, working=False))
        except Refused as error:
            line.problems = [Problem("refused", {"words": error.errors[0].message}).plain()]
            refused.append(line)
            continue
        take_place(ground, plan)
        line.problems = [p.plain() for p in problems_of(plan, asked.due_last, ground)]
        line.chance = 0.0 if plan.ready_on >= line.due.upper else plan.quantities.chance
        line.forecast = _forecast(line, plan)
        drafts.append(_draft(ground, asked, plan, {line.pk: quantity}))
        served.append(line)
    saved = write_plans(ctx, drafts, ground)
    for one, line in zip(saved, served, strict=True):
        one.batch.crop = line.crop
    update_rows(
        OrderLine,
        ("problems", "chance", "forecast"),
        [(one.pk, json_value(one.problems), one.chance, one.forecast) for one in (*served, *refused)],
    )
    return saved, [(line, line.problems[0]["words"]) for line in refused], served


def _forecast(line: OrderLine, plan: Plan) -> float:
    """What a line may expect of its plan, in its own base unit."""
    gives = plan.quantities.gives[line.form]
    wanted = plan.request.needs[line.form]
    return gives / wanted * float(line.quantity) if wanted else gives


def read_promise(ctx: Ctx, crop_id: Ref, form: str, text: str) -> Quantity:
    """A quantity as typed: a weight or seeds where the form is weighed, else a count."""
    crop = ctx.get(Crop, crop_id, shared=True)
    method = Library(ctx).rows(Method).filter(crop__slug=crop.slug, form=form).first()
    return read_quantity(text, unit(method.unit) if method else Unit.PLANT, "quantity")


def read_days(ctx: Ctx, text: str, field: str) -> Span:
    """A day or days as typed; a bare number of one or two figures is a week. Raises Refused."""
    try:
        return read_due(text, today=ctx.today)
    except UnreadableDay as error:
        raise refuse(field, error.code, str(error)) from None


def asked_in_words(
    ctx: Ctx,
    ground: Ground,
    crop_id: Ref,
    line_id: Ref | None,
    form: str,
    quantity: Quantity,
    due_from: date,
    due_last: date,
) -> tuple[OrderLine, Asked]:
    """A promise that nobody made yet, and what it asks to be raised. Raises Refused."""
    crop = ctx.get(Crop, crop_id, shared=True)
    line = ctx.get(Line, line_id, shared=True) if line_id is not None else None
    method = method_for(ground, crop, form, line)
    promise = OrderLine(
        crop=crop,
        line=line,
        form=form,
        quantity=quantity.base,
        unit=quantity.unit.words,
        due=DateRange(due_from, due_last + timedelta(days=1)),
    )
    needs = {form: needed_by(promise, ground.method(method.pk))}
    return promise, Asked(crop, method, needs, due_from, due_last, line, leaves=(due_from, due_from))


def can_we_take_it(
    ctx: Ctx,
    *,
    crop_id: Ref,
    form: str,
    quantity: Quantity,
    due_from: date,
    due_last: date,
    line_id: Ref | None = None,
    without: Sequence[int] = (),
) -> Answer:
    """Whether a promise could be kept, the earliest day if not, and what limits it; on a ground without some batches."""
    ground = Ground(ctx, without=without)
    promise, asked = asked_in_words(ctx, ground, crop_id, line_id, form, quantity, due_from, due_last)
    return answer_for(ground, Spares(ctx, crops={asked.crop.slug}), promise, asked)[0]


def answer_for(ground: Ground, spares: Spares, promise: OrderLine, asked: Asked) -> tuple[Answer, list[Gift]]:
    """Whether a promise that nobody made yet could be kept, and what of what stands it would have; that is taken of `spares`.

    The ground stays as it is: `take_place` lets the next one see it.
    """
    spec = ground.method(asked.method.pk)
    gifts = spares.take(promise, promise.quantity, spec.hold_days)
    spare = needed_by(promise, spec, sum((gift.quantity for gift in gifts), Decimal(0)))
    request = request_for(ground, asked)
    request = _choose_lot_that_holds(ground, plan_batch(request, ground, working=False)).request
    found = answer(ground, request, due_from=asked.due_from, due_last=asked.due_last, spare=spare)
    if not found.can:
        found = replace(found, remedies=(*found.remedies, *instead(spares, promise)))
    return found, gifts


MOST_INSTEAD = 3


def instead(spares: Spares, promise: OrderLine) -> list[Remedy]:
    """What stands of the same crop in another form, container or class, and could be offered in its place."""
    found: dict[str, Decimal] = {}
    of = unit(promise.unit)
    for one in spares.beside(promise):
        kind = one.form if one.form != promise.form else one.lot.seed_class.replace("-", " ") if one.lot else ""
        other = one.batch.container.name if one.batch is not None and one.batch.container and not kind else kind
        if other:
            found[other] = found.get(other, Decimal(0)) + one.free
    return [
        Remedy(
            "instead",
            f"Offer “{other}” in its place: {Quantity(free, of).words()} stand or are planned and are promised to nobody.",
        )
        for other, free in sorted(found.items(), key=lambda pair: -pair[1])[:MOST_INSTEAD]
    ]


def cures_of(ctx: Ctx, line_id: Ref) -> Answer:
    """What would cure an order line: what is still missing of it, asked anew as if its own planned batches were not there."""
    line = ctx.get(OrderLine, line_id)
    own = ctx.rows(Batch).filter(state=Batch.State.PLANNED, allocations__order_line=line)
    only = [one.pk for one in own if not one.allocations.exclude(order_line=line).exists()]
    missing = max(Decimal(0), line.quantity - line.delivered)
    return can_we_take_it(
        ctx,
        crop_id=line.crop_id,
        form=line.form,
        quantity=Quantity(missing, unit(line.unit)),
        due_from=max(line.due.lower, ctx.today),
        due_last=max(line.due.upper - timedelta(days=1), ctx.today),
        line_id=line.line_id,
        without=only,
    )


@dataclass(frozen=True)
class NewBatch:
    """A batch that a person asks for: for order lines, or on speculation; started from lots or from another batch."""

    crop_id: int
    method_id: int
    ready_on: date
    needed: float | None = None
    line_id: int | None = None
    order_line_ids: tuple[int, ...] = ()
    lot_ids: tuple[int, ...] = ()
    from_batch: tuple[int, str] | None = None  # (batch, its stage)
    needs: Mapping[str, float] = field(default_factory=dict)


@act
def new_batch(ctx: Ctx, asked: NewBatch) -> int:
    """Save one planned batch. Raises Refused with what does not fit."""
    ground = Ground(ctx)
    crop, method = ctx.get(Crop, asked.crop_id, shared=True), ctx.get(Method, asked.method_id, shared=True)
    if method.crop.slug != crop.slug:
        raise refuse("method_id", "other_crop", f"{method.name} does not raise {crop.name.lower()}.")
    line = ctx.get(Line, asked.line_id, shared=True) if asked.line_id is not None else None
    if line is not None and line.crop.slug != crop.slug:
        raise refuse("line_id", "other_crop", "That cultivar belongs to another crop.")
    ground.know_methods([method])
    spec = ground.method(method.pk)
    lines = _lines_for(ctx, asked, crop, spec)
    needs = dict(asked.needs)
    for one in lines:
        needs[one.form] = needs.get(one.form, 0.0) + needed_by(one, spec)
    if asked.needed is not None and (not lines or asked.needed > needs.get(spec.form, 0.0)):
        needs[spec.form] = asked.needed
    if not needs.get(spec.form) and not any(needs.values()):
        raise refuse("needed", "missing", "How many are needed?")
    containers = {one.container for one in lines}
    container = containers.pop() if len(containers) == 1 else None
    days = [one.due.lower for one in lines]
    leaves = (min(days), max(days)) if days else None
    wanted = Asked(crop, method, needs, asked.ready_on, asked.ready_on, line, container, leaves)
    request = request_for(ground, wanted)
    if asked.lot_ids:
        lots = [ground.lots[pk] for pk in asked.lot_ids if pk in ground.lots and ground.lots[pk].crop == crop.slug]
        if len(lots) != len(asked.lot_ids):
            raise refuse("lot_ids", "does_not_fit", f"A lot among these is not {crop.name.lower()} that can be sown.")
        request = replace(request, lots=tuple((lot, 1.0) for lot in lots))
    plan = plan_batch(request, ground, working=False)
    take_place(ground, plan)
    meant = {one.pk: one.quantity for one in lines}
    pk = write_plans(ctx, [_draft(ground, wanted, plan, meant)], ground)[0].batch.pk
    batch = Batch.objects.get(pk=pk)
    if asked.from_batch is not None:
        feeding = check_feed(ctx, asked.from_batch, plan=plan, crop=crop, line=line)
        first = BatchStage.objects.get(batch=batch, key=spec.root.key)
        BatchInput.objects.filter(stage=first).delete()
        BatchInput.objects.create(stage=first, upstream=feeding.stage, quantity=feeding.quantity, part="stage")
    what = f"{sum(needs.values()):,g} {crop.name.lower()}"
    ctx.record("batch.new", f"Planned {batch.code}: {what}.", batch, after={"version": batch.version})
    return pk


def _lines_for(ctx: Ctx, asked: NewBatch, crop: Crop, method: MethodSpec) -> list[OrderLine]:
    """The open lines that a batch is for; each must ask for what it gives. Raises Refused."""
    lines, faults = [], []
    for index, pk in enumerate(asked.order_line_ids):
        line = one_of(ctx.rows(OrderLine).select_related("crop", "line", "order", "container"), pk)
        if line is None or line.state != OrderLine.State.OPEN:
            faults.append(FieldError(f"order_line_ids.{index}", "not_open", "There is no such open order line."))
        elif line.crop.slug != crop.slug or line.form not in method.products:
            told = f"Order {line.order.number} asks for {line.crop.name.lower()} as “{line.form}”; this gives something else."
            faults.append(FieldError(f"order_line_ids.{index}", "does_not_fit", told))
        else:
            lines.append(line)
    if faults:
        raise Refused(faults)
    return lines
