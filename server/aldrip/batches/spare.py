"""What stands and is promised to nobody: of batches that run, and of lots that may be handed over. Planned with first."""

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from django.db.models import Prefetch

from aldrip.accounts.context import Ctx
from aldrip.batches.aside import free_of, of_lot
from aldrip.batches.forecasting import feeds, held_for, in_time, load_many
from aldrip.batches.models import Allocation, Batch, Held, Question, Yield
from aldrip.batches.overdue import ready_on
from aldrip.batches.saved import Saved
from aldrip.lots.models import Lot, Status
from aldrip.methods.services import classes_filling
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import in_grams
from aldrip_core.holding import held
from aldrip_core.units import Dimension, Quantity, Unit, exact, unit

WORTH_IT = Decimal("0.1")  # of what is wanted: less than that is not worth a second batch in one delivery
RUNNING = (Batch.State.PLANNED, Batch.State.SOWN, Batch.State.READY)


@dataclass
class Spare:
    """So much of a batch or of a lot that nobody is promised, in its base unit; `free` goes down as it is given."""

    free: Decimal
    ready: date
    batch: Batch | None = None
    lot: Lot | None = None
    saved: Saved | None = None
    filling: Callable[[str], tuple[str, ...]] = lambda asked: (asked,) if asked else ()

    @property
    def code(self) -> str:
        return self.batch.code if self.batch is not None else self.lot.code if self.lot is not None else ""

    @property
    def key(self) -> tuple[str, int]:
        """Batch or lot, and its number."""
        return (
            ("batch", self.batch.pk) if self.batch is not None else ("lot", self.lot.pk if self.lot is not None else 0)
        )

    @property
    def form(self) -> str:
        """As what it would be handed over."""
        return self.saved.method.form if self.saved is not None else self.lot.form if self.lot is not None else ""

    @property
    def unit(self) -> Unit:
        """In which it is counted or weighed."""
        return self.saved.method.unit if self.saved is not None else unit(self.lot.unit if self.lot else "plants")

    def words(self) -> str:
        """“4,200 plants of batch 27-031”, “160 kg of lot L27-004”."""
        kind = "batch" if self.batch is not None else "lot"
        return f"{Quantity(self.free, self.unit).words()} of {kind} {self.code}"

    def fits(self, line: OrderLine) -> bool:
        """Whether it is what a line asks for, by kind and day."""
        return self._same(line) and self._then(line)

    def _same(self, line: OrderLine) -> bool:
        own = self.batch if self.batch is not None else self.lot
        assert own is not None
        if own.crop.slug != line.crop.slug or self.form != line.form:
            return False
        if line.line is not None and (own.line is None or own.line.slug != line.line.slug):
            return False
        if self.lot is not None and line.seed_class and self.lot.seed_class not in self.filling(line.seed_class):
            return False
        if self.lot is None and line.form == "seed":  # what a field may give is promised by its own class
            return False
        begun_in = self.batch.container if self.batch is not None else None
        if line.container is not None and begun_in is not None and begun_in.slug != line.container.slug:
            return False
        asked = unit(line.unit)
        weighed = {self.unit.dimension, asked.dimension} <= {Dimension.MASS, Dimension.PIECES} and Unit.SEED in (
            self.unit,
            asked,
        )
        return self.unit.same_measure(asked) or weighed

    def beside(self, line: OrderLine) -> bool:
        """Whether it is of the crop that a line asks for and there in time, in another form, container or class."""
        own = self.batch if self.batch is not None else self.lot
        assert own is not None
        if own.crop.slug != line.crop.slug or not self.unit.same_measure(unit(line.unit)) or self._same(line):
            return False
        cultivar = line.line is None or (own.line is not None and own.line.slug == line.line.slug)
        return cultivar and self._then(line)

    def _then(self, line: OrderLine) -> bool:
        if self.saved is not None:
            waits = held_for([line], self.saved, self.ready)
            return in_time([line], self.ready) and not (waits is not None and waits.too_old)
        return bool(self.ready < line.due.upper)

    def of_line(self, line: OrderLine, quantity: Decimal) -> Decimal:
        """A quantity of a line in the base unit of what is spare."""
        if self.lot is not None:
            return of_lot(line, self.lot, quantity)
        return quantity if self.unit.same_measure(unit(line.unit)) else in_grams(line, quantity)


@dataclass(frozen=True)
class Gift:
    """So much of what is spare for a line, in the line's base unit."""

    spare: Spare
    quantity: Decimal


class Spares:
    """Everything of a house that stands and is promised to nobody. A fixed number of queries; what is taken is gone."""

    def __init__(
        self, ctx: Ctx, *, crops: Iterable[str] | None = None, held: Mapping[tuple[str, int], Decimal] | None = None
    ) -> None:
        """held: of each batch and lot what nobody is to have, in its base unit; what is held for questions where it is not told."""
        self.ctx = ctx
        self.held = held_for_questions(ctx) if held is None else held
        wanted = None if crops is None else set(crops)
        self.found = [*self._lots(wanted), *self._batches(wanted)]

    def _batches(self, crops: set[str] | None) -> list[Spare]:
        rows = self.ctx.rows(Batch).filter(state__in=RUNNING, method__way="plants")
        if crops is not None:
            rows = rows.filter(crop__slug__in=crops)
        there = list(rows.values_list("pk", "state", "needed", "low", "expected"))
        # By their numbers: within an act that has just planned many, the database has no figures to plan a query of a query by.
        promised = promised_of(self.ctx, [pk for pk, *_ in there])
        sure = {
            pk: exact(
                _sure_of(state, needed, low, expected) - float(promised.get(pk, 0) + self.held.get(("batch", pk), 0))
            )
            for pk, state, needed, low, expected in there
        }
        wanted = [pk for pk, free in sure.items() if free >= 1]
        named = (
            self.ctx.rows(Batch)
            .filter(pk__in=wanted)
            .select_related("crop", "line", "container", "mix")
            .defer("method_snapshot")
        )
        found = [(batch, sure[batch.pk]) for batch in named]
        if not found:
            return []
        loaded = load_many(self.ctx, [batch.pk for batch, _ in found])
        fed = feeds(loaded)
        spares = []
        for batch, free in found:
            saved = loaded[batch.pk].saved
            given = exact(fed.get((batch.pk, saved.method.form), 0.0) * float(saved.method.unit.value.factor))
            if free > given:
                saved.batch.crop, saved.batch.line = batch.crop, batch.line
                spares.append(Spare(free - given, ready_on(saved, self.ctx.today), batch=batch, saved=saved))
        # What stands comes before what is only planned, the oldest first.
        return sorted(
            spares, key=lambda one: (one.batch is not None and one.batch.state == Batch.State.PLANNED, one.ready)
        )

    def _lots(self, crops: set[str] | None) -> list[Spare]:
        """Released seed, and plants in stock that no running batch gave: those are counted with their batch."""
        rows = self.ctx.rows(Lot).filter(balance__gt=0, on_hold="")
        if crops is not None:
            rows = rows.filter(crop__slug__in=crops)
        rows = rows.exclude(form="seed").exclude(from_stages__stage__batch__state__in=RUNNING) | rows.filter(
            form="seed", status=Status.RELEASED
        )
        given = Prefetch("from_stages", Yield.objects.select_related("stage"))
        lots = list(
            rows.distinct().select_related("crop", "line").prefetch_related(given).order_by("received_on", "id")
        )
        free = free_of(self.ctx, lots)
        fields = {one.stage.batch_id for lot in lots if lot.form == "seed" for one in lot.from_stages.all()}
        promised = promised_of(self.ctx, fields)
        found = []
        filling = classes_filling(self.ctx)
        for lot in lots:
            # Seed of a field that is promised to an order already is that order's.
            owed = sum((promised.get(one.stage.batch_id, Decimal(0)) for one in lot.from_stages.all()), Decimal(0))
            left = (
                free[lot.pk] - (owed if lot.form == "seed" else Decimal(0)) - self.held.get(("lot", lot.pk), Decimal(0))
            )
            if left > 0:
                found.append(Spare(left, max(lot.received_on, self.ctx.today), lot=lot, filling=filling))
        return found

    def for_line(self, line: OrderLine) -> list[Spare]:
        """What could serve a line, in the order in which it would be taken."""
        found = [one for one in self.found if one.free > 0 and one.fits(line)]
        # Seed of the very class that is asked goes before a higher one.
        return sorted(found, key=lambda one: one.lot is not None and one.lot.seed_class != line.seed_class)

    def beside(self, line: OrderLine) -> list[Spare]:
        """What could be offered in the place of what a line asks for."""
        return [one for one in self.found if one.free > 0 and one.beside(line)]

    def take(
        self, line: OrderLine, wanted: Decimal, hold: float | None = None, without: Collection[tuple[str, int]] = ()
    ) -> list[Gift]:
        """Take of what is spare for a line, so much in its base unit; nothing where only crumbs are there.

        hold: days that plants which lie in stock may wait [d]. without: batches and lots that it is not to have, by number.
        """
        gifts: list[Gift] = []
        left = wanted
        for one in self.for_line(line):
            if one.key in without:
                continue
            if one.batch is None and one.lot is not None and one.lot.form != "seed" and _aged(one.lot, line, hold):
                continue
            asked = one.of_line(line, left)
            given = min(one.free, asked)
            if given <= 0 or given < asked * WORTH_IT:
                continue
            part = left if given == asked else _whole(line, left * given / asked)
            if part <= 0:
                continue
            one.free -= given
            gifts.append(Gift(one, part))
            left -= part
            if left <= 0:
                break
        return gifts


def _aged(lot: Lot, line: OrderLine, hold: float | None) -> bool:
    return held(ready=lot.received_on, wanted=line.due.lower, hold_days=hold).too_old


def _whole(line: OrderLine, quantity: Decimal) -> Decimal:
    """Pieces are whole."""
    return exact(quantity.to_integral_value(rounding="ROUND_FLOOR")) if unit(line.unit).is_pieces else exact(quantity)


def _sure_of(state: str, needed: Decimal, low: float | None, expected: float) -> float:
    """What can be promised of a batch: what was asked of one that is planned, the cautious end of what another will give."""
    if state == Batch.State.PLANNED:
        return float(needed)
    return expected if state == Batch.State.READY or low is None else low


def promised_of(ctx: Ctx, batches: Any) -> dict[int, Decimal]:
    """What open lines still wait for of each batch (numbers, or a query of them), in its base unit."""
    rows = Allocation.objects.filter(batch__in=batches, order_line__state=OrderLine.State.OPEN)
    found: dict[int, Decimal] = {}
    weighed = []
    names = (
        "pk",
        "batch_id",
        "quantity",
        "order_line__quantity",
        "order_line__delivered",
        "order_line__unit",
        "batch__method__unit",
    )
    for pk, batch, quantity, asked, delivered, of, own in rows.values_list(*names):
        if of != own and not unit(of).same_measure(unit(own)):
            weighed.append(pk)
            continue
        found[batch] = found.get(batch, Decimal(0)) + min(quantity, max(Decimal(0), asked - delivered))
    for row in Allocation.objects.filter(pk__in=weighed).select_related("order_line__crop", "order_line__line"):
        line = row.order_line
        left = in_grams(line, min(row.quantity, max(Decimal(0), line.quantity - line.delivered)))
        found[row.batch_id] = found.get(row.batch_id, Decimal(0)) + left
    return found


def held_for_questions(ctx: Ctx, but_for: int | None = None) -> dict[tuple[str, int], Decimal]:
    """How much of each batch and lot is held for questions today, in its base unit."""
    rows = Held.objects.filter(
        question__organisation=ctx.organisation, question__state=Question.State.ASKED, question__until__gte=ctx.today
    ).exclude(question=but_for)
    found: dict[tuple[str, int], Decimal] = {}
    for batch, lot, quantity in rows.values_list("batch_id", "lot_id", "quantity"):
        key = ("lot", lot) if batch is None else ("batch", batch)
        found[key] = found.get(key, Decimal(0)) + quantity
    return found


def in_words(spares: Sequence[Spare]) -> str:
    """“4,200 plants of batch 27-031 and 160 of lot L27-004”."""
    return " and ".join(one.words() for one in spares)
