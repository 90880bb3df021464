"""Feeds: recipes, tank cards on screen and on A5, and what was read."""

from datetime import datetime
from typing import Any
from uuid import UUID

from django.http import HttpResponse
from ninja import Field, Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.pdf import answer_pdf, pdf
from aldrip.base.quantity import read_measure
from aldrip.base.schemas import StepOut
from aldrip.base.words import who
from aldrip.methods.models import Recipe
from aldrip.methods.resolver import Library
from aldrip.sowing import feeding
from aldrip.sowing.models import FeedReading

room = Room("sowing")


class FeedOut(Schema):
    slug: str
    name: str
    litres: float
    band_words: str
    note: str
    own: bool


class FeedReadOut(Schema):
    id: int
    feed: str
    place: str
    ec: float | None
    ph: float | None
    said: str
    at: datetime
    by: str
    reason: str


class FeedsOut(Schema):
    feeds: list[FeedOut]
    readings: list[FeedReadOut]


def _read(one: FeedReading) -> dict[str, Any]:
    names = ("feed", "ec", "ph", "said", "reason")
    return {
        "id": one.pk,
        **{name: getattr(one, name) for name in names},
        "place": one.place.name if one.place else "",
        "at": one.happened_at,
        "by": who(one.by),
    }


@room.get("/feeds", "see", response=FeedsOut)
def feeds(ctx: Ctx) -> Any:
    """Feeds of the house, and what was read of them lately."""
    rows = Library(ctx).ordered(Recipe)
    return {
        "feeds": [
            {
                "slug": one.slug,
                "name": one.name,
                "litres": one.litres,
                "band_words": feeding.band_words(feeding.band_of(one)),
                "note": one.note,
                "own": one.organisation_id is not None,
            }
            for one in rows
        ],
        "readings": [_read(one) for one in feeding.readings(ctx)],
    }


class WeighedInOut(Schema):
    name: str
    grams: float
    words: str


class FeedTankOut(Schema):
    name: str
    litres: float
    litres_words: str
    parts: list[WeighedInOut]


class ElementOut(Schema):
    element: str
    mg_per_l: float
    words: str


class TankCardOut(Schema):
    """What is weighed into which tank [g], and what a litre holds at the plants."""

    slug: str
    name: str
    litres: float
    litres_words: str
    ratio: float | None
    ratio_words: str
    tanks: list[FeedTankOut]
    elements: list[ElementOut]
    oxides_words: str
    ec: float
    ec_words: str
    band_words: str
    warnings: list[str]
    cautions: list[str]
    note: str
    working: list[StepOut]


def _card(ctx: Ctx, slug: str, litres: str, ratio: str, source_ec: str) -> dict[str, Any]:
    recipe, card = feeding.card_of(ctx, slug, litres=litres, ratio=ratio, source_ec=source_ec)
    return feeding.plain(ctx, recipe, card, feeding.read_ratio(ratio))


@room.get("/feeds/{slug}/tank", "see", response=TankCardOut)
def tank(ctx: Ctx, slug: str, litres: str = "", ratio: str = "", source_ec: str = "") -> Any:
    """What is weighed in for so much feed: as typed, “400 L”, “2 US gal”; the injector as “1:100”."""
    return _card(ctx, slug, litres, ratio, source_ec)


@room.get("/feeds/{slug}/tank.pdf", "see")
def tank_pdf(ctx: Ctx, slug: str, litres: str = "", ratio: str = "", source_ec: str = "") -> HttpResponse:
    """The tank card on A5."""
    return answer_pdf(f"tank-card-{slug}", pdf("print/tank.html", _card(ctx, slug, litres, ratio, source_ec)))


class FeedReadIn(Schema):
    """EC and pH as read: “1.4”, “1400 µS/cm”; one of them may be empty."""

    recipe: str = Field("", max_length=80)
    place_id: int | None = None
    ec: str = Field("", max_length=20)
    ph: str = Field("", max_length=10)
    uuid: UUID
    replaces: int | None = None
    reason: str = Field("", max_length=300)


@room.post("/feeds/readings", "diary.do", response=FeedReadOut)
def read_feed(ctx: Ctx, body: FeedReadIn) -> Any:
    """Write down EC and pH of a feed, or put a reading right."""
    made = feeding.record_feed(
        ctx,
        recipe=body.recipe,
        place_id=body.place_id,
        ec=read_measure(body.ec, "mS/cm", "ec") if body.ec.strip() else None,
        ph=read_measure(body.ph, "", "ph") if body.ph.strip() else None,
        client_uuid=body.uuid,
        replaces=body.replaces,
        reason=body.reason,
    )
    return _read(made)
