"""Customers: what each of them was promised, how sure it is, and how it was kept until now."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal

from django.db.models import Max

from aldrip.accounts.context import Ctx
from aldrip.base.errors import NotThere
from aldrip.base.words import plural
from aldrip.deliveries.models import Delivery
from aldrip.orders.models import OrderLine
from aldrip_core.units import from_base, plain, unit

LINES = ("id", "order_id", "order__customer", "state", "due", "chance", "problems", "quantity", "delivered")


@dataclass
class Customer:
    """A customer by name; capitals and spaces make no other one. Lines are told by their state."""

    name: str
    line_ids: list[int] = field(default_factory=list)
    orders: set[int] = field(default_factory=set)
    open: int = 0
    at_risk: int = 0
    next_due: date | None = None
    overdue: int = 0
    kept: int = 0  # delivered whole, within their days
    late: int = 0
    short: int = 0
    cancelled: int = 0
    last_delivery: date | None = None

    @property
    def sentence(self) -> str:
        """How it stands, in words."""
        found = []
        if self.open:
            risk = f", {self.at_risk} of them at risk" if self.at_risk else ""
            overdue = f", {self.overdue} overdue" if self.overdue else ""
            found.append(f"{plural(self.open, 'line')} open{risk}{overdue}.")
        over = self.kept + self.late + self.short
        if over:
            rest = [f"{many} {word}" for many, word in ((self.late, "late"), (self.short, "short")) if many]
            told = f", {' and '.join(rest)}" if rest else ""
            found.append(f"{self.kept} of {plural(over, 'line')} delivered whole and in time{told}.")
        if self.cancelled:
            found.append(f"{plural(self.cancelled, 'line')} cancelled.")
        return " ".join(found) or "Nothing is ordered."


def one_name(name: str) -> str:
    """What makes two spellings of a customer the same.

    >>> one_name(" Harrow  FARM ") == one_name("Harrow farm")
    True
    """
    return " ".join(name.split()).casefold()


def customers(ctx: Ctx) -> list[Customer]:
    """All customers, those with something open first, by the day on which they wait. Two queries."""
    lines = list(ctx.rows(OrderLine).order_by("id").values_list(*LINES))
    given = dict(
        ctx.rows(Delivery)
        .filter(items__isnull=False)
        .values_list("items__order_line")
        .annotate(last=Max("delivered_on"))
        .values_list("items__order_line", "last")
    )
    found: dict[str, Customer] = {}
    for pk, order, name, state, due, chance, problems, _, _ in lines:
        one = found.setdefault(one_name(name), Customer(name))
        one.name = name  # as it was written last
        one.line_ids.append(pk)
        one.orders.add(order)
        last = given.get(pk)
        if last is not None and (one.last_delivery is None or last > one.last_delivery):
            one.last_delivery = last
        if state == OrderLine.State.OPEN:
            _open(one, due, chance, bool(problems), ctx)
        elif state == OrderLine.State.CANCELLED:
            one.cancelled += 1
        elif state == OrderLine.State.SHORT:
            one.short += 1
        elif last is not None and last >= due.upper:
            one.late += 1
        else:
            one.kept += 1
    return sorted(found.values(), key=lambda one: (one.next_due is None, one.next_due or date.max, one.name.casefold()))


def _open(one: Customer, due: object, chance: float | None, problem: bool, ctx: Ctx) -> None:
    lower, upper = due.lower, due.upper  # type: ignore[attr-defined]
    one.open += 1
    one.at_risk += problem or chance is None or chance < ctx.organisation.chance_wanted
    one.overdue += upper <= ctx.today
    one.next_due = lower if one.next_due is None else min(one.next_due, lower)


def customer(ctx: Ctx, name: str) -> Customer:
    """One customer by name. Raises NotThere."""
    found = next((one for one in customers(ctx) if one_name(one.name) == one_name(name)), None)
    if found is None:
        raise NotThere(f"Nobody called “{name.strip()}” has ordered anything here.")
    return found


def notes_of(ctx: Ctx, orders: Iterable[int]) -> list[Delivery]:
    """What was handed over against these orders, the newest first."""
    rows = ctx.rows(Delivery).filter(order__in=list(orders)).select_related("order")
    return list(rows.prefetch_related("documents", "items__order_line__crop").order_by("-delivered_on", "-id"))


def handed_over_words(note: Delivery) -> str:
    """“12,400 plants lettuce, 300 plants basil”."""
    sums: dict[tuple[str, str], Decimal] = {}
    for item in note.items.all():
        line = item.order_line
        of = (line.crop.name.lower(), line.unit)
        sums[of] = sums.get(of, Decimal(0)) + item.quantity
    return ", ".join(f"{plain(from_base(total, unit(of)))} {of} {crop}" for (crop, of), total in sums.items())
