"""The ground a plan is made on: calendar, places with what already stands, lots, own records."""

import math
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from aldrip_core.bench_space import TOLERANCE, Over, load_from, overflow
from aldrip_core.learned_rates import Record
from aldrip_core.quantities import Quantities, Rate
from aldrip_core.schedule import Climate, peak_on
from aldrip_core.stages import Density, MethodSpec
from aldrip_core.units import Unit
from aldrip_core.working_calendar import WorkingCalendar

BACK, AHEAD = 400, 900  # days around today on which space is summed
SHUT = 9.0  # share of a place that is shut: fuller than any that is only full
Key = int  # how the one who loaded the ground tells its places apart


@dataclass(frozen=True, slots=True)
class CropSpec:
    """What a plan needs of a crop: thousand-grain weight [g], germination [0-1] with its spread, sources by field."""

    slug: str
    name: str
    tgw_g: float | None = None
    germination: float | None = None
    germination_sd: float = 0.03
    sources: Mapping[str, str] = field(default_factory=dict)
    least_germination: float | None = None  # under which it is not sold as seed, or hardly


@dataclass(frozen=True, slots=True)
class LotSpec:
    """A lot that can be started with: what is left of it that no plan speaks for, in its base unit."""

    key: Key
    code: str
    crop: str
    line: str | None
    unit: Unit
    left: Decimal
    germination: float | None = None
    tgw_g: float | None = None


@dataclass(frozen=True, slots=True)
class Regime:
    """How warm a place is from a day on; without a day, since ever."""

    climate: Climate
    since: date | None = None


@dataclass(frozen=True, slots=True)
class Limit:
    """Days `[first, end)` on which a place holds less than usual, in its unit; nothing: it is shut."""

    first: date
    end: date
    usable: float = 0.0


@dataclass(frozen=True, slots=True)
class PlaceSpec:
    """A place: what kind, what it holds of which unit, whether it takes one use at a time, how warm it is when.

    A place that is `closed` takes nothing new; what stands there stays.
    """

    key: Key
    name: str
    kind: str
    usable: float | None
    unit: Unit
    whole: bool = False
    closed: bool = False
    regimes: tuple[Regime, ...] = (Regime(Climate((10.0,) * 12)),)
    limits: tuple[Limit, ...] = ()

    @property
    def climate(self) -> Climate:
        """The newest regime."""
        return self.regimes[-1].climate

    def climate_on(self, day: date) -> Climate:
        """The regime that holds on a day."""
        return next(
            (r.climate for r in reversed(self.regimes) if r.since is None or r.since <= day), self.regimes[0].climate
        )

    def measures(self, density: Density) -> bool:
        """Whether what a stage takes up can be summed here; a place without a capacity takes anything.

        Trays are counted or measured by their footprint, as the place has it; what stands without trays has only its ground.
        """
        if self.usable is None or density is Density.NONE:
            return True
        return self.unit is not Unit.TRAY or density is not Density.UNIT_M2


@dataclass(frozen=True, slots=True)
class Takes:
    """What a stage takes up: its trays, where it stands in some, and its ground [m²]; `counted`: in trays by itself."""

    m2: float
    trays: float | None = None
    counted: bool = False

    @property
    def amount(self) -> float:
        """As the stage is measured by itself."""
        return (self.trays or 0.0) if self.counted else self.m2

    def of(self, place: PlaceSpec) -> float:
        """In the unit of a place; in that of the stage where the place has no measure or none that fits."""
        if place.usable is None or self.trays is None:
            return self.amount
        return self.trays if place.unit is Unit.TRAY else self.m2


class Lane:
    """One place with the amount that stands there by day."""

    def __init__(self, place: PlaceSpec, days: int) -> None:
        self.place = place
        self.usable = place.usable
        self.load: NDArray[np.float64] = np.zeros(days)
        self.shut: NDArray[np.bool_] | None = None  # days on which a place that takes anything takes nothing

    def share(self, start: int, end: int, amount: float) -> float:
        """Peak share of the place over day indexes [start, end) with `amount` more on it."""
        if self.shut is not None and start < end and self.shut[start:end].any():
            return SHUT
        if not self.usable or start >= end:
            return 0.0
        peak = float(self.load[start:end].max())
        if self.place.whole and peak > 0:
            return 1.0 + (peak + amount) / self.usable
        return (peak + amount) / self.usable

    def room(self, start: int, end: int) -> float:
        """What is free over day indexes [start, end), in the unit of the place."""
        return max(0.0, (self.usable or 0.0) - float(self.load[start:end].max())) if start < end else 0.0


@dataclass(frozen=True, slots=True)
class Standing:
    """An amount that stands in a place over `[start, end)`."""

    place: Key
    start: date
    end: date
    amount: float


class Ground:
    """What planning needs to know, in memory. `put` changes it; nothing else does."""

    def __init__(
        self,
        *,
        today: date,
        working: WorkingCalendar,
        sowing: WorkingCalendar,
        places: Iterable[PlaceSpec] = (),
        standing: Iterable[Standing] = (),
        steps: Iterable[tuple[Key, date, float]] = (),
        lots: Callable[[], Iterable[LotSpec]] = tuple,
        records: Callable[[], Mapping[tuple[str, str], Record]] = dict,
        chance: float = 0.95,
        days_in_hand: int = 0,
        part_trays: bool = False,
    ) -> None:
        self.today, self.working, self.sowing = today, working, sowing
        self.chance, self.days_in_hand, self.part_trays = chance, days_in_hand, part_trays
        self.origin = today.toordinal() - BACK
        self.days = BACK + AHEAD
        self.lanes = {place.key: Lane(place, self.days) for place in places}
        self.by_kind: dict[str, list[Lane]] = defaultdict(list)
        for lane in self.lanes.values():
            if not lane.place.closed:
                self.by_kind[lane.place.kind].append(lane)
        self._stand(standing)
        self._step(steps)
        for lane in self.lanes.values():
            self._limit(lane)
        self._lots, self._records = lots, records  # asked for when a plan needs them
        self.measured: dict[
            tuple[object, ...], tuple[MethodSpec, tuple[Rate, ...], Quantities]
        ] = {}  # quantities of what was asked alike before

    @cached_property
    def lots(self) -> dict[Key, LotSpec]:
        """Lots that can be started with, oldest first."""
        return {lot.key: lot for lot in self._lots()}

    @cached_property
    def left(self) -> dict[Key, Decimal]:
        """Of each lot, what no plan speaks for, in its base unit."""
        return {lot.key: lot.left for lot in self.lots.values()}

    @cached_property
    def by_crop(self) -> dict[str, list[LotSpec]]:
        found: dict[str, list[LotSpec]] = defaultdict(list)
        for lot in self.lots.values():
            found[lot.crop].append(lot)
        return found

    @cached_property
    def records(self) -> Mapping[tuple[str, str], Record]:
        """Own rates by method and stage key."""
        return self._records()

    def index(self, day: date) -> int:
        """Day as an index into a lane's load, kept inside it."""
        return min(max(day.toordinal() - self.origin, 0), self.days)

    def _stand(self, standing: Iterable[Standing]) -> None:
        by_place: dict[Key, list[Standing]] = defaultdict(list)
        for one in standing:
            by_place[one.place].append(one)
        for key, here in by_place.items():
            lane = self.lanes.get(key)
            if lane is not None:
                starts = np.array([one.start.toordinal() for one in here]) - self.origin
                ends = np.array([one.end.toordinal() for one in here]) - self.origin
                lane.load = load_from(
                    starts=starts, ends=ends, amounts=np.array([one.amount for one in here]), days=self.days
                )

    def _step(self, steps: Iterable[tuple[Key, date, float]]) -> None:
        """Let what stands be more by an amount from a day on, or less: the sum of many standings, a row a place and day."""
        by_place: dict[Key, list[tuple[int, float]]] = defaultdict(list)
        for key, day, amount in steps:
            by_place[key].append((self.index(day), amount))
        for key, here in by_place.items():
            if key in self.lanes:
                change = np.zeros(self.days + 1)
                np.add.at(change, [at for at, _ in here], [amount for _, amount in here])
                total = self.lanes[key].load + np.cumsum(change)[:-1]
                total[np.abs(total) < TOLERANCE] = 0.0
                self.lanes[key].load = total

    def _limit(self, lane: Lane) -> None:
        """What is shut of a place counts as taken; where limits overlap the narrowest holds."""
        away = np.zeros(self.days)
        for limit in lane.place.limits:
            span = slice(self.index(limit.first), self.index(limit.end))
            if lane.usable is None:
                lane.shut = np.zeros(self.days, dtype=bool) if lane.shut is None else lane.shut
                lane.shut[span] = True
            else:
                away[span] = np.maximum(away[span], max(0.0, lane.usable - limit.usable))
        if lane.place.limits and lane.usable is not None:
            lane.load = lane.load + away

    def put(self, place: Key, start: date, end: date, amount: float) -> None:
        """Let an amount stand in memory, so that the next batch planned sees it."""
        if place in self.lanes and end > start:
            self.lanes[place].load[self.index(start) : self.index(end)] += amount

    def over(self, place: Key, start: date, end: date) -> tuple[Over, ...]:
        """Runs of days in a span on which a place overflows."""
        lane = self.lanes[place]
        if lane.usable is None:
            return ()
        first, last = self.index(start), self.index(end)
        return overflow(by_day=lane.load[first:last], first=date.fromordinal(self.origin + first), usable=lane.usable)

    def _fitting(self, kind: str, density: Density) -> list[Lane]:
        lanes = self.by_kind.get(kind, [])
        return [lane for lane in lanes if lane.place.measures(density)] or lanes

    def spread(
        self, kind: str, start: date, end: date, takes: Takes, density: Density = Density.NONE
    ) -> list[tuple[Lane, float]]:
        """Where so much stands, each place with its share: one place where one holds it, else as few as hold it.

        What finds no room anywhere stays where it would be least full, and is over there. Trays are not cut.
        """
        best = self.choose(kind, start, end, takes, density)
        if best is None:
            return []
        first, last = self.index(start), self.index(end)
        if (
            best.place.whole
            or not best.usable
            or first >= last
            or not takes.of(best.place)
            or best.share(first, last, takes.of(best.place)) <= 1
        ):
            return [(best, 1.0)]
        left, parts = 1.0, list[tuple[Lane, float]]()
        room = [
            (lane.room(first, last) / takes.of(lane.place), lane)
            for lane in self._fitting(kind, density)
            if lane.usable
        ]
        for share, lane in sorted(room, key=lambda one: -one[0]):
            own = min(share, left)
            if takes.trays:
                own = math.floor(own * takes.trays + 1e-9) / takes.trays
            if own > 1e-9 and not lane.place.whole:
                parts.append((lane, own))
                left -= own
        if left <= 1e-9:
            return parts
        rest = [(lane, share + left if lane is best else share) for lane, share in parts]
        return rest if any(lane is best for lane, _ in parts) else [*parts, (best, left)]

    def choose(self, kind: str, start: date, end: date, takes: Takes, density: Density = Density.NONE) -> Lane | None:
        """The place of a kind that would be least full; of whole places the smallest free one that holds it."""
        first, last = self.index(start), self.index(end)
        shares = [(lane.share(first, last, takes.of(lane.place)), lane) for lane in self._fitting(kind, density)]
        free = [lane for share, lane in shares if lane.place.whole and lane.usable and share <= 1]
        if free:
            return min(free, key=lambda lane: lane.usable or 0.0)
        return min(shares, key=lambda pair: pair[0])[1] if shares else None

    def cool(self, ceiling_c: float, start: date, end: date, takes: Takes, density: Density) -> Lane | None:
        """The place with most room whose days stay under a ceiling [°C]; None where none has room. In whichever unit it counts."""
        first, last = self.index(start), self.index(end)
        days = [start + timedelta(days=n) for n in range(max(1, (end - start).days))]
        found = []
        for lane in self.lanes.values():
            if lane.place.closed or lane.place.whole or not lane.usable or not lane.place.measures(density):
                continue
            share = lane.share(first, last, takes.of(lane.place))
            if share <= 1 and all(peak_on(lane.place.climate, day) <= ceiling_c for day in days):
                found.append((share, lane))
        return min(found, key=lambda one: one[0])[1] if found else None

    def usual(self, kind: str) -> Lane | None:
        """The first place of a kind: its temperatures stand for the kind before a place is chosen."""
        return next(iter(self.by_kind.get(kind, [])), None)

    def lot_for(self, crop: str, line: str | None) -> LotSpec | None:
        """The oldest lot of the cultivar with something not spoken for, else the oldest with any."""
        lots = [lot for lot in self.by_crop.get(crop, []) if line is None or lot.line == line]
        return next(iter([lot for lot in lots if self.left[lot.key] > 0] or lots), None)

    def lot_that_holds(self, crop: str, line: str | None, amount: Decimal) -> LotSpec | None:
        """The oldest lot of the cultivar with so much not spoken for."""
        lots = self.by_crop.get(crop, [])
        return next((lot for lot in lots if (line is None or lot.line == line) and self.left[lot.key] >= amount), None)

    def speak_for(self, lot: Key, amount: Decimal) -> None:
        """Let a plan speak for so much of a lot, so that the next one sees it."""
        self.left[lot] -= amount

    def ready_day(self, due_from: date, due_last: date) -> date:
        """The working day to aim for: the window's first, less the house's days in hand."""
        first = self.working.on_or_after(due_from)
        aim = first if first <= due_last else self.working.on_or_before(due_from)
        return self.working.on_or_before(aim - timedelta(days=self.days_in_hand))


@dataclass(frozen=True, slots=True)
class CouldStand:
    """A place, and how full it would be [share of what is usable] over some days with so much more in it."""

    lane: Lane
    share: float
    taken: bool  # a place that takes one use at a time, with another on it


def could_stand(
    ground: Ground, kind: str, start: date, end: date, takes: Takes, density: Density = Density.NONE
) -> tuple[CouldStand, ...]:
    """Every open place that can measure a stage, with how full it would be: those of the stage's kind first, then the others.

    What the stage takes now is not on the ground.
    """
    first, last = ground.index(start), ground.index(end)
    found = [
        CouldStand(
            lane, lane.share(first, last, takes.of(lane.place)), lane.place.whole and bool(lane.load[first:last].any())
        )
        for lane in ground.lanes.values()
        if lane.usable and not lane.place.closed and lane.place.measures(density)
    ]
    return tuple(sorted(found, key=lambda one: one.lane.place.kind != kind))


@dataclass(frozen=True, slots=True)
class WouldLoad:
    """What stands in a place by day, from a day on, in its unit."""

    place: Key
    start: date
    load: tuple[float, ...]


def would_load(ground: Ground, before: Sequence[Standing], after: Sequence[Standing]) -> tuple[WouldLoad, ...]:
    """The load of every place that a plan touches, with what will stand `after`, over the days that it changes.

    The ground holds neither what stood `before` nor what will `after`.
    """
    found: list[WouldLoad] = []
    for key in dict.fromkeys(one.place for one in (*before, *after)):
        lane = ground.lanes.get(key)
        both = [one for one in (*before, *after) if one.place == key]
        first, last = min(ground.index(one.start) for one in both), max(ground.index(one.end) for one in both)
        if lane is None or not lane.usable or first >= last:
            continue
        load = lane.load.copy()
        for one in after:
            if one.place == key:
                load[ground.index(one.start) : ground.index(one.end)] += one.amount
        found.append(
            WouldLoad(key, date.fromordinal(ground.origin + first), tuple(round(float(v), 9) for v in load[first:last]))
        )
    return tuple(found)


def peaks(ground: Ground, before: Sequence[Standing], after: Sequence[Standing]) -> list[tuple[Lane, float, float]]:
    """For each place that a plan touches: the peak in its days with what stood `before`, and with what will `after`.

    The ground holds neither of the two.
    """
    found: list[tuple[Lane, float, float]] = []
    for key in dict.fromkeys(one.place for one in (*after, *before)):
        lane = ground.lanes.get(key)
        if lane is None or not lane.usable:
            continue
        both = [one for one in (*before, *after) if one.place == key]
        first, last = min(ground.index(one.start) for one in both), max(ground.index(one.end) for one in both)
        if first >= last:
            continue
        loads = []
        for which in (before, after):
            load = lane.load.copy()
            for one in which:
                if one.place == key:
                    load[ground.index(one.start) : ground.index(one.end)] += one.amount
            loads.append(float(load[first:last].max()))
        found.append((lane, loads[0], loads[1]))
    return found
