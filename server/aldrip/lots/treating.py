"""Treating a lot by the clock: a part of it becomes a lot of its own, nothing of it leaves while it runs, and it must be used in time."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

from django.db.models import Q
from django.utils import timezone

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import Refused, refuse
from aldrip.base.quantity import read_measure, split_number
from aldrip.base.words import day
from aldrip.diary import clocks
from aldrip.diary.models import Clock, ClockMark
from aldrip.lots.holds import hold
from aldrip.lots.models import Lot, LotParent, TestResult
from aldrip.lots.moving import move
from aldrip.lots.packing import is_packed
from aldrip.lots.taking import Leaving, balance_words, in_lots_unit
from aldrip.methods.models import Input, Treatment
from aldrip.methods.resolver import Library
from aldrip_core.names import plain
from aldrip_core.stages import Allowed
from aldrip_core.timed_procedure import Strayed, minutes_words, product_amount
from aldrip_core.units import Quantity, Unit, unit

BEFORE = "before it was treated"
SHOWN_AFTER = timedelta(hours=48)  # that a lot's last hour stays on the day sheet once it is past
SAMPLE_SEEDS = 1000  # of which a treated sample has hardly more; common practice, no source
#: What a label's rate is for, by its unit: of the seed's weight [kg], or of the water of a dip [L].
RATES = (("g/kg", "kg"), ("ml/kg", "kg"), ("g/L", "L"), ("ml/L", "L"))


@dataclass(frozen=True)
class TreatSpec:
    """What is done to a lot: which treatment, of how much (None: of all), with which product at which rate as typed."""

    treatment: str
    quantity: Quantity | None = None
    product: str = ""
    rate: str = ""
    water: str = ""
    note: str = ""


def offered(ctx: Ctx, lot: Lot) -> list[Treatment]:
    """Treatments of the library that are for such a lot, those of its crop first."""
    rows = Library(ctx).ordered(Treatment).filter(form=lot.form)
    crop = plain(lot.crop.name)
    fit = [row for row in rows if not row.crops or crop in {plain(name) for name in row.crops}]
    return sorted(fit, key=lambda row: (not row.crops, row.name.casefold()))


def sample_of(ctx: Ctx, lot: Lot, treatment: Treatment) -> bool:
    """Whether a sample of a lot was treated so and has germinated in a test since."""
    made = LotParent.objects.filter(parent=lot, how="treated").values("child__uuid")
    done = ctx.rows(Clock).filter(subject__in=made, treatment=treatment.slug).exclude(ended_at=None)
    tested = TestResult.objects.filter(lot__uuid__in=done.values("subject"), kind="germination", replaced_by=None)
    return tested.exclude(reason__endswith=BEFORE).exists()


@act
def treat(ctx: Ctx, lot_id: Ref, spec: TreatSpec, *, at: datetime | None = None, client_uuid: UUID) -> Clock:
    """Begin a treatment of a lot, or of a part of it, which becomes a lot of its own; its clock runs from now. Raises Refused."""
    known = ctx.rows(ClockMark).filter(client_uuid=client_uuid).select_related("clock").first()
    if known is not None:
        return known.clock
    lot = ctx.get(Lot, lot_id, lock=True)
    treatment = Library(ctx).get(Treatment, spec.treatment)
    _may_be(ctx, lot, treatment)
    amount = lot.balance if spec.quantity is None else in_lots_unit(lot, spec.quantity, "quantity")
    if not 0 < amount <= lot.balance:
        told = f"Lot {lot.code} holds {balance_words(lot)}; how much of it is treated? More than nothing, at most that."
        raise refuse("quantity", "out_of_range", told)
    few = _seeds(lot, amount)
    if treatment.heats and not sample_of(ctx, lot, treatment) and (few is None or few > SAMPLE_SEEDS):
        told = (
            f"No sample of lot {lot.code} was treated so and tested yet, and heat may kill what it is to clean. "
            "Treat all of this all the same?"
        )
        ctx.doubt("sample_first", "quantity", told)
    uses = _product(ctx, lot, spec, amount)
    subject = lot if amount == lot.balance else _part(ctx, lot, treatment, amount)
    clock = clocks.begin(
        ctx,
        clocks.ClockSpec(
            name=treatment.name,
            steps=treatment.steps,
            of=f"{_words(lot, amount)} of {lot.crop.name.lower()}",
            uses=uses,
            treatment=treatment.slug,
            use_within_h=treatment.use_within_h,
            note=spec.note,
        ),
        subject=subject,
        at=at,
        client_uuid=client_uuid,
    )
    if clock.begun_at < timezone.now() - timedelta(days=1):
        ctx.said.append(f"begun {day(ctx.local(clock.begun_at).date())}, written down now")
    return clock


def _may_be(ctx: Ctx, lot: Lot, treatment: Treatment) -> None:
    if lot.form != treatment.form:
        told = f"“{treatment.name}” is for {treatment.form}; lot {lot.code} is kept as {lot.form}."
        raise refuse("treatment", "other_form", told)
    if treatment.crops and plain(lot.crop.name) not in {plain(name) for name in treatment.crops}:
        told = f"“{treatment.name}” is for {', '.join(treatment.crops).lower()}, not for {lot.crop.name.lower()}. Choose another, or add one in Methods."
        raise refuse("treatment", "other_crop", told)
    if lot.balance <= 0:
        raise refuse("lot_id", "nothing", f"Nothing is left of lot {lot.code}.")
    if treatment.raw_only and lot.treatment:
        told = f"Lot {lot.code} is {lot.treatment}; “{treatment.name}” is for raw seed only. Choose a raw lot."
        raise refuse("treatment", "not_raw", told)
    clock = clocks.runs_on(ctx, lot.uuid)
    if clock is not None:
        raise refuse("lot_id", "in_treatment", f"{clock.name} runs on lot {lot.code}. End that first.")
    if is_packed(lot):
        raise refuse("lot_id", "packed", f"Lot {lot.code} stands in boxes. Unpack it first.")


def _seeds(lot: Lot, amount: Decimal) -> float | None:
    tgw = lot.tgw_g or lot.crop.tgw_g
    if unit(lot.unit) is Unit.SEED:
        return float(amount)
    return float(amount) / tgw * 1000 if tgw and unit(lot.unit).is_mass else None


def _words(lot: Lot, amount: Decimal) -> str:
    own = unit(lot.unit)
    return Quantity(amount, own).words()


def _product(ctx: Ctx, lot: Lot, spec: TreatSpec, amount: Decimal) -> str:
    """What is used, as the label's rate has it, in words. The rate is typed; none is known here. Raises Refused."""
    name = spec.product.strip()
    if not name:
        if spec.rate.strip():
            raise refuse("product", "missing", "Of which product is this the rate?")
        return ""
    known = Library(ctx).rows(Input).filter(Q(slug=name) | Q(name__iexact=name)).first()
    shown = known.name if known is not None else name
    said = f" {plain(f'{shown} {known.active}' if known is not None else shown)} "
    for banned in Library(ctx).rows(Input).filter(allowed=Allowed.BANNED.value):
        if f" {plain(banned.active or banned.name)} " in said:
            raise refuse("product", "banned", f"{banned.name} is banned: do not use it. Choose another product.")
    if known is not None and known.allowed == Allowed.OLD.value:
        ctx.doubt("old_product", "product", f"{shown} is old; there are better ways. Use it all the same?")
    if not spec.rate.strip():
        raise refuse("rate", "missing", "What does the label say? Write it as “2 g/kg”, “5 ml/kg” or “1 g/L”.")
    rate, of_what, per = _rate(spec.rate)
    much = _kilos(lot, amount) if per == "kg" else _water(spec.water)
    amount_words = f"{product_amount(rate=rate, of=much):.4g} {of_what}"
    return f"{shown}, {rate:.4g} {of_what}/{per} by its label: {amount_words}"


def _rate(text: str) -> tuple[float, str, str]:
    """A label's rate: its number, in what, and for a kilogram or a litre."""
    _, typed = split_number(text, "rate")
    for known, per in RATES:
        try:
            return read_measure(text, known, "rate"), known.split("/")[0], per
        except Refused as wrong:
            if wrong.errors[0].code != "unknown_unit":
                raise
        if not typed:
            break
    told = f"“{text}” is no rate of a label. Write it as “2 g/kg”, “5 ml/kg” or “1 g/L”."
    raise refuse("rate", "unknown_unit", told)


def _kilos(lot: Lot, amount: Decimal) -> float:
    own = unit(lot.unit)
    if own.is_mass:
        return float(amount) / 1000
    tgw = lot.tgw_g or lot.crop.tgw_g
    if own is Unit.SEED and tgw:
        return float(amount) * tgw / 1e6
    raise refuse(
        "rate", "other_unit", f"Lot {lot.code} is kept in {lot.unit}, not by weight. Take the rate for a litre of dip."
    )


def _water(text: str) -> float:
    if not text.strip():
        raise refuse("water", "missing", "How many litres of dip are mixed?")
    litres = read_measure(text, "L", "water")
    if not 0 < litres <= 100_000:
        raise refuse("water", "out_of_range", "How many litres? More than none, at most 100,000.")
    return litres


def _part(ctx: Ctx, lot: Lot, treatment: Treatment, amount: Decimal) -> Lot:
    """A part of a lot as a lot of its own: what goes over from the one to the other sums to nothing."""
    made = Lot.objects.create(
        organisation=ctx.organisation,
        code=ctx.next_code("lot")[0],
        received_on=ctx.today,
        treatment=lot.treatment,
        **{
            name: getattr(lot, name)
            for name in (
                "crop", "line", "form", "seed_class", "unit", "supplier", "supplier_ref", "tgw_g", "germination",
                "tested_on", "status", "label_number", "moisture_percent", "note",
            )
        },
    )  # fmt: skip
    group = uuid.uuid4()
    for of, signed, other in ((lot, -amount, made), (made, amount, lot)):
        move(ctx, of, signed, "treated", on=ctx.today, subject_code=other.code, reason=treatment.name, group=group)
    LotParent.objects.create(child=made, parent=lot, quantity=amount, how="treated")
    _tests_go_with(ctx, lot, made)
    return made


def _tests_go_with(ctx: Ctx, lot: Lot, made: Lot) -> None:
    """What was tested of the whole is known of its part, as of before it was treated."""
    rows = lot.test_results.filter(replaced_by=None).order_by("id")
    TestResult.objects.bulk_create(
        TestResult(
            organisation=ctx.organisation,
            by=one.by,
            lot=made,
            happened_at=one.happened_at,
            reason=f"of lot {lot.code}, {BEFORE}",
            **{
                name: getattr(one, name)
                for name in ("kind", "value", "seeds", "tested_on", "expires_on", "detail", "repeat", "certificate")
            },
        )
        for one in rows
    )


def ended(ctx: Ctx, clock: Clock, off: Sequence[Strayed]) -> None:
    """A lot's clock ended: it is marked as treated, with the hour until which it is to be used; what strayed is held."""
    if clock.subject_kind != "lot" or clock.subject is None:
        return
    lot = ctx.rows(Lot).select_for_update().filter(uuid=clock.subject).first()
    if lot is None or clock.ended_at is None:
        return
    treatment = Treatment(kind="") if not clock.treatment else _treatment(ctx, clock.treatment)
    if clock.outcome != Clock.Outcome.BROKEN_OFF:
        told = [part for part in lot.treatment.split("; ") if part]
        words = clock.uses.split(",")[0] or clock.name.lower()
        lot.treatment = "; ".join(dict.fromkeys([*told, words]))[:120]
        ago = timezone.now() - clock.ended_at
        until = ctx.now - ago + timedelta(hours=clock.use_within_h) if clock.use_within_h else None
        # Plants and cuttings wait no longer for having been dipped; seed begins anew.
        hours = [one for one in (until, lot.use_by if lot.form != "seed" else None) if one is not None]
        lot.use_by = min(hours, default=None)
        lot.save(update_fields=["treatment", "use_by"])
    harmed = bool(off) or clock.outcome == Clock.Outcome.BROKEN_OFF
    if harmed and treatment.heats and not lot.on_hold and lot.balance > 0:
        why = "; ".join(one.words() for one in off) or clock.note
        reason = f"{clock.name}: {why}. Test its germination before it is sown"
        if not lot.holds.filter(lifts=None).exists():
            hold(ctx, lot.pk, reason=reason, client_uuid=uuid.uuid4())


def _treatment(ctx: Ctx, slug: str) -> Treatment:
    return Library(ctx).rows(Treatment).filter(slug=slug).first() or Treatment(kind="")


def also_running(ctx: Ctx) -> list[dict[str, Any]]:
    """Lots that were treated and have an hour until which they are to be used."""
    rows = ctx.rows(Lot).filter(use_by__gte=ctx.now - SHOWN_AFTER, balance__gt=0).select_related("crop")
    done = ctx.rows(Clock).filter(subject__in=[lot.uuid for lot in rows]).exclude(ended_at=None).order_by("ended_at")
    ended_at = {clock.subject: clock.ended_at for clock in done}
    # The hour is of the house's clock; shown is real time, so that both lie on one scale.
    lead = timezone.now() - ctx.now
    return [
        {
            "kind": "use_by",
            "name": f"{lot.treatment[:1].upper()}{lot.treatment[1:]}: use lot {lot.code}",
            "code": lot.code,
            "words": f"{balance_words(lot)} of {lot.crop.name.lower()}",
            "since": ended_at.get(lot.uuid, timezone.now()),
            "until": lot.use_by + lead if lot.use_by else None,
            "link": f"/lots?lot={lot.uuid}",
        }
        for lot in rows
    ]


def may_leave(ctx: Ctx, leaving: Leaving) -> None:
    """Refuse that something leaves a lot while a treatment runs on it; ask where it was to be used before now."""
    lot, kind, field, used = leaving.lot, leaving.what, leaving.field, leaving.used
    clock = clocks.runs_on(ctx, lot.uuid)
    if clock is not None:
        told = f"{clock.name} runs on lot {lot.code}; nothing of it is {kind} before that has ended. End it on the day sheet."
        raise refuse(field, "in_treatment", told)
    if used and lot.use_by is not None and lot.use_by < ctx.now:
        late = minutes_words((ctx.now - lot.use_by).total_seconds() / 60)
        told = f"Lot {lot.code} was to be used within its time after {lot.treatment}; that was over {late} ago. Use it all the same?"
        ctx.doubt("use_by", field, told)
