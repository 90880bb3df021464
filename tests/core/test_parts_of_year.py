"""A place that is kept otherwise in parts of the year, against the rule said day by day. Source: arithmetic."""

import random
from datetime import date, timedelta
from unittest import TestCase

from aldrip_core.schedule import Climate, PartOfYear, mean_on, peak_on

INLAND = (-1.0, 1.0, 5.0, 9.0, 14.0, 17.0, 19.0, 18.0, 14.0, 9.0, 4.0, 0.0)


def among(day: date, part: PartOfYear) -> bool:
    here = (day.month, day.day)
    if part.first <= part.last:
        return part.first <= here <= part.last
    return here >= part.first or here <= part.last


class PartsOfYear(TestCase):
    def test_each_day_is_kept_as_the_last_part_that_holds_it_says(self) -> None:
        luck = random.Random(3)
        outside = Climate(INLAND)
        for _ in range(60):
            parts = tuple(
                PartOfYear(
                    (luck.randint(1, 12), luck.randint(1, 28)),
                    (luck.randint(1, 12), luck.randint(1, 28)),
                    luck.choice([None, 6.0, 12.0, 18.0]),
                    luck.choice([0.0, 3.0]),
                    luck.choice([None, 20.0]),
                )
                for _ in range(luck.randint(0, 3))
            )
            climate = Climate(INLAND, set_point_c=4.0, excess_c=1.0, parts=parts)
            for n in range(0, 365, 7):
                day = date(2027, 1, 1) + timedelta(days=n)
                part = next((one for one in reversed(parts) if among(day, one)), None)
                excess, low, high = (part.excess_c, part.set_point_c, part.cooled_to_c) if part else (1.0, 4.0, None)
                wanted = mean_on(outside, day) + excess
                wanted = wanted if low is None else max(wanted, low)
                wanted = wanted if high is None else min(wanted, high)
                self.assertAlmostEqual(mean_on(climate, day), wanted)
                self.assertAlmostEqual(peak_on(climate, day), wanted + (0.0 if high is not None else 5.0))

    def test_without_parts_nothing_is_otherwise(self) -> None:
        for n in range(0, 365, 11):
            day = date(2027, 1, 1) + timedelta(days=n)
            whole = Climate(INLAND, parts=(PartOfYear((1, 1), (12, 31), 15.0),))
            self.assertEqual(mean_on(whole, day), mean_on(Climate(INLAND, set_point_c=15.0), day))
