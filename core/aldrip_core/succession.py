"""Succession: when to sow for an even harvest, by heat, and what sowing at equal intervals gives instead."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import ClassVar

import numpy as np

from aldrip_core.refusal import Warn, refuse
from aldrip_core.weeks import YEARS
from aldrip_core.working import Given, Step, Working

BACK_DAYS = 1200  # looked back for heat: what takes longer is no succession
MOST = 5000


@dataclass(frozen=True, slots=True)
class SownFor:
    """A sowing day and the harvest it is for; no day where the heat is not gathered in three years."""

    sow: date | None
    harvest: date

    nullable: ClassVar = ("sow",)


@dataclass(frozen=True, slots=True)
class Succession:
    """The sowings of a succession, one a harvest."""

    sowings: tuple[SownFor, ...]
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def harvest_days(first: date, last: date, every_days: int) -> tuple[date, ...]:
    """The days of harvest from the first on; the last one where the interval meets it. Raises Refused."""
    if last < first:
        raise refuse("last_harvest", "out_of_range", f"The last harvest, {last}, lies before the first, {first}.")
    many = (last - first).days // every_days + 1
    if many > MOST:
        raise refuse("harvest_every_days", "too_large", f"{many:,} harvests are more than the {MOST:,} answered here.")
    return tuple(first + timedelta(days=every_days * n) for n in range(many))


def succession(
    *,
    first_harvest: date,
    last_harvest: date,
    harvest_every_days: int,
    heat_sum_c_d: float,
    base_c: float,
    daily_mean_c_by_day_of_year: Sequence[float],
) -> Succession:
    """The latest sowing for each harvest whose heat over [sow, harvest) reaches the sum [°C·d over `base_c`].

    daily_mean_c_by_day_of_year (365,) or (366,): the first is 1 January; the year comes round again, and a day that
    the list lacks has the values of its last. Raises Refused. Source: as `thermal_time`.

    >>> [one.sow.isoformat() for one in succession(first_harvest=date(2027, 7, 1), last_harvest=date(2027, 7, 8),
    ...     harvest_every_days=7, heat_sum_c_d=500, base_c=5, daily_mean_c_by_day_of_year=[15.0] * 365).sowings]
    ['2027-05-12', '2027-05-19']
    """
    if len(daily_mean_c_by_day_of_year) not in (365, 366):
        many = len(daily_mean_c_by_day_of_year)
        raise refuse("daily_mean_c_by_day_of_year", "length", f"365 or 366 daily means make a year; {many} were given.")
    for name, one in (("first_harvest", first_harvest), ("last_harvest", last_harvest)):
        if not YEARS[0] <= one.year <= YEARS[1]:
            raise refuse(name, "out_of_range", f"{one.year} is no year that is planned in; {YEARS[0]} to {YEARS[1]}.")
    days = harvest_days(first_harvest, last_harvest, harvest_every_days)
    begin = first_harvest - timedelta(days=BACK_DAYS)
    heat = np.maximum(0.0, np.asarray(daily_mean_c_by_day_of_year, dtype=np.float64) - base_c)
    span = (last_harvest - begin).days
    of_year = [(begin + timedelta(days=n)).timetuple().tm_yday - 1 for n in range(span)]
    gathered = np.concatenate(([0.0], np.cumsum(heat[np.minimum(of_year, len(heat) - 1)])))
    sowings = []
    for harvest in days:
        left = gathered[(harvest - begin).days] - heat_sum_c_d + 1e-9
        at = int(np.searchsorted(gathered[: (harvest - begin).days + 1], left, side="right")) - 1
        sowings.append(SownFor(begin + timedelta(days=at) if at >= 0 else None, harvest))
    never = [one for one in sowings if one.sow is None]
    warnings: tuple[Warn, ...] = ()
    if never:
        told = (
            f"{heat_sum_c_d:g} °C·d over {base_c:g} °C are not gathered in the three years before {never[0].harvest}."
        )
        warnings = (Warn("never_reached", told),)
    step = Step(
        "Sowings",
        "latest day from which the heat up to the harvest reaches the sum",
        (Given("heat sum", heat_sum_c_d, "°C·d"), Given("base", base_c, "°C"), Given("harvests", len(days))),
        len(sowings) - len(never),
        "sowings",
    )
    return Succession(tuple(sowings), (step,), warnings)


def at_equal_intervals(first: date, last: date, many: int) -> tuple[date, ...]:
    """As many sowing days as asked, equally spread from the first to the last: the habit."""
    if many < 2:
        return (first,) * many
    span = (last - first).days
    return tuple(first + timedelta(days=round(span * n / (many - 1))) for n in range(many))


@dataclass(frozen=True, slots=True)
class Evenness:
    """How even a harvest is: the longest and the shortest time between two harvests, and the spread of these times [d]."""

    longest: int
    shortest: int
    spread_days: float


def evenness(harvests: Iterable[date]) -> Evenness | None:
    """The times between harvests; None for fewer than three, which have no evenness.

    >>> evenness([date(2027, 6, 1), date(2027, 6, 8), date(2027, 6, 22)])
    Evenness(longest=14, shortest=7, spread_days=3.5)
    """
    days = sorted(day.toordinal() for day in harvests)
    if len(days) < 3:
        return None
    gaps = np.diff(days)
    return Evenness(int(gaps.max()), int(gaps.min()), float(gaps.std()))
