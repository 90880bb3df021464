"""Neighbours' crops: entered, corrected, forgotten; with who saw them and when."""

from dataclasses import dataclass
from datetime import date
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.methods.models import Crop
from aldrip.places.ground import open_degrees, polygon_of, ring_of
from aldrip.places.models import Site
from aldrip.seedcrops.isolation import KINDS
from aldrip.seedcrops.models import Neighbour
from aldrip_core.geometry import area_m2, open_ring


@dataclass(frozen=True)
class NeighbourSpec:
    """What a person says of a neighbour's field."""

    name: str
    crop_id: int
    kind: str
    year: int
    seen_on: date
    seen_by: str = ""
    outline: dict[str, Any] | None = None
    corners_m: list[tuple[float, float]] | None = None
    flowers_from: date | None = None
    flowers_to: date | None = None


def _check(ctx: Ctx, spec: NeighbourSpec) -> None:
    if not spec.name.strip():
        raise refuse("name", "missing", "Whose field is it? Name it so that it can be found.")
    if spec.kind not in KINDS:
        raise refuse("kind", "not_a_choice", f"Kinds of neighbour: {', '.join(KINDS)}.")
    if spec.seen_on > ctx.today:
        raise refuse("seen_on", "in_the_future", f"{spec.seen_on} is still to come.")
    if not 2000 <= spec.year <= ctx.today.year + 3:
        raise refuse("year", "out_of_range", f"The year in which it grows, 2000 to {ctx.today.year + 3}.")
    first, last = spec.flowers_from, spec.flowers_to
    if (first is None) != (last is None) or (first and last and last <= first):
        raise refuse("flowers_to", "before_start", "Flowering needs a first and a later last day.")


def _outline(site: Site, spec: NeighbourSpec, old: Neighbour | None) -> dict[str, Any]:
    if spec.corners_m:
        outline = polygon_of(site, open_ring(spec.corners_m, "corners_m"))
    elif spec.outline is not None:
        corners = [list(p) for p in open_degrees(site, spec.outline, "outline")]
        outline = {"type": "Polygon", "coordinates": [[*corners, corners[0]]]}
    elif old is not None:
        outline = dict(old.outline)
    else:
        raise refuse("outline", "missing", "Enter the corners of the field, or paste GeoJSON.")
    area_m2(ring_of(site, outline, "outline"))
    return outline


@act
def record_neighbour(ctx: Ctx, spec: NeighbourSpec, *, neighbour_id: Ref | None = None) -> Neighbour:
    """A neighbour's crop, entered or corrected; seen by whom and when."""
    site = ctx.rows(Site).order_by("id").first()
    if site is None:
        raise refuse("site", "missing", "Enter a site with its place on the globe first.")
    crop = ctx.get(Crop, spec.crop_id, shared=True)
    _check(ctx, spec)
    old = ctx.get(Neighbour, neighbour_id, lock=True) if neighbour_id else None
    outline = _outline(site, spec, old)
    name = spec.name.strip()[:80]
    same = ctx.rows(Neighbour).filter(name__iexact=name, crop=crop, year=spec.year, active=True)
    if same.exclude(pk=old.pk if old else 0).exists():
        raise refuse(
            "name", "taken", f"{name} with {crop.name.lower()} in {spec.year} is there already; change that one."
        )
    row = old or Neighbour(organisation=ctx.organisation)
    row.name, row.crop, row.kind, row.year, row.outline = name, crop, spec.kind, spec.year, outline
    row.flowers_from, row.flowers_to = spec.flowers_from, spec.flowers_to
    row.seen_on, row.seen_by, row.active = spec.seen_on, spec.seen_by.strip()[:120], True
    row.save()
    ctx.record(
        "neighbour.save",
        f"{name}: {crop.name.lower()}, {spec.kind}, seen {spec.seen_on.day} {spec.seen_on:%b %Y}.",
        row,
    )
    return row


@act
def forget_neighbour(ctx: Ctx, neighbour_id: Ref, *, reason: str) -> Neighbour:
    """A neighbour's crop is gone or was never there; what was recorded stays in the audit."""
    row = ctx.get(Neighbour, neighbour_id, lock=True)
    if not reason.strip():
        raise refuse("reason", "missing", "Say why it no longer counts, such as “ploughed in”.")
    row.active = False
    row.save(update_fields=["active"])
    ctx.record("neighbour.forget", f"{row.name} no longer counts: {reason.strip()}.", row)
    return row
