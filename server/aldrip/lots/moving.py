"""Movements: the only way in which a lot's balance changes, under its lock."""

import uuid
from datetime import date
from decimal import Decimal

from django.db import models

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.lots.models import Lot, Movement
from aldrip_core.units import Quantity, exact, from_base, plain, unit


def amount(value: float | Decimal) -> Decimal:
    """A quantity in base units as it is stored: four decimals."""
    return exact(value)


def of_lot(lot: Lot, value: float | Decimal | str) -> Decimal:
    """A quantity in the unit that people read of a lot, as it is stored."""
    return Quantity.of(value, unit(lot.unit)).base


def shown_of(lot: Lot, value: Decimal | None = None) -> float:
    """A stored quantity of a lot (its balance) in the unit that people read."""
    return float(from_base(lot.balance if value is None else value, unit(lot.unit)))


def move(
    ctx: Ctx,
    lot: Lot,
    quantity: Decimal,
    kind: str,
    *,
    on: date,
    subject: models.Model | None = None,
    subject_code: str = "",
    reason: str = "",
    client_uuid: uuid.UUID | None = None,
    group: uuid.UUID | None = None,
) -> Movement:
    """Move a signed quantity of a lot, in its base unit. Raises Refused when more is taken than there is, or before it was there.

    Call inside a transaction; locks the lot.
    """
    locked = Lot.objects.select_for_update().get(pk=lot.pk)
    after = locked.balance + quantity
    if after < 0:
        own = unit(locked.unit)
        has, asked, short = (plain(from_base(one, own)) for one in (locked.balance, -quantity, -after))
        raise refuse(
            "quantity",
            "not_enough",
            f"Lot {locked.code} holds {has} {locked.unit}; {asked} {locked.unit} were asked, short by {short} {locked.unit}. "
            "Take less, or another lot.",
        )
    if on < locked.received_on:
        raise refuse(
            "on",
            "too_early",
            f"Lot {locked.code} is there since {locked.received_on}; its stock cannot change on {on}.",
        )
    locked.balance = after
    locked.save(update_fields=["balance"])
    lot.balance = after
    return Movement.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        lot=locked,
        quantity=quantity,
        kind=kind,
        happened_at=ctx.at(on),
        subject_kind=(subject._meta.model_name or "") if subject is not None else "",
        subject=getattr(subject, "uuid", None),
        subject_code=subject_code,
        reason=reason,
        client_uuid=client_uuid or uuid.uuid4(),
        group=group,
    )
