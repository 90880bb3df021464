"""Boxes: a lot packed and unpacked, and the label of its boxes."""

from typing import Any

from django.http import HttpResponse
from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.pdf import answer_pdf, pdf, qr
from aldrip.base.quantity import read_measure
from aldrip.base.schemas import Done
from aldrip.lots import packing
from aldrip.lots.models import Lot

room = Room("lots")


class PackIn(Schema):
    """As typed. `ago`: since when, “3 h”; empty: just now. `hours`: how long they may stay packed."""

    ago: str = Field("", max_length=20)
    hours: str = Field("24", max_length=20)


@room.post("/lots/{ref:lot_id}/pack", "lots.pack", response=Done)
def pack(ctx: Ctx, lot_id: Ref, body: PackIn) -> Any:
    """A lot is in boxes: it is to be planted within its hours."""
    hours = read_measure(body.hours, "h", "hours")
    ago = read_measure(body.ago, "h", "ago") if body.ago.strip() else 0.0
    lot = packing.pack(ctx, lot_id, ago_h=ago, hours=hours)
    return Done(id=lot.pk, message=f"To be planted by {packing.until_words(ctx, lot)}.")


@room.post("/lots/{ref:lot_id}/unpack", "lots.pack", response=Done)
def unpack(ctx: Ctx, lot_id: Ref) -> Any:
    """A lot stands out of its boxes again."""
    return Done(id=packing.unpack(ctx, lot_id).pk, message="They stand out of their boxes.")


@room.get("/lots/{ref:lot_id}/packed.pdf", "see")
def packed_pdf(ctx: Ctx, lot_id: Ref) -> HttpResponse:
    """The label of packed boxes, with the hour until which they are to be planted."""
    found = ctx.get(Lot, lot_id)
    facts = packing.label_facts(ctx, found)
    return answer_pdf(f"boxes-{found.code}", pdf("print/packed_label.html", {**facts, "qr": qr(found.code)}))
