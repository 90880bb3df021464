"""When a stage may stand where it stands: windows for its start, a floor of warmth, the last frost of the site."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Self

from aldrip_core.refusal import refuse

MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
LONGEST = (31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)
FROST_FREE_DAYS = 240  # after the last frost for so long nothing is asked of it; the floor says when autumn comes
DAY_WORDS = re.compile(r"(\d{1,2})\.?\s+([a-z]{3,9})|([a-z]{3,9})\s+(\d{1,2})")
MonthDay = tuple[int, int]


EARLINESS = ("early", "mid", "late")
GROUP_WORDS = re.compile(r"([a-z]+)\s*:\s*(.*)")


@dataclass(frozen=True, slots=True)
class Window:
    """Days of a year on which something may begin, both included; it may run over the new year. As north of the equator.

    group: the earliness of the cultivars that it is for; empty for all that have no window of their own.
    """

    first: MonthDay
    last: MonthDay
    group: str = ""

    @classmethod
    def read(cls, text: str) -> Self:
        """From words: “20 Sep to 10 Nov”, “early: 16 Aug to 31 Aug”. Raises Refused.

        >>> Window.read("20 September to 10 Nov")
        Window(first=(9, 20), last=(11, 10), group='')
        >>> Window.read("Late: 5 Aug to 12 Aug")
        Window(first=(8, 5), last=(8, 12), group='late')
        """
        grouped = GROUP_WORDS.fullmatch(text.strip().lower())
        group, rest = (grouped[1], grouped[2]) if grouped else ("", text.strip().lower())
        parts = re.split(r"\s+(?:to|until|and)\s+|\s*[–—-]\s*", rest)
        days = [month_day(part) for part in parts]
        if group and group not in EARLINESS:
            told = f"“{group}” is no group of cultivars: early, mid or late, as in “early: 16 Aug to 31 Aug”."
            raise refuse("begins", "not_a_group", told)
        if len(days) != 2 or days[0] is None or days[1] is None:
            raise refuse("begins", "not_a_window", f"“{text}” is no part of a year. Write it like “20 Sep to 10 Nov”.")
        return cls(days[0], days[1], group)

    @property
    def words(self) -> str:
        return f"{_said(self.first)} to {_said(self.last)}" + (f" ({self.group} cultivars)" if self.group else "")

    @property
    def half_a_year_on(self) -> Self:
        """As it is south of the equator."""
        return type(self)(_shifted(self.first), _shifted(self.last), self.group)

    def holds(self, day: MonthDay) -> bool:
        """Whether a day of the year lies in it."""
        if self.first <= self.last:
            return self.first <= day <= self.last
        return day >= self.first or day <= self.last


@dataclass(frozen=True, slots=True)
class Season:
    """What a stage asks of the year. Nothing where all is empty.

    begins: windows for its start. floor_c: mean of the place below which it stands still or suffers [°C].
    after_frost_days: it begins so many days after the last frost of the site at the soonest (before it, when negative) [d].
    """

    begins: tuple[Window, ...] = ()
    floor_c: float | None = None
    after_frost_days: int | None = None

    def of(self, earliness: str) -> Self:
        """What it asks of a cultivar: the windows of its group; where the group has none, or is not known, those of no group.

        Where all windows are for groups and none is its own, any of them will do.
        """
        own = tuple(window for window in self.begins if window.group == earliness)
        common = tuple(window for window in self.begins if not window.group)
        return replace(self, begins=own or common or self.begins)

    @property
    def asks(self) -> bool:
        """Whether it asks anything."""
        return bool(self.begins) or self.floor_c is not None or self.after_frost_days is not None

    def words(self) -> str:
        """What it asks, for a sentence: “begins 20 Sep to 10 Nov”, “not below 8 °C”."""
        told = []
        if self.begins:
            told.append("begins " + " or ".join(window.words for window in self.begins))
        if self.after_frost_days is not None:
            many = abs(self.after_frost_days)
            days = f"{many} {'day' if many == 1 else 'days'} "
            side = "after" if self.after_frost_days >= 0 else "before"
            told.append(f"begins {days if many else ''}{side} the last frost at the soonest")
        if self.floor_c is not None:
            told.append(f"not below {self.floor_c:g} °C")
        return ", ".join(told)


ANY_TIME = Season()


def month_day(text: str) -> MonthDay | None:
    """Month and day from “12 Apr”, “april 12”; None where it says neither."""
    match = DAY_WORDS.fullmatch(text.strip().lower())
    if match is None:
        return None
    number, name = (match[1], match[2]) if match[1] else (match[4], match[3])
    month = next((n for n, short in enumerate(MONTHS, 1) if name.startswith(short)), 0)
    return (month, int(number)) if month and 1 <= int(number) <= LONGEST[month - 1] else None


def read_windows(lines: Sequence[str]) -> tuple[Window, ...]:
    """Windows from text, one a line. Raises Refused."""
    return tuple(Window.read(line) for line in lines if line.strip())


def may_begin(season: Season, *, south: bool, last_frost: MonthDay | None) -> frozenset[MonthDay]:
    """Days of the year on which a stage may begin."""
    windows = [window.half_a_year_on if south else window for window in season.begins]
    days = [date(2024, 1, 1) + timedelta(days=n) for n in range(366)]
    found = {(day.month, day.day) for day in days}
    if windows:
        found = {day for day in found if any(window.holds(day) for window in windows)}
    if season.after_frost_days is None or last_frost is None:
        return frozenset(found)
    since = date(2024, *last_frost) + timedelta(days=season.after_frost_days)
    free = {since + timedelta(days=n) for n in range(FROST_FREE_DAYS)}
    return frozenset(found & {(day.month, day.day) for day in free})


def _said(day: MonthDay) -> str:
    return f"{day[1]} {MONTHS[day[0] - 1].capitalize()}"


def _shifted(day: MonthDay) -> MonthDay:
    month = (day[0] + 5) % 12 + 1
    return month, min(day[1], LONGEST[month - 1])
