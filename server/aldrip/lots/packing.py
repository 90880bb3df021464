"""Young plants and cuttings in boxes: packed at an hour, to be planted within a day, or unpacked and sheltered again."""

from datetime import timedelta
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import day
from aldrip.diary import clocks
from aldrip.lots.models import Lot
from aldrip.lots.taking import balance_words
from aldrip_core.mother_stock import BOX_H

PACKED = "packing"
LONGEST_H = 7 * 24.0
BY_ITSELF = ("seed", "mother plant")  # what is never packed so


@act
def pack(ctx: Ctx, lot_id: Ref, *, ago_h: float = 0.0, hours: float = BOX_H) -> Lot:
    """A lot was packed, some hours ago at most a week: the hour until which it is to be planted stands with it from now on."""
    lot = ctx.get(Lot, lot_id, lock=True)
    if lot.form in BY_ITSELF:
        raise refuse("lot_id", "other_form", f"Lot {lot.code} is kept as {lot.form}; plants and cuttings are packed.")
    if lot.balance <= 0:
        raise refuse("lot_id", "nothing", f"Nothing is left of lot {lot.code}.")
    if lot.on_hold:
        raise refuse("lot_id", "on_hold", f"Lot {lot.code} is not packed: it is {lot.on_hold}.")
    if not 0 < hours <= LONGEST_H:
        raise refuse("hours", "out_of_range", f"For how many hours may they stay packed? Up to {LONGEST_H:g}.")
    if not 0 <= ago_h <= LONGEST_H:
        raise refuse("ago", "out_of_range", f"Packed at most {LONGEST_H:g} hours ago, and not before now.")
    clock = clocks.runs_on(ctx, lot.uuid)
    if clock is not None:
        told = f"{clock.name} runs on lot {lot.code}. End that on the day sheet, then pack it."
        raise refuse("lot_id", "in_treatment", told)
    if is_packed(lot):
        told = f"Lot {lot.code} is packed already, to be planted by {until_words(ctx, lot)}. Unpack it first."
        raise refuse("lot_id", "packed", told)
    if lot.use_by is not None:
        told = f"Lot {lot.code} is to be used by {until_words(ctx, lot)} after {lot.treatment}; a box gives it no longer. Use it, or throw it away."
        raise refuse("lot_id", "waits", told)
    lot.treatment = "; ".join([*_parts(lot), PACKED])[:120]
    lot.use_by = ctx.now + timedelta(hours=hours - ago_h)
    lot.save(update_fields=["treatment", "use_by"])
    ctx.record(
        "lot.pack", f"Packed lot {lot.code}, {balance_words(lot)}: to be planted by {until_words(ctx, lot)}.", lot
    )
    return lot


@act
def unpack(ctx: Ctx, lot_id: Ref) -> Lot:
    """A lot was unpacked and stands sheltered and watered again."""
    lot = ctx.get(Lot, lot_id, lock=True)
    if not is_packed(lot):
        raise refuse("lot_id", "not_packed", f"Lot {lot.code} is not packed.")
    late = " past its hour" if lot.use_by is not None and lot.use_by < ctx.now else ""
    lot.treatment, lot.use_by = "; ".join(one for one in _parts(lot) if one != PACKED), None
    lot.save(update_fields=["treatment", "use_by"])
    ctx.record("lot.unpack", f"Unpacked lot {lot.code}{late}.", lot)
    return lot


def is_packed(lot: Lot) -> bool:
    """Whether a lot stands in boxes."""
    return lot.use_by is not None and PACKED in _parts(lot)


def _parts(lot: Lot) -> list[str]:
    return [one for one in lot.treatment.split("; ") if one]


def until_words(ctx: Ctx, lot: Lot) -> str:
    """The hour until which a packed lot is to be planted."""
    if lot.use_by is None:
        return ""
    until = ctx.local(lot.use_by)
    return f"{day(until.date())}, {until:%H:%M}"


def label_facts(ctx: Ctx, lot: Lot) -> dict[str, Any]:
    """What stands on the boxes of a packed lot. Raises Refused."""
    if not is_packed(lot):
        raise refuse("lot_id", "not_packed", f"Lot {lot.code} is not packed; pack it, then print its label.")
    if lot.on_hold:
        raise refuse("lot_id", "on_hold", f"Lot {lot.code} gets no label: it is {lot.on_hold}.")
    return {
        "code": lot.code,
        "crop": lot.crop.name,
        "cultivar": lot.line.name if lot.line else "",
        "many": balance_words(lot),
        "until": until_words(ctx, lot),
        "over": lot.use_by is not None and lot.use_by < ctx.now,
        "supplier": ctx.organisation.name,
    }
