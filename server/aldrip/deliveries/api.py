"""Deliveries: what is due, what is in stock for it, handing over, papers."""

import uuid
from collections import defaultdict
from collections.abc import Iterable
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from django.db.models import Prefetch
from django.http import HttpResponse
from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import NotThere, refuse
from aldrip.base.pdf import answer_pdf, pdf, qr
from aldrip.base.quantity import MOST, read_quantity
from aldrip.base.schemas import BatchState, Done
from aldrip.base.words import day
from aldrip.batches.heads import NOT_IN_A_LIST
from aldrip.batches.models import Allocation, Batch, BatchStage
from aldrip.batches.overdue import ready_on
from aldrip.batches.saved import know, light, saved_of
from aldrip.batches.spare import WORTH_IT, Spares, promised_of
from aldrip.deliveries import holding, services
from aldrip.deliveries.models import Delivery, Document
from aldrip.lots.moving import shown_of
from aldrip.lots.releasing import barred, class_names
from aldrip.methods.models import Method
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import shown
from aldrip_core.units import from_base, plain, unit

room = Room("deliveries")


class HeldLotOut(Schema):
    id: int
    code: str
    name: str
    form: str
    balance: float
    unit: str


class HeldBatchOut(Schema):
    id: int
    code: str
    crop: str
    state: BatchState
    only_meant: bool


class HeldOutOut(Schema):
    note_id: int
    note: str
    customer: str
    on: date
    lot: str
    quantity: float
    unit: str
    label: str


class ClearedOut(Schema):
    lot_id: int
    reason: str
    on: date


class HoldOut(Schema):
    """A hold with everything made of its lot: what lies in stock, what stands, and who was handed what."""

    id: int
    lot_id: int
    lot: str
    reason: str
    by: str
    since: date
    lots: list[HeldLotOut]
    batches: list[HeldBatchOut]
    out: list[HeldOutOut]
    cleared: list[ClearedOut]


@room.get("/lots/{ref:lot_id}/holds", "see", response=list[HoldOut])
def holds_of(ctx: Ctx, lot_id: Ref) -> Any:
    """The holds that hold a lot."""
    return holding.holds_of(ctx, lot_id)


class StockOut(Schema):
    lot_id: int
    code: str
    batch: str
    balance: float
    unit: str
    graded_on: date
    proposed: float
    barred: str  # why it may not leave today


class ToGradeOut(Schema):
    batch_id: int
    code: str
    version: int
    state: BatchState
    expected: float
    low: float | None
    high: float | None
    left: int
    ready_on: date
    causes: list[str]


class DueOut(Schema):
    line_id: int
    order_id: int
    order: str
    customer: str
    crop: str
    cultivar: str
    form: str
    seed_class: str
    class_name: str
    quantity: float
    delivered: float
    unit: str
    due_from: date
    due_last: date
    chance: float | None
    problem: str
    standard: str
    stock: list[StockOut]
    batches: list[ToGradeOut]


class DeliveryOut(Schema):
    id: int
    code: str
    order: str
    customer: str
    delivered_on: date
    quantity: float
    lines: int
    short: float
    unit: str
    declared: bool


class SpareOut(ToGradeOut):
    """A batch that stands, or is graded, with more than is promised of it."""

    crop: str
    cultivar: str
    form: str
    unit: str
    spare: float
    promised: float


class DeliveriesOut(Schema):
    due: list[DueOut]
    standing: list[SpareOut]
    done: list[DeliveryOut]


MOST_DAYS = 3660  # as far as any span of the season line reaches


@room.get("/deliveries", "see", response=DeliveriesOut)
def deliveries(ctx: Ctx, days: int = 400) -> Any:
    horizon = ctx.today + timedelta(days=max(1, min(days, MOST_DAYS)))
    lines = list(
        ctx.rows(OrderLine)
        .filter(state=OrderLine.State.OPEN, due__startswith__lt=horizon)
        .select_related("order", "crop", "line", "standard")
        .defer(*(name for name in NOT_IN_A_LIST if name.startswith(("crop__", "line__"))))
        .order_by("due", "id")
    )
    stock = services.stock_for(ctx, lines)
    held = barred(ctx, {lot.pk: lot for lots in stock.values() for lot in lots}.values(), ctx.today)
    for lots in stock.values():
        for lot in lots:
            said = next((one.stage.batch.barred for one in lot.from_stages.all() if one.stage.batch.barred), "")
            if said:
                held.setdefault(lot.pk, said)
    proposed = services.proposed_picks(lines, stock, held)
    classes = class_names(ctx)
    to_grade = _to_grade(lines)
    done = (
        ctx.rows(Delivery)
        .select_related("order")
        .prefetch_related("items__order_line", "order__lines", "documents")
        .order_by("-delivered_on", "-id")[: services.NEWEST_NOTES]
    )
    return {
        "due": [
            {
                "line_id": line.pk,
                "order_id": line.order_id,
                "order": line.order.number,
                "customer": line.order.customer,
                "crop": line.crop.name,
                "cultivar": line.line.name if line.line else "",
                "form": line.form,
                "seed_class": line.seed_class,
                "class_name": classes.get(line.seed_class, line.seed_class),
                "quantity": shown(line.quantity, line.unit),
                "delivered": shown(line.delivered, line.unit),
                "unit": line.unit,
                "due_from": line.due.lower,
                "due_last": line.due.upper - timedelta(days=1),
                "chance": line.chance,
                "problem": line.problem,
                "standard": line.standard.name if line.standard else "",
                "stock": [
                    {
                        "lot_id": lot.pk,
                        "code": lot.code,
                        "balance": shown_of(lot),
                        "unit": lot.unit,
                        "graded_on": lot.received_on,
                        "proposed": shown(proposed.get((line.pk, lot.pk), 0), line.unit),
                        "barred": held.get(lot.pk, ""),
                        "batch": ", ".join(one.stage.batch.code for one in lot.from_stages.all()),
                    }
                    for lot in stock[line.pk]
                ],
                "batches": [
                    {
                        "batch_id": b.pk,
                        "code": b.code,
                        "version": b.version,
                        "state": b.state,
                        "expected": b.expected,
                        "low": b.low,
                        "high": b.high,
                        "left": b.start,
                        "ready_on": ready_on(saved_of(b, list(b.stages.all())), ctx.today),
                        "causes": services.grade_causes(line.standard),
                    }
                    for b in to_grade[line.pk]
                ],
            }
            for line in lines
        ],
        "standing": _standing(ctx),
        "done": [
            {
                "id": d.pk,
                "code": d.code,
                "order": d.order.number,
                "customer": d.order.customer,
                "delivered_on": d.delivered_on,
                "quantity": _sum_of((i.quantity, i.order_line.unit) for i in d.items.all()),
                "lines": len({i.order_line_id for i in d.items.all()}),
                "unit": next((i.order_line.unit for i in d.items.all()), ""),
                "declared": any(doc.kind == "quality declaration" for doc in d.documents.all()),
                "short": _sum_of(
                    (line.quantity - line.delivered, line.unit)
                    for line in d.order.lines.all()
                    if line.state == OrderLine.State.SHORT
                ),
            }
            for d in done
        ],
    }


def _standing(ctx: Ctx) -> list[dict[str, Any]]:
    """What stands and is promised to nobody, the first to be ready first; the little by which any batch is surer is not listed."""
    there = [one for one in Spares(ctx).found if one.batch is not None and one.batch.state != Batch.State.PLANNED]
    promised = promised_of(ctx, [one.batch.pk for one in there if one.batch])
    there = [one for one in there if one.batch and one.free >= WORTH_IT * promised.get(one.batch.pk, Decimal(0))]
    standards = {
        m.pk: m.standard
        for m in Method.objects.filter(pk__in=[one.batch.method_id for one in there if one.batch]).select_related(
            "standard"
        )
    }
    return [
        {
            "batch_id": b.pk,
            "code": b.code,
            "version": b.version,
            "state": b.state,
            "expected": b.expected,
            "low": b.low,
            "high": b.high,
            "left": b.start,
            "ready_on": one.ready,
            "causes": services.grade_causes(standards[b.method_id]),
            "crop": b.crop.name,
            "cultivar": b.line.name if b.line else "",
            "form": saved.method.form,
            "unit": one.unit.words,
            "spare": shown(one.free, one.unit.words),
            "promised": shown(promised.get(b.pk, 0), one.unit.words),
        }
        for one in sorted(there, key=lambda spare: spare.ready)
        if (b := one.batch) is not None and (saved := one.saved) is not None
    ]


def _sum_of(parts: Iterable[tuple[Decimal, str]]) -> float:
    """A sum as people read it, in the unit of its first part."""
    found = list(parts)
    total = sum((value for value, _ in found), Decimal(0))
    return shown(total, found[0][1]) or 0.0 if found else 0.0


def _to_grade(lines: list[OrderLine]) -> dict[int, list[Batch]]:
    """Batches that stand for each line and may be graded."""
    found: dict[int, list[Batch]] = defaultdict(list)
    pairs = list(
        Allocation.objects.filter(
            order_line__in=lines, batch__state__in=(Batch.State.SOWN, Batch.State.READY), batch__method__way="plants"
        )
        .order_by("batch_id")
        .values_list("order_line_id", "batch_id")
    )
    stages = Prefetch("stages", BatchStage.objects.order_by("order"))
    rows = light(
        Batch.objects.filter(pk__in={pk for _, pk in pairs})
        .select_related("crop", "container", "mix")
        .defer(*(name for name in NOT_IN_A_LIST if not name.startswith("line__")))
    )
    batches = {batch.pk: batch for batch in rows.prefetch_related(stages)}
    know(batches.values())
    for line_id, pk in pairs:
        found[line_id].append(batches[pk])
    return found


class PickIn(Schema):
    """So much of a lot, as typed or as a number in the unit of the line."""

    line_id: int
    lot_id: int
    quantity: float | str


class ShortIn(Schema):
    line_id: int
    cause: str = Field(max_length=200)


class DeliverIn(Schema):
    order_id: int
    on: date
    picks: list[PickIn] = Field(default=[], max_length=500)
    short: list[ShortIn] = Field(default=[], max_length=500)
    client_uuid: uuid.UUID
    note: str = Field(default="", max_length=300)


def _picks(ctx: Ctx, given: list[PickIn]) -> list[services.Pick]:
    """What was picked, read in the unit of its line; a line that is not there is refused by the service."""
    units = dict(ctx.rows(OrderLine).filter(pk__in=[p.line_id for p in given]).values_list("pk", "unit"))
    found = []
    for index, one in enumerate(given):
        at, of = f"picks.{index}.quantity", unit(units.get(one.line_id, "plants"))
        quantity = one.quantity
        if isinstance(quantity, str):
            text = quantity.strip()
            quantity = 0.0 if text in ("", "0") else float(from_base(read_quantity(text, of, at).base, of))
        if not 0 <= quantity <= MOST:
            raise refuse(at, "out_of_range", f"{quantity:g} cannot be handed over; 0 to {MOST:,}.")
        if of.is_pieces and quantity != int(quantity):
            raise refuse(at, "not_whole", f"{quantity:g} is not a whole number of {of.words}.")
        found.append(services.Pick(one.line_id, one.lot_id, quantity))
    return found


class DeliveredOut(Schema):
    id: int
    code: str
    message: str


@room.post("/deliveries", "deliveries.dispatch", response=DeliveredOut)
def deliver(ctx: Ctx, body: DeliverIn) -> Any:
    """Hand over against an order. A repeat with the same uuid answers with the first record."""
    made = services.deliver(
        ctx,
        order_id=body.order_id,
        on=body.on,
        picks=_picks(ctx, body.picks),
        short=[services.Short(s.line_id, s.cause) for s in body.short],
        client_uuid=body.client_uuid,
        note=body.note,
    )
    return {"id": made.pk, "code": made.code, "message": f"Delivery note {made.code} is written."}


class EndIn(Schema):
    cause: str = Field(max_length=200)


@room.post("/batches/{ref:batch_id}/end", "batches.plan", response=Done)
def end_batch(ctx: Ctx, batch_id: Ref, body: EndIn) -> Any:
    """End a batch that serves nobody any more; what is left of it is discarded."""
    batch = services.end_batch(ctx, batch_id, body.cause)
    return {"id": batch.pk, "message": f"{batch.code} has ended."}


class NoteItemOut(Schema):
    line: int
    crop: str
    botanical_name: str
    cultivar: str
    form: str
    quantity: float
    unit: str
    trays: int | None
    batch: str
    lot: str
    label: str
    standard: str


class NoteLineOut(Schema):
    line: int
    crop: str
    ordered: float
    delivered: float
    missing: float
    cause: str
    unit: str


class NoteOut(Schema):
    uuid: uuid.UUID
    code: str
    supplier: str
    customer: str
    order: str
    delivered_on: date
    note: str
    sha256: str
    items: list[NoteItemOut]
    lines: list[NoteLineOut]


def _document(ctx: Ctx, delivery_id: Ref, kind: str = "delivery note") -> Document:
    delivery = ctx.get(Delivery, delivery_id)
    found = ctx.rows(Document).filter(delivery=delivery, kind=kind).order_by("-id").first()
    if found is None:
        raise NotThere(f"No {kind} was issued with {delivery.code}.")
    return found


@room.get("/deliveries/{ref:delivery_id}", "see", response=NoteOut)
def note(ctx: Ctx, delivery_id: Ref) -> Any:
    """The delivery note as it was issued."""
    document = _document(ctx, delivery_id)
    return {
        **document.payload,
        "uuid": document.delivery.uuid if document.delivery else document.uuid,
        "sha256": document.sha256,
    }


@room.get("/deliveries/{ref:delivery_id}/note.pdf", "see")
def note_pdf(ctx: Ctx, delivery_id: Ref) -> HttpResponse:
    """Delivery note with labels: text, QR, check character. It is no official certificate."""
    document = _document(ctx, delivery_id)
    facts = document.payload
    items = [{**item, "quantity_words": plain(item["quantity"])} for item in facts["items"]]
    lines = [
        {**line, **{f"{n}_words": plain(line[n]) for n in ("ordered", "delivered", "missing")}}
        for line in facts["lines"]
    ]
    shown = {
        **facts,
        "items": items,
        "lines": lines,
        "digest": document.sha256,
        "day_words": day(date.fromisoformat(facts["delivered_on"]), year=True),
        "labels": [{**item, "qr": qr(f"{item['label']} {item['lot']} {item['batch']}")} for item in items],
    }
    return answer_pdf(f"delivery-note-{facts['code']}", pdf("print/note.html", shown))


class DeclaredRowOut(Schema):
    attribute: str
    words: str
    unit: str
    asked: str
    outcome: str
    value: float | None
    on: date | None
    statutory: bool
    source: str
    note: str = ""


class DeclaredTestOut(Schema):
    words: str
    found: str
    on: date
    by: str
    certificate: str
    said: str


class DeclaredLotOut(Schema):
    code: str
    crop: str
    cultivar: str
    class_name: str
    quantity: float
    unit: str
    label: str
    results: list[DeclaredRowOut]
    tests: list[DeclaredTestOut] = []
    signed: str = ""
    verdict: str
    standard: str
    fields: str
    inspections: str
    made_from: str
    seals: str


class DeclarationOut(Schema):
    code: str
    supplier: str
    customer: str
    order: str
    delivered_on: date
    sha256: str
    lots: list[DeclaredLotOut]


@room.get("/deliveries/{ref:delivery_id}/quality-declaration", "see", response=DeclarationOut)
def declaration(ctx: Ctx, delivery_id: Ref) -> Any:
    """The quality declaration as it was issued with a delivery of seed."""
    document = _document(ctx, delivery_id, "quality declaration")
    return {**document.payload, "sha256": document.sha256}


@room.get("/deliveries/{ref:delivery_id}/quality-declaration.pdf", "see")
def declaration_pdf(ctx: Ctx, delivery_id: Ref) -> HttpResponse:
    """The quality declaration to print. It is no official certificate."""
    document = _document(ctx, delivery_id, "quality declaration")
    facts = document.payload
    lots = [
        {
            **lot,
            "quantity_words": plain(lot["quantity"]),
            "results": [
                {
                    **row,
                    "shown": f"{row['value']:g} {row['unit']}" if row["value"] is not None else "not tested",
                    "on_words": day(date.fromisoformat(row["on"]), year=True) if row["on"] else "",
                }
                for row in lot["results"]
            ],
            "tests": [
                {**one, "on_words": day(date.fromisoformat(one["on"]), year=True)} for one in lot.get("tests", ())
            ],
        }
        for lot in facts["lots"]
    ]
    shown = {
        **facts,
        "lots": lots,
        "digest": document.sha256,
        "day_words": day(date.fromisoformat(facts["delivered_on"]), year=True),
    }
    return answer_pdf(f"quality-declaration-{facts['code']}", pdf("print/declaration.html", shown))
