"""What waits in Orders: promises that cannot be kept as they stand, and rows nobody understands yet."""

from collections.abc import Iterable
from datetime import timedelta

from django.db.models import Q

from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.base.words import chance, plural
from aldrip.orders.models import OrderLine, WaitingRow
from aldrip_core.units import from_base, plain, unit


def promised(line: OrderLine) -> str:
    """What a line promises: plants by their number, seed with its unit."""
    of = unit(line.unit)
    return plain(from_base(line.quantity, of)) + ("" if of.is_pieces else f" {of.words}")


#: What a decision says of a line; thousands may wait, and no more of them is read.
TOLD = ("number", "due", "quantity", "unit", "problems", "chance", "order__number", "order__customer", "crop__name")


@asks(
    line=lambda d: Words(
        f"order {d['order']}",
        f"{d['customer']}, {d['promised']} {d['crop'].lower()}: {d['why']}",
        "See the remedies",
        d["stands"],
    )
)
def lines(look: Look) -> Iterable[Decision]:
    """Open lines that are late, refused, hopeless or unplanned; one whose batch asks for a re-sowing waits there."""
    ctx = look.ctx
    rows = (
        ctx.rows(OrderLine)
        .filter(state=OrderLine.State.OPEN, due__endswith__gt=ctx.today)
        .select_related("order", "crop")
        .only(*TOLD)
        .exclude(allocations__batch__decide_by__gte=ctx.today)
    )
    asking = Q(problems__contains=[{"code": "late"}]) | Q(problems__contains=[{"code": "refused"}])
    for line in rows.filter(asking | Q(chance=0.0) | Q(allocations=None)).order_by("due"):
        number = line.order.number
        none = f"{line.crop.name} for order {number} has no batch yet."
        why = line.problem or (none if line.chance is None else f"Order {number} will not be filled in time.")
        data = {
            "order": number,
            "customer": line.order.customer,
            "promised": promised(line),
            "crop": line.crop.name,
            "why": why,
            "stands": "" if line.chance is None else f"chance {chance(line.chance)}",
        }
        last = line.due.upper - timedelta(days=1)
        yield Decision("orders", "line", f"{number}/{line.number}", data, f"/orders?line={line.pk}", last)


def _rows(many: int) -> str:
    return f"{plural(many, 'order row')} {'waits' if many == 1 else 'wait'}"


@asks(
    rows=lambda d: Words(
        _rows(d["many"]), f"{_rows(d['many'])} to be understood: {d['named'] or 'no crop written'}.", "Go on with them"
    )
)
def rows(look: Look) -> Iterable[Decision]:
    """Rows of a file that wait to be understood."""
    crops = list(look.ctx.rows(WaitingRow).order_by("id").values_list("row__crop", flat=True))
    if crops:
        named = ", ".join(list(dict.fromkeys(str(name) for name in crops if name))[:3])
        yield Decision("orders", "rows", "waiting", {"many": len(crops), "named": named}, "/orders/import")
