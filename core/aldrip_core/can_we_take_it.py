"""Can we take it? What limits a promise, the earliest day it could be kept, and the moves that would cure it."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import date, timedelta

from aldrip_core.batch_plan import Plan, Request, Stand, plan_batch, space_of
from aldrip_core.bench_space import Over
from aldrip_core.ground import Ground, Lane
from aldrip_core.problems import words
from aldrip_core.refusal import Refused
from aldrip_core.stage_dates import Anchor
from aldrip_core.stages import Trait

WEEKS_AHEAD = 26


@dataclass(frozen=True, slots=True)
class Limit:
    """Something that stands in the way, with its measure."""

    kind: str
    sentence: str


@dataclass(frozen=True, slots=True)
class Remedy:
    """A move that would cure it, with its consequence computed."""

    kind: str
    sentence: str
    ready_on: date | None = None
    quantity: int | None = None


@dataclass(frozen=True)
class Answer:
    """Whether a promise can be kept as asked, on which plan, and what else could be done."""

    plan: Plan
    can: bool
    earliest: date | None
    limits: tuple[Limit, ...]
    remedies: tuple[Remedy, ...]
    standing: bool = False  # what stands and is promised to nobody is enough for it
    taken: float = 0.0  # of what stands, where the rest is raised by the plan; in the unit of what is asked

    def has_limit(self, kind: str) -> bool:
        """Whether something of a kind limits it."""
        return any(limit.kind == kind for limit in self.limits)


def overflows(ground: Ground, plan: Plan) -> list[tuple[Lane, Over]]:
    """Runs in which a plan, stood on the ground for a moment, makes a place overflow."""
    for one in plan.standing:
        ground.put(one.place, one.start, one.end, one.amount)
    found = [(lane, run) for lane, _, runs in space_of(plan, ground) for run in runs]
    for one in plan.standing:
        ground.put(one.place, one.start, one.end, -one.amount)
    return found


def answer(ground: Ground, request: Request, *, due_from: date, due_last: date, spare: float = 0) -> Answer:
    """Whether `request` (anchored to be ready in its window) can be kept on this ground.

    spare: what stands already, ready in time and promised to nobody, in the unit of what is asked. Raises Refused.
    """
    plan = plan_batch(request, ground)
    if spare >= plan.quantities.needed:
        return Answer(plan, True, max(ground.today, due_from), (), (), standing=True)
    (form, need), *beside = request.needs.items()
    if 0 < spare < need and not beside:
        rest = answer(ground, replace(request, needs={form: need - spare}), due_from=due_from, due_last=due_last)
        if rest.can:
            return replace(rest, taken=spare)
    over = overflows(ground, plan)
    limits = (*_late(plan, due_last), *_space(over), *_seed(ground, plan), *_heat(plan))
    can = plan.ready_on <= due_last and not over and not any(one.code == "out_of_season" for one in plan.problems)
    earliest = plan.ready_on if can else earliest_day(ground, request, max(ground.today, due_from))
    remedies = () if can else remedies_for(ground, plan, earliest, spare)
    return Answer(plan, can, earliest, limits, remedies)


def _late(plan: Plan, due_last: date) -> Iterable[Limit]:
    if plan.ready_on > due_last:
        days = (plan.ready_on - due_last).days
        late = f"{days} {'day' if days == 1 else 'days'} after the window closes"
        loads = plan.request.method.first_with(Trait.LOADS)
        if loads is None or not any(stage.spec.season.asks for stage in plan.stages):
            yield Limit("season", f"Sown on the next sowing day it is ready {late}.")
        else:
            cut = plan.stage(loads.key).dates.start
            told = f"In season it is sown on {_day(plan.sow_on, due_last)} and harvested from {_day(cut, due_last)}"
            yield Limit("season", f"{told}: ready {late}.")


def _space(over: Iterable[tuple[Lane, Over]]) -> Iterable[Limit]:
    for lane, run in over:
        last = run.end - timedelta(days=1)
        by = f"{run.amount:,.0f}" if run.amount >= 1 else f"{run.amount:.1g}"
        yield Limit(
            "space",
            f"{lane.place.name} would be over by {by} {lane.place.unit.words} from {run.start.day} {run.start:%b} to {last.day} {last:%b}.",
        )


def _seed(ground: Ground, plan: Plan) -> Iterable[Limit]:
    need = plan.quantities.seed_g
    if not plan.request.method.by_seed or not need:
        return
    lot = plan.request.lot
    if lot is None:
        yield Limit("seed", f"There is no seed lot; {need:,.1f} g have to be bought.")
        return
    left = max(0.0, float(ground.left[lot.key]))
    if left < need:
        yield Limit("seed", f"Lot {lot.code} has {left:,.1f} g not spoken for; {need - left:,.1f} g more are needed.")


def _heat(plan: Plan) -> Iterable[Limit]:
    for problem in plan.problems:
        if problem.code in ("rests", "out_of_season"):
            yield Limit("heat" if problem.code == "rests" else "season", words(problem))


def earliest_day(ground: Ground, request: Request, from_day: date) -> date | None:
    """First day on which it could be ready with the space it needs; looked for week by week."""
    # Asked to be ready today it is ready on the first day there is, in its season where it has one.
    first = plan_batch(replace(request, anchor=Anchor(ready=ground.today)), ground, working=False)
    aim = max(first.ready_on, ground.working.on_or_before(from_day))
    for _ in range(WEEKS_AHEAD):
        plan = plan_batch(replace(request, anchor=Anchor(ready=aim)), ground, working=False)
        if not overflows(ground, plan):
            return plan.ready_on
        aim = ground.working.on_or_after(aim + timedelta(days=7))
    return None


def remedies_for(ground: Ground, plan: Plan, earliest: date | None, spare: float) -> tuple[Remedy, ...]:
    """The moves that would cure it, each with its consequence."""
    crop = plan.request.crop.name.lower()
    found: list[Remedy] = []
    if earliest is not None:
        found.append(Remedy("date", f"Agree {_day(earliest, ground.today)}, instead.", earliest))
    need, spare = int(plan.quantities.needed), int(spare)
    if spare:
        told = f"Take {spare:,} {crop} of what stands and is promised to nobody."
        found.append(Remedy("standing", told, quantity=spare))
    sooner = sooner_in_warmth(ground, plan)
    if sooner is not None:
        found.append(sooner)
    if need > spare:
        told = f"Buy in {need - spare:,} {crop} raised elsewhere, with their passports."
        found.append(Remedy("buy", told, quantity=need - spare))
    return tuple(found)


def sooner_in_warmth(ground: Ground, plan: Plan) -> Remedy | None:
    """The warmest place for a stage that runs on warmth, if it saves days."""
    best: tuple[int, Remedy] | None = None
    for stage in plan.stages:
        if stage.spec.duration.heat_sum_c_d is None:
            continue
        for key, lane in ground.lanes.items():
            if (
                key == stage.place
                or lane.usable is None
                or lane.place.closed
                or not lane.place.measures(stage.spec.density)
            ):
                continue
            places = {**plan.request.places, stage.spec.key: (Stand(key),)}
            try:
                other = plan_batch(
                    replace(plan.request, anchor=Anchor(sow=ground.today), places=places), ground, working=False
                )
            except Refused:
                continue
            saved = (plan.ready_on - other.ready_on).days
            if saved > 0 and (best is None or saved > best[0]):
                told = f"{stage.spec.name} in {lane.place.name}: ready {saved} days sooner, {_day(other.ready_on, ground.today)}."
                best = (saved, Remedy("warmth", told, other.ready_on))
    return best[1] if best else None


def _day(value: date, near: date) -> str:
    """A day in words, with its year where that is another than the one somebody thinks of."""
    year = f" {value.year}" if value.year != near.year else ""
    return f"{value:%a} {value.day} {value:%b}{year}, week {value.isocalendar().week}"
