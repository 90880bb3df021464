"""Lots: what is in stock, from where, with which test."""

from datetime import date, datetime
from typing import Any

from ninja import Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.quantity import read_measure
from aldrip.lots import services
from aldrip.lots.models import Lot, Movement, TestResult

room = Room("lots")
OLD_TEST_DAYS = 365


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


class MovementOut(Schema):
    id: int
    kind: str
    quantity: float
    happened_at: datetime
    subject_kind: str
    subject_id: int | None
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


class LotDetail(LotOut):
    movements: list[MovementOut]
    tests: list[TestOut]


def lot_out(ctx: Ctx, lot: Lot) -> dict[str, Any]:
    names = ("id", "code", "crop_id", "form", "unit", "supplier", "supplier_ref", "received_on", "packets", "tgw_g",
             "germination", "tested_on", "treatment", "note")  # fmt: skip
    return {
        **{name: getattr(lot, name) for name in names}, "crop": lot.crop.name, "cultivar": lot.line.name if lot.line else "",
        "balance": float(lot.balance), "packet_size": float(lot.packet_size) if lot.packet_size is not None else None,
        "test_is_old": lot.form == "seed" and lot.balance > 0
        and (lot.tested_on is None or (ctx.today - lot.tested_on).days > OLD_TEST_DAYS),
    }  # fmt: skip


@room.get("/lots", "see", response=list[LotOut])
def lots(ctx: Ctx) -> Any:
    rows = ctx.rows(Lot).select_related("crop", "line").order_by("-received_on", "-id")
    # What is in stock comes first.
    return [lot_out(ctx, lot) for lot in sorted(rows, key=lambda lot: lot.balance <= 0)]


def _by(row: Any) -> str:
    return (row.by.get_full_name() or row.by.username) if row.by else ""


@room.get("/lots/{int:lot_id}", "see", response=LotDetail)
def lot(ctx: Ctx, lot_id: int) -> Any:
    found = ctx.get(Lot, lot_id)
    movements = ctx.rows(Movement).filter(lot=found).select_related("by").order_by("id")
    tests = ctx.rows(TestResult).filter(lot=found).select_related("by").order_by("tested_on", "id")
    return {
        **lot_out(ctx, found),
        "movements": [
            {"id": m.pk, "kind": m.kind, "quantity": float(m.quantity), "happened_at": ctx.local(m.happened_at),
             "subject_kind": m.subject_kind, "subject_id": m.subject_id, "subject_code": m.subject_code, "by": _by(m),
             "reason": m.reason}
            for m in movements
        ],
        "tests": [
            {"id": t.pk, "kind": t.kind, "value": t.value, "seeds": t.seeds, "tested_on": t.tested_on, "by": _by(t)} for t in tests
        ],
    }  # fmt: skip


class LotIn(Schema):
    """Quantities come as typed, so that “2 oz” or “5 packets of 10 g” is understood."""

    crop_id: int
    line_id: int | None = None
    quantity: str = ""
    packets: int | None = None
    packet_size: str = ""
    germination_percent: float | None = None
    tgw: str = ""
    tested_on: date | None = None
    received_on: date | None = None
    supplier: str = ""
    supplier_ref: str = ""
    treatment: str = ""
    note: str = ""


@room.post("/lots", "lots.receive", response=LotOut)
def receive(ctx: Ctx, body: LotIn) -> Any:
    grams = read_measure(body.quantity, "g", "quantity") if body.quantity.strip() else 0.0
    size = read_measure(body.packet_size, "g", "packet_size") if body.packet_size.strip() else None
    tgw = read_measure(body.tgw, "g", "tgw") if body.tgw.strip() else None
    found = services.receive(
        ctx, crop_id=body.crop_id, line_id=body.line_id, quantity_g=grams, supplier=body.supplier[:120],
        supplier_ref=body.supplier_ref[:60], tgw_g=tgw, tested_on=body.tested_on, packets=body.packets, packet_size_g=size,
        germination=None if body.germination_percent is None else body.germination_percent / 100,
        treatment=body.treatment[:120], received_on=body.received_on, note=body.note[:300],
    )  # fmt: skip
    return lot_out(ctx, found)


class TestIn(Schema):
    kind: str = "germination"
    value: float
    seeds: int | None = None
    tested_on: date


@room.post("/lots/{int:lot_id}/tests", "lots.test", response=LotOut)
def record_test(ctx: Ctx, lot_id: int, body: TestIn) -> Any:
    services.record_test(ctx, lot_id, **body.dict())
    return lot_out(ctx, ctx.get(Lot, lot_id))


class BalanceIn(Schema):
    counted: float
    reason: str


@room.post("/lots/{int:lot_id}/balance", "lots.receive", response=LotOut)
def correct_balance(ctx: Ctx, lot_id: int, body: BalanceIn) -> Any:
    return lot_out(ctx, services.correct_balance(ctx, lot_id, counted=body.counted, reason=body.reason))
