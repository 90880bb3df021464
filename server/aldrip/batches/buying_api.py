"""What is to be bought, and what stock is already spoken for."""

from datetime import date
from typing import Any, Literal

from django.http import HttpResponse
from ninja import Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base import workbook
from aldrip.base.errors import refuse
from aldrip.base.pdf import answer_pdf, pdf
from aldrip.base.schemas import Done
from aldrip.base.words import day, grams, number
from aldrip.batches import buying
from aldrip_core.units import Unit, unit

room = Room("batches")


class UseOut(Schema):
    batch_id: int | None  # none: it is for something else, which `batch` says
    batch: str
    quantity: float
    on: date


class WantedOut(Schema):
    crop: str
    cultivar: str
    what: str
    quantity: float
    unit: str
    lot: str
    order_by: date
    late: bool
    uses: list[UseOut]


@room.get("/buying", "see", response=list[WantedOut])
def to_buy(ctx: Ctx, lead_days: int = buying.LEAD_DAYS) -> Any:
    """Seed and stock that planned batches want and stock does not hold."""
    return [
        {
            **{name: getattr(one, name) for name in WantedOut.model_fields if name != "uses"},
            "uses": [
                {
                    "batch_id": use.batch.pk if use.batch else None,
                    "batch": use.code,
                    "quantity": use.quantity,
                    "on": use.on,
                }
                for use in one.uses
            ],
        }
        for one in buying.to_buy(ctx, _lead(lead_days))
    ]


@room.get("/buying/export", "see")
def export_buying(ctx: Ctx, lead_days: int = buying.LEAD_DAYS, kind: Literal["csv", "xlsx"] = "csv") -> HttpResponse:
    """The buying list as CSV or as a workbook."""
    rows = buying.to_buy(ctx, _lead(lead_days))
    answer = (
        HttpResponse("\ufeff" + buying.exported(rows), content_type="text/csv; charset=utf-8")
        if kind == "csv"
        else HttpResponse(buying.as_workbook(rows), content_type=workbook.KIND)
    )
    answer["Content-Disposition"] = f'attachment; filename="to-buy-{ctx.today}.{kind}"'
    return answer


@room.get("/buying.pdf", "see")
def print_buying(ctx: Ctx, lead_days: int = buying.LEAD_DAYS) -> HttpResponse:
    """The buying list on paper, with a box to tick."""
    rows = [
        {
            "by": day(one.order_by),
            "late": one.late,
            "name": f"{one.crop} {one.cultivar or '(any cultivar)'}",
            "what": f"{one.what} beside lot {one.lot}" if one.lot else one.what,
            "much": grams(one.quantity) if unit(one.unit) is Unit.GRAM else f"{number(one.quantity)} {one.unit}",
            "uses": ", ".join(f"{use.code} ({day(use.on)})" for use in one.uses),
        }
        for one in buying.to_buy(ctx, _lead(lead_days))
    ]
    facts = {"rows": rows, "organisation": ctx.organisation.name, "today": day(ctx.today, year=True), "lead": lead_days}
    return answer_pdf(f"to-buy-{ctx.today}", pdf("print/to_buy.html", facts))


def _lead(days: int) -> int:
    if not 0 <= days <= 365:
        raise refuse("lead_days", "out_of_range", f"{days} days between order and receipt cannot be; 0 to 365.")
    return days


class SpokenOut(Schema):
    """What is spoken for of a lot, in the unit that the lot is shown in."""

    lot_id: int
    planned: float
    aside: float


@room.get("/buying/spoken", "see", response=list[SpokenOut])
def spoken(ctx: Ctx) -> Any:
    """How much of each lot planned batches want and order lines have set aside."""
    return buying.spoken_for(ctx)


class WaitsOut(Schema):
    batch_id: int
    batch: str
    version: int
    quantity: float
    unit: str
    on: date
    holds: bool


class GiveIn(Schema):
    """The version of each batch by its number, as it was seen."""

    batches: dict[int, int]


@room.get("/lots/{ref:lot_id}/waiting", "see", response=list[WaitsOut])
def waiting_for_lot(ctx: Ctx, lot_id: Ref) -> Any:
    """Planned batches without seed that this lot could be sown in."""
    return [
        {
            "batch_id": one.batch.pk,
            "batch": one.batch.code,
            "version": one.batch.version,
            "quantity": one.quantity,
            "unit": one.unit,
            "on": one.on,
            "holds": one.holds,
        }
        for one in buying.waiting_for(ctx, lot_id)
    ]


@room.post("/lots/{ref:lot_id}/give", "batches.plan", response=Done)
def give_lot(ctx: Ctx, lot_id: Ref, body: GiveIn) -> Any:
    """Let planned batches be sown from a lot."""
    return {"message": f"Given to {', '.join(buying.give(ctx, lot_id, body.batches))}."}
