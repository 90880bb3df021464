"""Load the ground a plan is made on: a fixed number of queries, however many batches are planned on it."""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date, timedelta
from decimal import Decimal
from functools import cached_property
from typing import Any

from django.db.models import Exists, F, OuterRef, QuerySet, Sum

from aldrip.accounts.context import Ctx
from aldrip.batches.aside import set_aside_of
from aldrip.batches.models import Batch, BatchInput, BatchStage, Occupancy
from aldrip.lots.models import Lot, Status
from aldrip.methods.models import Input, Method, MethodStage
from aldrip.methods.resolver import Library
from aldrip.methods.snapshot import read_snapshot, take_snapshot
from aldrip.places.climate import climate_of
from aldrip.places.models import Place
from aldrip_core import ground as core
from aldrip_core.ground import AHEAD, BACK, Limit, LotSpec, PlaceSpec, Regime, Standing
from aldrip_core.learned_rates import Counted, Learned, Record
from aldrip_core.stages import MethodSpec, Trait
from aldrip_core.units import unit

NEWEST_COUNTS = 2000
UNKNOWN_SAMPLE = 100  # of a count whose size was not kept
#: Own seed may be sown once it is released; what was bought has no status.
SOWABLE = ("", Status.RELEASED.value)


def place_spec(place: Place) -> PlaceSpec:
    """A place in core's terms."""
    return PlaceSpec(
        place.pk,
        place.name,
        place.kind,
        place.usable,
        unit(place.unit),
        place.sharing == "whole",
        not place.active,
        (Regime(climate_of(place)),),
        tuple(limit_of(one) for one in place.closings),
    )


def limit_of(closing: Mapping[str, Any]) -> Limit:
    """A time for which a place is shut or smaller, in core's terms."""
    first, last = (date.fromisoformat(closing[name]) for name in ("first", "last"))
    return Limit(first, last + timedelta(days=1), closing["holds"])


def lot_spec(lot: Lot, left: Decimal | None = None) -> LotSpec:
    """A lot in core's terms. `left`: what no plan speaks for; its balance where nobody asks."""
    return LotSpec(
        lot.pk,
        lot.code,
        lot.crop.slug,
        lot.line.slug if lot.line else None,
        unit(lot.unit),
        lot.balance if left is None else left,
        lot.germination,
        lot.tgw_g,
    )


def _preference(method: Method) -> tuple[bool, bool, int]:
    own = method.organisation_id is not None
    return not method.default, not own, -method.pk if own else method.pk


class Ground(core.Ground):
    """Core's ground, filled from the records of a house. `without`: batches that do not stand on it."""

    def __init__(self, ctx: Ctx, *, without: Sequence[int] = (), window: tuple[date, date] | None = None) -> None:
        self.ctx = ctx
        self.library = Library(ctx)
        working, sowing = ctx.calendars()
        self.places = {place.pk: place for place in ctx.rows(Place).select_related("site")}
        self._without = tuple(without)
        self.stood: dict[str, tuple[Standing, ...]] = {}  # what the batches left out take, by stage
        today = ctx.today
        span = window or (today - timedelta(days=BACK), today + timedelta(days=AHEAD))
        super().__init__(
            today=today,
            working=working,
            sowing=sowing,
            places=[place_spec(place) for place in self.places.values()],
            steps=self._steps(span),
            lots=self._seed_lots,
            records=self._own_records,
            chance=ctx.organisation.chance_wanted,
            days_in_hand=ctx.organisation.safety_days,
            part_trays=ctx.organisation.part_trays,
        )
        order = {pk: (place.order, pk) for pk, place in self.places.items()}
        self.stood = {
            key: tuple(sorted(found, key=lambda one: (one.start, order[one.place])))
            for key, found in self.stood.items()
        }
        self._methods: dict[int, MethodSpec] = {}
        self._by_crop: dict[str, list[Method]] = {}
        self.snapshots: dict[int, dict[str, Any]] = {}

    def _steps(self, span: tuple[date, date]) -> Iterator[tuple[int, date, float]]:
        """What begins and what ends to stand, summed by place and day: thousands of rows are not read to be added up."""
        # An abandoned batch has let its space go, so every row here stands.
        there = Occupancy.objects.filter(place__in=list(self.places), during__overlap=span)
        rows = there.exclude(stage__batch__in=self._without) if self._without else there

        def summed(end: str, sign: int) -> QuerySet[Occupancy, tuple[int, date, float]]:
            by_day = rows.order_by().annotate(day=F(end)).values("place_id", "day")
            return by_day.annotate(total=Sum(F("amount") * sign)).values_list("place_id", "day", "total")

        yield from summed("during__startswith", 1).union(summed("during__endswith", -1), all=True)
        if self._without:
            out = there.filter(stage__batch__in=self._without)
            for place, during, amount, key in out.values_list("place_id", "during", "amount", "stage__key"):
                one = Standing(place, during.lower, during.upper, amount)
                self.stood[key] = (*self.stood.get(key, ()), one)

    @property
    def left_out(self) -> tuple[Standing, ...]:
        """Everything that the batches left out take."""
        return tuple(one for stage in self.stood.values() for one in stage)

    @cached_property
    def _inputs(self) -> Mapping[str, Input]:
        return {row.slug: row for row in self.library.rows(Input)}

    def know_methods(self, methods: Iterable[Method]) -> None:
        """Freeze methods for this plan; their stages should be prefetched."""
        for method in methods:
            if method.pk not in self._methods:
                self.snapshots[method.pk] = take_snapshot(self.library.resolve(method), inputs=self._inputs)
                self._methods[method.pk] = read_snapshot(self.snapshots[method.pk])

    def method(self, pk: int) -> MethodSpec:
        return self._methods[pk]

    def know_crops(self, slugs: Iterable[str]) -> None:
        """Read the methods of crops, all at once; what is known already is not read again."""
        missing = set(slugs) - set(self._by_crop)
        if not missing:
            return
        rows = (
            self.library.rows(Method)
            .filter(crop__slug__in=missing)
            .select_related("crop", "container", "mix", "standard")
            .prefetch_related("stages__container")
            .order_by("id")
        )
        self._by_crop.update({slug: [] for slug in missing})
        for method in sorted(rows, key=_preference):
            self._by_crop[method.crop.slug].append(method)
        self.know_methods(rows)

    def methods_of(self, slug: str) -> list[Method]:
        """Methods that may be used for a crop: the usual ways first, among them the house's own, the newest before the older."""
        self.know_crops([slug])
        return self._by_crop[slug]

    def _seed_lots(self) -> Iterator[LotSpec]:
        """What can be sown with something left, oldest first."""
        spoken = dict(
            BatchInput.objects.filter(lot__organisation=self.ctx.organisation, taken_on=None)
            .exclude(stage__batch__in=self._without)
            .values_list("lot")
            .annotate(total=Sum("quantity"))
        )
        aside = set_aside_of(self.ctx)  # kept to be delivered
        rows = (
            self.ctx.rows(Lot)
            .filter(form="seed", balance__gt=0, status__in=SOWABLE, on_hold="")
            .select_related("crop", "line")
        )
        for lot in rows.order_by("status", "received_on", "id"):  # bought before own
            yield lot_spec(lot, lot.balance - (spoken.get(lot.pk) or Decimal(0)) - aside.get(lot.pk, Decimal(0)))

    def _own_records(self) -> Mapping[tuple[str, str], Record]:
        """Own rates by method and stage key, where enough finished batches were counted.

        Of a sowing it is the cell factor: what was counted over what the lot promised.
        """
        counts: dict[tuple[str, str], list[Counted]] = defaultdict(list)
        sown = MethodStage.objects.filter(
            method=OuterRef("batch__method"),
            method__by_seed=True,
            key=OuterRef("key"),
            traits__contains=[Trait.EMERGES.value],
        )
        rows = (
            BatchStage.objects.filter(
                batch__organisation=self.ctx.organisation,
                batch__state__in=(Batch.State.READY, Batch.State.DELIVERED),
                counted_share__isnull=False,
            )
            .order_by("-batch_id")
            .values_list(
                "batch__method__slug",
                "key",
                "counted_share",
                "counted_of",
                Exists(sown),
                "batch__lot__germination",
                "batch__method__seeds_per_cell",
            )[:NEWEST_COUNTS]
        )
        for slug, key, share, of, by_seed, germination, per_cell in rows:
            sampled = of or UNKNOWN_SAMPLE
            counts[slug, key].append(
                Counted(round(share * sampled), sampled, (germination or None) if by_seed else None, per_cell)
            )
        return Learned(dict(counts))
