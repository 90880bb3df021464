"""One sowing from end to end, from the batch as it stands: seed, trays, medium, bench, water and hours in one line."""

import re
from collections.abc import Sequence

from django.db.models import Sum

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_measure, split_number
from aldrip.batches.medium import filled, medium_of
from aldrip.batches.saved import load_batch, snapshot_of
from aldrip.diary.models import Task
from aldrip_core.sowing_chain import Link, SownTray, sowing_chain

_SPACED = re.compile(r"^(.+?)\s*(?:x|×|by)\s*(.+)$", re.IGNORECASE)
HECTARE_CM2 = 1e8
PER = {"/ha": 1.0, "a ha": 1.0, "/m²": 1e4, "/m2": 1e4, "/acre": 1 / 0.40468564224, "": 1.0}


def planted(text: str) -> float | None:
    """Plants a hectare as people say it: “40,000”, “4/m²”, “12,000/acre”, “45 × 45 cm”, “18 in × 3 ft”. Raises Refused."""
    plain = text.strip()
    if not plain:
        return None
    spaced = _SPACED.match(plain)
    if spaced is not None:
        wide = read_measure(spaced[2], "cm", "planted")
        unit = split_number(spaced[2], "planted")[1] if not split_number(spaced[1], "planted")[1] else ""
        long = read_measure(f"{spaced[1]} {unit}".strip(), "cm", "planted")
        if not (long > 0 and wide > 0):
            raise refuse("planted", "out_of_range", "How far apart? Write it as “45 × 45 cm”.")
        return HECTARE_CM2 / (long * wide)
    value, unit = split_number(plain, "planted")
    if unit[:1].lower() == "k":
        value, unit = value * 1000, unit[1:]
    per = PER.get(unit.lower().removeprefix("plants").strip())
    if per is None:
        told = f"“{plain}” cannot be read. Write plants a hectare, or how far apart: “40,000/ha”, “45 × 45 cm”."
        raise refuse("planted", "unknown_unit", told)
    return value * per


def chain_of(ctx: Ctx, batch_id: Ref, text: str = "") -> Sequence[Link]:
    """Every figure of a batch's sowing; none where it stands in no trays. Raises Refused."""
    batch = load_batch(ctx, batch_id).batch
    snapshot = snapshot_of(batch)
    container = snapshot["containers"].get(snapshot["container"])
    per_ha = planted(text)
    if container is None or not batch.trays:
        return ()
    medium = medium_of(batch, snapshot)
    minutes = ctx.rows(Task).filter(subject=batch.uuid).aggregate(all=Sum("minutes"))["all"]
    lot = batch.lot
    tgw = (lot.tgw_g or lot.crop.tgw_g) if lot is not None else batch.crop.tgw_g
    tray = SownTray(
        filled(batch, container),
        container["cells"],
        container["length_cm"],
        container["width_cm"],
        snapshot["water_l_per_tray"],
    )
    return sowing_chain(
        tray=tray,
        seeds=batch.seeds,
        seed_g=batch.seed_g,
        tgw_g=tgw,
        plants=batch.expected,
        medium_l=medium.litres if medium else None,
        minutes=minutes or 0,
        plants_per_ha=per_ha,
    )
