"""Trays of the house: how they stand, and what was done with them."""

from datetime import date
from typing import Any, Literal
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.quantity import read_count, read_found
from aldrip.base.words import who
from aldrip.sowing import trays

room = Room("sowing")


class TrayEventOut(Schema):
    id: int
    on: date
    what: str
    many: int
    clean: int
    by: str
    note: str


class TrayRowOut(Schema):
    """`fills_each`, `washes_each`: on average since the first count; `short_by` at most from `short_on` on."""

    name: str
    owned: int
    clean: int
    dirty: int
    in_use: int
    fills_each: float
    washes_each: float
    lasts: int | None
    short_on: date | None
    short_by: int
    wash_on: date | None
    wash: int
    pressing: bool
    sentence: str
    events: list[TrayEventOut]


class TrayEntryIn(Schema):
    """As typed. `many`: all that there are where they were counted, `clean` of them clean."""

    name: str = Field(max_length=120)
    what: Literal["counted", "bought", "washed", "thrown"] = "counted"
    many: str = Field("", max_length=20)
    clean: str = Field("", max_length=20)
    lasts: str = Field("", max_length=20)
    on: date | None = None
    note: str = Field("", max_length=300)
    client_uuid: UUID


STAND = ("owned", "clean", "dirty", "in_use", "fills_each", "washes_each", "short_on", "short_by", "wash_on", "wash")


@room.get("/trays", "see", response=list[TrayRowOut])
def list_trays(ctx: Ctx) -> Any:
    """Kinds of trays that were counted here, those that press first."""
    return [
        {
            "name": row.name,
            **{name: getattr(row.stand, name) for name in STAND},
            "lasts": row.lasts,
            "pressing": bool(row.stand.short_on or row.stand.over or row.worn),
            "sentence": trays.sentence(row),
            "events": [
                {
                    "id": one.pk,
                    "on": ctx.local(one.happened_at).date(),
                    "what": one.get_what_display(),
                    "many": one.many,
                    "clean": one.clean_ones,
                    "by": who(one.by),
                    "note": one.reason,
                }
                for one in row.events[: trays.SHOWN]
            ],
        }
        for row in trays.rows_of(ctx)
    ]


@room.post("/trays", "diary.do", response=list[TrayRowOut])
def record(ctx: Ctx, body: TrayEntryIn) -> Any:
    """Trays were counted, bought, washed or thrown away."""
    trays.record(
        ctx,
        name=body.name,
        what=body.what,
        many=read_found(body.many, "many"),
        clean=read_found(body.clean, "clean"),
        lasts=read_count(body.lasts, "lasts", "fillings") if body.lasts.strip() else None,
        on=body.on,
        note=body.note,
        client_uuid=body.client_uuid,
    )
    return list_trays(ctx)
