"""The house's own library rows: lines with their parents, standards, isolation rules."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from django.utils.text import slugify

from aldrip.accounts.context import Ctx, act
from aldrip.base.errors import refuse
from aldrip.methods.models import ClassScheme, Container, Crop, IsolationRule, Line, Shared, Standard
from aldrip.methods.resolver import Library, write_edition
from aldrip_core.seasons import EARLINESS

WORDS = {
    "germination": ("germination", "%"),
    "purity": ("pure seed", "%"),
    "moisture": ("moisture", "%"),
    "other_seeds": ("seeds of other species", "per kg"),
}


@dataclass(frozen=True)
class LineSpec:
    """What a person says of a cultivar or a parent line."""

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


@act
def add_line(ctx: Ctx, spec: LineSpec) -> Line:
    """A cultivar, a parent line with its heat to flowering, or a hybrid with its two parents."""
    crop = ctx.get(Crop, spec.crop_id, shared=True)
    name = spec.name.strip()
    if not name:
        raise refuse("name", "missing", "Write the cultivar's name.")
    if Library(ctx).rows(Line).filter(crop__slug=crop.slug, name__iexact=name).exists():
        raise refuse("name", "taken", f"{crop.name} has a cultivar {name} already.")
    if spec.role not in ("", "A", "B", "R"):
        raise refuse(
            "role", "not_a_choice", "A line is A (male-sterile), B (maintainer), R (restorer), or none of them."
        )
    if spec.earliness not in ("", *EARLINESS):
        raise refuse("earliness", "not_a_choice", "A cultivar is early, mid or late, or nothing is said of it.")
    for field, most in (
        ("tgw_g", 2000),
        ("to_flower_c_d", 6000),
        ("flower_spread_days", 30),
        ("flower_lasts_days", 120),
    ):
        value = getattr(spec, field)
        if value is not None and not 0 < value <= most:
            raise refuse(field, "out_of_range", f"{value:g} cannot be; above 0 and up to {most:,}.")
    parents, maintainer = _parents(ctx, crop, spec), _maintainer(ctx, crop, spec)
    slug = own_slug(ctx, Line, f"{crop.slug}-{name}", crop.slug)
    line = Line.objects.create(
        organisation=ctx.organisation,
        crop=crop,
        name=name[:120],
        slug=slug,
        tgw_g=spec.tgw_g,
        role=spec.role,
        earliness=spec.earliness,
        female=parents[0],
        male=parents[1],
        maintainer=maintainer,
        to_flower_c_d=spec.to_flower_c_d,
        flower_spread_days=spec.flower_spread_days,
        flower_lasts_days=spec.flower_lasts_days,
    )
    write_edition(line, ctx)
    ctx.record("methods.line", f"Added cultivar {name} of {crop.name.lower()}.", line)
    return line


def _parents(ctx: Ctx, crop: Crop, spec: LineSpec) -> tuple[Line | None, Line | None]:
    if (spec.female_id is None) != (spec.male_id is None):
        raise refuse("male_id", "missing", "A hybrid has both a female and a male line.")
    if spec.female_id is None:
        return None, None
    female, male = ctx.get(Line, spec.female_id, shared=True), ctx.get(Line, spec.male_id, shared=True)
    if female.crop.slug != crop.slug or male.crop.slug != crop.slug:
        raise refuse("female_id", "other_crop", f"Both parents must be lines of {crop.name.lower()}.")
    if female.pk == male.pk:
        raise refuse("male_id", "same_line", "Female and male are the same line; a hybrid needs two.")
    kept = no_hybrid(female, male)
    if kept:
        raise refuse("male_id", "maintainer", kept)
    return female, male


def no_hybrid(female: Line, male: Line) -> str:
    """Why two lines give no hybrid; empty where they do. What an A line bears with its maintainer is the A line again."""
    if female.maintainer_id != male.pk and not (female.role == "A" and male.role == "B"):
        return ""
    return (
        f"Seed of {female.name} × {male.name} is {female.name} again, no hybrid. Say in {female.name} that it is kept going "
        f"with {male.name}, and order seed of {female.name}."
    )


def _maintainer(ctx: Ctx, crop: Crop, spec: LineSpec) -> Line | None:
    if spec.maintainer_id is None:
        return None
    found = ctx.get(Line, spec.maintainer_id, shared=True)
    if spec.role != "A":
        raise refuse(
            "maintainer_id", "not_a_line", "Only an A line, which sheds no pollen, is kept going with another."
        )
    if found.crop.slug != crop.slug:
        raise refuse("maintainer_id", "other_crop", f"{found.name} is no line of {crop.name.lower()}.")
    return found


def class_scheme(ctx: Ctx) -> ClassScheme | None:
    """The scheme of seed classes that the house goes by; its own row before the one that ships."""
    return Library(ctx).scheme


def classes_filling(ctx: Ctx) -> Callable[[str], tuple[str, ...]]:
    """What classes of seed fill an order for one, the asked one first; nothing asked is filled by any. One query."""
    scheme = class_scheme(ctx)
    return scheme.filling if scheme else lambda asked: (asked,) if asked else ()


def _class(ctx: Ctx, slug: str) -> str:
    scheme = class_scheme(ctx)
    names = scheme.names() if scheme else {}
    if slug not in names:
        raise refuse(
            "seed_class", "unknown_class", f"Choose a class of the house's scheme: {', '.join(names.values())}."
        )
    return slug


def _source(given: dict[str, Any]) -> str:
    source = str(given["source"]).strip()
    if not source:
        raise refuse("source", "missing", "Where does this come from? Name the rule, the contract or the person.")
    return source


@act
def save_field_standard(ctx: Ctx, given: dict[str, Any]) -> Standard:
    """What a field of a crop and class is inspected for; the house's own earlier one is replaced."""
    crop, seed_class, source = (
        ctx.get(Crop, given["crop_id"], shared=True),
        _class(ctx, given["seed_class"]),
        _source(given),
    )
    for name, low, high in (
        ("first_areas", 1, 100),
        ("first_ha", 0.1, 1000),
        ("per_ha", 0.1, 1000),
        ("plants_per_area", 1, 10_000),
    ):
        if not low <= given[name] <= high:
            raise refuse(name, "out_of_range", f"{given[name]:g} cannot be; {low:g} to {high:,}.")
    if not given["limits"]:
        raise refuse("limits", "missing", "What is counted? Write at least one fault with its highest share.")
    attributes = [limit["attribute"].strip() for limit in given["limits"]]
    if len(set(attributes)) != len(attributes):
        raise refuse("limits", "twice", "A fault stands there twice; name each once.")
    for index, limit in enumerate(given["limits"]):
        if not 0 <= limit["limit"] <= 0.5 or not limit["attribute"].strip() or not limit["words"].strip():
            raise refuse(
                f"limits.{index}.limit", "out_of_range", "A fault has a name and a highest share from 0 to 50 %."
            )
    limits = [{**limit, "source": source, "alpha": 0.05} for limit in given["limits"]]
    sampling = {name: given[name] for name in ("first_areas", "first_ha", "per_ha", "plants_per_area")}
    return _put(ctx, crop, seed_class, "field", given["name"], {"limits": limits, "sampling": sampling})


@act
def save_seed_standard(ctx: Ctx, given: dict[str, Any]) -> Standard:
    """What seed of a crop and class must be like. A limit that ships as law cannot be loosened by an own standard."""
    crop, seed_class, source = (
        ctx.get(Crop, given["crop_id"], shared=True),
        _class(ctx, given["seed_class"]),
        _source(given),
    )
    shipped = Standard.objects.filter(
        organisation=None, kind="seed", crop__slug=crop.slug, seed_class=seed_class
    ).first()
    law = {limit["attribute"]: limit for limit in (shipped.limits if shipped else []) if limit.get("statutory")}
    limits: list[dict[str, Any]] = []
    for index, limit in enumerate(given["limits"]):
        words, unit = WORDS[limit["attribute"]]
        if limit["low"] is None and limit["high"] is None:
            raise refuse(f"limits.{index}.low", "missing", f"How much {words} is asked, at least or at most?")
        fixed = law.pop(limit["attribute"], None)
        if fixed is not None and _looser(limit, fixed):
            raise refuse(
                f"limits.{index}.low",
                "statutory_limit",
                f"The law asks more of {words}: {fixed['source']}. An own standard may be stricter, never looser.",
            )
        limits.append(
            {
                **limit,
                "words": words,
                "unit": unit,
                "statutory": fixed is not None,
                "required": limit["required"] or fixed is not None,
                "source": fixed["source"] if fixed else source,
            }
        )
    if len({limit["attribute"] for limit in limits}) != len(limits):
        raise refuse("limits", "twice", "A test stands there twice; name each once.")
    limits.extend(law.values())
    if not limits:
        raise refuse("limits", "missing", "What is tested? Write at least one limit.")
    return _put(ctx, crop, seed_class, "seed", given["name"], {"limits": limits})


def _looser(own: dict[str, Any], law: dict[str, Any]) -> bool:
    low, high = law.get("low"), law.get("high")
    too_low = low is not None and (own["low"] is None or own["low"] < low)
    too_high = high is not None and (own["high"] is None or own["high"] > high)
    return too_low or too_high


def _put(ctx: Ctx, crop: Crop, seed_class: str, kind: str, name: str, values: dict[str, Any]) -> Standard:
    if not name.strip():
        raise refuse("name", "missing", "Name the standard.")
    row, _ = Standard.objects.update_or_create(
        organisation=ctx.organisation,
        slug=f"{kind}-{crop.slug}-{seed_class}"[:80],
        defaults={
            "name": name.strip()[:120],
            "kind": kind,
            "crop": crop,
            "seed_class": seed_class,
            "form": "seed",
            "scheme": ctx.organisation.class_scheme,
            **values,
        },
    )
    write_edition(row, ctx, str(values.get("source", "")))
    ctx.record("methods.standard", f"Saved {row.name}.", row, after=values)
    return row


def law_allows(given: Mapping[str, Any]) -> None:
    """Refuse a distance below the one that the law of the same scheme, crop, class, step and neighbour asks."""
    law = IsolationRule.objects.filter(
        organisation=None,
        statutory=True,
        scheme=given["scheme"],
        crop__slug=given["crop"],
        seed_class=given["seed_class"],
        step=given["step"],
        kind=given["kind"].strip(),
    ).first()
    if law is not None and given["metres"] < law.metres:
        raise refuse(
            "metres",
            "statutory_limit",
            f"The law asks {law.metres:g} m here: {law.sources.get('metres', '')}. An own distance may be longer, never shorter.",
        )


@act
def save_rule(ctx: Ctx, given: dict[str, Any]) -> IsolationRule:
    """A distance of the house's own scheme, with where it comes from."""
    crop, seed_class, source = (
        ctx.get(Crop, given["crop_id"], shared=True),
        _class(ctx, given["seed_class"]),
        _source(given),
    )
    if not 0 <= given["metres"] <= 10_000:
        raise refuse("metres", "out_of_range", f"{given['metres']:g} m cannot be; 0 to 10 000.")
    if not given["kind"].strip():
        raise refuse("kind", "missing", "From which kind of neighbour?")
    law_allows({**given, "crop": crop.slug, "scheme": ctx.organisation.class_scheme})
    slug = slugify("-".join((ctx.organisation.class_scheme, crop.slug, seed_class, given["step"], given["kind"])))[:80]
    row, _ = IsolationRule.objects.update_or_create(
        organisation=ctx.organisation,
        slug=slug,
        defaults={
            "name": f"{given['metres']:g} m from {given['kind']}",
            "scheme": ctx.organisation.class_scheme,
            "crop": crop,
            "seed_class": seed_class,
            "step": given["step"],
            "kind": given["kind"].strip(),
            "metres": given["metres"],
            "time_allowed": given["time_allowed"],
            "time_margin_days": given["time_margin_days"],
            "sources": {"metres": source},
        },
    )
    write_edition(row, ctx, source)
    ctx.record("methods.rule", f"{crop.name}: {row.name}.", row)
    return row


@act
def add_container(
    ctx: Ctx,
    *,
    name: str,
    cells: int,
    cell_ml: float,
    length_cm: float,
    width_cm: float,
    depth_cm: float,
    has_holes: bool = True,
) -> Container:
    """A tray of the house's own."""
    name = name.strip()
    if not name:
        raise refuse("name", "missing", "Name the tray.")
    if not has_holes:
        raise refuse("has_holes", "no_holes", "A tray without holes drowns its seedlings; it cannot be used for plugs.")
    sizes = {"cells": cells, "cell_ml": cell_ml, "length_cm": length_cm, "width_cm": width_cm, "depth_cm": depth_cm}
    for field, value in sizes.items():
        if not 0 < value <= 5000:
            raise refuse(field, "out_of_range", f"{value:g} cannot be; give a size above 0.")
    if Library(ctx).rows(Container).filter(name__iexact=name).exists():
        raise refuse("name", "taken", f"There is a tray {name} already.")
    slug = own_slug(ctx, Container, name, "tray")
    container = Container.objects.create(
        organisation=ctx.organisation, slug=slug, name=name[:120], has_holes=has_holes, **sizes
    )
    write_edition(container, ctx)
    ctx.record("methods.container", f"Added tray {name}.", container)
    return container


def own_slug(ctx: Ctx, model: type[Shared], name: str, else_: str) -> str:
    """A slug for a new row of the house's own that hides nothing which ships."""
    plain = slugify(name)[:70] or else_
    taken = set(ctx.shared_rows(model).filter(slug__startswith=plain).values_list("slug", flat=True))
    return next(slug for n in range(1, len(taken) + 2) if (slug := plain if n == 1 else f"{plain}-{n}") not in taken)
