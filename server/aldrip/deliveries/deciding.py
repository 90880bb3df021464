"""What waits in Deliveries: promises whose days are over."""

from collections.abc import Iterable
from datetime import timedelta

from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.orders.models import OrderLine


@asks(
    overdue=lambda d: Words(
        f"order {d['order']} overdue",
        f"{d['crop']} for {d['customer']} was due by {d['last']:%a %d %b}.",
        "Deliver or record short",
    )
)
def overdue(look: Look) -> Iterable[Decision]:
    """Open lines whose last day is over."""
    ctx = look.ctx
    rows = ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN, due__endswith__lte=ctx.today)
    for line in rows.select_related("order", "crop").order_by("due"):
        data = {
            "order": line.order.number,
            "crop": line.crop.name,
            "customer": line.order.customer,
            "last": line.due.upper - timedelta(days=1),
        }
        yield Decision("deliveries", "overdue", f"{line.order.number}/{line.number}", data, "/deliveries", ctx.today)
