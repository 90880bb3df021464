"""Sites and places; the first run of an empty house."""

from dataclasses import replace
from datetime import date
from typing import Any

from django.contrib.auth import login
from django.http import HttpRequest
from ninja import Field, Router, Schema
from ninja.utils import check_csrf

from aldrip.accounts.api import SessionOut, session
from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import Forbidden
from aldrip.base.typed import Count, MaybeNumber, MaybeShare, Number, Share
from aldrip.places import services
from aldrip.places.ground import corners_of, polygon_of
from aldrip.places.models import Kind, Place, Site
from aldrip_core.geometry import open_ring

room = Room("places")
open_router = Router(tags=["first run"])


class YearPartIn(Schema):
    """A part of every year: days as people write them."""

    first: str = Field(max_length=20)
    last: str = Field(max_length=20)
    set_point_c: MaybeNumber = None
    cooled_to_c: MaybeNumber = None
    excess_c: Number = 0


class ClosingIn(Schema):
    """Days on which a place is shut, or holds so much and no more: as people write them."""

    first: str = Field(max_length=30)
    last: str = Field(max_length=30)
    holds: MaybeNumber = None
    why: str = Field(default="", max_length=80)


class ClosingOut(Schema):
    first: date
    last: date
    holds: float
    why: str


class PlaceIn(Schema):
    name: str
    kind: str
    capacity: MaybeNumber = None
    unit: str | None = None
    gangway: Share = 0
    set_point_c: MaybeNumber = None
    cooled_to_c: MaybeNumber = None
    excess_c: Number = 0
    lets_in: MaybeShare = None
    lamps_mol: Number = 0
    parts: list[YearPartIn] | None = None
    closings: list[ClosingIn] | None = None
    enters: str | None = Field(default=None, max_length=1000)  # who may go in, name by name
    outline: dict[str, Any] | None = None  # GeoJSON Polygon of a field
    corners_m: list[tuple[float, float]] | None = None  # or its corners, metres east and north of the site

    def spec(self) -> services.PlaceSpec:
        given = {name: getattr(self, name) for name in services.PlaceSpec.__dataclass_fields__}
        parts = None if self.parts is None else [services.PartSpec(**one.dict()) for one in self.parts]
        closings = None if self.closings is None else [services.ClosingSpec(**one.dict()) for one in self.closings]
        return services.PlaceSpec(**{**given, "parts": parts, "closings": closings})

    def with_outline(self, site: Site) -> services.PlaceSpec:
        """The place with its outline, typed as corners or given as GeoJSON."""
        if self.corners_m is None:
            return self.spec()
        ring = open_ring(self.corners_m, "corners_m")
        return replace(self.spec(), outline=polygon_of(site, ring))


class PlaceChange(PlaceIn):
    active: bool = True


class LandUseOut(Schema):
    year: int
    crop: str
    family: str
    clean: bool


class YearPartOut(Schema):
    """A part of every year in which a place is kept otherwise; days as MM-DD."""

    first: str
    last: str
    set_point_c: float | None
    cooled_to_c: float | None
    excess_c: float


class PlaceOut(Schema):
    id: int
    site_id: int
    name: str
    kind: str
    kind_words: str
    sharing: str
    capacity: float | None
    usable: float | None
    unit: str
    gangway: float
    set_point_c: float | None
    cooled_to_c: float | None
    excess_c: float
    lets_in: float | None
    lamps_mol: float
    parts: list[YearPartOut]
    closings: list[ClosingOut]
    enters: list[str]
    active: bool
    outline: dict[str, Any] | None
    corners_m: list[list[float]] | None  # of its outline, metres east and north of the site
    history: list[LandUseOut]


class SiteOut(Schema):
    id: int
    name: str
    latitude: float
    longitude: float | None
    monthly_c: list[float]
    last_frost: str


class KindOut(Schema):
    value: str
    label: str


class PlacesOut(Schema):
    sites: list[SiteOut]
    places: list[PlaceOut]
    kinds: list[KindOut]


def _place(place: Place) -> dict[str, Any]:
    names = (
        "site_id",
        "name",
        "kind",
        "sharing",
        "capacity",
        "usable",
        "unit",
        "gangway",
        "set_point_c",
        "cooled_to_c",
        "excess_c",
        "lets_in",
        "lamps_mol",
        "parts",
        "closings",
        "enters",
        "active",
        "outline",
    )
    history = [
        {"year": u.year, "crop": u.crop, "family": u.family, "clean": u.inspected_clean} for u in place.land_uses.all()
    ]
    return {
        "id": place.pk,
        "kind_words": Kind(place.kind).label,
        "history": history,
        "corners_m": corners_of(place),
        **{name: getattr(place, name) for name in names},
    }


@room.get("/places", "see", response=PlacesOut)
def places(ctx: Ctx) -> Any:
    return {
        "sites": ctx.rows(Site).order_by("id"),
        "places": [_place(place) for place in ctx.rows(Place).select_related("site").prefetch_related("land_uses")],
        "kinds": [{"value": value, "label": label} for value, label in Kind.choices],
    }


class SiteIn(Schema):
    latitude: Number
    longitude: MaybeNumber = None
    last_frost: str | None = None  # “12 Apr”; empty where there is none; as it was when left out
    monthly_c: list[Number] | None = None


@room.patch("/sites/{ref:site_id}", "places.edit", response=SiteOut)
def change_site(ctx: Ctx, site_id: Ref, body: SiteIn) -> Any:
    """Where on the globe a site lies."""
    return services.change_site(ctx, site_id, **body.dict())


class NewPlaceIn(PlaceIn):
    site_id: int


@room.post("/places", "places.edit", response=PlaceOut)
def add_place(ctx: Ctx, body: NewPlaceIn) -> Any:
    return _place(services.add_place(ctx, body.site_id, body.with_outline(ctx.get(Site, body.site_id))))


@room.patch("/places/{ref:place_id}", "places.edit", response=PlaceOut)
def change_place(ctx: Ctx, place_id: Ref, body: PlaceChange) -> Any:
    site = ctx.get(Place, place_id).site
    return _place(services.change_place(ctx, place_id, body.with_outline(site), body.active))


class LandUseIn(Schema):
    year: Count
    crop: str = Field(max_length=120)
    family: str = Field(default="", max_length=60)
    clean: bool = False


@room.post("/places/{ref:place_id}/history", "places.edit", response=PlaceOut)
def record_land_use(ctx: Ctx, place_id: Ref, body: LandUseIn) -> Any:
    """What grew on a field in a year."""
    services.record_land_use(ctx, place_id, **body.dict())
    return _place(ctx.get(Place, place_id))


class SetUpIn(Schema):
    word: str = ""
    organisation: str
    timezone: str = "UTC"
    full_name: str = ""
    username: str
    password: str
    site: str = "Yard"
    latitude: Number
    monthly_c: list[Number]
    working_days: list[int] = [0, 1, 2, 3, 4]
    sowing_days: list[int] = []
    places: list[PlaceIn] = []
    raises: list[str] = Field(default=[], max_length=500)


@open_router.post("/setup", response=SessionOut)
def set_up(request: HttpRequest, body: SetUpIn) -> Any:
    """First run of an empty house; refused once a nursery is there."""
    if check_csrf(request):
        raise Forbidden("This page is out of date. Reload it and try again.")
    answers = services.SetUp(
        organisation=body.organisation,
        timezone=body.timezone,
        full_name=body.full_name,
        username=body.username,
        password=body.password,
        site=body.site,
        latitude=body.latitude,
        monthly_c=tuple(body.monthly_c),
        working_days=tuple(body.working_days),
        sowing_days=tuple(body.sowing_days),
        places=tuple(place.spec() for place in body.places),
        raises=tuple(body.raises),
        word=body.word,
    )
    _, user = services.set_up(answers)
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return session(request)
