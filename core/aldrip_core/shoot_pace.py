"""How fast mothers grow shoots week by week where they stand: slower in the cold and on short days."""

from datetime import date, timedelta
from functools import lru_cache

from aldrip_core.daylight import day_hours
from aldrip_core.schedule import Climate, mean_on

FULL_C = 22.0  # at which they grow as fast as they ever do; common practice, no source
BASE_C = 6.0  # at which they stand still; common practice, no source
LONG_DAY_H = 13.0  # shorter days slow them in proportion; common practice, no source


@lru_cache(maxsize=512)
def pace_by_week(climate: Climate, monday: date, weeks: int) -> tuple[float, ...]:
    """Pace of growth [0-1] in each of so many weeks of a place, 1 where it is warm and days are long; mean of its days.

    Warmth: straight from `BASE_C` to `FULL_C`, capped. Day: its hours by `LONG_DAY_H`, capped; lamps make every day a long
    one, and where no latitude is known days are taken as long.

    >>> pace_by_week(Climate((14.0,) * 12), date(2027, 1, 4), 1)
    (0.5,)
    """
    short = climate.latitude is not None and climate.lamps_mol <= 0
    hours = day_hours(climate.latitude) if short and climate.latitude is not None else None
    found = []
    for week in range(weeks):
        total = 0.0
        for n in range(7):
            day = monday + timedelta(days=7 * week + n)
            warm = min(1.0, max(0.0, (mean_on(climate, day) - BASE_C) / (FULL_C - BASE_C)))
            light = 1.0 if hours is None else min(1.0, float(hours[day.timetuple().tm_yday - 1]) / LONG_DAY_H)
            total += warm * light
        found.append(total / 7)
    return tuple(found)
