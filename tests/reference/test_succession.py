"""A succession by heat on a real daily series: Seattle 2012-2015, US Government data that vega-datasets ships."""

from datetime import date, timedelta
from typing import Any
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st
from vega_datasets import data

from aldrip_core.succession import at_equal_intervals, evenness, harvest_days, succession

#: From memory: a head lettuce asks for some 800 °C·d over 4 °C from sowing to cutting.
HEAT, BASE = 800.0, 4.0


def means() -> list[float]:
    """Daily means by day of the year, of four years."""
    rows: Any = data.seattle_weather()
    rows["mean"] = (rows["temp_max"] + rows["temp_min"]) / 2
    found: list[float] = rows.groupby(rows["date"].dt.dayofyear)["mean"].mean().tolist()
    return found


def ready(sown: date, year: list[float], heat: float, base: float) -> date:
    """By hand, day after day: the first morning on which the heat of the days since the sowing is enough."""
    total, day = 0.0, sown
    while total < heat - 1e-9:
        total += max(0.0, year[min(day.timetuple().tm_yday, len(year)) - 1] - base)
        day += timedelta(days=1)
    return day


class Seattle(TestCase):
    def test_twelve_sowings_by_heat_are_cut_at_most_a_third_as_unevenly_as_at_equal_intervals(self) -> None:
        year = means()
        told = succession(
            first_harvest=date(2027, 6, 7),
            last_harvest=date(2027, 8, 23),
            harvest_every_days=7,
            heat_sum_c_d=HEAT,
            base_c=BASE,
            daily_mean_c_by_day_of_year=year,
        )
        sown = [one.sow for one in told.sowings if one.sow]
        self.assertEqual(len(sown), 12)
        by_heat = evenness(ready(one, year, HEAT, BASE) for one in sown)
        habit = evenness(ready(one, year, HEAT, BASE) for one in at_equal_intervals(sown[0], sown[-1], 12))
        assert by_heat is not None and habit is not None
        self.assertLessEqual(by_heat.spread_days, habit.spread_days / 3)
        self.assertGreater(habit.longest, 7)

    @settings(max_examples=40)
    @given(st.floats(50, 3000), st.floats(-2, 9), st.dates(date(2024, 1, 1), date(2030, 12, 31)), st.integers(1, 40))
    def test_each_is_the_latest_day_that_a_walk_by_hand_finds(
        self, heat: float, base: float, first: date, every: int
    ) -> None:
        year = means()
        last = first + timedelta(days=3 * every)
        told = succession(
            first_harvest=first,
            last_harvest=last,
            harvest_every_days=every,
            heat_sum_c_d=heat,
            base_c=base,
            daily_mean_c_by_day_of_year=year,
        )
        self.assertEqual([one.harvest for one in told.sowings], list(harvest_days(first, last, every)))
        for one in told.sowings:
            if one.sow is None:
                self.assertTrue(told.warnings)
                continue
            self.assertLessEqual(ready(one.sow, year, heat, base), one.harvest)
            self.assertGreater(ready(one.sow + timedelta(days=1), year, heat, base), one.harvest)
