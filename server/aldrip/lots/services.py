"""Lots: receive, move, test. A lot's balance changes only with a movement, under its lock."""

from collections.abc import Sequence
from datetime import date

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import share
from aldrip.lots.models import Lot, TestResult
from aldrip.lots.moving import move, shown_of
from aldrip.lots.taking import in_lots_unit
from aldrip.methods.models import Crop, Line, Method
from aldrip.methods.resolver import Library
from aldrip.methods.services import class_scheme
from aldrip_core.plausible import LOW_GERMINATION, how_far
from aldrip_core.units import Quantity, Unit, from_base, plain, unit

#: What is bought in: seed, and what a batch may be begun with instead.
BOUGHT_AS: dict[str, Unit] = {
    "seed": Unit.GRAM,
    "plant": Unit.PLANT,
    "cutting": Unit.CUTTING,
    "tuber": Unit.TUBER,
    "division": Unit.DIVISION,
}


def _doubt_values(ctx: Ctx, crop: Crop, form: str, germination: float | None, tgw_g: float | None) -> None:
    """A germination or a weight that seed of this crop hardly has is asked about."""
    if germination is not None and form == "seed" and germination < LOW_GERMINATION:
        told = f"{germination * 100:g} % germination is hardly ever sold. Is it so?"
        ctx.doubt("germination", "germination_percent", told)
    if tgw_g is not None and crop.tgw_g:
        far = how_far(tgw_g, crop.tgw_g)
        ctx.doubt(
            "tgw",
            "tgw_g",
            far and f"{tgw_g:g} g a thousand is {far} what {crop.name.lower()} weighs, {crop.tgw_g:g} g. Is it so?",
        )


@act
def receive(
    ctx: Ctx,
    *,
    crop_id: int,
    line_id: int | None,
    quantity: Quantity | None,
    supplier: str = "",
    supplier_ref: str = "",
    germination: float | None = None,
    tgw_g: float | None = None,
    tested_on: date | None = None,
    packets: int | None = None,
    packet_size: Quantity | None = None,
    treatment: str = "",
    received_on: date | None = None,
    note: str = "",
    seed_class: str = "",
    label_number: str = "",
    form: str = "seed",
) -> Lot:
    """Take what came into stock with its identity, its test and its quantity: seed, or what a batch is begun with."""
    crop = ctx.get(Crop, crop_id, shared=True)
    line = ctx.get(Line, line_id, shared=True) if line_id else None
    if line is not None and line.crop.slug != crop.slug:
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
    if packets and packet_size is not None:
        quantity = Quantity(packet_size.base * packets, packet_size.unit)
    if quantity is None or quantity.base <= 0:
        raise refuse("quantity", "missing", "How much came? Enter a weight or seeds, or packets and their size.")
    of = Unit.GRAM if quantity.unit.is_mass else quantity.unit  # what is bought is weighed in grams
    known = forms_of(ctx, crop)
    _check_form(form, of, known, tested=germination is not None or tgw_g is not None)
    lot = Lot.objects.create(
        organisation=ctx.organisation,
        code=ctx.next_code("lot")[0],
        crop=crop,
        line=line,
        form=form,
        unit=of.words,
        supplier=supplier,
        supplier_ref=supplier_ref,
        received_on=on,
        packets=packets,
        packet_size=packet_size.base if packet_size is not None else None,
        treatment=treatment,
        note=note,
        seed_class=_class_of(ctx, seed_class),
        label_number=label_number.strip(),
    )
    move(ctx, lot, quantity.base, "received", on=on, reason=supplier_ref)
    if germination is not None:
        record_test(ctx, lot.pk, kind="germination", value=germination, tested_on=tested_on or on)
    if tgw_g is not None:
        record_test(ctx, lot.pk, kind="tgw", value=tgw_g, tested_on=tested_on or on)
    _doubt_values(ctx, crop, form, germination, tgw_g)
    lot.refresh_from_db()
    ctx.record(
        "lot.receive", f"Received lot {lot.code}: {Quantity(quantity.base, of).words()} of {crop.name.lower()}.", lot
    )
    return lot


def usual_unit(ctx: Ctx, crop_id: int, form: str) -> Unit:
    """The unit in which what comes in a form is counted or weighed where none is written."""
    if form in BOUGHT_AS:
        return BOUGHT_AS[form]
    crop = ctx.get(Crop, crop_id, shared=True)
    method = Library(ctx).rows(Method).filter(crop__slug=crop.slug, form=form).first()
    return unit(method.unit) if method else Unit.PLANT


def forms_of(ctx: Ctx, crop: Crop) -> list[str]:
    """As what a crop may be received: to begin with, or raised elsewhere in a form that is handed over here."""
    rows = Library(ctx).rows(Method).filter(crop__slug=crop.slug)
    return list(dict.fromkeys([*BOUGHT_AS, *rows.order_by("form").values_list("form", flat=True)]))


def _check_form(form: str, of: Unit, known: Sequence[str], *, tested: bool) -> None:
    """Refuse what cannot be of what came: plants are counted, and only seed germinates in a test."""
    if form not in known:
        raise refuse("form", "not_a_choice", f"“{form}” is none of {', '.join(known)}.")
    if form != "seed" and not of.is_pieces:
        raise refuse("quantity", "not_counted", f"A {form} is counted: write how many came.")
    if form != "seed" and tested:
        raise refuse("value", "not_seed", "Germination and thousand-grain weight are of seed.")


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


@act
def record_test(
    ctx: Ctx, lot_id: Ref, *, kind: str, value: float, tested_on: date, seeds: int | None = None
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
        organisation=ctx.organisation,
        by=ctx.user,
        lot=lot,
        kind=kind,
        value=value,
        seeds=seeds,
        tested_on=tested_on,
        happened_at=ctx.at(tested_on),
    )
    newest = lot.test_results.filter(kind=kind, replaced_by=None).order_by("-tested_on", "-id").first()
    if newest is not None and kind == "germination":
        lot.germination, lot.tested_on = newest.value, newest.tested_on
    elif newest is not None:
        lot.tgw_g = newest.value
    lot.save(update_fields=["germination", "tested_on", "tgw_g"])
    shown = f"{share(value)} germination" if kind == "germination" else f"{value:g} g a thousand"
    ctx.record("lot.test", f"Lot {lot.code} tested: {shown}.", lot)
    return result


@act
def correct_balance(ctx: Ctx, lot_id: Ref, *, counted: Quantity, reason: str) -> Lot:
    """Stock counted by hand: the difference is a movement with its reason."""
    lot = ctx.get(Lot, lot_id, lock=True)
    if not reason.strip():
        raise refuse("reason", "missing", "Say why the balance is another one, such as “weighed again”.")
    if counted.base < 0:
        raise refuse("counted", "out_of_range", "Less than nothing cannot be in stock.")
    difference = in_lots_unit(lot, counted, "counted") - lot.balance
    if lot.status and difference > 0:
        raise refuse(
            "counted",
            "own_seed",
            f"Lot {lot.code} is own seed; {shown_of(lot, difference):,.1f} {lot.unit} more can only come in by a load or from the cleaner. Weigh again.",
        )
    if difference:
        move(ctx, lot, difference, "corrected", on=ctx.today, reason=reason)
        ctx.record(
            "lot.correct",
            f"Lot {lot.code} corrected by {'+' if difference > 0 else ''}{plain(from_base(difference, unit(lot.unit)))} {lot.unit}: {reason}.",
            lot,
        )
    return lot
