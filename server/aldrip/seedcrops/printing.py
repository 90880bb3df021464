"""The row plan on paper: the drawing to scale, and what each line takes."""

from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.base.words import day, number, share
from aldrip.seedcrops.generations import rate_of, rows_of, seed_needed, weights_of
from aldrip.seedcrops.laying import ROLES, layout_of, left_m2, ring_m
from aldrip.seedcrops.models import SeedBlock
from aldrip.seedcrops.reading import class_names, drawing_of
from aldrip_core.drill_test import STRETCH_M, drill_test
from aldrip_core.geometry import area_m2

WIDE = 700.0  # points of the drawing's longer side
# A drawing on paper takes no style sheet: solid F, dashed M, dotted border.
INK = {
    "F": {"stroke": "#0B5F6B", "thick": 0.7, "dash": ""},
    "M": {"stroke": "#855400", "thick": 1.2, "dash": "5 3"},
    "border": {"stroke": "#855400", "thick": 0.7, "dash": "1 2.5"},
}


def rows_facts(ctx: Ctx, block: SeedBlock) -> dict[str, Any]:
    """What the print shows. Drawn as plain lines: solid F, dashed M, dotted border."""
    weights = weights_of(ctx, block)
    plan = rows_of(block, weights)
    drawing = drawing_of(plan, block)
    width, height = (max(p[i] for p in drawing["outline"]) for i in (0, 1))
    scale = WIDE / max(width, height)

    def at(p: list[float]) -> str:
        return f"{p[0] * scale:.1f},{(height - p[1]) * scale:.1f}"

    needed, tgw = seed_needed(block, weights), weights.tgw
    drill = rate_of(block, layout_of(block), weights)
    rate = (
        f"{number(drill.seeds_per_m2 or 0, 1)} seeds a m², {number(drill.rate_kg_per_ha or 0, 1)} kg/ha, "
        f"{number(drill.seeds_per_metre_of_row or 0, 1)} seeds a metre of row"
        if drill
        else ""
    )
    return {
        "code": block.batch.code,
        "crop": block.batch.crop.name,
        "cultivar": block.batch.line.name if block.batch.line else "",
        "field": block.field.name,
        "area": f"{area_m2(ring_m(block)) / 10_000:.2f}",
        "organisation": ctx.organisation.name,
        "seed_class": class_names(ctx).get(block.seed_class, block.seed_class),
        "pattern": block.pattern,
        "rate": rate,
        "spacing": f"{block.row_spacing_m:g}",
        "bearing": f"{block.bearing_deg:g}",
        "borders": block.border_rows,
        "headlands": block.headland_rows,
        "planter": block.planter_rows,
        "passes": plan.passes if plan else None,
        "width": width * scale,
        "height": height * scale,
        "outline": " ".join(at(p) for p in drawing["outline"]),
        "gone": [
            "".join("M" + "L".join(at(p).replace(",", " ") for p in one) + "Z" for one in rings)
            for rings in drawing["gone"]
        ],
        "left": f"{left_m2(block) / 10_000:.2f}" if drawing["gone"] else "",
        "female_share": share(plan.female_share, 1) if plan else "",
        "scale_m": round(WIDE / scale / 5, -1) or 10,
        "scale_w": (round(WIDE / scale / 5, -1) or 10) * scale,
        "rows": [
            {**INK["border" if r["part"] != "body" else r["line"]], "from": at(a), "to": at(b)}
            for r in drawing["rows"]
            for a, b in r["segments"]
        ],
        "lines": [
            {
                "role": p.role,
                "words": ROLES[p.role],
                "line": p.line.name,
                "sow": day(p.sow_on, year=True),
                "sowings": p.sowings,
                "metres": number(plan.metres[p.role]) if plan else "",
                "plants": number(plan.plants[p.role]) if plan else "",
                "kg": number(needed.get(p.role, 0), 1),
                "in_row": f"{block.in_row_cm.get(p.role, 0):g}",
                "tgw": f"{tgw[p.role]:g}",
                "rows": sum(1 for r in plan.rows if r.line == p.role and r.part == "body") if plan else "",
            }
            for p in block.parents.all()
        ],
        "cautions": block.batch.crop.cautions,
    }


def drill_facts(ctx: Ctx, block: SeedBlock) -> dict[str, Any]:
    """What the drill card shows: of each line the seed to take along, and what must be caught before it goes into the field."""
    rows = rows_facts(ctx, block)
    weights = weights_of(ctx, block)
    plan, needed = rows_of(block, weights), seed_needed(block, weights)
    metres = (
        plan.metres if plan else {p.role: area_m2(ring_m(block)) / block.row_spacing_m for p in block.parents.all()}
    )
    drilled, missing = [], []
    for parent, line in zip(block.parents.all(), rows["lines"], strict=True):
        kg, long = needed.get(parent.role, 0.0), metres.get(parent.role, 0.0)
        if kg <= 0 or long <= 0:
            missing.append(f"Of {parent.line.name} no seed is reckoned yet.")
            continue
        lot = next((one.lot for one in parent.sown.all()), None) or weights.lot_of(parent.line)
        # Where lines stand beside each other, no one knows here which rows of the drill are whose.
        together = 1 if block.pattern else max(1, block.planter_rows or 1)
        found = drill_test(seed_kg=kg, metres=long, tgw_g=weights.tgw[parent.role], rows=together)
        drilled.append(
            {
                **line,
                "words": line["words"] if len(rows["lines"]) > 1 else "",
                "lot": lot.code if lot else "",
                "kg": number(kg, 2 if kg < 10 else 1),
                "seeds": number(found.seeds_a_metre, 1),
                "every": number(100 / found.seeds_a_metre, 1),
                "stretch": f"{STRETCH_M:g}",
                "together": together if together > 1 else None,
                **{
                    name: number(value, 1 if value < 1000 else 0)
                    for name, value in (
                        ("a_row", found.grams_a_row),
                        ("in_all", found.grams_in_all),
                        ("least", found.least_g),
                        ("most", found.most_g),
                    )
                },
                "depth": f"{block.batch.crop.depth_mm:g}" if block.batch.crop.depth_mm else "",
            }
        )
    return {**rows, "drilled": drilled, "missing": " ".join(missing)}
