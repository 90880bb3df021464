"""A treatment by the clock: where it stands, and what strayed, against a walk minute by minute."""

from datetime import UTC, datetime, timedelta
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.timed_procedure import TempRead, TimedStep, check_steps, product_amount, stands, strayed

START = datetime(2027, 3, 1, 9, 0, tzinfo=UTC)
#: Hot water as it is written down for tomato: 25 minutes at 50 °C, then cooled at once (common practice, no source).
TOMATO = [TimedStep("hot water", 25, 50, over_minutes=1), TimedStep("cool", 5), TimedStep("dry", 24 * 60)]


def after(minutes: float) -> datetime:
    return START + timedelta(minutes=minutes)


class ByTheClock(TestCase):
    @given(
        minutes=st.lists(st.integers(1, 40), min_size=1, max_size=6),
        took=st.lists(st.integers(0, 60), min_size=6, max_size=6),
        now=st.integers(0, 400),
    )
    def test_it_stands_where_a_walk_through_the_minutes_comes_to(
        self, minutes: list[int], took: list[int], now: int
    ) -> None:
        """Hands that take other times than planned: the step walked to, since when, and how far it is over."""
        steps = [TimedStep(str(n), one) for n, one in enumerate(minutes)]
        starts, index, since = [0], 0, 0
        for minute in range(1, now + 1):
            while index + 1 < len(steps) and minute - since >= took[index] > 0:
                index, since = index + 1, minute
                starts.append(minute)
        told = stands(steps, begun=[after(one) for one in starts], now=after(now))
        self.assertEqual((told.index, told.since), (index, after(since)))
        self.assertEqual(told.over_minutes, now - since - minutes[index])
        self.assertEqual(told.over, now - since >= minutes[index])

    @given(took=st.lists(st.floats(1, 60), min_size=1, max_size=3), ends=st.booleans())
    def test_what_was_too_short_or_too_long_is_told_by_how_much(self, took: list[float], ends: bool) -> None:
        begun = [after(sum(took[:n])) for n in range(len(took))]
        told = strayed(TOMATO, begun=begun, ended=after(sum(took)) if ends else None, readings=[])
        lengths = took if ends else took[:-1]
        expected = [
            round(length - step.minutes, 6)
            for step, length in zip(TOMATO, lengths, strict=False)
            if length < step.minutes - 0.5 or (step.name == "hot water" and length > 26)
        ]
        if ends:
            expected += [-step.minutes for step in TOMATO[len(took) :]]
        self.assertEqual([round(one.off_minutes or 0, 6) for one in told], [float(one) for one in expected])

    def test_a_reading_is_held_against_the_step_it_falls_in(self) -> None:
        read = [(-3, 20.0), (1, 50.4), (9, 50.6), (24.9, 49.4), (25, 18.0), (27, 12.0), (24 * 60 + 31, 60.0)]
        begun, ended = [START, after(25), after(30)], after(30 + 24 * 60)
        readings = [TempRead(after(at), c) for at, c in read]
        told = strayed(TOMATO, begun=begun, ended=ended, readings=readings)
        self.assertEqual([one.words() for one in told], ["hot water: 0.6 °C too warm", "hot water: 0.6 °C too cold"])

    def test_what_cannot_be_followed_is_refused(self) -> None:
        wrong = ([], [TimedStep("x", 0)], [TimedStep("x", 10**6)], [TimedStep("x", 5, 50, 0)])
        for steps in (*wrong, [TimedStep("x", 5, over_minutes=-1)]):
            with self.subTest(steps), self.assertRaises(Refused):
                check_steps(steps)
        check_steps(TOMATO)
        for begun in ([], [START] * 4, [START, after(-1)]):
            with self.subTest(begun), self.assertRaises(Refused):
                stands(TOMATO, begun=begun, now=START)

    def test_a_labels_rate_comes_to_an_amount(self) -> None:
        """Half an ounce to the pound is 31.25 g/kg; 10 g/kg a biological dressing (common practice, no source)."""
        self.assertAlmostEqual(product_amount(rate=31.25, of=0.45359237), 14.17476, 4)
        for rate in (0, -1, 5000):
            with self.subTest(rate), self.assertRaises(Refused):
                product_amount(rate=rate, of=1)
