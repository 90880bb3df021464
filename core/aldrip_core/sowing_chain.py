"""One sowing read from end to end: seed, cells, plants, trays, medium, pallets, bench, water and hours, each from the one before."""

from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Origin, Step, Working, computed

PALLET_CM = (120.0, 80.0)  # common practice, no source
HIGH = 15  # trays on each other; 15 to 20 (common practice, no source)


@dataclass(frozen=True, slots=True)
class SownTray:
    """What a sowing stands in: trays as far as they are filled, their cells and size, water at sowing [L a tray]."""

    trays: float
    cells: int
    length_cm: float
    width_cm: float
    water_l: float | None = None

    @property
    def area_cm2(self) -> float:
        return self.length_cm * self.width_cm


@dataclass(frozen=True, slots=True)
class Link:
    """One figure of a chain, with how it came about."""

    key: str
    label: str
    value: float
    unit: str
    working: Working
    note: str = ""  # what it means, in a sentence


def on_a_pallet(length_cm: float, width_cm: float) -> int:
    """Trays of a size that lie beside each other on a pallet, all turned the same way; at least one.

    >>> on_a_pallet(60, 40), on_a_pallet(53, 31)
    (4, 4)
    """
    long, wide = PALLET_CM
    ways = (int(long // length_cm) * int(wide // width_cm), int(long // width_cm) * int(wide // length_cm))
    return max(1, *ways)


def sowing_chain(
    *,
    tray: SownTray,
    seeds: float | None,
    seed_g: float | None,
    tgw_g: float | None,
    plants: float,
    medium_l: float | None,
    minutes: float,
    plants_per_ha: float | None = None,
) -> tuple[Link, ...]:
    """Every figure of a sowing, in the order in which one follows from the other; what is not known is left out.

    `plants`: good ones expected of it; `minutes`: of all its planned work; `plants_per_ha`: how they will be planted.
    Raises Refused. Source: arithmetic.
    """
    if tray.trays <= 0:
        raise refuse("trays", "nothing", "Nothing stands in trays.")
    if plants_per_ha is not None and not 0 < plants_per_ha <= 5_000_000:
        raise refuse("plants_per_ha", "out_of_range", "How many plants a hectare? More than none, at most 5,000,000.")
    of_seed = _seed(tray, seeds, seed_g, tgw_g)
    return (*of_seed, *_plants(tray, plants, plants_per_ha), *_bench(tray, medium_l, minutes))


def _link(key: str, label: str, value: float, unit: str, formula: str, *given: Given) -> Link:
    return Link(key, label, value, unit, (Step(label, formula, given, value, unit),))


def _trays(tray: SownTray) -> Given:
    return computed("trays filled", tray.trays)


def _seed(tray: SownTray, seeds: float | None, seed_g: float | None, tgw_g: float | None) -> list[Link]:
    links = []
    if seed_g is not None:
        links.append(_link("seed", "Seed", seed_g / 1000, "kg", "grams ÷ 1000", Given("seed", seed_g, "g")))
    if seeds is None:
        return links
    many = Given("seeds", seeds)
    if seed_g is not None and tgw_g:
        of = Given("weight of a thousand", tgw_g, "g", Origin.LIBRARY)
        formula = "seeds × weight of a thousand ÷ 1,000,000"
        links.append(_link("thousand", "So many seeds weigh", seeds * tgw_g / 1e6, "kg", formula, many, of))
    whole = tray.trays * tray.area_cm2
    area = computed("area of the trays", whole, "cm²")
    formula = "seeds ÷ area of the trays"
    links.append(_link("seeds_cm2", "Seeds a cm²", seeds / whole, "seeds/cm²", formula, many, area))
    each = seeds / tray.trays
    links.append(_link("seeds_tray", "Seeds a tray", each, "seeds", "seeds ÷ trays", many, _trays(tray)))
    return links


def _plants(tray: SownTray, plants: float, plants_per_ha: float | None) -> list[Link]:
    each, expected = plants / tray.trays, Given("expected", plants, "plants")
    formula = "expected ÷ trays"
    links = [_link("plants_tray", "Good plants a tray", each, "plants", formula, expected, _trays(tray))]
    if plants_per_ha is None or each <= 0:
        return links
    ground, of = Given("planted", plants_per_ha, "plants/ha"), computed("plants a tray", each)
    formula = "plants a hectare ÷ plants a tray"
    links.append(_link("trays_ha", "Trays a hectare", plants_per_ha / each, "trays", formula, ground, of))
    formula = "expected ÷ plants a hectare"
    links.append(_link("hectares", "They plant", plants / plants_per_ha, "ha", formula, expected, ground))
    return links


def _bench(tray: SownTray, medium_l: float | None, minutes: float) -> list[Link]:
    links, trays = [], _trays(tray)
    if medium_l is not None:
        medium = Given("medium", medium_l, "L")
        links.append(_link("medium", "Medium", medium_l, "L", "as on the card", medium))
        each = medium_l / tray.trays
        links.append(_link("medium_tray", "Medium a tray", each, "L", "medium ÷ trays", medium, trays))
    layer = on_a_pallet(tray.length_cm, tray.width_cm)
    pallets = ceil_whole(tray.trays / (layer * HIGH))
    beside = computed("in a layer of 120 × 80 cm", layer)
    layers = Given("layers", HIGH, origin=Origin.LIBRARY, source="common practice, no source")
    formula = "trays ÷ (trays in a layer × layers), whole"
    links.append(_link("pallets", "Pallets", pallets, "pallets", formula, trays, beside, layers))
    size = Given("tray", tray.area_cm2 / 10_000, "m²", Origin.LIBRARY)
    bench = ceil_whole(tray.trays) * tray.area_cm2 / 10_000
    links.append(_link("bench", "Bench, tray to tray", bench, "m²", "whole trays × area of one", trays, size))
    if tray.water_l:
        water = Given("water a tray", tray.water_l, "L", Origin.LIBRARY)
        all_of_it = tray.trays * tray.water_l
        links.append(_link("water", "Water at sowing", all_of_it, "L", "trays × water a tray", trays, water))
    if minutes > 0:
        work = Given("minutes", minutes, "min")
        links.append(_link("hours", "Work planned", minutes / 60, "h", "minutes of its tasks ÷ 60", work))
    return links
