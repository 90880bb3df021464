"""Sowing: the cards, on screen and on A5."""

from datetime import date
from typing import Any, Literal
from uuid import UUID

from django.http import HttpResponse
from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base import workbook
from aldrip.base.pdf import answer_pdf, pdf
from aldrip.base.quantity import read_count, read_found, read_measure
from aldrip.base.schemas import BatchState, StepOut, steps
from aldrip.batches.models import Batch
from aldrip.sowing import calibrating, chain, checking, requirements, services, setting, thinning
from aldrip_core.requirements import weeks_from
from aldrip_core.sowing_chain import Link

room = Room("sowing")


class PartOut(Schema):
    name: str
    litres: float


class MixedInOut(Schema):
    """What is mixed into the medium, and what a litre of it holds then."""

    name: str
    words: str
    note: str


class FilledFromOut(Schema):
    """A lot of medium that its trays were filled from."""

    code: str
    words: str


class CardStepOut(Schema):
    label: str
    words: str


class CardSowerOut(Schema):
    """The sower that was last set for it, and how."""

    machine_id: int
    name: str
    words: str
    settled: bool


class NextOut(Schema):
    words: str
    day_words: str
    start: date


class SowCheckOut(Schema):
    id: int
    on: date
    verdict: Literal["well", "watch", "stop"]
    sentence: str
    by: str
    note: str


class CardOut(Schema):
    batch_id: int
    code: str
    version: int
    state: BatchState
    verb: str
    crop: str
    cultivar: str
    sow_on: date
    day_words: str
    place: str
    orders_words: str
    trays: int | None
    trays_words: str
    container: str
    cells: int | None
    start: int
    units_words: str
    units_note: str
    seeds: float | None
    grams: float | None
    grams_words: str
    lot_id: int | None
    lot: str
    lot_left: float | None
    lot_unit: str
    lot_words: str
    filled_from: list[FilledFromOut]
    mix: str
    litres: float | None
    parts: list[PartOut]
    more_media: list[PartOut]
    mixed_in: list[MixedInOut]
    medium_note: str
    steps: list[CardStepOut]
    next: list[NextOut]
    watch_for: list[str]
    cautions: list[str]
    sower: CardSowerOut | None
    one_by_one: bool  # whether it is sown one seed to a cell, or seed by seed along a row
    checks: list[SowCheckOut]
    working: list[StepOut]


@room.get("/batches/{ref:batch_id}/card", "see", response=CardOut)
def card(ctx: Ctx, batch_id: Ref) -> Any:
    return _card(ctx, batch_id)


def _card(ctx: Ctx, batch_id: Ref) -> dict[str, Any]:
    batch = ctx.get(Batch, batch_id)
    return {
        **services.card_of(ctx, batch_id),
        "sower": calibrating.on_card(ctx, batch_id),
        "one_by_one": checking.one_by_one(ctx, batch),
        "checks": checking.checks_of(ctx, batch),
    }


class ChainLinkOut(Schema):
    key: str
    label: str
    value: float
    unit: str
    working: list[StepOut]
    note: str


class SowCheckIn(Schema):
    """As typed: cells counted, or `spacings` along a row (“10 9 21 4”) and the distance `wanted` between seeds."""

    looked: str = Field("", max_length=20)
    misses: str = Field("0", max_length=20)
    doubles: str = Field("0", max_length=20)
    spacings: str = Field("", max_length=1000)
    wanted: str = Field("", max_length=20)
    note: str = Field("", max_length=300)
    client_uuid: UUID


@room.post("/batches/{ref:batch_id}/sow-checks", "diary.count", response=CardOut)
def sow_check(ctx: Ctx, batch_id: Ref, body: SowCheckIn) -> Any:
    """Somebody looked whether one seed lies in each cell."""
    measured = bool(body.spacings.strip())
    checking.check(
        ctx,
        batch_id,
        client_uuid=body.client_uuid,
        looked=0 if measured else read_count(body.looked, "looked", "cells"),
        misses=0 if measured else read_found(body.misses, "misses"),
        doubles=0 if measured else read_found(body.doubles, "doubles"),
        spacings=body.spacings,
        wanted_cm=read_measure(body.wanted or "0", "cm", "wanted") if measured else 0.0,
        note=body.note,
    )
    return _card(ctx, batch_id)


def link_out(one: Link) -> dict[str, Any]:
    return {
        **{name: getattr(one, name) for name in ("key", "label", "value", "unit", "note")},
        "working": steps(one.working),
    }


@room.get("/batches/{ref:batch_id}/chain", "see", response=list[ChainLinkOut])
def chain_of(ctx: Ctx, batch_id: Ref, planted: str = "", rate: str = "") -> Any:
    """One sowing from seed to hours.

    `planted`: how its plants will stand, as typed: “40,000/ha”, “45 × 45 cm”; `rate`: of seed by a rule of thumb, “600 g/ha”.
    """
    return [link_out(one) for one in chain.chain_of(ctx, batch_id, planted, rate)]


@room.get("/batches/{ref:batch_id}/setts", "see", response=list[ChainLinkOut])
def setts(
    ctx: Ctx,
    batch_id: Ref,
    tuber_g: str = "",
    sett_g: str = "",
    footprint_cm2: str = "",
    bed_width_cm: str = "",
    an_hour: str = "",
    dip_kg: str = "",
    dip_l: str = "",
) -> Any:
    """The work of a batch of setts, as typed or as usual; nothing where the batch is not cut out of tubers."""
    typed = {
        "tuber_g": tuber_g,
        "sett_g": sett_g,
        "footprint_cm2": footprint_cm2,
        "bed_width_cm": bed_width_cm,
        "an_hour": an_hour,
        "dip_kg": dip_kg,
        "dip_l": dip_l,
    }
    return [link_out(one) for one in setting.setts_of(ctx, batch_id, typed)]


@room.get("/batches/{ref:batch_id}/stand", "see", response=list[ChainLinkOut])
def stand(ctx: Ctx, batch_id: Ref, in_row: str = "", gaps: str = "", pulled: str = "", singled: str = "") -> Any:
    """Sown thick and thinned against sown at stand, as typed or as usual; nothing where a batch is not thinned."""
    found = thinning.ways_of(ctx, batch_id, in_row=in_row, gaps=gaps, pulled=pulled, singled=singled)
    return [link_out(one) for one in found]


@room.get("/batches/{ref:batch_id}/card.pdf", "see")
def card_pdf(ctx: Ctx, batch_id: Ref) -> HttpResponse:
    """The sowing card on A5."""
    facts = _card(ctx, batch_id)
    return answer_pdf(f"sowing-card-{facts['code']}", pdf("print/card.html", facts))


@room.get("/batches/{ref:batch_id}/tray-labels.pdf", "see")
def tray_labels_pdf(ctx: Ctx, batch_id: Ref, roll: bool = False) -> HttpResponse:
    """A label for every tray, three beside each other on A4; or one after another on a roll of 64 × 35 mm."""
    facts = services.tray_labels_of(ctx, batch_id, roll)
    return answer_pdf(f"tray-labels-{facts['code']}", pdf("print/tray_labels.html", facts))


class RequiredOut(Schema):
    kind: str
    what: str
    unit: str
    amounts: list[float]
    total: float


class RequirementsOut(Schema):
    """`weeks`: their Mondays; an amount of each row for each of them."""

    weeks: list[date]
    rows: list[RequiredOut]


@room.get("/requirements", "see", response=RequirementsOut)
def by_week(ctx: Ctx, weeks: int = 12) -> Any:
    """What the weeks ahead take of each thing."""
    first, rows = requirements.ahead(ctx, weeks)
    return {
        "weeks": weeks_from(first, weeks),
        "rows": [
            {"kind": one.kind, "what": one.what, "unit": one.unit, "amounts": one.amounts, "total": one.total}
            for one in rows
        ],
    }


@room.get("/requirements/export", "see")
def export_by_week(ctx: Ctx, weeks: int = 12, kind: Literal["csv", "xlsx"] = "csv") -> HttpResponse:
    """The same as CSV or as a workbook."""
    first, rows = requirements.ahead(ctx, weeks)
    answer = (
        HttpResponse("\ufeff" + requirements.exported(first, rows), content_type="text/csv; charset=utf-8")
        if kind == "csv"
        else HttpResponse(requirements.as_workbook(first, rows), content_type=workbook.KIND)
    )
    answer["Content-Disposition"] = f'attachment; filename="by-week-{ctx.today}.{kind}"'
    return answer
