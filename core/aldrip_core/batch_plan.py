"""Plan a batch on a ground: quantities, days, places. Nothing that has happened is changed by it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, timedelta

from aldrip_core.bench_space import Over
from aldrip_core.distributions import Spread
from aldrip_core.ground import CropSpec, Ground, Key, Lane, LotSpec, Standing, Takes
from aldrip_core.in_season import OutOfSeason, out_of_season
from aldrip_core.problems import Problem
from aldrip_core.quantities import (
    Limb,
    Quantities,
    Rate,
    RungPlan,
    Sowing,
    emergence,
    plan_quantities,
    promise_from_seed,
    start_from_rung,
)
from aldrip_core.refusal import refuse
from aldrip_core.schedule import StageDates, TimedStage, peak_on, stopped_days
from aldrip_core.stage_dates import Anchor, Begun, stage_dates
from aldrip_core.stages import ContainerSpec, Density, MethodSpec, StageSpec, Trait
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Origin


@dataclass(frozen=True, slots=True)
class TypedRate:
    """A rate that a person typed over the one that was there, and why."""

    mean: float
    sd: float
    reason: str


@dataclass(frozen=True, slots=True)
class Happened:
    """What is known of a stage that has begun: since when, until when, and what stood where."""

    start: date
    end: date | None = None
    standing: tuple[Standing, ...] = ()


@dataclass(frozen=True, slots=True)
class Stand:
    """A share of a stage in a place [0-1]; a stage may stand in several."""

    place: Key
    share: float = 1.0


@dataclass(frozen=True)
class Request:
    """What a batch is asked to be. `needs`: by product, in the unit of the stage that gives it.

    `lots`: what it is started from, each with its share of the weight. `happened`: stages that have begun; they keep
    their days and places, and `start` is then what was really started. `moves_today`: a running stage is carried to
    the places in `places` today. `seen`: the share that was counted of what entered a stage [0-1], and `lost` what was
    lost since, in pieces: what is still to be done is planned with those, the promise with the rates. `leaves`: the first and the last day on which something of it is handed over; until
    then it holds its place, however early it is ready.
    """

    crop: CropSpec
    method: MethodSpec
    needs: Mapping[str, float]
    chance: float
    line: str | None = None
    container: ContainerSpec | None = None
    lots: tuple[tuple[LotSpec, float], ...] = ()
    anchor: Anchor = field(default_factory=Anchor)
    dates: Mapping[str, StageDates] = field(default_factory=dict)
    start: int | None = None
    rung: tuple[str, float] | None = None
    seed_g: float | None = None
    rates: Mapping[str, TypedRate] = field(default_factory=dict)
    kept_rates: Mapping[str, Rate] = field(default_factory=dict)
    places: Mapping[str, tuple[Stand, ...]] = field(default_factory=dict)
    happened: Mapping[str, Happened] = field(default_factory=dict)
    moves_today: str | None = None
    use_records: bool = True
    leaves: tuple[date, date] | None = None
    seen: Mapping[str, float] = field(default_factory=dict)
    lost: int = 0
    multiplies: Mapping[str, float] = field(default_factory=dict)  # by stage, where not as many come of one as usual

    @property
    def lot(self) -> LotSpec | None:
        """The first lot that it is started from."""
        return self.lots[0][0] if self.lots else None


@dataclass(frozen=True, slots=True)
class CoolStay:
    """Days `[since, until)` at the start of a stage that are spent in a cooler place, so that seed comes up."""

    stage: str
    place: Key
    since: date
    until: date


@dataclass(frozen=True, slots=True)
class PlannedStage:
    """A stage with its days, what stands where, its rate, and what enters, leaves and is needed."""

    spec: StageSpec
    dates: StageDates
    standing: tuple[Standing, ...]
    place: Key | None
    rate: Rate
    needed: float
    into: float
    out: float
    takes: Takes
    trays: int | None
    container: ContainerSpec | None
    resting_days: int
    cooled: CoolStay | None = None

    @property
    def amount(self) -> float:
        """What it takes up, as the stage is measured by itself."""
        return self.takes.amount


@dataclass(frozen=True)
class Plan:
    """A planned batch, not yet saved."""

    request: Request
    quantities: Quantities
    stages: tuple[PlannedStage, ...]
    late_days: int
    problems: tuple[Problem, ...]

    def stage(self, key: str) -> PlannedStage:
        return next(stage for stage in self.stages if stage.spec.key == key)

    @property
    def sow_on(self) -> date:
        return self.stage(self.request.method.root.key).dates.start

    @property
    def ready_on(self) -> date:
        return self.stage(self.request.method.last.key).dates.end

    @property
    def standing(self) -> tuple[Standing, ...]:
        return tuple(one for stage in self.stages for one in stage.standing)


def tgw_of(request: Request) -> tuple[float | None, str]:
    """Thousand-grain weight [g] of what is sown, and where it comes from: of its lots, else the crop's usual one."""
    known = [(lot, share, lot.tgw_g or request.crop.tgw_g) for lot, share in request.lots]
    if known and all(tgw for _, _, tgw in known):
        told = next((f"lot {lot.code}" for lot, _, _ in known if lot.tgw_g), "")
        if told:
            return sum(share for _, share, _ in known) / sum(share / (tgw or 1) for _, share, tgw in known), told
    return request.crop.tgw_g, f"library: {request.crop.sources.get('tgw_g', '')}"


def rates_of(request: Request, ground: Ground) -> tuple[Rate, ...]:
    """The rate of every stage: typed, else kept, else the lots' test, else own records, else library."""
    found: list[Rate] = []
    for stage in request.method.stages:
        typed = request.rates.get(stage.key)
        if typed is not None:
            found.append(_rate(stage, _typed_spread(stage, typed), Origin.ENTERED, typed.reason))
        elif stage.key in request.kept_rates:
            found.append(request.kept_rates[stage.key])
        elif stage.does(Trait.EMERGES) and request.method.by_seed:
            found.append(_emergence_rate(stage, request, ground))
        else:
            found.append(_stage_rate(stage, request, ground))
    return tuple(
        replace(rate, multiply=request.multiplies.get(stage.key, rate.multiply))
        for stage, rate in zip(request.method.stages, found, strict=True)
    )


def _rate(stage: StageSpec, spread: Spread, origin: Origin, source: str) -> Rate:
    return Rate(stage.name, spread, origin, source, stage.factor.mean, stage.factor.sd, stage.unit.is_pieces)


def _typed_spread(stage: StageSpec, typed: TypedRate) -> Spread:
    try:
        return Spread.from_mean_sd(typed.mean, typed.sd)
    except ValueError:
        raise refuse(
            "rate", "too_wide", f"“{stage.name}” cannot keep {typed.mean:.1%} with a spread of {typed.sd:.1%}."
        ) from None


def _stage_rate(stage: StageSpec, request: Request, ground: Ground) -> Rate:
    record = ground.records.get((request.method.slug, stage.key)) if request.use_records else None
    if record is not None and stage.keeps.mean < 1:
        told = f"own records, {record.batches} batches, {record.counted:,} counted"
        return _rate(stage, record.spread, Origin.RECORDS, told)
    return _rate(stage, stage.keeps, Origin.LIBRARY, f"library: {stage.source}")


def _germination(request: Request) -> tuple[float, Origin, str]:
    """Germination of what is sown: the lots' tests by the seeds each gives, else the crop's usual one."""
    crop = request.crop
    tested = [
        (lot, share / (lot.tgw_g or crop.tgw_g or 1.0)) for lot, share in request.lots if lot.germination is not None
    ]
    if tested and len(tested) == len(request.lots):
        mean = sum((lot.germination or 0.0) * seeds for lot, seeds in tested) / sum(seeds for _, seeds in tested)
        told = " and ".join(f"lot {lot.code} tested {lot.germination:.0%}" for lot, _ in tested)
        return mean, Origin.RECORDS, told.replace("%", " %")
    if crop.germination is not None:
        return crop.germination, Origin.LIBRARY, f"library germination {crop.germination:.0%}".replace("%", " %")
    raise refuse(
        "lot_id", "missing", f"{crop.name} has no germination in the library. Choose a tested lot, or type the rate."
    )


def _emergence_rate(stage: StageSpec, request: Request, ground: Ground) -> Rate:
    mean, origin, source = _germination(request)
    sd = min(request.crop.germination_sd, 0.5 * (mean * (1 - mean)) ** 0.5)
    record = ground.records.get((request.method.slug, stage.key)) if request.use_records else None
    factor = record.spread if record else request.method.cell_factor
    told = f"cell factor {factor.mean:.3f}"
    if record:
        told = f"own cell factor {factor.mean:.3f}, {record.batches} batches, {record.counted:,} seeds"
    per_cell = request.method.seeds_per_cell
    spread = emergence(germination=Spread.from_mean_sd(mean, sd), cell_factor=factor, seeds_per_cell=per_cell)
    seeds = "" if per_cell == 1 else f", {per_cell} seeds a cell"
    return _rate(stage, spread, origin, f"{source} × {told}{seeds}")


def limbs_of(method: MethodSpec) -> tuple[Limb, ...]:
    """The stages as rungs of a tree."""
    at = {stage.key: index for index, stage in enumerate(method.stages)}
    ends = {leaf.key: form for form, leaves in method.products.items() for leaf in leaves}
    return tuple(
        Limb(None if stage.after is None else at[stage.after], stage.share, ends.get(stage.key, ""))
        for stage in method.stages
    )


def sowing_of(request: Request, ground: Ground) -> Sowing:
    """How the first container is filled, in whole trays or in part as the house does."""
    tgw, told = tgw_of(request)
    first = request.method.container_of(request.method.root.key, request.container)
    cells, method = first.cells if first else None, request.method
    return Sowing(method.seeds_per_cell, cells, tgw, told, method.by_seed, ground.part_trays)


def timed_stages(request: Request, ground: Ground) -> dict[str, TimedStage]:
    """Stages with the temperatures of the chosen places, or of the usual place of a kind."""
    found: dict[str, TimedStage] = {}
    for stage in request.method.stages:
        own = request.happened.get(stage.key)
        keys = (
            [one.place for one in own.standing] if own else [stand.place for stand in request.places.get(stage.key, ())]
        )
        lane = next((ground.lanes[key] for key in keys if key in ground.lanes), None) or ground.usual(stage.place_kind)
        starts_on = ground.sowing if stage.does(Trait.STARTS) else None
        duration = replace(stage.duration, ceiling_c=None) if _lay_cool(request, ground, stage) else stage.duration
        found[stage.key] = TimedStage(
            stage.name,
            duration,
            lane.place.climate if lane else None,
            starts_on,
            stage.season,
            stage.does(Trait.WAITS),
        )
    return found


def plan_batch(request: Request, ground: Ground, *, working: bool = True, put: bool = False) -> Plan:
    """The plan of a batch. With `put` it takes its space on the ground at once. Raises Refused."""
    rates, quantities = _measured(request, ground, working)
    timed = timed_stages(request, ground)
    begun = {key: Begun(one.start, one.end, _stood(one, ground.today)) for key, one in request.happened.items()}
    dates, late = stage_dates(
        method=request.method,
        timed=timed,
        calendar=ground.working,
        today=ground.today,
        anchor=request.anchor,
        planned=request.dates,
        begun=begun,
    )
    stay = _cool_stay(request, ground, quantities, timed, dates)
    if stay is not None:  # what lay cool comes up in the warm as well
        timed = {**timed, stay.stage: without_ceiling(timed[stay.stage])}
        dates, late = stage_dates(
            method=request.method,
            timed=timed,
            calendar=ground.working,
            today=ground.today,
            anchor=request.anchor,
            planned=request.dates,
            begun=begun,
        )
        stay = replace(stay, until=dates[stay.stage].start + (stay.until - stay.since), since=dates[stay.stage].start)
    if request.seen or request.lost:
        quantities = replace(quantities, rungs=as_counted(request, quantities.start, rates, quantities.rungs))
    stages, problems = _stand(request, ground, quantities, rates, dates, timed, put, stay)
    problems += _weak_seed(request)
    return Plan(request, quantities, stages, late, tuple(problems))


def _measured(request: Request, ground: Ground, working: bool) -> tuple[tuple[Rate, ...], Quantities]:
    """Rates and quantities of a batch. A season repeats many an order: what is asked alike is reckoned once a ground."""
    own = request.rates or request.kept_rates or request.multiplies or request.rung or request.happened
    if working or own or request.start is not None or request.seed_g is not None:
        return _quantities(request, ground, working)
    asked = (request.crop.slug, request.line, request.container, request.chance, request.use_records)
    alike = (
        id(request.method),
        *asked,
        tuple(request.needs.items()),
        tuple((lot.key, part) for lot, part in request.lots),
    )
    if alike not in ground.measured:
        # The method is kept beside it, so that no other one can stand at its place in memory.
        ground.measured[alike] = (request.method, *_quantities(request, ground, working))
    _, rates, quantities = ground.measured[alike]
    return rates, quantities


def _quantities(request: Request, ground: Ground, working: bool) -> tuple[tuple[Rate, ...], Quantities]:
    rates, limbs, sowing = rates_of(request, ground), limbs_of(request.method), sowing_of(request, ground)
    start, needs = request.start, dict(request.needs)
    main = next(iter(request.method.products))
    if request.seed_g is not None:
        start, good = promise_from_seed(
            seed_g=request.seed_g, chance=request.chance, rates=rates, sowing=sowing, limbs=limbs
        )
        if start == 0:
            raise refuse("seed_g", "too_little", f"{request.seed_g:g} g does not fill one tray.")
        needs = needs if needs.get(main) else {**needs, main: good}
    elif request.rung is not None:
        at = [stage.key for stage in request.method.stages].index(request.rung[0])
        start = start_from_rung(index=at, quantity=request.rung[1], rates=rates, sowing=sowing, limbs=limbs)
    quantities = plan_quantities(
        needed=needs, chance=request.chance, rates=rates, sowing=sowing, start=start, limbs=limbs, working=working
    )
    return rates, quantities


def without_ceiling(stage: TimedStage) -> TimedStage:
    """A stage that heat stops no more."""
    return replace(stage, duration=replace(stage.duration, ceiling_c=None))


def _lay_cool(request: Request, ground: Ground, stage: StageSpec) -> bool:
    """Whether what runs was begun in the cool: somewhere under its ceiling."""
    own, ceiling = request.happened.get(stage.key), stage.duration.ceiling_c
    if own is None or ceiling is None or stage.duration.cool_days is None:
        return False
    began = [one for one in own.standing if one.place in ground.lanes]
    return any(peak_on(ground.lanes[one.place].place.climate, one.start) <= ceiling for one in began)


def _cool_stay(
    request: Request,
    ground: Ground,
    quantities: Quantities,
    timed: Mapping[str, TimedStage],
    dates: Mapping[str, StageDates],
) -> CoolStay | None:
    """The days in the cool that seed needs where its place is too hot for it, and a place with room for them."""
    for stage in request.method.spine:
        ceiling, days = stage.duration.ceiling_c, stage.duration.cool_days
        own = request.happened.get(stage.key)
        if ceiling is None or days is None or (own is not None and (own.standing or own.end)):
            continue
        if not stopped_days(timed[stage.key], dates[stage.key]):
            continue
        container = request.method.container_of(stage.key, request.container)
        takes = _takes(stage, float(quantities.start), float(quantities.trays or 0), container)
        since = dates[stage.key].start
        until = since + timedelta(days=round(days))
        lane = ground.cool(ceiling, since, until, takes, stage.density)
        if lane is not None:
            return CoolStay(stage.key, lane.place.key, since, until)
    return None


def _in_the_cool(
    request: Request,
    ground: Ground,
    stage: StageSpec,
    takes: Takes,
    standing: tuple[Standing, ...],
    stay: CoolStay | None,
) -> tuple[tuple[Standing, ...], CoolStay | None]:
    """What stands of a stage with the days in the cool before it, planned or as they have begun."""
    if stay is not None and stay.stage == stage.key:
        return _cooled(ground, stay, takes, standing), stay
    first = next(iter(standing), None)
    if first is None or len(standing) < 2 or not _lay_cool(request, ground, stage):
        return standing, None
    return standing, CoolStay(stage.key, first.place, first.start, first.end)


def _cooled(ground: Ground, stay: CoolStay, takes: Takes, standing: tuple[Standing, ...]) -> tuple[Standing, ...]:
    """What stands in the cool first, and afterwards where it was to stand all the time."""
    later = [replace(one, start=stay.until) for one in standing if one.end > stay.until]
    end = min([stay.until, *(one.end for one in standing)])
    return (Standing(stay.place, stay.since, end, takes.of(ground.lanes[stay.place].place)), *later)


def _weak_seed(request: Request) -> list[Problem]:
    """Lots that germinate less than seed of the crop may, or a farmer would take: much more is sown, and it comes unevenly."""
    least = request.crop.least_germination
    if least is None or not request.method.by_seed or request.happened:
        return []
    return [
        Problem("weak_seed", {"lot": lot.code, "crop": request.crop.name, "has": lot.germination, "least": least})
        for lot, _ in request.lots
        if lot.germination is not None and lot.germination < least
    ]


def as_counted(request: Request, start: int, rates: Sequence[Rate], rungs: Sequence[RungPlan]) -> tuple[RungPlan, ...]:
    """What enters and leaves each stage by what was counted and lost, in the order of the method's stages.

    Losses since the newest count are taken off where it was made, else off the start.
    """
    stages = request.method.stages
    counted = [stage.key for stage in request.method.spine if stage.key in request.seen]
    at = counted[-1] if counted else None
    out: dict[str, float] = {}
    found: list[RungPlan] = []
    for stage, rate, rung in zip(stages, rates, rungs, strict=True):
        into = float(start) if stage.after is None else out[stage.after] * stage.share
        if stage.after is None and at is None:
            into = max(0.0, into - request.lost)
        share = request.seen.get(stage.key)
        left = into * (rate.kept if share is None else share * rate.multiply)
        out[stage.key] = max(0.0, left - request.lost) if stage.key == at else left
        found.append(replace(rung, into=into, out=out[stage.key]))
    return tuple(found)


def _stood(one: Happened, today: date) -> date | None:
    """Until when a running stage is known to have stood where it stands."""
    return min(today, max(s.end for s in one.standing)) if one.end is None and one.standing else None


def _stand(
    request: Request,
    ground: Ground,
    quantities: Quantities,
    rates: tuple[Rate, ...],
    dates: Mapping[str, StageDates],
    timed: Mapping[str, TimedStage],
    put: bool,
    stay: CoolStay | None = None,
) -> tuple[tuple[PlannedStage, ...], list[Problem]]:
    problems: list[Problem] = []
    stages: list[PlannedStage] = []
    settled = _whole_places(request, ground, dates, float(quantities.start))
    trays: dict[str, float | None] = {}
    for stage, rate, rung in zip(request.method.stages, rates, quantities.rungs, strict=True):
        span = dates[stage.key]
        container = request.method.container_of(stage.key, request.container)
        trays[stage.key] = _trays(stage, rung.into, container, trays, quantities, ground.part_trays)
        stood = trays[stage.key]
        # Of a stage that repeats everything stands until the last round, whatever each takes.
        whole = rung.into / stage.share if stage.round_of else rung.into
        takes = _takes(stage, whole, stood, container)
        standing, place = _standing(request, ground, stage, span, takes, settled)
        standing, cooled = _in_the_cool(request, ground, stage, takes, standing, stay)
        if place is None and stage.place_kind and takes.amount and span.end > span.start and not standing:
            problems.append(Problem("no_place", {"stage": stage.name, "kind": stage.place_kind}))
        if put:
            for one in standing:
                ground.put(one.place, one.start, one.end, one.amount)
        climate = ground.lanes[place].place.climate if place in ground.lanes else None
        there = timed[stage.key]
        if climate is not None and climate is not there.climate:
            there = replace(there, climate=climate)
        if _lay_cool(request, ground, stage):
            there = without_ceiling(there)
        resting = stopped_days(there, span)
        wrong = None if stage.key in request.happened else out_of_season(there, span)
        if wrong is not None:
            problems.append(_out_of_season(request, wrong))
        if resting:
            problems.append(
                Problem(
                    "rests",
                    {
                        "crop": request.crop.name,
                        "ceiling_c": stage.duration.ceiling_c,
                        "days": resting,
                        "of": (span.end - span.start).days,
                        "stage": stage.name,
                    },
                )
            )
        stages.append(
            PlannedStage(
                stage,
                span,
                standing,
                place,
                rate,
                rung.needed,
                rung.into,
                rung.out,
                takes,
                None if stood is None else ceil_whole(stood),
                container,
                resting,
                cooled,
            )
        )
    return tuple(stages), problems


def _out_of_season(request: Request, wrong: OutOfSeason) -> Problem:
    told = {
        "crop": request.crop.name,
        "stage": wrong.stage,
        "asks": wrong.season.words(),
        "on": wrong.start.isoformat(),
    }
    return Problem("out_of_season", {**told, "cold": wrong.cold, "of": wrong.of})


def _trays(
    stage: StageSpec,
    into: float,
    container: ContainerSpec | None,
    trays: Mapping[str, float | None],
    quantities: Quantities,
    part: bool,
) -> float | None:
    """Trays that a stage stands in: counted anew where the container changes, else those it came in.

    Whole ones, or with `part` as much of one as is filled, since the rest of it carries something else.
    """
    if stage.after is None:
        filled = part and container is not None and quantities.trays is not None
        return quantities.start / container.cells if filled and container else quantities.trays
    if stage.container is not None and container is not None:
        stood = into / container.cells
    else:
        came = trays[stage.after]
        if came is None:
            return None
        stood = came * stage.share
    return stood if part else float(ceil_whole(stood))


def _takes(stage: StageSpec, into: float, trays: float | None, container: ContainerSpec | None) -> Takes:
    """What a stage takes up, by its trays and by its ground."""
    if stage.density in (Density.TRAY, Density.TRAY_M2):
        counted = float(trays or 0)
        return Takes(counted * (container.area_m2 if container else 0.0), counted, stage.density is Density.TRAY)
    return Takes(into * stage.unit_m2 if stage.density is Density.UNIT_M2 else 0.0)


def _standing(
    request: Request, ground: Ground, stage: StageSpec, span: StageDates, takes: Takes, settled: Mapping[str, Lane]
) -> tuple[tuple[Standing, ...], Key | None]:
    """What of a stage stands where: as it was where that has happened, else as asked, else where there is most room."""
    own = request.happened.get(stage.key)
    if request.leaves is not None and stage.key == request.method.last.key:
        span = StageDates(span.start, max(span.end, request.leaves[1]))
    if own is not None:
        return _as_it_was(request, ground, stage, own, span, takes)
    return _fresh_standing(request, ground, stage, span, takes, settled.get(stage.place_kind))


def _fresh_standing(
    request: Request, ground: Ground, stage: StageSpec, span: StageDates, takes: Takes, lane: Lane | None = None
) -> tuple[tuple[Standing, ...], Key | None]:
    """Where a stage is to stand from its start: on its field, in the places asked for, else where there is most room."""
    begun = stage.key in request.happened
    asked = [
        stand
        for stand in request.places.get(stage.key, ())
        if stand.place in ground.lanes and (begun or not ground.lanes[stand.place].place.closed)
    ]
    if lane is None and asked:
        whole = sum(stand.share for stand in asked)
        there = [(ground.lanes[stand.place], stand.share / whole) for stand in asked]
    elif lane is None and stage.place_kind:
        there = ground.spread(stage.place_kind, span.start, span.end, takes, stage.density)
    else:
        there = [(lane, 1.0)] if lane else []
    parts = [(lane.place.key, takes.of(lane.place) * share) for lane, share in there]
    place = max(parts, key=lambda part: part[1])[0] if parts else None
    if not takes.amount or span.end <= span.start:
        return (), place
    return tuple(Standing(key, span.start, span.end, part) for key, part in parts), place


def _as_it_was(
    request: Request, ground: Ground, stage: StageSpec, own: Happened, span: StageDates, takes: Takes
) -> tuple[tuple[Standing, ...], Key | None]:
    """A stage that has begun stands where it stood; while it runs, what stands there stands until its new end."""
    named = next(iter(request.places.get(stage.key, ())), None)
    place = own.standing[-1].place if own.standing else named.place if named else None
    if own.end is not None:
        return own.standing, place
    if not own.standing:  # it has just begun: it stands where it was to stand, or was carried to
        return _fresh_standing(request, ground, stage, span, takes)
    newest = max((one.end for one in own.standing), default=span.end)
    if request.moves_today != stage.key:
        return tuple(
            replace(one, end=max(span.end, one.start + timedelta(days=1))) if one.end == newest else one
            for one in own.standing
        ), place
    kept = tuple(replace(one, end=min(one.end, ground.today)) for one in own.standing if one.start < ground.today)
    standing_now = sum(_part(ground, takes, one) for one in own.standing if one.end == newest) or 1.0
    asked = request.places.get(stage.key, ())
    whole = sum(stand.share for stand in asked)
    since = max(own.start, ground.today)
    moved = (
        tuple(
            Standing(
                s.place,
                since,
                max(span.end, since + timedelta(days=1)),
                (takes.of(ground.lanes[s.place].place) if s.place in ground.lanes else takes.amount)
                * standing_now
                * s.share
                / whole,
            )
            for s in asked
        )
        if takes.amount
        else ()
    )
    return (*kept, *moved), asked[0].place if asked else place


def _part(ground: Ground, takes: Takes, one: Standing) -> float:
    """Which share of a stage stands somewhere [0-1]."""
    lane = ground.lanes.get(one.place)
    whole = takes.of(lane.place) if lane else takes.amount
    return one.amount / whole if whole else 1.0


def _whole_places(request: Request, ground: Ground, dates: Mapping[str, StageDates], amount: float) -> dict[str, Lane]:
    """A field is taken from sowing to harvest: one whole place of a kind for all stages that stand there."""
    found: dict[str, Lane] = {}
    for kind in {stage.place_kind for stage in request.method.stages if stage.density is Density.UNIT_M2}:
        if not any(lane.place.whole for lane in ground.lanes.values() if lane.place.kind == kind):
            continue
        own = [stage for stage in request.method.stages if stage.place_kind == kind]
        stood = [
            one.place for stage in own if stage.key in request.happened for one in request.happened[stage.key].standing
        ]
        asked = [stand.place for stage in own for stand in request.places.get(stage.key, ())]
        named = next((ground.lanes[key] for key in (*stood, *asked) if key in ground.lanes), None)
        if named is not None and named.place.closed and not stood:
            named = None
        lane = named or ground.choose(
            kind, dates[own[0].key].start, dates[own[-1].key].end, Takes(amount), Density.UNIT_M2
        )
        if lane is not None:
            found[kind] = lane
    return found


def space_of(plan: Plan, ground: Ground) -> list[tuple[Lane, float, tuple[Over, ...]]]:
    """For each standing of a plan that was put on the ground: its place, peak share in its days, and overflow."""
    found: list[tuple[Lane, float, tuple[Over, ...]]] = []
    for one in plan.standing:
        lane = ground.lanes.get(one.place)
        if lane is not None and one.amount and one.end > one.start:
            peak = lane.share(ground.index(one.start), ground.index(one.end), 0.0)
            found.append((lane, peak, ground.over(one.place, one.start, one.end)))
    return found
