"""What is set aside of lots for order lines: how much of it is really there, and what of a lot is still free."""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from django.db.models import Sum

from aldrip.accounts.context import Ctx
from aldrip.batches.models import BatchInput, SetAside
from aldrip.lots.models import Lot, Status
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import in_grams, in_seeds
from aldrip_core.problems import Problem
from aldrip_core.units import Quantity, exact, unit

#: In which state a lot of seed may be handed over; plants have no state.
HANDED_OVER = ("", Status.RELEASED.value)


@dataclass(frozen=True)
class Kept:
    """What of a lot is kept for a line, in the line's base unit: as it was set aside, and as it is really there."""

    line: OrderLine
    lot: Lot
    wanted: Decimal
    there: Decimal

    @property
    def problem(self) -> Problem | None:
        """Why less is there than was set aside."""
        missing = self.wanted - self.there
        if missing <= 0:
            return None
        state = self.lot.get_status_display()
        if self.lot.on_hold:
            return Problem(
                "aside_gone",
                {"lot": self.lot.code, "why": f"is {self.lot.on_hold}", "missing": words_of(self.line, missing)},
            )
        why = f"is {state} by now" if self.lot.form == "seed" and self.lot.status not in HANDED_OVER else "holds less"
        return Problem("aside_gone", {"lot": self.lot.code, "why": why, "missing": words_of(self.line, missing)})


def for_line(line: OrderLine, lot: Lot, quantity: Decimal) -> Decimal:
    """A quantity of a lot in the base unit of a line: grams of seed as seeds where those are promised."""
    return quantity if unit(lot.unit).same_measure(unit(line.unit)) else in_seeds(line, quantity)


def of_lot(line: OrderLine, lot: Lot, quantity: Decimal) -> Decimal:
    """A quantity of a line in the base unit of a lot."""
    return quantity if unit(lot.unit).same_measure(unit(line.unit)) else in_grams(line, quantity)


def kept_for(lines: Mapping[int, OrderLine]) -> dict[int, list[Kept]]:
    """What is set aside for these lines. Of a lot that holds less than is set aside of it each line loses its share."""
    rows = list(SetAside.objects.filter(order_line__in=list(lines)).select_related("lot").order_by("id"))
    spoken = _spoken([row.lot_id for row in rows])
    found: dict[int, list[Kept]] = defaultdict(list)
    for row in rows:
        line, lot = lines[row.order_line_id], row.lot
        usable = not lot.on_hold and (lot.form != "seed" or lot.status in HANDED_OVER)
        share = min(Decimal(1), lot.balance / (spoken.get(lot.pk) or row.quantity)) if usable else Decimal(0)
        found[line.pk].append(
            Kept(line, lot, for_line(line, lot, row.quantity), for_line(line, lot, exact(row.quantity * share)))
        )
    return found


def _spoken(lots: Iterable[int]) -> dict[int, Decimal]:
    """Of each lot, how much is set aside in all, in its base unit."""
    asked = set(lots)
    if not asked:
        return {}
    rows = SetAside.objects.filter(lot__in=asked, order_line__state=OrderLine.State.OPEN)
    return dict(rows.values_list("lot").annotate(total=Sum("quantity")))


def set_aside_of(ctx: Ctx) -> dict[int, Decimal]:
    """Of each lot of the house, how much is set aside for open lines, in its base unit."""
    rows = SetAside.objects.filter(lot__organisation=ctx.organisation, order_line__state=OrderLine.State.OPEN)
    return dict(rows.values_list("lot").annotate(total=Sum("quantity")))


def free_of(ctx: Ctx, lots: Sequence[Lot]) -> dict[int, Decimal]:
    """Of each of these lots, what nobody speaks for: not set aside, and not meant to be sown."""
    aside = _spoken(lot.pk for lot in lots)
    sown = dict(
        BatchInput.objects.filter(lot__in=[lot.pk for lot in lots], taken_on=None)
        .values_list("lot")
        .annotate(total=Sum("quantity"))
    )
    none = Decimal(0)
    return {lot.pk: max(none, lot.balance - (aside.get(lot.pk) or none) - (sown.get(lot.pk) or none)) for lot in lots}


def words_of(line: OrderLine, quantity: Decimal) -> str:
    """A quantity of a line as people read it."""
    return Quantity(quantity, unit(line.unit)).words()
