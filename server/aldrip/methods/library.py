"""Load the library that ships: YAML with a source beside every value, into shared rows."""

from functools import cache
from pathlib import Path
from typing import Any

import yaml
from django.conf import settings
from django.db import models, transaction
from django.utils.timezone import now

from aldrip.methods.models import (
    ClassScheme,
    Container,
    Crop,
    Edition,
    Input,
    IsolationRule,
    Line,
    Method,
    MethodStage,
    Mix,
    Recipe,
    Remedy,
    Standard,
    Treatment,
)
from aldrip.methods.resolver import KINDS, plain_values
from aldrip.methods.snapshot import TRAITS

FOLDER = Path(settings.ROOT) / "library"
CROP_FIELDS = (
    "name",
    "botanical_name",
    "other_names",
    "tgw_g",
    "germination",
    "germination_sd",
    "minimum_germination",
    "cover",
    "depth_mm",
    "watch_for",
    "cautions",
    "family",
    "pollination",
    "base_c",
    "upper_c",
    "stages_seen",
    "pollinators",
)
CONTAINER_FIELDS = ("name", "kind", "cells", "cell_ml", "length_cm", "width_cm", "depth_cm", "wet_kg", "has_holes")
INPUT_FIELDS = ("name", "kind", "unit", "contains", "active", "registration", "allowed", "note", "cautions")
TREATMENT_FIELDS = ("name", "kind", "form", "crops", "raw_only", "steps", "use_within_h", "note", "cautions")
RECIPE_FIELDS = ("name", "litres", "salts", "ec_low", "ec_high", "ph_low", "ph_high", "note", "cautions")
MIX_FIELDS = ("name", "parts", "amendments", "settling", "spillage", "note", "cautions")
METHOD_FIELDS = (
    "form",
    "unit",
    "start_unit",
    "by_seed",
    "seeds_per_cell",
    "cell_factor",
    "cell_factor_sd",
    "water_l_per_tray",
    "hold_days",
    "hold_loss",
    "note",
    "way",
    "layout",
)
STAGE_NAMES = {
    "days": "days",
    "heat": "heat_sum_c_d",
    "base": "base_c",
    "ceiling": "ceiling_c",
    "by_month": "by_month",
    "cool": "cool_days",
    "full": "full_c",
    "half_light": "half_light_mol",
    "begins": "begins",
    "floor": "floor_c",
    "after_frost": "after_frost_days",
    "give": "give_days",
    "until": "until",
    "keeps": "keeps",
    "sd": "keeps_sd",
    "multiply": "multiply",
    "multiply_sd": "multiply_sd",
    "unit_m2": "unit_m2",
    "share": "share",
    "rounds": "rounds",
    "round_days": "round_days",
}


@cache  # what ships does not change while a process runs
def _read(name: str) -> dict[str, Any]:
    quick = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    loaded: dict[str, Any] = yaml.load((FOLDER / f"{name}.yaml").read_text(encoding="utf-8"), Loader=quick)
    return loaded


def _split(value: Any, sources: dict[str, str]) -> tuple[Any, str | None]:
    """A value and its source: `[value, KEY]`, or a bare value that needs none."""
    if isinstance(value, list) and len(value) == 2 and isinstance(value[1], str) and value[1] in sources:
        return value[0], sources[value[1]]
    return value, None


def _fields(entry: dict[str, Any], names: tuple[str, ...], sources: dict[str, str]) -> dict[str, Any]:
    row: dict[str, Any] = {"sources": {}}
    for name in names:
        if name in entry:
            row[name], source = _split(entry[name], sources)
            if source:
                row["sources"][name] = source
    return row


def _put(model: type[models.Model], rows: dict[str, dict[str, Any]]) -> dict[str, Any]:
    """Write shipped rows of one kind at once, by slug: new ones together, known ones where they changed."""
    manager: Any = model._default_manager
    kept = {row.slug: row for row in manager.filter(organisation=None, slug__in=rows)}
    for slug, values in rows.items():
        if slug not in kept:
            continue
        changed = [name for name, value in values.items() if getattr(kept[slug], name) != value]
        for name in changed:
            setattr(kept[slug], name, values[name])
        if changed:
            kept[slug].save(update_fields=changed)
    fresh = [model(organisation=None, slug=slug, **values) for slug, values in rows.items() if slug not in kept]
    return kept | {row.slug: row for row in manager.bulk_create(fresh)}


def _write_editions() -> None:
    """Keep what counts now as editions; what did not change keeps the one it has.

    Own rows from before there were editions get their first one here.
    """
    known = {
        (e.organisation_id, e.kind, e.slug): e
        for e in Edition.objects.order_by("number").defer("reason")  # the newest comes last and stays
    }
    fresh = []
    for kind, model in KINDS.items():
        named = [
            f.name for f in model._meta.concrete_fields if isinstance(f, models.ForeignKey) and f.name != "organisation"
        ]
        rows: Any = model._default_manager.select_related(*named) if named else model._default_manager.all()
        for row in rows.prefetch_related("stages__container") if model is Method else rows:
            newest = known.get((row.organisation_id, kind, row.slug))
            if row.organisation_id is not None and newest is not None:
                continue
            values = plain_values(row)
            if newest is not None and newest.values == values:
                continue
            number = newest.number + 1 if newest else 1
            fresh.append(
                Edition(
                    organisation_id=row.organisation_id,
                    kind=kind,
                    slug=row.slug,
                    number=number,
                    values=values,
                    happened_at=now(),
                )
            )
            if row.edition != number:
                model._default_manager.filter(pk=row.pk).update(edition=number)
    Edition.objects.bulk_create(fresh)


@transaction.atomic
def load_library() -> dict[str, int]:
    """Load or refresh every shipped row; running it twice changes nothing."""
    data = _read("crops")
    crops = _put(Crop, {e["slug"]: _fields(e, CROP_FIELDS, data["sources"]) for e in data["crops"]})
    _put(
        Line,
        {
            line["slug"]: {"name": line["name"], "crop": crops[entry["slug"]]}
            for entry in data["crops"]
            for line in entry.get("lines", [])
        },
    )
    data = _read("containers")
    containers = _put(Container, {e["slug"]: _fields(e, CONTAINER_FIELDS, data["sources"]) for e in data["containers"]})
    data = _read("mixes")
    mixes = _put(Mix, {e["slug"]: _fields(e, MIX_FIELDS, data["sources"]) for e in data["mixes"]})
    data = _read("inputs")
    _put(Input, {e["slug"]: _fields(e, INPUT_FIELDS, data["sources"]) for e in data["inputs"]})
    for name, model, fields in (("treatments", Treatment, TREATMENT_FIELDS), ("recipes", Recipe, RECIPE_FIELDS)):
        data = _read(name)
        _put(model, {e["slug"]: _fields(e, fields, data["sources"]) for e in data[name]})
    data = _read("standards")
    standards = _put(
        Standard,
        {
            entry["slug"]: {
                "name": entry["name"],
                "form": entry["form"],
                "kind": entry.get("kind", "plant"),
                "limits": [{**limit, "source": data["sources"][limit["source"]]} for limit in entry["limits"]],
                "crop": crops[entry["crop"]] if "crop" in entry else None,
                "seed_class": entry.get("class", ""),
                "scheme": entry.get("scheme", ""),
            }
            for entry in data["standards"]
        },
    )
    _load_seed_rules(crops)
    data = _read("methods")
    methods = _put(
        Method,
        {
            f"{entry['template']}-{entry['crop']}": _method(entry, data, crops, containers, mixes, standards)
            for entry in data["methods"]
        },
    )
    stages = [stage for entry in data["methods"] for stage in _stages(entry, data, methods, containers)]
    MethodStage.objects.filter(method__organisation=None).delete()
    MethodStage.objects.bulk_create(stages)
    _write_editions()
    return {"crops": len(crops), "containers": len(containers), "mixes": len(mixes), "methods": len(methods)}


def _load_seed_rules(crops: dict[str, Any]) -> None:
    """Class schemes, isolation rules and remedies of seed crops."""
    _put(
        ClassScheme,
        {
            e["slug"]: {"name": e["name"], "classes": e["classes"], "note": e["note"]}
            for e in _read("classes")["schemes"]
        },
    )
    data = _read("isolation")
    rules = {}
    for entry in data["rules"]:
        for kind in entry["kinds"]:
            slug = "-".join((entry["scheme"], entry["crop"], entry["class"], entry["step"], kind)).replace(" ", "-")
            rules[slug[:80]] = {
                "name": f"{entry['metres']} m from {kind}",
                "scheme": entry["scheme"],
                "crop": crops[entry["crop"]],
                "seed_class": entry["class"],
                "step": entry["step"],
                "kind": kind,
                "metres": entry["metres"],
                "time_allowed": entry.get("time_allowed", False),
                "statutory": entry.get("statutory", False),
                "sources": {"metres": data["sources"][entry["source"]]},
            }
    _put(IsolationRule, rules)
    data = _read("remedies")
    _put(
        Remedy,
        {
            entry["slug"]: {
                "name": entry["name"],
                "crops": entry.get("crops", []),
                "parent": entry["parent"],
                "remedy_class": entry["class"],
                "shift_low_days": entry["shift"][0],
                "shift_high_days": entry["shift"][1],
                "until_share": entry["until"][0],
                "until_words": entry["until"][1],
                "at_sowing": entry.get("at_sowing", False),
                "caution": entry.get("caution", ""),
                "sources": {"shift": data["sources"][entry["source"]]},
            }
            for entry in data["remedies"]
        },
    )


def _method(
    entry: dict[str, Any],
    data: dict[str, Any],
    crops: dict[str, Any],
    containers: dict[str, Any],
    mixes: dict[str, Any],
    standards: dict[str, Any],
) -> dict[str, Any]:
    """What a method says of itself: its template, with what the crop says otherwise."""
    template = data["templates"][entry["template"]]
    crop, merged = crops[entry["crop"]], {**template, **entry}
    return _fields(merged, METHOD_FIELDS, data["sources"]) | {
        "name": template["name"].format(crop=crop.name),
        "crop": crop,
        "default": merged.get("default", True),
        "container": containers.get(merged.get("container", "")),
        "mix": mixes.get(merged.get("mix", "")),
        "standard": standards.get(merged.get("standard", "")),
    }


def _stages(
    entry: dict[str, Any], data: dict[str, Any], methods: dict[str, Any], containers: dict[str, Any]
) -> list[MethodStage]:
    """The stages of a method, in order, each after the one before it where it does not say."""
    method = methods[f"{entry['template']}-{entry['crop']}"]
    by_seed = method.by_seed or method.way != "plants"
    stages, before = [], ""
    for order, (key, base) in enumerate(data["templates"][entry["template"]]["stages"].items()):
        spec = {"after": before, **base, **entry.get("stages", {}).get(key, {})}
        stages.append(_stage(method, order, key, spec, data["sources"], containers, by_seed))
        before = key
    return stages


def _stage(
    method: Any,
    order: int,
    key: str,
    spec: dict[str, Any],
    sources: dict[str, str],
    containers: dict[str, Any],
    by_seed: bool,
) -> MethodStage:
    """A stage by its key; what it does follows from its kind where nothing else is said."""
    kind = spec.get("kind", key)
    takes = spec.get("takes", ("seed" if by_seed else "cutting") if kind == "sow" else "")
    row: dict[str, Any] = {"sources": {}}
    for name, field in STAGE_NAMES.items():
        if name in spec:
            row[field], source = _split(spec[name], sources)
            if source:
                row["sources"][field] = source + (f" ({spec['note']})" if "note" in spec else "")
    return MethodStage(
        method=method,
        order=order,
        key=key,
        kind=kind,
        after=spec["after"],
        follows=spec.get("follows", ""),
        takes=takes,
        joins=spec.get("joins", ""),
        joins_crop=spec.get("joins_crop", ""),
        traits=spec.get("traits", [trait.value for trait in TRAITS.get(kind, ())]),
        product=spec.get("product", ""),
        round_shares=spec.get("round_shares", []),
        container=containers.get(spec.get("container", "")),
        name=spec["name"],
        unit=spec["unit"],
        place_kind=spec.get("place", ""),
        density=spec.get("density", ""),
        tasks=spec.get("tasks", []),
        **row,
    )
