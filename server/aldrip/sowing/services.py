"""The sowing card: everything the person at the bench needs, from the plan and what it was planned with."""

from collections.abc import Mapping
from typing import Any

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import refuse
from aldrip.base.pdf import qr
from aldrip.base.schemas import steps
from aldrip.base.words import day, grams, number, plural, share
from aldrip.batches.medium import filled, medium_of
from aldrip.batches.models import Batch
from aldrip.batches.saved import Saved, dates_of, load_batch, snapshot_of
from aldrip.lots.models import MediumUse
from aldrip.lots.moving import shown_of
from aldrip.lots.taking import balance_words
from aldrip.methods.snapshot import container_spec
from aldrip.sowing.dressings import mixed_in
from aldrip_core.cutting_day import blade_cautions, setting
from aldrip_core.media import cover_litres
from aldrip_core.schedule import StageDates
from aldrip_core.stages import Part, Trait
from aldrip_core.units import Unit, unit

KILOS_TO_LIFT_ALONE = 15
#: What is done with what a batch is begun with, to do and done.
VERBS = {
    Part.SEED: ("Sow", "sown"),
    Part.CUTTING: ("Stick", "stuck"),
    Part.TUBER: ("Set", "set"),
    Part.DIVISION: ("Set", "set"),
    Part.PLANT: ("Plant", "planted"),
    Part.SCION: ("Graft", "grafted"),
    Part.ROOTSTOCK: ("Graft", "grafted"),
}


def trays_words(batch: Batch, container: Mapping[str, Any] | None) -> str:
    """How many trays are filled, and how much of the last one."""
    if not batch.trays:
        return ""
    whole, rest = divmod(batch.start, container["cells"]) if container else (batch.trays, 0)
    if not rest:
        return plural(batch.trays, "tray")
    of = (
        f"{number(rest)} of the {number(container['cells'])} cells of {'another' if whole else 'a tray'}"
        if container
        else ""
    )
    return f"{plural(whole, 'tray')} and {of}" if whole else of


def card_of(ctx: Ctx, batch_id: Ref) -> dict[str, Any]:
    """The facts of a sowing card, figures and words."""
    saved = load_batch(ctx, batch_id)
    batch, method, snapshot = saved.batch, saved.method, snapshot_of(saved.batch)
    dates, mix = dates_of(saved), snapshot["mix"]
    container = snapshot["containers"].get(snapshot["container"])
    medium = medium_of(batch, snapshot)
    orders = [a.order_line.order for a in batch.allocations.select_related("order_line__order")]
    lot, by_seed, first = batch.lot, method.by_seed, saved.first
    sow_on = dates[method.root.key].start
    seeds = round(batch.seeds or 0)
    return {
        "batch_id": batch.pk,
        "code": batch.code,
        "version": batch.version,
        "state": batch.state,
        "organisation": ctx.organisation.name,
        "verb": "Sow" if by_seed else VERBS.get(part_of(snapshot), ("Begin", ""))[0],
        "crop": batch.crop.name,
        "cultivar": batch.line.name if batch.line else "",
        "sow_on": sow_on,
        "day_words": day(sow_on),
        "place": first.place.name if first.place else "the potting shed",
        "orders_words": ", ".join(f"order {o.number} ({o.customer})" for o in orders) or "stock",
        "trays": batch.trays,
        "trays_words": trays_words(batch, container),
        "container": container["name"] if container else "",
        "cells": container["cells"] if container else None,
        "start": batch.start,
        "units_words": number(batch.start) if not by_seed else number(seeds),
        "units_note": method.start_unit.words if not by_seed else f"seeds, {method.seeds_per_cell} a cell",
        "seeds": batch.seeds,
        "grams": batch.seed_g,
        "grams_words": grams(batch.seed_g) if batch.seed_g else "",
        "lot_id": batch.lot_id,
        "lot": lot.code if lot else "",
        "lot_left": shown_of(lot) if lot else None,
        "lot_unit": lot.unit if lot else "",
        "lot_words": _lot_words(batch) if by_seed else "",
        "filled_from": [
            {"code": one.medium.code, "words": f"{one.medium.name}, {number(float(one.litres))} L. {one.said}"}
            for one in ctx.rows(MediumUse).filter(subject=batch.uuid).select_related("medium").order_by("pk")
        ],
        "mix": mix["name"] if mix else "",
        "litres": medium.litres if medium else None,
        "litres_words": number(medium.litres, 1) if medium else "",
        "parts": [
            {"name": name, "litres": litres, "litres_words": number(litres, 1)}
            for name, litres in (medium.by_part if medium else {}).items()
        ],
        "more_media": more_media(saved, snapshot),
        "mixed_in": mixed_in(ctx, mix, medium.litres if medium else 0.0),
        "medium_note": mix["note"] if mix else "",
        "steps": _steps(batch, snapshot),
        "next": [
            {
                "words": _stay(s.place.name if s.place else "no place yet", s.name, dates[key]),
                "day_words": day(dates[key].start),
                "start": dates[key].start,
            }
            for key, s in saved.stages.items()
            if key != method.root.key and not method.by_key[key].does(Trait.GRADES)
        ],
        "watch_for": snapshot["crop"]["watch_for"],
        "cautions": _cautions(saved, snapshot),
        "working": steps(medium.working) if medium else [],
    }


def more_media(saved: Saved, snapshot: Mapping[str, Any]) -> list[dict[str, Any]]:
    """What is needed beside the mix of the trays: the cover of the sowing, and the mix of what is potted or pricked on later."""
    batch, method = saved.batch, saved.method
    container = snapshot["containers"].get(snapshot["container"])
    found: list[tuple[str, float]] = []
    depth = batch.crop.depth_mm
    if method.by_seed and container is not None and batch.trays and depth and snapshot["crop"].get("cover"):
        found.append(
            (
                f"Cover, {depth:g} mm",
                cover_litres(area_m2=batch.trays * container_spec(container).area_m2, depth_mm=depth),
            )
        )
    mix = snapshot["mix"]
    extra = 1 + (mix["settling"] + mix["spillage"] if mix else 0.0)
    for spec in method.stages:
        if spec.after is None or spec.container is None or not spec.container.cell_ml:
            continue
        into = saved.stages[spec.after].out * spec.share
        what = f"{spec.name}: {number(into)} in {spec.container.name}"
        found.append((what, into * spec.container.cell_ml / 1000 * extra))
    return [{"name": name, "litres": litres, "litres_words": number(litres, 1)} for name, litres in found]


def _stay(place: str, name: str, when: StageDates) -> str:
    """Where the trays go and until when: the day beside it is that of the move, this one that of the stage's name."""
    until = f"{when.end:%a} {when.end.day} {when.end:%b}"
    return f"{place}, until {name.lower()} about {until}" if when.end > when.start else f"{place}: {name.lower()}"


def _lot_words(batch: Batch) -> str:
    lot = batch.lot
    if lot is None:
        return "no lot chosen yet"
    tested = f", tested {share(lot.germination)}" if lot.germination is not None else ", not tested"
    left = grams(float(lot.balance)) if unit(lot.unit) is Unit.GRAM else balance_words(lot)
    return f"lot {lot.code}, {left} left{tested}"


def part_of(snapshot: Mapping[str, Any]) -> Part:
    """What a batch is begun with."""
    return Part(next((stage["takes"] for stage in snapshot["stages"] if not stage["after"]), "") or Part.SEED)


def _steps(batch: Batch, snapshot: Mapping[str, Any]) -> list[dict[str, str]]:
    crop, water_l = snapshot["crop"], snapshot["water_l_per_tray"]
    rows = [{"label": "Fill", "words": "Fill, strike level, settle by two knocks; do not press hard"}]
    part = part_of(snapshot)
    rows += [{"label": label, "words": words} for label, words in setting(part)]
    if part is Part.SEED and crop["depth_mm"] is not None:
        deep = "on the surface" if crop["depth_mm"] == 0 else f"{crop['depth_mm']:g} mm deep, all cells alike"
        rows.append({"label": "Depth", "words": deep})
    if part is Part.SEED and crop["cover"]:
        rows.append({"label": "Cover", "words": crop["cover"]})
    container = snapshot["containers"].get(snapshot["container"])
    if water_l and batch.trays:
        total = water_l * (filled(batch, container) if container else batch.trays)
        rows.append(
            {
                "label": "Water",
                "words": f"{water_l:g} L a tray as mist first, until the base is wet: {number(total)} L in all",
            }
        )
    rows.append({"label": "Label", "words": f"{batch.code} on every tray before you cover"})
    return rows


def _cautions(saved: Saved, snapshot: Mapping[str, Any]) -> list[str]:
    batch, mix = saved.batch, snapshot["mix"]
    found = list(snapshot["crop"]["cautions"]) + list(mix["cautions"] if mix else [])
    told = {caution.split()[0].strip(":;,").lower() for caution in found}
    blades = blade_cautions(part_of(snapshot))
    found += [caution for caution in blades if caution.split()[0].strip(":;,").lower() not in told]
    if batch.lot is not None and batch.lot.treatment and batch.lot.form == Part.SEED.value:
        found.append(f"Seed treated with {batch.lot.treatment}: gloves, never food or feed.")
    container = snapshot["containers"].get(snapshot["container"])
    wet = container["wet_kg"] if container else None
    if wet:
        stack = int(KILOS_TO_LIFT_ALONE // wet)
        found.append(f"A watered tray weighs about {wet:g} kg: carry {stack if stack > 1 else 'one'} at a time.")
    for stage in saved.method.stages:
        if stage.does(Trait.STARTS) or stage.does(Trait.EMERGES):
            found.extend(task.caution for task in stage.tasks if task.caution)
    return list(dict.fromkeys(found))


MOST_LABELS = 600
ACROSS, DOWN, WIDE_MM, HIGH_MM = 3, 8, 64, 35


def _label_sheets(many: int) -> list[list[dict[str, int]]]:
    """Where each label lies on its A4 sheet, in mm: laid out by hand, since a flowing page of hundreds takes minutes."""
    labels = [{"tray": n + 1, "x": n % ACROSS * WIDE_MM, "y": n // ACROSS % DOWN * HIGH_MM} for n in range(many)]
    return [labels[first : first + ACROSS * DOWN] for first in range(0, many, ACROSS * DOWN)]


def tray_labels_of(ctx: Ctx, batch_id: Ref, roll: bool = False) -> dict[str, Any]:
    """The facts of a batch's tray labels, one a tray: its code to scan and to read, the crop, the day, the tray's number.

    roll: each on a page of its own size, for a printer of labels; else on sheets.
    """
    card = card_of(ctx, batch_id)
    many = card["trays"] or 0
    if not many:
        raise refuse("batch_id", "no_trays", f"Batch {card['code']} stands in no trays, so there is nothing to label.")
    if many > MOST_LABELS:
        raise refuse(
            "batch_id",
            "too_many",
            f"{many:,} labels are more than the {MOST_LABELS} of one file. Label the benches, or split the batch.",
        )
    ready = load_batch(ctx, batch_id, light=True).last.planned.upper
    names = ("code", "crop", "cultivar", "lot", "day_words")
    return {
        **{name: card[name] for name in names},
        "verb": dict(VERBS.values()).get(card["verb"], "begun"),
        "ready_words": f"ready {day(ready)}",
        "many": many,
        "roll": roll,
        "sheets": [[{"tray": n + 1, "x": 0, "y": 0}] for n in range(many)] if roll else _label_sheets(many),
        "qr": qr(card["code"], pixels=True),
    }
