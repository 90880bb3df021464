"""Levelling a span: other days and places for what is only planned, so that places overflow as little as they can.

Nothing is moved here: what was found is kept with the job, and taken by a proposal like any other change.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import Refused, refuse
from aldrip.base.words import day, plural, share
from aldrip.batches.forecasting import held_for
from aldrip.batches.ground import Ground
from aldrip.batches.in_time import last_day_of, ready_in_time
from aldrip.batches.models import Batch, Occupancy
from aldrip.batches.saved import Saved, load_batch, request_of, standing_of
from aldrip.batches.steps import still_open
from aldrip.jobs.services import Progress, job
from aldrip.orders.models import OrderLine
from aldrip_core import levelling
from aldrip_core.batch_plan import Plan, Request, Stand, plan_batch
from aldrip_core.bench_space import Over
from aldrip_core.ground import Standing
from aldrip_core.levelling import OF_A_DAY, OF_A_PLACE, WHOLE, Problem, Room, Stay, Way
from aldrip_core.stage_dates import Anchor

MOST_BATCHES = 400  # that are looked at together; those on the places that are over come first
FURTHEST_DAYS = 21  # by which a batch is moved, either way
MOST_DAYS = 800  # of a span
SECONDS = 45.0
MATTERS = 0.005  # of a chance
ABOUT_SPACE = frozenset({"over"})


@dataclass(frozen=True)
class Move:
    """One way of a batch in a house's terms: another day of sowing, another place for a stage, or a part of it there.

    Nothing said: as it stands.
    """

    sow_on: date | None = None
    stage: str | None = None
    place_id: int | None = None
    split: tuple[tuple[int, float], ...] = ()  # (place, share)
    days: int = 0
    ready_on: date | None = None


@dataclass(frozen=True)
class Moved:
    """A batch with every way in which it could stand; the first as it does."""

    saved: Saved
    moves: tuple[Move, ...]
    ways: tuple[Way, ...]
    stands: Mapping[str, tuple[Standing, ...]]


@job("batches.level")
def level(ctx: Ctx, progress: Progress, arguments: dict[str, Any]) -> str:
    """Look for better days and places over a span, and keep with the job what was found."""
    span = date.fromisoformat(arguments["start"]), date.fromisoformat(arguments["end"])
    found = level_span(ctx, span, progress=progress, seconds=float(arguments.get("seconds", SECONDS)))
    progress.keep(found)
    return str(found["sentence"])


@act
def pin(ctx: Ctx, batch_id: Ref, pinned: bool) -> Batch:
    """Say that levelling leaves a batch where it stands, or that it may move it again. Twice is once."""
    batch = load_batch(ctx, batch_id, lock=True).batch
    still_open(batch)
    if batch.pinned != pinned:
        batch.pinned = pinned
        batch.version += 1
        batch.save(update_fields=["pinned", "version"])
        said = "Pinned" if pinned else "Unpinned"
        ctx.record("batch.pin", f"{said} {batch.code}: levelling {'leaves it' if pinned else 'may move it'}.", batch)
    return batch


def read_span(ctx: Ctx, start: date, end: date) -> tuple[date, date]:
    """The days that are levelled: from today on. Raises Refused."""
    start = max(start, ctx.today)
    if end <= start:
        raise refuse("end", "past", "These days are over: choose a span that reaches beyond today.")
    if (end - start).days > MOST_DAYS:
        raise refuse("end", "too_long", f"{(end - start).days} days are more than the {MOST_DAYS} levelled at once.")
    return start, end


def level_span(
    ctx: Ctx, span: tuple[date, date], *, progress: Progress | None = None, seconds: float = SECONDS
) -> dict[str, Any]:
    """What would be moved over `[start, end)`, why, and what stays over. Nothing is saved."""
    whole = Ground(ctx)
    over = _over(whole, span)
    chosen = _movable(ctx, whole, over)
    ground = Ground(ctx, without=chosen)
    lines = _lines_of(ctx, chosen)
    batches: list[Moved] = []
    for at, pk in enumerate(chosen):
        if progress is not None and at % 5 == 0:
            progress(
                at, len(chosen), f"Looks where {plural(len(chosen), 'batch', 'batches')} could stand: {at:,} done."
            )
        batches.append(_ways(ctx, ground, load_batch(ctx, pk, light=True), lines.get(pk, []), span, over))
    problem = Problem([one.ways for one in batches], _rooms(ground, span))

    before = max(1, problem.price(levelling.as_it_stands(problem)))

    def told(best: int, bound: int) -> None:
        if progress is not None:
            better = f"Takes away {share(1 - best / before)} of what is over so far; more than {share(1 - bound / before)} is not to be had."
            progress(len(chosen), len(chosen), better)

    result = levelling.level(problem, seconds=seconds, go_on=told)
    return _told(ground, span, over, batches, problem, result)


def _over(ground: Ground, span: tuple[date, date]) -> dict[int, tuple[Over, ...]]:
    """Runs of days on which shared places are over."""
    found = {
        key: ground.over(key, *span)
        for key, lane in ground.lanes.items()
        if isinstance(key, int) and lane.usable and not lane.place.whole
    }
    return {key: runs for key, runs in found.items() if runs}


def _movable(ctx: Ctx, ground: Ground, over: Mapping[int, tuple[Over, ...]]) -> list[int]:
    """Batches that may be moved and stand where it is over then, first; then those that stand on places of those kinds then."""
    if not over:
        return []
    first, last = (
        min(r.start for runs in over.values() for r in runs),
        max(r.end for runs in over.values() for r in runs),
    )
    kinds = {ground.lanes[key].place.kind for key in over}
    places = [key for key, lane in ground.lanes.items() if lane.place.kind in kinds]
    rows = Occupancy.objects.filter(
        place_id__in=places,
        during__overlap=(first, last),
        stage__batch__organisation=ctx.organisation,
        stage__batch__state=Batch.State.PLANNED,
        stage__batch__pinned=False,
        stage__batch__method__way="plants",
    ).values_list("stage__batch_id", "place_id", "during")
    there: dict[int, bool] = {}
    for batch, place, during in rows:
        hit = any(run.start < during.upper and during.lower < run.end for run in over.get(place, ()))
        there[batch] = there.get(batch, False) or hit
    return sorted(there, key=lambda pk: (not there[pk], pk))[:MOST_BATCHES]


def _lines_of(ctx: Ctx, batches: Iterable[int]) -> dict[int, list[OrderLine]]:
    """The open lines that each batch serves."""
    rows = ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN, allocations__batch__in=list(batches))
    found: dict[int, list[OrderLine]] = {}
    by_pk = {line.pk: line for line in rows}
    for batch, line in rows.values_list("allocations__batch_id", "pk"):
        found.setdefault(batch, []).append(by_pk[line])
    return found


def _ways(
    ctx: Ctx,
    ground: Ground,
    saved: Saved,
    lines: list[OrderLine],
    span: tuple[date, date],
    over: Mapping[int, tuple[Over, ...]],
) -> Moved:
    """Every way in which a batch could stand: on each sowing day near its own, and with each stage in each place of its kind.

    On its own day also with half of a stage that stands where it is over in another place.
    """
    stands = standing_of(saved)
    request = request_of(saved, stands)
    now = plan_batch(request, ground, working=False)
    as_is = tuple(one for many in stands.values() for one in many)
    moves, ways = [Move()], [Way(_stays(as_is, ground, span))]
    seen = {ways[0].stays}
    root = saved.method.root.key
    own_day = saved.first.planned.lower
    fits = _Fits(ctx, ground, saved, lines, now)
    for sow_on in _days_near(ground, own_day):
        moved = replace(request, anchor=Anchor(move=(root, sow_on))) if sow_on != own_day else request
        elsewhere = _elsewhere(ground, now, stands)
        whole: list[tuple[str, tuple[tuple[int, float], ...]]]
        whole = [("", ()), *((stage, ((place, 1.0),)) for stage, place in elsewhere)]
        parts = _halves(now, stands, elsewhere, over) if sow_on == own_day else []
        for stage, places in (*whole, *parts):
            asked = _standing_in(moved, stage, places) if stage else moved
            if sow_on == own_day and not stage:
                continue
            if sow_on == own_day and any(one.duration.target for one in saved.method.stages):
                asked = replace(asked, anchor=Anchor(move=(root, own_day)))  # another place may be warmer
            plan = _planned(asked, ground)
            price = fits.price(plan) if plan is not None else None
            if plan is None or price is None:
                continue
            days = (plan.sow_on - own_day).days
            way = Way(_stays(plan.standing, ground, span), price + abs(days) * OF_A_DAY + bool(stage) * OF_A_PLACE)
            if way.stays not in seen:
                seen.add(way.stays)
                ways.append(way)
                place, split = (places[0][0], ()) if len(places) == 1 else (None, places)
                moves.append(Move(plan.sow_on if days else None, stage or None, place, split, days, plan.ready_on))
    return Moved(saved, tuple(moves), tuple(ways), stands)


def _planned(request: Request, ground: Ground) -> Plan | None:
    try:
        return plan_batch(request, ground, working=False)
    except Refused:
        return None


def _standing_in(request: Request, stage: str, places: Iterable[tuple[int, float]]) -> Request:
    return replace(request, places={**request.places, stage: tuple(Stand(place, part) for place, part in places)})


def _days_near(ground: Ground, own: date) -> list[date]:
    """The batch's own day, and the days of sowing around it that are not over."""
    near = [own + timedelta(days=n) for n in range(-FURTHEST_DAYS, FURTHEST_DAYS + 1)]
    return [one for one in near if one == own or (one >= ground.today and ground.sowing.on_or_after(one) == one)]


def _elsewhere(ground: Ground, plan: Plan, stands: Mapping[str, tuple[Standing, ...]]) -> list[tuple[str, int]]:
    """Each stage that takes up something, with each other open place of its kind that can measure it."""
    found = []
    for stage in plan.stages:
        there = {one.place for one in stands.get(stage.spec.key, ())}
        if not there or not stage.takes.amount:
            continue
        for lane in ground.by_kind.get(stage.spec.place_kind, []):
            key = lane.place.key
            if not lane.place.whole and lane.usable and key not in there and lane.place.measures(stage.spec.density):
                assert isinstance(key, int)
                found.append((stage.spec.key, key))
    return found


def _halves(
    plan: Plan,
    stands: Mapping[str, tuple[Standing, ...]],
    elsewhere: Iterable[tuple[str, int]],
    over: Mapping[int, tuple[Over, ...]],
) -> list[tuple[str, tuple[tuple[int, float], ...]]]:
    """Each stage that stands in one place, over while it does, with half of its trays in each other place. No tray is cut."""
    trays = {stage.spec.key: stage.trays for stage in plan.stages}
    found: list[tuple[str, tuple[tuple[int, float], ...]]] = []
    for stage, place in elsewhere:
        alone = stands[stage][0]
        hit = any(run.start < alone.end and alone.start < run.end for run in over.get(alone.place, ()))
        many = trays[stage]
        stays = many // 2 / many if many else 0.5
        if len(stands[stage]) == 1 and hit and 0 < stays < 1:
            assert isinstance(alone.place, int)
            found.append((stage, ((alone.place, stays), (place, 1 - stays))))
    return found


@dataclass
class _Fits:
    """Whether a plan is no worse for its promises than what stands, and what it is worse by."""

    ctx: Ctx
    ground: Ground
    saved: Saved
    lines: list[OrderLine]
    now: Plan

    def __post_init__(self) -> None:
        self.last_day = last_day_of(self.saved, self.ground.working)
        self.chance = self._chance(self.now)
        self.against = {problem.code for problem in self.now.problems}

    def _chance(self, plan: Plan) -> float:
        days = {stage.spec.key: stage.dates for stage in plan.stages}
        sure = ready_in_time(self.saved, days, self.last_day, self.ground.today)
        return 1.0 if sure is None or sure.chance is None else sure.chance

    def price(self, plan: Plan) -> int | None:
        """What a plan costs its promises; None where it may not be: late, too old by then, or with something new against it."""
        if plan.late_days or {one.code for one in plan.problems} - self.against - ABOUT_SPACE:
            return None
        if self.last_day is not None and plan.ready_on > max(self.last_day, self.now.ready_on):
            return None
        waits = held_for(self.lines, self.saved, plan.ready_on)
        before = held_for(self.lines, self.saved, self.now.ready_on)
        if waits is not None and waits.too_old and not (before is not None and before.too_old):
            return None
        kept = self._chance(plan)
        if kept < self.chance - MATTERS and kept < self.saved.batch.chance_wanted:
            return None
        lost = max(0.0, self.chance - kept) + max(0.0, (before.kept if before else 1) - (waits.kept if waits else 1))
        return round(lost * WHOLE)


def _stays(stands: Iterable[Standing], ground: Ground, span: tuple[date, date]) -> tuple[Stay, ...]:
    """What stands on shared places within a span, its days counted from the first."""
    found = []
    for one in stands:
        lane = ground.lanes.get(one.place)
        first, last = max(one.start, span[0]), min(one.end, span[1])
        if lane is not None and lane.usable and not lane.place.whole and first < last:
            found.append(Stay(one.place, (first - span[0]).days, (last - span[0]).days, one.amount))
    return tuple(found)


def _rooms(ground: Ground, span: tuple[date, date]) -> dict[Any, Room]:
    first, last = ground.index(span[0]), ground.index(span[1])
    return {
        key: Room(lane.usable, lane.load[first:last])
        for key, lane in ground.lanes.items()
        if lane.usable and not lane.place.whole
    }


def _told(
    ground: Ground,
    span: tuple[date, date],
    over: Mapping[int, tuple[Over, ...]],
    batches: list[Moved],
    problem: Problem,
    result: levelling.Levelled,
) -> dict[str, Any]:
    """What was found, as it is kept with the job and shown."""
    alone = _over(ground, span)  # with what nobody moves, and nothing else
    moves = [_move(ground, over, one, one.moves[w]) for one, w in zip(batches, result.chosen, strict=True) if w]
    for one, w in zip(batches, result.chosen, strict=True):
        for stay in one.ways[w].stays:
            assert isinstance(stay.place, int)
            first, last = (span[0] + timedelta(days=n) for n in (stay.first, stay.last))
            ground.lanes[stay.place].load[ground.index(first) : ground.index(last)] += stay.amount
    left = _over(ground, span)
    return {
        "sentence": _sentence(moves, over, left, result, problem),
        "start": span[0].isoformat(),
        "end": span[1].isoformat(),
        "looked_at": len(batches),
        "moves": moves,
        "places": [
            _place(ground, key, over.get(key, ()), left.get(key, ()), alone.get(key, ()))
            for key in dict.fromkeys([*over, *left])
        ],
        "price": result.price,
        "before": result.before,
        "bound": result.bound,
        "proven": result.proven,
    }


def _days_of(runs: Iterable[Over]) -> int:
    """Days on which a place is over."""
    return sum((run.end - run.start).days for run in runs)


def _sentence(
    moves: list[Any],
    over: Mapping[int, Any],
    left: Mapping[int, Any],
    result: levelling.Levelled,
    problem: Problem,
) -> str:
    if not over:
        return "Nothing is over in these days; nothing has to be moved."
    places = f"{plural(len(over), 'place')} {'is' if len(over) == 1 else 'are'} over"
    if not problem.batches:
        return f"{places}, and nothing that stands there may be moved: it is sown or pinned."
    if not moves:
        return f"{places}, and no move of what is only planned makes it better."
    took = 1 - problem.over(result.chosen) / max(1, problem.over(levelling.as_it_stands(problem)))
    end = f"takes away {share(took)} of what is over; {plural(len(left), 'place')} {'stays' if len(left) == 1 else 'stay'} over"
    many = plural(len(moves), "batch", "batches")
    sure = " Nothing better exists among the moves that were looked at." if result.proven else ""
    return f"Moving {many} {end if left else 'takes away all that is over'}.{sure}"


def _move(ground: Ground, over: Mapping[int, tuple[Over, ...]], one: Moved, move: Move) -> dict[str, Any]:
    batch = one.saved.batch
    said = []
    if move.sow_on is not None:
        said.append(f"sow {day(move.sow_on)} instead of {day(one.saved.first.planned.lower)}")
    if move.stage is not None and move.place_id is not None:
        was = {ground.lanes[s.place].place.name for s in one.stands[move.stage] if s.place in ground.lanes}
        name = one.saved.method.by_key[move.stage].name
        said.append(f"“{name}” in {ground.lanes[move.place_id].place.name} instead of {' and '.join(sorted(was))}")
    if move.stage is not None and move.split:
        names = [ground.lanes[place].place.name for place, _ in move.split]
        part = share(move.split[1][1])
        said.append(
            f"{part} of “{one.saved.method.by_key[move.stage].name}” in {names[1]} instead of all in {names[0]}"
        )
    ready, then = one.saved.last.planned.upper, ""
    if move.ready_on is not None and move.ready_on != ready:
        then = f"; ready {day(move.ready_on)} instead of {day(ready)}"
    return {
        "batch_id": batch.pk,
        "uuid": str(batch.uuid),
        "code": batch.code,
        "crop": batch.crop.name,
        "version": batch.version,
        "sow_on": move.sow_on.isoformat() if move.sow_on else None,
        "stage": move.stage,
        "place_id": move.place_id,
        "split": [{"place_id": place, "share": part} for place, part in move.split],
        "days": move.days,
        "words": f"{batch.code}, {batch.crop.name.lower()}: {' and '.join(said)}{then}",
        "why": _why(ground, over, [stay for many in one.stands.values() for stay in many]),
    }


def _why(ground: Ground, over: Mapping[int, tuple[Over, ...]], stands: Iterable[Standing]) -> str:
    """The worst overflow that a batch takes part in as it stands; room for others where it takes part in none."""
    hit = [
        (run.amount / (ground.lanes[one.place].usable or 1), one.place, run)
        for one in stands
        if isinstance(one.place, int)
        for run in over.get(one.place, ())
        if run.start < one.end and one.start < run.end
    ]
    if not hit:
        return "It makes room for others."
    _, key, run = max(hit, key=lambda found: found[0])
    lane = ground.lanes[key]
    return (
        f"{lane.place.name} is over by {run.amount:,.0f} {lane.place.unit.words} from {day(run.start)}, with it there."
    )


def _place(
    ground: Ground, key: int, was: tuple[Over, ...], now: tuple[Over, ...], alone: tuple[Over, ...]
) -> dict[str, Any]:
    """By how much a place is over, and would be; and why, where it stays over."""
    lane = ground.lanes[key]
    others = len([one for one in ground.by_kind.get(lane.place.kind, []) if not one.place.whole]) > 1
    why = "No other place of its kind and no other day near has more room."
    if alone:
        most = max(run.amount for run in alone)
        why = f"What is sown or pinned is over by {most:,.0f} {lane.place.unit.words} there alone: move that by hand, on the board."
    elif not others:
        why = "It is the only place of its kind, and no other day near has more room."
    return {
        "place_id": key,
        "place": lane.place.name,
        "unit": lane.place.unit.words,
        "was": max((run.amount for run in was), default=0.0),
        "was_days": _days_of(was),
        "now": max((run.amount for run in now), default=0.0),
        "now_days": _days_of(now),
        "now_from": max(now, key=lambda run: run.amount).start.isoformat() if now else None,
        "why": why if now else "",
    }
