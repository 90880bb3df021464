"""Who has what a hold reaches: lots in stock, batches that stand, and everything that was handed over."""

from typing import Any

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.words import who
from aldrip.batches.holds import reach_of
from aldrip.batches.models import Batch
from aldrip.deliveries.models import DeliveryItem
from aldrip.lots.holds import open_holds
from aldrip.lots.models import Hold, Lot
from aldrip.lots.moving import shown_of
from aldrip.orders.promised import shown


def holds_of(ctx: Ctx, lot_id: Ref) -> list[dict[str, Any]]:
    """The holds that hold a lot, its own first, each with all that it reaches."""
    lot = ctx.get(Lot, lot_id)
    found = [
        hold_out(ctx, one) for one in open_holds(ctx) if one.lot_id == lot.pk or (lot.on_hold and reaches(one, lot))
    ]
    return sorted(found, key=lambda one: one["lot_id"] != lot.pk)


def reaches(hold: Hold, lot: Lot) -> bool:
    """Whether a hold reaches a lot."""
    return lot.pk in reach_of(hold).lots


def hold_out(ctx: Ctx, hold: Hold) -> dict[str, Any]:
    """A hold with everything made of its lot. A few queries a generation."""
    reach = reach_of(hold)
    lots = ctx.rows(Lot).filter(pk__in=reach.lots).select_related("crop", "line").order_by("received_on", "id")
    batches = ctx.rows(Batch).filter(pk__in=reach.batches | reach.meant).select_related("crop").order_by("code")
    items = (
        DeliveryItem.objects.filter(movement__lot__in=reach.lots, delivery__organisation=ctx.organisation)
        .select_related("delivery__order", "order_line", "movement__lot")
        .order_by("delivery__delivered_on", "id")
    )
    return {
        "id": hold.pk,
        "lot_id": hold.lot_id,
        "lot": hold.lot.code,
        "reason": hold.reason,
        "by": who(hold.by),
        "since": ctx.local(hold.happened_at).date(),
        "lots": [
            {
                "id": lot.pk,
                "code": lot.code,
                "name": " ".join(filter(None, [lot.crop.name, lot.line.name if lot.line else ""])),
                "form": lot.form,
                "balance": shown_of(lot),
                "unit": lot.unit,
            }
            for lot in lots
        ],
        "batches": [
            {
                "id": one.pk,
                "code": one.code,
                "crop": one.crop.name,
                "state": one.state,
                "only_meant": one.pk in reach.meant,
            }
            for one in batches
        ],
        "out": [
            {
                "note_id": item.delivery_id,
                "note": item.delivery.code,
                "customer": item.delivery.order.customer,
                "on": item.delivery.delivered_on,
                "lot": item.movement.lot.code,
                "quantity": shown(item.quantity, item.order_line.unit) or 0.0,
                "unit": item.order_line.unit,
                "label": item.label,
            }
            for item in items
        ],
        "cleared": [
            {"lot_id": one.lot_id, "reason": one.reason, "on": ctx.local(one.happened_at).date()}
            for one in hold.lifts.all()
            if one.lot_id is not None
        ],
    }
