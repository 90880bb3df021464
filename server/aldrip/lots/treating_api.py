"""Treatments of a lot: what may be done to it, and the clock that begins."""

from datetime import datetime
from typing import Any
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.quantity import read_quantity
from aldrip.diary.clocks import course_of
from aldrip.diary.clocks_api import ClockOut, clock_out
from aldrip.diary.models import Clock
from aldrip.lots import treating
from aldrip.lots.models import Lot
from aldrip.methods.models import Input
from aldrip.methods.resolver import Library
from aldrip_core.stages import Allowed
from aldrip_core.timed_procedure import minutes_words
from aldrip_core.units import unit

room = Room("lots")
PRODUCTS = (Input.Kind.PROTECTION, Input.Kind.LIVING, Input.Kind.ROOTING, Input.Kind.OTHER)


class TreatmentOut(Schema):
    """`heats`: a sample goes first; `sampled`: one did, and was tested."""

    slug: str
    name: str
    kind_words: str
    steps: list[str]
    use_within_words: str
    note: str
    cautions: list[str]
    heats: bool
    sampled: bool
    source: str


class ProductOut(Schema):
    slug: str
    name: str
    old: bool


class TreatingOut(Schema):
    """What may be done to a lot, with what, and what was done to it."""

    treatments: list[TreatmentOut]
    products: list[ProductOut]
    done: list[ClockOut]


def _step(row: dict[str, Any]) -> str:
    warm = f" at {row['at_c']:g} °C ± {row.get('give_c') or 0.5:g}" if row.get("at_c") is not None else ""
    return f"{row['name']}, {minutes_words(row['minutes'])}{warm}"


@room.get("/lots/{ref:lot_id}/treatments", "see", response=TreatingOut)
def treatments(ctx: Ctx, lot_id: Ref) -> Any:
    """What may be done to a lot by the clock, and what was."""
    lot = ctx.get(Lot, lot_id)
    done = ctx.rows(Clock).filter(subject=lot.uuid).select_related("by").prefetch_related("marks__by").order_by("-pk")
    products = Library(ctx).rows(Input).filter(kind__in=PRODUCTS).exclude(allowed=Allowed.BANNED.value)
    return {
        "treatments": [
            {
                "slug": one.slug,
                "name": one.name,
                "kind_words": one.get_kind_display(),
                "steps": [_step(row) for row in one.steps],
                "use_within_words": minutes_words(one.use_within_h * 60) if one.use_within_h else "",
                "note": one.note,
                "cautions": one.cautions,
                "heats": one.heats,
                "sampled": one.heats and treating.sample_of(ctx, lot, one),
                "source": one.sources.get("steps", ""),
            }
            for one in treating.offered(ctx, lot)
        ],
        "products": [
            {"slug": one.slug, "name": one.name, "old": one.allowed == Allowed.OLD.value}
            for one in products.order_by("name")
        ],
        "done": [clock_out(course_of(one, sorted(one.marks.all(), key=lambda mark: mark.pk))) for one in done],
    }


class TreatIn(Schema):
    """As typed: how much (empty: all of it), the product by its name or slug, the label's rate (“2 g/kg”), litres of dip."""

    treatment: str = Field(max_length=80)
    quantity: str = Field("", max_length=40)
    product: str = Field("", max_length=120)
    rate: str = Field("", max_length=40)
    water: str = Field("", max_length=40)
    note: str = Field("", max_length=300)
    at: datetime | None = None
    uuid: UUID


@room.post("/lots/{ref:lot_id}/treat", "clocks.run", response=ClockOut)
def treat(ctx: Ctx, lot_id: Ref, body: TreatIn) -> Any:
    """Begin a treatment; its clock runs from now."""
    usual = unit(ctx.get(Lot, lot_id).unit)
    spec = treating.TreatSpec(
        treatment=body.treatment,
        quantity=read_quantity(body.quantity, usual, "quantity") if body.quantity.strip() else None,
        product=body.product,
        rate=body.rate,
        water=body.water,
        note=body.note,
    )
    return clock_out(course_of(treating.treat(ctx, lot_id, spec, at=body.at, client_uuid=body.uuid)))
