"""What was applied: written down by the label, read again, put right."""

from datetime import date, datetime
from typing import Any
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.quantity import read_measure
from aldrip.base.words import who
from aldrip.diary import applications
from aldrip.diary.models import Application

room = Room("diary")


class ApplicationOut(Schema):
    """`entry_from`: when the place may be entered; `harvest_from`: the first day on which what stood there leaves."""

    id: int
    place: str
    place_id: int
    product: str
    active: str
    registration: str
    rate: str
    amount: str
    area: str
    why: str
    weather: str
    operator: str
    licence: str
    applied_at: datetime
    entry_from: datetime | None
    harvest_from: date | None
    stood: list[str]
    by: str
    reason: str


def _out(one: Application) -> dict[str, Any]:
    names = (
        "place_id", "product", "active", "registration", "rate", "amount", "area", "why", "weather", "operator",
        "licence", "applied_at", "entry_from", "harvest_from", "reason",
    )  # fmt: skip
    return {
        "id": one.pk,
        **{name: getattr(one, name) for name in names},
        "place": one.place.name,
        "stood": [row["code"] for row in one.stood],
        "by": who(one.by),
    }


@room.get("/applications", "see", response=list[ApplicationOut])
def list_applications(ctx: Ctx) -> Any:
    """What was applied lately, the newest first."""
    rows = applications.counting(ctx).select_related("place", "by").order_by("-applied_at", "-pk")
    return [_out(one) for one in rows[: applications.SHOWN]]


class AppliedIn(Schema):
    """As the label has it and as it was done; hours and days as typed: “6 h”, “2 days”."""

    place_id: int
    product: str = Field(max_length=120)
    active: str = Field("", max_length=200)
    registration: str = Field("", max_length=80)
    rate: str = Field(max_length=60)
    amount: str = Field(max_length=60)
    area: str = Field("", max_length=60)
    why: str = Field(max_length=200)
    weather: str = Field("", max_length=120)
    operator: str = Field(max_length=120)
    licence: str = Field("", max_length=80)
    entry_hours: str = Field("", max_length=20)
    harvest_days: str = Field("", max_length=20)
    at: datetime | None = None
    uuid: UUID
    replaces: int | None = None
    reason: str = Field("", max_length=300)
    void: bool = False


@room.post("/applications", "diary.do", response=ApplicationOut)
def apply(ctx: Ctx, body: AppliedIn) -> Any:
    """Write down what was applied, or put a record right."""
    told = body.dict(exclude={"entry_hours", "harvest_days", "at", "uuid", "replaces", "reason", "void"})
    days = read_measure(body.harvest_days, "day", "harvest_days") if body.harvest_days.strip() else None
    made = applications.apply(
        ctx,
        applications.Applied(
            **told,
            entry_hours=read_measure(body.entry_hours, "h", "entry_hours") if body.entry_hours.strip() else None,
            harvest_days=None if days is None else -int(-days // 1),
        ),
        at=body.at,
        client_uuid=body.uuid,
        replaces=body.replaces,
        reason=body.reason,
        void=body.void,
    )
    return _out(made)
