"""Everything made of a lot is held: said once, with its reason, and lifted as a whole or lot by lot."""

import uuid
from collections.abc import Callable

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.lots.models import Hold, HoldLift, Lot

#: Rooms above say which lots a hold reaches, those of batches as well.
reaches: list[Callable[[Ctx, Hold], set[int]]] = []


def open_holds(ctx: Ctx) -> list[Hold]:
    """Holds that were not lifted, with what was cleared of each; two queries."""
    rows = ctx.rows(Hold).exclude(lifts__lot=None, lifts__isnull=False)
    return list(rows.select_related("lot").prefetch_related("lifts").order_by("id"))


@act
def hold(ctx: Ctx, lot_id: Ref, *, reason: str, client_uuid: uuid.UUID) -> Hold:
    """Hold a lot and everything that is or will be made of it: nothing of it leaves, is sown or is released."""
    lot = ctx.get(Lot, lot_id, lock=True)
    done = ctx.rows(Hold).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    if not reason.strip():
        raise refuse("reason", "missing", "Why is it held? Whoever meets it on the bench has to know.")
    same = next((one for one in open_holds(ctx) if one.lot_id == lot.pk), None)
    if same is not None:
        since = ctx.local(same.happened_at)
        raise refuse(
            "lot_id",
            "held_already",
            f"Lot {lot.code} is held since {since.day} {since:%b}: {same.reason}. Lift that hold first, or leave it.",
        )
    made = Hold.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        lot=lot,
        reason=reason.strip()[:300],
        happened_at=ctx.now,
        client_uuid=client_uuid,
    )
    ctx.record("lot.hold", f"Held lot {lot.code} with everything made of it: {made.reason}", lot)
    return made


@act
def lift(ctx: Ctx, hold_id: Ref, *, reason: str, client_uuid: uuid.UUID, lot_id: Ref | None = None) -> HoldLift:
    """Lift a hold, or clear one lot of it with what is made of that; the reason is kept. Raises Refused."""
    ctx.get(Hold, hold_id, lock=True)
    done = ctx.rows(HoldLift).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    held = next((one for one in open_holds(ctx) if hold_id in (one.pk, one.client_uuid)), None)
    if held is None:
        raise refuse("hold_id", "lifted", "This hold was lifted already.")
    if not reason.strip():
        raise refuse("reason", "missing", "What shows that it is sound? A result, an inspection, who looked at it.")
    lot = None if lot_id is None else ctx.get(Lot, lot_id)
    if lot is not None and lot.pk == held.lot_id:
        lot = None  # the lot itself is the whole of it
    if lot is not None and not any(lot.pk in reach(ctx, held) for reach in reaches):
        raise refuse("lot_id", "not_held", f"Lot {lot.code} is not held by this.")
    made = HoldLift.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        hold=held,
        lot=lot,
        reason=reason.strip()[:300],
        happened_at=ctx.now,
        client_uuid=client_uuid,
    )
    what = f"Cleared lot {lot.code} of the hold on" if lot else "Lifted the hold on"
    ctx.record("lot.lift", f"{what} lot {held.lot.code}: {made.reason}", lot or held.lot)
    return made
