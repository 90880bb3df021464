"""Weather by day stands for the climate on its days, and nowhere else; what cannot be is told."""

import unittest
from dataclasses import replace
from datetime import date, timedelta
from itertools import pairwise

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.schedule import (
    Climate,
    Duration,
    PartOfYear,
    StageDates,
    TimedStage,
    backward,
    cold_days,
    end_of,
    mean_on,
    peak_on,
    stopped_days,
    swing_of_year,
    year_of_means,
)
from aldrip_core.seasons import Season
from aldrip_core.thermal_time import daily_heat
from aldrip_core.weather import FORECAST_DAYS, DayRead, Spell, Stay, Weather, frosts, heats, read_day, simulated
from aldrip_core.working_calendar import WorkingCalendar

FIRST = date(2027, 2, 1)
MONTHS = (6.0, 7, 9, 12, 16, 20, 23, 23, 20, 16, 11, 7)
OUTSIDE = Climate(MONTHS)
days_out = st.lists(st.tuples(st.floats(-8, 38), st.floats(0, 12), st.booleans()), min_size=1, max_size=90)


def weather(out: list[tuple[float, float, bool]]) -> tuple[Weather, dict[date, tuple[float, float]]]:
    known = {FIRST + timedelta(days=n): (m, m + s) for n, (m, s, there) in enumerate(out) if there or n == 0}
    found = Weather.of(DayRead(day, m - 1, m, top) for day, (m, top) in known.items())
    assert found is not None
    return found, known


class StandsForTheClimate(unittest.TestCase):
    @given(out=days_out, late=st.integers(-20, 60), heat=st.floats(20, 400))
    def test_a_stage_ends_when_a_count_by_hand_says(
        self, out: list[tuple[float, float, bool]], late: int, heat: float
    ) -> None:
        found, known = weather(out)
        place = replace(OUTSIDE, set_point_c=5.0, excess_c=2.0, weather=found)
        stage = TimedStage("comes up", Duration(heat_sum_c_d=heat, base_c=4.0, ceiling_c=27.0), place)
        start = day = FIRST + timedelta(days=late)
        total = 0.0
        while total < heat - 1e-9:
            at = day.timetuple().tm_yday - 1
            mean, peak = known.get(
                day, (year_of_means(OUTSIDE)[at], year_of_means(OUTSIDE)[at] + swing_of_year(OUTSIDE)[at])
            )
            inside = max(mean + 2.0, 5.0)
            total += daily_heat(mean_c=inside, base_c=4.0, ceiling_c=27.0, max_c=inside + peak - mean)
            day += timedelta(days=1)
            if (day - start).days > 700:
                return
        self.assertEqual(end_of(stage, start), day)

    @given(out=days_out)
    def test_weather_like_the_climate_changes_nothing(self, out: list[tuple[float, float, bool]]) -> None:
        at = [(FIRST + timedelta(days=n)).timetuple().tm_yday - 1 for n in range(len(out))]
        usual = [
            (float(year_of_means(OUTSIDE)[i]), OUTSIDE.daily_swing_c, there)
            for i, (*_, there) in zip(at, out, strict=True)
        ]
        same = replace(OUTSIDE, weather=weather(usual)[0])
        for duration in (Duration(heat_sum_c_d=180, base_c=3, ceiling_c=26), Duration(days=30, full_c=18, base_c=4)):
            plain = backward(
                ready=date(2027, 5, 20), stages=[TimedStage("a", duration, OUTSIDE)], calendar=WorkingCalendar()
            )
            self.assertEqual(
                backward(ready=date(2027, 5, 20), stages=[TimedStage("a", duration, same)], calendar=WorkingCalendar()),
                plain,
            )

    @given(out=days_out, kept=st.floats(-3, 25))
    def test_a_place_is_kept_as_it_is_whatever_the_weather(
        self, out: list[tuple[float, float, bool]], kept: float
    ) -> None:
        found, known = weather(out)
        cooled = replace(OUTSIDE, cooled_to_c=kept, set_point_c=kept, weather=found)
        heated = replace(OUTSIDE, parts=(PartOfYear((2, 1), (2, 14), set_point_c=15.0),), weather=found)
        for day, (mean, peak) in known.items():
            self.assertAlmostEqual(mean_on(cooled, day), kept)
            self.assertAlmostEqual(peak_on(cooled, day), kept)
            inside = max(mean, 15.0) if day <= date(2027, 2, 14) else mean
            self.assertAlmostEqual(mean_on(heated, day), inside)
            self.assertAlmostEqual(peak_on(heated, day), inside + peak - mean)
        self.assertEqual(mean_on(cooled, date(2026, 7, 1)), mean_on(replace(cooled, weather=None), date(2026, 7, 1)))

    def test_hot_and_cold_days_that_are_known_are_counted(self) -> None:
        hot = replace(OUTSIDE, weather=weather([(26.0, 6.0, True)] * 5)[0])
        stage = TimedStage(
            "comes up", Duration(heat_sum_c_d=90, base_c=3, ceiling_c=28), hot, season=Season(floor_c=8.0)
        )
        span = StageDates(FIRST - timedelta(days=2), FIRST + timedelta(days=9))
        self.assertEqual(stopped_days(stage, span), 5)
        self.assertEqual(cold_days(stage, span), sum(year_of_means(OUTSIDE)[i] < 8 for i in (29, 30, 36, 37, 38, 39)))


class WhatIsRead(unittest.TestCase):
    today = date(2027, 7, 6)

    @given(low=st.floats(-50, 50), more=st.floats(0, 5), ahead=st.integers(-400, FORECAST_DAYS))
    def test_a_day_is_read_or_forecast(self, low: float, more: float, ahead: int) -> None:
        one = read_day(self.today + timedelta(days=ahead), low_c=low, high_c=low + more, today=self.today)
        self.assertEqual(one.forecast, ahead > 0)
        self.assertTrue(one.low_c <= one.mean_c <= one.high_c)

    def test_what_cannot_be_is_told_at_its_column(self) -> None:
        for typed, at in (
            ({"low_c": 57.0, "high_c": 82.0}, "low_c"),  # °F
            ({"low_c": 20.0, "high_c": 12.0}, "high_c"),
            ({"low_c": 10.0, "high_c": 20.0, "mean_c": 21.0}, "mean_c"),
            ({"low_c": None, "high_c": 20.0}, "low_c"),
            ({"low_c": 3.0, "high_c": None, "mean_c": 4.0}, "high_c"),
        ):
            with self.subTest(typed), self.assertRaises(Refused) as told:
                read_day(self.today, today=self.today, **typed)  # type: ignore[arg-type]
            self.assertEqual(told.exception.errors[0].field, at)
        with self.assertRaises(Refused) as far:
            read_day(self.today + timedelta(days=FORECAST_DAYS + 1), low_c=1, high_c=2, today=self.today)
        self.assertEqual(far.exception.errors[0].field, "day")

    @given(
        lows=st.dictionaries(st.tuples(st.integers(1, 3), st.integers(0, 14)), st.floats(-9, 9), max_size=24),
        stays=st.lists(
            st.tuples(st.integers(1, 5), st.integers(1, 3), st.integers(0, 14), st.integers(0, 9)), max_size=6
        ),
    )
    def test_frosts_are_every_night_in_which_plants_freeze_once_in_runs(
        self, lows: dict[tuple[int, int], float], stays: list[tuple[int, int, int, int]]
    ) -> None:
        """Against a look at every night and every plant by itself."""
        day = [FIRST + timedelta(days=n) for n in range(25)]
        cold = {(place, day[n]): low for (place, n), low in lows.items()}
        told = frosts(cold, [Stay(batch, place, day[a], day[a + long]) for batch, place, a, long in stays])
        freezing = {
            (n, batch, place, lows[place, n])
            for n in range(15)
            for batch, place, a, long in stays
            if a <= n < a + long and lows.get((place, n), 9) <= 0
        }
        nights = [
            one.spell.first + timedelta(days=n)
            for one in told
            for n in range((one.spell.last - one.spell.first).days + 1)
        ]
        self.assertEqual(nights, [day[n] for n in sorted({n for n, *_ in freezing})])
        for a, b in pairwise(told):
            self.assertGreater((b.spell.first - a.spell.last).days, 1)
        for one in told:
            within = [hit for hit in freezing if one.spell.first <= day[hit[0]] <= one.spell.last]
            self.assertEqual(one.batches, {batch for _, batch, _, _ in within})
            self.assertEqual(one.places, {place for _, _, place, _ in within})
            self.assertEqual(one.spell.worst_c, min(low for *_, low in within))

    def test_heat_is_told_with_its_worst_day(self) -> None:
        peaks = {FIRST + timedelta(days=n): peak for n, peak in enumerate((24.0, 29.0, 33.5, 28.0, 31.0))}
        told = heats(peaks, ceiling_c=28.0)
        self.assertEqual(told[0], Spell(FIRST + timedelta(days=1), FIRST + timedelta(days=2), 33.5))
        self.assertEqual(told[1], Spell(FIRST + timedelta(days=4), FIRST + timedelta(days=4), 31.0))

    def test_a_simulated_service_persists_and_keeps_to_the_climate(self) -> None:
        """Against what an autoregression must show: its mean, its spread and the tie of one day to the next."""
        usual = year_of_means(OUTSIDE)
        days = simulated(usual, swing_c=5, first=date(2000, 1, 1), days=12_000, seed=4)
        off = np.array([one.mean_c - usual[one.day.timetuple().tm_yday - 1] for one in days])
        self.assertLess(abs(off.mean()), 0.3)
        self.assertAlmostEqual(off.std(), 3.0, delta=0.2)
        self.assertAlmostEqual(float(np.corrcoef(off[1:], off[:-1])[0, 1]), 0.75, delta=0.03)
        self.assertEqual(days, simulated(usual, swing_c=5, first=date(2000, 1, 1), days=12_000, seed=4))
        for one in days[:50]:
            read_day(one.day, low_c=one.low_c, high_c=one.high_c, mean_c=one.mean_c, today=self.today)
