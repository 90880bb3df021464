"""The library, as people read it."""

from typing import Any

from django.db import transaction
from django.utils.text import slugify
from ninja import Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.methods.models import Container, Crop, Line, Method, Mix, Standard

room = Room("methods")


class CultivarOut(Schema):
    id: int
    crop_id: int
    name: str
    own: bool


class CropOut(Schema):
    id: int
    name: str
    botanical_name: str
    tgw_g: float | None
    germination: float | None
    germination_sd: float
    minimum_germination: float | None
    depth_mm: float | None
    cover: str
    watch_for: list[str]
    cautions: list[str]
    sources: dict[str, str]
    own: bool


class ContainerOut(Schema):
    id: int
    name: str
    cells: int
    cell_ml: float
    length_cm: float
    width_cm: float
    depth_cm: float
    area_m2: float
    wet_kg: float | None
    sources: dict[str, str]
    own: bool


class MixOut(Schema):
    id: int
    name: str
    parts: dict[str, float]
    settling: float
    spillage: float
    note: str
    sources: dict[str, str]
    own: bool


class LimitOut(Schema):
    attribute: str
    words: str
    low: float | None = None
    high: float | None = None
    unit: str = ""
    source: str


class StandardOut(Schema):
    id: int
    name: str
    form: str
    limits: list[LimitOut]


class StageOut(Schema):
    order: int
    name: str
    kind: str
    days: float | None
    heat_sum_c_d: float | None
    base_c: float | None
    ceiling_c: float | None
    keeps: float
    keeps_sd: float
    multiply: float
    unit: str
    place_kind: str
    density: str
    unit_m2: float | None
    sources: dict[str, str]


class MethodOut(Schema):
    id: int
    name: str
    crop_id: int
    form: str
    unit: str
    start_unit: str
    by_seed: bool
    seeds_per_cell: int
    cell_factor: float
    cell_factor_sd: float
    container_id: int | None
    mix_id: int | None
    standard_id: int | None
    default: bool
    own: bool
    note: str
    sources: dict[str, str]
    stages: list[StageOut]


class LibraryOut(Schema):
    crops: list[CropOut]
    lines: list[CultivarOut]
    containers: list[ContainerOut]
    mixes: list[MixOut]
    standards: list[StandardOut]
    methods: list[MethodOut]


def _own(rows: Any) -> list[Any]:
    found = list(rows)
    for row in found:
        row.own = row.organisation_id is not None
    return found


@room.get("/library", "see", response=LibraryOut)
def library(ctx: Ctx) -> Any:
    return {
        "crops": _own(ctx.shared_rows(Crop).order_by("name")),
        "lines": _own(ctx.shared_rows(Line).order_by("name")),
        "containers": _own(ctx.shared_rows(Container).order_by("cells")),
        "mixes": _own(ctx.shared_rows(Mix).order_by("name")),
        "standards": ctx.shared_rows(Standard).order_by("name"),
        "methods": _own(ctx.shared_rows(Method).prefetch_related("stages").order_by("name")),
    }


class CultivarIn(Schema):
    crop_id: int
    name: str
    tgw_g: float | None = None


@room.post("/lines", "methods.edit", response=CultivarOut)
@transaction.atomic
def add_line(ctx: Ctx, body: CultivarIn) -> Any:
    crop = ctx.get(Crop, body.crop_id, shared=True)
    name = body.name.strip()
    if not name:
        raise refuse("name", "missing", "Write the cultivar's name.")
    if ctx.shared_rows(Line).filter(crop=crop, name__iexact=name).exists():
        raise refuse("name", "taken", f"{crop.name} has a cultivar {name} already.")
    slug = slugify(f"{crop.slug}-{name}")[:80] or f"{crop.slug}-{crop.lines.count()}"
    line = Line.objects.create(organisation=ctx.organisation, crop=crop, name=name[:120], slug=slug, tgw_g=body.tgw_g)
    ctx.record("methods.line", f"Added cultivar {name} of {crop.name.lower()}.", line)
    line.own = True  # type: ignore[attr-defined]
    return line


class ContainerIn(Schema):
    name: str
    cells: int
    cell_ml: float
    length_cm: float
    width_cm: float
    depth_cm: float
    has_holes: bool = True


@room.post("/containers", "methods.edit", response=ContainerOut)
@transaction.atomic
def add_container(ctx: Ctx, body: ContainerIn) -> Any:
    name = body.name.strip()
    if not name:
        raise refuse("name", "missing", "Name the tray.")
    if not body.has_holes:
        raise refuse("has_holes", "no_holes", "A tray without holes drowns its seedlings; it cannot be used for plugs.")
    for field in ("cells", "cell_ml", "length_cm", "width_cm", "depth_cm"):
        if not 0 < getattr(body, field) <= 5000:
            raise refuse(field, "out_of_range", f"{getattr(body, field):g} cannot be; give a size above 0.")
    if ctx.shared_rows(Container).filter(name__iexact=name).exists():
        raise refuse("name", "taken", f"There is a tray {name} already.")
    slug = slugify(name)[:80] or "tray"
    container = Container.objects.create(
        organisation=ctx.organisation, slug=slug, **{**body.dict(), "name": name[:120]}
    )
    ctx.record("methods.container", f"Added tray {name}.", container)
    container.own = True  # type: ignore[attr-defined]
    return container
