"""What text, number, date, depth and length may be, for every body and every question, decided in this one place.

A schema may ask for less. What passes here can be kept, reckoned with and shown in any room.
"""

import json
import math
import re
from collections.abc import Callable
from typing import Any

from aldrip_core.refusal import FieldError, Refused
from aldrip_core.weeks import YEARS

TEXT = 20_000  # characters
LONG_TEXT = 3_000_000  # of what is pasted or written whole: a spreadsheet, rows as YAML
LONG = frozenset({"text", "yaml", "content", "photo"})
NUMBER = 1e15
DIGITS = 40  # of a number in figures, as it is typed
ITEMS = 50_000  # of one list or one object
DEPTH = 24
DATE = re.compile(r"\s*(\d{4})-(\d{2})-(\d{2})(?:$|[T ])")
SURROGATE = re.compile("[\ud800-\udfff]")
UNSEEN = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]")


def check(value: Any) -> None:
    """Refuse what is beyond the limits, at its field. Raises Refused."""
    _walk(value, (), 0)


def _no(path: tuple[str, ...], code: str, words: str) -> Refused:
    return Refused([FieldError(".".join(path), code, words)])


def _walk(value: Any, path: tuple[str, ...], depth: int) -> None:
    if isinstance(value, str):
        _text(value, path)
    elif isinstance(value, bool) or value is None:
        return
    elif isinstance(value, int | float):
        _number(value, path)
    elif isinstance(value, dict | list):
        if depth >= DEPTH:
            raise _no(path, "too_deep", f"It lies {DEPTH} deep and deeper; nothing here does.")
        if len(value) > ITEMS:
            raise _no(path, "too_many", f"{len(value):,} things are more than the {ITEMS:,} that are taken at once.")
        rows = value.items() if isinstance(value, dict) else enumerate(value)
        for name, inner in rows:
            if isinstance(name, str):
                _text(name, path)
            _walk(inner, (*path, str(name)), depth + 1)


def _text(text: str, path: tuple[str, ...]) -> None:
    most = LONG_TEXT if path and path[-1] in LONG else TEXT
    if len(text) > most:
        raise _no(path, "too_long", f"{len(text):,} characters are more than the {most:,} that are kept here.")
    if SURROGATE.search(text) or UNSEEN.search(text):
        raise _no(path, "unreadable", "There is a character in it that cannot be stored. Type it again.")
    day = DATE.match(text)
    if day and not YEARS[0] <= int(day[1]) <= YEARS[1]:
        raise _no(path, "out_of_range", f"{day[1]} is no year that this house plans in; {YEARS[0]} to {YEARS[1]}.")


def _number(number: float, path: tuple[str, ...]) -> None:
    if not math.isfinite(number) or abs(number) > NUMBER:
        raise _no(path, "out_of_range", "This number is beyond anything that is counted or weighed here.")


def _figures(most: int) -> Callable[[str], int]:
    def read(text: str) -> int:
        return int(text) if len(text) <= most else int("9" * most)  # refused by its size, at its field

    return read


def read_json(body: bytes) -> Any:
    """A body as JSON, within the limits. Raises Refused; ValueError for what is no JSON."""
    value = json.loads(body, parse_int=_figures(DIGITS))
    check(value)
    return value
