"""One sowing from end to end, from the batch as it stands: seed, trays, medium, bench, water and hours in one line."""

import re
from collections.abc import Sequence

from django.db.models import Sum

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_measure, split_number
from aldrip.base.words import number, share
from aldrip.batches.medium import filled, medium_of
from aldrip.batches.saved import load_batch, snapshot_of
from aldrip.diary.models import Task
from aldrip_core.sowing_chain import Link, SownTray, sowing_chain
from aldrip_core.thumb_rate import thumb_rate

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


def _by_rule(rate: str, per_ha: float | None, tgw_g: float | None, seeds: float | None, plants: float) -> list[Link]:
    """What a rate of seed that somebody was told would buy, against what this batch needs. Raises Refused."""
    kg_per_ha = read_measure(rate, "kg/ha", "rate")
    if per_ha is None:
        raise refuse("planted", "missing", "A rate is held against plants: say how they are planted, “45 × 45 cm”.")
    if not tgw_g:
        raise refuse(
            "rate", "no_weight", "What a thousand seeds weigh is not known here. Write it at the lot, or at the crop."
        )
    if not seeds or plants <= 0:
        raise refuse("rate", "not_sown", "Nothing is known of how many seeds become plants.")
    found = thumb_rate(rate_kg_per_ha=kg_per_ha, tgw_g=tgw_g, plants_per_ha=per_ha, kept=min(1.0, plants / seeds))
    bought = f"This rate buys {number(found.seeds_per_plant, 1)} seeds for every plant that is wanted"
    lost = f"of these seeds {share(1 - min(1.0, plants / seeds))} are reckoned lost"
    note = {
        "more": f"{bought}; {lost}, so {number(found.needed_per_plant, 1)} do: the rest is sown for nobody.",
        "less": f"{bought}; {lost}, so it takes {number(found.needed_per_plant, 1)}: with this rate there will be gaps.",
        "enough": f"{bought}; {lost}: it is about what is needed.",
    }[found.verdict]
    small = found.needed_kg_per_ha < 1
    needed, unit = (found.needed_kg_per_ha * 1000, "g/ha") if small else (found.needed_kg_per_ha, "kg/ha")
    return [
        Link("rate_plant", "Seeds a plant by that rate", found.seeds_per_plant, "seeds", found.working[:2], note),
        Link("rate_needed", "Rate that is needed", needed, unit, found.working[2:]),
    ]


def chain_of(ctx: Ctx, batch_id: Ref, text: str = "", rate: str = "") -> Sequence[Link]:
    """Every figure of a batch's sowing; none where it stands in no trays. `rate`: of seed, by a rule of thumb. Raises Refused."""
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
    told = _by_rule(rate, per_ha, tgw, batch.seeds, batch.expected) if rate.strip() else []
    links = sowing_chain(
        tray=tray,
        seeds=batch.seeds,
        seed_g=batch.seed_g,
        tgw_g=tgw,
        plants=batch.expected,
        medium_l=medium.litres if medium else None,
        minutes=minutes or 0,
        plants_per_ha=per_ha,
    )
    return (*links, *told)
