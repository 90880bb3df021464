"""A treatment by the clock: where it stands against a walk minute by minute, and readings against the step they fall in."""

from datetime import UTC, datetime, timedelta
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.timed_procedure import TempRead, TimedStep, check_steps, stands, strayed

START = datetime(2027, 3, 1, 9, 0, tzinfo=UTC)
#: Hot water as it is written down for tomato: 25 minutes at 50 °C, then cooled at once (the handbook; from practice).
TOMATO = [TimedStep("hot water", 25, 50), TimedStep("cool", 5), TimedStep("dry", 24 * 60)]


class ByTheClock(TestCase):
    @given(minutes=st.lists(st.integers(1, 40), min_size=1, max_size=6), now=st.integers(0, 300))
    def test_it_stands_where_a_walk_through_the_minutes_comes_to(self, minutes: list[int], now: int) -> None:
        steps = [TimedStep(str(n), one) for n, one in enumerate(minutes)]
        walked = [n for n, one in enumerate(minutes) for _ in range(one)]
        told = stands(steps, started=START, now=START + timedelta(minutes=now))
        self.assertEqual(told.over, now >= len(walked))
        self.assertEqual(told.index, walked[now] if now < len(walked) else len(minutes) - 1)
        self.assertEqual((told.until - told.since).total_seconds() / 60, minutes[told.index])
        self.assertEqual((told.since - START).total_seconds() / 60, sum(minutes[: told.index]))

    def test_a_reading_is_held_against_the_step_it_falls_in(self) -> None:
        read = [(-3, 20.0), (1, 50.4), (9, 50.6), (24.9, 49.4), (25, 18.0), (27, 12.0), (24 * 60 + 31, 60.0)]
        told = strayed(TOMATO, started=START, readings=[TempRead(START + timedelta(minutes=at), c) for at, c in read])
        self.assertEqual([(one.temp_c, round(one.off_c, 1)) for one in told], [(50.6, 0.6), (49.4, -0.6)])

    def test_before_its_start_it_stands_at_the_first(self) -> None:
        told = stands(TOMATO, started=START, now=START - timedelta(minutes=4))
        self.assertEqual((told.index, told.since, told.over), (0, START, False))

    def test_what_cannot_be_followed_is_refused(self) -> None:
        for steps in ([], [TimedStep("x", 0)], [TimedStep("x", 10**6)], [TimedStep("x", 5, 50, 0)]):
            with self.subTest(steps), self.assertRaises(Refused):
                check_steps(steps)
        check_steps(TOMATO)
