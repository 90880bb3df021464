"""Weather by day: what a site's thermometer read and what is forecast, in place of its climate; and what to look out for in it."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
from numpy.random import default_rng
from numpy.typing import NDArray

from aldrip_core.refusal import refuse

COLDEST_C, HOTTEST_C = -50.0, 55.0
FORECAST_DAYS = 16  # farther ahead nobody's forecast knows more than the climate does; common practice, no source
STRANGE_C = 25.0  # off the climate on average: °F read as °C is off by 20 in frost and by 50 in summer; our own
FROST_C = 0.0  # where the thermometer hangs; on the ground it is colder on a clear night


@dataclass(frozen=True, slots=True)
class DayRead:
    """Lowest, mean and highest temperature of a day outside [°C]; `forecast`: not read yet."""

    day: date
    low_c: float
    mean_c: float
    high_c: float
    forecast: bool = False


@dataclass(frozen=True, eq=False, slots=True)
class Weather:
    """Means and peaks outside [°C] by day from `first` on (n_days,), NaN where nothing is known. Two are never equal."""

    first: date
    mean_c: NDArray[np.float64]
    high_c: NDArray[np.float64]

    @classmethod
    def of(cls, days: Iterable[DayRead]) -> "Weather | None":
        """From days in any order; None where there are none."""
        known = {one.day: one for one in days}
        if not known:
            return None
        first = min(known)
        count = (max(known) - first).days + 1
        mean, high = np.full(count, np.nan), np.full(count, np.nan)
        for day, one in known.items():
            mean[(day - first).days], high[(day - first).days] = one.mean_c, one.high_c
        return cls(first, mean, high)

    def at(self, day: date) -> int | None:
        """The index of a day that is known."""
        index = (day - self.first).days
        return index if 0 <= index < len(self.mean_c) and not np.isnan(self.mean_c[index]) else None


def read_day(
    day: date, *, low_c: float | None, high_c: float | None, mean_c: float | None = None, today: date
) -> DayRead:
    """A day of a weather file. Without a mean it is halfway between the extremes; without extremes nothing is known of a peak.

    A day after `today` is a forecast. Raises Refused with what cannot be, at `low_c`, `mean_c`, `high_c` or `day`.

    >>> read_day(date(2027, 7, 1), low_c=14, high_c=28, today=date(2027, 7, 6)).mean_c
    21.0
    """
    for name, value in (("low_c", low_c), ("mean_c", mean_c), ("high_c", high_c)):
        if value is not None and not COLDEST_C <= value <= HOTTEST_C:
            told = f"{value:g} °C cannot be; {COLDEST_C:g} to {HOTTEST_C:g} °C. Is the column in °F?"
            raise refuse(name, "out_of_range", told)
    if low_c is None or high_c is None:
        raise refuse("low_c" if low_c is None else "high_c", "missing", "A day needs its lowest and its highest.")
    if low_c > high_c:
        raise refuse("high_c", "crossed", f"The highest, {high_c:g} °C, is below the lowest, {low_c:g} °C.")
    mean = (low_c + high_c) / 2 if mean_c is None else mean_c
    if not low_c <= mean <= high_c:
        raise refuse("mean_c", "crossed", f"A mean of {mean:g} °C is not between {low_c:g} and {high_c:g} °C.")
    ahead = (day - today).days
    if ahead > FORECAST_DAYS:
        told = f"{ahead} days ahead: a forecast is taken for {FORECAST_DAYS} days, from then on the climate tells more."
        raise refuse("day", "too_far", told)
    return DayRead(day, low_c, mean, high_c, ahead > 0)


@dataclass(frozen=True, slots=True)
class Spell:
    """Days in a row of which something is to be looked out for; `worst_c`: the lowest or the highest of them [°C]."""

    first: date
    last: date
    worst_c: float


@dataclass(frozen=True, slots=True)
class Stay:
    """Plants of a batch that stand in a place over [first, end)."""

    batch: int
    place: int
    first: date
    end: date


@dataclass(frozen=True, slots=True)
class FrostSpell:
    """Nights in a row in which plants would freeze: which batches, in which places, and the coldest there [°C]."""

    spell: Spell
    places: frozenset[int]
    batches: frozenset[int]


def frosts(lows: Mapping[tuple[int, date], float], stays: Iterable[Stay]) -> tuple[FrostSpell, ...]:
    """Frost where plants stand, of the lowest by place and night [°C]; nights that follow one another are one spell.

    Every plant counts: which of them bear frost is not known.

    >>> night = date(2027, 4, 30)
    >>> frosts({(1, night): -2.0}, [Stay(7, 1, night, date(2027, 5, 9))])[0].batches
    frozenset({7})
    """
    cold: dict[int, list[date]] = {}
    for (place, night), low in lows.items():
        if low <= FROST_C:
            cold.setdefault(place, []).append(night)
    hit: dict[date, set[Stay]] = {}
    for stay in stays:
        for night in cold.get(stay.place, ()):
            if stay.first <= night < stay.end:
                hit.setdefault(night, set()).add(stay)
    found = []
    for spell in _spells([(night, min(lows[one.place, night] for one in there)) for night, there in hit.items()], min):
        there = [one for night, all_ in hit.items() if spell.first <= night <= spell.last for one in all_]
        found.append(FrostSpell(spell, frozenset(one.place for one in there), frozenset(one.batch for one in there)))
    return tuple(found)


def check_climate(usual_c: NDArray[np.float64], days: Sequence[DayRead], name: str) -> None:
    """Refuse days that are nothing like the usual means by day of the year (366,): of another unit, or another place."""
    off = sum(one.mean_c - float(usual_c[one.day.timetuple().tm_yday - 1]) for one in days) / len(days)
    if abs(off) > STRANGE_C:
        side = "warmer" if off > 0 else "colder"
        told = f"These days are {abs(off):.0f} °C {side} than {name} is by its months. Are they in °F, or of another place? If they are right, correct the months first."
        raise refuse("file", "another_climate", told)


def heats(peaks: Mapping[date, float], *, ceiling_c: float) -> tuple[Spell, ...]:
    """Days on which a place is hotter than a stage bears, joined where they follow one another."""
    return _spells([(day, peak) for day, peak in peaks.items() if peak > ceiling_c], max)


def _spells(days: Sequence[tuple[date, float]], worst: Callable[[float, float], float]) -> tuple[Spell, ...]:
    found: list[Spell] = []
    for day, value in sorted(days):
        if found and found[-1].last + timedelta(days=1) == day:
            found[-1] = Spell(found[-1].first, day, worst(found[-1].worst_c, value))
        else:
            found.append(Spell(day, day, value))
    return tuple(found)


def simulated(
    monthly: NDArray[np.float64], *, swing_c: float, first: date, days: int, seed: int
) -> tuple[DayRead, ...]:
    """Days as a weather service might tell them: the climate's mean (366,) and what persists from one day to the next.

    The anomaly is a first-order autoregression, 0.75 of yesterday's and a fresh part, 3 °C in all: daily temperatures
    behave so (Wilks, Statistical Methods in the Atmospheric Sciences; parameters from memory). For practice only.
    """
    draw, keep, spread = default_rng(seed), 0.75, 3.0
    anomaly, told = spread * float(draw.standard_normal()), []
    for n in range(days):
        day = first + timedelta(days=n)
        mean = float(monthly[day.timetuple().tm_yday - 1]) + anomaly
        half = swing_c * float(draw.uniform(0.6, 1.4))
        told.append(DayRead(day, round(mean - half, 1), round(mean, 1), round(mean + half, 1)))
        anomaly = keep * anomaly + spread * float(np.sqrt(1 - keep**2)) * float(draw.standard_normal())
    return tuple(told)
