"""Lots: what is in stock, from where, with which test."""

import uuid
from datetime import date, datetime
from typing import Any, Literal

from django.http import HttpResponse
from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.pdf import answer_pdf, pdf, qr
from aldrip.base.quantity import read_measure, read_quantity, split_number
from aldrip.base.schemas import Done, LotStatus, StepOut, steps
from aldrip.base.typed import Count, MaybeCount, MaybeNumber, MaybePercent, Percent, Share
from aldrip.base.words import day, who
from aldrip.lots import holds, packing, releasing, services
from aldrip.lots.descent import descent
from aldrip.lots.laboratory import Result, record_result, standing_among
from aldrip.lots.models import Intake, Lot, Movement, Status, TestResult
from aldrip.lots.moving import shown_of
from aldrip.lots.releasing import class_names
from aldrip_core.units import Quantity, Unit, unit

room = Room("lots")
OLD_TEST_DAYS = 365


class ClassOut(Schema):
    slug: str
    name: str


class LotOut(Schema):
    id: int
    code: str
    crop_id: int
    crop: str
    cultivar: str
    form: str
    unit: str
    balance: float
    supplier: str
    supplier_ref: str
    received_on: date
    packets: int | None
    packet_size: float | None
    tgw_g: float | None
    germination: float | None
    tested_on: date | None
    test_is_old: bool
    treatment: str
    note: str
    seed_class: str
    class_name: str
    status: LotStatus
    status_words: str
    label_number: str
    moisture_percent: float | None
    on_hold: str  # by which hold it is held, in words
    use_by: datetime | None  # after a treatment
    use_by_words: str  # on the clock of the house, wherever it is read


class MovementOut(Schema):
    id: int
    kind: str
    quantity: float
    happened_at: datetime
    subject_kind: str
    subject_id: uuid.UUID | None
    subject_code: str
    by: str
    reason: str


class TestOut(Schema):
    id: int
    kind: str
    value: float
    seeds: int | None
    tested_on: date
    by: str
    expires_on: date | None
    repeat: str
    certificate: str
    detail: dict[str, Any]
    stands: bool
    reason: str


class AttributeOut(Schema):
    attribute: str
    words: str
    unit: str
    asked: str
    outcome: str
    value: float | None
    margin: float | None
    low: float | None
    high: float | None
    on: date | None
    sentence: str
    required: bool
    statutory: bool
    source: str
    note: str


class JudgedOut(Schema):
    standard: str
    proposal: str
    sentence: str
    downgrade_to: str | None
    attributes: list[AttributeOut]
    working: list[StepOut]


class SignedOut(Schema):
    id: int
    decision: str
    sentence: str
    reason: str
    by: str
    role: str
    seed_class: str
    happened_at: datetime


class SealOut(Schema):
    number: str
    kind: str


class IntakeOut(Schema):
    gross_kg: float
    tare_kg: float
    moisture_percent: float
    limit_percent: float | None
    purity_percent: float | None
    pests: str
    decision: str
    batch: str


class LotDetail(LotOut):
    uuid: uuid.UUID
    movements: list[MovementOut]
    tests: list[TestOut]
    judged: JudgedOut | None
    signed: list[SignedOut]
    seals: list[SealOut]
    intake: IntakeOut | None
    lower_classes: list[ClassOut]


def lot_out(ctx: Ctx, lot: Lot, classes: dict[str, str] | None = None) -> dict[str, Any]:
    classes = class_names(ctx) if classes is None else classes
    names = (
        "id",
        "code",
        "crop_id",
        "form",
        "unit",
        "supplier",
        "supplier_ref",
        "received_on",
        "packets",
        "tgw_g",
        "germination",
        "tested_on",
        "treatment",
        "note",
        "seed_class",
        "status",
        "label_number",
        "moisture_percent",
        "on_hold",
        "use_by",
    )
    return {
        **{name: getattr(lot, name) for name in names},
        "crop": lot.crop.name,
        "cultivar": lot.line.name if lot.line else "",
        "class_name": classes.get(lot.seed_class, lot.seed_class),
        "status_words": lot.get_status_display(),
        "use_by_words": packing.until_words(ctx, lot),
        "balance": shown_of(lot),
        "packet_size": shown_of(lot, lot.packet_size) if lot.packet_size is not None else None,
        "test_is_old": lot.form == "seed"
        and lot.status in ("", "released")
        and lot.balance > 0
        and (lot.tested_on is None or (ctx.today - lot.tested_on).days > OLD_TEST_DAYS),
    }


@room.get("/lots", "see", response=list[LotOut])
def lots(ctx: Ctx) -> Any:
    rows = ctx.rows(Lot).select_related("crop", "line").order_by("-received_on", "-id")
    # What is in stock comes first.
    classes = class_names(ctx)
    return [lot_out(ctx, lot, classes) for lot in sorted(rows, key=lambda lot: lot.balance <= 0)]


def _by(row: Any) -> str:
    return who(row.by)


@room.get("/lots/{ref:lot_id}", "see", response=LotDetail)
def lot(ctx: Ctx, lot_id: Ref) -> Any:
    found = ctx.get(Lot, lot_id)
    movements = ctx.rows(Movement).filter(lot=found).select_related("by").order_by("id")
    tests = list(ctx.rows(TestResult).filter(lot=found).select_related("by").order_by("tested_on", "id"))
    standing = {pk for one in standing_among(tests).values() for pk in one.used}
    intake = ctx.rows(Intake).filter(lot=found).first()
    classes = class_names(ctx)
    return {
        **lot_out(ctx, found, classes),
        "uuid": found.uuid,
        "judged": _judged(ctx, found),
        "seals": found.seals.order_by("id"),
        "signed": [
            {
                "id": v.pk,
                "decision": v.decision,
                "sentence": v.sentence,
                "reason": v.reason,
                "by": _by(v),
                "role": v.role,
                "seed_class": classes.get(v.seed_class, v.seed_class),
                "happened_at": ctx.local(v.happened_at),
            }
            for v in found.verdicts.select_related("by").order_by("-id")
        ],
        "intake": None
        if intake is None
        else {
            **{
                n: getattr(intake, n)
                for n in ("moisture_percent", "limit_percent", "purity_percent", "pests", "decision")
            },
            "gross_kg": float(intake.gross_kg),
            "tare_kg": float(intake.tare_kg),
            "batch": intake.subject_code,
        },
        "lower_classes": [
            {"slug": c, "name": classes.get(c, c)} for c in releasing.classes_below(ctx, found.seed_class)
        ]
        if found.status
        else [],
        "movements": [
            {
                "id": m.pk,
                "kind": m.kind,
                "quantity": shown_of(found, m.quantity),
                "happened_at": ctx.local(m.happened_at),
                "subject_kind": m.subject_kind,
                "subject_id": m.subject,
                "subject_code": m.subject_code,
                "by": _by(m),
                "reason": m.reason,
            }
            for m in movements
        ],
        "tests": [
            {
                "id": t.pk,
                "kind": t.kind,
                "value": t.value,
                "seeds": t.seeds,
                "tested_on": t.tested_on,
                "by": _by(t),
                "expires_on": t.expires_on,
                "repeat": t.repeat,
                "certificate": t.certificate,
                "detail": t.detail,
                "stands": t.pk in standing,
                "reason": t.reason,
            }
            for t in tests
        ],
    }


def _judged(ctx: Ctx, lot: Lot) -> dict[str, Any] | None:
    """Today's verdict on a lot of own clean seed."""
    if lot.status in ("", Status.RAW):
        return None
    judged = releasing.judge(ctx, lot)
    if judged is None:
        return None
    verdict, standard = judged
    return {
        "standard": standard.name,
        "proposal": verdict.proposal.value,
        "sentence": verdict.sentence,
        "downgrade_to": verdict.downgrade_to,
        "attributes": [releasing.row_of(a) for a in verdict.attributes],
        "working": steps(verdict.working),
    }


class LotIn(Schema):
    """Quantities come as typed, so that “2 oz”, “5 packets of 10 g” or “20,000 seeds” is understood."""

    crop_id: int
    line_id: int | None = None
    quantity: str = ""
    packets: MaybeCount = None
    packet_size: str = ""
    germination_percent: MaybePercent = None
    tgw: str = ""
    tested_on: date | None = None
    received_on: date | None = None
    supplier: str = ""
    supplier_ref: str = ""
    treatment: str = ""
    note: str = ""
    seed_class: str = Field(default="", max_length=40)
    label_number: str = Field(default="", max_length=60)
    form: str = Field(default="seed", max_length=20)


@room.post("/lots", "lots.receive", response=LotOut)
def receive(ctx: Ctx, body: LotIn) -> Any:
    usual = services.usual_unit(ctx, body.crop_id, body.form)
    quantity = read_quantity(body.quantity, usual, "quantity") if body.quantity.strip() else None
    size = read_quantity(body.packet_size, Unit.GRAM, "packet_size") if body.packet_size.strip() else None
    tgw = read_measure(body.tgw, "g", "tgw") if body.tgw.strip() else None
    found = services.receive(
        ctx,
        crop_id=body.crop_id,
        line_id=body.line_id,
        quantity=quantity,
        supplier=body.supplier[:120],
        supplier_ref=body.supplier_ref[:60],
        tgw_g=tgw,
        tested_on=body.tested_on,
        packets=body.packets,
        packet_size=size,
        germination=None if body.germination_percent is None else body.germination_percent / 100,
        treatment=body.treatment[:120],
        received_on=body.received_on,
        note=body.note[:300],
        seed_class=body.seed_class,
        label_number=body.label_number,
        form=body.form,
    )
    return lot_out(ctx, found)


class TestIn(Schema):
    kind: str = "germination"
    value: Share
    seeds: MaybeCount = None
    tested_on: date


@room.post("/lots/{ref:lot_id}/tests", "lots.test", response=LotOut)
def record_test(ctx: Ctx, lot_id: Ref, body: TestIn) -> Any:
    services.record_test(ctx, lot_id, **body.dict())
    return lot_out(ctx, ctx.get(Lot, lot_id))


class HoldIn(Schema):
    reason: str = Field(max_length=300)
    client_uuid: uuid.UUID


@room.post("/lots/{ref:lot_id}/hold", "lots.hold", response=LotOut)
def hold(ctx: Ctx, lot_id: Ref, body: HoldIn) -> Any:
    """Hold a lot and everything made of it."""
    holds.hold(ctx, lot_id, reason=body.reason, client_uuid=body.client_uuid)
    return lot_out(ctx, ctx.get(Lot, lot_id))


class LiftIn(HoldIn):
    lot_id: int | None = None  # only this lot and what is made of it


@room.post("/holds/{hold_id}/lift", "lots.release", response=Done)
def lift(ctx: Ctx, hold_id: int, body: LiftIn) -> Any:
    """Lift a hold, or clear one lot of it."""
    made = holds.lift(ctx, hold_id, reason=body.reason, client_uuid=body.client_uuid, lot_id=body.lot_id)
    return {"id": made.pk, "message": "Cleared." if made.lot_id else "Lifted."}


class BalanceIn(Schema):
    """What is there, as counted or weighed: a number in the unit of the lot, or as typed."""

    counted: float | str
    reason: str = Field(max_length=300)


@room.post("/lots/{ref:lot_id}/balance", "lots.receive", response=LotOut)
def correct_balance(ctx: Ctx, lot_id: Ref, body: BalanceIn) -> Any:
    found = ctx.get(Lot, lot_id)
    if isinstance(body.counted, str) and split_number(body.counted, "counted")[0] != 0:
        counted = read_quantity(body.counted, unit(found.unit), "counted")
    else:
        counted = Quantity.of(body.counted if isinstance(body.counted, float) else 0, unit(found.unit))
    return lot_out(ctx, services.correct_balance(ctx, lot_id, counted=counted, reason=body.reason))


class ResultIn(Schema):
    """A laboratory result as it was read; fill the fields of its kind."""

    kind: Literal["germination", "purity", "moisture", "other_seeds"]
    tested_on: date
    normal: list[Count] = Field(default=[], max_length=8)
    seeds_per_replicate: int = 100
    pure_g: MaybeNumber = None
    inert_g: MaybeNumber = None
    other_g: MaybeNumber = None
    duplicates: list[Percent] = Field(default=[], max_length=8)
    seeds_found: MaybeCount = Field(default=None, le=10_000_000)
    sample_g: MaybeNumber = None
    certificate: str = Field(default="", max_length=60)
    replaces: int | None = None
    reason: str = Field(default="", max_length=300)
    client_uuid: uuid.UUID


class ResultOut(Schema):
    id: int
    repeat: str
    message: str


@room.post("/lots/{ref:lot_id}/results", "lots.test", response=ResultOut)
def add_result(ctx: Ctx, lot_id: Ref, body: ResultIn) -> Any:
    """A laboratory result with its replicates; one that must be repeated is kept and counts for nothing."""
    given = body.dict(exclude={"replaces", "reason", "client_uuid"})
    result = Result(**{**given, "normal": tuple(body.normal), "duplicates": tuple(body.duplicates)})
    made = record_result(ctx, lot_id, result, client_uuid=body.client_uuid, replaces=body.replaces, reason=body.reason)
    said = f"To be repeated: {made.repeat}." if made.repeat else "The result is recorded."
    return {"id": made.pk, "repeat": made.repeat, "message": said}


class SealsIn(Schema):
    numbers: list[str] = Field(max_length=2000)
    kind: Literal["label", "seal"] = "label"


@room.post("/lots/{ref:lot_id}/seals", "lots.release", response=Done)
def record_seals(ctx: Ctx, lot_id: Ref, body: SealsIn) -> Any:
    """Official label or seal numbers of a released lot."""
    made = releasing.record_seals(ctx, lot_id, numbers=body.numbers, kind=body.kind)
    return {"id": lot_id, "message": f"{len(made)} numbers are recorded."}


class MadeFromOut(Schema):
    parent: int
    quantity: float
    how: str


class MovedOut(Schema):
    kind: str
    quantity: float
    code: str
    on: datetime


class FamilyOut(Schema):
    id: int
    code: str
    level: int
    form: str
    crop: str
    cultivar: str
    seed_class: str
    class_name: str
    status: LotStatus
    unit: str
    balance: float
    received_on: date
    supplier: str
    supplier_ref: str
    label_number: str
    batch: str | None
    made_from: list[MadeFromOut]
    movements: list[MovedOut]


@room.get("/lots/{ref:lot_id}/descent", "see", response=list[FamilyOut])
def family(ctx: Ctx, lot_id: Ref) -> Any:
    """Everything that a lot was made from and everything that was made of it."""
    names = class_names(ctx)
    return [{**row, "class_name": names.get(row["seed_class"], row["seed_class"])} for row in descent(ctx, lot_id)]


@room.get("/lots/{ref:lot_id}/label.pdf", "see")
def label_pdf(ctx: Ctx, lot_id: Ref) -> HttpResponse:
    """The supplier's own label of a released lot, with QR and check character."""
    found = ctx.get(Lot, lot_id)
    facts = releasing.label_facts(ctx, found)
    return answer_pdf(
        f"label-{found.code}",
        pdf("print/lot_label.html", {**facts, "qr": qr(found.code), "released": day(facts["released"], year=True)}),
    )
