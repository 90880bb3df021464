"""How sure a day is: the sum of what stages may take longer, against throwing every stage a thousand times."""

from datetime import date, timedelta
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.in_time import InTime, in_time

READY = date(2027, 5, 12)
gives = st.lists(st.floats(0.5, 20), min_size=1, max_size=6)


def sure(found: list[float], hand: int | None, wanted: float = 0.95) -> InTime:
    named = [(f"s{n}", give) for n, give in enumerate(found)]
    last_day = None if hand is None else READY + timedelta(days=hand)
    told = in_time(ready=READY, last_day=last_day, gives=named, chance_wanted=wanted)
    assert told is not None
    return told


class Sure(TestCase):
    @given(gives, st.integers(-10, 25))
    @settings(max_examples=30, deadline=None)
    def test_as_often_as_stages_that_are_thrown(self, found: list[float], hand: int) -> None:
        """Each stage ends nine times in ten within its give or take; a day that has begun is that day."""
        thrown = np.random.default_rng(7).normal(0, 1, (40_000, len(found))) * np.array(found) / 1.6448536
        end = np.round(thrown.sum(axis=1))
        chance = sure(found, hand).chance
        assert chance is not None
        self.assertAlmostEqual(chance, float((end <= hand).mean()), delta=0.02)
        within = np.abs(thrown.sum(axis=1)) <= sure(found, None).give_days
        self.assertAlmostEqual(float(within.mean()), 0.90, delta=0.01)

    @given(gives, st.floats(0.5, 0.999))
    @settings(max_examples=60, deadline=None)
    def test_the_days_in_hand_that_are_enough_are_the_fewest(self, found: list[float], wanted: float) -> None:
        days = sure(found, 0, wanted).days_wanted
        assert days is not None
        self.assertGreaterEqual(sure(found, days, wanted).chance or 0, wanted - 1e-9)
        if days:
            self.assertLess(sure(found, days - 1, wanted).chance or 0, wanted)

    def test_where_no_stage_says_nothing_is_claimed(self) -> None:
        self.assertIsNone(in_time(ready=READY, last_day=READY, gives=[]))
