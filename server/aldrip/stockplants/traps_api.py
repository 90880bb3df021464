"""Insect traps: what they caught by place, and a reading."""

from datetime import date
from typing import Any, Literal
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.quantity import read_count, read_found, read_measure
from aldrip.base.words import who
from aldrip.stockplants import traps
from aldrip_core.trap_counts import Catch

room = Room("stockplants")


class TrapCountOut(Schema):
    id: int
    on: date
    found: int
    traps: int
    days: int
    a_week: float
    by: str
    note: str


class TrapRowOut(Schema):
    """Traps of one colour in a place and one insect; the readings newest first."""

    place_id: int
    place: str
    colour: str
    insect: str
    over: bool
    more: bool
    act_from: float | None
    sentence: str
    counts: list[TrapCountOut]


@room.get("/traps", "see", response=list[TrapRowOut])
def list_traps(ctx: Ctx) -> Any:
    """What traps caught, those over what is acted on first."""
    return [row_out(ctx, one) for one in traps.rows_of(ctx)]


def row_out(ctx: Ctx, row: traps.TrapRow) -> dict[str, Any]:
    newest = row.newest
    return {
        "place_id": newest.place_id,
        "place": newest.place.name,
        "colour": newest.colour,
        "insect": newest.insect,
        "over": row.over,
        "more": row.change == 1,
        "act_from": traps.acts_from(row.counts),
        "sentence": traps.sentence(row),
        "counts": [
            {
                "id": one.pk,
                "on": ctx.local(one.happened_at).date(),
                "found": one.found,
                "traps": one.traps,
                "days": one.days,
                "a_week": traps.catch_of(one).a_week,
                "by": who(one.by),
                "note": one.reason,
            }
            for one in row.counts
        ],
    }


class TrapCountIn(Schema):
    """As typed."""

    place_id: Ref
    colour: Literal["yellow", "blue", "other"] = "yellow"
    insect: str = Field(max_length=60)
    found: str = Field("", max_length=20)
    traps: str = Field("1", max_length=20)
    days: str = Field("7", max_length=20)
    act_from: str = Field("", max_length=20)  # a trap and week
    on: date | None = None
    note: str = Field("", max_length=300)
    client_uuid: UUID


@room.post("/traps", "traps.count", response=list[TrapRowOut])
def count(ctx: Ctx, body: TrapCountIn) -> Any:
    """Traps were read."""
    traps.count(
        ctx,
        place_id=body.place_id,
        colour=body.colour,
        insect=body.insect,
        catch=Catch(
            read_found(body.found, "found"),
            read_count(body.traps, "traps", "traps"),
            read_count(body.days, "days", "days"),
        ),
        act_from=read_measure(body.act_from, "", "act_from") if body.act_from.strip() else None,
        on=body.on,
        note=body.note,
        client_uuid=body.client_uuid,
    )
    return list_traps(ctx)
