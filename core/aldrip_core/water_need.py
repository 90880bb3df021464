"""How much water plants take by day where they stand, by what stage they are in, and how often what they stand in is filled up."""

from dataclasses import dataclass
from datetime import date
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from aldrip_core.daylight import above_clouds
from aldrip_core.refusal import refuse
from aldrip_core.schedule import Climate, year_of_means
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, Working, computed

MM_PER_MJ = 0.408  # of water that a megajoule a square metre evaporates (Allen et al. 1998, equation 20)
HARGREAVES = 0.0023, 17.8  # Hargreaves & Samani 1985, in Allen et al. 1998, equation 52
#: Of what a closed stand of grass takes, by the kind of stage; common practice, no source.
TAKES = {"sow": 0.4, "germinate": 0.4, "prick": 0.6, "thin": 0.7, "grow": 0.8, "pot": 0.8}
FULL = 0.9  # of every other stage
EASILY = 0.2  # of what a cell or pot holds, given before plants suffer; common practice, no source
TO_EMERGENCE = 14  # light waterings a week until it is up: twice a day; common practice, no source
ON_LAND = 2.5  # thorough ones a week, once rooted: two to three; common practice, no source


@lru_cache(maxsize=256)
def evaporates(climate: Climate) -> NDArray[np.float64]:
    """What a closed stand takes by day of a 366-day year (366,) [mm/day]: by the light that gets in and the warmth there.

    Hargreaves & Samani 1985; the daily range is that of its site, which tells how clear the sky is. Without a latitude, 50°.
    """
    factor, shift = HARGREAVES
    light = above_clouds(50.0 if climate.latitude is None else climate.latitude) * MM_PER_MJ * climate.lets_in
    warm = np.maximum(0.0, year_of_means(climate) + shift)
    return np.asarray(factor * warm * np.sqrt(2 * climate.daily_swing_c) * light)


@lru_cache(maxsize=256)
def _summed(climate: Climate) -> NDArray[np.float64]:
    days = evaporates(climate)
    return np.concatenate(([0.0], np.cumsum(np.tile(days, 4))))


def mm_between(climate: Climate, start: date, end: date) -> float:
    """What a closed stand takes in the days `[start, end)`, at most three years [mm]."""
    first, days = start.timetuple().tm_yday - 1, (end - start).days
    if not 0 <= days <= 3 * 366:
        raise refuse("end", "out_of_range", "Water is reckoned for up to three years at once.")
    sums = _summed(climate)
    return float(sums[first + days] - sums[first])


@dataclass(frozen=True, slots=True)
class WaterNeed:
    """Of a stage: millimetres and litres a day on the mean of its days, waterings a week, litres of one, litres in all."""

    mm_a_day: float
    litres_a_day: float
    times_a_week: float
    litres_a_time: float
    litres: float
    working: Working = ()


def water_need(
    *,
    climate: Climate,
    start: date,
    end: date,
    area_m2: float,
    kind: str,
    each_ml: float | None = None,
    each_m2: float | None = None,
) -> WaterNeed | None:
    """What plants on an area take in the days `[start, end)` of a stage of this kind; None where nothing of it is known.

    each_ml, each_m2: what the cell or pot of one holds and its ground; None on land. Raises Refused. A model, not a meter:
    lift a tray, look at a leaf.
    """
    days = (end - start).days
    if days <= 0 or area_m2 <= 0:
        return None
    takes = TAKES.get(kind, FULL)
    mm = mm_between(climate, start, end) * takes / days
    a_day = mm * area_m2
    if mm <= 0:
        return None
    working = [
        Step(
            "A day takes",
            "what a closed stand takes, mean of its days × its stage",
            (Given("closed stand", mm / takes, "mm"), Given("its stage", takes, "share")),
            mm,
            "mm",
        ),
        Step("Litres a day", "mm × ground", (computed("mm", mm), Given("ground", area_m2, "m²")), a_day, "L"),
    ]
    if kind in ("sow", "germinate"):
        times = float(TO_EMERGENCE)
        working.append(Step("Times a week", "lightly, twice a day until it is up", (), times))
    elif each_ml and each_m2:
        held = each_ml / 1000 * EASILY / each_m2
        times = float(max(2, min(TO_EMERGENCE, ceil_whole(mm * 7 / held))))
        given = (computed("mm", mm), Given("held by a cell or pot", held, "mm"))
        working.append(Step("Times a week", "mm × 7 ÷ what a cell gives easily, up; 2 to 14", given, times))
    else:
        times = ON_LAND
        working.append(Step("Times a week", "thoroughly, two to three times", (), times))
    a_time = a_day * 7 / times
    working.append(Step("At once", "litres a day × 7 ÷ times", (computed("a day", a_day, "L"),), a_time, "L"))
    return WaterNeed(mm, a_day, times, a_time, a_day * days, tuple(working))
