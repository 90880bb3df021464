"""Drying: water to take out between two moisture contents on wet basis."""

from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.working import Given, Step, Working


@dataclass(frozen=True, slots=True)
class Drying:
    """Water to remove and the mass that is left at the wanted moisture, both [kg]."""

    water_kg: float
    dry_mass_kg: float
    working: Working = ()
    warnings: tuple[()] = ()


def drying(*, mass_kg: float, from_percent: float, to_percent: float) -> Drying:
    """Water `m·(w1 - w2) ÷ (100 - w2)` [kg] from a mass [kg] at `from_percent` to `to_percent`, wet basis.

    Raises Refused when the wanted moisture is higher than what is there. Source: mass balance of the
    dry matter.

    >>> round(drying(mass_kg=100_000, from_percent=19.5, to_percent=16).water_kg, 2)
    4166.67
    """
    if to_percent > from_percent:
        raise refuse(
            "to_percent",
            "out_of_range",
            f"Drying cannot raise moisture from {from_percent:g} to {to_percent:g} %. Enter a lower wanted moisture.",
        )
    if not 0 <= to_percent < 100 or not from_percent < 100:
        raise refuse("from_percent", "out_of_range", "Moisture on wet basis lies from 0 to below 100 %.")
    water = mass_kg * (from_percent - to_percent) / (100 - to_percent)
    given = (
        Given("mass", mass_kg, "kg"),
        Given("moisture now", from_percent, "%"),
        Given("moisture wanted", to_percent, "%"),
    )
    steps = (
        Step(
            "Water to remove",
            "mass × (now - wanted) ÷ (100 - wanted)",
            given,
            water,
            "kg",
            "mass balance of the dry matter",
        ),
        Step("Mass left", "mass - water", (Given("mass", mass_kg, "kg"),), mass_kg - water, "kg"),
    )
    return Drying(water, mass_kg - water, steps)
