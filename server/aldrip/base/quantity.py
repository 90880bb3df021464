"""Quantities as people type them: “12k”, “12,000”, “2 lb”, “131 F”; imperial is pint's, at the edge."""

import math
import re
import unicodedata
from functools import lru_cache
from typing import Any

from aldrip_core.refusal import Refused, refuse
from aldrip_core.units import Quantity, Unit, exact, unit

GAPS = " '\u2019\u00a0\u2009\u202f"  # what stands between thousands and can be nothing else
_NUMBER = re.compile(rf"^\s*([-+]?)\s*([\d.,]+(?:[{GAPS}]\d{{3}})*(?:[.,]\d+)?)\s*([^\d\s.,].*)?$", re.ASCII)
_WRITTEN = (  # how a number is written; what stands before the fraction, and the fraction
    re.compile(rf"^(\d{{1,3}}(?:[{GAPS}]\d{{3}})+)(?:[.,](\d+))?$", re.ASCII),
    re.compile(r"^([1-9]\d{0,2}(?:,\d{3})+)(?:\.(\d+))?$", re.ASCII),
    re.compile(r"^([1-9]\d{0,2}(?:\.\d{3}){2,}|[1-9]\d{0,2}(?:\.\d{3})+(?=,))(?:,(\d+))?$", re.ASCII),
    re.compile(r"^(\d*)[.,](\d+)$", re.ASCII),
    re.compile(r"^(\d+)()$", re.ASCII),
)
_EITHER = re.compile(r"^[1-9]\d{0,2}\.\d{3}$", re.ASCII)
THOUSANDS = {"k": 1e3, "thousand": 1e3, "m": 1e6, "million": 1e6}


_FRACTION = re.compile(r"(\d*)\s?([¼½¾⅓⅔⅛⅜⅝⅞])")
#: Two units after one another: pounds and ounces, feet and inches.
_TWO = re.compile(
    r"^\s*(?P<many>[\d.,¼½¾]+\s*(?:lbs?|pounds?|ft|feet|foot|stone|st))\s+(?P<few>[\d.,¼½¾]+\s*(?:oz|ounces?|lbs?|in|inch(?:es)?))\s*$",
    re.IGNORECASE,
)
#: What is not the same everywhere is asked about, never guessed: how to write it, by what was typed.
_WHICH = {
    **dict.fromkeys(
        ("gal", "gals", "gallon", "gallons"), ("US gallon, 3.785 L", "imperial gallon, 4.546 L", "US gal, imp gal or L")
    ),
    **dict.fromkeys(("pt", "pint", "pints"), ("US pint, 0.473 L", "imperial pint, 0.568 L", "L")),
    **dict.fromkeys(("qt", "quart", "quarts"), ("US quart, 0.946 L", "imperial quart, 1.137 L", "L")),
    **dict.fromkeys(("fl oz", "floz"), ("US fluid ounce, 29.6 mL", "imperial fluid ounce, 28.4 mL", "mL")),
    **dict.fromkeys(("ton", "tons"), ("short ton, 907 kg", "long ton, 1,016 kg", "kg or t")),
    **dict.fromkeys(("cwt",), ("US hundredweight, 45.4 kg", "imperial hundredweight, 50.8 kg", "kg")),
}
_NAMED = {
    "F": "degF",
    "°F": "degF",
    "C": "degC",
    "°C": "degC",
    "US gal": "gallon",
    "US gallon": "gallon",
    "US gallons": "gallon",
    "imp gal": "imperial_gallon",
    "imperial gal": "imperial_gallon",
    "imperial gallon": "imperial_gallon",
    "imperial gallons": "imperial_gallon",
}


def _decimal(found: "re.Match[str]") -> str:
    """“62½” as a decimal; only such parts as stand on a key."""
    part = f"{unicodedata.numeric(found[2]):.9g}".removeprefix("0")
    return f"{found[1] or '0'}{part}"


def _for_pint(unit: str) -> str:
    """A unit as people write it, as the library reads it."""
    plain = _NAMED.get(unit, unit)
    plain = re.sub(r"\bcu\.?\s*(\w+)", r"\1^3", re.sub(r"\bsq\.?\s*(\w+)", r"\1^2", plain))
    return re.sub(r"\b(c?m|ft|yd|in)([23])\b", r"\1^\2", plain.replace("²", "2").replace("³", "3"))


@lru_cache(maxsize=1)
def _registry() -> Any:
    import pint  # takes a third of a second to load, and most requests type no unit

    return pint.UnitRegistry(autoconvert_offset_to_baseunit=True)


def _read(text: str, field: str, whole: bool) -> tuple[str, str]:
    """The digits of a typed number, with a point before its fraction, and its unit."""
    text = _FRACTION.sub(_decimal, text)
    match = _NUMBER.match(text)
    written = next((found for way in _WRITTEN if (found := way.match(match[2]))), None) if match else None
    if match is None or written is None:
        raise refuse(field, "not_a_number", f"“{text}” is no number. Write it like 12000, 12,000 or 12k.")
    if _EITHER.match(match[2]) and (whole or match[2].endswith("0")):
        short, long = f"{float(match[2]):g}", match[2].replace(".", "")
        raise refuse(field, "ambiguous", f"“{match[2]}” can be {short} or {long}. Write the one that you mean.")
    fraction = written[2] or ""
    if whole and "," in match[2] and fraction and not fraction.strip("0"):  # “12,00” may have lost a nought
        short, long = written[1], written[1] + fraction
        raise refuse(field, "ambiguous", f"“{match[2]}” can be {short} or {long}. Write the one that you mean.")
    return f"{match[1]}{re.sub(r'[^0-9]', '', written[1]) or '0'}{'.' + fraction if fraction else ''}", (
        match[3] or ""
    ).strip()


def split_number(text: str, field: str, *, whole: bool = False) -> tuple[float, str]:
    """Number and unit of a typed quantity.

    A comma before three digits separates thousands, any other comma or point the fraction; a point before three digits
    can be either and is asked about where what is counted is `whole`, or a round thousand may be meant. Raises Refused.
    """
    digits, unit = _read(text, field, whole)
    value = float(digits)
    if not math.isfinite(value):
        raise refuse(field, "too_large", "That number is longer than anything that is counted or weighed here.")
    return value, unit


def read_count(text: str, field: str, what: str = "plants") -> int:
    """A whole count of one or more. A unit in it is refused: the form says `what` is counted."""
    value, unit = split_number(text, field, whole=True)
    if unit.lower() in THOUSANDS:  # “2.500k” is no thousand of thousands
        value, unit = value * THOUSANDS[unit.lower()], ""
    if unit:
        raise refuse(
            field,
            "unit_in_number",
            f"“{text}” has a unit in it. Write the number of {what} alone; “{unit}” is not counted here.",
        )
    if value < 0:
        raise refuse(field, "negative", f"{value:,.0f} is less than nothing. How many are wanted?")
    if value == 0:
        raise refuse(field, "nothing", "Nothing is wanted? Write how many, or leave the row out.")
    if value != int(value):
        raise refuse(field, "not_whole", f"{value:g} is not a whole number of {what}.")
    if value > 10_000_000:
        raise refuse(
            field, "too_large", f"{value:,.0f} is more than the 10,000,000 that one line may promise. Split it."
        )
    return int(value)


PACKETS = re.compile(
    r"^\s*(?P<many>[\d ,.']+)\s*(?:packets?|packs?|sachets?|bags?|tins?|boxes|box)?\s*(?:of|x|×|à|@)\s*(?P<each>.+)$",
    re.IGNORECASE,
)
MOST = 10_000_000


def read_quantity(text: str, usual: Unit, field: str) -> Quantity:
    """A quantity as people write it: “12,000”, “250 g”, “2 lb”, “5 packets of 1,000 seeds”. Raises Refused.

    Without a unit it is in the `usual` one; weights and seeds stand for each other where seed is meant.
    """
    packets = PACKETS.match(text)
    if packets is not None:
        many = split_number(packets["many"].strip(), field, whole=True)[0]
        each = read_quantity(packets["each"], usual, field)
        if many <= 0 or many != int(many):
            raise refuse(field, "not_whole", f"{many:g} packets cannot be; write a whole number of them.")
        return _not_too_much(Quantity(exact(each.base * int(many)), each.unit), text, field)
    if usual.is_pieces and usual is not Unit.SEED:
        return Quantity.of(read_count(_without(text, usual), field, usual.words), usual)
    if _TWO.match(text):
        return _not_too_much(Quantity.of(read_measure(text, usual.words, field), usual), text, field)
    value, typed = split_number(text, field)
    if typed.lower() in THOUSANDS:
        value, typed = value * THOUSANDS[typed.lower()], ""
    if typed.lower() in ("seeds", "seed") and (usual.is_mass or usual is Unit.SEED):
        found = Quantity.of(read_count(text.lower().removesuffix("s").removesuffix("seed"), field), Unit.SEED)
    elif usual is Unit.SEED:
        found = (
            Quantity.of(read_measure(text, "g", field), Unit.GRAM)
            if typed
            else Quantity.of(read_count(text, field), usual)
        )
    elif typed in ("g", "kg", "t"):
        weight = Quantity.of(_exact_number(text), unit(typed))
        found = Quantity(weight.base, usual) if unit(typed) is Unit.TONNE else weight  # read in the unit of the house
    elif not typed:
        found = Quantity.of(_exact_number(text) if text.strip()[-1:].isdigit() else value, usual)
    else:
        found = Quantity.of(read_measure(text, usual.words, field), usual)
    return _not_too_much(found, text, field)


def _exact_number(text: str) -> str:
    """The digits of a typed number, so that 0.1 is a tenth and nothing else."""
    return _read(text, "", False)[0]  # it was read before


def _without(text: str, usual: Unit) -> str:
    """A count without the name of what is counted."""
    plain = text.strip()
    for name in (usual.words, usual.words.removesuffix("s")):
        if plain.lower().endswith(name) and plain[: -len(name)].strip()[-1:].isdigit():
            return plain[: -len(name)]
    return text


def _not_too_much(found: Quantity, text: str, field: str) -> Quantity:
    if found.base <= 0:
        raise refuse(field, "nothing", "Nothing is wanted? Write how much, or leave the row out.")
    if found.shown > MOST:
        raise refuse(
            field,
            "too_large",
            f"{found.words()} is more than the {MOST:,} {found.unit.words} that one line may promise. Split it.",
        )
    return found


def read_measure(text: str, unit: str, field: str) -> float:
    """A measure in `unit` (g, °C, m²), converted from what was typed; “2 lb 4 oz” is summed. Raises Refused."""
    two = _TWO.match(text)
    if two is not None:
        return read_measure(two["many"], unit, field) + read_measure(two["few"], unit, field)
    value, typed = split_number(text, field)
    if typed.lower() in ("k", "thousand"):
        value, typed = value * 1000, ""
    if not typed or typed == unit:
        return value
    if typed == "%" and unit == "share":
        return value / 100
    which = _WHICH.get(re.sub(r"\s+", " ", typed.lower().rstrip(".")))
    if which is not None:
        told = f"“{typed}” is not the same everywhere: {which[0]}, or {which[1]}. Write it in {which[2]}."
        raise refuse(field, "ambiguous_unit", told)
    registry = _registry()
    try:
        found = float(registry.Quantity(value, _for_pint(typed)).to(_for_pint(unit)).magnitude)
        return float(f"{found:.13g}")  # 1 m³ is 1,000 L, and not a hair less
    except Refused:
        raise
    except Exception:  # pint raises many kinds for what it cannot read
        if not unit:
            raise refuse(field, "unit_in_number", f"“{typed}” is not asked for here. Write the number alone.") from None
        raise refuse(
            field, "unknown_unit", f"“{typed}” cannot be read as {unit}. Write the number in {unit}."
        ) from None


_BETWEEN = re.compile(r"[\s;]+|,\s+")
MOST_MEASURES = 2000


def read_measures(text: str, unit: str, field: str) -> list[float]:
    """Measures as typed, one after another: “10 9 21 4”, “10; 9,5; 21”. Raises Refused."""
    typed: list[str] = []
    for one in _BETWEEN.split(text.strip()):
        if typed and one and not (one[0].isdecimal() or one[0] in "+-.,½¼¾"):
            typed[-1] += f" {one}"  # the unit of the one before
        elif one:
            typed.append(one)
    if len(typed) > MOST_MEASURES:
        raise refuse(
            field, "too_many", f"{len(typed):,} measures are more than can be read; {MOST_MEASURES:,} at most."
        )
    return [read_measure(one, unit, field) for one in typed]


def read_found(value: int | str, field: str) -> int:
    """A whole count of nothing or more, as it was typed; empty is nothing."""
    if isinstance(value, str) and value.strip() in ("", "0"):
        return 0
    found = read_count(value, field) if isinstance(value, str) else value
    if not 0 <= found <= MOST:
        raise refuse(field, "out_of_range", f"{found:,} cannot be; 0 to {MOST:,}.")
    return found
