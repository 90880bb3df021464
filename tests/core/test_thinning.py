"""Thick and thinned against at stand: against rows that are sown at random and walked through."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.thinning import ways_to_a_stand


class Stands(TestCase):
    @given(st.floats(0.35, 0.97), st.floats(0.01, 0.2), st.floats(2, 40))
    @settings(max_examples=25, deadline=None)
    def test_a_row_sown_at_random_has_the_gaps_and_the_work_that_are_told(
        self, emergence: float, gaps: float, apart: float
    ) -> None:
        rng = np.random.default_rng(7)
        found = ways_to_a_stand(plants=60_000, in_row_cm=apart, emergence=emergence, gaps=gaps)
        where = rng.integers(0, found.stands, found.thick.seeds)  # each seed falls anywhere in the row
        up = np.bincount(where[rng.random(len(where)) < emergence], minlength=found.stands)
        self.assertAlmostEqual(float((up == 0).mean()), gaps, delta=0.006)
        self.assertAlmostEqual(int(np.clip(up - 1, 0, None).sum()), found.thick.pulled, delta=0.02 * found.thick.seeds)
        spots = rng.binomial(found.a_stand, emergence, found.stands)
        self.assertAlmostEqual(float((spots == 0).mean()), found.at_stand.gaps, delta=0.006)
        self.assertLessEqual(found.at_stand.gaps, gaps + 1e-12)
        self.assertAlmostEqual(float((spots > 1).sum()) / 900, found.at_stand.hours, delta=0.02 * found.stands / 900)
        self.assertGreaterEqual(found.stands * (1 - gaps) + 1e-6, 60_000)
        # One seed fewer at every spot leaves too many gaps.
        if found.a_stand > 1:
            self.assertGreater((1 - emergence) ** (found.a_stand - 1), gaps)

    def test_what_cannot_be_is_refused(self) -> None:
        good = {"plants": 100, "in_row_cm": 10.0, "emergence": 0.7}
        for wrong, field in (
            ({"plants": 0}, "plants"),
            ({"in_row_cm": 0.0}, "in_row"),
            ({"emergence": 0.0}, "emergence"),
            ({"emergence": 0.05}, "emergence"),
            ({"gaps": 0.0}, "gaps"),
            ({"pulled_an_hour": 0.0}, "pulled_an_hour"),
            ({"singled_an_hour": -1.0}, "singled_an_hour"),
        ):
            with self.subTest(wrong), self.assertRaises(Refused) as caught:
                ways_to_a_stand(**{**good, **wrong})  # type: ignore[arg-type]
            self.assertEqual(caught.exception.errors[0].field, field)

    def test_seed_that_all_comes_up_is_sown_one_by_one(self) -> None:
        found = ways_to_a_stand(plants=97, in_row_cm=10, emergence=1, tgw_g=4)
        self.assertEqual((found.a_stand, found.at_stand.pulled, found.at_stand.seed_g), (1, 0, 0.4))
