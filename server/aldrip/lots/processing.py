"""From the load at the door to clean seed: intake, drying, cleaning. What goes in comes out or is named as loss."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from django.db import models

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.lots.holds import hold
from aldrip.lots.models import Intake, Lot, LotParent, Movement, Status
from aldrip.lots.moving import move, of_lot, shown_of
from aldrip.lots.taking import take_from_stock
from aldrip_core.drying import drying
from aldrip_core.intake import LEAST_PURE, judge_intake
from aldrip_core.units import Quantity, exact, unit

USUAL_LOSS = 0.02  # share that may vanish as dust and spillage before somebody asks why; common practice, no source


@dataclass(frozen=True)
class Load:
    """A load on the weighbridge: gross and tare [kg], moisture [% wet basis], what the sample showed."""

    gross_kg: float
    tare_kg: float
    moisture_percent: float
    purity_percent: float | None = None
    pests: str = ""
    refused: bool = False

    @property
    def net_kg(self) -> float:
        return self.gross_kg - self.tare_kg


def check_load(load: Load) -> None:
    """Refuse what no weighbridge or meter can show."""
    if load.gross_kg <= 0 or load.gross_kg > 100_000:
        raise refuse(
            "gross_kg", "out_of_range", f"A gross weight of {load.gross_kg:,.0f} kg cannot be; up to 100 000 kg."
        )
    if not 0 <= load.tare_kg < load.gross_kg:
        raise refuse(
            "tare_kg",
            "out_of_range",
            f"The tare of {load.tare_kg:,.0f} kg must lie below the gross of {load.gross_kg:,.0f} kg.",
        )
    if not 0 < load.moisture_percent < 60:
        raise refuse(
            "moisture_percent",
            "out_of_range",
            f"{load.moisture_percent:g} % moisture cannot be; above 0 and below 60 %.",
        )
    if load.purity_percent is not None and not 0 <= load.purity_percent <= 100:
        raise refuse("purity_percent", "out_of_range", "Purity lies between 0 and 100 %.")


def take_in_load(
    ctx: Ctx,
    load: Load,
    lot: Lot | None,
    *,
    subject: models.Model,
    subject_code: str,
    limit_percent: float | None,
    on: date,
    client_uuid: uuid.UUID,
    purity_min: float | None = LEAST_PURE,
) -> Intake:
    """Record a load. Wet it is taken in to be dried at once, dirty or infested apart; a refused one makes no lot.

    What lives in it holds its lot, and all that is made of it, until somebody says what shows that it is sound.
    """
    judged = judge_intake(
        moisture=load.moisture_percent,
        moisture_max=limit_percent,
        purity=load.purity_percent,
        purity_min=purity_min,
        seen=[load.pests],
    )
    decision = "refuse" if load.refused else judged.taken.value
    told = f"{'; '.join(judged.reasons).capitalize()}. Refuse this load, or is it taken in apart, away from other seed?"
    ctx.doubt("apart", "purity_percent" if not load.pests.strip() else "pests", told if decision == "apart" else None)
    intake = Intake.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        lot=lot,
        subject_kind=subject._meta.model_name or "",
        subject=subject.uuid,  # type: ignore[attr-defined]
        subject_code=subject_code,
        gross_kg=Decimal(str(round(load.gross_kg, 2))),
        tare_kg=Decimal(str(round(load.tare_kg, 2))),
        moisture_percent=load.moisture_percent,
        limit_percent=limit_percent,
        purity_percent=load.purity_percent,
        pests=load.pests[:120],
        decision=decision,
        happened_at=ctx.at(on),
        client_uuid=client_uuid,
    )
    if lot is not None:
        move(
            ctx,
            lot,
            of_lot(lot, load.net_kg),
            "harvested",
            on=on,
            subject=subject,
            subject_code=subject_code,
            client_uuid=client_uuid,
        )
        lot.moisture_percent = load.moisture_percent
        lot.save(update_fields=["moisture_percent"])
        if load.pests.strip():
            hold(ctx, lot.pk, reason=f"seen at the door: {load.pests.strip()}", client_uuid=uuid.uuid4())
    return intake


def own_lot(ctx: Ctx, lot_id: Ref, *states: str) -> Lot:
    """A lot of own seed in one of these states, locked. Raises Refused otherwise."""
    lot = ctx.get(Lot, lot_id, lock=True)
    if not lot.status:
        raise refuse(
            "lot_id", "not_own", f"Lot {lot.code} was bought in; only own seed is dried, cleaned and judged here."
        )
    if lot.status not in states:
        raise refuse(
            "lot_id", "wrong_state", f"Lot {lot.code} is {Status(lot.status).label}; this comes at another time."
        )
    return lot


@dataclass(frozen=True)
class Dried:
    """A drying: moisture afterwards [% wet basis], the weight if it was weighed [kg], where the rest went."""

    to_percent: float
    on: date
    client_uuid: uuid.UUID
    mass_after_kg: float | None = None
    reason: str = ""


@act
def dry(ctx: Ctx, lot_id: Ref, dried: Dried) -> Lot:
    """A raw lot was dried: the water leaves it. With a weight after drying, what is missing besides water is asked for."""
    to_percent, mass_after_kg, on, reason = dried.to_percent, dried.mass_after_kg, dried.on, dried.reason
    client_uuid = dried.client_uuid
    lot = ctx.get(Lot, lot_id, lock=True)
    if ctx.rows(Movement).filter(client_uuid=client_uuid).exists():
        return lot
    lot = own_lot(ctx, lot_id, Status.RAW, Status.CLEAN)
    _not_in_future(ctx, on)
    if lot.moisture_percent is None:
        raise refuse("lot_id", "no_moisture", f"Lot {lot.code} has no moisture reading to dry from.")
    if to_percent >= lot.moisture_percent:
        raise refuse(
            "to_percent",
            "out_of_range",
            f"Lot {lot.code} stands at {lot.moisture_percent:g} %; drying to {to_percent:g} % takes no water out.",
        )
    if to_percent < 2:
        raise refuse("to_percent", "out_of_range", f"{to_percent:g} % is drier than seed is dried; 2 % or more.")
    worked = drying(mass_kg=shown_of(lot), from_percent=lot.moisture_percent, to_percent=to_percent)
    group = uuid.uuid4()
    take_from_stock(
        ctx,
        lot,
        Quantity.of(worked.water_kg, unit(lot.unit)),
        "water dried off",
        on=on,
        client_uuid=client_uuid,
        group=group,
    )
    lot.refresh_from_db(fields=["balance"])
    if mass_after_kg is not None:
        missing = lot.balance - of_lot(lot, mass_after_kg)
        if missing < 0:
            raise refuse(
                "mass_after_kg",
                "too_heavy",
                f"By the meter {shown_of(lot):,.1f} kg should be left; {mass_after_kg:,.1f} kg is {-shown_of(lot, missing):,.1f} kg more. Read moisture and scales again.",
            )
        if shown_of(lot, missing) > USUAL_LOSS * worked.dry_mass_kg and not reason.strip():
            raise refuse(
                "reason",
                "missing",
                f"{shown_of(lot, missing):,.1f} kg more are gone than the water, over {USUAL_LOSS * 100:g} %. Say where they went.",
            )
        if missing:
            take_from_stock(
                ctx, lot, Quantity(missing, unit(lot.unit)), "drying loss", on=on, reason=reason, group=group
            )
    lot.moisture_percent = to_percent
    lot.save(update_fields=["moisture_percent"])
    ctx.record("lot.dry", f"Dried {lot.code} to {to_percent:g} %: {worked.water_kg:,.1f} kg of water left it.", lot)
    return lot


@dataclass(frozen=True)
class Part:
    """So many kilos of a raw lot that go over the cleaner."""

    lot_id: int
    kg: float


@dataclass(frozen=True)
class Cleaned:
    """A run of the cleaner: what went in, what came out clean and as screenings [kg], where the rest went."""

    parts: Sequence[Part]
    clean_kg: float
    screenings_kg: float
    on: date
    client_uuid: uuid.UUID
    reason: str = ""


@act
def clean(ctx: Ctx, run: Cleaned) -> Lot:
    """Lots went over the cleaner, as harvested or once more: a new lot with its parents, to be tested anew.

    Screenings and loss are named; what was clean already is cleaned again only to take something out, or to blend.
    Several lots of one cultivar, class and moisture may be blended so; different cultivars never.
    """
    parts, clean_kg, screenings_kg = run.parts, run.clean_kg, run.screenings_kg
    on, client_uuid, reason = run.on, run.client_uuid, run.reason
    _not_in_future(ctx, on)
    if not parts or len({part.lot_id for part in parts}) != len(parts):
        raise refuse("lots", "missing", "Which lots went over the cleaner? Name each once.")
    list(
        ctx.rows(Lot).select_for_update().filter(pk__in=[part.lot_id for part in parts]).order_by("pk")
    )  # one order, no deadlock
    done = ctx.rows(Lot).filter(movements__client_uuid=client_uuid).first()
    if done is not None:
        return done
    lots = [own_lot(ctx, part.lot_id, Status.RAW, Status.CLEAN, Status.HELD) for part in parts]
    first = lots[0]
    for index, lot in enumerate(lots):
        _may_go_with(first, lot, index)
    for index, (part, lot) in enumerate(zip(parts, lots, strict=True)):
        if of_lot(lot, part.kg) > lot.balance:
            raise refuse(
                f"lots.{index}.kg",
                "not_enough",
                f"Lot {lot.code} holds {shown_of(lot):,.1f} kg; {part.kg:,.1f} kg were to go over the cleaner, "
                f"{part.kg - shown_of(lot):,.1f} kg too many.",
            )
    taken = sum((of_lot(first, part.kg) for part in parts), Decimal(0))
    _adds_up(first, taken, run)
    made = Lot.objects.create(
        organisation=ctx.organisation,
        code=ctx.next_code("lot")[0],
        crop=first.crop,
        line=first.line,
        form="seed",
        unit="kg",
        seed_class=first.seed_class,
        received_on=on,
        status=Status.CLEAN,
        tgw_g=first.tgw_g,
        moisture_percent=max((lot.moisture_percent for lot in lots if lot.moisture_percent is not None), default=None),
        note="; ".join(dict.fromkeys(lot.note for lot in lots if lot.note))[:300],
    )
    group = uuid.uuid4()
    move(ctx, made, of_lot(made, clean_kg), "cleaned", on=on, client_uuid=client_uuid, group=group)
    _take_from(ctx, parts, lots, taken, of_lot(first, clean_kg), of_lot(first, screenings_kg), on, group, reason)
    for part, lot in zip(parts, lots, strict=True):
        LotParent.objects.create(child=made, parent=lot, quantity=of_lot(lot, part.kg), how="cleaned")
    codes = ", ".join(lot.code for lot in lots)
    ctx.record(
        "lot.clean",
        f"Cleaned {codes} into {made.code}: {clean_kg:,.0f} kg clean, {screenings_kg:,.0f} kg screenings.",
        made,
    )
    return made


def _adds_up(first: Lot, taken: Decimal, run: Cleaned) -> None:
    """Refuse what cannot have come out of what went in, and what vanished without a word."""
    clean_kg, screenings_kg = run.clean_kg, run.screenings_kg
    out = of_lot(first, clean_kg) + of_lot(first, screenings_kg)
    if taken <= 0 or clean_kg <= 0 or screenings_kg < 0:
        raise refuse("clean_kg", "missing", "How many kilos came out clean, and how many as screenings?")
    if out > taken:
        raise refuse(
            "clean_kg",
            "too_much",
            f"{shown_of(first, out):,.1f} kg came out of {shown_of(first, taken):,.1f} kg that went in, {shown_of(first, out - taken):,.1f} kg too many.",
        )
    lost = taken - out
    if float(lost) > USUAL_LOSS * float(taken) and not run.reason.strip():
        raise refuse(
            "reason",
            "missing",
            f"{shown_of(first, lost):,.1f} kg are neither clean nor screenings, over {USUAL_LOSS * 100:g} %. Say where they went.",
        )
    if len(run.parts) == 1 and first.status != Status.RAW and screenings_kg <= 0:
        raise refuse(
            "screenings_kg",
            "nothing_taken_out",
            f"Lot {first.code} is clean already, and nothing was taken out of it. Weigh the screenings.",
        )


def _may_go_with(first: Lot, lot: Lot, index: int) -> None:
    """Refuse what may not go over the cleaner together, or not yet."""
    if (lot.crop_id, lot.line_id) != (first.crop_id, first.line_id):
        raise refuse(
            f"lots.{index}",
            "other_cultivar",
            f"Lots {first.code} and {lot.code} are different cultivars; they are never blended.",
        )
    if lot.seed_class != first.seed_class:
        raise refuse(
            f"lots.{index}",
            "other_class",
            f"Lots {first.code} and {lot.code} are of different classes. Clean them one after the other.",
        )
    if lot.on_hold != first.on_hold:
        held, free = (lot, first) if lot.on_hold else (first, lot)
        raise refuse(
            f"lots.{index}",
            "on_hold",
            f"Lot {held.code} is {held.on_hold}; put together with {free.code} it would hold that as well. Clean it alone.",
        )
    intake = Intake.objects.filter(lot=lot).first()
    apart = (
        intake if intake and intake.decision == "apart" else Intake.objects.filter(lot=first, decision="apart").first()
    )
    if apart is not None and lot.pk != first.pk and {lot.status, first.status} & {Status.RAW}:
        raise refuse(
            f"lots.{index}",
            "apart",
            f"Lot {apart.lot.code if apart.lot else ''} was taken in apart. Clean it by itself; what comes out may be blended.",
        )
    if intake and intake.limit_percent and lot.moisture_percent and lot.moisture_percent > intake.limit_percent:
        raise refuse(
            f"lots.{index}",
            "too_wet",
            f"Lot {lot.code} stands at {lot.moisture_percent:g} %, over the {intake.limit_percent:g} % of intake. Dry it before it is cleaned.",
        )


def _take_from(
    ctx: Ctx,
    parts: Sequence[Part],
    lots: Sequence[Lot],
    taken: Decimal,
    clean_kg: Decimal,
    screenings: Decimal,
    on: date,
    group: uuid.UUID,
    reason: str,
) -> None:
    """Each lot gives its share of clean seed, screenings and loss; the last takes what rounding left."""
    given = {"cleaned": Decimal(0), "screenings": Decimal(0)}
    for index, (part, lot) in enumerate(zip(parts, lots, strict=True)):
        last, whole = index == len(parts) - 1, of_lot(lot, part.kg)
        shares = {}
        for kind, total in (("cleaned", clean_kg), ("screenings", screenings)):
            shares[kind] = total - given[kind] if last else exact(total * whole / taken)
            given[kind] += shares[kind]
        rest = whole - shares["cleaned"] - shares["screenings"]
        for kind, quantity in (*shares.items(), ("cleaning loss", rest)):
            if quantity:
                take_from_stock(
                    ctx,
                    lot,
                    Quantity(quantity, unit(lot.unit)),
                    kind,
                    on=on,
                    group=group,
                    reason=reason if kind == "cleaning loss" else "",
                )


def _not_in_future(ctx: Ctx, on: date) -> None:
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Record it on the day.")
