"""Plan a batch on a ground: quantities, dates, places. Computes only; saving is elsewhere."""

from dataclasses import dataclass, field, replace
from datetime import date, timedelta

from aldrip.base.words import share
from aldrip.batches.ground import Ground, Lane
from aldrip.batches.snapshot import MethodDef, StageDef
from aldrip.lots.models import Lot
from aldrip.methods.models import Container, Crop, Method, Mix
from aldrip_core.bench_space import Over
from aldrip_core.distributions import Spread
from aldrip_core.quantities import (
    Quantities,
    Rate,
    Sowing,
    emergence,
    plan_quantities,
    promise_from_seed,
    start_from_rung,
)
from aldrip_core.refusal import refuse
from aldrip_core.schedule import StageDates, TimedStage, backward, forward, stopped_days
from aldrip_core.working import Origin


@dataclass(frozen=True)
class TypedRate:
    """A rate that a person typed over the one that was there, and why."""

    mean: float
    sd: float
    reason: str


@dataclass(frozen=True)
class Request:
    """What a batch is asked to be. `ready`, `sow` or `move` anchors the dates; without one `dates` stay."""

    crop: Crop
    method: Method
    definition: MethodDef
    needed: int
    chance: float
    line_id: int | None = None
    container: Container | None = None
    mix: Mix | None = None
    lot: Lot | None = None
    ready: date | None = None
    sow: date | None = None
    dates: tuple[StageDates, ...] = ()
    move: tuple[int, date] | None = None  # a stage's new start; later stages follow
    start: int | None = None
    rung: tuple[int, float] | None = None
    seed_g: float | None = None
    rates: dict[int, TypedRate] = field(default_factory=dict)
    places: dict[int, int] = field(default_factory=dict)
    kept_rates: dict[int, Rate] = field(default_factory=dict)
    use_records: bool = True


@dataclass(frozen=True)
class PlannedStage:
    """A stage with its days, place, rate and what it takes up."""

    definition: StageDef
    dates: StageDates
    place: int | None
    rate: Rate
    needed: float
    out: float
    into: float
    amount: float
    resting_days: int


@dataclass(frozen=True)
class Plan:
    """A planned batch, not yet saved."""

    request: Request
    quantities: Quantities
    stages: tuple[PlannedStage, ...]
    too_late_by: int
    problems: tuple[str, ...]

    @property
    def sow_on(self) -> date:
        return self.stages[0].dates.start

    @property
    def ready_on(self) -> date:
        return self.stages[-1].dates.end


def tgw_of(lot: Lot | None, crop: Crop) -> float | None:
    """The lot's own thousand-grain weight, else the crop's usual one [g]."""
    return (lot.tgw_g if lot else None) or crop.tgw_g


def _tgw_source(lot: Lot | None, crop: Crop) -> str:
    return f"lot {lot.code}" if lot and lot.tgw_g else f"library: {crop.sources.get('tgw_g', '')}"


def rates_of(request: Request, ground: Ground) -> tuple[Rate, ...]:
    """The rate of every stage: typed, else own records, else lot test, else library."""
    found = []
    for stage in request.definition.stages:
        typed = request.rates.get(stage.order)
        if typed is not None:
            spread = _typed_spread(stage, typed)
            found.append(Rate(stage.name, spread, Origin.ENTERED, f"typed: {typed.reason}", stage.multiply))
        elif stage.order in request.kept_rates:
            found.append(request.kept_rates[stage.order])
        elif stage.kind == "germinate" and request.definition.by_seed:
            found.append(_emergence_rate(stage, request, ground))
        else:
            found.append(_stage_rate(stage, request, ground))
    return tuple(found)


def _typed_spread(stage: StageDef, typed: TypedRate) -> Spread:
    try:
        return Spread.from_mean_sd(typed.mean, typed.sd)
    except ValueError:
        raise refuse(
            "rate",
            "too_wide",
            f"“{stage.name}” cannot keep {share(typed.mean, 1)} with a spread of {share(typed.sd, 1)}.",
        ) from None


def _stage_rate(stage: StageDef, request: Request, ground: Ground) -> Rate:
    record = ground.records.get((request.method.pk, stage.kind)) if request.use_records else None
    if record is not None and stage.keeps.mean < 1:
        return Rate(stage.name, record.spread, Origin.RECORDS, f"own records, {record.batches} batches", stage.multiply)
    return Rate(stage.name, stage.keeps, Origin.LIBRARY, f"library: {stage.source}", stage.multiply)


def _emergence_rate(stage: StageDef, request: Request, ground: Ground) -> Rate:
    crop, lot = request.crop, request.lot
    if lot is not None and lot.germination is not None:
        mean, origin = lot.germination, Origin.RECORDS
        source = f"lot {lot.code} tested {share(lot.germination)}"
    elif crop.germination is not None:
        mean, origin, source = crop.germination, Origin.LIBRARY, f"library germination {share(crop.germination)}"
    else:
        raise refuse(
            "lot_id",
            "missing",
            f"{crop.name} has no germination in the library. Choose a tested lot, or type the rate.",
        )
    sd = min(crop.germination_sd, 0.5 * (mean * (1 - mean)) ** 0.5)
    germination = Spread.from_mean_sd(mean, sd)
    record = ground.records.get((request.method.pk, "germinate")) if request.use_records else None
    factor = record.spread if record else request.definition.cell_factor
    told = (
        f"own cell factor {factor.mean:.3f}, {record.batches} batches" if record else f"cell factor {factor.mean:.3f}"
    )
    per_cell = request.definition.seeds_per_cell
    spread = emergence(germination=germination, cell_factor=factor, seeds_per_cell=per_cell)
    seeds = "" if per_cell == 1 else f", {per_cell} seeds a cell"
    return Rate(stage.name, spread, origin, f"{source} × {told}{seeds}", stage.multiply)


def _timed(definition: MethodDef, lanes: list[Lane | None], ground: Ground) -> list[TimedStage]:
    return [
        TimedStage(stage.name, stage.duration, lane.climate if lane else None,
                   ground.sowing if stage.kind == "sow" else None)
        for stage, lane in zip(definition.stages, lanes, strict=True)
    ]  # fmt: skip


def timed_stages(request: Request, ground: Ground) -> list[TimedStage]:
    """Stages with the temperatures of the chosen places, or of the usual place of a kind."""
    lanes = [
        ground.lanes.get(request.places.get(stage.order, 0)) or ground.usual(stage.place_kind)
        for stage in request.definition.stages
    ]
    return _timed(request.definition, lanes, ground)


def _dates(request: Request, ground: Ground, timed: list[TimedStage]) -> tuple[tuple[StageDates, ...], int]:
    """Dates of the stages, and by how many days the promise would be missed."""
    if request.sow is not None:
        return forward(start=request.sow, stages=timed, calendar=ground.working), 0
    if request.move is not None:
        return _moved(request.dates, request.move, ground, timed), 0
    if request.ready is None:
        return request.dates, 0
    dates = backward(ready=request.ready, stages=timed, calendar=ground.working)
    if dates[0].start >= ground.today:
        return dates, 0
    late = forward(start=ground.today, stages=timed, calendar=ground.working)
    return late, max(0, (late[-1].end - request.ready).days)


def _moved(
    dates: tuple[StageDates, ...], move: tuple[int, date], ground: Ground, timed: list[TimedStage]
) -> tuple[StageDates, ...]:
    index, start = move
    later = forward(start=start, stages=timed[index:], calendar=ground.working)
    if index == 0:
        return later
    before = dates[index - 1]
    if later[0].start < before.start:
        raise refuse("move", "too_early", f"“{timed[index].name}” cannot start before “{timed[index - 1].name}” does.")
    return (*dates[: index - 1], StageDates(before.start, later[0].start), *later)


def _amount(stage: StageDef, into: float, trays: int | None, container: Container | None) -> float:
    """What a stage takes up of its place, in the unit of the place."""
    if stage.density == "tray":
        return float(trays or 0)
    if stage.density == "tray_m2":
        return (trays or 0) * (container.area_m2 if container else 0.0)
    if stage.density == "unit_m2":
        return into * stage.unit_m2
    return 0.0


def plan_batch(request: Request, ground: Ground, *, working: bool = True, put: bool = False) -> Plan:
    """The plan of a batch. With `put` it takes its space on the ground at once."""
    rates = rates_of(request, ground)
    container = request.container
    sowing = Sowing(
        seeds_per_cell=request.definition.seeds_per_cell, cells_per_tray=container.cells if container else None,
        tgw_g=tgw_of(request.lot, request.crop), tgw_source=_tgw_source(request.lot, request.crop), by_seed=request.definition.by_seed,
    )  # fmt: skip
    start, needed = request.start, request.needed
    if request.seed_g is not None:
        start, needed = promise_from_seed(seed_g=request.seed_g, chance=request.chance, rates=rates, sowing=sowing)
        if start == 0:
            raise refuse("seed_g", "too_little", f"{request.seed_g:g} g does not fill one tray.")
        needed = needed if request.needed == 0 else request.needed
    elif request.rung is not None:
        start = start_from_rung(index=request.rung[0], quantity=request.rung[1], rates=rates, sowing=sowing)
    quantities = plan_quantities(
        needed=needed, chance=request.chance, rates=rates, sowing=sowing, start=start, working=working
    )
    timed = timed_stages(request, ground)
    dates, late = _dates(request, ground, timed)
    stages, problems = _stand(request, ground, quantities, rates, dates, timed, put)
    return Plan(request, quantities, stages, late, tuple(problems))


def _stand(
    request: Request, ground: Ground, quantities: Quantities, rates: tuple[Rate, ...], dates: tuple[StageDates, ...],
    timed: list[TimedStage], put: bool,
) -> tuple[tuple[PlannedStage, ...], list[str]]:  # fmt: skip
    stages, problems = [], []
    into = float(quantities.start)
    settled = _whole_places(request, ground, dates, into)
    for stage, rate, span, rung, time in zip(
        request.definition.stages, rates, dates, quantities.rungs, timed, strict=True
    ):
        amount = _amount(stage, into, quantities.trays, request.container)
        lane = settled.get(stage.place_kind) or ground.lanes.get(request.places.get(stage.order, 0))
        if lane is None and stage.place_kind:
            lane = ground.choose(stage.place_kind, span.start, span.end, amount)
            if lane is None and amount:
                problems.append(f"“{stage.name}” asks for a place of kind {stage.place_kind}, and there is none.")
        if lane is not None and put and amount and span.end > span.start:
            ground.put(lane.place.pk, span.start, span.end, amount)
        resting = stopped_days(replace(time, climate=lane.climate) if lane else time, span)
        if resting:
            problems.append(
                f"{request.crop.name} rests above {stage.duration.ceiling_c:g} °C: {resting} of the "
                f"{(span.end - span.start).days} days of “{stage.name}” are likely to pass it."
            )
        stages.append(
            PlannedStage(
                stage, span, lane.place.pk if lane else None, rate, rung.needed, rung.out, into, amount, resting
            )
        )
        into = rung.out
    return tuple(stages), problems


def _whole_places(request: Request, ground: Ground, dates: tuple[StageDates, ...], amount: float) -> dict[str, Lane]:
    """A field is taken from sowing to harvest: one whole place of a kind for all stages that stand there."""
    found: dict[str, Lane] = {}
    for kind in {stage.place_kind for stage in request.definition.stages if stage.density == "unit_m2"}:
        if not any(lane.place.sharing == "whole" for lane in ground.by_kind.get(kind, ())):
            continue
        own = [
            (stage, span)
            for stage, span in zip(request.definition.stages, dates, strict=True)
            if stage.place_kind == kind
        ]
        named = next(
            (ground.lanes[pk] for stage, _ in own if (pk := request.places.get(stage.order, 0)) in ground.lanes), None
        )
        lane = named or ground.choose(kind, own[0][1].start, own[-1][1].end, amount)
        if lane is not None:
            found[kind] = lane
    return found


def space_of(plan: Plan, ground: Ground) -> list[tuple[int, float, tuple[Over, ...]]]:
    """For each place of a plan that was put on the ground: peak share in its days, and overflow."""
    found = []
    for stage in plan.stages:
        if stage.place is None or not stage.amount or stage.dates.end <= stage.dates.start:
            continue
        lane = ground.lanes[stage.place]
        peak = lane.share(ground.index(stage.dates.start), ground.index(stage.dates.end), 0.0)
        found.append((stage.place, peak, ground.over(stage.place, stage.dates.start, stage.dates.end)))
    return found


def ready_day(due_from: date, due_last: date, ground: Ground) -> date:
    """The working day to aim for: the window's first, less the house's days in hand."""
    first = ground.working.on_or_after(due_from)
    aim = first if first <= due_last else ground.working.on_or_before(due_from)
    return ground.working.on_or_before(aim - timedelta(days=ground.organisation.safety_days))
