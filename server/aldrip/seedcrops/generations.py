"""The ladder of a seed crop beyond its kilos: hectares, rows, plants, parent seed, and the class above."""

from dataclasses import dataclass
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.batches.forecasting import LIVE
from aldrip.batches.models import Batch
from aldrip.lots.models import Lot
from aldrip.methods.models import ClassScheme, Line
from aldrip.methods.services import class_scheme
from aldrip.seedcrops.kilos import for_lots
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
    classes: list[str]

    def lot_of(self, line: Line) -> Lot | None:
        """The oldest lot of a line with seed left, first of those that may be sown here."""
        own = [lot for lot in self.lots if lot.line_id == line.pk]
        return next((lot for lot in own if self.may_be_sown(lot)), own[0] if own else None)

    def may_be_sown(self, lot: Lot) -> bool:
        """Whether a lot is of a class that may be multiplied here, with its label."""
        return lot.seed_class in self.classes and bool(lot.status or lot.label_number)


def weights_of(ctx: Ctx, block: SeedBlock) -> Weights:
    """Loaded once for everything that a view says of a block's seed. Raises Refused where a weight is not known."""
    parents = list(block.parents.all())
    lots = list(parent_lots(ctx, [p.line_id for p in parents]))
    found = {p.role: tgw_for(ctx, p.line, lots) for p in parents}
    tgw, told = ({role: pair[i] for role, pair in found.items()} for i in (0, 1))
    classes = sown_for(class_scheme(ctx), block.seed_class)
    return Weights(tgw, told, lots, classes)  # type: ignore[arg-type]


def rows_of(block: SeedBlock, weights: Weights) -> RowPlan | None:
    """The row plan of a block; None where one line is drilled."""
    if not block.pattern:
        return None
    return plan_rows(sown_thicker(block, layout_of(block), weights), ring_m(block), weights.tgw)


def sown_thicker(block: SeedBlock, layout: Layout, weights: Weights) -> Layout:
    """A layout with the establishment of each line as its lot germinates: the one sown, else the oldest in stock."""
    parents = {p.role: p for p in block.parents.all()}
    lots = {
        role: next((one.lot for one in parent.sown.all()), None) or weights.lot_of(parent.line)
        for role, parent in parents.items()
    }
    return for_lots(layout, lots, {role: parent.line for role, parent in parents.items()})


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
    growing = _growing(ctx, block)
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
        own = [lot for lot in lots if lot.line_id == parents[role].line_id]
        stock = sum(kilos_of(lot) for lot in own if weights.may_be_sown(lot))
        unfit = sum(kilos_of(lot) for lot in own if not weights.may_be_sown(lot))
        sown = sum(float(s.kg) for s in parents[role].sown.all())
        lot = weights.lot_of(parents[role].line)
        usual = parents[role].line.crop.germination
        weak = ""
        if lot and lot.germination and usual and lot.germination < usual and role != "S":
            weak = f"; lot {lot.code} germinates {lot.germination:.0%}, usual is {usual:.0%}".replace("%", " %")
        weak += growing.get(parents[role].line_id, "")
        if unfit:
            weak += f"; {unfit:,.1f} kg more are of a class, or without a label, that may not be sown here"
        told = (
            f"{sown:,.1f} kg sown"
            if sown
            else f"{stock:,.1f} kg in stock" + (f", {asked - stock:,.1f} kg short" if asked > stock else "") + weak
        )
        rungs.append(_rung(f"seed.{role}", f"Parent seed {role}" if role != "S" else "Seed sown", asked, "kg", told))
    classes, working = _above(ctx, block, area, needed)
    return {"rungs": rungs, "classes": classes, "problem": "", "working": working}


def _growing(ctx: Ctx, block: SeedBlock) -> dict[int, str]:
    """What the house grows of the parent lines itself, by line, in words."""
    lines = [p.line_id for p in block.parents.all()]
    rows = ctx.rows(Batch).filter(line__in=lines, method__form="seed", state__in=LIVE).exclude(pk=block.batch_id)
    found: dict[int, str] = {}
    for line, code, expected in rows.order_by("pk").values_list("line", "code", "expected"):
        found[line] = found.get(line, "") + f"; {code} grows about {expected / 1000:,.0f} kg of it"
    return found


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
    first = sown_for(scheme, block.seed_class)
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
                "from_class": next((names[c] for c in sown_for(scheme, first[0])), "breeder's seed"),
            }
        )
        working.extend(result.working if not working else result.working[-2:])
    return found, tuple(working)


def sown_for(scheme: ClassScheme | None, seed_class: str) -> list[str]:
    """Classes that may be sown for a class, the usual one first."""
    if scheme is None:
        return []
    return next((list(c["from"]) for c in scheme.classes if c["slug"] == seed_class), [])
