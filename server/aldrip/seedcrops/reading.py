"""What the seed crops room shows: the list, a block with its drawing, an inspection's count sheet."""

import csv
import io
import json
import math
from collections.abc import Sequence
from typing import Any

from django.db.models import Prefetch

from aldrip.accounts.context import Ctx
from aldrip.base.errors import Refused
from aldrip.base.importing import neutral
from aldrip.base.words import who
from aldrip.batches.models import Batch
from aldrip.batches.saved import load_batch, saved_of
from aldrip.lots.models import Intake
from aldrip.methods.services import class_scheme
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import in_grams
from aldrip.places.ground import centre_of
from aldrip.seedcrops.blocks import plan_for
from aldrip.seedcrops.flowering import flowering_out, match_of, shedding_from
from aldrip.seedcrops.generations import (
    generations_out,
    rate_of,
    rows_of,
    seed_needed,
    sown_thicker,
    weights_of,
)
from aldrip.seedcrops.inspecting import (
    judgement_of,
    notes_of,
    pictured,
    sample_of,
    table_for,
    tally_of,
)
from aldrip.seedcrops.kilos import gives_of
from aldrip.seedcrops.laying import (
    ROLES,
    LayoutChange,
    check_layout,
    gone_of,
    history_objections,
    kilos,
    kilos_of,
    layout_of,
    left_of,
    plan_rows,
    ring_m,
)
from aldrip.seedcrops.models import Inspection, SeedBlock
from aldrip.seedcrops.signing import choices_for, hours_to_rogue
from aldrip_core.block_gives import BlockGives
from aldrip_core.field_inspection import Judgement
from aldrip_core.geometry import area_m2, to_degrees, to_metres
from aldrip_core.row_plan import RowPlan
from aldrip_core.rows_left import lengths_left, metres_left, rows_left
from aldrip_core.seed_rate import SeedRate

WAYS = ("hybrid", "drilled")


def class_names(ctx: Ctx) -> dict[str, str]:
    scheme = class_scheme(ctx)
    return scheme.names() if scheme else {}


def crops(ctx: Ctx) -> list[dict[str, Any]]:
    """Every batch grown for seed, with its block where it is laid out. A fixed number of queries."""
    names = class_names(ctx)
    rows = (
        ctx.rows(Batch)
        .filter(method__way__in=WAYS)
        .exclude(state=Batch.State.ABANDONED)
        .select_related("crop", "line", "container", "mix", "seed_block__field")
        .prefetch_related(
            "stages__place",
            "allocations__order_line__order",
            "allocations__order_line__crop",
            "allocations__order_line__line",
            "seed_block__parents__sown",
            Prefetch("seed_block__inspections"),
        )
        .order_by("-pk")
    )
    return [_row(batch, names) for batch in rows]


def _row(batch: Batch, names: dict[str, str]) -> dict[str, Any]:
    block = getattr(batch, "seed_block", None)
    saved = saved_of(batch, list(batch.stages.all()))
    asked = [a.order_line for a in batch.allocations.all()]
    seed_class = block.seed_class if block else next((line.seed_class for line in asked), "")
    first = saved.first
    return {
        "batch_id": batch.pk,
        "code": batch.code,
        "crop": batch.crop.name,
        "cultivar": batch.line.name if batch.line else "",
        "way": saved.method.way,
        "state": batch.state,
        "stage": saved.now.name,
        "block_id": block.pk if block else None,
        "field": block.field.name if block else (first.place.name if first.place else ""),
        "seed_class": seed_class,
        "class_name": names.get(seed_class, seed_class),
        "area_m2": batch.start,
        "needed": kilos(batch.needed),
        "expected": kilos(batch.expected),
        "low": kilos(batch.low),
        "high": kilos(batch.high),
        "sow_on": first.actual_start or first.planned.lower,
        "ready_on": saved.last.planned.upper,
        "orders": [line.order.number for line in asked],
        "chance": next((line.chance for line in asked if line.state == OrderLine.State.OPEN), None),
        "delivered": sum(kilos(in_grams(line, line.delivered)) or 0.0 for line in asked),
        "visits": [
            {
                "id": i.pk,
                "number": i.number,
                "words": i.words,
                "state": i.state,
                "decision": i.decision,
                "planned_on": i.planned_on,
            }
            for i in (block.inspections.all() if block else [])
        ],
        "next_visit": next(
            (i.planned_on for i in (block.inspections.all() if block else []) if i.state != Inspection.State.SIGNED),
            None,
        ),
    }


def block_out(ctx: Ctx, block: SeedBlock) -> dict[str, Any]:
    """A block with its rows, parents, flowering, isolation and visits."""
    names = class_names(ctx)
    batch = block.batch
    weights = weights_of(ctx, block)
    tgw, told, lots = weights.tgw, weights.told, weights.lots
    needed, plan = seed_needed(block, weights), rows_of(block, weights)
    rate = rate_of(block, layout_of(block), weights)
    intakes = ctx.rows(Intake).filter(subject=batch.uuid).select_related("lot").order_by("id")
    removal = getattr(block, "male_removal", None)
    return {
        **_row_of(ctx, block, names),
        "version": block.version,
        "step": block.step,
        "outline": block.outline,
        "layout": _layout_out(block),
        "rows": drawing_of(plan, block),
        "area_m2": area_m2(ring_m(block)),
        "parents": [
            {
                "role": p.role,
                "role_words": ROLES[p.role],
                "line": p.line.name,
                "line_id": p.line_id,
                "sow_on": p.sow_on,
                "sowings": p.sowings,
                "sowing_gap_days": p.sowing_gap_days,
                "tgw_g": tgw[p.role],
                "tgw_from": told[p.role],
                "seed_kg": needed.get(p.role),
                "metres": plan.metres.get(p.role) if plan else None,
                "plants": plan.plants.get(p.role) if plan else None,
                "sown": [
                    {"on": s.sown_on, "kg": float(s.kg), "lot": s.lot.code, "lot_id": s.lot_id} for s in p.sown.all()
                ],
                "lots": [
                    {
                        "id": lot.pk,
                        "code": lot.code,
                        "kg": kilos_of(lot),
                        "seed_class": names.get(lot.seed_class, lot.seed_class),
                        "label_number": lot.label_number,
                    }
                    for lot in lots
                    if lot.line_id == p.line_id
                ],
            }
            for p in block.parents.all()
        ],
        "drill": _drill(rate),
        "working": plan.working if plan else rate.working if rate else (),
        "warnings": [w.message for w in plan.warnings] if plan else [],
        "history": history_objections(block),
        "flowering": flowering_out(ctx, block),
        "generations": generations_out(ctx, block, weights),
        "male_out": None if removal is None else {"on": removal.removed_on, "how": removal.how},
        "all_in": batch.all_in,
        "gives": _gives(block),
        "has_male": any(p.role == "M" for p in block.parents.all()),
        "intake_limit": batch.method_snapshot["layout"].get("intake", {}).get("moisture_max"),
        "loads": [
            {
                "id": i.pk,
                "on": ctx.local(i.happened_at).date(),
                "net_kg": float(i.gross_kg - i.tare_kg),
                "moisture_percent": i.moisture_percent,
                "decision": i.decision,
                "lot": i.lot.code if i.lot else "",
                "lot_id": i.lot_id,
            }
            for i in intakes
        ],
        "stages_seen": batch.crop.stages_seen,
        "batch_version": batch.version,
    }


def _gives(block: SeedBlock) -> BlockGives | None:
    try:
        return gives_of(block)
    except Refused:
        return None


def _row_of(ctx: Ctx, block: SeedBlock, names: dict[str, str]) -> dict[str, Any]:
    batch = (
        Batch.objects.select_related("crop", "line", "container", "mix", "seed_block__field")
        .prefetch_related(
            "stages__place",
            "allocations__order_line__order",
            "allocations__order_line__crop",
            "allocations__order_line__line",
            "seed_block__inspections",
        )
        .get(pk=block.batch_id)
    )
    return _row(batch, names)


def _layout_out(block: SeedBlock) -> dict[str, Any]:
    layout = layout_of(block)
    return {name: getattr(layout, name) for name in layout.__dataclass_fields__}


def _drill(rate: SeedRate | None) -> dict[str, Any] | None:
    if rate is None:
        return None
    return {
        "seeds_per_m2": rate.seeds_per_m2,
        "rate_kg_per_ha": rate.rate_kg_per_ha,
        "seed_kg": rate.seed_kg,
        "seeds_per_metre_of_row": rate.seeds_per_metre_of_row,
    }


def drawing_of(plan: RowPlan | None, block: SeedBlock) -> dict[str, Any]:
    """Rows to scale in metres from the outline's lower left corner, and what of the ground counts no more."""
    ring, left, gone = ring_m(block), left_of(block), gone_of(block)
    x0, y0 = min(x for x, _ in ring), min(y for _, y in ring)

    def at(p: Sequence[float]) -> list[float]:
        return [round(p[0] - x0, 2), round(p[1] - y0, 2)]

    rows = plan.rows if plan else ()
    return {
        "outline": [at(p) for p in ring],
        "gone": [[[at(p) for p in one] for one in rings] for rings in gone],
        "metres_left": metres_left(rows, left) if left else None,
        "rows": [
            {
                "index": r.index,
                "line": r.line,
                "part": r.part,
                "length_m": r.length_m,
                "segments": [[at(a), at(b)] for a, b in r.segments],
            }
            for r in rows
        ],
        "female_share": plan.female_share if plan else None,
        "border_metres": plan.border_metres if plan else None,
        "female_share_in_pattern": plan.female_share_in_pattern if plan else None,
        "passes": plan.passes if plan else None,
        "metres": plan.metres if plan else {},
        "plants": plan.plants if plan else {},
        "seed_kg": plan.seed_kg if plan else {},
    }


def preview(ctx: Ctx, block: SeedBlock, change: LayoutChange) -> dict[str, Any]:
    """What a change of the layout does, before and after; nothing is saved."""
    before, after = layout_of(block), change.on(layout_of(block))
    check_layout(after)
    figures: list[dict[str, Any]] = []

    def figure(name: str, old: Any, new: Any, unit: str = "", kind: str = "number", worse: bool = False) -> None:
        figures.append(
            {"name": name, "before": old, "after": new, "unit": unit, "kind": kind, "worse": worse, "note": ""}
        )

    weights = weights_of(ctx, block)
    tgw = weights.tgw
    drawing = None
    if block.pattern:
        one, two = (plan_rows(sown_thicker(block, layout, weights), ring_m(block), tgw) for layout in (before, after))
        figure("Female share", one.female_share, two.female_share, "", "share", two.female_share < one.female_share)
        for role in two.seed_kg:
            figure(f"Seed {role}", one.seed_kg.get(role), two.seed_kg[role], "kg")
            figure(
                f"Rows {role}",
                sum(r.line == role and r.part != "headland" for r in one.rows),
                sum(r.line == role and r.part != "headland" for r in two.rows),
                "rows",
            )
        drawing = drawing_of(two, block)
    else:
        rates = [rate_of(block, layout, weights) for layout in (before, after)]
        for name, attribute, unit in (
            ("Seeds a m²", "seeds_per_m2", ""),
            ("Seed rate", "rate_kg_per_ha", "kg/ha"),
            ("Seed", "seed_kg", "kg"),
        ):
            figure(name, getattr(rates[0], attribute), getattr(rates[1], attribute), unit)
    try:
        old, new = match_of(block, today=ctx.today), match_of(block, sow=dict(change.sow_on), today=ctx.today)
        if old.now and new.now:
            figure(
                "Covered by pollen",
                old.now.overlap,
                new.now.overlap,
                "",
                "share",
                new.now.overlap < old.now.overlap - 1e-6,
            )
            figure("Gap", old.now.gap_days, new.now.gap_days, "days")
        for role, day in change.sow_on.items():
            if role in old.parents:
                figure(f"Sow {role}", old.parents[role].parent.sow, day, "", "day")
        figure("First flowers", old.first, new.first, "", "day")
        flowering = flowering_out(ctx, block, sow=dict(change.sow_on))
    except Refused:
        flowering = None
    saved = load_batch(ctx, block.batch_id)
    plan = plan_for(ctx, saved, min(after.sow_on.values()))
    if plan is not None:
        rows = saved.batch.allocations.select_related("order_line__order")
        late = [a.order_line.order.number for a in rows if plan.ready_on >= a.order_line.due.upper]
        figure("Seed ready", saved.last.planned.upper, plan.ready_on, "", "day", bool(late))
        figures[-1]["note"] = f"too late for order {', '.join(late)}" if late else ""
    return {
        "figures": figures,
        "version": block.version,
        "rows": drawing,
        "flowering": flowering,
        "sentence": f"Change the layout of {block.batch.code}",
    }


MOST_LAST = 12


def last_entries(ctx: Ctx, inspection: Inspection) -> list[dict[str, Any]]:
    """What was counted last and stands, by whom, the newest first: each may be taken back from any phone."""
    rows = (
        inspection.counts.filter(replaces=None, replaced_by=None)
        .annotate(pictured=pictured())
        .select_related("by")
        .order_by("-happened_at", "-id")[:MOST_LAST]
    )
    words = {limit["attribute"]: limit["words"] for limit in inspection.limits}
    return [
        {
            "uuid": one.client_uuid,
            "area": one.area,
            "plants": one.plants,
            "faults": one.faults,
            "words": ", ".join(
                [
                    *([f"{one.plants:,} plants"] if one.plants else []),
                    *(f"{many} {words.get(name, name)}" for name, many in one.faults.items()),
                ]
            )
            or one.note
            or ("a photo" if one.pictured else "nothing"),
            "by": who(one.by),
            "at": ctx.local(one.happened_at),
        }
        for one in rows
    ]


def inspection_out(ctx: Ctx, inspection: Inspection, *, with_table: bool = True) -> dict[str, Any]:
    """A visit with its count so far, and everything that the phone needs without a signal.

    The decision table is the bulk of it and does not change while a count goes on; answers to taps leave it out.
    """
    block = inspection.block
    tally = tally_of(inspection)
    begun = bool(inspection.limits)
    judgement = judgement_of(inspection, tally) if begun else None
    ring = ring_m(block)
    east, north = centre_of(block.field.site)
    x0, y0 = min(x for x, _ in ring), min(y for _, y in ring)
    points = to_metres(inspection.points, longitude=east, latitude=north) if inspection.points else ()
    gone = gone_of(block)
    table = table_for(inspection) if begun and with_table else None
    before = inspection.follows
    try:
        shed = shedding_from(match_of(block))
    except Refused:
        shed = None
    return {
        "id": inspection.pk,
        "block_id": block.pk,
        "batch": block.batch.code,
        "crop": block.batch.crop.name,
        "field": block.field.name,
        "cultivar": block.batch.line.name if block.batch.line else "",
        "number": inspection.number,
        "words": inspection.words,
        "state": inspection.state,
        "planned_on": inspection.planned_on,
        "areas": inspection.areas,
        "plants_per_area": inspection.plants_per_area,
        "sample": sample_of(inspection),
        "standard": inspection.standard.name if inspection.standard else "",
        "limits": [
            {
                **{k: limit[k] for k in ("attribute", "words", "limit")},
                "is_plant": limit.get("is_plant", True),
                "decision": limit.get("decision", "reject_number"),
                "source": limit.get("source", ""),
            }
            for limit in inspection.limits
        ],
        "outline": [[x - x0, y - y0] for x, y in ring],
        "gone": [[[[x - x0, y - y0] for x, y in one] for one in rings] for rings in gone],
        "points": [[x - x0, y - y0] for x, y in points],
        "plants": tally.plants,
        "faults": tally.faults,
        "by_area": {str(k): v for k, v in tally.by_area.items()},
        "last": last_entries(ctx, inspection),
        "notes": [
            {
                "uuid": one.client_uuid,
                "area": one.area,
                "note": one.note,
                "photo": one.pictured,
                "by": who(one.by),
                "at": ctx.local(one.happened_at),
            }
            for one in notes_of(inspection)
        ],
        "judgement": judgement_out(judgement),
        "twice": tally.twice(inspection.plants_per_area) if begun else [],
        "table": None
        if table is None
        else {
            "sample": table.sample,
            "reject_at": table.reject_at,
            "beyond": {k: [list(x) for x in v] for k, v in table.beyond.items()},
            "rows": [{"plants": r.plants, "by_found": [list(x) for x in r.by_found]} for r in table.rows],
        },
        "choices": [c.value for c in choices_for(ctx, inspection, judgement)]
        if judgement and inspection.state == Inspection.State.OPEN
        else [],
        "hours_to_rogue": hours_to_rogue(block, judgement) if judgement else None,
        "shedding_from": shed,
        "decision": inspection.decision,
        "sentence": inspection.sentence,
        "signed_role": inspection.signed_role,
        "signed_at": inspection.signed_at,
        "signed_by": inspection.signed_by.get_full_name() if inspection.signed_by else "",
        "counted": inspection.counted,
        "follows": None
        if before is None
        else {
            "number": before.number,
            "sentence": before.sentence,
            "decision": before.decision,
            "signed_at": before.signed_at,
        },
    }


def judgement_out(judgement: Judgement | None) -> dict[str, Any] | None:
    if judgement is None:
        return None
    return {
        "state": judgement.state.value,
        "more_plants": judgement.more_plants,
        "plants": judgement.plants,
        "faults": [
            {
                "attribute": f.attribute,
                "words": f.words,
                "limit": f.limit,
                "found": f.found,
                "reject_at": f.reject_at,
                "state": f.state.value,
                "low": f.low,
                "high": f.high,
                "likely_low": f.likely_low,
                "likely_high": f.likely_high,
            }
            for f in judgement.faults
        ],
    }


def rows_csv(ctx: Ctx, block: SeedBlock) -> str:
    """The row plan as CSV: every row with its line, part, metres and ends."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(
        ["row", "line", "part", "length_m", "counts_m", "piece", "from_lon", "from_lat", "to_lon", "to_lat"]
    )
    east, north = centre_of(block.field.site)
    plan, left = rows_of(block, weights_of(ctx, block)), left_of(block)
    rows = plan.rows if plan else ()
    counts = iter(lengths_left([segment for row in rows for segment in row.segments], left))
    for row in rows:
        for piece, segment in enumerate(row.segments, start=1):
            (a, b), (c, d) = to_degrees(segment, longitude=east, latitude=north)
            long_m = math.dist(*segment)  # of this piece: a strip across the rows has many
            writer.writerow(
                [
                    row.index + 1,
                    neutral(row.line),
                    row.part,
                    f"{long_m:.2f}",
                    f"{next(counts):.2f}",
                    piece,
                    f"{a:.7f}",
                    f"{b:.7f}",
                    f"{c:.7f}",
                    f"{d:.7f}",
                ]
            )
    return out.getvalue()


def rows_geojson(ctx: Ctx, block: SeedBlock) -> str:
    """The row plan as GeoJSON lines in WGS84, the outline with them."""
    east, north = centre_of(block.field.site)
    plan, left = rows_of(block, weights_of(ctx, block)), left_of(block)
    features: list[dict[str, Any]] = [
        {"type": "Feature", "geometry": block.outline, "properties": {"block": block.batch.code, "part": "outline"}}
    ]
    rows = plan.rows if plan else ()
    for row, counts in zip(rows, rows_left(rows, left), strict=True):
        lines = [[list(p) for p in to_degrees(s, longitude=east, latitude=north)] for s in row.segments]
        features.append(
            {
                "type": "Feature",
                "geometry": {"type": "MultiLineString", "coordinates": lines},
                "properties": {
                    "row": row.index + 1,
                    "line": row.line,
                    "part": row.part,
                    "length_m": round(row.length_m, 2),
                    "counts_m": round(counts, 2),
                },
            }
        )
    return json.dumps({"type": "FeatureCollection", "features": features})
