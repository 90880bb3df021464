"""Cards of what is done at the bench after sowing, on screen and on A5."""

from datetime import date, timedelta
from typing import Any
from uuid import UUID

from django.http import HttpResponse
from ninja import Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.pdf import answer_pdf, pdf
from aldrip.base.schemas import StepOut
from aldrip.base.words import number
from aldrip.sowing import stage_cards
from aldrip.sowing.api import ChainLinkOut, MixedInOut, NextOut, PartOut
from aldrip.sowing.dressings import dressings_of, water_of

room = Room("sowing")
BIG = ("plants", "pieces", "m2")  # what stands large on the card


class BenchWorkOut(Schema):
    """Work of a stage that is to come: how many plants come into it."""

    batch_id: int
    batch_uuid: UUID
    code: str
    crop: str
    stage: str
    name: str
    on: date
    many: int


class BenchTaskOut(Schema):
    words: str
    minutes: int | None
    uses: str
    part: str


class BenchCardOut(Schema):
    batch_id: int
    code: str
    stage: str
    name: str
    title: str
    crop: str
    cultivar: str
    on: date
    day_words: str
    done: bool
    from_place: str
    place: str
    container: str
    apart_words: str
    mix: str
    litres_words: str
    parts: list[PartOut]
    mixed_in: list[MixedInOut]
    figures: list[ChainLinkOut]
    work: list[BenchTaskOut]
    next: list[NextOut]
    watch_for: list[str]
    cautions: list[str]


@room.get("/sowing/later", "see", response=list[BenchWorkOut])
def later(ctx: Ctx, before: date | None = None) -> Any:
    """What is potted, pricked out, spaced or thinned before a day, by day; in the coming weeks where nobody says."""
    return list(stage_cards.coming(ctx, before or ctx.today + timedelta(weeks=6)))


class DressingOut(Schema):
    """One dressing of a batch; `kg_per_ha` of the ground it stands on, where that is known."""

    task_id: int
    on: date
    words: str
    product: str
    each_words: str
    kg: float
    kg_per_ha: float | None
    nutrients_words: str
    done: bool
    working: list[StepOut]


@room.get("/batches/{ref:batch_id}/dressings", "see", response=list[DressingOut])
def dressings(ctx: Ctx, batch_id: Ref) -> Any:
    """Solid feed of a batch by day: grams each, kilos in all and a hectare."""
    return dressings_of(ctx, batch_id)


class DrinksOut(Schema):
    """What a stage drinks: on the mean of its days, at once, in all."""

    stage: str
    name: str
    place: str
    start: date
    end: date
    m2: float
    mm_a_day: float
    litres_a_day: float
    times_a_week: float
    litres_a_time: float
    litres: float
    working: list[StepOut]


@room.get("/batches/{ref:batch_id}/water", "see", response=list[DrinksOut])
def water(ctx: Ctx, batch_id: Ref) -> Any:
    """What a batch drinks, stage by stage."""
    return water_of(ctx, batch_id)


@room.get("/batches/{ref:batch_id}/stages/{key}/card", "see", response=BenchCardOut)
def bench_card(ctx: Ctx, batch_id: Ref, key: str) -> Any:
    """The card of one stage."""
    return stage_cards.card_of(ctx, batch_id, key)


@room.get("/batches/{ref:batch_id}/stages/{key}/card.pdf", "see")
def bench_card_pdf(ctx: Ctx, batch_id: Ref, key: str) -> HttpResponse:
    """The same on A5."""
    facts = stage_cards.card_of(ctx, batch_id, key)
    big = [
        {"label": one["label"], "words": f"{number(one['value'], 0 if one['value'] >= 100 else 1)} {one['unit']}"}
        for one in facts["figures"]
        if one["key"] in BIG
    ]
    return answer_pdf(f"{key}-card-{facts['code']}", pdf("print/stage_card.html", {**facts, "big": big}))
