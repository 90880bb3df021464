"""Tails of counts against scipy and against simulation."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import special, stats

from aldrip_core.distributions import (
    Spread,
    chance_of_sum,
    expected_shortage,
    fit_beta_binomial,
    log_gamma,
    product,
    quantile_of_sum,
    smallest_trials,
    tail_at_least,
)


class AgainstScipy(TestCase):
    @given(st.integers(1, 50_000), st.floats(0.001, 0.999), st.floats(0, 1))
    @settings(max_examples=200, deadline=None)
    def test_binomial(self, trials: int, rate: float, place: float) -> None:
        needed = int(place * trials)
        self.assertAlmostEqual(
            tail_at_least(needed=needed, trials=trials, spread=Spread(rate)),
            stats.binom.sf(needed - 1, trials, rate),
            delta=1e-8,
        )

    @given(st.integers(1, 20_000), st.floats(0.2, 3000), st.floats(0.2, 3000), st.floats(0, 1))
    @settings(max_examples=200, deadline=None)
    def test_beta_binomial(self, trials: int, alpha: float, beta: float, place: float) -> None:
        needed = int(place * trials)
        ours = tail_at_least(needed=needed, trials=trials, spread=Spread(alpha, beta))
        # scipy sums its terms one by one; below a thousand it is the better judge of the far tail.
        self.assertAlmostEqual(ours, stats.betabinom.sf(needed - 1, trials, alpha, beta), delta=2e-7)

    def test_the_smallest_start_is_the_smallest(self) -> None:
        for needed, chance, spread in (
            (200, 0.95, Spread(160, 40)),
            (12_000, 0.99, Spread(0.8)),
            (1, 0.5, Spread(1, 3)),
        ):
            start = smallest_trials(needed=needed, chance=chance, spread=spread, most=10**6)
            assert start is not None
            tail = stats.binom.sf if spread.beta is None else stats.betabinom.sf
            arguments = (spread.alpha,) if spread.beta is None else (spread.alpha, spread.beta)
            self.assertGreaterEqual(tail(needed - 1, start, *arguments), chance - 1e-9)
            self.assertLess(tail(needed - 1, start - 1, *arguments), chance)

    def test_log_gamma(self) -> None:
        x = np.array([1e-6, 0.3, 1.0, 7.5, 123.4, 1e5, 1e8])
        np.testing.assert_allclose(log_gamma(x), special.gammaln(x), rtol=1e-12, atol=1e-12)

    def test_expected_shortage(self) -> None:
        k = np.arange(501)
        exact = (np.clip(420 - k, 0, None) * stats.betabinom.pmf(k, 500, 80, 20)).sum()
        self.assertAlmostEqual(expected_shortage(needed=420, trials=500, spread=Spread(80, 20)), exact, places=6)

    def test_the_fit_is_no_less_likely_than_the_truth_it_was_drawn_from(self) -> None:
        random = np.random.default_rng(27)
        rates = random.beta(80, 20, 300)
        good = random.binomial(400, rates)
        fit = fit_beta_binomial(good.tolist(), [400] * 300)
        assert fit.beta is not None
        ours = stats.betabinom.logpmf(good, 400, fit.alpha, fit.beta).sum()
        self.assertGreaterEqual(ours, stats.betabinom.logpmf(good, 400, 80, 20).sum())
        for a, b in ((fit.alpha * 1.05, fit.beta), (fit.alpha, fit.beta * 1.05), (fit.alpha * 1.1, fit.beta * 1.1)):
            self.assertGreater(ours, stats.betabinom.logpmf(good, 400, a, b).sum())
        self.assertAlmostEqual(fit.sd, 0.04, delta=0.006)


class AgainstSimulation(TestCase):
    def test_chance_and_quantiles_of_two_batches_together(self) -> None:
        random = np.random.default_rng(7)
        draws = 200_000
        first = random.binomial(9000, random.beta(300, 60, draws))
        second = random.binomial(3000, random.beta(90, 30, draws))
        total = first + second
        parts = ((9000, Spread(300, 60)), (3000, Spread(90, 30)))
        for needed in (9400, 9700, 10000):
            self.assertAlmostEqual(chance_of_sum(needed=needed, parts=parts), (total >= needed).mean(), delta=0.005)
        for share in (0.05, 0.5, 0.95):
            self.assertAlmostEqual(quantile_of_sum(share=share, parts=parts), np.quantile(total, share), delta=12)

    def test_a_product_of_rates_keeps_mean_and_spread(self) -> None:
        random = np.random.default_rng(8)
        parts = [Spread(160, 40), Spread(390, 10), Spread(190, 10)]
        draws = np.prod([random.beta(s.alpha, s.beta, 400_000) for s in parts], axis=0)
        together = product(parts)
        self.assertAlmostEqual(together.mean, draws.mean(), delta=2e-4)
        self.assertAlmostEqual(together.sd, draws.std(), delta=2e-4)
