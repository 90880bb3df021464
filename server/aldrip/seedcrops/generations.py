"""The ladder of a seed crop beyond its kilos: hectares, rows, plants, parent seed, and the class above."""

from dataclasses import dataclass
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.lots.models import Lot
from aldrip.methods.models import ClassScheme, Line
from aldrip.methods.services import class_scheme
from aldrip.seedcrops.laying import (
    Layout,
    kilos,
    kilos_of,
    layout_of,
    parent_lots,
    plan_drill,
    plan_rows,
    ring_m,
    tgw_for,
)
from aldrip.seedcrops.models import SeedBlock
from aldrip_core.generations import GenerationStep, ParentInput, generations
from aldrip_core.geometry import area_m2
from aldrip_core.row_plan import RowPlan
from aldrip_core.seed_rate import SeedRate
from aldrip_core.working import Step


@dataclass(frozen=True)
class Weights:
    """Thousand-grain weight of each line by role [g], where it comes from, and the lots of the lines in stock."""

    tgw: dict[str, float]
    told: dict[str, str]
    lots: list[Lot]

    def lot_of(self, line: Line) -> Lot | None:
        """The oldest lot of a line with seed left."""
        return next((lot for lot in self.lots if lot.line_id == line.pk), None)


def weights_of(ctx: Ctx, block: SeedBlock) -> Weights:
    """Loaded once for everything that a view says of a block's seed. Raises Refused where a weight is not known."""
    parents = list(block.parents.all())
    lots = list(parent_lots(ctx, [p.line_id for p in parents]))
    found = {p.role: tgw_for(ctx, p.line, lots) for p in parents}
    tgw, told = ({role: pair[i] for role, pair in found.items()} for i in (0, 1))
    return Weights(tgw, told, lots)  # type: ignore[arg-type]


def rows_of(block: SeedBlock, weights: Weights) -> RowPlan | None:
    """The row plan of a block; None where one line is drilled."""
    return plan_rows(layout_of(block), ring_m(block), weights.tgw) if block.pattern else None


def rate_of(block: SeedBlock, layout: Layout, weights: Weights) -> SeedRate | None:
    """The seed rate of a drilled block, by its oldest lot in stock; None where rows are planted."""
    if block.pattern:
        return None
    parent = next(iter(block.parents.all()))
    return plan_drill(layout, ring_m(block), weights.lot_of(parent.line), parent.line, weights.tgw[parent.role])


def seed_needed(block: SeedBlock, weights: Weights) -> dict[str, float]:
    """Kilos of seed by line."""
    plan, rate = rows_of(block, weights), rate_of(block, layout_of(block), weights)
    if plan is not None:
        return dict(plan.seed_kg)
    return {p.role: (rate.seed_kg if rate else None) or 0.0 for p in block.parents.all()}


def generations_out(ctx: Ctx, block: SeedBlock, weights: Weights) -> dict[str, Any]:
    """Rungs below the block's hectares, and the working of the classes above. What is missing is said."""
    needed, lots = seed_needed(block, weights), weights.lots
    area = area_m2(ring_m(block)) / 10_000
    plan = rows_of(block, weights)
    rungs: list[dict[str, Any]] = []
    parents = {p.role: p for p in block.parents.all()}
    if plan is not None:
        main = [row for row in plan.rows if row.part != "headland"]
        rungs.append(_rung("rows", "Rows", len(main), "rows", f"{block.row_spacing_m:g} m apart, {block.pattern}"))
        for role, plants in plan.plants.items():
            rungs.append(
                _rung(
                    f"plants.{role}",
                    f"Plants {role}",
                    plants,
                    "plants",
                    f"{parents[role].line.name}, every {block.in_row_cm[role]:g} cm",
                )
            )
    for role, asked in needed.items():
        stock = sum(kilos_of(lot) for lot in lots if lot.line_id == parents[role].line_id)
        sown = sum(float(s.kg) for s in parents[role].sown.all())
        told = (
            f"{sown:,.1f} kg sown"
            if sown
            else f"{stock:,.1f} kg in stock" + (f", {asked - stock:,.1f} kg short" if asked > stock else "")
        )
        rungs.append(_rung(f"seed.{role}", f"Parent seed {role}" if role != "S" else "Seed sown", asked, "kg", told))
    classes, working = _above(ctx, block, area, needed)
    return {"rungs": rungs, "classes": classes, "problem": "", "working": working}


def _rung(key: str, name: str, value: float, unit: str, words: str) -> dict[str, Any]:
    return {"key": key, "name": name, "value": value, "unit": unit, "words": words}


def _above(ctx: Ctx, block: SeedBlock, area: float, needed: dict[str, float]) -> tuple[list[dict[str, Any]], Any]:
    """The class above for each line: its area and the seed of the class above that."""
    scheme = class_scheme(ctx)
    above = block.batch.method_snapshot["layout"].get("above", {})
    expected = kilos(block.batch.expected)
    if scheme is None or not area or not expected or not all(needed.values()):
        return [], ()
    names = scheme.names()
    first = _sown_for(scheme, block.seed_class)
    if not first:
        return [], ()
    lines = {p.role: p.line.name for p in block.parents.all()}
    inputs = tuple(ParentInput(lines[role], asked / area) for role, asked in needed.items())
    own = GenerationStep(names[block.seed_class], expected / area, 1.0, inputs=inputs)
    found: list[dict[str, Any]] = []
    working: list[Step] = []
    for role in needed:
        if role not in above:
            continue
        step = GenerationStep(
            f"{names[first[0]]} {lines[role]}",
            above[role]["yield_kg_per_ha"],
            above[role]["recovery"],
            above[role]["seed_rate_kg_per_ha"],
            of_line=lines[role],
        )
        result = generations(need_kg=kilos(block.batch.needed) or 0.0, steps=[own, step])
        up = result.steps[1]
        found.append(
            {
                "seed_class": names[first[0]],
                "line": lines[role],
                "role": role,
                "kg": up.clean_kg,
                "area_ha": up.area_ha,
                "seed_in_kg": up.seed_in_kg,
                "from_class": next((names[c] for c in _sown_for(scheme, first[0])), "breeder's seed"),
            }
        )
        working.extend(result.working if not working else result.working[-2:])
    return found, tuple(working)


def _sown_for(scheme: ClassScheme, seed_class: str) -> list[str]:
    """Classes that may be sown for a class, the usual one first."""
    return next((list(c["from"]) for c in scheme.classes if c["slug"] == seed_class), [])
