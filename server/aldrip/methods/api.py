"""The library, as people read it."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any, Literal

from django.http import HttpRequest, HttpResponse
from django.utils.text import slugify
from ninja import Field, Router, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.accounts.services import is_empty
from aldrip.base.errors import Forbidden
from aldrip.base.schemas import Done
from aldrip.methods import editions, offer, services, writing, written
from aldrip.methods.forms import FORMS, Asked, Sort, blank, typed_of
from aldrip.methods.models import ClassScheme, Container, Crop, Edition, IsolationRule, Line, Method, Mix, Standard
from aldrip.methods.resolver import Library

room = Room("methods")
open_router = Router(tags=["first run"])


class CultivarOut(Schema):
    id: int
    crop_id: int
    name: str
    own: bool
    role: str
    tgw_g: float | None
    female_id: int | None
    male_id: int | None
    to_flower_c_d: float | None
    flower_spread_days: float | None
    flower_lasts_days: float | None
    maintainer_id: int | None
    earliness: str


class CropOut(Schema):
    id: int
    slug: str
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
    limit: float | None = None
    unit: str = ""
    source: str
    statutory: bool = False
    required: bool = True
    decision: str = ""


class StandardOut(Schema):
    id: int
    name: str
    form: str
    kind: str
    crop_id: int | None
    seed_class: str
    sampling: dict[str, float]
    own: bool
    limits: list[LimitOut]


class ClassSchemeOut(Schema):
    slug: str
    name: str
    note: str
    classes: list[dict[str, Any]]
    chosen: bool


class RuleOut(Schema):
    id: int
    scheme: str
    crop_id: int
    seed_class: str
    step: str
    kind: str
    metres: float
    time_allowed: bool
    time_margin_days: int
    sources: dict[str, str]
    own: bool


class StageOut(Schema):
    order: int
    key: str
    after: str
    share: float
    traits: list[str]
    product: str
    rounds: int
    name: str
    kind: str
    days: float | None
    heat_sum_c_d: float | None
    base_c: float | None
    ceiling_c: float | None
    by_month: list[float]
    cool_days: float | None
    full_c: float | None
    half_light_mol: float | None
    begins: list[str]
    floor_c: float | None
    after_frost_days: int | None
    give_days: float
    until: str
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
    slug: str
    name: str
    crop_id: int
    form: str
    unit: str
    start_unit: str
    by_seed: bool
    seeds_per_cell: int
    cell_factor: float
    cell_factor_sd: float
    way: str
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
    schemes: list[ClassSchemeOut]
    rules: list[RuleOut]


def _own(rows: Any, crops: Mapping[int, int] | None = None) -> list[Any]:
    found = list(rows)
    for row in found:
        row.own = row.organisation_id is not None
        if crops and row.crop_id in crops:
            row.crop_id = crops[row.crop_id]
    return found


@room.get("/library", "see", response=LibraryOut)
def library(ctx: Ctx) -> Any:
    known = Library(ctx)
    rows = known.rows
    own = {crop.slug: crop.pk for crop in known.own(Crop).values()}
    # A shipped row of a crop that the house has its own row of belongs to that one here.
    instead = dict(Crop.objects.filter(organisation=None, slug__in=own).values_list("pk", "slug"))
    crops = {shipped: own[slug] for shipped, slug in instead.items()}
    return {
        "crops": _own(rows(Crop).order_by("name")),
        "lines": _own(rows(Line).order_by("name"), crops),
        "containers": _own(rows(Container).order_by("cells")),
        "mixes": _own(rows(Mix).order_by("name")),
        "standards": _own(rows(Standard).order_by("name"), crops),
        "methods": _own(rows(Method).prefetch_related("stages").order_by("name"), crops),
        "schemes": [
            {
                "slug": s.slug,
                "name": s.name,
                "note": s.note,
                "classes": s.classes,
                "chosen": s.slug == ctx.organisation.class_scheme,
            }
            for s in rows(ClassScheme).order_by("id")
        ],
        "rules": _own(rows(IsolationRule).order_by("crop_id", "scheme", "-metres", "kind"), crops),
    }


class CultivarIn(Schema):
    crop_id: int
    name: str
    tgw_g: float | None = None
    role: str = ""
    female_id: int | None = None
    male_id: int | None = None
    to_flower_c_d: float | None = None
    flower_spread_days: float | None = None
    flower_lasts_days: float | None = None
    maintainer_id: int | None = None
    earliness: str = ""


@room.post("/lines", "methods.edit", response=CultivarOut)
def add_line(ctx: Ctx, body: CultivarIn) -> Any:
    """A cultivar, a parent line with its heat to flowering, or a hybrid with its two parents."""
    return _own([services.add_line(ctx, services.LineSpec(**body.dict()))])[0]


class FieldLimitIn(Schema):
    attribute: str = Field(max_length=40)
    words: str = Field(max_length=80)
    limit: float
    decision: Literal["reject_number", "plain_max"] = "reject_number"
    is_plant: bool = True
    cures: bool = True


class FieldStandardIn(Schema):
    crop_id: int
    seed_class: str
    name: str = Field(max_length=120)
    source: str = Field(max_length=200)
    first_areas: int = 5
    first_ha: float = 2
    per_ha: float = 2
    plants_per_area: int = 400
    limits: list[FieldLimitIn] = Field(max_length=20)


@room.post("/field-standards", "methods.edit", response=StandardOut)
def add_field_standard(ctx: Ctx, body: FieldStandardIn) -> Any:
    """What a field of a crop and class is inspected for; written again it replaces the house's own."""
    return _own([services.save_field_standard(ctx, body.dict())])[0]


class SeedLimitIn(Schema):
    attribute: Literal["germination", "purity", "moisture", "other_seeds"]
    low: float | None = None
    high: float | None = None
    required: bool = True


class SeedStandardIn(Schema):
    crop_id: int
    seed_class: str
    name: str = Field(max_length=120)
    source: str = Field(max_length=200)
    limits: list[SeedLimitIn] = Field(max_length=20)


@room.post("/seed-standards", "methods.edit", response=StandardOut)
def add_seed_standard(ctx: Ctx, body: SeedStandardIn) -> Any:
    """What seed of a crop and class must be like; limits that ship as law stay in force."""
    return _own([services.save_seed_standard(ctx, body.dict())])[0]


class RuleIn(Schema):
    crop_id: int
    seed_class: str
    step: Literal["hybrid", "increase", "open"]
    kind: str = Field(max_length=40)
    metres: float
    time_allowed: bool = False
    time_margin_days: int = Field(default=14, ge=0, le=120)
    source: str = Field(max_length=200)


@room.post("/isolation-rules", "methods.edit", response=RuleOut)
def add_rule(ctx: Ctx, body: RuleIn) -> Any:
    """A distance of the house's own scheme; it stands before the shipped one."""
    return _own([services.save_rule(ctx, body.dict())])[0]


class ContainerIn(Schema):
    name: str
    cells: int
    cell_ml: float
    length_cm: float
    width_cm: float
    depth_cm: float
    has_holes: bool = True


@room.post("/containers", "methods.edit", response=ContainerOut)
def add_container(ctx: Ctx, body: ContainerIn) -> Any:
    return _own([services.add_container(ctx, **body.dict())])[0]


class EditionOut(Schema):
    id: int
    number: int
    own: bool
    happened_at: datetime
    by: str
    reason: str
    values: dict[str, Any]
    changed: list[str]  # names of what differs from the edition before it


class RowIn(Schema):
    values: dict[str, Any] = {}  # by field name, as an edition has them
    reason: str = ""


class ReasonIn(Schema):
    reason: str = ""


class ChoiceOut(Schema):
    value: str
    words: str


class AskedOut(Schema):
    """One field of a form: how it is asked for."""

    name: str
    words: str
    sort: Sort
    unit: str
    hint: str
    needed: bool
    choices: list[ChoiceOut]
    of: str
    fields: list["AskedOut"]
    start: Any = None  # what stands in an empty form, as typed
    more: bool


class LibraryRowOut(Schema):
    kind: str
    slug: str
    name: str
    own: bool
    retired: bool
    crop: str  # slug, where it is a crop's
    said: str  # what must be known of it in a list: that it is old or banned
    raised: bool  # whether it belongs to what the house raises; all of it where nobody chose


class FormOut(Schema):
    """A library row as its form shows it; `shipped`: what ships, where the house's own differs."""

    kind: str
    slug: str
    name: str
    own: bool
    ships: bool
    retired: bool
    edition: int
    seen: int
    typed: dict[str, Any]
    sources: dict[str, str]
    stage_sources: dict[str, dict[str, str]]
    shipped: dict[str, Any]


class TypedIn(Schema):
    typed: dict[str, Any]  # by field name, as typed
    like: str = Field(default="", max_length=80)  # slug of the row that a new one is made after
    source: str = Field(default="", max_length=200)
    reason: str = Field(default="", max_length=300)
    seen: int | None = None  # as the form that was typed over had it


def _asked(fields: tuple[Asked, ...]) -> list[dict[str, Any]]:
    starts = typed_of(fields, blank(fields))
    return [
        {
            **{name: getattr(one, name) for name in ("name", "words", "sort", "unit", "hint", "needed", "of", "more")},
            "choices": [{"value": value, "words": words} for value, words in one.choices],
            "fields": _asked(one.fields),
            "start": starts[one.name],
        }
        for one in fields
    ]


@room.get("/library/forms", "see", response=dict[str, list[AskedOut]])
def library_forms(ctx: Ctx) -> Any:
    """What each kind of library row can say, field by field."""
    return {kind: _asked(fields) for kind, fields in FORMS.items()}


@room.get("/library/rows", "see", response=list[LibraryRowOut])
def library_rows(ctx: Ctx) -> Any:
    """Every row that can be changed here, by kind and name; retired ones too."""
    return writing.rows_of(ctx)


class RaisedIn(Schema):
    crop: str
    raised: bool = True


@room.post("/library/raised", "methods.edit", response=Done)
def raise_crop(ctx: Ctx, body: RaisedIn) -> Any:
    """Count a crop among those that the house raises, or no longer."""
    offer.raise_crop(ctx, body.crop, body.raised)
    return {"message": "Saved."}


class RaisableCropOut(Schema):
    slug: str
    name: str


class RaisableOut(Schema):
    words: str
    crops: list[RaisableCropOut]
    kinds: list[str]


@open_router.get("/setup/offer", response=list[RaisableOut])
def what_may_be_raised(request: HttpRequest) -> Any:
    """What a new house may take; only while there is none."""
    if not is_empty():
        raise Forbidden("A nursery is set up already.")
    return [
        {"words": one.words, "kinds": list(one.kinds), "crops": [{"slug": s, "name": n} for s, n in one.crops]}
        for one in offer.offers()
    ]


class YamlIn(Schema):
    text: str
    commit: bool = False


class TakenFaultOut(Schema):
    field: str
    code: str
    message: str


class TakenOut(Schema):
    kind: str
    slug: str
    name: str
    state: str
    changed: list[str]
    faults: list[TakenFaultOut]


class YamlOut(Schema):
    rows: list[TakenOut]
    saved: bool


@room.get("/library/yaml", "see")
def library_yaml(ctx: Ctx, kind: str = "", slug: str = "") -> HttpResponse:
    """One row as YAML, or everything of the house's own."""
    answer = HttpResponse(written.yaml_of(ctx, kind, slug), content_type="application/yaml; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{slugify(slug or kind) or "library"}.yaml"'
    return answer


@room.post("/library/yaml/read", "methods.edit", response=YamlOut)
def read_yaml(ctx: Ctx, body: YamlIn) -> Any:
    """What a YAML text would change, row by row; with `commit` it is saved when nothing stands against any row."""
    rows = written.take_yaml(ctx, body.text, commit=body.commit)
    return {"rows": rows, "saved": body.commit and not any(row.faults for row in rows)}


@room.get("/library/{kind}/{slug}", "see", response=FormOut)
def library_form(ctx: Ctx, kind: str, slug: str) -> Any:
    return writing.form_of(ctx, kind, slug)


@room.post("/library/{kind}", "methods.edit", response=FormOut)
def add_row(ctx: Ctx, kind: str, body: TypedIn) -> Any:
    """A row of the house's own, new or made after another."""
    made = writing.write_form(ctx, kind, None, body.typed, like=body.like, source=body.source, reason=body.reason)
    return writing.form_of(ctx, kind, made.slug)


@room.post("/library/{kind}/{slug}/typed", "methods.edit", response=FormOut)
def change_row(ctx: Ctx, kind: str, slug: str, body: TypedIn) -> Any:
    """What was typed over a row, as the house's own edition; what runs keeps what it was planned with."""
    writing.write_form(ctx, kind, slug, body.typed, source=body.source, reason=body.reason, seen=body.seen)
    return writing.form_of(ctx, kind, slug)


def _editions(ctx: Ctx, made: Edition) -> Any:
    return editions.editions_of(ctx, made.kind, made.slug)


@room.get("/library/{kind}/{slug}/editions", "see", response=list[EditionOut])
def row_editions(ctx: Ctx, kind: str, slug: str) -> Any:
    """What a library row was, newest first."""
    return editions.editions_of(ctx, kind, slug)


@room.post("/library/{kind}/{slug}", "methods.edit", response=list[EditionOut])
def write_row(ctx: Ctx, kind: str, slug: str, body: RowIn) -> Any:
    """The house's own row of a slug; it hides the shipped one, and batches that run keep what they were planned with."""
    return _editions(ctx, editions.write_row(ctx, kind, slug, body.values, body.reason))


@room.post("/library/{kind}/{slug}/retire", "methods.edit", response=list[EditionOut])
def retire_row(ctx: Ctx, kind: str, slug: str, body: ReasonIn) -> Any:
    """Offer a library row no more; what was made with it stays."""
    return _editions(ctx, editions.retire(ctx, kind, slug, body.reason))


@room.post("/editions/{ref:edition_id}/take-back", "methods.edit", response=list[EditionOut])
def take_back(ctx: Ctx, edition_id: Ref, body: ReasonIn) -> Any:
    """An earlier edition becomes the newest one of the house's own."""
    return _editions(ctx, editions.take_back(ctx, edition_id, body.reason))
