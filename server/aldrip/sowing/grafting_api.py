"""What a graft is made of, and whether the two fit each other."""

from datetime import date
from typing import Any

from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.schemas import Done
from aldrip.batches import grafting
from aldrip.sowing.api import ChainLinkOut, link_out
from aldrip_core.units import from_base, unit

room = Room("sowing")


class HalfGrownOut(Schema):
    batch_id: int
    code: str
    quantity: float
    expected: float
    ready_on: date
    late_days: int
    waits_days: int  # ready so many days before, where it may not wait so long


class HalfUsedOut(Schema):
    lot_id: int
    lot: str
    quantity: float
    unit: str
    on: date


class HalfChoiceOut(Schema):
    id: int
    name: str


class HalfOut(Schema):
    """One part of a graft: scion or rootstock."""

    part: str
    crop: str
    crop_id: int
    cultivar: str
    needed: int
    grown: list[HalfGrownOut]
    used: list[HalfUsedOut]
    methods: list[HalfChoiceOut]
    lines: list[HalfChoiceOut]


@room.get("/batches/{ref:batch_id}/halves", "see", response=list[HalfOut])
def halves_of(ctx: Ctx, batch_id: Ref) -> Any:
    """Scion and rootstock of a graft: how many, who grows them, by which methods they could be raised; none where a batch is no graft."""
    return [
        {
            "part": one.part,
            "crop": one.crop.name,
            "crop_id": one.crop.pk,
            "cultivar": one.line.name if one.line else "",
            "needed": one.needed,
            "grown": [
                {
                    "batch_id": grown.batch.pk,
                    "code": grown.batch.code,
                    "quantity": grown.quantity,
                    "expected": grown.expected,
                    "ready_on": grown.ready_on,
                    "late_days": grown.late_days,
                    "waits_days": grown.waits_days,
                }
                for grown in one.grown
            ],
            "used": [
                {
                    "lot_id": row.lot.pk,
                    "lot": row.lot.code,
                    "quantity": float(from_base(row.quantity, unit(row.lot.unit))),
                    "unit": row.lot.unit,
                    "on": row.taken_on,
                }
                for row in one.used
                if row.lot is not None
            ],
            "methods": [{"id": method.pk, "name": method.name} for method in one.methods],
            "lines": [{"id": line.pk, "name": line.name} for line in one.lines],
        }
        for one in grafting.halves(ctx, batch_id)
    ]


class RaiseHalfIn(Schema):
    part: str = Field(max_length=12)
    method_id: int
    line_id: int | None = None
    more: str = Field("", max_length=20)  # than grafts are made, as typed


@room.post("/batches/{ref:batch_id}/halves", "batches.plan", response=Done)
def raise_half(ctx: Ctx, batch_id: Ref, body: RaiseHalfIn) -> Any:
    """Plan the batch that gives one part, ready on the day of the grafting."""
    found = grafting.raise_half(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.code} is planned."}


@room.get("/batches/{ref:batch_id}/pairs", "see", response=list[ChainLinkOut])
def pairs_of(
    ctx: Ctx, batch_id: Ref, top_mm: str = "", foot_mm: str = "", within: str = "", tops: str = "", feet: str = ""
) -> Any:
    """How many go together, from a few stems measured at the cut, as typed; nothing where a batch is no graft."""
    found = grafting.pairs_of(ctx, batch_id, top_mm=top_mm, foot_mm=foot_mm, within=within, tops=tops, feet=feet)
    return [link_out(one) for one in found]
