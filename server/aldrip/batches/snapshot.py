"""A method as a batch keeps it: frozen when the batch was planned, read into core's terms."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from aldrip.methods.models import Method
from aldrip_core.distributions import Spread
from aldrip_core.schedule import Duration

STAGE_FIELDS = (
    "order", "name", "kind", "days", "heat_sum_c_d", "base_c", "ceiling_c", "keeps", "keeps_sd", "multiply", "unit",
    "place_kind", "density", "unit_m2", "tasks", "sources",
)  # fmt: skip
METHOD_FIELDS = (
    "slug", "name", "form", "unit", "start_unit", "by_seed", "seeds_per_cell", "cell_factor", "cell_factor_sd",
    "water_l_per_tray", "sources", "way", "layout",
)  # fmt: skip


def take_snapshot(method: Method) -> dict[str, Any]:
    """The method with its stages as plain data. Prefetch `stages` when taking many."""
    taken = {name: getattr(method, name) for name in METHOD_FIELDS}
    taken["stages"] = [{name: getattr(stage, name) for name in STAGE_FIELDS} for stage in method.stages.all()]
    return taken


@dataclass(frozen=True)
class StageDef:
    """One stage of a frozen method."""

    order: int
    name: str
    kind: str
    duration: Duration
    keeps: Spread
    source: str
    multiply: float
    unit: str
    place_kind: str
    density: str
    unit_m2: float
    tasks: tuple[Mapping[str, Any], ...]


@dataclass(frozen=True)
class MethodDef:
    """A frozen method."""

    slug: str
    name: str
    form: str
    unit: str
    start_unit: str
    by_seed: bool
    seeds_per_cell: int
    cell_factor: Spread
    cell_factor_source: str
    water_l_per_tray: float | None
    stages: tuple[StageDef, ...]


def read_snapshot(snapshot: Mapping[str, Any]) -> MethodDef:
    """The frozen method in core's terms."""
    return MethodDef(
        slug=snapshot["slug"], name=snapshot["name"], form=snapshot["form"], unit=snapshot["unit"],
        start_unit=snapshot["start_unit"], by_seed=snapshot["by_seed"], seeds_per_cell=snapshot["seeds_per_cell"],
        cell_factor=Spread.from_mean_sd(snapshot["cell_factor"], snapshot["cell_factor_sd"]),
        cell_factor_source=snapshot["sources"].get("cell_factor", ""),
        water_l_per_tray=snapshot["water_l_per_tray"],
        stages=tuple(_stage(stage) for stage in snapshot["stages"]),
    )  # fmt: skip


def _stage(stage: Mapping[str, Any]) -> StageDef:
    duration = Duration(
        days=stage["days"],
        heat_sum_c_d=stage["heat_sum_c_d"],
        base_c=stage["base_c"] or 0.0,
        ceiling_c=stage["ceiling_c"],
    )
    return StageDef(
        order=stage["order"], name=stage["name"], kind=stage["kind"], duration=duration,
        keeps=Spread.from_mean_sd(stage["keeps"], stage["keeps_sd"]),
        source=stage["sources"].get("keeps", "nothing is lost here"),
        multiply=stage["multiply"], unit=stage["unit"], place_kind=stage["place_kind"], density=stage["density"],
        unit_m2=stage["unit_m2"] or 0.0, tasks=tuple(stage["tasks"]),
    )  # fmt: skip
