"""Lots: receive, move, test. A lot's balance changes only with a movement, under its lock."""

import uuid
from datetime import date
from decimal import Decimal

from django.db import models, transaction

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.base.words import share
from aldrip.lots.models import Lot, Movement, TestResult
from aldrip.methods.models import Crop, Line
from aldrip.methods.services import class_scheme

SMALLEST = Decimal("0.0001")


def amount(value: float | Decimal) -> Decimal:
    """A quantity as it is stored: four decimals."""
    return Decimal(str(value)).quantize(SMALLEST)


def move(
    ctx: Ctx, lot: Lot, quantity: Decimal, kind: str, *, on: date, subject: models.Model | None = None,
    subject_code: str = "", reason: str = "", client_uuid: uuid.UUID | None = None, group: uuid.UUID | None = None,
) -> Movement:  # fmt: skip
    """Move a signed quantity of a lot. Raises Refused when more is taken than there is, or before it was there.

    Call inside a transaction; locks the lot.
    """
    locked = Lot.objects.select_for_update().get(pk=lot.pk)
    after = locked.balance + quantity
    if after < 0:
        raise refuse(
            "quantity", "not_enough",
            f"Lot {locked.code} holds {locked.balance.normalize():,f} {locked.unit}; {-quantity.normalize():,f} {locked.unit} "
            f"were asked, short by {-after.normalize():,f} {locked.unit}. Take less, or another lot.",
        )  # fmt: skip
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
        organisation=ctx.organisation, by=ctx.user, lot=locked, quantity=quantity, kind=kind, happened_at=ctx.at(on),
        subject_kind=(subject._meta.model_name or "") if subject is not None else "", subject_id=subject.pk if subject else None,
        subject_code=subject_code, reason=reason, client_uuid=client_uuid or uuid.uuid4(), group=group,
    )  # fmt: skip


@transaction.atomic
def receive(
    ctx: Ctx, *, crop_id: int, line_id: int | None, quantity_g: float, supplier: str = "", supplier_ref: str = "",
    germination: float | None = None, tgw_g: float | None = None, tested_on: date | None = None, packets: int | None = None,
    packet_size_g: float | None = None, treatment: str = "", received_on: date | None = None, note: str = "", seed_class: str = "", label_number: str = "",
) -> Lot:  # fmt: skip
    """Take a seed lot into stock with its identity, its test and its quantity."""
    crop = ctx.get(Crop, crop_id, shared=True)
    line = ctx.get(Line, line_id, shared=True) if line_id else None
    if line is not None and line.crop_id != crop.pk:
        raise refuse(
            "line_id", "other_crop", f"{line.name} is not {crop.name.lower()}. Choose a cultivar of that crop."
        )
    on = received_on or ctx.today
    if on > ctx.today:
        raise refuse("received_on", "in_the_future", f"{on} is still to come. Enter the day on which it arrived.")
    if tested_on is not None and tested_on > ctx.today:
        raise refuse(
            "tested_on", "in_the_future", f"A test of {tested_on} is still to come. Enter the day on the label."
        )
    if packets and packet_size_g:
        quantity_g = packets * packet_size_g
    if quantity_g <= 0:
        raise refuse("quantity_g", "missing", "How much came? Enter grams, or packets and their size.")
    lot = Lot.objects.create(
        organisation=ctx.organisation, code=ctx.next_code("lot")[0], crop=crop, line=line, supplier=supplier,
        supplier_ref=supplier_ref, received_on=on, packets=packets,
        packet_size=amount(packet_size_g) if packet_size_g else None, treatment=treatment, note=note,
        seed_class=_class_of(ctx, seed_class), label_number=label_number.strip(),
    )  # fmt: skip
    move(ctx, lot, amount(quantity_g), "received", on=on, reason=supplier_ref)
    if germination is not None:
        record_test(ctx, lot.pk, kind="germination", value=germination, tested_on=tested_on or on)
    if tgw_g is not None:
        record_test(ctx, lot.pk, kind="tgw", value=tgw_g, tested_on=tested_on or on)
    lot.refresh_from_db()
    ctx.record("lot.receive", f"Received lot {lot.code}: {quantity_g:,.1f} g of {crop.name.lower()}.", lot)
    return lot


def _class_of(ctx: Ctx, text: str) -> str:
    """A class of the house's scheme by its name. Raises Refused for another one."""
    if not text.strip():
        return ""
    scheme = class_scheme(ctx)
    names = scheme.names() if scheme else {}
    for slug, name in names.items():
        if text.strip().lower() in (slug, name.lower()):
            return slug
    raise refuse(
        "seed_class", "unknown_class", f"“{text}” is no class of seed here. Known: {', '.join(names.values())}."
    )


@transaction.atomic
def record_test(
    ctx: Ctx, lot_id: int, *, kind: str, value: float, tested_on: date, seeds: int | None = None
) -> TestResult:
    """A test result; the newest of its kind becomes what the lot is sown by."""
    lot = ctx.get(Lot, lot_id, lock=True)
    if lot.status and kind == "germination":
        raise refuse(
            "kind", "needs_replicates", f"Lot {lot.code} is own seed: enter its germination replicate by replicate."
        )
    if kind not in ("germination", "tgw"):
        raise refuse("kind", "not_a_choice", "Germination and thousand-grain weight are entered here.")
    if kind == "germination" and not 0 <= value <= 1:
        raise refuse("value", "out_of_range", f"Germination lies between 0 and 100 %, not {share(value)}.")
    if kind == "tgw" and not 0 < value <= 2000:
        raise refuse("value", "out_of_range", f"A thousand-grain weight of {value:g} g cannot be; 0.01 to 2 000 g.")
    if tested_on > ctx.today:
        raise refuse("tested_on", "in_the_future", f"{tested_on} is still to come.")
    result = TestResult.objects.create(
        organisation=ctx.organisation, by=ctx.user, lot=lot, kind=kind, value=value, seeds=seeds, tested_on=tested_on,
        happened_at=ctx.at(tested_on),
    )  # fmt: skip
    newest = lot.test_results.filter(kind=kind, replaced_by=None).order_by("-tested_on", "-id").first()
    if newest is not None and kind == "germination":
        lot.germination, lot.tested_on = newest.value, newest.tested_on
    elif newest is not None:
        lot.tgw_g = newest.value
    lot.save(update_fields=["germination", "tested_on", "tgw_g"])
    shown = f"{share(value)} germination" if kind == "germination" else f"{value:g} g a thousand"
    ctx.record("lot.test", f"Lot {lot.code} tested: {shown}.", lot)
    return result


@transaction.atomic
def correct_balance(ctx: Ctx, lot_id: int, *, counted: float, reason: str) -> Lot:
    """Stock counted by hand: the difference is a movement with its reason."""
    lot = ctx.get(Lot, lot_id, lock=True)
    if not reason.strip():
        raise refuse("reason", "missing", "Say why the balance is another one, such as “weighed again”.")
    if counted < 0:
        raise refuse("counted", "out_of_range", "Less than nothing cannot be in stock.")
    difference = amount(counted) - lot.balance
    if lot.status and difference > 0:
        raise refuse(
            "counted", "own_seed",
            f"Lot {lot.code} is own seed; {float(difference):,.1f} kg more can only come in by a load or from the cleaner. Weigh again.",
        )  # fmt: skip
    if difference:
        move(ctx, lot, difference, "corrected", on=ctx.today, reason=reason)
        ctx.record(
            "lot.correct", f"Lot {lot.code} corrected by {difference.normalize():+,f} {lot.unit}: {reason}.", lot
        )
    return lot
