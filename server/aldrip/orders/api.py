"""Orders: list, entry, import with preview, export."""

from collections.abc import Callable, Mapping
from datetime import date, timedelta
from types import MappingProxyType
from typing import Any
from uuid import UUID

from django.db.models import Q
from django.http import HttpResponse
from ninja import Field, File, Schema
from ninja.files import UploadedFile

from aldrip.accounts.context import LATELY, Ctx, Ref
from aldrip.accounts.permissions import may
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.fast import fast_json
from aldrip.base.importing import MOST_ROWS, read_file, read_text
from aldrip.base.schemas import Done, LineState
from aldrip.base.words import plural
from aldrip.jobs import services as jobs
from aldrip.orders import rows as order_rows
from aldrip.orders import said, services
from aldrip.orders.models import OrderLine, OwnWord, WaitingRow
from aldrip.orders.promised import shown
from aldrip_core.problems import Problem, read, sentence

room = Room("orders")

INLINE = 300  # rows that are taken in within the request itself


class RowIO(Schema):
    """An order row as text, as a person writes it."""

    order: str = ""
    customer: str = ""
    crop: str = ""
    cultivar: str = ""
    form: str = ""
    container: str = ""
    seed_class: str = ""
    quantity: str = ""
    due: str = ""
    until: str = ""
    note: str = ""


class MeantOut(Schema):
    """What may have been meant. `keep`: to be settled for the house, rather than written into the row."""

    value: str
    words: str
    keep: bool


class FaultOut(Schema):
    row: int
    column: str
    column_words: str
    code: str
    message: str
    crop: str = ""
    choices: list[MeantOut] = []


class UnderstoodOut(Schema):
    """What a row was understood as, in words."""

    crop: str
    crop_slug: str
    cultivar: str
    form: str
    container: str
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
    waited: list[int] = []


class RowsIn(Schema):
    rows: list[RowIO]


class SeriesIn(Schema):
    """The same again: every so many weeks, so many times in all; as typed."""

    every_weeks: str = Field(default="", max_length=20)
    times: str = Field(default="", max_length=20)


class TakeIn(RowsIn):
    """`keep`: rows that do not hold yet are kept waiting. `waited`: rows among these that waited until now."""

    keep: bool = False
    waited: list[int] = []
    series: SeriesIn | None = None
    plan: bool = False  # and plan them, where they are so many that it is a job


class WordIn(Schema):
    """What words in a column mean here from now on; `crop` (a slug) where they hang on one."""

    column: str
    said: str
    means: str
    crop: str = ""


class WordOut(WordIn):
    id: int


class LetGoIn(Schema):
    waiting: list[int]


class PasteIn(Schema):
    text: str


class OrderLineOut(Schema):
    id: int
    uuid: UUID
    order_id: int
    order: str
    customer: str
    number: int
    crop_id: int
    crop: str
    cultivar: str
    form: str
    container: str
    seed_class: str
    quantity: float
    unit: str
    due_from: date
    due_last: date
    week: int
    year: int
    state: LineState
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
    aside: list[str]
    aside_ids: list[int]
    planned: bool


#: What is read of a line, by the name it goes out with.
OF_A_LINE = (
    "id",
    "uuid",
    "order_id",
    "order__number",
    "order__customer",
    "number",
    "crop_id",
    "crop__name",
    "line__name",
    "form",
    "container__name",
    "seed_class",
    "quantity",
    "unit",
    "due",
    "state",
    "chance",
    "forecast",
    "delivered",
    "short_cause",
    "problems",
    "note",
    "version",
)
STATES = dict(OrderLine.State.choices)
#: Rooms above say here what is wrong with batches beside what stands at their lines: by batch.
also_wrong: list[Callable[[Ctx], Mapping[int, Problem]]] = []


def line_out(
    values: tuple[Any, ...],
    batches: list[tuple[int, str]],
    aside: list[tuple[int, str]],
    wrong: Mapping[int, Problem] = MappingProxyType({}),
) -> dict[str, Any]:
    (
        pk,
        uuid,
        order_id,
        order,
        customer,
        number,
        crop_id,
        crop,
        cultivar,
        form,
        container,
        seed_class,
        quantity,
        of,
        due,
        state,
        chance,
        forecast,
        delivered,
        short_cause,
        problems,
        note,
        version,
    ) = values
    last = due.upper - timedelta(days=1)
    iso = due.lower.isocalendar()
    return {
        "id": pk,
        "uuid": uuid,
        "order_id": order_id,
        "order": order,
        "customer": customer,
        "number": number,
        "crop_id": crop_id,
        "crop": crop,
        "cultivar": cultivar or "",
        "form": form,
        "container": container or "",
        "seed_class": seed_class,
        "quantity": shown(quantity, of),
        "unit": of,
        "due_from": due.lower,
        "due_last": last,
        "week": iso.week,
        "year": iso.year,
        "state": state,
        "state_words": STATES[state],
        "chance": chance,
        "forecast": shown(forecast, of),
        "delivered": shown(delivered, of),
        "short_cause": short_cause,
        "problem": _told(
            problems, [wrong[pk] for pk, _ in batches if pk in wrong] if state == OrderLine.State.OPEN else []
        ),
        "note": note,
        "version": version,
        "batches": [code for _, code in batches],
        "batch_ids": [pk for pk, _ in batches],
        "aside": [code for _, code in aside],
        "aside_ids": [pk for pk, _ in aside],
        "planned": bool(batches or aside),
    }


def _told(problems: list[dict[str, Any]], also: list[Problem]) -> str:
    return sentence([*read(problems), *also]) if problems or also else ""


@room.get("/orders", "see", response=list[OrderLineOut])
def orders(ctx: Ctx, back: int = LATELY) -> Any:
    """Every open line, the nearest first, then what fell due within so many weeks and is closed, the newest first; light rows."""
    lately = Q(state=OrderLine.State.OPEN) | Q(due__endswith__gt=ctx.since(back))
    lines = list(ctx.rows(OrderLine).filter(lately).order_by("due", "order__number", "number").values_list(*OF_A_LINE))
    served: dict[int, list[tuple[int, str]]] = {}
    pairs = ctx.rows(OrderLine).filter(lately, allocations__isnull=False).exclude(allocations__batch__state="abandoned")
    for line, batch, code in pairs.values_list("id", "allocations__batch_id", "allocations__batch__code"):
        served.setdefault(line, []).append((batch, code))
    wrong = {pk: one for found in also_wrong for pk, one in found(ctx).items()}
    aside: dict[int, list[tuple[int, str]]] = {}
    kept = ctx.rows(OrderLine).filter(lately, set_aside__isnull=False).order_by("set_aside__id")
    for line, lot, code in kept.values_list("id", "set_aside__lot_id", "set_aside__lot__code"):
        aside.setdefault(line, []).append((lot, code))
    at = OF_A_LINE.index("state")
    opened = [line for line in lines if line[at] == OrderLine.State.OPEN]
    closed = [line for line in lines if line[at] != OrderLine.State.OPEN]
    return fast_json(
        line_out(line, sorted(served.get(line[0], [])), aside.get(line[0], []), wrong)
        for line in [*opened, *reversed(closed)]
    )


def _checked(ctx: Ctx, rows: list[dict[str, str]], lines: list[int]) -> dict[str, Any]:
    checked = order_rows.check(ctx, rows)
    return {
        "rows": rows,
        "lines": lines,
        "understood": [
            None
            if row is None
            else {
                "crop": row.crop.name,
                "crop_slug": row.crop.slug,
                "cultivar": row.line.name if row.line else "",
                "form": row.form,
                "container": row.container.name if row.container else "",
                "quantity": float(row.quantity.shown),
                "unit": row.quantity.unit.words,
                "due_from": row.due.start,
                "due_last": row.due.last,
                "week": row.due.start.isocalendar().week,
            }
            for row in checked.read
        ],
        "faults": [
            {
                "row": f.row,
                "column": f.column,
                "column_words": order_rows.WORDS.get(f.column, f.column),
                "code": f.code,
                "message": f.message,
                "crop": f.crop,
                "choices": [{"value": c.value, "words": c.words, "keep": c.keep} for c in f.choices],
            }
            for f in checked.faults
        ],
    }


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
    """`job`: they are so many that they are taken in while you go on."""

    lines: list[int]
    waiting: int
    message: str
    job: int | None = None


@room.post("/orders", "orders.edit", response=TakenIn)
def take_in(ctx: Ctx, body: TakeIn) -> Any:
    """Save order rows, all or none, or with `keep` what holds; the same door for one row typed and a file imported."""
    _not_too_many(body)
    rows, waiting = [row.dict() for row in body.rows], 0
    if body.series is not None and (body.series.every_weeks.strip() or body.series.times.strip()):
        rows = order_rows.series(rows, body.series.every_weeks, body.series.times, today=ctx.today)
    if len(rows) > INLINE:
        what = f"Take in {plural(len(rows), 'order row')}{' and plan them' if body.plan else ''}"
        arguments = {
            "rows": rows,
            "keep": body.keep,
            "waited": body.waited,
            "plan": body.plan and may(ctx.role, "batches.plan"),
        }
        started = jobs.start(ctx, "orders.take_in", what, arguments, total=len(rows))
        return {"lines": [], "waiting": 0, "message": f"{what}: it runs while you go on.", "job": started.pk}
    if body.keep:
        lines, waiting = services.take_in_what_holds(ctx, rows, body.waited)
    else:
        lines = services.take_in(ctx, rows)
    told = f"Took in {plural(len(lines), 'order line')}." if lines else ""
    return {
        "lines": lines,
        "waiting": waiting,
        "message": f"{told} {plural(waiting, 'row')} wait." if waiting else told,
    }


@room.get("/orders/waiting", "orders.edit", response=CheckedOut)
def waiting(ctx: Ctx) -> Any:
    """Order rows that wait to be understood, judged as the library is now."""
    kept = list(ctx.rows(WaitingRow).order_by("id"))
    rows = [RowIO(**one.row).dict() for one in kept]
    return {**_checked(ctx, rows, list(range(1, len(rows) + 1))), "waited": [one.pk for one in kept]}


@room.post("/orders/waiting/let-go", "orders.edit", response=Done)
def let_go(ctx: Ctx, body: LetGoIn) -> Any:
    """Leave waiting rows out for good."""
    return {"message": f"Left {plural(services.let_go(ctx, body.waiting), 'row')} out."}


@room.get("/orders/words", "see", response=list[WordOut])
def own_words(ctx: Ctx) -> Any:
    """What words in orders mean in this house."""
    return list(ctx.rows(OwnWord).order_by("column", "crop", "said").values("id", "column", "said", "crop", "means"))


@room.post("/orders/words", "orders.edit", response=Done)
def settle_word(ctx: Ctx, body: WordIn) -> Any:
    """Settle what words in a column mean from now on."""
    said.settle_word(ctx, body.column, body.said, body.means, body.crop)
    return {"message": f"“{body.said}” is settled."}


@room.post("/orders/words/{ref:word_id}/forget", "orders.edit", response=Done)
def forget_word(ctx: Ctx, word_id: Ref) -> Any:
    """Let words mean nothing of their own again."""
    said.forget_word(ctx, word_id)
    return {"message": "Forgotten."}


def _not_too_many(body: RowsIn) -> None:
    if len(body.rows) > MOST_ROWS:
        raise refuse("rows", "too_large", f"{len(body.rows):,} rows; at most {MOST_ROWS:,} at once.")


@room.get("/orders/export", "see")
def export(ctx: Ctx) -> HttpResponse:
    """Every order line as CSV."""
    answer = HttpResponse("\ufeff" + services.export(ctx), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="orders-{ctx.today}.csv"'
    return answer
