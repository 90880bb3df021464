"""A method as a batch keeps it: frozen and complete when the batch was planned, upgraded when it is read."""

from collections.abc import Mapping, Sequence
from typing import Any

from aldrip.methods.models import Container, Crop, Input, Line, Method, MethodStage, Mix
from aldrip_core.distributions import Spread
from aldrip_core.ground import CropSpec
from aldrip_core.schedule import Duration
from aldrip_core.seasons import Season, read_windows
from aldrip_core.stages import (
    Allowed,
    ContainerSpec,
    Density,
    Factor,
    InputSpec,
    MethodSpec,
    Part,
    StageSpec,
    TaskSpec,
    Trait,
    rounds_of,
)
from aldrip_core.units import unit, written

VERSION = 2
STAGE_FIELDS = (
    "order",
    "key",
    "after",
    "follows",
    "share",
    "traits",
    "takes",
    "joins",
    "joins_crop",
    "product",
    "rounds",
    "round_days",
    "round_shares",
    "name",
    "kind",
    "days",
    "heat_sum_c_d",
    "base_c",
    "ceiling_c",
    "by_month",
    "cool_days",
    "full_c",
    "half_light_mol",
    "begins",
    "floor_c",
    "after_frost_days",
    "give_days",
    "until",
    "keeps",
    "keeps_sd",
    "multiply",
    "multiply_sd",
    "unit",
    "place_kind",
    "density",
    "unit_m2",
    "tasks",
    "sources",
)
METHOD_FIELDS = (
    "slug",
    "edition",
    "name",
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
    "sources",
    "way",
    "layout",
)
CONTAINER_FIELDS = (
    "slug",
    "edition",
    "name",
    "cells",
    "cell_ml",
    "length_cm",
    "width_cm",
    "depth_cm",
    "wet_kg",
    "has_holes",
    "sources",
)
INPUT_FIELDS = (
    "slug",
    "edition",
    "name",
    "kind",
    "unit",
    "contains",
    "active",
    "registration",
    "allowed",
    "cautions",
    "sources",
)
MIX_FIELDS = ("slug", "edition", "name", "parts", "settling", "spillage", "note", "cautions", "sources")
CROP_FIELDS = (
    "slug",
    "edition",
    "name",
    "botanical_name",
    "tgw_g",
    "germination",
    "germination_sd",
    "minimum_germination",
    "cover",
    "depth_mm",
    "watch_for",
    "cautions",
    "family",
    "sources",
)
#: What a stage of a kind does where nothing else is said.
TRAITS: dict[str, tuple[Trait, ...]] = {
    "sow": (Trait.STARTS,),
    "germinate": (Trait.EMERGES,),
    "grade": (Trait.GRADES, Trait.YIELDS),
    "dispatch": (Trait.LEAVES,),
    "flower": (Trait.FLOWERS,),
    "harvest": (Trait.LOADS, Trait.YIELDS),
    "dry": (Trait.DRIES,),
    "clean": (Trait.CLEANS, Trait.YIELDS),
    "test": (Trait.TESTS, Trait.WAITS),
}


def _taken(row: Any, fields: tuple[str, ...]) -> dict[str, Any]:
    return {name: getattr(row, name) for name in fields}


def container_values(container: Container) -> dict[str, Any]:
    """A container as a snapshot keeps it."""
    return _taken(container, CONTAINER_FIELDS)


def mix_values(mix: Mix) -> dict[str, Any]:
    # Migrations read mixes of a time when nothing was mixed in.
    return {**_taken(mix, MIX_FIELDS), "amendments": getattr(mix, "amendments", [])}


def crop_values(crop: Crop) -> dict[str, Any]:
    return _taken(crop, CROP_FIELDS)


def stage_values(stage: MethodStage) -> dict[str, Any]:
    """A stage of a method as a snapshot keeps it."""
    return {**_taken(stage, STAGE_FIELDS), "container": stage.container.slug if stage.container else ""}


def take_snapshot(
    method: Method, written: Sequence[MethodStage] | None = None, inputs: Mapping[str, Input] | None = None
) -> dict[str, Any]:
    """The method with everything that a batch is planned from, as plain data. Prefetch `stages__container` when taking many.

    written: its stages, where they are not saved yet. inputs: those of the house by slug, for the work that uses them.
    """
    taken, known = _taken(method, METHOD_FIELDS), inputs or {}
    stages = list(method.stages.all() if written is None else written)
    containers = [s.container for s in stages if s.container] + ([method.container] if method.container else [])
    return {
        "version": VERSION,
        **taken,
        "stages": [stage_values(stage) for stage in stages],
        "containers": {c.slug: container_values(c) for c in containers},
        "container": method.container.slug if method.container else "",
        "mix": mix_values(method.mix) if method.mix else None,
        "crop": crop_values(method.crop),
        "inputs": {slug: _taken(known[slug], INPUT_FIELDS) for slug in sorted(used_in(stages)) if slug in known},
    }


def used_in(stages: Sequence[MethodStage]) -> set[str]:
    """Slugs of the inputs that the work of stages uses."""
    return {task["input"] for stage in stages for task in stage.tasks if task.get("input")}


def with_container(snapshot: Mapping[str, Any], container: Container) -> dict[str, Any]:
    """The snapshot with another container to begin in."""
    containers = {**snapshot["containers"], container.slug: container_values(container)}
    return {**snapshot, "containers": containers, "container": container.slug}


#: Stages that set what grows into another container.
CHANGES = ("prick", "pot")


def for_cultivar(snapshot: Mapping[str, Any], line: Line | None) -> Mapping[str, Any]:
    """The snapshot with the windows of a cultivar's earliness; the same where it has none, or no window is for groups."""
    if line is None or not line.earliness or not any(":" in w for s in snapshot["stages"] for w in s["begins"] or ()):
        return snapshot
    return {**snapshot, "earliness": line.earliness}


def delivered_in(snapshot: Mapping[str, Any], container: Container) -> dict[str, Any]:
    """The snapshot with another container to be delivered in: the last one that it changes into, else the one it begins in."""
    changes = [stage["key"] for stage in snapshot["stages"] if stage["container"] or stage["kind"] in CHANGES]
    if not changes:
        return with_container(snapshot, container)
    stages = [
        {**stage, "container": container.slug} if stage["key"] == changes[-1] else stage for stage in snapshot["stages"]
    ]
    return {
        **snapshot,
        "stages": stages,
        "containers": {**snapshot["containers"], container.slug: container_values(container)},
    }


def upgraded(
    snapshot: Mapping[str, Any], *, crop: Crop | None = None, container: Container | None = None, mix: Mix | None = None
) -> dict[str, Any]:
    """A snapshot of any earlier version as one of today's.

    Version 1 kept the method alone: stages were a list known by kind, and container, mix and crop were read live,
    so the ones of the batch are taken in as they are now.
    """
    if snapshot.get("version", 1) == VERSION:
        return dict(snapshot)
    stages, before = [], ""
    for stage in snapshot["stages"]:
        stages.append(
            {
                **stage,
                "key": stage["kind"],
                "after": before,
                "follows": "",
                "share": 1.0,
                "multiply_sd": 0.0,
                "product": "",
                "rounds": 1,
                "round_days": None,
                "round_shares": [],
                "container": "",
                "traits": [trait.value for trait in TRAITS.get(stage["kind"], ())],
                "takes": ("seed" if snapshot["by_seed"] or snapshot.get("way", "plants") != "plants" else "cutting")
                if stage["kind"] == "sow"
                else "",
            }
        )
        before = stage["kind"]
    return {
        "way": "plants",
        "layout": {},
        **snapshot,
        "version": VERSION,
        "edition": 1,
        "stages": stages,
        "containers": {container.slug: container_values(container)} if container else {},
        "container": container.slug if container else "",
        "mix": mix_values(mix) if mix else None,
        "crop": crop_values(crop) if crop else None,
    }


def read_snapshot(snapshot: Mapping[str, Any]) -> MethodSpec:
    """The frozen method in core's terms."""
    containers = {slug: container_spec(values) for slug, values in snapshot["containers"].items()}
    inputs = {slug: input_spec(values) for slug, values in snapshot.get("inputs", {}).items()}
    stages: list[StageSpec] = []
    for stage in snapshot["stages"]:
        stages.extend(_stages(stage, containers, inputs, snapshot.get("earliness", "")))
    return MethodSpec(
        slug=snapshot["slug"],
        edition=snapshot["edition"],
        name=snapshot["name"],
        form=snapshot["form"],
        unit=unit(snapshot["unit"]),
        start_unit=unit(snapshot["start_unit"]),
        by_seed=snapshot["by_seed"],
        seeds_per_cell=snapshot["seeds_per_cell"],
        cell_factor=Spread.from_mean_sd(snapshot["cell_factor"], snapshot["cell_factor_sd"]),
        cell_factor_source=snapshot["sources"].get("cell_factor", ""),
        water_l_per_tray=snapshot["water_l_per_tray"],
        hold_days=snapshot.get("hold_days"),
        hold_loss=snapshot.get("hold_loss") or 0.0,
        way=snapshot["way"],
        layout=snapshot["layout"],
        stages=tuple(stages),
    )


def container_spec(values: Mapping[str, Any]) -> ContainerSpec:
    """A container in core's terms."""
    area = values["length_cm"] * values["width_cm"] / 10_000
    return ContainerSpec(values["slug"], values["name"], values["cells"], area, values["cell_ml"], values["wet_kg"])


def input_spec(values: Mapping[str, Any]) -> InputSpec:
    """An input in core's terms."""
    return InputSpec(
        values["slug"], values["name"], unit(values["unit"]), tuple(values["cautions"]), Allowed(values["allowed"])
    )


def first_container(snapshot: Mapping[str, Any]) -> ContainerSpec | None:
    """What a batch begins in."""
    values = snapshot["containers"].get(snapshot["container"])
    return container_spec(values) if values else None


def crop_spec(values: Mapping[str, Any]) -> CropSpec:
    """A crop in core's terms."""
    return CropSpec(
        values["slug"],
        values["name"],
        values["tgw_g"],
        values["germination"],
        values["germination_sd"],
        values["sources"],
        values.get("minimum_germination"),
    )


def _stages(
    stage: Mapping[str, Any],
    containers: Mapping[str, ContainerSpec],
    inputs: Mapping[str, InputSpec],
    earliness: str,
) -> tuple[StageSpec, ...]:
    duration = Duration(
        days=stage["days"],
        heat_sum_c_d=stage["heat_sum_c_d"],
        base_c=stage["base_c"] or 0.0,
        ceiling_c=stage["ceiling_c"],
        by_month=tuple(stage.get("by_month") or ()),  # snapshots of before there was one have none
        until=stage.get("until") or "",
        give_days=stage.get("give_days") or 0.0,
        cool_days=stage.get("cool_days"),
        full_c=stage.get("full_c"),
        half_light_mol=stage.get("half_light_mol"),
    )
    asked = Season(read_windows(stage.get("begins") or ()), stage.get("floor_c"), stage.get("after_frost_days"))
    season = asked.of(earliness)
    after = stage["after"] or None
    spec = StageSpec(
        key=stage["key"],
        name=stage["name"],
        kind=stage["kind"],
        after=after,
        follows=stage["follows"] or after,
        duration=duration,
        keeps=Spread.from_mean_sd(stage["keeps"], stage["keeps_sd"]),
        source=stage["sources"].get("keeps", "nothing is lost here"),
        unit=unit(stage["unit"]),
        share=stage["share"],
        factor=Factor(stage["multiply"], stage["multiply_sd"]),
        traits=frozenset(Trait(trait) for trait in stage["traits"]),
        takes=Part(stage["takes"]) if stage["takes"] else None,
        joins=Part(stage["joins"]) if stage.get("joins") else None,  # snapshots of before there were grafts have none
        joins_crop=stage.get("joins_crop", ""),
        place_kind=stage["place_kind"],
        density=Density(stage["density"]),
        unit_m2=stage["unit_m2"] or 0.0,
        container=containers.get(stage["container"]),
        product=stage["product"],
        tasks=tuple(_tasks(stage, inputs)),
        season=season,
    )
    if stage["rounds"] <= 1:
        return (spec,)
    return rounds_of(
        spec, rounds=stage["rounds"], every_days=stage["round_days"] or 1, shares=tuple(stage["round_shares"])
    )


def _tasks(stage: Mapping[str, Any], inputs: Mapping[str, InputSpec]) -> list[TaskSpec]:
    """Tasks of a stage; one without a key of its own is known by its kind, the second of a kind by its number."""
    found: list[TaskSpec] = []
    for task in stage["tasks"]:
        same = sum(one.kind == task["kind"] for one in found)
        found.append(
            TaskSpec(
                task.get("key") or (f"{task['kind']}-{same + 1}" if same else task["kind"]),
                task["kind"],
                task["words"],
                task.get("at", "start"),
                task.get("part", "morning"),
                task.get("minutes"),
                task.get("minutes_per_tray"),
                task.get("minutes_per_unit"),
                task.get("caution", ""),
                inputs.get(task.get("input") or ""),
                written(task["amount"]) if task.get("amount") else None,
                task.get("per") or "",
                int(task.get("every_days") or 0),
                int(task.get("after_days") or 0),
            )
        )
    return found
