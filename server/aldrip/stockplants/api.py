"""Mother plants: what stands, what is cut of it, and what it will give against what is to be stuck."""

from datetime import date, datetime, timedelta
from math import ceil
from typing import Any, Literal
from uuid import UUID

from django.db.models import QuerySet
from django.http import HttpResponse
from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.pdf import answer_pdf, pdf, qr
from aldrip.base.quantity import read_count
from aldrip.base.schemas import StepOut, steps
from aldrip.base.words import day, number, plural, who
from aldrip.places.entering import entering_words
from aldrip.stockplants import services
from aldrip.stockplants.cutting_day import cuttings_due
from aldrip.stockplants.models import CutLog, MotherStock
from aldrip.stockplants.outlook import OfCrop, outlooks
from aldrip_core.mother_stock import Remedy, age_weeks, given_by_week, in_week

room = Room("stockplants")


class CutOut(Schema):
    id: int
    on: date
    cuttings: int
    into: Literal["stock", "mothers", "discarded"]
    into_words: str
    lot: str
    lot_id: int | None
    use_by: datetime | None  # by when what waits is to be stuck
    leaves: str
    by: str
    note: str


class IndexOut(Schema):
    id: int
    what: str
    sound: bool
    tested_on: date
    valid_until: date | None
    laboratory: str
    by: str


class MotherStockOut(Schema):
    """`mothers`: that still stand; `reckoned`: what such mothers give until the end of this week; `given`: cuttings in each of the coming weeks, from the Monday of this one."""

    id: int
    uuid: UUID
    code: str
    lot_id: int
    crop: str
    line: str
    place: str
    generation: int
    planted_on: date
    planted: int
    mothers: float
    age_weeks: int
    life_weeks: int
    exhausted_on: date | None
    retired_on: date | None
    retired_as: str
    on_hold: str
    sentence: str
    note: str
    cut: int
    reckoned: float
    slows: str
    enters: str
    given: list[float]
    cuts: list[CutOut]
    index: list[IndexOut]


class MothersRemedyOut(Schema):
    code: str
    sentence: str
    working: list[StepOut]


class FedOut(Schema):
    batch_id: int
    batch: str
    week: int
    cuttings: float
    orders: list[str]


class OutlookOut(Schema):
    crop: str
    first: date
    given: list[float]
    wanted: list[float]
    short: list[float]
    sentence: str
    to_come: list[float]  # of what is given, by week: what mothers give that are only planned
    fed: list[FedOut]
    remedies: list[MothersRemedyOut]


class ToCutOut(Schema):
    on: date
    many: int
    stock: str  # empty: no mother gives them
    stock_uuid: UUID | None
    place: str
    batch: str
    batch_id: int


class MothersOut(Schema):
    stocks: list[MotherStockOut]
    to_cut: list[ToCutOut]  # in the coming seven days
    outlooks: list[OutlookOut]


SHOWN_WEEKS = 26
MOST_SHOWN = 500


def sentence_of(stock: MotherStock, today: date) -> str:
    """Where a stock stands, in a sentence; what is wrong first."""
    age = age_weeks(stock.planted_on, today)
    if stock.lot.on_hold:
        return f"Held: nothing of them is stuck or leaves ({stock.lot.on_hold})."
    if stock.retired_on is not None:
        return f"Retired on {day(stock.retired_on, year=True)}: {stock.retired_as}."
    if stock.exhausted_on is not None:
        return f"Exhausted {'since' if stock.exhausted_on <= today else 'from'} {day(stock.exhausted_on)}."
    if age >= stock.life_weeks:
        return f"Over their {stock.life_weeks} weeks: retire them."
    untested = "" if stock.index_tests.all() else " Not tested yet."
    stale = [one for one in services.newest_index(stock) if one.valid_until and one.valid_until <= today]
    if stale:
        return f"The test for {stale[0].what} ran out on {day(stale[0].valid_until) if stale[0].valid_until else ''}."
    if age < stock.first_cut_week:
        ready = in_week(stock.planted_on, stock.first_cut_week)
        return f"First cut from {day(ready)} on.{untested}"
    return f"Week {age + 1} of {stock.life_weeks}.{untested}"


def stock_out(ctx: Ctx, stock: MotherStock) -> dict[str, Any]:
    monday = ctx.today - timedelta(days=ctx.today.weekday())
    names = (
        "uuid",
        "generation",
        "planted_on",
        "planted",
        "life_weeks",
        "exhausted_on",
        "retired_on",
        "retired_as",
        "note",
    )
    cuts = sorted(stock.cuts.all(), key=lambda one: (one.happened_at, one.pk), reverse=True)
    return {
        "id": stock.pk,
        **{name: getattr(stock, name) for name in names},
        "code": stock.lot.code,
        "lot_id": stock.lot_id,
        "crop": stock.lot.crop.name,
        "line": stock.lot.line.name if stock.lot.line else "",
        "place": stock.place.name if stock.place else "",
        "mothers": float(stock.lot.balance),
        "age_weeks": age_weeks(stock.planted_on, ctx.today),
        "on_hold": stock.lot.on_hold,
        "sentence": sentence_of(stock, ctx.today),
        "cut": sum(one.cuttings for one in cuts),
        "reckoned": services.reckoned_until(ctx, stock),
        "slows": services.slowed_words(ctx, stock),
        "enters": entering_words(stock.place) if stock.place else "",
        "given": list(given_by_week([services.stand_of(stock)], first=monday, weeks=SHOWN_WEEKS)),
        "cuts": [
            {
                "id": one.pk,
                "on": ctx.local(one.happened_at).date(),
                "cuttings": one.cuttings,
                "into": one.into,
                "into_words": one.get_into_display(),
                "lot": one.lot.code if one.lot else "",
                "lot_id": one.lot_id,
                "use_by": one.lot.use_by if one.lot else None,
                "leaves": one.leaves,
                "by": who(one.by),
                "note": one.reason,
            }
            for one in cuts
        ],
        "index": [
            {
                **{name: getattr(one, name) for name in ("what", "sound", "tested_on", "valid_until", "laboratory")},
                "id": one.pk,
                "by": who(one.by),
            }
            for one in sorted(stock.index_tests.all(), key=lambda test: (test.tested_on, test.pk), reverse=True)
        ],
    }


def remedy_words(one: Remedy, crop: str) -> str:
    """A remedy as somebody would offer it."""
    name = crop.lower()
    if one.code == "buy":
        return f"Buy {number(one.many)} cuttings of {name}, the first for the week of {day(one.by)}."
    if one.code == "plant":
        return f"Plant {plural(one.many, 'mother')} of {name} this week: they make up for {number(one.met)} of what is short."
    return f"Stick up to {plural(one.many, 'week')} later, as they come: nothing is bought, and what hangs on it is that much later."


def outlook_out(one: OfCrop) -> dict[str, Any]:
    found, short = one.outlook, ceil(sum(one.outlook.short) - 1e-9)
    weeks = sum(many > 0 for many in found.short)
    told = (
        f"{number(short)} cuttings short in {plural(weeks, 'week')}, of {number(sum(found.wanted))} that are to be stuck."
        if short
        else f"{number(sum(found.wanted))} are to be stuck in the coming half year, each in a week that gives as many."
        if any(found.wanted)
        else "Nothing planned is to be begun with their cuttings."
    )
    return {
        "crop": one.crop,
        "first": one.first,
        "given": list(found.given),
        "wanted": list(found.wanted),
        "short": list(found.short),
        "sentence": told,
        "to_come": list(one.to_come),
        "fed": [
            {
                "batch_id": fed.batch.pk,
                "batch": fed.batch.code,
                "week": fed.week,
                "cuttings": fed.cuttings,
                "orders": [name for _, name in fed.orders],
            }
            for fed in one.fed
        ],
        "remedies": [
            {"code": remedy.code, "sentence": remedy_words(remedy, one.crop), "working": steps(remedy.working)}
            for remedy in found.remedies
        ],
    }


def _shown(ctx: Ctx) -> QuerySet[MotherStock]:
    """Stocks with everything that is shown of them."""
    rows = ctx.rows(MotherStock).select_related("lot__crop", "lot__line", "place__site")
    return rows.prefetch_related("cuts__by", "cuts__lot", "index_tests__by", "lot__movements")


@room.get("/mothers", "see", response=MothersOut)
def list_mothers(ctx: Ctx, older: bool = False) -> Any:
    """Stocks of the house, and by crop what they will give against what is to be stuck; with `older` the retired ones too."""
    rows = _shown(ctx)
    stocks = list((rows if older else rows.filter(retired_on=None)).order_by("-planted_on", "-pk")[:MOST_SHOWN])
    return {
        "stocks": [stock_out(ctx, one) for one in stocks],
        "to_cut": [
            {
                "on": one.on,
                "many": one.many,
                "stock": one.stock.lot.code if one.stock else "",
                "stock_uuid": one.stock.uuid if one.stock else None,
                "place": one.stock.place.name if one.stock and one.stock.place else "",
                "batch": one.batch.code,
                "batch_id": one.batch.pk,
            }
            for one in cuttings_due(ctx, ctx.today, ctx.today + timedelta(days=6))
        ],
        "outlooks": [outlook_out(one) for one in outlooks(ctx, stocks)],
    }


class PlantIn(Schema):
    """As typed. `shoots`: “1, 15 %, 6” or week by week from the first cut."""

    crop_id: Ref
    mothers: str = Field(max_length=20)
    line_id: Ref | None = None
    lot_id: Ref | None = None
    place_id: Ref | None = None
    start_id: Ref | None = None
    planted_on: date | None = None
    shoots: str = Field("1, 15 %, 6", max_length=1000)
    first_cut_week: int = 4
    life_weeks: int = 35
    slows: bool = False
    note: str = Field("", max_length=300)
    client_uuid: UUID


def _one(ctx: Ctx, stock: MotherStock) -> Any:
    return stock_out(ctx, _shown(ctx).get(pk=stock.pk))


@room.post("/mothers", "mothers.plan", response=MotherStockOut)
def plant(ctx: Ctx, body: PlantIn) -> Any:
    """Mothers were planted, of a lot that is there or raised elsewhere."""
    habit = services.read_habit(body.shoots, body.first_cut_week, body.life_weeks)
    spec = services.Planted(
        body.crop_id,
        read_count(body.mothers, "mothers"),
        habit,
        body.line_id,
        body.lot_id,
        body.place_id,
        body.planted_on,
        body.note,
        body.start_id,
        body.slows,
    )
    return _one(ctx, services.plant(ctx, spec, body.client_uuid))


class CutIn(Schema):
    cuttings: str = Field(max_length=20)
    into: Literal["stock", "mothers", "discarded"] = "stock"
    on: date | None = None
    leaves: Literal["", "juvenile", "compound"] = ""
    note: str = Field("", max_length=300)
    client_uuid: UUID


@room.post("/mothers/{ref:stock_id}/cuts", "mothers.cut", response=MotherStockOut)
def cut(ctx: Ctx, stock_id: Ref, body: CutIn) -> Any:
    """Cuttings were taken."""
    log = services.cut(
        ctx,
        stock_id,
        cuttings=read_count(body.cuttings, "cuttings"),
        into=body.into,
        client_uuid=body.client_uuid,
        on=body.on,
        leaves=body.leaves,
        note=body.note,
    )
    return _one(ctx, log.stock)


@room.get("/mothers/cuts/{ref:cut_id}/label.pdf", "see")
def cut_label_pdf(ctx: Ctx, cut_id: Ref) -> HttpResponse:
    """A label for what was cut: of which mothers, and by when it is stuck."""
    log = ctx.get(CutLog, cut_id)
    if log.lot is None:
        raise refuse("cut_id", "thrown_away", "These were thrown away: there is nothing to label.")
    lot, stock = log.lot, log.stock
    if lot.on_hold:
        raise refuse("cut_id", "on_hold", f"Lot {lot.code} gets no label: it is {lot.on_hold}.")
    until = ctx.local(lot.use_by) if lot.use_by else None
    facts = {
        "code": lot.code,
        "qr": qr(lot.code),
        "crop": lot.crop.name,
        "cultivar": lot.line.name if lot.line else "",
        "many": number(log.cuttings),
        "mothers": stock.lot.code,
        "generation": stock.generation,
        "cut": day(ctx.local(log.happened_at).date(), year=True),
        "by": who(log.by),
        "until": f"{until:%H:%M} on {day(until.date())}" if until else "",
        "over": lot.use_by is not None and lot.use_by < ctx.now,
    }
    return answer_pdf(f"cuttings-{lot.code}", pdf("print/cutting_label.html", facts))


class IndexIn(Schema):
    what: str = Field(max_length=120)
    sound: bool
    tested_on: date | None = None
    valid_until: date | None = None
    laboratory: str = Field("", max_length=120)
    client_uuid: UUID


@room.post("/mothers/{ref:stock_id}/index", "mothers.index", response=MotherStockOut)
def index(ctx: Ctx, stock_id: Ref, body: IndexIn) -> Any:
    """A health test; what is not clean is held with everything made of it."""
    made = services.index(ctx, stock_id, **body.dict())
    return _one(ctx, made.stock)


class ExhaustedIn(Schema):
    on: date | None = None


@room.post("/mothers/{ref:stock_id}/exhausted", "mothers.plan", response=MotherStockOut)
def exhausted(ctx: Ctx, stock_id: Ref, body: ExhaustedIn) -> Any:
    """They give nothing to stick from a day on; without a day they do again."""
    return _one(ctx, services.exhausted(ctx, stock_id, on=body.on))


class RetireIn(Schema):
    into: str = Field(max_length=120)


@room.post("/mothers/{ref:stock_id}/retire", "mothers.plan", response=MotherStockOut)
def retire(ctx: Ctx, stock_id: Ref, body: RetireIn) -> Any:
    """They are taken out of use; what becomes of them is kept."""
    return _one(ctx, services.retire(ctx, stock_id, into=body.into))
