"""Orders: list, entry, import with preview, export."""

from datetime import date, timedelta
from typing import Any

from django.http import HttpResponse
from ninja import File, Schema
from ninja.files import UploadedFile

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.importing import MOST_ROWS, read_file, read_text
from aldrip.base.words import plural
from aldrip.orders import rows as order_rows
from aldrip.orders import services
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import shown

room = Room("orders")


class RowIO(Schema):
    """An order row as text, as a person writes it."""

    order: str = ""
    customer: str = ""
    crop: str = ""
    cultivar: str = ""
    form: str = ""
    seed_class: str = ""
    quantity: str = ""
    due: str = ""
    until: str = ""
    note: str = ""


class FaultOut(Schema):
    row: int
    column: str
    column_words: str
    code: str
    message: str


class UnderstoodOut(Schema):
    """What a row was understood as, in words."""

    crop: str
    form: str
    quantity: float
    unit: str
    due_from: date
    due_last: date
    week: int


class CheckedOut(Schema):
    rows: list[RowIO]
    lines: list[int]
    understood: list[UnderstoodOut | None]
    faults: list[FaultOut]


class RowsIn(Schema):
    rows: list[RowIO]


class PasteIn(Schema):
    text: str


class OrderLineOut(Schema):
    id: int
    order_id: int
    order: str
    customer: str
    number: int
    crop_id: int
    crop: str
    cultivar: str
    form: str
    seed_class: str
    quantity: float
    unit: str
    due_from: date
    due_last: date
    week: int
    year: int
    state: str
    state_words: str
    chance: float | None
    forecast: float | None
    delivered: float
    short_cause: str
    problem: str
    note: str
    version: int
    batches: list[str]
    batch_ids: list[int]


def line_out(line: OrderLine, batches: list[tuple[int, str]]) -> dict[str, Any]:
    last = line.due.upper - timedelta(days=1)
    iso = line.due.lower.isocalendar()
    return {
        "id": line.pk, "order_id": line.order_id, "order": line.order.number, "customer": line.order.customer,
        "number": line.number, "crop_id": line.crop_id, "crop": line.crop.name,
        "cultivar": line.line.name if line.line else "", "form": line.form, "seed_class": line.seed_class, "quantity": shown(line.quantity, line.unit), "unit": line.unit,
        "due_from": line.due.lower, "due_last": last, "week": iso.week, "year": iso.year, "state": line.state,
        "state_words": line.get_state_display(),
        "chance": line.chance, "forecast": shown(line.forecast, line.unit), "delivered": shown(line.delivered, line.unit), "short_cause": line.short_cause,
        "problem": line.problem, "note": line.note, "version": line.version, "batches": [code for _, code in batches],
        "batch_ids": [pk for pk, _ in batches],
    }  # fmt: skip


@room.get("/orders", "see", response=list[OrderLineOut])
def orders(ctx: Ctx) -> Any:
    lines = ctx.rows(OrderLine).select_related("order", "crop", "line").order_by("due", "order__number", "number")
    served: dict[int, list[tuple[int, str]]] = {}
    pairs = (
        ctx.rows(OrderLine)
        .filter(allocations__isnull=False)
        .exclude(allocations__batch__state="abandoned")
        .values_list("id", "allocations__batch_id", "allocations__batch__code")
    )
    for line, batch, code in pairs:
        served.setdefault(line, []).append((batch, code))
    # What is open comes first, the nearest on top; what is closed follows, the newest on top.
    opened = [line for line in lines if line.state == OrderLine.State.OPEN]
    closed = [line for line in lines if line.state != OrderLine.State.OPEN]
    return [line_out(line, sorted(served.get(line.pk, []))) for line in [*opened, *reversed(closed)]]


def _checked(ctx: Ctx, rows: list[dict[str, str]], lines: list[int]) -> dict[str, Any]:
    checked = order_rows.check(ctx, rows)
    return {
        "rows": rows, "lines": lines,
        "understood": [
            None if row is None else {
                "crop": row.crop.name, "form": row.form, "quantity": float(row.quantity.shown), "unit": row.quantity.unit.words, "due_from": row.due.start,
                "due_last": row.due.last, "week": row.due.start.isocalendar().week,
            }
            for row in checked.read
        ],
        "faults": [
            {"row": f.row, "column": f.column, "column_words": order_rows.WORDS.get(f.column, f.column), "code": f.code,
             "message": f.message}
            for f in checked.faults
        ],
    }  # fmt: skip


@room.post("/orders/import/file", "orders.edit", response=CheckedOut)
def import_file(ctx: Ctx, file: File[UploadedFile]) -> Any:
    """Read a CSV or XLSX file and judge every row; nothing is saved."""
    table = read_file(file.name or "", file.read())
    return _checked(ctx, order_rows.rows_of(table), table.lines)


@room.post("/orders/import/paste", "orders.edit", response=CheckedOut)
def import_paste(ctx: Ctx, body: PasteIn) -> Any:
    """Read rows pasted from a spreadsheet and judge them; nothing is saved."""
    table = read_text(body.text)
    return _checked(ctx, order_rows.rows_of(table), table.lines)


@room.post("/orders/import/check", "orders.edit", response=CheckedOut)
def import_check(ctx: Ctx, body: RowsIn) -> Any:
    """Judge rows as they are now; nothing is saved."""
    _not_too_many(body)
    rows = [row.dict() for row in body.rows]
    return _checked(ctx, rows, list(range(1, len(rows) + 1)))


class TakenIn(Schema):
    lines: list[int]
    message: str


@room.post("/orders", "orders.edit", response=TakenIn)
def take_in(ctx: Ctx, body: RowsIn) -> Any:
    """Save order rows, all or none; the same door for one row typed and a file imported."""
    _not_too_many(body)
    lines = services.take_in(ctx, [row.dict() for row in body.rows])
    return {"lines": lines, "message": f"Took in {plural(len(lines), 'order line')}."}


def _not_too_many(body: RowsIn) -> None:
    if len(body.rows) > MOST_ROWS:
        raise refuse("rows", "too_large", f"{len(body.rows):,} rows; at most {MOST_ROWS:,} at once.")


@room.get("/orders/export", "see")
def export(ctx: Ctx) -> HttpResponse:
    """Every order line as CSV."""
    answer = HttpResponse("\ufeff" + services.export(ctx), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="orders-{ctx.today}.csv"'
    return answer
