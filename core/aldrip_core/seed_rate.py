"""Seed rate in the field from a plant target."""

from dataclasses import dataclass
from typing import ClassVar

from aldrip_core.refusal import Warn
from aldrip_core.working import Given, Step, Working, computed


@dataclass(frozen=True, slots=True)
class SeedRate:
    """Seeds per m², kilos per hectare and in all, seeds per metre of row."""

    seeds_per_m2: float | None
    rate_kg_per_ha: float | None
    seed_kg: float | None
    seeds_per_metre_of_row: float | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ("seeds_per_m2", "rate_kg_per_ha", "seed_kg")


def seed_rate(
    *,
    target_plants_per_m2: float,
    germination: float,
    tgw_g: float,
    area_ha: float,
    field_factor: float = 1.0,
    purity: float = 1.0,
    row_width_cm: float | None = None,
) -> SeedRate:
    """Seed to sow for a stand: `seeds/m² = target ÷ (germination × field factor)`.

    Rates [0-1]; tgw_g: thousand-grain weight [g]; kg/ha = seeds/m² × TGW ÷ 100, divided by the
    purity of what is weighed. Seeds per metre of row = seeds/m² × row width. Source: common
    practice, no source.

    >>> seed_rate(target_plants_per_m2=40, germination=1, tgw_g=450, area_ha=1).rate_kg_per_ha
    180.0
    """
    establishment = germination * field_factor
    if establishment <= 0 or purity <= 0:
        text = "At a germination, field factor or purity of nothing no stand can be reached."
        return SeedRate(None, None, None, warnings=(Warn("unreachable", text),))
    seeds = target_plants_per_m2 / establishment
    rate = seeds * tgw_g / 100 / purity
    working = [
        Step(
            "Establishment",
            "germination × field factor",
            (Given("germination", germination, "share"), Given("field factor", field_factor, "share")),
            establishment,
            "share",
        ),
        Step(
            "Seeds per m²",
            "target ÷ establishment",
            (Given("target", target_plants_per_m2, "plants/m²"), computed("establishment", establishment)),
            seeds,
            "seeds/m²",
        ),
        Step(
            "Rate",
            "seeds per m² × thousand-grain weight ÷ 100 ÷ purity",
            (
                computed("seeds per m²", seeds),
                Given("thousand-grain weight", tgw_g, "g"),
                Given("purity", purity, "share"),
            ),
            rate,
            "kg/ha",
        ),
        Step(
            "Seed", "rate × area", (computed("rate", rate, "kg/ha"), Given("area", area_ha, "ha")), rate * area_ha, "kg"
        ),
    ]
    per_metre = None
    if row_width_cm is not None:
        per_metre = seeds * row_width_cm / 100
        working.append(
            Step(
                "Seeds per metre of row",
                "seeds per m² × row width",
                (computed("seeds per m²", seeds), Given("row width", row_width_cm, "cm")),
                per_metre,
                "seeds/m",
            )
        )
    return SeedRate(seeds, rate, rate * area_ha, per_metre, tuple(working))
