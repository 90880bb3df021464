"""Media: what there is, what was read of it, whether it passed, and what was sown into it."""

from datetime import date, datetime
from typing import Any, Literal
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_measure
from aldrip.base.schemas import StepOut, steps
from aldrip.base.words import who
from aldrip.lots import media
from aldrip.lots.models import MediumLot
from aldrip_core.conditioning import MediumLimits

room = Room("lots")
State = Literal["waits", "passed", "rejected"]


class MediumReadOut(Schema):
    id: int
    ph: float
    ec: float
    at: datetime
    by: str
    reason: str


class MediumUsedOut(Schema):
    code: str
    batch_id: UUID
    litres: float
    on: date
    said: str


class MediumOut(Schema):
    """`fit`: inside its limits by the newest reading; None where it has none. `more_washes`: about so many, where they help."""

    id: int
    uuid: UUID
    code: str
    name: str
    since: date
    litres: float
    left: float
    place: str
    ph_low: float | None
    ph_high: float | None
    ec_below: float | None
    state: State
    sentence: str
    fit: bool | None
    more_washes: int | None
    decided_by: str
    note: str
    readings: list[MediumReadOut]
    uses: list[MediumUsedOut]
    working: list[StepOut]


def medium_out(ctx: Ctx, medium: MediumLot) -> dict[str, Any]:
    readings = media.readings_of(medium)
    found = media.judged(medium, readings)
    names = ("uuid", "code", "name", "since", "ph_low", "ph_high", "ec_below", "state", "note")
    return {
        "id": medium.pk,
        **{name: getattr(medium, name) for name in names},
        "litres": float(medium.litres),
        "left": float(medium.left),
        "place": medium.place.name if medium.place else "",
        "sentence": media.standing_words(medium, found),
        "fit": found.fit if found else None,
        "more_washes": found.more_washes if found else None,
        "decided_by": who(medium.decided_by),
        "readings": [
            {"id": one.pk, "ph": one.ph, "ec": one.ec, "at": one.happened_at, "by": who(one.by), "reason": one.reason}
            for one in readings
        ],
        "uses": [
            {
                "code": one.subject_code,
                "batch_id": one.subject,
                "litres": float(one.litres),
                "on": ctx.local(one.happened_at).date(),
                "said": one.said,
            }
            for one in medium.uses.all()
        ],
        "working": steps(found.working) if found else [],
    }


@room.get("/media", "see", response=list[MediumOut])
def list_media(ctx: Ctx, older: bool = False) -> Any:
    """Media of the house: those that are not used up, the newest first; with `older` all of them."""
    rows = ctx.rows(MediumLot).select_related("place", "decided_by").prefetch_related("readings__by", "uses")
    if not older:
        rows = rows.filter(left__gt=0).exclude(state=MediumLot.State.REJECTED)
    return [medium_out(ctx, one) for one in rows.order_by("-since", "-pk")[:200]]


class MediumIn(Schema):
    """As typed. `washed`: it must pass limits before anything is sown into it; empty ones are those of washed coir."""

    name: str = Field(max_length=120)
    litres: str = Field(max_length=30)
    washed: bool = True
    ph_low: str = Field("", max_length=10)
    ph_high: str = Field("", max_length=10)
    ec_below: str = Field("", max_length=20)
    since: date | None = None
    place_id: int | None = None
    note: str = Field("", max_length=300)


def _limits(body: MediumIn) -> MediumLimits | None:
    if not body.washed:
        return None
    usual = MediumLimits()
    return MediumLimits(
        read_measure(body.ph_low, "", "ph_low") if body.ph_low.strip() else usual.ph_low,
        read_measure(body.ph_high, "", "ph_high") if body.ph_high.strip() else usual.ph_high,
        read_measure(body.ec_below, "mS/cm", "ec_below") if body.ec_below.strip() else usual.ec_below,
    )


@room.post("/media", "diary.do", response=MediumOut)
def add_medium(ctx: Ctx, body: MediumIn) -> Any:
    """A medium was bought, mixed or set to wash."""
    spec = media.MediumSpec(
        name=body.name,
        litres=read_measure(body.litres, "L", "litres"),
        limits=_limits(body),
        since=body.since,
        place_id=body.place_id,
        note=body.note,
    )
    return medium_out(ctx, media.add_medium(ctx, spec))


class MediumReadIn(Schema):
    """pH and EC as read: “0.62”, “620 µS/cm”."""

    ph: str = Field(max_length=10)
    ec: str = Field(max_length=20)
    uuid: UUID
    replaces: int | None = None
    reason: str = Field("", max_length=300)


@room.post("/media/{ref:medium_id}/readings", "diary.do", response=MediumOut)
def read_medium(ctx: Ctx, medium_id: Ref, body: MediumReadIn) -> Any:
    """Write down pH and EC after a wash, or put a reading right."""
    for name in ("ph", "ec"):
        if not getattr(body, name).strip():
            raise refuse(name, "missing", "What was read? Both pH and EC, after each wash.")
    made = media.read_medium(
        ctx,
        medium_id,
        ph=read_measure(body.ph, "", "ph"),
        ec=read_measure(body.ec, "mS/cm", "ec"),
        client_uuid=body.uuid,
        replaces=body.replaces,
        reason=body.reason,
    )
    return medium_out(ctx, made)


class MediumDecideIn(Schema):
    decision: State
    why: str = Field("", max_length=300)


@room.post("/media/{ref:medium_id}/decide", "batches.do", response=MediumOut)
def decide_medium(ctx: Ctx, medium_id: Ref, body: MediumDecideIn) -> Any:
    """Let a medium through, or say that it is not to be used."""
    return medium_out(ctx, media.decide_medium(ctx, medium_id, decision=body.decision, why=body.why))
