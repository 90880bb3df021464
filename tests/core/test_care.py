"""Care that comes again: its days, and until when each is asked for, on any calendar."""

from datetime import date, timedelta
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.work import again_on
from aldrip_core.working_calendar import WorkingCalendar

FIRST = date(2027, 3, 1)
ONE = timedelta(days=1)
calendars = st.builds(
    lambda weekdays, closed: WorkingCalendar(frozenset(weekdays), frozenset(FIRST + n * ONE for n in closed)),
    st.sets(st.integers(0, 6), min_size=1),
    st.sets(st.integers(0, 200), max_size=30),
)


class Care(TestCase):
    @given(st.integers(0, 200), st.integers(1, 40), calendars)
    def test_it_comes_on_days_that_are_worked_and_as_often_as_these_allow(
        self, long: int, every: int, working: WorkingCalendar
    ) -> None:
        end = FIRST + long * ONE
        days = again_on(FIRST, end, every, working)
        self.assertEqual(days[0], FIRST)
        self.assertEqual(sorted(set(days)), list(days))
        for day in days[1:]:
            self.assertTrue(working.works(day) and day < end)
        # Against a walk day by day: each time that it is meant is served by the last worked day since the time before.
        meant = [FIRST + n * every * ONE for n in range(1, long) if n * every < long]
        for one in meant:
            worked = [FIRST + n * ONE for n in range(1, (one - FIRST).days + 1) if working.works(FIRST + n * ONE)]
            if worked:
                self.assertIn(max(worked), days)
        self.assertLessEqual(len(days), len(meant) + 1)

    def test_where_everybody_works_every_day_it_is_exactly_so_often(self) -> None:
        every_day = WorkingCalendar(frozenset(range(7)))
        self.assertEqual(again_on(FIRST, FIRST + 12 * ONE, 4, every_day), (FIRST, FIRST + 4 * ONE, FIRST + 8 * ONE))
        self.assertEqual(again_on(FIRST, FIRST, 4, every_day), (FIRST,))
