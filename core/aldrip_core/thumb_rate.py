"""A rule of thumb for how much seed is sown, against the plants that are wanted of it and what is lost on the way."""

from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.working import Given, Origin, Step, Working, computed

HECTARE_M2 = 10_000
NEARLY = 0.1  # of what is needed: a rate within it is the same rate


@dataclass(frozen=True, slots=True)
class ThumbRate:
    """What a rate buys: seeds a plant wanted, the share lost that it reckons with, and the rate that the records ask for.

    `verdict`: `enough` as far as a tenth either way, `more` or `less` than is needed.
    """

    seeds_per_ha: float
    seeds_per_plant: float
    lost: float
    needed_per_plant: float
    needed_kg_per_ha: float
    verdict: str
    working: Working = ()


def thumb_rate(*, rate_kg_per_ha: float, tgw_g: float, plants_per_ha: float, kept: float) -> ThumbRate:
    """A rate of seed [kg/ha] against plants wanted a hectare, where of each seed a share `kept` [0-1] becomes one.

    tgw_g: weight of a thousand seeds [g]. Raises Refused. Source: arithmetic.

    >>> found = thumb_rate(rate_kg_per_ha=0.6, tgw_g=4, plants_per_ha=50_000, kept=0.5)
    >>> round(found.seeds_per_ha), round(found.seeds_per_plant, 2), found.verdict, round(found.needed_kg_per_ha, 2)
    (150000, 3.0, 'more', 0.4)
    """
    for name, value in (("rate_kg_per_ha", rate_kg_per_ha), ("tgw_g", tgw_g), ("plants_per_ha", plants_per_ha)):
        if not value > 0:
            raise refuse(name, "out_of_range", "More than nothing is needed.")
    if not 0 < kept <= 1:
        raise refuse("kept", "out_of_range", "Of the seeds a share above 0 and up to 1 becomes a plant.")
    seeds = rate_kg_per_ha * 1e6 / tgw_g
    each, needed = seeds / plants_per_ha, 1 / kept
    wanted = plants_per_ha * needed * tgw_g / 1e6
    verdict = "enough" if abs(each - needed) <= NEARLY * needed else "more" if each > needed else "less"
    weight = Given("weight of a thousand", tgw_g, "g", Origin.LIBRARY)
    plants = Given("planted", plants_per_ha, "plants/ha")
    working = (
        Step(
            "Seeds a hectare",
            "kilos × 1,000,000 ÷ weight of a thousand",
            (Given("rate", rate_kg_per_ha, "kg/ha"), weight),
            seeds,
            "seeds/ha",
        ),
        Step("Seeds a plant", "seeds a hectare ÷ plants a hectare", (computed("seeds a hectare", seeds), plants), each),
        Step(
            "Seeds a plant that are needed", "1 ÷ share kept", (Given("kept", kept, "share", Origin.RECORDS),), needed
        ),
        Step(
            "Rate that is needed",
            "plants a hectare × seeds a plant × weight of a thousand ÷ 1,000,000",
            (plants, computed("seeds a plant", needed), weight),
            wanted,
            "kg/ha",
        ),
    )
    return ThumbRate(seeds, each, max(0.0, 1 - plants_per_ha / seeds), needed, wanted, verdict, working)
