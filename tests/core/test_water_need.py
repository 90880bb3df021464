"""What plants drink: against published reference evaporation, and against a sum day by day."""

from datetime import date, timedelta
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.daylight import above_clouds
from aldrip_core.refusal import Refused
from aldrip_core.schedule import Climate, year_of_means
from aldrip_core.water_need import TAKES, WaterNeed, evaporates, mm_between, water_need

OPEN = Climate((3, 4, 7, 10, 14, 16.5, 16.9, 17, 14, 10, 6, 3), daily_swing_c=4.6, latitude=50.8)


def drinks(
    climate: Climate = OPEN, *, days: int = 30, ml: float | None = None, m2: float | None = None
) -> WaterNeed | None:
    """Ten square metres in June."""
    first = date(2027, 6, 1)
    end = first + timedelta(days=days)
    return water_need(climate=climate, start=first, end=end, area_m2=10.0, kind="grow", each_ml=ml, each_m2=m2)


class Drinks(TestCase):
    def test_a_july_day_at_fifty_degrees(self) -> None:
        """Allen et al. 1998, FAO Irrigation and Drainage Paper 56, example 18, from memory: Brussels, 6 July, 12.3 to
        21.5 °C; 41.1 MJ/m² a day above the clouds, and 3.9 mm by the full equation; this one needs less and may differ by a tenth.
        """
        day = date(2027, 7, 6).timetuple().tm_yday - 1
        self.assertAlmostEqual(float(above_clouds(50.8)[day]), 41.1, delta=0.3)
        self.assertAlmostEqual(float(year_of_means(OPEN)[day]), 16.9, delta=0.2)
        self.assertAlmostEqual(float(evaporates(OPEN)[day]), 3.9, delta=0.39)

    @given(
        st.dates(date(2026, 1, 1), date(2028, 12, 1)), st.integers(1, 700), st.sampled_from(["grow", "pot", "space"])
    )
    @settings(max_examples=80, deadline=None)
    def test_a_stage_takes_the_sum_of_its_days(self, start: date, days: int, kind: str) -> None:
        end = start + timedelta(days=days)
        first = start.timetuple().tm_yday - 1
        # As everywhere here a year has 366 days, so that a count of days runs past its end.
        by_day = [float(evaporates(OPEN)[(first + n) % 366]) for n in range(days)]
        self.assertAlmostEqual(mm_between(OPEN, start, end), sum(by_day), places=6)
        found = water_need(climate=OPEN, start=start, end=end, area_m2=12, kind=kind, each_ml=20, each_m2=0.001)
        assert found is not None
        self.assertAlmostEqual(found.litres, sum(by_day) * 12 * TAKES.get(kind, 0.9), places=5)
        self.assertAlmostEqual(found.litres_a_time * found.times_a_week, found.litres_a_day * 7, places=6)
        self.assertTrue(2 <= found.times_a_week <= 14)

    def test_small_cells_are_watered_more_often_and_a_roof_saves_some(self) -> None:
        small, large, land = drinks(ml=10, m2=0.0008), drinks(ml=620, m2=0.0121), drinks()
        assert small and large and land
        self.assertGreater(small.times_a_week, large.times_a_week)
        self.assertEqual((small.litres, land.times_a_week), (large.litres, 2.5))
        roofed = drinks(Climate(OPEN.monthly_c, latitude=50.8, daily_swing_c=4.6, lets_in=0.65))
        assert roofed
        self.assertAlmostEqual(roofed.litres, land.litres * 0.65)
        self.assertIsNone(drinks(Climate(OPEN.monthly_c, latitude=50.8, lets_in=0.0)))
        self.assertIsNone(drinks(days=0))
        self.assertTrue(np.all(evaporates(OPEN) >= 0))
        with self.assertRaises(Refused):
            mm_between(OPEN, date(2027, 1, 1), date(2031, 1, 1))
