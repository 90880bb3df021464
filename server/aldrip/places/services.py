"""Sites and places: set up, changed."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.db import transaction

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.models import Member, Organisation, Role, User
from aldrip.accounts.services import check_days, check_timezone, is_empty, make_user
from aldrip.base.errors import FieldError, Forbidden, Refused, refuse
from aldrip.methods.models import Crop
from aldrip.places.ground import polygon_of, ring_of
from aldrip.places.models import Kind, LandUse, Place, Site
from aldrip_core.geometry import area_m2

IN_TRAYS = (Kind.GERMINATION,)


@dataclass(frozen=True)
class PlaceSpec:
    """What a person says of a place."""

    name: str
    kind: str
    capacity: float | None
    unit: str | None = None
    gangway: float = 0.0
    set_point_c: float | None = None
    cooled_to_c: float | None = None
    excess_c: float = 0.0
    outline: dict[str, Any] | None = None  # GeoJSON Polygon of a field, WGS84


def check_climate(latitude: float, monthly_c: Sequence[float]) -> None:
    """Refuse a latitude or a climate that cannot be."""
    if not -66 <= latitude <= 66:
        raise refuse(
            "latitude", "out_of_range", f"{latitude:g}° is outside the 66° south to 66° north that are reckoned here."
        )
    if len(monthly_c) != 12:
        raise refuse("monthly_c", "length", f"Twelve monthly means are needed, January first; {len(monthly_c)} came.")
    for index, mean in enumerate(monthly_c):
        if not -40 <= mean <= 45:
            raise refuse(f"monthly_c.{index}", "out_of_range", f"A mean of {mean:g} °C cannot be; −40 to 45 °C.")


def check_place(spec: PlaceSpec) -> None:
    """Refuse what cannot be of a place."""
    if not spec.name.strip():
        raise refuse("name", "missing", "Name the place.")
    if spec.kind not in Kind.values:
        raise refuse("kind", "unknown", f"There is no kind of place “{spec.kind}”.")
    if spec.capacity is not None and not 0 <= spec.capacity <= 1e7:
        raise refuse("capacity", "out_of_range", f"A capacity of {spec.capacity:g} cannot be.")
    if spec.outline is not None and spec.kind != Kind.FIELD:
        raise refuse("outline", "not_a_field", "Only a field has an outline of its own.")
    if not 0 <= spec.gangway < 1:
        raise refuse("gangway", "out_of_range", "The share of gangways lies between 0 and 100 %.")
    for field in ("set_point_c", "cooled_to_c"):
        value = getattr(spec, field)
        if value is not None and not -10 <= value <= 45:
            raise refuse(field, "out_of_range", f"{value:g} °C cannot be kept; −10 to 45 °C.")


def _ground(site: Site, spec: PlaceSpec) -> dict[str, Any]:
    """What follows from a field's outline: its area; fields take one use at a time."""
    if spec.kind != Kind.FIELD:
        return {"sharing": "shared", "outline": None, "capacity": spec.capacity}
    if spec.outline is None:
        return {"sharing": "whole", "outline": None, "capacity": spec.capacity}
    ring = ring_of(site, spec.outline, "outline")
    return {"sharing": "whole", "outline": polygon_of(site, ring), "capacity": round(area_m2(ring), 1)}


def unit_of(spec: PlaceSpec) -> str:
    return spec.unit or ("trays" if spec.kind in IN_TRAYS else "m²")


@act
def change_site(ctx: Ctx, site_id: Ref, *, latitude: float, longitude: float | None) -> Site:
    """Where on the globe a site lies; outlines are kept in degrees and stay where they are."""
    site = ctx.get(Site, site_id, lock=True)
    check_climate(latitude, site.monthly_c)
    if longitude is not None and not -180 <= longitude <= 180:
        raise refuse("longitude", "out_of_range", f"{longitude:g}° cannot be; −180 west to 180 east.")
    before = {"latitude": site.latitude, "longitude": site.longitude}
    site.latitude, site.longitude = latitude, longitude
    site.save(update_fields=["latitude", "longitude"])
    ctx.record(
        "places.site",
        f"{site.name} lies at {latitude:g}°, {longitude if longitude is not None else 0:g}°.",
        site,
        before=before,
        after={"latitude": latitude, "longitude": longitude},
    )
    return site


@act
def add_place(ctx: Ctx, site_id: Ref, spec: PlaceSpec) -> Place:
    """A new place at a site."""
    site = ctx.get(Site, site_id)
    check_place(spec)
    name = spec.name.strip()[:80]
    if ctx.rows(Place).filter(name__iexact=name).exists():
        raise refuse("name", "taken", f"There is a place {name} already.")
    place = Place.objects.create(
        organisation=ctx.organisation,
        site=site,
        name=name,
        kind=spec.kind,
        unit=unit_of(spec),
        **_ground(site, spec),
        gangway=spec.gangway,
        set_point_c=spec.set_point_c,
        cooled_to_c=spec.cooled_to_c,
        excess_c=spec.excess_c,
        order=ctx.rows(Place).count(),
    )
    ctx.record("places.add", f"Added {place.name}.", place)
    return place


#: Rooms above may bar a change of a place, by what stands there; each raises Refused.
bars: list[Callable[[Ctx, Place, PlaceSpec], None]] = []


@act
def change_place(ctx: Ctx, place_id: Ref, spec: PlaceSpec, active: bool = True) -> Place:
    """Change what a place holds, or close it."""
    place = ctx.get(Place, place_id, lock=True)
    if spec.outline is None and spec.kind == Kind.FIELD:  # not typed again: it stays
        spec = replace(spec, outline=place.outline)
    check_place(spec)
    name = spec.name.strip()[:80]
    if ctx.rows(Place).filter(name__iexact=name).exclude(pk=place.pk).exists():
        raise refuse("name", "taken", f"There is another place {name}.")
    for barred in bars:
        barred(ctx, place, spec)
    before = {"name": place.name, "capacity": place.capacity, "set_point_c": place.set_point_c}
    place.name, place.kind, place.unit = name, spec.kind, unit_of(spec)
    for field, value in _ground(place.site, spec).items():
        setattr(place, field, value)
    place.gangway, place.set_point_c, place.cooled_to_c = spec.gangway, spec.set_point_c, spec.cooled_to_c
    place.excess_c, place.active = spec.excess_c, active
    place.save()
    after = {"name": place.name, "capacity": place.capacity, "set_point_c": place.set_point_c}
    ctx.record("places.change", f"Changed {place.name}.", place, before=before, after=after)
    return place


@dataclass(frozen=True)
class SetUp:
    """The answers of a first run."""

    organisation: str
    timezone: str
    full_name: str
    username: str
    password: str
    site: str
    latitude: float
    monthly_c: tuple[float, ...]
    working_days: tuple[int, ...]
    sowing_days: tuple[int, ...]
    places: tuple[PlaceSpec, ...]
    raises: tuple[str, ...] = ()  # slugs of the crops that it takes from what ships; none: whatever ships


@transaction.atomic
def set_up(answers: SetUp) -> tuple[Organisation, User]:
    """First run: organisation, first manager, site with its climate, places. Only in an empty house."""
    if not is_empty():
        raise Forbidden("A nursery is set up already. Sign in, or ask its manager.")
    if not answers.organisation.strip():
        raise refuse("organisation", "missing", "What is the nursery called?")
    check_timezone(answers.timezone)
    check_climate(answers.latitude, answers.monthly_c)
    if not answers.site.strip():
        raise refuse("site", "missing", "Name the site, such as “Yard”.")
    organisation = Organisation.objects.create(
        name=answers.organisation.strip()[:120],
        timezone=answers.timezone,
        working_days=check_days(answers.working_days, "working_days"),
        sowing_days=check_days(answers.sowing_days or answers.working_days, "sowing_days"),
        raises=sorted(Crop.objects.filter(organisation=None, slug__in=answers.raises).values_list("slug", flat=True)),
    )
    user = make_user(username=answers.username, password=answers.password, full_name=answers.full_name)
    Member.objects.create(user=user, organisation=organisation, role=Role.MANAGER)
    ctx = Ctx(organisation, user, Role.MANAGER)
    site = Site.objects.create(
        organisation=organisation,
        name=answers.site.strip()[:80],
        latitude=answers.latitude,
        monthly_c=list(answers.monthly_c),
    )
    for index, spec in enumerate(answers.places):
        try:
            add_place(ctx, site.pk, spec)
        except Refused as error:  # say in which row
            raise Refused([FieldError(f"places.{index}.{e.field}", e.code, e.message) for e in error.errors]) from None
    ctx.record("organisation.set_up", f"Set up {organisation.name}.", organisation)
    return organisation, user


@act
def record_land_use(ctx: Ctx, place_id: Ref, *, year: int, crop: str, family: str = "", clean: bool = False) -> LandUse:
    """What grew on a field in a year; written again it replaces what was said of that crop and year."""
    place = ctx.get(Place, place_id, lock=True)
    if place.kind != Kind.FIELD:
        raise refuse("place_id", "not_a_field", f"{place.name} is no field; land history is kept of fields.")
    if not 1950 <= year <= ctx.today.year + 1:
        raise refuse("year", "out_of_range", f"A year from 1950 to {ctx.today.year + 1} is wanted, not {year}.")
    if not crop.strip():
        raise refuse("crop", "missing", "Which crop grew there?")
    use, _ = LandUse.objects.update_or_create(
        organisation=ctx.organisation,
        place=place,
        year=year,
        crop=crop.strip()[:120],
        defaults={"family": family[:60], "inspected_clean": clean},
    )
    ctx.record("places.history", f"{place.name} grew {use.crop} in {year}.", place)
    return use
