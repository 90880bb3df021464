"""Flowering days by degree-days against the crop sets and the weather of the aquacrop package."""

import unittest
from datetime import date
from typing import Any

import numpy as np
from aquacrop.entities.crops.crop_params import crop_params
from aquacrop.solution.growing_degree_day import growing_degree_day
from aquacrop.utils import get_filepath, prepare_weather

from aldrip_core.thermal_time import degree_day


def heat(weather: Any, sow: date, base: float, upper: float) -> tuple[list[date], np.ndarray]:
    later = weather[weather.Date >= np.datetime64(sow)].head(300)
    days = [stamp.date() for stamp in later.Date]
    each = [
        degree_day(min_c=low, max_c=high, base_c=base, upper_c=upper)
        for low, high in zip(later.MinTemp, later.MaxTemp, strict=True)
    ]
    return days, np.cumsum(each)


class FloweringDays(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        # A Nebraska site, daily 1982-2018, read from the installed package.
        cls.weather = prepare_weather(get_filepath("champion_climate.txt"))

    def test_maize_reaches_flowering_on_the_days_of_the_package(self) -> None:
        """aquacrop's maize: base 8, upper 30, 880 °C·d to flowering, sown 1 May; its method 3 (cut extremes)."""
        maize = crop_params["MaizeGDD"]
        self.assertEqual((maize["Tbase"], maize["Tupp"], maize["HIstart"], maize["GDDmethod"]), (8, 30, 880, 3))
        for year, day in ((1990, (7, 25)), (2000, (7, 20)), (2010, (7, 25)), (2018, (7, 16))):
            days, total = heat(self.weather, date(year, 5, 1), maize["Tbase"], maize["Tupp"])
            reached = days[int(np.argmax(total >= maize["HIstart"]))]
            self.assertLessEqual(abs((reached - date(year, *day)).days), 1, year)

    def test_each_day_is_the_packages_own_degree_day(self) -> None:
        """The package's own routine for daily heat, over four seasons and several crops."""
        for name in ("MaizeGDD", "SunflowerGDD", "SorghumGDD", "TomatoGDD"):
            crop = crop_params[name]
            for row in self.weather.head(1461).itertuples():
                wanted = growing_degree_day(crop["GDDmethod"], crop["Tupp"], crop["Tbase"], row.MaxTemp, row.MinTemp)
                own = degree_day(min_c=row.MinTemp, max_c=row.MaxTemp, base_c=crop["Tbase"], upper_c=crop["Tupp"])
                self.assertAlmostEqual(own, wanted, places=9)
