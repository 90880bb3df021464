"""Dates against the slow exact way: try every day."""

from datetime import date, timedelta
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.schedule import (
    Climate,
    Duration,
    StageDates,
    TimedStage,
    backward,
    end_of,
    follow,
    forward,
    gathered_on,
    last_useful_start,
    mean_on,
    peak_on,
    start_for,
)
from aldrip_core.thermal_time import thermal_time
from aldrip_core.working_calendar import WorkingCalendar

COAST = (6.0, 7.0, 9.5, 12.0, 16.0, 20.0, 23.0, 23.0, 19.5, 15.0, 10.0, 7.0)
PLACES = (
    Climate(COAST),
    Climate(COAST, set_point_c=18, excess_c=3),
    Climate(COAST, set_point_c=18.5, cooled_to_c=18.5),
)
calendars = st.builds(
    lambda days, closed: WorkingCalendar(
        frozenset(days), frozenset(date(2027, 1, 1) + timedelta(days=n) for n in closed)
    ),
    st.sets(st.integers(0, 6), min_size=2),
    st.sets(st.integers(0, 360), max_size=20),
)
stages = st.builds(
    lambda heat, days, base, place: TimedStage(
        "stage", Duration(heat_sum_c_d=heat, base_c=base) if heat else Duration(days=days), PLACES[place]
    ),
    st.one_of(st.none(), st.floats(20, 400)),
    st.integers(0, 40),
    st.floats(0, 5),
    st.integers(0, 2),
)


class Exact(TestCase):
    @given(stages, st.dates(date(2027, 2, 1), date(2027, 12, 1)), calendars)
    @settings(max_examples=120, deadline=None)
    def test_no_later_working_day_would_do(self, stage: TimedStage, end: date, calendar: WorkingCalendar) -> None:
        start = start_for(stage, end, calendar)
        self.assertTrue(calendar.works(start))
        self.assertLessEqual(end_of(stage, start), end)
        later = start + timedelta(days=1)
        while later <= end:
            if calendar.works(later):
                self.assertGreater(end_of(stage, later), end, later)
                break
            later += timedelta(days=1)

    @given(st.lists(stages, min_size=2, max_size=4), st.dates(date(2027, 4, 1), date(2027, 11, 1)), calendars)
    @settings(max_examples=60, deadline=None)
    def test_a_start_on_the_next_working_day_would_miss_the_deadline(
        self, line: list[TimedStage], deadline: date, calendar: WorkingCalendar
    ) -> None:
        start = last_useful_start(deadline=deadline, stages=line, calendar=calendar, not_before=date(2020, 1, 1))
        assert start is not None
        self.assertLessEqual(forward(start=start, stages=line, calendar=calendar)[-1].end, max(deadline, start))
        following = calendar.on_or_after(start + timedelta(days=1))
        back = backward(ready=deadline, stages=line, calendar=calendar)
        self.assertGreater(following, back[0].start)

    @given(stages, st.dates(date(2027, 1, 1), date(2027, 12, 31)))
    @settings(max_examples=80, deadline=None)
    def test_warmth_day_by_day_agrees_with_the_calculator(self, stage: TimedStage, start: date) -> None:
        if stage.duration.heat_sum_c_d is None or stage.climate is None:
            self.assertEqual(end_of(stage, start), start + timedelta(days=stage.duration.days or 0))
            return
        means = [mean_on(stage.climate, start + timedelta(days=n)) for n in range(500)]
        slow = thermal_time(heat_sum_c_d=stage.duration.heat_sum_c_d, base_c=stage.duration.base_c, daily_mean_c=means)
        self.assertEqual((end_of(stage, start) - start).days, slow.days)
        self.assertAlmostEqual(gathered_on(stage, start), max(0.0, means[0] - stage.duration.base_c))

    def test_narrower_sowing_days_hold_for_the_sowing_alone(self) -> None:
        sowing = WorkingCalendar(frozenset({1, 4}))
        line = [
            TimedStage("sow", Duration(days=0), None, sowing),
            TimedStage("up", Duration(days=6)),
            TimedStage("out", Duration(days=1)),
        ]
        back = backward(ready=date(2027, 8, 4), stages=line, calendar=WorkingCalendar())
        self.assertIn(back[0].start.weekday(), (1, 4))
        self.assertEqual(back[1].start, back[0].end)
        ahead = forward(start=date(2027, 7, 7), stages=line, calendar=WorkingCalendar())
        self.assertEqual(ahead[0].start, date(2027, 7, 9))

    def test_a_stage_that_began_early_waits_for_its_plan(self) -> None:
        line = [TimedStage("up", Duration(days=5)), TimedStage("out", Duration(days=3))]
        planned = (StageDates(date(2027, 7, 8), date(2027, 7, 14)), StageDates(date(2027, 7, 14), date(2027, 7, 19)))
        real = follow(begun=date(2027, 7, 6), stages=line, planned=planned, calendar=WorkingCalendar())
        self.assertEqual(
            real, (StageDates(date(2027, 7, 6), date(2027, 7, 14)), StageDates(date(2027, 7, 14), date(2027, 7, 19)))
        )

    def test_a_cooled_place_has_no_peak_above_its_mean_and_leap_days_are_days(self) -> None:
        for day in (date(2028, 2, 29), date(2027, 7, 6)):
            self.assertEqual(peak_on(PLACES[2], day), mean_on(PLACES[2], day))
            self.assertEqual(peak_on(PLACES[0], day), mean_on(PLACES[0], day) + 5)

    def test_a_thermal_stage_without_a_place_is_refused(self) -> None:
        with self.assertRaises(Refused) as caught:
            end_of(TimedStage("up", Duration(heat_sum_c_d=50)), date(2027, 7, 6))
        self.assertEqual(caught.exception.errors[0].field, "place")
