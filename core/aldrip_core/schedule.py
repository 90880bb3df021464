"""Dates: back from delivery, or forward from a start, through stages on a working calendar."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from aldrip_core.daylight import light, pace_in_light
from aldrip_core.refusal import refuse
from aldrip_core.seasons import ANY_TIME, MonthDay, Season
from aldrip_core.thermal_time import AboveCeiling, daily_heat
from aldrip_core.weather import Weather
from aldrip_core.working_calendar import WorkingCalendar

MID_MONTH = (15.5, 45.0, 74.5, 105.0, 135.5, 166.0, 196.5, 227.5, 258.0, 288.5, 319.0, 349.5)
LONGEST_STAGE_DAYS = 800
NEARLY = 1e-9
YEARS = 4  # summed at once, so that the longest stage from any day of the first lies in them
ENOUGH_MOL = 20.0  # light in which young plants take their usual days [mol/m² a day]; common practice, no source


@dataclass(frozen=True, slots=True)
class PartOfYear:
    """How a place is kept from one day of every year to another, both among it; it may run over the turn of the year."""

    first: MonthDay
    last: MonthDay
    set_point_c: float | None = None
    excess_c: float = 0.0
    cooled_to_c: float | None = None

    def days(self) -> NDArray[np.bool_]:
        """Which days of a 366-day year are among it (366,)."""
        first, last = (
            date(2023, month, min(day, 28) if month == 2 else day).timetuple().tm_yday - 1
            for month, day in (self.first, self.last)
        )
        days = np.arange(366)
        return (days >= first) & (days <= last) if first <= last else (days >= first) | (days <= last)


@dataclass(frozen=True, slots=True)
class Climate:
    """Temperatures of a place: monthly means outside [°C], a floor kept by heating, an excess.

    `monthly_c` January first. A heated place never falls below `set_point_c`; a covered one is
    warmer than outside by `excess_c`. `daily_swing_c` is half the day's range, for peaks.
    `cooled_to_c` is a ceiling kept by cooling or by the dark (a germination room). `latitude` [°], the share of light
    that gets in [0-1] and what lamps add [mol/m² a day] make its light; without a latitude light is taken as enough.
    `last_frost`: month and day at its site. `parts`: how it is kept in parts of the year, where that is otherwise; of two
    that overlap the later holds. `weather`: what was read and is forecast outside; on its days it stands for the months.
    """

    monthly_c: tuple[float, ...]
    set_point_c: float | None = None
    excess_c: float = 0.0
    daily_swing_c: float = 5.0
    cooled_to_c: float | None = None
    latitude: float | None = None
    lets_in: float = 1.0
    lamps_mol: float = 0.0
    last_frost: MonthDay | None = None
    parts: tuple[PartOfYear, ...] = ()
    weather: Weather | None = None

    @property
    def south(self) -> bool:
        """Whether it lies south of the equator, where nobody said its latitude by its months."""
        return self.monthly_c[0] > self.monthly_c[6] if self.latitude is None else self.latitude < 0


@lru_cache(maxsize=256)
def year_of_means(climate: Climate) -> NDArray[np.float64]:
    """Mean by day of a 366-day year (366,), monthly means joined by straight lines."""
    days = np.arange(366) + 0.5
    middles = np.array([MID_MONTH[-1] - 366, *MID_MONTH, MID_MONTH[0] + 366])
    values = np.array([climate.monthly_c[-1], *climate.monthly_c, climate.monthly_c[0]])
    return _inside(np.interp(days, middles, values), np.arange(366), climate)


def _inside(outside: NDArray[np.float64], at: NDArray[np.int64], climate: Climate) -> NDArray[np.float64]:
    """Means in a place (n_days,) for those outside, on days of the year by their index."""
    means = _kept(outside, climate)
    for part in climate.parts:
        means = np.where(part.days()[at], _kept(outside, part), means)
    return np.asarray(means)


def _kept(outside: NDArray[np.float64], by: Climate | PartOfYear) -> NDArray[np.float64]:
    means = outside + by.excess_c
    if by.set_point_c is not None:
        means = np.maximum(means, by.set_point_c)
    if by.cooled_to_c is not None:
        means = np.minimum(means, by.cooled_to_c)
    return np.asarray(means)


def kept_at(climate: Climate, outside_c: float, day: date) -> float:
    """How warm a place is when it is so warm outside on a day [°C]."""
    return float(_inside(np.array([outside_c]), np.array([day.timetuple().tm_yday - 1]), climate)[0])


@lru_cache(maxsize=256)
def swing_of_year(climate: Climate) -> NDArray[np.float64]:
    """What the day's peak lies above its mean [°C], by day of a 366-day year (366,); a cooled place has none."""
    return _swing_inside(np.full(366, climate.daily_swing_c), np.arange(366), climate)


def _swing_inside(outside: NDArray[np.float64], at: NDArray[np.int64], climate: Climate) -> NDArray[np.float64]:
    swing = outside * (climate.cooled_to_c is None)
    for part in climate.parts:
        swing = np.where(part.days()[at], outside * (part.cooled_to_c is None), swing)
    return np.asarray(swing)


@lru_cache(maxsize=256)
def _in_weather(climate: Climate) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.int64]]:
    """Means and swings in a place on the days of its weather, NaN where nothing is known, and their index in the year."""
    weather = climate.weather
    if weather is None:
        return np.zeros(0), np.zeros(0), np.zeros(0, dtype=np.int64)
    days = [weather.first + timedelta(days=n) for n in range(len(weather.mean_c))]
    at = np.array([day.timetuple().tm_yday - 1 for day in days])
    swings = _swing_inside(weather.high_c - weather.mean_c, at, climate)
    return _inside(weather.mean_c, at, climate), swings, at


@lru_cache(maxsize=256)
def _peaks_of_year(climate: Climate) -> NDArray[np.float64]:
    """Expected day's peaks [°C] by day of a 366-day year (366,), without weather."""
    return year_of_means(climate) + swing_of_year(climate)


def mean_on(climate: Climate, day: date) -> float:
    """Expected mean temperature of a place on a day [°C]; of its weather where that is known."""
    known = climate.weather.at(day) if climate.weather else None
    if known is not None:
        return float(_in_weather(climate)[0][known])
    return float(year_of_means(climate)[day.timetuple().tm_yday - 1])


def peak_on(climate: Climate, day: date) -> float:
    """Expected day's peak [°C]; a cooled place has none above its mean."""
    known = climate.weather.at(day) if climate.weather else None
    if known is not None:
        return mean_on(climate, day) + float(_in_weather(climate)[1][known])
    return mean_on(climate, day) + float(swing_of_year(climate)[day.timetuple().tm_yday - 1])


@dataclass(frozen=True, slots=True)
class Duration:
    """How long a stage lasts: fixed days, a heat sum [°C·d] over a base at its place, or days by the season.

    `by_month`: days that it lasts where it stands in the middle of each month, January first; what it gathers on a
    day is that day's share of them, so a stage that runs from winter into spring takes from both. As north of the
    equator; south of it, it is read half a year on. `full_c`: fixed days hold at that warmth [°C] and in enough light;
    colder, down to the base, they grow longer, and with `half_light_mol` in less light as well: half of the most pace
    that light gives is reached at it [mol/m² a day]. `until`: the size or the sign that really ends it, for whoever looks.
    """

    days: float | None = None
    heat_sum_c_d: float | None = None
    base_c: float = 0.0
    ceiling_c: float | None = None
    by_month: tuple[float, ...] = ()
    until: str = ""
    give_days: float = 0.0  # longer or shorter, nine times in ten
    cool_days: float | None = None  # that seed must lie under its ceiling; after them it comes up in the warm as well
    full_c: float | None = None
    half_light_mol: float | None = None

    @property
    def paced(self) -> bool:
        """Whether its fixed days grow longer in the cold or with little light."""
        slows = self.full_c is not None or self.half_light_mol is not None
        return slows and bool(self.days) and not self.by_month and self.heat_sum_c_d is None

    @property
    def target(self) -> float | None:
        """What is gathered day by day until it is over; None where the days are fixed."""
        return 1.0 if self.by_month or self.paced else self.heat_sum_c_d


@dataclass(frozen=True, slots=True)
class TimedStage:
    """What the dates need of a stage."""

    name: str
    duration: Duration
    climate: Climate | None = None
    starts_on: WorkingCalendar | None = None  # narrower days for its start, such as sowing days
    season: Season = ANY_TIME
    waits: bool = False  # may last longer than it must


@dataclass(frozen=True, slots=True)
class StageDates:
    """Days `[start, end)` of a stage."""

    start: date
    end: date


@lru_cache(maxsize=512)
def _heat_by_day_of_year(climate: Climate, duration: Duration) -> NDArray[np.float64]:
    return _heat_of(duration, year_of_means(climate), swing_of_year(climate))


def _heat_of(duration: Duration, means: NDArray[np.float64], swings: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.array(
        [
            daily_heat(
                mean_c=float(mean),
                base_c=duration.base_c,
                ceiling_c=duration.ceiling_c,
                above_ceiling=AboveCeiling.STOP,
                max_c=float(mean) + float(swing),
            )
            for mean, swing in zip(means, swings, strict=True)
        ]
    )


def _share_by_day_of_year(by_month: tuple[float, ...], south: bool) -> NDArray[np.float64]:
    """Of a stage that lasts by the season, the share that goes by on a day (366,), joined by straight lines."""
    months = by_month[6:] + by_month[:6] if south else by_month
    middles = np.array([MID_MONTH[-1] - 366, *MID_MONTH, MID_MONTH[0] + 366])
    lasts = np.interp(np.arange(366) + 0.5, middles, np.array([months[-1], *months, months[0]]))
    return np.asarray(1.0 / lasts)


def _pace_by_day_of_year(duration: Duration, climate: Climate | None) -> NDArray[np.float64]:
    """Of a stage whose days hold in warmth and light, the share that goes by on a day (366,)."""
    if climate is None:
        return np.full(366, 1.0 / (duration.days or 1.0))
    return _pace_of(duration, climate, year_of_means(climate), np.arange(366))


def _pace_of(
    duration: Duration, climate: Climate, means: NDArray[np.float64], at: NDArray[np.int64]
) -> NDArray[np.float64]:
    pace = np.full(len(means), 1.0 / (duration.days or 1.0))
    if duration.full_c is not None:
        warm = (means - duration.base_c) / (duration.full_c - duration.base_c)
        pace = pace * np.clip(warm, 0.0, 1.0)
    if duration.half_light_mol is not None and climate.latitude is not None:
        there = light(climate.latitude, lets_in=climate.lets_in, lamps_mol=climate.lamps_mol)
        pace = pace * pace_in_light(there, half_at_mol=duration.half_light_mol, enough_mol=ENOUGH_MOL)[at]
    return np.asarray(pace)


@lru_cache(maxsize=512)
def _gathered_by_day_of_year(duration: Duration, climate: Climate | None) -> NDArray[np.float64]:
    """What a stage without fixed days gathers towards its target by day of a 366-day year (366,)."""
    if duration.by_month:
        return _share_by_day_of_year(duration.by_month, climate is not None and climate.south)
    if duration.paced:
        return _pace_by_day_of_year(duration, climate)
    if climate is None:
        raise refuse("place", "missing", "A stage that runs on warmth needs a place with a climate.")
    return _heat_by_day_of_year(climate, duration)


@lru_cache(maxsize=512)
def _gathered_in_weather(duration: Duration, climate: Climate) -> NDArray[np.float64]:
    """The same on the days of the weather (n_days,), NaN where nothing is known."""
    means, swings, at = _in_weather(climate)
    if duration.by_month:  # by the season alone
        return np.full(len(means), np.nan)
    return _pace_of(duration, climate, means, at) if duration.paced else _heat_known(duration, means, swings)


def _heat_known(duration: Duration, means: NDArray[np.float64], swings: NDArray[np.float64]) -> NDArray[np.float64]:
    known, found = ~np.isnan(means), np.full(len(means), np.nan)
    found[known] = _heat_of(duration, means[known], swings[known])
    return found


def _over_years(by_day: NDArray[np.float64], year: int) -> NDArray[np.float64]:
    """What is gathered by day from 1 January of `year` on, over some years."""
    parts = [by_day if date(one, 12, 31).timetuple().tm_yday == 366 else by_day[:365] for one in _years(year)]
    return np.concatenate(parts)


def _years(year: int) -> range:
    return range(year, year + YEARS)


@lru_cache(maxsize=1024)
def _gathered_sums(duration: Duration, climate: Climate | None, year: int) -> NDArray[np.float64]:
    days = _over_years(_gathered_by_day_of_year(duration, climate), year)
    if climate is not None and climate.weather is not None:
        told = _gathered_in_weather(duration, climate)
        first = _day_of(climate.weather.first, year)
        begin, end = max(0, first), min(len(days), first + len(told))
        if begin < end:
            part = told[begin - first : end - first]
            days[begin:end] = np.where(np.isnan(part), days[begin:end], part)
    return np.concatenate(([0.0], np.cumsum(days)))


def gathered_on(stage: TimedStage, day: date) -> float:
    """What a stage without fixed days gathers towards its target on a day."""
    sums, at = _sums_from(stage, day.year), _day_of(day, day.year)
    return float(sums[at + 1] - sums[at])


def end_of(stage: TimedStage, start: date) -> date:
    """First day after the stage when it starts on `start`, before any calendar.

    Raises Refused when the heat sum is never reached.
    """
    target = stage.duration.target
    if target is None:
        return start + timedelta(days=round(stage.duration.days or 0))
    sums, at = _sums_from(stage, start.year), _day_of(start, start.year)
    count = int(np.searchsorted(sums, sums[at] + target - NEARLY)) - at
    if count >= LONGEST_STAGE_DAYS or at + count >= len(sums):
        raise _never(stage)
    return start + timedelta(days=count)


def _sums_from(stage: TimedStage, year: int) -> NDArray[np.float64]:
    """Sums up to the start of each day from 1 January of `year` on, over some years, 0 first."""
    if stage.climate is None and not stage.duration.by_month and not stage.duration.paced:
        raise refuse("place", "missing", f"“{stage.name}” runs on warmth, so it needs a place with a climate.")
    return _gathered_sums(stage.duration, stage.climate, year)


def _day_of(day: date, year: int) -> int:
    return day.toordinal() - date(year, 1, 1).toordinal()


def start_for(stage: TimedStage, end: date, calendar: WorkingCalendar) -> date:
    """Latest working start from which the stage is over by `end`. Raises Refused."""
    days = stage.starts_on or calendar
    target = stage.duration.target
    if target is None:
        return days.on_or_before(end - timedelta(days=round(stage.duration.days or 0)))
    year = end.year - YEARS + 1
    sums, at = _sums_from(stage, year), _day_of(end, year)
    first = int(np.searchsorted(sums, sums[at] - target + NEARLY, side="right")) - 1
    if first < 0 or at - first >= LONGEST_STAGE_DAYS:
        raise _never(stage)
    return days.on_or_before(date(year, 1, 1) + timedelta(days=min(first, at - 1)))


def _never(stage: TimedStage) -> Exception:
    need, ceiling = stage.duration.heat_sum_c_d, stage.duration.ceiling_c
    if ceiling is not None and stage.climate is not None:
        # Without its ceiling it would get there: it is heat that keeps it, not cold.
        freely = _heat_by_day_of_year(stage.climate, replace(stage.duration, ceiling_c=None))
        if need is not None and float(freely.sum()) >= need:
            return refuse(
                "stages",
                "never_cool",
                f"“{stage.name}” rests above {ceiling:g} °C, and it is hardly ever cooler where it stands. Choose a cooler place.",
            )
    if stage.duration.paced:
        return refuse(
            "stages",
            "never_grown",
            f"“{stage.name}” hardly grows where it stands: too cold or too dark. Choose a warmer or lighter place.",
        )
    return refuse(
        "stages",
        "never_reached",
        f"“{stage.name}” never gathers its {need:g} °C·d where it stands. Choose a warmer place.",
    )


def backward(*, ready: date, stages: Sequence[TimedStage], calendar: WorkingCalendar) -> tuple[StageDates, ...]:
    """Latest dates by which every stage is done when the last must be over by `ready`.

    A stage stands until the next one starts, so waiting for a working day lengthens the stage
    before it. `stages` and the result are in order of work.
    """
    end, dates = calendar.on_or_before(ready), []
    for stage in reversed(stages):
        start = start_for(stage, end, calendar)
        dates.append(StageDates(start, end))
        end = start
    return tuple(reversed(dates))


def forward(*, start: date, stages: Sequence[TimedStage], calendar: WorkingCalendar) -> tuple[StageDates, ...]:
    """Earliest dates of every stage when the first starts on or after `start`."""
    dates: list[StageDates] = []
    begin = (next(iter(stages)).starts_on or calendar).on_or_after(start)
    for index, stage in enumerate(stages):
        following = stages[index + 1] if index + 1 < len(stages) else None
        days = (following.starts_on if following else None) or calendar
        end = days.on_or_after(end_of(stage, begin))
        dates.append(StageDates(begin, end))
        begin = end
    return tuple(dates)


def last_useful_start(
    *, deadline: date, stages: Sequence[TimedStage], calendar: WorkingCalendar, not_before: date
) -> date | None:
    """Last start from which the work is still over by `deadline`; None when that has passed."""
    start = backward(ready=deadline, stages=stages, calendar=calendar)[0].start
    return start if start >= not_before else None


def stopped_days(stage: TimedStage, dates: StageDates) -> int:
    """Days of a stage whose peak passes its ceiling: seed rests instead of growing."""
    ceiling = stage.duration.ceiling_c
    if ceiling is None or stage.climate is None:
        return 0
    days, first = (dates.end - dates.start).days, dates.start.timetuple().tm_yday - 1
    if stage.climate.weather is None and first + days <= 365:  # within a year, as most stages are: looked at in one go
        return int(np.count_nonzero(_peaks_of_year(stage.climate)[first : first + days] > ceiling))
    return sum(peak_on(stage.climate, dates.start + timedelta(days=n)) > ceiling for n in range(days))


def cold_days(stage: TimedStage, dates: StageDates) -> int:
    """Days of a stage on which its place is colder than it asks, its first day counting."""
    if stage.season.floor_c is None or stage.climate is None:
        return 0
    days = max(1, (dates.end - dates.start).days)
    floor, climate = stage.season.floor_c, stage.climate
    means = year_of_means(climate)
    span = [dates.start + timedelta(days=n) for n in range(min(days, 366))]
    by_day = [mean_on(climate, day) if climate.weather else means[day.timetuple().tm_yday - 1] for day in span]
    return int(sum(mean < floor - NEARLY for mean in by_day))


def follow(
    *, begun: date, stages: Sequence[TimedStage], planned: Sequence[StageDates], calendar: WorkingCalendar
) -> tuple[StageDates, ...]:
    """Dates from a stage that really began on `begun`: the plan is kept where it still can be.

    `stages` and `planned` start with the stage that began; no later stage starts before its
    planned day, and none before the stage ahead of it is over.
    """
    dates: list[StageDates] = []
    begin = begun
    for index, stage in enumerate(stages):
        following = stages[index + 1] if index + 1 < len(stages) else None
        days = (following.starts_on if following else None) or calendar
        end = days.on_or_after(max(end_of(stage, begin), planned[index].end))
        dates.append(StageDates(begin, end))
        begin = end
    return tuple(dates)
