"""Sites and places: set up, changed."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.db import transaction

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.models import Member, Organisation, Role, User
from aldrip.accounts.people import may_begin
from aldrip.accounts.services import check_days, check_timezone, make_user
from aldrip.base.days import read_day
from aldrip.base.errors import FieldError, Refused, refuse
from aldrip.methods.models import Crop
from aldrip.places.entering import read_names
from aldrip.places.ground import centre_of, lies_far, moved_with, polygon_of, ring_of
from aldrip.places.models import Kind, LandUse, Place, Site
from aldrip_core import refusal as core
from aldrip_core.geometry import area_m2
from aldrip_core.isolation import common_parts
from aldrip_core.seasons import month_day

IN_TRAYS = (Kind.GERMINATION,)

OVERLAP = 0.02  # of a field that may lie on another: outlines are walked, not surveyed


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
    lets_in: float | None = None  # share of daylight; usual for its kind where nobody says
    lamps_mol: float = 0.0
    outline: dict[str, Any] | None = None  # GeoJSON Polygon of a field, WGS84
    #: Of the year, in which it is kept otherwise; and days on which it is shut or smaller. As they are where nobody says.
    parts: Sequence["PartSpec"] | None = None
    closings: Sequence["ClosingSpec"] | None = None
    enters: str | None = None  # who may go in, name by name; empty: everybody. As it is where nobody says


@dataclass(frozen=True)
class PartSpec:
    """How a place is kept in a part of every year; days as people write them, “1 Nov”."""

    first: str
    last: str
    set_point_c: float | None = None
    cooled_to_c: float | None = None
    excess_c: float = 0.0


@dataclass(frozen=True)
class ClosingSpec:
    """Days on which a place is shut, or holds no more than `holds` in its unit; days as people write them, “6 Jul 2027”."""

    first: str
    last: str
    holds: float | None = None
    why: str = ""


MOST_PARTS = 12
MOST_CLOSINGS = 40
LONGEST_CLOSING = 1500  # days; what is shut for longer is not in use


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


def read_frost(text: str) -> str:
    """The day of the last frost as it is kept, MM-DD; empty where there is none. Raises Refused."""
    if not text.strip():
        return ""
    found = month_day(text)
    if found is None:
        raise refuse(
            "last_frost", "unreadable", f"“{text}” is no day of a year. Write it like “12 Apr”, or leave it empty."
        )
    return f"{found[0]:02}-{found[1]:02}"


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
    if spec.lets_in is not None and not 0 <= spec.lets_in <= 1:
        raise refuse("lets_in", "out_of_range", "Of daylight 0 to 100 % can come in.")
    if not 0 <= spec.lamps_mol <= 60:
        told = f"Lamps that add {spec.lamps_mol:g} mol/m² a day cannot be; 0 to 60."
        raise refuse("lamps_mol", "out_of_range", told)
    _check_warmth(spec, "")
    if spec.parts is not None and len(spec.parts) > MOST_PARTS:
        raise refuse("parts", "too_many", f"{len(spec.parts)} parts of the year are more than {MOST_PARTS} months.")
    for n, part in enumerate(spec.parts or ()):
        _check_warmth(part, f"parts.{n}.")


def _check_warmth(spec: "PlaceSpec | PartSpec", at: str) -> None:
    for field in ("set_point_c", "cooled_to_c"):
        value = getattr(spec, field)
        if value is not None and not -10 <= value <= 45:
            raise refuse(f"{at}{field}", "out_of_range", f"{value:g} °C cannot be kept; −10 to 45 °C.")
    if not -20 <= spec.excess_c <= 30:
        told = f"{spec.excess_c:g} °C warmer than outside cannot be; −20 to 30 °C."
        raise refuse(f"{at}excess_c", "out_of_range", told)


def _parts(spec: PlaceSpec) -> list[dict[str, Any]]:
    """Parts of the year as they are kept. Raises Refused with every day that is none."""
    found, faults = [], []
    for n, part in enumerate(spec.parts or ()):
        days = {}
        for name in ("first", "last"):
            text = getattr(part, name)
            day = month_day(text)
            if day is None:
                told = f"“{text}” is no day of a year. Write it like “1 Nov”."
                faults.append(FieldError(f"parts.{n}.{name}", "unreadable", told))
            else:
                days[name] = f"{day[0]:02}-{day[1]:02}"
        found.append(
            {**days, "set_point_c": part.set_point_c, "cooled_to_c": part.cooled_to_c, "excess_c": part.excess_c}
        )
    if faults:
        raise Refused(faults)
    return found


def _closings(spec: PlaceSpec) -> list[dict[str, Any]]:
    """Closings as they are kept, the earliest first. Raises Refused with every one that cannot be."""
    if len(spec.closings or ()) > MOST_CLOSINGS:
        told = f"{len(spec.closings or ())} times shut are more than {MOST_CLOSINGS}: leave out those that are over."
        raise refuse("closings", "too_many", told)
    found: list[dict[str, Any]] = []
    faults: list[FieldError] = []
    for n, one in enumerate(spec.closings or ()):
        try:
            first, last = (read_day(getattr(one, name), f"closings.{n}.{name}") for name in ("first", "last"))
            if last < first:
                raise refuse(f"closings.{n}.last", "crossed", "It ends before it begins.")
            if (last - first).days > LONGEST_CLOSING:
                told = f"{(last - first).days:,} days are very long. Is it in use at all?"
                raise refuse(f"closings.{n}.last", "too_long", told)
            if one.holds is not None and one.holds < 0:
                raise refuse(f"closings.{n}.holds", "out_of_range", "It cannot hold less than nothing.")
            if one.holds and spec.capacity is None and spec.outline is None:
                told = "Say first what the place holds as a rule; without that it can only be shut."
                raise refuse(f"closings.{n}.holds", "no_capacity", told)
            kept = {"first": str(first), "last": str(last), "holds": one.holds or 0.0, "why": one.why.strip()[:80]}
            found.append(kept)
        except core.Refused as wrong:
            faults += wrong.errors
    if faults:
        raise Refused(faults)
    return sorted(found, key=lambda one: (one["first"], one["last"]))


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
def change_site(
    ctx: Ctx,
    site_id: Ref,
    *,
    latitude: float,
    longitude: float | None,
    last_frost: str | None = None,
    monthly_c: Sequence[float] | None = None,
) -> Site:
    """Where on the globe a site lies, its last frost and its months; what is None stays.

    Outlines stay where they are; were they half a degree off then, whoever moves the site is asked, and they move with it.
    """
    site = ctx.get(Site, site_id, lock=True)
    frost = site.last_frost if last_frost is None else read_frost(last_frost)
    months = site.monthly_c if monthly_c is None else list(monthly_c)
    check_climate(latitude, months)
    if longitude is not None and not -180 <= longitude <= 180:
        raise refuse("longitude", "out_of_range", f"{longitude:g}° cannot be; −180 west to 180 east.")
    was = centre_of(site)
    names = ("latitude", "longitude", "last_frost", "monthly_c")
    before = {name: getattr(site, name) for name in names}
    for name, value in zip(names, (latitude, longitude, frost, months), strict=True):
        setattr(site, name, value)
    _fields_too(ctx, site, was)
    site.save(update_fields=names)
    ctx.record(
        "places.site",
        f"{site.name} lies at {latitude:g}°, {longitude if longitude is not None else 0:g}°.",
        site,
        before=before,
        after={name: getattr(site, name) for name in names},
    )
    return site


#: Rooms above move what they drew on the ground of a site: with the site, where it was and where it is.
movers: list[Callable[[Site, tuple[float, float], tuple[float, float]], None]] = []


def _fields_too(ctx: Ctx, site: Site, was: tuple[float, float]) -> None:
    """A site is never farther from its fields than a field may be from its site."""
    drawn = list(ctx.rows(Place).filter(site=site, outline__isnull=False).order_by("order", "id"))
    if not any(lies_far(site, place.outline) for place in drawn):
        return
    more = f" and {len(drawn) - 1} more" if len(drawn) > 1 else ""
    told = f"{drawn[0].name}{more} lie more than half a degree from there, round the place of before. Do the fields move with the site?"
    ctx.doubt("fields_move", "latitude", told)
    now = centre_of(site)
    for place in drawn:
        place.outline = moved_with(place.outline, was, now)
        place.save(update_fields=["outline"])
    for mover in movers:
        mover(site, was, now)


@act
def add_place(ctx: Ctx, site_id: Ref, spec: PlaceSpec) -> Place:
    """A new place at a site."""
    site = ctx.get(Site, site_id)
    check_place(spec)
    _overlaps(ctx, site, spec)
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
        lets_in=spec.lets_in,
        lamps_mol=spec.lamps_mol,
        parts=_parts(spec),
        closings=_closings(spec),
        enters=read_names(spec.enters or ""),
        order=ctx.rows(Place).count(),
    )
    ctx.record("places.add", f"Added {place.name}.", place)
    return place


def _overlaps(ctx: Ctx, site: Site, spec: PlaceSpec, own: int | None = None) -> None:
    """Two fields that lie on one another are asked about: land history and isolation are reckoned for each."""
    if spec.kind != Kind.FIELD or spec.outline is None:
        return
    ring = ring_of(site, spec.outline, "outline")
    most = OVERLAP * area_m2(ring)  # refuses what is no field
    others = ctx.rows(Place).filter(kind=Kind.FIELD, outline__isnull=False, active=True).select_related("site")
    told = None
    for other in others.exclude(pk=own or 0).order_by("order", "id"):
        shared = common_parts([[ring]], [[ring_of(site, other.outline or {}, "outline", stored=True)]])[1]
        if shared > most:
            told = f"{shared:,.0f} m² of it lie on {other.name}. Are these two fields that overlap?"
            break
    ctx.doubt("overlap", "outline", told)


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
    if spec.outline is not None and spec.outline != place.outline:
        _overlaps(ctx, place.site, spec, place.pk)
    for barred in bars:
        barred(ctx, place, spec)
    names = ("name", "capacity", "set_point_c", "parts", "closings", "enters")
    before = {name: getattr(place, name) for name in names}
    place.name, place.kind, place.unit = name, spec.kind, unit_of(spec)
    for field, value in _ground(place.site, spec).items():
        setattr(place, field, value)
    place.gangway, place.set_point_c, place.cooled_to_c = spec.gangway, spec.set_point_c, spec.cooled_to_c
    place.excess_c, place.active = spec.excess_c, active
    place.lets_in, place.lamps_mol = spec.lets_in, spec.lamps_mol
    if spec.parts is not None:
        place.parts = _parts(spec)
    if spec.closings is not None:
        place.closings = _closings(spec)
    if spec.enters is not None:
        place.enters = read_names(spec.enters)
    place.save()
    after = {name: getattr(place, name) for name in names}
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
    word: str = ""  # that the start of an empty house says
    raises: tuple[str, ...] = ()  # slugs of the crops that it takes from what ships; none: whatever ships


@transaction.atomic
def set_up(answers: SetUp) -> tuple[Organisation, User]:
    """First run: organisation, first manager, site with its climate, places. Only in an empty house."""
    may_begin(answers.word)
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
