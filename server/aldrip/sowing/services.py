"""The sowing card: everything the person at the bench needs, from the plan and the library."""

from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.base.schemas import steps
from aldrip.base.words import day, grams, number, share
from aldrip.batches.models import Batch
from aldrip.batches.saved import dates_of, load_batch, request_of
from aldrip_core.media import Media, media

KILOS_TO_LIFT_ALONE = 15


def medium_of(batch: Batch) -> Media | None:
    """Litres of the mix that the batch's trays take; None without trays or mix."""
    if batch.mix is None or batch.container is None or not batch.trays:
        return None
    return media(
        parts=batch.mix.parts, trays=batch.trays, cells_per_tray=batch.container.cells, cell_ml=batch.container.cell_ml,
        settling=batch.mix.settling, spillage=batch.mix.spillage,
    )  # fmt: skip


def card_of(ctx: Ctx, batch_id: int) -> dict[str, Any]:
    """The facts of a sowing card, figures and words."""
    batch, stages = load_batch(ctx, batch_id)
    request = request_of(batch, stages)
    definition, dates = request.definition, dates_of(stages)
    medium = medium_of(batch)
    orders = [a.order_line.order for a in batch.allocations.select_related("order_line__order")]
    lot, by_seed = batch.lot, definition.by_seed
    per_cell = definition.seeds_per_cell
    seeds = round(batch.seeds or 0)
    return {
        "batch_id": batch.pk, "code": batch.code, "version": batch.version, "state": batch.state,
        "organisation": ctx.organisation.name, "verb": "Sow" if by_seed else "Stick", "crop": batch.crop.name,
        "cultivar": batch.line.name if batch.line else "", "sow_on": dates[0].start, "day_words": day(dates[0].start),
        "place": stages[0].place.name if stages[0].place else "the potting shed",
        "orders_words": ", ".join(f"order {o.number} ({o.customer})" for o in orders) or "stock",
        "trays": batch.trays, "trays_words": f"{number(batch.trays)} trays" if batch.trays else "",
        "container": batch.container.name if batch.container else "", "cells": batch.container.cells if batch.container else None,
        "start": batch.start, "units_words": number(batch.start) if not by_seed else number(seeds),
        "units_note": definition.start_unit if not by_seed else f"seeds, {per_cell} a cell",
        "seeds": batch.seeds, "grams": batch.seed_g, "grams_words": grams(batch.seed_g) if batch.seed_g else "",
        "lot_id": batch.lot_id, "lot": lot.code if lot else "", "lot_left": float(lot.balance) if lot else None,
        "lot_words": _lot_words(batch) if by_seed else "", "mix": batch.mix.name if batch.mix else "",
        "litres": medium.litres if medium else None, "litres_words": number(medium.litres, 1) if medium else "",
        "parts": [
            {"name": name, "litres": litres, "litres_words": number(litres, 1)} for name, litres in (medium.by_part if medium else {}).items()
        ],
        "medium_note": batch.mix.note if batch.mix else "", "steps": _steps(batch, definition.water_l_per_tray),
        "next": [
            {"words": f"{s.name}: {s.place.name if s.place else 'no place yet'}", "day_words": day(d.start), "start": d.start}
            for s, d in zip(stages[1:], dates[1:], strict=True) if s.kind not in ("grade",)
        ],
        "watch_for": batch.crop.watch_for, "cautions": _cautions(batch),
        "working": steps(medium.working) if medium else [],
    }  # fmt: skip


def _lot_words(batch: Batch) -> str:
    lot = batch.lot
    if lot is None:
        return "no lot chosen yet"
    tested = f", tested {share(lot.germination)}" if lot.germination is not None else ", not tested"
    return f"lot {lot.code}, {grams(float(lot.balance))} left{tested}"


def _steps(batch: Batch, water_l: float | None) -> list[dict[str, str]]:
    crop = batch.crop
    rows = [{"label": "Fill", "words": "Fill, strike level, settle by two knocks; do not press hard"}]
    if crop.depth_mm is not None:
        deep = "on the surface" if crop.depth_mm == 0 else f"{crop.depth_mm:g} mm deep, all cells alike"
        rows.append({"label": "Depth", "words": deep})
    if crop.cover:
        rows.append({"label": "Cover", "words": crop.cover})
    if water_l and batch.trays:
        total = water_l * batch.trays
        rows.append(
            {
                "label": "Water",
                "words": f"{water_l:g} L a tray as mist first, until the base is wet: {number(total)} L in all",
            }
        )
    rows.append({"label": "Label", "words": f"{batch.code} on every tray before you cover"})
    return rows


def _cautions(batch: Batch) -> list[str]:
    found = list(batch.crop.cautions) + list(batch.mix.cautions if batch.mix else [])
    if batch.lot is not None and batch.lot.treatment:
        found.append(f"Seed treated with {batch.lot.treatment}: gloves, never food or feed.")
    wet = batch.container.wet_kg if batch.container else None
    if wet:
        stack = int(KILOS_TO_LIFT_ALONE // wet)
        found.append(f"A watered tray weighs about {wet:g} kg: carry {stack if stack > 1 else 'one'} at a time.")
    for stage in batch.method_snapshot["stages"]:
        found.extend(t["caution"] for t in stage["tasks"] if t.get("caution") and stage["kind"] in ("sow", "germinate"))
    return list(dict.fromkeys(found))
