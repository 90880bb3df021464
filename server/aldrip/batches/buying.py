"""What planned batches still want: seed and stock to buy, and what came in given to the batches that wait for it."""

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from django.db.models import Exists, F, OuterRef, QuerySet, Sum

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.importing import neutral
from aldrip.base.workbook import workbook
from aldrip.batches.editing import Change, keep
from aldrip.batches.models import Batch, BatchInput, BatchStage, SetAside
from aldrip.batches.saved import snapshot_of
from aldrip.lots.models import Lot
from aldrip.lots.taking import READY
from aldrip.methods.models import Crop
from aldrip.methods.resolver import Library
from aldrip.orders.models import OrderLine
from aldrip_core.stages import Part
from aldrip_core.units import Unit, from_base, unit

Key = tuple[str, str, str, str]  # crop, cultivar, what, unit
LEAD_DAYS = 21  # between order and receipt, where nobody says otherwise
MOST_AT_ONCE = 60
#: What a nursery may buy to begin with; a stage of another batch, or ground, it does not.
BOUGHT = (Part.SEED, Part.PLANT, Part.TUBER, Part.DIVISION, Part.CUTTING, Part.SCION, Part.ROOTSTOCK)


@dataclass(frozen=True)
class Use:
    """A planned batch that wants something, and when; or what else does, as `said`."""

    batch: Batch | None
    quantity: float
    on: date
    said: str = ""

    @property
    def code(self) -> str:
        """What it is for, as it is listed."""
        return self.batch.code if self.batch is not None else self.said


@dataclass(frozen=True)
class Wanted:
    """Something to buy: of a crop and cultivar, what, how much in which unit, for which batches.

    `lot`: the lot that holds less than what is planned of it. `order_by`: the last day to order it.
    """

    crop: str
    cultivar: str
    what: str
    quantity: float
    unit: str
    uses: tuple[Use, ...]
    order_by: date
    late: bool
    lot: str = ""


#: Rooms above say here what else is to be bought, as it is ordered so many days ahead.
also: list[Callable[[Ctx, int], Iterable[Wanted]]] = []


#: Rooms above say here how much of what planned batches begin with the house grows itself; by batch.
own: list[Callable[[Ctx], Mapping[int, float]]] = []


def _still_come(inputs: "QuerySet[BatchInput]") -> "QuerySet[BatchInput]":
    """Planned inputs without those of a batch that was given up: of it nothing comes."""
    return inputs.exclude(upstream__isnull=False, upstream__batch__state=Batch.State.ABANDONED)


def _planned(ctx: Ctx) -> "QuerySet[Any]":
    """Batches that are not begun and start from something that is bought or taken from stock."""
    held = _still_come(BatchInput.objects.filter(stage__batch=OuterRef("pk"), taken_on=None))
    rows = ctx.rows(Batch).filter(state=Batch.State.PLANNED).annotate(served=Exists(held), first=_first_day())
    rows = rows.defer("method_snapshot")  # heavy, and read only where it must be
    return rows.select_related("crop", "line", "lot").order_by("first", "id")


@dataclass(frozen=True)
class Begins:
    """What a batch begins with, how that is counted, and what it is joined with, of which crop where that is another."""

    takes: str
    unit: str
    joins: str = ""
    joins_crop: str = ""


def _beginnings(batches: Sequence[Any]) -> dict[int, Begins]:
    """What batches begin with. Seed is known by its number; of the rest the snapshot says it."""
    others = [batch.pk for batch in batches if batch.seeds is None]
    found = {batch.pk: Begins(Part.SEED.value, Unit.SEED.words) for batch in batches if batch.seeds is not None}
    for batch in Batch.objects.filter(pk__in=others).select_related("crop", "container", "mix"):
        snapshot = snapshot_of(batch)
        root: dict[str, Any] = next((stage for stage in snapshot["stages"] if not stage["after"]), {})
        counted = root.get("joins") and f"{root['takes']}s"
        found[batch.pk] = Begins(
            root.get("takes", ""),
            counted or snapshot["start_unit"],
            root.get("joins", ""),
            root.get("joins_crop", ""),
        )
    return found


def _first_day() -> Any:
    first = BatchStage.objects.filter(batch=OuterRef("pk")).order_by("order")
    return first.values(day=F("planned__startswith"))[:1]


def to_buy(ctx: Ctx, lead_days: int = LEAD_DAYS) -> list[Wanted]:
    """Everything that planned batches want and stock does not hold, the first to be ordered on top."""
    found: dict[Key, list[Use]] = {}
    names: dict[Key, tuple[str, str]] = {}
    batches = [batch for batch in _planned(ctx) if not batch.served or batch.seeds is None]
    begins = _beginnings(batches)
    batches = [batch for batch in batches if not batch.served or begins[batch.pk].joins]
    grown = {pk: many for asked in own for pk, many in asked(ctx).items()}
    served = _served_parts([batch for batch in batches if batch.served])
    others = _crop_names(ctx, begins.values())
    for batch in batches:
        begun = begins[batch.pk]
        want = _want(batch, begun)
        if want is not None and begun.takes not in served.get(batch.pk, ()):
            what, quantity, of = want
            quantity -= grown.get(batch.pk, 0.0)
            if quantity > 0:
                key = (batch.crop.slug, batch.line.slug if batch.line else "", what, of)
                names[key] = (batch.crop.name, batch.line.name if batch.line else "")
                found.setdefault(key, []).append(Use(batch, quantity, batch.first))
        if begun.joins and begun.joins not in served.get(batch.pk, ()):
            what = f"{begun.joins}s"
            key = (begun.joins_crop or batch.crop.slug, "", what, what)
            names[key] = (others.get(begun.joins_crop, batch.crop.name), "")
            found.setdefault(key, []).append(Use(batch, float(batch.start), batch.first))
    stock = _stock(ctx)
    left = {key: _after_stock(stock, key, uses) for key, uses in found.items()}
    wanted = [_wanted(ctx, *names[key], key[2], key[3], uses, lead_days) for key, uses in left.items() if uses]
    wanted += [one for asked in also for one in asked(ctx, lead_days)]
    return sorted([*wanted, *_short_lots(ctx, lead_days)], key=lambda one: (one.order_by, one.crop, one.cultivar))


def _served_parts(batches: Sequence[Any]) -> dict[int, set[str]]:
    """Which parts of a graft are seen to already, by batch."""
    found: dict[int, set[str]] = {}
    rows = _still_come(BatchInput.objects.filter(stage__batch__in=[batch.pk for batch in batches], taken_on=None))
    for pk, part in rows.values_list("stage__batch", "part"):
        found.setdefault(pk, set()).add(part)
    return found


def _crop_names(ctx: Ctx, begins: Iterable[Begins]) -> dict[str, str]:
    """The names of the crops that others are grafted on."""
    slugs = {one.joins_crop for one in begins} - {""}
    return dict(Library(ctx).rows(Crop).filter(slug__in=slugs).values_list("slug", "name")) if slugs else {}


def _stock(ctx: Ctx) -> dict[tuple[str, str], dict[str, float]]:
    """What is in stock to begin with that is not seed: by crop and what it is, by cultivar."""
    parts = [str(part.value) for part in BOUGHT if part is not Part.SEED]
    found: dict[tuple[str, str], dict[str, float]] = {}
    rows = ctx.rows(Lot).filter(form__in=parts, status="", balance__gt=0, on_hold="")
    for crop, line, form, balance in rows.values_list("crop__slug", "line__slug", "form", "balance"):
        lines = found.setdefault((crop, f"{form}s"), {})
        lines[line or ""] = lines.get(line or "", 0.0) + float(balance)
    return found


def _after_stock(stock: dict[tuple[str, str], dict[str, float]], key: Key, uses: Sequence[Use]) -> list[Use]:
    """What is still wanted once stock has served the first that come; any cultivar serves where none is asked."""
    lines, still = stock.get((key[0], key[2]), {}), []
    for use in uses:
        wanted = use.quantity
        for line in [key[1]] if key[1] else list(lines):
            part = min(wanted, lines.get(line, 0.0))
            wanted -= part
            if part:
                lines[line] -= part
        if wanted > 0:
            still.append(Use(use.batch, wanted, use.on))
    return still


def _want(batch: Batch, begins: Begins) -> tuple[str, float, str] | None:
    """What a batch begins with, how much of it, and in which unit; None where nothing of it is bought."""
    if begins.takes not in BOUGHT:
        return None
    if begins.takes != Part.SEED:
        return f"{begins.takes}s", float(batch.start), begins.unit
    if batch.seed_g is not None:
        return "seed", batch.seed_g, "g"
    return None if batch.seeds is None else ("seed", batch.seeds, "seeds")


def _wanted(
    ctx: Ctx, crop: str, cultivar: str, what: str, of: str, uses: Sequence[Use], lead_days: int, lot: str = ""
) -> Wanted:
    by = min(use.on for use in uses) - timedelta(days=lead_days)
    return Wanted(
        crop, cultivar, what, sum(use.quantity for use in uses), of, tuple(uses), by, late=by < ctx.today, lot=lot
    )


def _short_lots(ctx: Ctx, lead_days: int) -> Iterator[Wanted]:
    """Lots of which more is planned than they hold: what is missing, for the batches that come last."""
    spoken = ctx.rows(Lot).filter(used_in__taken_on=None).annotate(planned=Sum("used_in__quantity"))
    lots = {lot.pk: lot for lot in spoken.filter(planned__gt=F("balance")).select_related("crop", "line")}
    inputs = BatchInput.objects.filter(lot__in=lots, taken_on=None, stage__batch__state=Batch.State.PLANNED)
    missing = {pk: Decimal(lot.planned) - lot.balance for pk, lot in lots.items()}
    uses: dict[int, list[Use]] = {pk: [] for pk in lots}
    for one in (
        inputs.select_related("stage__batch")
        .defer("stage__batch__method_snapshot")
        .order_by("-stage__planned__startswith", "-id")
    ):
        assert one.lot_id is not None
        short = min(one.quantity, missing[one.lot_id])
        if short > 0:
            missing[one.lot_id] -= short
            shown = float(from_base(short, unit(lots[one.lot_id].unit)))
            uses[one.lot_id].append(Use(one.stage.batch, shown, one.stage.planned.lower))
    for pk, lot in lots.items():
        if uses[pk]:
            cultivar = lot.line.name if lot.line else ""
            yield _wanted(ctx, lot.crop.name, cultivar, lot.form, lot.unit, uses[pk][::-1], lead_days, lot.code)


def spoken_for(ctx: Ctx) -> list[dict[str, Any]]:
    """What planned batches want of each lot and what order lines have set aside of it, as the lot is shown."""
    begun = BatchInput.objects.filter(stage__batch__organisation=ctx.organisation, taken_on=None).exclude(lot=None)
    planned = dict(
        begun.filter(stage__batch__state=Batch.State.PLANNED)
        .values_list("lot")
        .annotate(all=Sum("quantity"))
        .order_by("lot")
    )
    kept = SetAside.objects.filter(lot__organisation=ctx.organisation, order_line__state=OrderLine.State.OPEN)
    aside = dict(kept.values_list("lot").annotate(all=Sum("quantity")).order_by("lot"))
    lots = ctx.rows(Lot).filter(pk__in={*planned, *aside}).order_by("code").values_list("pk", "unit")
    return [
        {
            "lot_id": pk,
            **{
                name: float(from_base(found.get(pk, Decimal(0)), unit(of)))
                for name, found in (("planned", planned), ("aside", aside))
            },
        }
        for pk, of in lots
    ]


HEADINGS = ("order by", "crop", "cultivar", "what", "quantity", "unit", "beside lot", "needed on", "batches")


def _cells(rows: Sequence[Wanted]) -> Iterator[tuple[Any, ...]]:
    for one in rows:
        codes, first = " ".join(use.code for use in one.uses), min(use.on for use in one.uses)
        names = (neutral(one.crop), neutral(one.cultivar), one.what)
        yield (one.order_by, *names, round(one.quantity, 1), one.unit, one.lot, first, codes)


def exported(rows: Sequence[Wanted]) -> str:
    """The list as CSV."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(HEADINGS)
    writer.writerows(_cells(rows))
    return out.getvalue()


def as_workbook(rows: Sequence[Wanted]) -> bytes:
    """The list as a workbook: days are days there, and quantities numbers."""
    return workbook("To buy", [HEADINGS, *_cells(rows)], widths=(12, 18, 18, 10, 10, 10, 12, 12, 40))


@dataclass(frozen=True)
class Waits:
    """A planned batch that a lot could be given to; `holds`: whether the lot has enough of it left by then."""

    batch: Batch
    quantity: float
    unit: str
    on: date
    holds: bool


def waiting_for(ctx: Ctx, lot_id: Ref) -> list[Waits]:
    """Planned batches without seed that a lot could be sown in, the first to be sown on top."""
    lot = ctx.get(Lot, lot_id)
    if lot.form != "seed" or lot.status not in READY or lot.balance <= 0 or lot.on_hold:
        return []
    spoken = BatchInput.objects.filter(lot=lot, taken_on=None).aggregate(all=Sum("quantity"))["all"] or Decimal(0)
    left, found = float(lot.balance - spoken), []
    batches = [b for b in _planned(ctx).filter(crop__slug=lot.crop.slug) if not b.served and _same_line(b, lot)]
    begins = _beginnings(batches)
    for batch in batches:
        want = _want(batch, begins[batch.pk])
        if want is None or want[0] != "seed":
            continue
        grams = unit(lot.unit).is_mass
        quantity = batch.seed_g if grams else batch.seeds
        if quantity is None:
            continue
        left -= quantity
        first = batch.first
        found.append(Waits(batch, quantity, "g" if grams else "seeds", first, holds=left >= 0))
    return found


def _same_line(batch: Batch, lot: Lot) -> bool:
    return batch.line is None or (lot.line is not None and lot.line.slug == batch.line.slug)


@act
def give(ctx: Ctx, lot_id: Ref, batches: Mapping[int, int]) -> list[str]:
    """Let planned batches be sown from a lot: each is planned anew with its germination and weight.

    batches: the version of each by its number, as it was seen. Raises Refused where one does not wait for it any more,
    Conflict where one was changed since. Returns their codes.
    """
    if not batches or len(batches) > MOST_AT_ONCE:
        raise refuse("batches", "out_of_range", f"Give a lot to 1 to {MOST_AT_ONCE} batches at once.")
    lot = ctx.get(Lot, lot_id, lock=True)
    waiting = {one.batch.pk: one.batch for one in waiting_for(ctx, lot.pk)}
    given = []
    for pk, version in batches.items():
        if pk not in waiting:
            raise refuse("batches", "not_waiting", f"A batch among these does not wait for lot {lot.code} any more.")
        keep(ctx, pk, Change(lot_id=lot.pk), version)
        given.append(waiting[pk].code)
    ctx.record("lot.give", f"Gave lot {lot.code} to {', '.join(given)}.", lot, after={"batches": given})
    return given
