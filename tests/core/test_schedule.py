"""Dates backwards, forwards, and after what really happened."""

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
    stopped_days,
    year_of_means,
)
from aldrip_core.working_calendar import WorkingCalendar

COAST = (6.0, 7.0, 9.5, 12.0, 16.0, 20.0, 23.0, 23.0, 19.5, 15.0, 10.0, 7.0)
ROOM = Climate(COAST, set_point_c=18.5, cooled_to_c=18.5)
OUTSIDE = Climate(COAST)
WEEK = WorkingCalendar()
durations = st.one_of(
    st.builds(lambda d: Duration(days=d), st.integers(0, 60)),
    st.builds(lambda s: Duration(heat_sum_c_d=s, base_c=2.0), st.floats(10, 900)),
    st.builds(lambda m: Duration(by_month=tuple(m)), st.lists(st.integers(5, 90), min_size=12, max_size=12)),
)


def stages(*found: Duration) -> list[TimedStage]:
    return [TimedStage(f"s{n}", d, ROOM if n % 2 == 0 else OUTSIDE) for n, d in enumerate(found)]


class Dates(TestCase):
    @given(st.dates(date(2026, 1, 1), date(2028, 12, 31)), st.lists(durations, min_size=1, max_size=5))
    @settings(max_examples=80, deadline=None)
    def test_backwards_is_ready_in_time_and_forwards_from_there_is_no_later(
        self, ready: date, found: list[Duration]
    ) -> None:
        line = stages(*found)
        back = backward(ready=ready, stages=line, calendar=WEEK)
        self.assertLessEqual(back[-1].end, ready)
        for stage, dates, after in zip(line, back, [*back[1:], None], strict=True):
            self.assertTrue(WEEK.works(dates.start))
            self.assertLessEqual(end_of(stage, dates.start), dates.end)
            if after is not None:
                self.assertEqual(dates.end, after.start)
        ahead = forward(start=back[0].start, stages=line, calendar=WEEK)
        self.assertLessEqual(ahead[-1].end, back[-1].end)

    @given(
        st.dates(date(2027, 1, 1), date(2027, 12, 31)), st.integers(0, 30), st.lists(durations, min_size=2, max_size=5)
    )
    @settings(max_examples=60, deadline=None)
    def test_what_began_late_pushes_only_what_it_must(self, ready: date, late: int, found: list[Duration]) -> None:
        line = stages(*found)
        planned = backward(ready=ready, stages=line, calendar=WEEK)
        begun = WEEK.on_or_after(planned[0].start + timedelta(days=late))
        real = follow(begun=begun, stages=line, planned=planned, calendar=WEEK)
        for stage, plan, dates in zip(line, planned, real, strict=True):
            self.assertGreaterEqual(dates.end, plan.end)
            self.assertGreaterEqual(dates.end, end_of(stage, dates.start))
        if late == 0:
            self.assertEqual(real, tuple(planned))

    def test_a_start_that_has_passed_is_no_offer(self) -> None:
        line = stages(Duration(days=28))
        self.assertEqual(
            last_useful_start(deadline=date(2027, 8, 6), stages=line, calendar=WEEK, not_before=date(2027, 7, 6)),
            date(2027, 7, 9),
        )
        self.assertIsNone(
            last_useful_start(deadline=date(2027, 8, 6), stages=line, calendar=WEEK, not_before=date(2027, 7, 12))
        )

    def test_cold_that_never_gathers_the_heat_is_said(self) -> None:
        frozen = TimedStage("Emerged", Duration(heat_sum_c_d=100, base_c=10), Climate((0.0,) * 12))
        with self.assertRaises(Refused) as caught:
            end_of(frozen, date(2027, 1, 1))
        self.assertEqual(caught.exception.errors[0].code, "never_reached")

    def test_heat_that_keeps_a_crop_at_rest_is_not_called_cold(self) -> None:
        for ceiling, code in ((25.0, "never_cool"), (None, None), (40.0, None)):
            hot = TimedStage("Emerged", Duration(heat_sum_c_d=71, base_c=3.5, ceiling_c=ceiling), Climate((27.0,) * 12))
            if code is None:
                self.assertLess((end_of(hot, date(2027, 1, 1)) - date(2027, 1, 1)).days, 5)
                continue
            with self.assertRaises(Refused) as caught:
                end_of(hot, date(2027, 1, 1))
            self.assertEqual(caught.exception.errors[0].code, code)
            self.assertIn("cooler", caught.exception.errors[0].message)

    def test_no_working_day_at_all_is_said(self) -> None:
        with self.assertRaises(Refused):
            WorkingCalendar(frozenset()).on_or_after(date(2027, 1, 1))

    def test_closed_days_are_stepped_over(self) -> None:
        calendar = WorkingCalendar(frozenset(range(5)), frozenset({date(2027, 5, 3)}))
        self.assertEqual(calendar.on_or_after(date(2027, 5, 1)), date(2027, 5, 4))
        self.assertEqual(calendar.on_or_before(date(2027, 5, 3)), date(2027, 4, 30))


class Warmth(TestCase):
    def test_months_are_met_in_their_middle_and_heating_is_a_floor(self) -> None:
        for month, mean in enumerate(COAST, start=1):
            self.assertAlmostEqual(mean_on(OUTSIDE, date(2027, month, 15)), mean, delta=0.3)
        self.assertGreaterEqual(year_of_means(Climate(COAST, set_point_c=18)).min(), 18)
        self.assertTrue((year_of_means(ROOM) == 18.5).all())

    def test_seed_rests_above_its_ceiling_on_hot_days_and_not_in_a_cool_room(self) -> None:
        july = StageDates(date(2027, 7, 5), date(2027, 7, 10))
        glass = TimedStage("Emerged", Duration(days=5, ceiling_c=27), Climate(COAST, excess_c=3))
        self.assertEqual(stopped_days(glass, july), 5)
        cool = TimedStage("Emerged", Duration(days=5, ceiling_c=27), ROOM)
        self.assertEqual(stopped_days(cool, july), 0)
        thermal = TimedStage("Emerged", Duration(heat_sum_c_d=71, base_c=3.5, ceiling_c=27), Climate(COAST, excess_c=3))
        self.assertEqual(gathered_on(thermal, date(2027, 7, 6)), 0.0)


class BySeason(TestCase):
    """Common practice, no source: what takes eighteen days in July takes twice that in January."""

    SLOW = (38.0, 34.0, 28.0, 23.0, 20.0, 18.0, 18.0, 18.0, 21.0, 26.0, 33.0, 38.0)

    def days(self, begun: date, climate: Climate | None = OUTSIDE) -> int:
        return (end_of(TimedStage("grow", Duration(by_month=self.SLOW), climate), begun) - begun).days

    @given(st.floats(1, 300), st.dates(date(2026, 1, 1), date(2029, 12, 31)))
    def test_the_same_all_year_is_fixed_days(self, lasts: float, begun: date) -> None:
        stage = TimedStage("grow", Duration(by_month=(lasts,) * 12), OUTSIDE)
        over = (end_of(stage, begun) - begun).days - lasts
        self.assertTrue(-1e-6 <= over < 1 + 1e-6, over)

    @given(st.dates(date(2026, 1, 1), date(2029, 12, 31)))
    def test_it_lies_between_its_shortest_and_its_longest(self, begun: date) -> None:
        self.assertTrue(18 <= self.days(begun) <= 39)

    def test_it_takes_from_both_seasons_and_is_turned_round_in_the_south(self) -> None:
        self.assertGreater(self.days(date(2027, 1, 5)), self.days(date(2027, 2, 20)))
        self.assertEqual(self.days(date(2027, 6, 20)), 18)
        south = Climate(COAST[6:] + COAST[:6])
        self.assertEqual(self.days(date(2027, 12, 20), south), self.days(date(2027, 6, 20)))
        self.assertEqual(self.days(date(2027, 6, 20), None), 18)
