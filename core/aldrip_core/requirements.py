"""Requirements by week: what a season takes of each thing, in the week in which it must be there."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from math import fsum

from aldrip_core.refusal import refuse

WEEK = timedelta(days=7)


@dataclass(frozen=True, slots=True)
class Need:
    """So much of a thing on a day, or spread evenly over the days `[on, until)`."""

    kind: str
    what: str
    unit: str
    amount: float
    on: date
    until: date | None = None


@dataclass(frozen=True, slots=True)
class ByWeek:
    """A thing with what it takes in each week, from `first` (a Monday) on."""

    kind: str
    what: str
    unit: str
    amounts: tuple[float, ...]

    @property
    def total(self) -> float:
        return fsum(self.amounts)


def monday(day: date) -> date:
    """The Monday of the week of a day.

    >>> monday(date(2027, 7, 6))
    datetime.date(2027, 7, 5)
    """
    return day - timedelta(days=day.weekday())


def by_week(needs: Iterable[Need], *, first: date, weeks: int) -> tuple[ByWeek, ...]:
    """Needs summed by thing and week; what is due before the first week counts in it, what comes after the last is left out.

    A need over days gives each week its share of the days, and nothing for days before the first week.
    Sorted by kind as it first comes, then by name. Raises Refused when `first` is no Monday or weeks is under 1.
    Source: arithmetic.

    >>> tray = Need("trays", "tray of 150", "trays", 40, date(2027, 7, 6))
    >>> by_week([tray, tray], first=date(2027, 7, 5), weeks=2)[0].amounts
    (80.0, 0.0)
    """
    if first.weekday():
        raise refuse("first", "no_monday", f"{first} is no Monday; weeks begin on one.")
    if weeks < 1:
        raise refuse("weeks", "out_of_range", "At least one week is wanted.")
    found: dict[tuple[str, str, str], list[list[float]]] = {}
    kinds: dict[str, int] = {}
    for need in needs:
        kinds.setdefault(need.kind, len(kinds))
        shares = list(_shares(need, first, weeks))
        if not shares:
            continue
        row = found.setdefault((need.kind, need.what, need.unit), [[] for _ in range(weeks)])
        for week, amount in shares:
            row[week].append(amount)
    ordered = sorted(found, key=lambda key: (kinds[key[0]], key[1], key[2]))
    # Summed exactly: in whichever order the needs come, the sum is one and the same.
    return tuple(ByWeek(*key, tuple(fsum(week) for week in found[key])) for key in ordered)


def _shares(need: Need, first: date, weeks: int) -> Iterable[tuple[int, float]]:
    if need.until is None:
        week = max(0, (need.on - first).days // 7)
        if week < weeks:
            yield week, need.amount
        return
    days = (need.until - need.on).days
    for week in range(weeks):
        starts = first + week * WEEK
        inside = (min(need.until, starts + WEEK) - max(need.on, starts)).days
        if inside > 0 and days > 0:
            yield week, need.amount * inside / days


def weeks_from(first: date, weeks: int) -> Sequence[date]:
    """The Mondays of so many weeks."""
    return [first + n * WEEK for n in range(weeks)]
