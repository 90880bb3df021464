"""A saved batch read back as a request, and as plain state for audit, undo and conflicts."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from functools import cached_property
from typing import Any
from uuid import UUID

from django.db.models import Exists, OuterRef, Q, QuerySet, Sum, TextField
from django.db.models.functions import MD5, Cast

from aldrip.accounts.context import Ctx, Ref, one_of
from aldrip.accounts.journal import acting
from aldrip.base.errors import NotThere
from aldrip.batches.ground import lot_spec
from aldrip.batches.models import Allocation, Batch, BatchInput, BatchStage, Occupancy
from aldrip.diary.models import Count
from aldrip.lots.models import Lot
from aldrip.methods.snapshot import container_spec, crop_spec, first_container, read_snapshot, upgraded
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip_core.batch_plan import Happened, Request, Stand, TypedRate
from aldrip_core.distributions import Spread
from aldrip_core.ground import LotSpec, Standing
from aldrip_core.quantities import Rate
from aldrip_core.schedule import StageDates
from aldrip_core.stages import MethodSpec
from aldrip_core.units import Unit, from_base, to_base, unit
from aldrip_core.working import Origin


@dataclass(frozen=True)
class Saved:
    """A batch with its stages by key, its method as it was frozen, and what stands where."""

    batch: Batch
    stages: dict[str, BatchStage]
    method: MethodSpec

    @property
    def first(self) -> BatchStage:
        """The stage with which it begins."""
        return self.stages[self.method.root.key]

    @property
    def last(self) -> BatchStage:
        """The stage whose end is the day on which it is ready."""
        return self.stages[self.method.last.key]

    @property
    def begun(self) -> list[BatchStage]:
        """Stages that have begun, in order of work."""
        return [stage for stage in self.stages.values() if stage.actual_start is not None]

    @property
    def to_come(self) -> list[BatchStage]:
        """Stages that have not begun, in order of work."""
        return [stage for stage in self.stages.values() if stage.actual_start is None]

    @property
    def now(self) -> BatchStage:
        """Where it stands: the newest stage that has begun, or the first."""
        begun = self.begun
        return begun[-1] if begun else self.first

    @property
    def next(self) -> BatchStage | None:
        """The next stage of the main way; None when all of it has begun."""
        return next((self.stages[s.key] for s in self.method.spine if self.stages[s.key].actual_start is None), None)

    @cached_property
    def windows(self) -> list[Any]:
        """The days of every promise that is still to be kept."""
        return list(self.batch.allocations.filter(order_line__state="open").values_list("order_line__due", flat=True))

    def with_trait(self, trait: Any) -> BatchStage | None:
        """The first stage that does something; None where none does."""
        found = self.method.first_with(trait)
        return self.stages[found.key] if found else None


def snapshot_of(batch: Batch) -> dict[str, Any]:
    """What a batch was planned with, in the shape of today."""
    known = KNOWN.get(getattr(batch, "mark", ""))
    if known is not None:
        return known.snapshot
    if batch.method_snapshot.get("version", 1) != 1:
        return dict(batch.method_snapshot)
    return upgraded(batch.method_snapshot, crop=batch.crop, container=batch.container, mix=batch.mix)


def method_of(batch: Batch) -> MethodSpec:
    """The method of a batch, as it was frozen."""
    known = KNOWN.get(getattr(batch, "mark", ""))
    return known.method if known is not None else read_snapshot(snapshot_of(batch))


@dataclass(frozen=True)
class _Frozen:
    snapshot: dict[str, Any]
    method: MethodSpec


#: Frozen methods by the mark of their text: they never change, and many batches of many requests share a few of them.
KNOWN: dict[str, _Frozen] = {}
MOST_KNOWN = 2000


def light(rows: QuerySet[Batch]) -> QuerySet[Any]:
    """Batches with the mark of their frozen method instead of the whole of it; call `know` before they are read."""
    return marked(rows.defer("method_snapshot"))


def marked(rows: QuerySet[Batch]) -> QuerySet[Any]:
    """Batches with the mark of their frozen method."""
    return rows.annotate(mark=MD5(Cast("method_snapshot", TextField())))


def know(batches: Iterable[Any]) -> None:
    """Read the frozen methods of light batches, each once."""
    unknown = {batch.mark: batch.pk for batch in batches if batch.mark not in KNOWN}
    if not unknown:
        return
    if len(KNOWN) + len(unknown) > MOST_KNOWN:
        KNOWN.clear()
        unknown = {batch.mark: batch.pk for batch in batches}
    rows = dict(Batch.objects.filter(pk__in=unknown.values()).values_list("pk", "method_snapshot"))
    for mark, pk in unknown.items():
        if rows[pk].get("version", 1) != 1:  # an older one needs rows beside it to be read
            KNOWN[mark] = _Frozen(rows[pk], read_snapshot(rows[pk]))


def saved_of(batch: Batch, stages: Sequence[BatchStage]) -> Saved:
    """A batch and its stages (in order) put together."""
    return Saved(batch, {stage.key: stage for stage in stages}, method_of(batch))


@dataclass(frozen=True)
class InHand:
    """Batches that the act that runs has just planned, and the lines that they are for, as they stand in the database."""

    batches: Sequence[Saved] = ()
    lines: Sequence[OrderLine] = ()


def keep_in_hand(made: Sequence[Saved], lines: Sequence[OrderLine]) -> None:
    """Who follows the act that runs need not read again what it has just planned and leaves as it is."""
    now = acting()
    if now is not None:
        now.in_hand["planned"] = InHand(made, lines)


def in_hand() -> InHand:
    """What the act that runs has just planned, as far as a forecast asks of it."""
    now = acting()
    return now.in_hand.get("planned", InHand()) if now is not None else InHand()


#: What a plan is made of, and what is shown beside it.
PLANNED_WITH = ("crop", "line", "lot")
SHOWN_WITH = (*PLANNED_WITH, "method", "container", "mix", "lot__crop", "lot__line")


def load_batch(ctx: Ctx, ref: Ref, *, lock: bool = False, light: bool = False) -> Saved:
    """A batch of the organisation with its stages; `light` leaves out what a plan does not need. Raises NotThere."""
    rows = ctx.rows(Batch).select_related(*(PLANNED_WITH if light else SHOWN_WITH))
    if lock:
        rows = rows.select_for_update(of=("self",))
    batch = one_of(rows, ref)
    if batch is None:
        raise NotThere("There is no such batch here.")
    batch.organisation = ctx.organisation  # no need to ask for it again
    own = batch.stages.order_by("order")
    stages = list(own if light else own.select_related("place"))
    if not stages:
        raise NotThere("There is no such batch here.")
    if batch.lot is not None and light:
        _same_rows(batch, batch.lot)
    return saved_of(batch, stages)


def dates_of(saved: Saved) -> dict[str, StageDates]:
    """A stage ends where the one that follows it starts; one that nothing follows knows its own end."""
    starts = {key: stage.actual_start or stage.planned.lower for key, stage in saved.stages.items()}
    following: dict[str, str] = {}
    for spec in saved.method.stages:
        if spec.follows is not None:
            following.setdefault(spec.follows, spec.key)
    return {
        key: StageDates(
            starts[key], starts[following[key]] if key in following else stage.actual_end or stage.planned.upper
        )
        for key, stage in saved.stages.items()
    }


def standing_of(saved: Saved) -> dict[str, tuple[Standing, ...]]:
    """What of each stage stands where."""
    found: dict[str, tuple[Standing, ...]] = {key: () for key in saved.stages}
    rows = Occupancy.objects.filter(stage__batch=saved.batch).order_by("during", "place__order", "id")
    for key, place, during, amount in rows.values_list("stage__key", "place_id", "during", "amount"):
        found[key] = (*found[key], Standing(place, during.lower, during.upper, amount))
    return found


def _same_rows(batch: Batch, lot: Lot) -> None:
    """A lot is mostly of the crop and cultivar of its batch: they are not asked for twice."""
    if lot.crop_id == batch.crop_id:
        lot.crop = batch.crop
    if lot.line_id == batch.line_id:
        lot.line = batch.line


def _lots_of(saved: Saved) -> tuple[tuple[LotSpec, float], ...]:
    """What it is started from: what was taken, else what is planned to be, else the lot that was chosen."""
    inputs = BatchInput.objects.filter(stage=saved.first, lot__isnull=False).order_by("id")
    joins = saved.method.root.joins
    if joins is not None:  # the rootstock is not what the batch is named for
        inputs = inputs.exclude(part=joins.value)
    taken = list(inputs.values_list("lot", "quantity"))
    chosen = saved.batch.lot
    lots = {} if chosen is None else {chosen.pk: chosen}
    others = {pk for pk, _ in taken} - set(lots)
    if others:
        lots |= Lot.objects.select_related("crop", "line").in_bulk(others)
    if not taken and chosen is not None:
        return ((lot_spec(chosen), 1.0),)
    return tuple((lot_spec(lots[pk]), float(quantity)) for pk, quantity in taken)


def unit_of(method: MethodSpec, form: str) -> Unit:
    """The unit in which a form of a method is counted or weighed."""
    leaves = method.products.get(form)
    return leaves[0].unit if leaves else method.unit


def needs_of(saved: Saved) -> dict[str, float]:
    """What is needed of each product, in its unit: as planned of the main one, as promised of the others."""
    method = saved.method
    needs = {method.form: float(from_base(saved.batch.needed, method.unit))}
    if len(method.products) > 1:
        rows = Allocation.objects.filter(batch=saved.batch, order_line__state="open").exclude(
            order_line__form=method.form
        )
        for form, quantity in rows.values_list("order_line__form", "quantity"):
            needs[form] = needs.get(form, 0.0) + float(from_base(quantity, unit_of(method, form)))
    return needs


def rate_of(stage: BatchStage) -> Rate:
    """The planned rate of a stage."""
    spread = Spread(stage.alpha, stage.beta)
    whole = unit(stage.unit).is_pieces
    return Rate(stage.name, spread, Origin(stage.origin), stage.source, stage.multiply, stage.multiply_sd, whole)


def happened_of(saved: Saved, standing: Mapping[str, tuple[Standing, ...]]) -> dict[str, Happened]:
    """What has happened of each stage that has begun."""
    return {
        stage.key: Happened(stage.actual_start, stage.actual_end, standing.get(stage.key, ()))
        for stage in saved.begun
        if stage.actual_start is not None
    }


def request_of(saved: Saved, standing: Mapping[str, tuple[Standing, ...]] | None = None) -> Request:
    """The request that gives this batch as it stands. `standing`: what a ground without it says that it takes."""
    batch, method = saved.batch, saved.method
    snapshot = snapshot_of(batch)
    if standing is None:
        standing = standing_of(saved)
    kept, typed = {}, {}
    for key, stage in saved.stages.items():
        rate = rate_of(stage)
        if rate.origin is Origin.ENTERED:
            typed[key] = TypedRate(rate.spread.mean, rate.spread.sd, rate.source)
        else:
            kept[key] = rate
    begun = batch.state != Batch.State.PLANNED
    return Request(
        crop=crop_spec(snapshot["crop"]),
        method=method,
        needs=needs_of(saved),
        chance=batch.chance_wanted,
        line=batch.line.slug if batch.line else None,
        container=first_container(snapshot),
        lots=_lots_of(saved),
        dates=dates_of(saved),
        start=batch.start if batch.start_typed or begun else None,
        rates=typed,
        kept_rates=kept,
        places={
            key: stands for key, stage in saved.stages.items() if (stands := _stands(stage, standing.get(key, ())))
        },
        happened=happened_of(saved, standing),
        leaves=leaves_of(saved),
        seen=seen_of(saved) if begun else {},
        multiplies={s.key: s.multiply for s in saved.stages.values() if s.multiply != method.by_key[s.key].factor.mean},
        lost=losses_of(batch.organisation_id, [batch], since_count=True).get(batch.pk, 0) if begun else 0,
    )


def seen_of(saved: Saved) -> dict[str, float]:
    """The share that was counted of what entered each stage [0-1]."""
    return {key: stage.counted_share for key, stage in saved.stages.items() if stage.counted_share is not None}


def losses_of(organisation: int, batches: Iterable[Batch], *, since_count: bool = False) -> dict[int, int]:
    """Plants counted as lost, by batch; a replaced count no longer counts.

    since_count: only what was lost after the newest count of what came up. What was lost before it was not there to be
    counted, so it is in the count already.
    """
    ids = {batch.uuid: batch.pk for batch in batches}
    rows = Count.objects.filter(organisation=organisation, subject__in=list(ids), kind="loss", replaced_by=None)
    if since_count:
        seen = Count.objects.filter(subject=OuterRef("subject"), kind="emergence", replaced_by=None)
        # Of one day what was entered later came later.
        after = seen.filter(
            Q(happened_at__gt=OuterRef("happened_at")) | Q(happened_at=OuterRef("happened_at"), pk__gt=OuterRef("pk"))
        )
        rows = rows.filter(~Exists(after))
    totals = rows.values_list("subject").annotate(total=Sum("found"))
    return {ids[subject]: total for subject, total in totals}


def leaves_of(saved: Saved) -> tuple[date, date] | None:
    """The first and the last day on which something of a batch is still to be handed over; None where nothing is promised."""
    starts = [due.lower for due in saved.windows]
    return (min(starts), max(starts)) if starts else None


def _stands(stage: BatchStage, standing: Sequence[Standing]) -> tuple[Stand, ...]:
    """The places of a stage with the share of it in each."""
    whole = sum(one.amount for one in standing)
    if whole and len({one.place for one in standing}) > 1 and len({(one.start, one.end) for one in standing}) == 1:
        return tuple(Stand(one.place, one.amount / whole) for one in standing)
    return (Stand(stage.place_id),) if stage.place_id else ()


def state_of(saved: Saved) -> dict[str, Any]:
    """What an edit can change, as plain data that means something outside this database too."""
    batch = saved.batch
    standing = standing_of(saved)
    places = dict(Place.objects.filter(organisation=batch.organisation).values_list("pk", "uuid"))
    return {
        "version": batch.version,
        "needed": str(batch.needed),
        "start": batch.start,
        "start_typed": batch.start_typed,
        "chance": batch.chance_wanted,
        "container": _container_of(snapshot_of(batch)),
        "lots": [
            [str(uuid), str(q)]
            for uuid, q in BatchInput.objects.filter(stage=saved.first, lot__isnull=False)
            .order_by("id")
            .values_list("lot__uuid", "quantity")
        ],
        "lot": str(batch.lot.uuid) if batch.lot else None,
        "rates": {key: [s.alpha, s.beta, s.origin, s.source] for key, s in saved.stages.items()},
        "places": {
            key: [[str(places[stand.place]), stand.share] for stand in _stands(stage, standing[key])]
            for key, stage in saved.stages.items()
        },
        "dates": {key: [d.start.isoformat(), d.end.isoformat()] for key, d in dates_of(saved).items()},
    }


def request_from_state(ctx: Ctx, saved: Saved, state: Mapping[str, Any]) -> Request:
    """The request that brings back a state kept in the audit; what has happened since stays."""
    request = request_of(saved)
    kept, typed = {}, {}
    for key, stage in saved.stages.items():
        alpha, beta, origin, source = state["rates"][key]
        rate = replace(rate_of(stage), spread=Spread(alpha, beta), origin=Origin(origin), source=source)
        if rate.origin is Origin.ENTERED:
            typed[key] = TypedRate(rate.spread.mean, rate.spread.sd, source)
        else:
            kept[key] = rate
    places = dict(ctx.rows(Place).values_list("uuid", "pk"))
    by_uuid = {lot.uuid: lot for lot in ctx.rows(Lot).filter(uuid__in=_lots_in(state)).select_related("crop", "line")}
    lots = [(by_uuid[UUID(one)], float(Decimal(quantity))) for one, quantity in state["lots"] if UUID(one) in by_uuid]
    if not lots and state["lot"] and UUID(state["lot"]) in by_uuid:
        lots = [(by_uuid[UUID(state["lot"])], 1.0)]
    needs = {**request.needs, saved.method.form: float(from_base(Decimal(state["needed"]), saved.method.unit))}
    return replace(
        request,
        needs=needs,
        chance=state["chance"],
        start=state["start"] if state["start_typed"] else None,
        container=container_spec(state["container"]) if state["container"] else None,
        lots=tuple((lot_spec(lot), share) for lot, share in lots),
        rates=typed,
        kept_rates=kept,
        places={
            key: tuple(Stand(places[UUID(one)], share) for one, share in stands if UUID(one) in places)
            for key, stands in state["places"].items()
            if stands
        },
        dates={key: StageDates(date.fromisoformat(a), date.fromisoformat(b)) for key, (a, b) in state["dates"].items()},
    )


def _container_of(snapshot: Mapping[str, Any]) -> dict[str, Any] | None:
    """The values of what a batch begins in, as it was planned."""
    found: dict[str, Any] | None = snapshot["containers"].get(snapshot["container"])
    return found


def _lots_in(state: Mapping[str, Any]) -> list[str]:
    return [one for one, _ in state["lots"]] + ([state["lot"]] if state["lot"] else [])


def main_needed(method: MethodSpec, needed: float) -> Decimal:
    """A quantity of the main product as it is kept: exact, in its base unit."""
    return to_base(needed, method.unit)
