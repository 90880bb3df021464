"""New batches: for one order line, for a season of lines, or asked about and not saved."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from django.db import transaction

from aldrip.accounts.context import Ctx
from aldrip.base.bulk import update_rows
from aldrip.base.errors import Refused, refuse
from aldrip.base.quantity import read_count, read_kilos
from aldrip.base.words import day, plural
from aldrip.batches.ending import abandon
from aldrip.batches.forecasting import LIVE, refresh
from aldrip.batches.ground import Ground
from aldrip.batches.models import Allocation, Batch, BatchStage
from aldrip.batches.planner import Plan, Request, plan_batch, ready_day, space_of
from aldrip.batches.resowing import refresh_decision
from aldrip.batches.saving import write_plans
from aldrip.methods.models import Crop, Method
from aldrip.orders.models import OrderLine
from aldrip.orders.services import cancel_line, change_line
from aldrip_core.bench_space import Over

WEEKS_AHEAD = 26


def method_for(ground: Ground, crop_id: int, form: str) -> Method:
    """The method by which a form of a crop is raised. Raises Refused when there is none."""
    methods = [m for m in ground.methods_by_crop.get(crop_id, []) if m.form == form]
    if not methods:
        raise refuse(
            "form", "no_method", f"No method raises this crop as “{form}”. Add one in Methods, or change the form."
        )
    return methods[0]


def request_for(
    ground: Ground, *, crop: Crop, form: str, needed: int, due_from: date, due_last: date, line_id: int | None,
    method: Method | None = None,
) -> Request:  # fmt: skip
    """What to ask of the planner for a promise."""
    method = method or method_for(ground, crop.pk, form)
    ground.know_methods([method])
    return Request(
        crop=crop, method=method, definition=ground.method(method.pk), needed=needed,
        chance=ground.organisation.chance_wanted, line_id=line_id, container=method.container, mix=method.mix,
        lot=ground.lot_for(crop.pk, line_id) if method.by_seed else None, ready=ready_day(due_from, due_last, ground),
    )  # fmt: skip


def _choose_lot_that_holds(ground: Ground, request: Request, plan: Plan) -> Plan:
    """Take the next lot when the first does not hold the seed this plan needs."""
    need = plan.quantities.seed_g
    if request.lot is None or need is None or float(ground.seed_left[request.lot.pk]) >= need:
        return plan
    for lot in ground.lots_by_crop.get(request.crop.pk, []):
        same = request.line_id is None or lot.line_id == request.line_id
        if same and float(ground.seed_left[lot.pk]) >= need:
            return plan_batch(replace(request, lot=lot), ground, working=False, put=False)
    return plan


def _plan_line(ground: Ground, line: OrderLine) -> Plan:
    request = request_for(
        ground, crop=line.crop, form=line.form, needed=line.quantity, due_from=line.due.lower,
        due_last=line.due.upper - timedelta(days=1), line_id=line.line_id,
    )  # fmt: skip
    plan = plan_batch(request, ground, working=False, put=False)
    plan = _choose_lot_that_holds(ground, request, plan)
    for stage in plan.stages:
        if stage.place is not None and stage.amount and stage.dates.end > stage.dates.start:
            ground.put(stage.place, stage.dates.start, stage.dates.end, stage.amount)
    if plan.request.lot is not None and plan.quantities.seed_g:
        left = ground.seed_left[plan.request.lot.pk]
        ground.seed_left[plan.request.lot.pk] = left - type(left)(plan.quantities.seed_g)
    return plan


def problem_of(plan: Plan, due_last: date, ground: Ground) -> str:
    """The sentence that an order line carries when its plan does not hold."""
    said = list(plan.problems)
    if plan.ready_on > due_last:
        said.insert(
            0,
            f"Cannot be met as asked: the earliest day is {day(plan.ready_on)}, {(plan.ready_on - due_last).days} days late.",
        )
    lot, need = plan.request.lot, plan.quantities.seed_g
    if plan.request.definition.by_seed and lot is None:
        said.append(f"No seed lot of {plan.request.crop.name.lower()}: receive or buy {need or 0:,.1f} g.")
    elif lot is not None and need and ground.seed_left[lot.pk] < 0:
        said.append(f"Lot {lot.code} is short by {-float(ground.seed_left[lot.pk]):,.1f} g with what is planned.")
    return " ".join(said)[:300]


@transaction.atomic
def plan_lines(ctx: Ctx, line_ids: Sequence[int] | None = None) -> dict[str, Any]:
    """Plan a batch for every open line that has none; lines that cannot be planned keep the reason."""
    rows = ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN, allocations=None).select_related("crop", "order")
    if line_ids is not None:
        rows = rows.filter(pk__in=line_ids)
    lines = list(rows.order_by("due", "id"))
    if not lines:
        return {"planned": 0, "unplanned": [], "late": 0, "batches": []}
    ground = Ground(ctx)
    plans, served, refused = [], [], []
    for line in lines:
        try:
            plan = _plan_line(ground, line)
        except Refused as error:
            line.problem = error.errors[0].message[:300]
            refused.append(line)
            continue
        line.problem = problem_of(plan, line.due.upper - timedelta(days=1), ground)
        line.chance = 0.0 if plan.ready_on >= line.due.upper else plan.quantities.chance
        line.forecast = plan.quantities.expected
        plans.append(plan)
        served.append(line)
    ids = write_plans(ctx, plans, ground, [{line.pk: line.quantity} for line in served])
    update_rows(
        OrderLine,
        ("problem", "chance", "forecast"),
        [(one.pk, one.problem, one.chance, one.forecast) for one in (*served, *refused)],
    )
    late = sum(1 for line in served if line.problem)
    ctx.record("batch.plan", f"Planned {plural(len(plans), 'batch', 'batches')} for {plural(len(plans), 'order line')}.",
               after={"batches": ids[:500], "lines": [line.pk for line in served][:500]})  # fmt: skip
    return {
        "planned": len(plans), "late": late, "batches": ids,
        "unplanned": [{"line": line.pk, "number": line.order.number, "reason": line.problem} for line in refused],
    }  # fmt: skip


@dataclass(frozen=True)
class Limit:
    """Something that stands in the way, with its measure."""

    kind: str
    sentence: str


@dataclass(frozen=True)
class Remedy:
    """A move that would cure it, with its consequence computed."""

    kind: str
    sentence: str
    ready_on: date | None = None
    quantity: int | None = None


@dataclass(frozen=True)
class Answer:
    """Can we take it? Nothing is saved."""

    plan: Plan
    can: bool
    earliest: date | None
    limits: tuple[Limit, ...]
    remedies: tuple[Remedy, ...]


def read_quantity(ctx: Ctx, crop_id: int, form: str, text: str) -> int:
    """A quantity as typed: kilos where the form is seed, else a count."""
    kilos = ctx.shared_rows(Method).filter(crop=crop_id if 0 < crop_id < 2**63 else 0, form=form, unit="kg").exists()
    return (read_kilos if kilos else read_count)(text, "quantity")


def can_we_take_it(
    ctx: Ctx, *, crop_id: int, form: str, quantity: int, due_from: date, due_last: date, line_id: int | None = None
) -> Answer:
    """Whether a promise could be kept, the earliest day if not, and what limits it."""
    ground = Ground(ctx)
    crop = ctx.get(Crop, crop_id, shared=True)
    request = request_for(
        ground, crop=crop, form=form, needed=quantity, due_from=due_from, due_last=due_last, line_id=line_id
    )
    plan = plan_batch(request, ground)
    limits, space = _limits(ground, plan, due_last)
    can = plan.ready_on <= due_last and not space
    earliest = plan.ready_on if can else _earliest(ground, request, max(ground.today, due_from))
    remedies = () if can else tuple(_remedies(ctx, ground, plan, earliest, due_last))
    return Answer(plan, can, earliest, tuple(limits), remedies)


def _limits(ground: Ground, plan: Plan, due_last: date) -> tuple[list[Limit], bool]:
    limits = []
    if plan.ready_on > due_last:
        days = (plan.ready_on - due_last).days
        limits.append(Limit("season", f"Sown on the next sowing day it is ready {days} days after the window closes."))
    over = _overflows(ground, plan)
    for name, unit, run in over:
        limits.append(
            Limit(
                "space",
                f"{name} would be over by {run.amount:,.0f} {unit} from {run.start.day} {run.start:%b} to {(run.end - timedelta(days=1)).day} {run.end - timedelta(days=1):%b}.",
            )
        )
    lot, need = plan.request.lot, plan.quantities.seed_g
    if plan.request.definition.by_seed and need:
        if lot is None:
            limits.append(Limit("seed", f"There is no seed lot; {need:,.1f} g have to be bought."))
        elif float(ground.seed_left[lot.pk]) < need:
            left = max(0.0, float(ground.seed_left[lot.pk]))
            limits.append(
                Limit("seed", f"Lot {lot.code} has {left:,.1f} g not spoken for; {need - left:,.1f} g more are needed.")
            )
    for stage in plan.stages:
        if stage.resting_days:
            limits.append(Limit("heat", next(p for p in plan.problems if "rests above" in p)))
            break
    return limits, bool(over)


def _overflows(ground: Ground, plan: Plan) -> list[tuple[str, str, Over]]:
    """Runs in which a plan, stood on the ground for a moment, makes a place overflow."""
    standing = [s for s in plan.stages if s.place is not None and s.amount and s.dates.end > s.dates.start]
    for stage in standing:
        ground.put(stage.place or 0, stage.dates.start, stage.dates.end, stage.amount)
    found = [
        (ground.lanes[place].place.name, ground.lanes[place].place.unit, run)
        for place, _, runs in space_of(plan, ground) for run in runs
    ]  # fmt: skip
    for stage in standing:
        ground.put(stage.place or 0, stage.dates.start, stage.dates.end, -stage.amount)
    return found


def _earliest(ground: Ground, request: Request, from_day: date) -> date | None:
    """First day on which it could be ready with the space it needs; looked for week by week."""
    first = plan_batch(replace(request, ready=None, sow=ground.today), ground, working=False)
    aim = max(first.ready_on, ground.working.on_or_before(from_day))
    for _ in range(WEEKS_AHEAD):
        plan = plan_batch(replace(request, ready=aim), ground, working=False)
        if not _overflows(ground, plan):
            return plan.ready_on
        aim = ground.working.on_or_after(aim + timedelta(days=7))
    return None


def _remedies(ctx: Ctx, ground: Ground, plan: Plan, earliest: date | None, due_last: date) -> list[Remedy]:
    crop = plan.request.crop.name.lower()
    found = []
    if earliest is not None:
        found.append(Remedy("date", f"Agree {day(earliest)}, instead.", earliest))
    spare = _spare_plants(ctx, plan, due_last)
    if spare:
        found.append(
            Remedy(
                "standing",
                f"Take {spare:,} {crop} from batches that stand with more than is promised of them.",
                quantity=spare,
            )
        )
    sooner = _sooner_in_warmth(ground, plan)
    if sooner is not None:
        found.append(sooner)
    missing = plan.quantities.needed - spare
    if missing > 0:
        found.append(
            Remedy("buy", f"Buy in {missing:,} {crop} raised elsewhere, with their passports.", quantity=missing)
        )
    return found


def _spare_plants(ctx: Ctx, plan: Plan, due_last: date) -> int:
    """Plants of the same crop and form beyond what is promised, ready in time."""
    batches = (
        ctx.rows(Batch)
        .filter(
            crop=plan.request.crop,
            method__form=plan.request.method.form,
            state__in=[Batch.State.SOWN, Batch.State.READY],
        )
        .prefetch_related("stages")
    )
    meant: dict[int, int] = {}
    for batch, quantity in Allocation.objects.filter(batch__in=batches).values_list("batch_id", "quantity"):
        meant[batch] = meant.get(batch, 0) + quantity
    in_time = [b for b in batches if list(b.stages.all())[-1].planned.upper <= due_last]
    spare = sum(max(0, int(b.low if b.low is not None else b.expected) - meant.get(b.pk, 0)) for b in in_time)
    return min(spare, plan.quantities.needed)


def _sooner_in_warmth(ground: Ground, plan: Plan) -> Remedy | None:
    """The warmest place for a stage that runs on warmth, if it saves days."""
    best = None
    for stage in plan.stages:
        if stage.definition.duration.heat_sum_c_d is None:
            continue
        for pk, lane in ground.lanes.items():
            if (
                pk == stage.place
                or lane.usable is None
                or (lane.place.unit == "trays") != (stage.definition.density == "tray")
            ):
                continue
            places = {**plan.request.places, stage.definition.order: pk}
            try:
                other = plan_batch(
                    replace(plan.request, ready=None, sow=ground.today, places=places), ground, working=False
                )
            except Refused:
                continue
            saved = (plan.ready_on - other.ready_on).days
            if saved > 0 and (best is None or saved > best[0]):
                text = (
                    f"{stage.definition.name} in {lane.place.name}: ready {saved} days sooner, {day(other.ready_on)}."
                )
                best = (saved, Remedy("warmth", text, other.ready_on))
    return best[1] if best else None


@transaction.atomic
def new_batch(ctx: Ctx, *, order_line_id: int | None, request: Request, ground: Ground) -> int:
    """Save one planned batch, for an order line or on speculation."""
    plan = plan_batch(request, ground, working=False, put=True)
    meant: dict[int, int] = {}
    if order_line_id is not None:
        line = ctx.get(OrderLine, order_line_id, lock=True)
        meant = {line.pk: min(line.quantity, request.needed)}
        line.problem = problem_of(plan, line.due.upper - timedelta(days=1), ground)
        line.save(update_fields=["problem"])
    pk = write_plans(ctx, [plan], ground, [meant])[0]
    batch = Batch.objects.get(pk=pk)
    ctx.record("batch.new", f"Planned {batch.code}: {request.needed:,} {request.crop.name.lower()}.", batch,
               after={"version": batch.version})  # fmt: skip
    refresh(ctx, batches=[pk])
    return pk


@transaction.atomic
def cancel(ctx: Ctx, line_id: int, reason: str) -> OrderLine:
    """Cancel an order line; what is only planned for it is let go, what stands stays as stock."""
    line = cancel_line(ctx, line_id, reason)
    batches = list(Batch.objects.filter(allocations__order_line=line))
    for batch in batches:
        others = batch.allocations.exclude(order_line=line).filter(order_line__state=OrderLine.State.OPEN)
        if batch.state == Batch.State.PLANNED and not others.exists():
            abandon(ctx, batch)
    refresh(ctx, batches=[batch.pk for batch in batches])
    return line


@transaction.atomic
def change(ctx: Ctx, line_id: int, row: Mapping[str, str], version: int) -> OrderLine:
    """Change an open order line; its chance follows, and it says when its batches come too late."""
    line = change_line(ctx, line_id, row, version)
    last_stages = BatchStage.objects.filter(batch__allocations__order_line=line, batch__state__in=LIVE).order_by(
        "batch", "-order"
    )
    ready = [stage.planned.upper for stage in last_stages.distinct("batch")]
    line.problem = ""
    if ready and max(ready) >= line.due.upper:
        late = (max(ready) - line.due.upper).days + 1
        line.problem = f"Its batch will be ready {plural(late, 'day')} after the window closes."
    line.save(update_fields=["problem"])
    refresh(ctx, lines=[line.pk])
    refresh_decision(
        ctx, Batch.objects.filter(allocations__order_line=line, state__in=LIVE).values_list("pk", flat=True)
    )
    line.refresh_from_db()
    return line
