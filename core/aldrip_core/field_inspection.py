"""Field inspection: how many counts where, what the count so far says, and what may follow."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum
from functools import lru_cache

from shapely import Polygon, minimum_rotated_rectangle

from aldrip_core.distributions import Spread, quantile_of_sum
from aldrip_core.geometry import Point, polygon
from aldrip_core.isolation import Parts, shape_of
from aldrip_core.off_type_interval import bounds
from aldrip_core.reject_number import Decision, reject_at
from aldrip_core.row_plan import spans_at

TABLE_STEPS = 20
BEYOND = 2  # counts beyond the reject number that a phone still finds in its table


@dataclass(frozen=True, slots=True)
class SamplingPlan:
    """Counting areas: `first_areas` for the first `first_ha`, one more for each further `per_ha`; plants each."""

    first_areas: int
    first_ha: float
    per_ha: float
    plants_per_area: int

    def areas(self, area_ha: float) -> int:
        """Areas to count in a field [whole]. Source: common practice, no source.

        >>> [SamplingPlan(5, 2, 2, 400).areas(ha) for ha in (0.5, 2, 2.1, 6)]
        [5, 5, 6, 7]
        """
        return self.first_areas + max(0, math.ceil((area_ha - self.first_ha) / self.per_ha - 1e-9))


@dataclass(frozen=True, slots=True)
class FaultLimit:
    """A fault with its maximum share [0-1] and how the scheme judges it.

    `cures`: roguing takes it out while it has not shed pollen.
    """

    attribute: str
    words: str
    limit: float
    decision: Decision = Decision.REJECT_NUMBER
    alpha: float = 0.05
    cures: bool = True
    source: str | None = None


class State(StrEnum):
    """What the count so far says."""

    ACCEPT = "accept"
    REJECT = "reject"
    CONTINUE = "continue"


@dataclass(frozen=True, slots=True)
class FaultVerdict:
    """One fault: found, reject number, verdict so far, exact interval of the true share, likely end of the count."""

    attribute: str
    words: str
    limit: float
    found: int
    reject_at: int
    state: State
    low: float
    high: float
    likely_low: int
    likely_high: int


@dataclass(frozen=True, slots=True)
class Judgement:
    """The whole count so far: plants, how many are asked, how many more would decide."""

    plants: int
    sample: int
    more_plants: int
    state: State
    faults: tuple[FaultVerdict, ...]
    cured_by_roguing: bool
    short_areas: tuple[int, ...] = ()

    @property
    def size(self) -> int:
        """Plants to which the reject numbers belong: those that are asked, or more where more were counted."""
        return max(self.sample, self.plants)


def spread_areas(parts: Parts, count: int) -> tuple[Point, ...]:
    """Middles of the counting areas, spread over what counts of a field [m]: a zigzag along its length.

    parts: polygons with their holes, each a ring of [x east, y north]. The field is cut across its length into
    pieces of equal area; each has one counting area, by turns a third from one side and a third from the other.
    """
    rectangle = minimum_rotated_rectangle(shape_of(parts))
    box = list((rectangle if isinstance(rectangle, Polygon) else polygon(parts[0][0])).exterior.coords)
    longest = max(range(2), key=lambda i: math.dist(box[i], box[i + 1]))
    dx, dy = box[longest + 1][0] - box[longest][0], box[longest + 1][1] - box[longest][1]
    length = math.hypot(dx, dy)
    along = (dx / length, dy / length)
    # u across the field, v along it: `spans_at` cuts at constant v.
    rings = [
        [(p[0] * -along[1] + p[1] * along[0], p[0] * along[0] + p[1] * along[1]) for p in ring]
        for part in parts
        for ring in part
    ]
    first, last = min(v for ring in rings for _, v in ring), max(v for ring in rings for _, v in ring)
    fine = 400
    places = [first + (i + 0.5) * (last - first) / fine for i in range(fine)]
    widths = [sum(b - a for a, b in spans_at(rings[0], v, *rings[1:])) for v in places]
    total, gathered, found = sum(widths), 0.0, list[Point]()
    for v, width in zip(places, widths, strict=True):
        gathered += width
        if len(found) < count and gathered >= (len(found) + 0.5) * total / count:
            a, b = max(spans_at(rings[0], v, *rings[1:]), key=lambda span: span[1] - span[0])
            u = a + (b - a) * (0.3 if len(found) % 2 == 0 else 0.7)
            found.append((u * -along[1] + v * along[0], u * along[0] + v * along[1]))
    return tuple(found)


def judge(
    *,
    limits: Sequence[FaultLimit],
    sample: int,
    plants: int,
    found: Mapping[str, int],
    by_area: Mapping[int, int] | None = None,
    areas: int = 0,
) -> Judgement:
    """Judge a count so far against every limit.

    From the reject number on a fault rejects whatever follows; below it the count goes on until the
    sample is full, then accepts. A count beyond the sample is judged by its own size.

    by_area: plants counted in each of the `areas`. A count is full only when each of them has its share: plants of one
    corner say nothing of the field.
    """
    size = max(sample, plants)
    each = math.ceil(sample / areas) if areas else 0
    missing = {n: each - (by_area or {}).get(n, 0) for n in range(1, areas + 1)}
    short = tuple(n for n, many in missing.items() if many > 0)
    faults = tuple(_fault(limit, size, plants, found.get(limit.attribute, 0)) for limit in limits)
    states = {fault.state for fault in faults}
    state = State.REJECT if State.REJECT in states else State.CONTINUE if State.CONTINUE in states else State.ACCEPT
    if state is State.ACCEPT and short:
        state = State.CONTINUE
    cures = {limit.attribute: limit.cures for limit in limits}
    rejected = [fault for fault in faults if fault.state is State.REJECT]
    return Judgement(
        plants,
        sample,
        max(0, sample - plants, sum(many for many in missing.values() if many > 0)),
        state,
        faults,
        bool(rejected) and all(cures[f.attribute] for f in rejected),
        short,
    )


def _fault(limit: FaultLimit, size: int, plants: int, found: int) -> FaultVerdict:
    number = reject_at(plants=size, limit=limit.limit, alpha=limit.alpha, decision=limit.decision)
    still = State.CONTINUE if plants < size or plants == 0 else State.ACCEPT
    state = State.REJECT if found >= number else still
    low, high, likely_low, likely_high = outlook(plants, min(found, plants), size)
    return FaultVerdict(
        limit.attribute, limit.words, limit.limit, found, number, state, low, high, likely_low, likely_high
    )


@lru_cache(maxsize=20_000)
def outlook(plants: int, found: int, sample: int) -> tuple[float, float, int, int]:
    """Exact 95 % interval of the true share [0-1], and where the count will likely end (5-95 %)."""
    if plants == 0:
        return 0.0, 1.0, 0, sample
    low, high = bounds(plants=plants, found=found)
    left = sample - plants
    if left <= 0:
        return low, high, found, found
    belief = Spread(found + 0.5, plants - found + 0.5)
    ends = [found + quantile_of_sum(share=share, parts=[(left, belief)]) for share in (0.05, 0.95)]
    return low, high, ends[0], ends[1]


@dataclass(frozen=True, slots=True)
class TableRow:
    """What a phone looks up at `plants` counted: by number found, (low, high, likely low, likely high)."""

    plants: int
    by_found: tuple[tuple[float, float, int, int], ...]


@dataclass(frozen=True, slots=True)
class DecisionTable:
    """Everything a count sheet needs without a signal: the reject number of each fault, and the outlook.

    `beyond`: for a count larger than the sample, by fault, (plants from which, reject number).
    """

    sample: int
    reject_at: dict[str, int]
    rows: tuple[TableRow, ...]
    beyond: dict[str, tuple[tuple[int, int], ...]]


def decision_table(*, limits: Sequence[FaultLimit], sample: int) -> DecisionTable:
    """The verdicts of a count in advance, in twenty steps of plants counted."""
    numbers = {
        one.attribute: reject_at(plants=sample, limit=one.limit, alpha=one.alpha, decision=one.decision)
        for one in limits
    }
    most = max(numbers.values(), default=0) + BEYOND
    step = max(1, sample // TABLE_STEPS)
    marks = [*range(step, sample, step), sample]
    rows = tuple(
        TableRow(n, tuple(outlook(n, k, sample) for k in range(min(most, n) + 1))) for n in dict.fromkeys(marks)
    )
    return DecisionTable(sample, numbers, rows, {one.attribute: _beyond(one, sample) for one in limits})


@lru_cache(maxsize=256)
def _beyond(limit: FaultLimit, sample: int) -> tuple[tuple[int, int], ...]:
    """Plants above the sample at which the reject number rises, up to twice the sample."""

    def number(plants: int) -> int:
        return reject_at(plants=plants, limit=limit.limit, alpha=limit.alpha, decision=limit.decision)

    found: list[tuple[int, int]] = []
    at, now, last = sample, number(sample), number(2 * sample)
    while now < last:
        low, high = at, 2 * sample
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (middle, high) if number(middle) <= now else (low, middle)
        at, now = high, number(high)
        found.append((at, now))
    return tuple(found)


class Choice(StrEnum):
    """What may follow an inspection."""

    ACCEPT = "accept"
    ROGUE = "rogue"
    DOWNGRADE = "downgrade"
    REJECT = "reject"


def choices(*, judgement: Judgement, shedding: bool, lower_class: bool) -> tuple[Choice, ...]:
    """What may be signed after a count.

    Only an accepted count may be accepted. Roguing cures only what has not shed pollen yet, so it is
    offered before shedding and for faults that can be taken out. Source: common practice, no source.
    """
    if judgement.state is State.ACCEPT:
        return (Choice.ACCEPT,)
    if judgement.state is State.CONTINUE:
        return ()
    found = [Choice.REJECT]
    if lower_class:
        found.insert(0, Choice.DOWNGRADE)
    if judgement.cured_by_roguing and not shedding:
        found.insert(0, Choice.ROGUE)
    return tuple(found)


ROGUE_DAYS_BEFORE_SHEDDING = 7
BEFORE_A_STAGE_DAYS = 14
DAYS_BEFORE_CUTTING = 7
WALKED_STRIP_M = 6.0


def visit_day(
    *,
    before: bool,
    days_after: int,
    shedding_from: date | None,
    flowers_from: date,
    ripe_from: date | None = None,
) -> date:
    """The day on which a visit belongs. Source: common practice, no source.

    A visit before flowering leaves a week to rogue before anything sheds; where shedding is not
    foreseen (`shedding_from` None) it comes two weeks before the flowering stage. One at maturity comes a week before
    the crop is to be cut (`ripe_from`), whatever the crop. The others come `days_after` first flowers.

    >>> visit_day(before=True, days_after=0, shedding_from=date(2027, 7, 8), flowers_from=date(2027, 7, 12))
    datetime.date(2027, 7, 1)
    """
    if ripe_from is not None:
        return max(flowers_from, ripe_from - timedelta(days=DAYS_BEFORE_CUTTING))
    if not before:
        return flowers_from + timedelta(days=days_after)
    if shedding_from is None:
        return flowers_from + timedelta(days=days_after - BEFORE_A_STAGE_DAYS)
    return shedding_from - timedelta(days=ROGUE_DAYS_BEFORE_SHEDDING)


def metres_to_walk(area: float) -> float:
    """Way through a drilled field of `area` [m²] without rows to follow, in strips of six metres [m]. Common practice, no source.

    >>> metres_to_walk(24_000)
    4000.0
    """
    return area / WALKED_STRIP_M


def off_types_expected(judgement: Judgement, plants: float) -> float:
    """Faulty plants that a count makes expect among all `plants` of a field [number].

    >>> off_types_expected(judge(limits=[FaultLimit("o", "off-types", 0.01)], sample=100, plants=100, found={"o": 2}), 5_000)
    100.0
    """
    found = sum(f.found for f in judgement.faults)
    return found / judgement.plants * plants if judgement.plants else 0.0


def roguing_hours(
    *, row_metres: float, off_types: float, metres_per_hour: float = 2_500, seconds_each: float = 20
) -> float:
    """Person-hours to walk every row and take out what is expected [h]. Common practice, no source.

    >>> round(roguing_hours(row_metres=25_000, off_types=360), 1)
    12.0
    """
    return row_metres / metres_per_hour + off_types * seconds_each / 3600
