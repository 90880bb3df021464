"""Quantities as people type them: “12k”, “12,000”, “2 lb”, “131 F”; imperial is pint's, at the edge."""

import re
from functools import lru_cache
from typing import Any

from aldrip_core.refusal import Refused, refuse

_NUMBER = re.compile(r"^\s*([-+]?\s*(?:\d{1,3}(?:[ ,']\d{3})+|\d+)(?:\.\d+)?|[-+]?\.\d+)\s*([^\d\s].*)?$", re.ASCII)
THOUSANDS = {"k": 1e3, "thousand": 1e3, "m": 1e6, "million": 1e6}


@lru_cache(maxsize=1)
def _registry() -> Any:
    import pint  # takes a third of a second to load, and most requests type no unit

    return pint.UnitRegistry(autoconvert_offset_to_baseunit=True)


def split_number(text: str, field: str) -> tuple[float, str]:
    """Number and unit of a typed quantity. A comma before three digits separates thousands.

    Raises Refused when it is no number.
    """
    match = _NUMBER.match(text)
    if match is None:
        raise refuse(field, "not_a_number", f"“{text}” is no number. Write it like 12000, 12,000 or 12k.")
    value = float(re.sub(r"[ ,']", "", match[1]))
    return value, (match[2] or "").strip()


def read_count(text: str, field: str) -> int:
    """A whole count of one or more. A unit in it is refused: the form says what is counted."""
    value, unit = split_number(text, field)
    if unit.lower() in THOUSANDS:
        value, unit = value * THOUSANDS[unit.lower()], ""
    if unit:
        raise refuse(
            field,
            "unit_in_number",
            f"“{text}” has a unit in it. Write the number of plants alone; “{unit}” is not counted here.",
        )
    if value < 0:
        raise refuse(field, "negative", f"{value:,.0f} is less than nothing. How many are wanted?")
    if value == 0:
        raise refuse(field, "nothing", "Nothing is wanted? Write how many, or leave the row out.")
    if value != int(value):
        raise refuse(field, "not_whole", f"{value:g} is not a whole number of plants.")
    if value > 10_000_000:
        raise refuse(
            field, "too_large", f"{value:,.0f} is more than the 10,000,000 that one line may promise. Split it."
        )
    return int(value)


def read_kilos(text: str, field: str) -> int:
    """Whole kilos of seed, from whatever weight was typed. Raises Refused."""
    value = read_measure(text, "kg", field)
    if value <= 0:
        raise refuse(field, "nothing", "Nothing is wanted? Write how many kilos, or leave the row out.")
    if value > 10_000_000:
        raise refuse(
            field, "too_large", f"{value:,.0f} kg is more than the 10,000,000 that one line may promise. Split it."
        )
    if abs(value - round(value)) > 1e-6:
        raise refuse(
            field, "not_whole", f"{value:g} kg: seed is promised in whole kilos here. Write {int(value) + 1} kg."
        )
    return round(value)


def read_measure(text: str, unit: str, field: str) -> float:
    """A measure in `unit` (g, °C, m²), converted from what was typed. Raises Refused."""
    value, typed = split_number(text, field)
    if typed.lower() in ("k", "thousand"):
        value, typed = value * 1000, ""
    if not typed or typed == unit:
        return value
    if typed == "%" and unit == "share":
        return value / 100
    registry = _registry()
    names = {
        "F": "degF",
        "°F": "degF",
        "C": "degC",
        "°C": "degC",
        "m²": "m^2",
        "ft2": "ft^2",
        "m2": "m^2",
        "sq ft": "ft^2",
    }
    try:
        wanted = names.get(unit, unit)
        return float(registry.Quantity(value, names.get(typed, typed)).to(wanted).magnitude)
    except Refused:
        raise
    except Exception:  # pint raises many kinds for what it cannot read
        raise refuse(
            field, "unknown_unit", f"“{typed}” cannot be read as {unit}. Write the number in {unit}."
        ) from None
