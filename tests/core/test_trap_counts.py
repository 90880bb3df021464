"""Trap counts: what chance alone does is seldom told as more, and what has really risen is told."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import binomtest

from aldrip_core.refusal import Refused
from aldrip_core.trap_counts import SELDOM, Catch, against


class Against(TestCase):
    def test_the_same_rate_is_seldom_told_as_another_and_three_times_as_many_soon_are(self) -> None:
        """Two thousand pairs of readings drawn at known rates, of other numbers of traps and days."""
        rng = np.random.default_rng(7)
        for rate in (0.3, 2.0, 15.0):
            now, before = Catch(0, 6, 5), Catch(0, 4, 10)
            drawn = [
                against(Catch(int(n), 6, 5), Catch(int(b), 4, 10))
                for n, b in zip(
                    rng.poisson(rate * now.trap_weeks, 2000), rng.poisson(rate * before.trap_weeks, 2000), strict=True
                )
            ]
            # Each side is told in one of a hundred at most; three standard errors above it.
            for side in (1, -1):
                self.assertLess(drawn.count(side) / 2000, SELDOM + 3 * (SELDOM / 2000) ** 0.5, (rate, side))
        risen = [
            against(Catch(int(n), 6, 5), Catch(int(b), 4, 10))
            for n, b in zip(rng.poisson(3 * 15 * 30 / 7, 500), rng.poisson(15 * 40 / 7, 500), strict=True)
        ]
        self.assertEqual(risen, [1] * 500)

    @given(*(st.integers(0, 3000),) * 2, *(st.integers(1, 40),) * 2, *(st.integers(1, 60),) * 2)
    @settings(max_examples=150, deadline=None)
    def test_each_verdict_is_that_of_the_exact_binomial_test(
        self, found: int, was: int, traps: int, had: int, days: int, ago: int
    ) -> None:
        """Against scipy's binomial test, one-sided either way."""
        now, before = Catch(found, traps, days), Catch(was, had, ago)
        part = traps * days / (traps * days + had * ago)
        chances = [
            binomtest(found, max(found + was, 1), part, alternative=way).pvalue if found + was else 1.0
            for way in ("greater", "less")
        ]
        if min(abs(chance - SELDOM) for chance in chances) < 1e-6:  # rounding may tell it either way
            return
        self.assertEqual(against(now, before), 1 if chances[0] <= SELDOM else -1 if chances[1] <= SELDOM else 0)

    def test_what_cannot_be_is_refused(self) -> None:
        for values, field in (((-1, 1, 7), "found"), ((1, 0, 7), "traps"), ((1, 1, 0), "days"), ((1, 1, 4000), "days")):
            with self.assertRaises(Refused) as caught:
                Catch(*values)
            self.assertEqual(caught.exception.errors[0].field, field)
