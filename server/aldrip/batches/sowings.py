"""A batch is sown, stuck or planted: what it is started from leaves the stock, and the stages run."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.batches.ground import Ground
from aldrip.batches.medium import fill_from
from aldrip.batches.models import Batch, BatchInput, BatchStage, Yield
from aldrip.batches.saved import Saved, load_batch, request_of, snapshot_of
from aldrip.batches.steps import began, not_in_future, plants_only, same_version, still_open
from aldrip.lots.models import Lot
from aldrip.lots.taking import Wanted, balance_words, take_from_stock
from aldrip.methods.models import Crop
from aldrip_core.batch_plan import plan_batch
from aldrip_core.plausible import how_far
from aldrip_core.stages import Part, Trait
from aldrip_core.units import Quantity, Unit, unit
from aldrip_core.whole import ceil_whole

SEED, MOTHERS = Part.SEED.value, "mother plant"


@dataclass(frozen=True)
class Taken:
    """So much of a lot that was sown, in the unit that was said; without an amount what was planned."""

    lot_id: int
    quantity: Quantity | None = None
    part: str = ""  # which of the two it is where two are joined; empty for what the method takes first


@act
def sown(
    ctx: Ctx,
    batch_id: Ref,
    *,
    on: date,
    trays: int | None = None,
    start: int | None = None,
    grams: float | None = None,
    lot_id: int | None = None,
    lots: Sequence[Taken] = (),
    version: int | None = None,
    note: str = "",
    medium_id: Ref | None = None,
    medium_litres: float | None = None,
) -> Batch:
    """A batch was sown, stuck or planted: the stock moves, the stages run, the forecast follows."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    still_open(batch)
    same_version(batch, version)
    not_in_future(ctx, on)
    if batch.state != Batch.State.PLANNED:
        raise refuse("state", "sown", f"Batch {batch.code} was sown on {saved.first.actual_start}.")
    plants_only(batch)
    cells = cells_of(batch)
    if trays is not None:
        start = trays * (cells or 1)
    start = batch.start if start is None else start
    if start <= 0:
        raise refuse("trays", "missing", "How many trays were sown? At least one.")
    planned = (batch.start, batch.seed_g)
    taken = list(lots) or ([Taken(lot_id, Quantity.of(grams, Unit.GRAM) if grams else None)] if lot_id else [])
    take_inputs(ctx, saved, on=on, start=start, taken=taken, grams=grams)
    _doubt_sowing(ctx, batch, start, cells, grams, planned)
    batch.trays = ceil_whole(start / cells) if cells else None
    if saved.method.by_seed:
        batch.seeds = float(start * saved.method.seeds_per_cell)
    if note:
        batch.note = note[:300]
    if medium_id is not None:
        fill_from(ctx, batch, medium_id, medium_litres, on=on)
    began(ctx, saved, start=start, on=on)
    what = f"{batch.trays} trays" if batch.trays else f"{start:,}"
    ctx.record(
        "batch.sown",
        f"Sown {batch.code}: {what} on {on.day} {on:%b}.",
        batch,
        after={"start": start, "grams": batch.seed_g},
    )
    return batch


def _doubt_sowing(
    ctx: Ctx, batch: Batch, start: int, cells: int | None, grams: float | None, planned: tuple[int, float | None]
) -> None:
    """Far more or less than was planned, or seed of another weight than it has, is asked about."""
    of_start, of_grams = planned
    far = how_far(start, of_start)
    what, of = (ceil_whole(start / cells), ceil_whole(of_start / cells)) if cells else (start, of_start)
    name = "trays" if cells else snapshot_of(batch)["start_unit"]
    ctx.doubt("sown", "trays", far and f"{what:,} {name} is {far} what the plan says, {of:,}. Is it so?")
    if grams and of_grams and of_start:
        expected = of_grams * start / of_start
        far = how_far(grams, expected)
        ctx.doubt(
            "grams", "grams", far and f"{grams:g} g is {far} what so many seeds weigh, {expected:.3g} g. Is it so?"
        )


def cells_of(batch: Batch) -> int | None:
    """Cells of the container in which a batch was planned."""
    snapshot = snapshot_of(batch)
    values = snapshot["containers"].get(snapshot["container"])
    return int(values["cells"]) if values else None


def take_inputs(ctx: Ctx, saved: Saved, *, on: date, start: int, taken: Sequence[Taken], grams: float | None) -> None:
    """What was started from leaves the stock: of the lots that were named, else of those that were planned."""
    batch, root = saved.batch, saved.method.root
    planned = list(BatchInput.objects.filter(stage=saved.first, taken_on=None).select_related("lot"))
    upstream = [one for one in planned if one.upstream_id is not None]
    if not taken:
        taken = _planned_lots(saved, planned, upstream, grams)
    if not taken and saved.method.by_seed:
        raise refuse("lot_id", "missing", "From which lot was it sown? Receive the lot first if it is not in stock.")
    first_part = root.takes.value if root.takes else Part.SEED.value
    parts = [one.part or first_part for one in taken]
    both_are_there(saved, taken)
    weighed = 0.0
    made: list[tuple[Lot, Quantity]] = []
    amounts: dict[str, Decimal] = defaultdict(Decimal)
    for index, (one, part) in enumerate(zip(taken, parts, strict=True)):
        field = "lot_id" if len(taken) == 1 else f"lots.{index}.lot_id"
        lot = ctx.get(Lot, one.lot_id)
        quantity = one.quantity or _usual(saved, lot, start, grams, parts.count(part))
        wanted = wanted_of(saved, lot, part)
        movement = take_from_stock(
            ctx, lot, quantity, "sown", on=on, wanted=wanted, subject=batch, subject_code=batch.code, field=field
        )
        amounts[part] -= movement.quantity
        BatchInput.objects.create(stage=saved.first, lot=lot, quantity=-movement.quantity, part=part, taken_on=on)
        if part == first_part:
            made.append((lot, quantity))
        weighed += grams_of(lot, float(-movement.quantity))
    enough_of_both(saved, amounts, start)
    _enough(saved, [lot for lot, _ in made], amounts[first_part], start)
    BatchInput.objects.filter(pk__in=[one.pk for one in planned]).delete()
    if made:
        first = made[0][0]
        changed = [lot.pk for lot, _ in made] != ([batch.lot_id] if batch.lot_id else [])
        batch.lot = Lot.objects.select_related("crop", "line").get(pk=first.pk)
        if saved.method.by_seed:
            batch.seed_g = weighed or batch.seed_g
        if changed:
            reckon_emergence(ctx, saved)


def joined(saved: Saved) -> tuple[str, str] | None:
    """The two parts that are joined where a batch begins, the one that gives it its name first; None where nothing is."""
    root = saved.method.root
    return (root.takes.value, root.joins.value) if root.takes and root.joins else None


def wanted_of(saved: Saved, lot: Lot, part: str) -> Wanted:
    """What a lot must be to be used as a part of a batch: of its crop and cultivar, or of the crop that it is joined with."""
    batch, root, both = saved.batch, saved.method.root, joined(saved)
    if both is None:
        form = lot.form if lot.form != SEED else part
        return Wanted(batch.crop, batch.line, SEED if saved.method.by_seed else form)
    form = lot.form if lot.form not in (SEED, MOTHERS) else part
    if part == both[0] or not root.joins_crop:
        return Wanted(batch.crop, batch.line if part == both[0] else None, form, for_what="grafted")
    if lot.crop.slug == root.joins_crop:
        return Wanted(lot.crop, None, form, for_what="grafted")
    other = Crop(slug=root.joins_crop, name=root.joins_crop.replace("-", " "))
    return Wanted(other, None, form, for_what="grafted")


def both_are_there(saved: Saved, taken: Sequence[Taken]) -> None:
    """Refuse a graft of which one part is not said, one lot that is to be both, and a part that nothing is made of."""
    both = joined(saved)
    if both is None:
        for index, one in enumerate(taken):
            if one.part not in ("", saved.method.root.takes):
                told = f"“{saved.method.root.name}” takes no {one.part}."
                raise refuse(f"lots.{index}.part", "not_a_choice", told)
        return
    lots: dict[int, str] = {}
    for index, one in enumerate(taken):
        part = one.part or both[0]
        if part not in both:
            told = f"A {both[0]} and a {both[1]} are joined here; “{part}” is neither."
            raise refuse(f"lots.{index}.part", "not_a_choice", told)
        if lots.setdefault(one.lot_id, part) != part:
            told = f"One lot cannot be both: choose another for the {part}s."
            raise refuse(f"lots.{index}.lot_id", "same_lot", told)
    for part in both:
        if part not in lots.values():
            told = f"From which lot are the {part}s? Receive it first if it is not in stock."
            raise refuse(part, "missing", told)


def enough_of_both(saved: Saved, amounts: Mapping[str, Decimal], start: int) -> None:
    """Refuse more grafts than there were of one part; what was spoilt at the cut may make them fewer, never more."""
    for part in joined(saved) or ():
        short = start - amounts[part]
        if short > 0:
            told = f"{start:,} grafts take {start:,} {part}s; {amounts[part]:,.0f} were used, {short:,.0f} too few."
            raise refuse(part, "not_enough", told)


def _enough(saved: Saved, lots: Sequence[Lot], used: Decimal, start: int) -> None:
    """Refuse more that were stuck or set than left the stock for it, where both are counted alike."""
    of = saved.method.start_unit
    if saved.method.by_seed or joined(saved) or not lots or any(unit(lot.unit) is not of for lot in lots):
        return
    if used < start:
        told = (
            f"{start:,} {of.words} are begun and {used:,.0f} taken from stock, {start - used:,.0f} too few. "
            f"Add the lot that the others are of, or begin fewer."
        )
        raise refuse("start", "not_enough", told)


def grams_of(lot: Lot, amount: float) -> float:
    """Grams of seed in an amount of a lot; counted seed by its thousand-grain weight, 0 where that is not known."""
    if unit(lot.unit).is_mass:
        return amount
    tgw = lot.tgw_g or lot.crop.tgw_g
    return amount * tgw / 1000 if unit(lot.unit) is Unit.SEED and tgw else 0.0


def _planned_lots(
    saved: Saved, planned: Sequence[BatchInput], upstream: Sequence[BatchInput], grams: float | None
) -> list[Taken]:
    """The lots that a plan named; what another batch was to give is taken from the lots it gave."""
    batch = saved.batch
    found = []
    for one in planned:
        if one.lot is not None:
            only = grams is not None and sum(p.lot_id is not None for p in planned) == 1
            found.append(Taken(one.lot.pk, Quantity.of(grams or 0, Unit.GRAM) if only else None, _part(saved, one)))
    if not found and not upstream and batch.lot_id and saved.method.by_seed:
        found.append(Taken(batch.lot_id, Quantity.of(grams, Unit.GRAM) if grams else None))
    for one in upstream:
        left = one.quantity
        rows = Yield.objects.filter(stage=one.upstream, lot__balance__gt=0).select_related("lot").order_by("id")
        for given in rows:
            part = min(left, given.lot.balance)
            if part > 0:
                found.append(Taken(given.lot.pk, Quantity(part, unit(given.lot.unit).base), _part(saved, one)))
                left -= part
        if left > 0 and one.upstream is not None:
            raise refuse(
                "lot_id",
                "not_given",
                f"Batch {one.upstream.batch.code} has given {one.quantity - left:,.0f} of the {one.quantity:,.0f} wanted, "
                f"{left:,.0f} are missing. Grade it first, or start with less.",
            )
    return found


def _part(saved: Saved, one: BatchInput) -> str:
    """Which of two joined parts a planned input is; nothing where only one goes in."""
    return one.part if joined(saved) is not None and one.part in (joined(saved) or ()) else ""


def _usual(saved: Saved, lot: Lot, start: int, grams: float | None, parts: int) -> Quantity:
    """What is taken of a lot when nobody said: what the plan says of it, a share where there are several."""
    batch = saved.batch
    if not saved.method.by_seed:
        return Quantity.of(start / parts, unit(lot.unit))
    if grams is not None:
        return Quantity.of(grams / parts, Unit.GRAM)
    planned = BatchInput.objects.filter(stage=saved.first, lot=lot, taken_on=None).first()
    if planned is not None:
        return Quantity(planned.quantity, unit(lot.unit).base)
    if unit(lot.unit) is Unit.SEED and batch.seeds:
        return Quantity.of(round(batch.seeds / parts), Unit.SEED)
    if batch.seed_g is None or batch.seed_g <= 0:
        raise refuse("grams", "missing", f"How many grams were sown? Lot {lot.code} holds {balance_words(lot)}.")
    return Quantity.of(batch.seed_g / parts, Unit.GRAM)


def reckon_emergence(ctx: Ctx, saved: Saved) -> None:
    """Sown from another lot than was planned: what comes up is reckoned from the one that was sown."""
    if not saved.method.by_seed:
        return
    ground = Ground(ctx, without=[saved.batch.pk])
    request = request_of(saved, ground.stood)
    emerging = {spec.key for spec in saved.method.with_trait(Trait.EMERGES)}
    kept = {key: rate for key, rate in request.kept_rates.items() if key not in emerging}
    plan = plan_batch(replace(request, kept_rates=kept, start=saved.batch.start), ground, working=False)
    for key in emerging - set(request.rates):
        rate, row = plan.stage(key).rate, saved.stages[key]
        row.alpha, row.beta, row.origin, row.source = (
            rate.spread.alpha,
            rate.spread.beta,
            rate.origin.value,
            rate.source[:200],
        )
    BatchStage.objects.bulk_update(saved.stages.values(), ["alpha", "beta", "origin", "source"])
