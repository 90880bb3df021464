"""Solid feed: from what each plant or square metre gets to kilos, kilos a hectare and nutrients; and what is mixed into a medium."""

from collections.abc import Mapping
from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.tank_card import from_label
from aldrip_core.working import Given, Step, Working, computed

M2_PER_HA = 10_000.0
MOST_MIXED_IN = 200.0  # kg/m³


@dataclass(frozen=True, slots=True)
class Dressing:
    """One dressing: kilos in all; kilos a hectare of the ground they stand on and nutrients of these, None where that is not known."""

    kg: float
    kg_per_ha: float | None
    nutrients_kg_per_ha: dict[str, float]
    working: Working = ()


def dressing(*, grams_each: float, many: float, ground_m2: float | None, contains: Mapping[str, float]) -> Dressing:
    """What `grams_each` come to for so many, each on `ground_m2`; contains: % of the product's weight, as its bag says.

    Raises Refused. Source: arithmetic.

    >>> found = dressing(grams_each=10, many=4000, ground_m2=0.25, contains={"N": 15})
    >>> found.kg, found.kg_per_ha, found.nutrients_kg_per_ha
    (40.0, 400.0, {'N': 60.0})
    """
    if grams_each <= 0 or many <= 0:
        raise refuse("amount", "nothing", "How much does each get? More than nothing.")
    kg = grams_each * many / 1000
    working = [Step("In all", "each × how many", (Given("each", grams_each, "g"), Given("how many", many)), kg, "kg")]
    if not ground_m2:
        return Dressing(kg, None, {}, tuple(working))
    per_ha = grams_each / 1000 / ground_m2 * M2_PER_HA
    both = (Given("each", grams_each, "g"), Given("ground each", ground_m2, "m²"))
    working.append(Step("A hectare", "each ÷ ground each", both, per_ha, "kg/ha"))
    shares = _in_order(contains)
    found = {element: per_ha * share for element, share in shares.items()}
    for element, value in found.items():
        of = (computed("a hectare", per_ha, "kg/ha"), Given("share", shares[element], "share"))
        working.append(Step(element, "a hectare × its share", of, value, "kg/ha"))
    return Dressing(kg, per_ha, found, tuple(working))


def _in_order(contains: Mapping[str, float]) -> dict[str, float]:
    """Shares of the elements [0-1], nitrogen, phosphorus and potassium first, as they are always named."""
    found = from_label(contains)
    first = [element for element in ("N", "P", "K") if element in found]
    return {element: found[element] / 100 for element in (*first, *(one for one in found if one not in first))}


@dataclass(frozen=True, slots=True)
class Amended:
    """What is mixed into a medium: grams in all, and milligrams of each nutrient in a litre of it."""

    grams: float
    mg_per_l: dict[str, float]


def amended(*, litres: float, kg_per_m3: float, contains: Mapping[str, float]) -> Amended:
    """So much of a product in a medium; a kilogram a cubic metre is a gram a litre. Raises Refused. Source: arithmetic.

    >>> found = amended(litres=200, kg_per_m3=3.7, contains={"N": 14})
    >>> round(found.grams), round(found.mg_per_l["N"])
    (740, 518)
    """
    if litres < 0 or not 0 < kg_per_m3 <= MOST_MIXED_IN:
        raise refuse(
            "kg_per_m3",
            "out_of_range",
            f"{kg_per_m3:g} kg in a cubic metre cannot be; above 0, up to {MOST_MIXED_IN:g}.",
        )
    nutrients = {element: kg_per_m3 * share * 1000 for element, share in _in_order(contains).items()}
    return Amended(litres * kg_per_m3, nutrients)
