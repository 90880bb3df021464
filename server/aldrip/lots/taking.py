"""The one door by which anything leaves a lot: of the right crop, line, form, class and state, in the right unit."""

import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from django.db import models

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.lots.models import Lot, Movement, Status
from aldrip.lots.moving import move
from aldrip.methods.models import Crop, Line
from aldrip_core.units import Quantity, Unit, exact, from_base, plain, unit


@dataclass(frozen=True)
class Leaving:
    """What is to leave a lot: for what, on which day, whether it is used so, and the field at which a refusal stands."""

    lot: Lot
    what: str
    on: date
    used: bool
    field: str


#: What else keeps something in a lot; each raises Refused or asks.
bars: list[Callable[[Ctx, Leaving], None]] = []
#: What may be sown or planted: bought material has no state, own seed must be released.
READY = ("", Status.RELEASED.value)


@dataclass(frozen=True)
class Wanted:
    """What a lot must be to be taken for something. An empty class or no line asks for none in particular."""

    crop: Crop
    line: Line | None = None
    form: str = "seed"
    seed_classes: Sequence[str] = ()
    states: Sequence[str] = READY
    for_what: str = "sown"


def may_be_started_from(lot: Lot, *, crop: Crop, line: Line | None, field: str, form: str = "seed") -> None:
    """Refuse a lot that a batch cannot be started from."""
    check(lot, Wanted(crop, line, form), field)


def check(lot: Lot, wanted: Wanted, field: str = "lot_id") -> None:
    """Refuse a lot that is not what is wanted, in words that say what it is."""
    if lot.on_hold:
        raise refuse(
            field,
            "on_hold",
            f"Lot {lot.code} is {lot.on_hold}. Nothing of it is {wanted.for_what} until that is lifted.",
        )
    if lot.crop.slug != wanted.crop.slug:
        raise refuse(
            field, "other_crop", f"Lot {lot.code} is not {wanted.crop.name.lower()}. Choose a lot of that crop."
        )
    if lot.form != wanted.form:
        raise refuse(
            field, "other_form", f"Lot {lot.code} is kept as “{lot.form}”; “{wanted.form}” is {wanted.for_what} here."
        )
    if wanted.line is not None and lot.line is not None and lot.line.slug != wanted.line.slug:
        raise refuse(
            field,
            "other_cultivar",
            f"Lot {lot.code} is {lot.line.name}; {wanted.line.name} is asked. Choose a lot of that cultivar.",
        )
    if wanted.seed_classes and lot.seed_class not in wanted.seed_classes:
        has = lot.seed_class.replace("-", " ") or "without a class"
        asked = " or ".join(one.replace("-", " ") for one in wanted.seed_classes)
        raise refuse(field, "other_class", f"Lot {lot.code} is {has}; {asked} is asked.")
    if lot.status not in wanted.states:
        state = lot.get_status_display() or "not own seed"
        raise refuse(field, "not_released", f"Lot {lot.code} is {state}; only released seed is {wanted.for_what}.")


def in_lots_unit(lot: Lot, quantity: Quantity, field: str) -> Decimal:
    """A quantity as the lot keeps it, in base units: seeds are weighed and weights counted by its thousand-grain weight.

    Raises Refused where one cannot be turned into the other.
    """
    own = unit(lot.unit)
    if quantity.unit.same_measure(own):
        return quantity.base
    tgw = lot.tgw_g or lot.crop.tgw_g
    if tgw and quantity.unit is Unit.SEED and own.is_mass:
        return exact(quantity.base * Decimal(str(tgw)) / 1000)
    if tgw and quantity.unit.is_mass and own is Unit.SEED:
        return exact((quantity.base * 1000 / Decimal(str(tgw))).to_integral_value())
    raise refuse(
        field,
        "other_unit",
        f"Lot {lot.code} is kept in {lot.unit}; {quantity.words()} cannot be taken of it."
        + (" Enter its thousand-grain weight first." if Unit.SEED in (quantity.unit, own) else ""),
    )


def take_from_stock(
    ctx: Ctx,
    lot: Lot,
    quantity: Quantity,
    kind: str,
    *,
    on: date,
    wanted: Wanted | None = None,
    subject: models.Model | None = None,
    subject_code: str = "",
    reason: str = "",
    client_uuid: uuid.UUID | None = None,
    group: uuid.UUID | None = None,
    field: str = "lot_id",
) -> Movement:
    """Take a quantity of a lot, in whatever unit it was said. Raises Refused where the lot is not what is wanted or not enough.

    Call inside a transaction; locks the lot before it is looked at.
    """
    lot = Lot.objects.select_for_update(of=("self",)).select_related("crop", "line").get(pk=lot.pk)
    if wanted is not None:
        check(lot, wanted, field)
    leaving = Leaving(lot, wanted.for_what if wanted is not None else kind, on, wanted is not None, field)
    for bar in bars:
        bar(ctx, leaving)
    amount = in_lots_unit(lot, quantity, field)
    if amount <= 0:
        raise refuse("quantity", "nothing", f"How much of lot {lot.code} was {kind}? More than nothing.")
    return move(
        ctx,
        lot,
        -amount,
        kind,
        on=on,
        subject=subject,
        subject_code=subject_code,
        reason=reason,
        client_uuid=client_uuid,
        group=group,
    )


def balance_words(lot: Lot) -> str:
    """What is left of a lot, as people read it: “62.8 g”, “1,200 kg”."""
    return f"{plain(from_base(lot.balance, unit(lot.unit)))} {lot.unit}"
