"""Orders change: what they ask is fitted to what stands, what is planned follows, and what is missing is raised."""

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from decimal import Decimal

from django.db.models import Sum

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import Refused, refuse
from aldrip.base.quantity import read_quantity
from aldrip.batches.aside import for_line, free_of, kept_for, of_lot, words_of
from aldrip.batches.editing import Change, apply_plan, bars
from aldrip.batches.ending import abandon
from aldrip.batches.forecasting import LIVE, held_for
from aldrip.batches.ground import Ground
from aldrip.batches.models import Allocation, Batch, SetAside
from aldrip.batches.overdue import ready_on
from aldrip.batches.saved import Saved, leaves_of, load_batch, request_of, unit_of
from aldrip.batches.spare import WORTH_IT, Spare, Spares
from aldrip.lots.models import Lot
from aldrip.lots.taking import READY, Wanted, check
from aldrip.methods.services import classes_filling
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import in_grams
from aldrip_core.batch_plan import Request, plan_batch
from aldrip_core.stage_dates import Anchor
from aldrip_core.units import exact, from_base, unit


@dataclass
class Touched:
    """What commands touched: lines to be fitted, batches to follow, and the first days that were promised of them."""

    lines: set[int] = field(default_factory=set)
    first_days: dict[int, date | None] = field(default_factory=dict)  # of each batch before, None for nothing
    spare: dict[int, float] = field(default_factory=dict)  # of each batch before, beyond what was promised
    promised: dict[int, float] = field(default_factory=dict)  # of each batch before
    given: set[tuple[int, str, int]] = field(default_factory=set)  # (line, batch or lot, its number) as a person said
    taken_off: set[tuple[int, str, int]] = field(default_factory=set)

    def note(self, batches: Iterable[Batch]) -> None:
        """Remember how batches stood before anything is changed."""
        for batch in batches:
            if batch.pk not in self.first_days:
                self.first_days[batch.pk] = first_day(batch)
                self.promised[batch.pk] = _promised(batch)
                self.spare[batch.pk] = max(0.0, float(batch.needed) - self.promised[batch.pk])

    def spare_now(self, batch: Batch) -> float:
        """What stays beyond what is promised: new promises are met of it first, fewer of them add nothing to it."""
        more = max(0.0, _promised(batch) - self.promised[batch.pk])
        return max(0.0, self.spare[batch.pk] - more)


def batches_of(line: OrderLine) -> list[Batch]:
    """The batches that run for a line, what stands before what is only planned."""
    rows = Batch.objects.filter(allocations__order_line=line, state__in=LIVE).select_related("crop", "line", "method")
    return sorted(rows, key=lambda one: (one.state == Batch.State.PLANNED, one.pk))


def first_day(batch: Batch) -> date | None:
    """The first day on which something of a batch is to be handed over."""
    windows = batch.allocations.filter(order_line__state=OrderLine.State.OPEN)
    days = [due.lower for due in windows.values_list("order_line__due", flat=True)]
    return min(days) if days else None


def _promised(batch: Batch) -> float:
    """What open lines were promised of a batch, in its base unit."""
    rows = Allocation.objects.filter(batch=batch, order_line__state=OrderLine.State.OPEN)
    total = Decimal(0)
    for row in rows.select_related("order_line__crop", "order_line__line"):
        total += _of_batch(batch, row.order_line, row.quantity)
    return float(total)


def _of_batch(batch: Batch, line: OrderLine, quantity: Decimal) -> Decimal:
    """A quantity of a line in the base unit of a batch."""
    return quantity if unit(line.unit).same_measure(unit(batch.method.unit)) else in_grams(line, quantity)


def fit(ctx: Ctx, lines: Sequence[OrderLine], touched: Touched) -> dict[int, Decimal]:
    """Make what is meant for each line as much as it asks: of what is planned, of what stands, of stock.

    Returns what is still missing, by line, in its base unit.
    """
    spares = Spares(ctx, crops={line.crop.slug for line in lines})
    ground = Ground(ctx)
    missing: dict[int, Decimal] = {}
    for line in lines:
        _drop_what_does_not_fit(ctx, line, touched)
        left = line.quantity - _meant(line)
        if left < 0:
            _less(line, -left, touched)
        elif left > 0:
            without = {(kind, pk) for other, kind, pk in touched.taken_off if other == line.pk}
            left = _more(line, left, spares, touched)
            left -= give(line, spares, left, touched, hold=hold_of(ground, line), without=without)
            here = batches_of(line)
            if left <= 0:
                continue
            if (
                here and left < line.quantity * WORTH_IT
            ):  # a batch for crumbs helps nobody: the chance says what it costs
                _allocate(line, here[0], left)
            else:
                missing[line.pk] = left
    return missing


def hold_of(ground: Ground, line: OrderLine) -> float | None:
    """Days that what a line asks for may wait, by the method that raises it."""
    known = ground.methods_of(line.crop.slug)
    method = next((m for m in known if m.form == line.form), None)
    return ground.method(method.pk).hold_days if method else None


def _meant(line: OrderLine) -> Decimal:
    """What running batches and lots are meant to give a line, with what it had from elsewhere, in its base unit."""
    rows = list(line.allocations.filter(batch__state__in=LIVE).values_list("batch", "quantity"))
    aside = sum((one.wanted for one in kept_for({line.pk: line}).get(line.pk, [])), Decimal(0))
    of_them = min(line.delivered, _delivered_of(line, [batch for batch, _ in rows]))
    return sum((quantity for _, quantity in rows), Decimal(0)) + aside + line.delivered - of_them


def _delivered_of(line: OrderLine, batches: Sequence[int]) -> Decimal:
    """What left of the lots that these batches gave, in the base unit of a line."""
    total = Decimal(0)
    for lot in Lot.objects.filter(from_stages__stage__batch__in=batches).distinct().select_related("crop"):
        left = lot.movements.filter(kind="delivered").aggregate(total=Sum("quantity"))["total"] or Decimal(0)
        total += for_line(line, lot, -left)
    return total


def _drop_what_does_not_fit(ctx: Ctx, line: OrderLine, touched: Touched) -> None:
    """A batch that is too old by the day that is wanted now, or not what is asked now, stands for others."""
    for batch in batches_of(line):
        saved = load_batch(ctx, batch.pk)
        other = batch.crop.slug != line.crop.slug or line.form not in saved.method.products
        other |= line.line is not None and (batch.line is None or batch.line.slug != line.line.slug)
        waits = held_for([line], saved, ready_on(saved, ctx.today)) if batch.state != Batch.State.PLANNED else None
        said = (line.pk, "batch", batch.pk) in touched.given  # whoever gives it by name has seen how old it is
        if other or (waits is not None and waits.too_old and not said):
            touched.note([batch])
            line.allocations.filter(batch=batch).delete()
    filling = classes_filling(ctx)(line.seed_class) if line.seed_class else ()
    for row in line.set_aside.select_related("lot__crop", "lot__line"):
        lot = row.lot
        other = lot.crop.slug != line.crop.slug or lot.form != line.form
        other |= bool(filling) and lot.seed_class not in filling
        other |= line.line is not None and (lot.line is None or lot.line.slug != line.line.slug)
        if other:
            row.delete()


def _less(line: OrderLine, too_many: Decimal, touched: Touched) -> None:
    """Let go of what is meant for a line beyond what it asks: of what is planned first, then of what stands, of stock last."""
    batches = batches_of(line)[::-1]
    touched.note(batches)
    said = touched.given
    rows = [row for batch in batches for row in line.allocations.filter(batch=batch)]
    # What a person gave it by name goes last.
    for row in sorted(rows, key=lambda one: (line.pk, "batch", one.batch_id) in said):
        here = min(too_many, row.quantity)
        if here <= 0:
            continue
        too_many -= here
        if here >= row.quantity:
            row.delete()
        else:
            row.quantity -= here
            row.save(update_fields=["quantity"])
    for kept in line.set_aside.select_related("lot").order_by("-id"):
        here = min(too_many, for_line(line, kept.lot, kept.quantity))
        if here > 0:
            too_many -= here
            _put_back(line, kept, here)


def _put_back(line: OrderLine, row: SetAside, quantity: Decimal) -> None:
    left = row.quantity - of_lot(line, row.lot, quantity)
    if left <= 0:
        row.delete()
    elif left < row.quantity:
        row.quantity = left
        row.save(update_fields=["quantity"])


def _more(line: OrderLine, wanted: Decimal, spares: Spares, touched: Touched) -> Decimal:
    """Ask more of the batches that a line has already: what is planned grows, of what stands only what is spare."""
    batches = batches_of(line)
    touched.note(batches)
    for spare in [one for one in spares.for_line(line) if one.batch in batches]:
        wanted -= _give(line, spare, min(wanted, _back(line, spare, spare.free)), touched)
    planned = next((one for one in batches if one.state == Batch.State.PLANNED), None)
    if planned is not None and wanted > 0:
        _allocate(line, planned, wanted)
        wanted = Decimal(0)
    return wanted


def give(
    line: OrderLine,
    spares: Spares,
    wanted: Decimal,
    touched: Touched,
    hold: float | None = None,
    without: Collection[tuple[str, int]] = (),
) -> Decimal:
    """Give a line of what stands and is promised to nobody; returns how much, in its base unit."""
    given = Decimal(0)
    if wanted > 0:
        for gift in spares.take(line, wanted, hold, without):
            given += _write(line, gift.spare, gift.quantity, touched)
    return given


def _back(line: OrderLine, spare: Spare, amount: Decimal) -> Decimal:
    """What is spare, in the base unit of a line."""
    of_one = spare.of_line(line, Decimal(1))
    return exact(amount / of_one) if of_one else Decimal(0)


def _give(line: OrderLine, spare: Spare, quantity: Decimal, touched: Touched) -> Decimal:
    if quantity <= 0:
        return Decimal(0)
    spare.free -= spare.of_line(line, quantity)
    return _write(line, spare, quantity, touched)


def _write(line: OrderLine, spare: Spare, quantity: Decimal, touched: Touched) -> Decimal:
    if spare.batch is not None:
        touched.note([spare.batch])
        _allocate(line, spare.batch, quantity)
    elif spare.lot is not None:
        _aside(line, spare.lot, spare.of_line(line, quantity))
    return quantity


def _allocate(line: OrderLine, batch: Batch, quantity: Decimal) -> None:
    row, fresh = Allocation.objects.get_or_create(order_line=line, batch=batch, defaults={"quantity": quantity})
    if not fresh:
        row.quantity += quantity
        row.save(update_fields=["quantity"])


def _aside(line: OrderLine, lot: Lot, quantity: Decimal) -> None:
    row, fresh = SetAside.objects.get_or_create(order_line=line, lot=lot, defaults={"quantity": quantity})
    if not fresh:
        row.quantity += quantity
        row.save(update_fields=["quantity"])


def follow(ctx: Ctx, touched: Touched) -> list[Batch]:
    """Planned batches follow what is promised of them: how many, and when; what serves nobody any more is let go.

    What was sown is a fact: only the days for which it holds its place change. Returns the batches that were planned anew.
    """
    followed = []
    for pk in touched.first_days:
        saved = load_batch(ctx, pk, lock=True)
        batch = saved.batch
        if batch.state not in LIVE:
            continue
        first = first_day(batch)
        was = touched.first_days[pk]
        if batch.state == Batch.State.PLANNED and first is None and was is not None and touched.spare[pk] < 1:
            abandon(ctx, batch)
            ctx.record("batch.follow", f"Let go of {batch.code}: nothing is promised of it any more.", batch)
            continue
        if _laid_out(batch):
            continue
        ground = Ground(ctx, without=[pk])
        request = _as_promised(
            saved, request_of(saved, ground.stood), ground, moved=first != was, spare=touched.spare_now(batch)
        )
        apply_plan(ctx, saved, plan_batch(request, ground, working=False))
        if batch.state == Batch.State.PLANNED:
            ctx.record("batch.follow", f"Planned {batch.code} anew, as it is promised now.", batch)
        followed.append(batch)
    return followed


def _laid_out(batch: Batch) -> bool:
    """Whether a room above has laid a batch out, so that its amounts no longer follow from what is promised."""
    try:
        for barred in bars:
            barred(batch, Change(ready_on=date.max))
    except Refused:
        return True
    return False


def _as_promised(saved: Saved, request: Request, ground: Ground, *, moved: bool, spare: float) -> Request:
    """The request of a batch with what is promised of it by now."""
    batch, method = saved.batch, saved.method
    saved.__dict__.pop("windows", None)  # the promises are others now
    request = replace(request, leaves=leaves_of(saved))
    if batch.state != Batch.State.PLANNED:
        return replace(request, anchor=Anchor(follow=True), start=batch.start)
    needs: dict[str, float] = {}
    rows = Allocation.objects.filter(batch=batch, order_line__state=OrderLine.State.OPEN)
    windows: list[tuple[date, date]] = []
    for row in rows.select_related("order_line__crop", "order_line__line"):
        line, of = row.order_line, unit_of(method, row.order_line.form)
        base = row.quantity if unit(line.unit).same_measure(of) else in_grams(line, row.quantity)
        needs[line.form] = needs.get(line.form, 0.0) + float(from_base(base, of))
        windows.append((line.due.lower, line.due.upper - timedelta(days=1)))
    needs[method.form] = needs.get(method.form, 0.0) + spare / float(method.unit.value.factor)
    if any(needs.values()):
        request = replace(request, needs=needs)
    if moved and windows:
        request = replace(request, anchor=Anchor(ready=ground.ready_day(*min(windows))))
    return request


def give_batch(ctx: Ctx, line: OrderLine, batch_id: Ref, typed: str, touched: Touched) -> str:
    """Let a batch serve a line as well, with so much as was typed, or with all that the line is missing. Raises Refused."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    if batch.state not in LIVE:
        raise refuse("batch", "closed", f"Batch {batch.code} is {batch.state}; it serves nobody any more.")
    if batch.crop.slug != line.crop.slug or line.form not in saved.method.products:
        raise refuse("batch", "does_not_fit", f"Batch {batch.code} gives no {line.crop.name.lower()} as “{line.form}”.")
    if line.line is not None and (batch.line is None or batch.line.slug != line.line.slug):
        raise refuse("batch", "other_cultivar", f"Batch {batch.code} is not {line.line.name}, which is asked.")
    quantity = _how_much(line, typed)
    touched.note([batch])
    touched.given.add((line.pk, "batch", batch.pk))
    _allocate(line, batch, quantity)
    return f"{words_of(line, quantity)} of batch {batch.code}"


def set_aside(ctx: Ctx, line: OrderLine, lot_id: Ref, typed: str) -> str:
    """Keep so much of a lot for a line. Raises Refused where the lot is not what is asked, or not free."""
    lot = ctx.get(Lot, lot_id, lock=True)
    classes = classes_filling(ctx)(line.seed_class)
    states = ("released",) if lot.form == "seed" else READY
    check(lot, Wanted(line.crop, line.line, line.form, classes, states, "handed over"), "lot")
    quantity = _how_much(line, typed)
    asked, free = of_lot(line, lot, quantity), free_of(ctx, [lot])[lot.pk]
    if asked > free:
        raise refuse(
            "quantity",
            "not_enough",
            f"Of lot {lot.code} {words_of(line, for_line(line, lot, free))} are free; {words_of(line, quantity)} were asked. "
            "Set less aside, or take it back from another order first.",
        )
    _aside(line, lot, asked)
    return f"{words_of(line, quantity)} of lot {lot.code}"


def _how_much(line: OrderLine, typed: str) -> Decimal:
    if typed.strip():
        quantity = read_quantity(typed, unit(line.unit), "quantity").base
        if quantity > line.quantity - line.delivered:
            raise refuse(
                "quantity",
                "too_many",
                f"{words_of(line, quantity)} is more than is wanted, {words_of(line, line.quantity - line.delivered)}.",
            )
        return quantity
    left = line.quantity - _meant(line)
    if left <= 0:
        raise refuse(
            "quantity",
            "enough",
            "Everything that this line asks is spoken for. Write how much of it this is to give instead.",
        )
    return left


def take_off(ctx: Ctx, line: OrderLine, touched: Touched, *, batch: Ref | None, lot: Ref | None) -> str:
    """Let a batch or a lot serve a line no more. Raises Refused where it does not."""
    if batch is not None:
        row = ctx.get(Batch, batch)
        touched.note([row])
        touched.taken_off.add((line.pk, "batch", row.pk))
        gone, named = line.allocations.filter(batch=row).delete()[0], f"batch {row.code}"
    elif lot is not None:
        stock = ctx.get(Lot, lot)
        touched.taken_off.add((line.pk, "lot", stock.pk))
        gone, named = line.set_aside.filter(lot=stock).delete()[0], f"lot {stock.code}"
    else:
        raise refuse("batch", "missing", "Which batch or lot is to serve it no more?")
    if not gone:
        raise refuse("batch" if batch is not None else "lot", "not_there", f"The line has nothing of {named}.")
    return named
