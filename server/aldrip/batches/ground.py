"""The ground a plan is made on: calendar, places with what already stands, methods, lots, records.

Loaded once with a fixed number of queries, however many batches are planned on it.
"""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import cached_property
from statistics import fmean, stdev

import numpy as np
from django.db.models import Q, Sum
from numpy.typing import NDArray

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, BatchStage, Occupancy
from aldrip.batches.snapshot import MethodDef, read_snapshot, take_snapshot
from aldrip.lots.models import Lot
from aldrip.methods.models import Method
from aldrip.places.climate import climate_of
from aldrip.places.models import Place
from aldrip_core.bench_space import Over, overflow
from aldrip_core.distributions import Spread
from aldrip_core.schedule import Climate

BACK, AHEAD = 400, 900  # days around today on which space is summed
FEWEST_RECORDS = 3  # own batches before their rates stand in for the library's


@dataclass(frozen=True)
class Record:
    """Own records of a rate: its spread over batches, and how many."""

    spread: Spread
    batches: int


class Lane:
    """One place with the amount that stands there by day."""

    def __init__(self, place: Place, days: int) -> None:
        self.place = place
        self.climate: Climate = climate_of(place)
        self.usable = place.usable
        self.load: NDArray[np.float64] = np.zeros(days)

    def share(self, start: int, end: int, amount: float) -> float:
        """Peak share of the place over day indexes [start, end) with `amount` more on it."""
        if not self.usable or start >= end:
            return 0.0
        if self.place.sharing == "whole" and self.load[start:end].max() > 0:
            return 1.0 + float(self.load[start:end].max() + amount) / self.usable
        return float(self.load[start:end].max() + amount) / self.usable


class Ground:
    """What planning needs to know, in memory."""

    def __init__(self, ctx: Ctx, *, without: Sequence[int] = (), window: tuple[date, date] | None = None) -> None:
        self.ctx = ctx
        self.today = ctx.today
        self.organisation = ctx.organisation
        self.working, self.sowing = ctx.calendars()
        self.origin = self.today.toordinal() - BACK
        self.days = BACK + AHEAD
        self._without = without
        self._window = window
        self.lanes: dict[int, Lane] = {}
        self.by_kind: dict[str, list[Lane]] = defaultdict(list)
        for place in ctx.rows(Place).filter(active=True).select_related("site"):
            lane = Lane(place, self.days)
            self.lanes[place.pk] = lane
            self.by_kind[place.kind].append(lane)
        self.left_out: list[tuple[int, date, date, float]] = []  # what the batches left out take: place, days, amount
        self._load_occupancies()
        self._methods: dict[int, MethodDef] = {}
        self.snapshots: dict[int, dict[str, object]] = {}

    def index(self, day: date) -> int:
        """Day as an index into a lane's load, kept inside it."""
        return min(max(day.toordinal() - self.origin, 0), self.days)

    def _load_occupancies(self) -> None:
        # An abandoned batch has let its space go, so every row here stands.
        rows = Occupancy.objects.filter(place__in=list(self.lanes))
        if self._window:
            rows = rows.filter(during__overlap=self._window)
        steps = {pk: np.zeros(self.days + 1) for pk in self.lanes}
        left_out = set(self._without)
        for place, during, amount, batch in rows.values_list("place_id", "during", "amount", "stage__batch_id"):
            if batch in left_out:
                self.left_out.append((place, during.lower, during.upper, amount))
            elif place in steps:
                steps[place][self.index(during.lower)] += amount
                steps[place][self.index(during.upper)] -= amount
        for pk, lane in self.lanes.items():
            lane.load = np.cumsum(steps[pk])[:-1]

    def put(self, place: int, start: date, end: date, amount: float) -> None:
        """Let an amount stand in memory, so that the next batch planned sees it."""
        self.lanes[place].load[self.index(start) : self.index(end)] += amount

    def over(self, place: int, start: date, end: date) -> tuple[Over, ...]:
        """Runs of days in a span on which a place overflows."""
        lane = self.lanes[place]
        if lane.usable is None:
            return ()
        first, last = self.index(start), self.index(end)
        return overflow(by_day=lane.load[first:last], first=date.fromordinal(self.origin + first), usable=lane.usable)

    def choose(self, kind: str, start: date, end: date, amount: float) -> Lane | None:
        """The place of a kind that would be least full; of whole places the smallest free one that holds it."""
        first, last = self.index(start), self.index(end)
        lanes = self.by_kind.get(kind, ())
        fits = [
            lane for lane in lanes
            if lane.place.sharing == "whole" and lane.usable and lane.share(first, last, amount) <= 1
        ]  # fmt: skip
        if fits:
            return min(fits, key=lambda lane: lane.usable or 0.0)
        return min(lanes, key=lambda lane: lane.share(first, last, amount), default=None)

    def usual(self, kind: str) -> Lane | None:
        """The first place of a kind: its temperatures stand for the kind before a place is chosen."""
        return next(iter(self.by_kind.get(kind, ())), None)

    def know_methods(self, methods: Iterable[Method]) -> None:
        """Freeze methods for this plan; their stages should be prefetched."""
        for method in methods:
            if method.pk not in self._methods:
                self.snapshots[method.pk] = take_snapshot(method)
                self._methods[method.pk] = read_snapshot(self.snapshots[method.pk])

    def method(self, pk: int) -> MethodDef:
        return self._methods[pk]

    @cached_property
    def methods_by_crop(self) -> dict[int, list[Method]]:
        """Methods that may be used, by crop: own ones first, then the defaults."""
        found: dict[int, list[Method]] = defaultdict(list)
        rows = (
            self.ctx.shared_rows(Method)
            .select_related("crop", "container", "mix", "standard")
            .prefetch_related("stages")
            .order_by("-default", "id")
        )
        for method in rows:
            found[method.crop_id].append(method)
        self.know_methods(rows)
        return found

    @cached_property
    def lots_by_crop(self) -> dict[int, list[Lot]]:
        """Seed lots with something left, oldest first."""
        found: dict[int, list[Lot]] = defaultdict(list)
        for lot in self.ctx.rows(Lot).filter(form="seed", unit="g", balance__gt=0).order_by("received_on", "id"):
            found[lot.crop_id].append(lot)
        return found

    @cached_property
    def seed_left(self) -> dict[int, Decimal]:
        """Grams of each lot not spoken for by batches still to be sown."""
        promised = dict(
            self.ctx.rows(Batch)
            .filter(state=Batch.State.PLANNED, lot__isnull=False)
            .exclude(pk__in=self._without)
            .values_list("lot")
            .annotate(total=Sum("seed_g"))
        )
        return {
            lot.pk: lot.balance - Decimal(promised.get(lot.pk) or 0)
            for lots in self.lots_by_crop.values()
            for lot in lots
        }

    def lot_for(self, crop_id: int, line_id: int | None) -> Lot | None:
        """The oldest lot of the cultivar with seed not spoken for, else the oldest with any."""
        lots = [lot for lot in self.lots_by_crop.get(crop_id, []) if line_id is None or lot.line_id == line_id]
        return next(iter([lot for lot in lots if self.seed_left[lot.pk] > 0] or lots), None)

    @cached_property
    def records(self) -> dict[tuple[int, str], Record]:
        """Own rates by (method, stage kind), where enough finished batches were counted.

        Of a germination stage it is the cell factor: what was counted over what the lot promised.
        """
        shares: dict[tuple[int, str], list[float]] = defaultdict(list)
        rows = (
            BatchStage.objects.filter(
                Q(batch__organisation=self.organisation),
                Q(batch__state__in=(Batch.State.READY, Batch.State.DELIVERED)),
                counted_share__isnull=False,
            )
            .order_by("-batch_id")
            .values_list("batch__method_id", "kind", "counted_share", "batch__lot__germination")[:2000]
        )
        for method, kind, share, germination in rows:
            if share is None:
                continue
            factor = share / germination if kind == "germinate" and germination else share
            shares[method, kind].append(min(0.999, factor))
        return {key: _record(values) for key, values in shares.items() if len(values) >= FEWEST_RECORDS}


def _record(values: list[float]) -> Record:
    mean = min(0.999, max(0.001, fmean(values)))
    most = (mean * (1 - mean)) ** 0.5 * 0.5
    return Record(Spread.from_mean_sd(mean, min(most, max(0.003, stdev(values)))), len(values))
