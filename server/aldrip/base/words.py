"""How figures and days are written on paper and in sentences made by the server."""

from collections.abc import Sequence
from datetime import date
from typing import Any


def number(value: float, digits: int = 0) -> str:
    """Thousands separated; digits only where they say something."""
    return f"{value:,.{digits}f}"


def grams(value: float) -> str:
    """A weight as a person would read it off the scales."""
    if value >= 1000:
        return f"{value / 1000:,.2f} kg"
    return f"{value:,.1f} g" if value >= 1 else f"{value:.3g} g"


def day(value: date, year: bool = False, *, today: date | None = None) -> str:
    """“Tue 3 Mar, week 10”; with its year where `today` lies in another."""
    text = f"{value:%a} {value.day} {value:%b}"
    if year:
        return f"{text} {value.year}"
    said = f" {value.year}" if today is not None and today.year != value.year else ""
    return f"{text}{said}, week {value.isocalendar().week}"


def share(value: float, digits: int = 0) -> str:
    """“61 %”."""
    return f"{value * 100:.{digits}f} %"


def chance(value: float) -> str:
    """A chance [0-1] as it is read; never certain when it is not."""
    if 0.995 <= value < 1 - 1e-9:
        return "over 99 %"
    if 1e-9 < value < 0.005:
        return "under 1 %"
    return f"{value:.0%}".replace("%", " %")


def plural(count: int, one: str, many: str | None = None) -> str:
    """“1 batch”, “3 batches”."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"


def together(names: Sequence[str]) -> str:
    """“Ann”, “Ann and Bo”, “Ann, Bo and Cy”."""
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)


def who(user: Any, nobody: str = "") -> str:
    """Somebody by name, as they are called or as they sign in; `nobody` where an account is gone."""
    return str(user.get_full_name() or user.username) if user else nobody
