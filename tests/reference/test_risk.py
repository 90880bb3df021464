"""Futures against scipy's own distributions and against the analytic forecast; shared causes leave each chance as it is."""

import math
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from aldrip_core.distributions import Spread, chance_of_sum, smallest_trials
from aldrip_core.forecast import Stock, forecast
from aldrip_core.risk import GRID, Cause, Drawn, Promise, draw, quantiles

means, sds = st.floats(0.05, 0.98), st.floats(0.005, 0.12)
SEASON = Cause("season", 0.2)


def spread_of(mean: float, sd: float) -> Spread:
    return Spread.from_mean_sd(mean, min(sd, 0.6 * math.sqrt(mean * (1 - mean))))


class Rates(TestCase):
    @settings(max_examples=80, deadline=None)
    @given(means, sds)
    def test_the_rate_looked_up_is_that_of_the_beta(self, mean: float, sd: float) -> None:
        """scipy.stats.beta.ppf at the normal probability of each point."""
        spread = spread_of(mean, sd)
        exact = stats.beta.ppf(stats.norm.cdf(GRID), spread.alpha, spread.beta)
        inside = np.abs(GRID) <= 4
        self.assertLess(float(np.abs(quantiles(spread) - exact)[inside].max()), 2e-3)


class Futures(TestCase):
    @settings(max_examples=25, deadline=None)
    @given(st.lists(st.tuples(st.integers(50, 20_000), means, sds), min_size=1, max_size=3), st.floats(0.9, 1.1))
    def test_apart_it_is_the_forecast(self, many: list[tuple[int, float, float]], share: float) -> None:
        stocks = [Stock(units, spread_of(mean, sd)) for units, mean, sd in many]
        needed = round(share * sum(one.units * one.remaining.mean for one in stocks))
        exact = forecast(needed=needed, stocks=stocks).chance
        drawn = draw([Promise(1, needed, tuple(Drawn(one.units, one.remaining) for one in stocks))]).chance(0)
        self.assertLess(abs(drawn - exact), 0.02)  # four standard errors of 10 000 futures

    def test_a_cause_in_common_leaves_each_chance_and_lets_promises_fail_together(self) -> None:
        spread = Spread.from_mean_sd(0.85, 0.05)
        one = [Promise(n, 850, (Drawn(1000, spread, (SEASON,)),)) for n in range(30)]
        exact = forecast(needed=850, stocks=[Stock(1000, spread)]).chance
        found = draw(one)
        for at in range(30):
            self.assertLess(abs(found.chance(at) - exact), 0.025)
        self.assertGreater(found.of_all(), 10 * found.apart())
        self.assertAlmostEqual(sum(found.missed()), 1)
        usual = sum(n * share for n, share in enumerate(found.missed()))
        effect = found.effect("season")
        self.assertAlmostEqual(effect.usual, usual, places=6)
        self.assertGreater(effect.missed, 1.5 * effect.usual)
        self.assertEqual(len(effect.worse), 30)

    def test_two_batches_of_one_cause_are_less_sure_than_two_apart(self) -> None:
        """What is spread over two batches is no safer where both hang on one lot."""
        spread = Spread.from_mean_sd(0.8, 0.1)
        lot = (Cause("lot", 0.9),)
        together = draw([Promise(1, 1400, (Drawn(1000, spread, lot), Drawn(1000, spread, lot)))]).chance(0)
        apart = chance_of_sum(needed=1400, parts=[(1000, spread), (1000, spread)])
        self.assertLess(together, apart - 0.03)

    def test_the_same_seed_gives_the_same_futures_and_nothing_needed_is_certain(self) -> None:
        promise = Promise(1, 900, (Drawn(1000, Spread(0.9), (SEASON,)),))
        self.assertTrue((draw([promise]).met == draw([promise]).met).all())
        self.assertEqual(draw([Promise(1, 0, ())]).chance(0), 1.0)
        self.assertEqual(draw([Promise(1, 5, ())]).chance(0), 0.0)
        self.assertEqual((draw([]).of_all(), draw([]).missed()[0]), (1.0, 1.0))


def kept_share(chance: float, seasons: int = 500, lines: int = 40, seed: int = 3) -> tuple[float, float]:
    """Share of lines kept over seasons drawn with shared causes: started for a chance, and with a tenth on top by habit."""
    any_ = np.random.default_rng(seed)
    planned, habit = [], []
    for n in range(lines):
        spread = Spread.from_mean_sd(float(any_.uniform(0.6, 0.95)), float(any_.uniform(0.02, 0.06)))
        needed = int(any_.integers(500, 20_000))
        causes = (Cause(("lot", n % 9), 0.3), Cause(("week", n % 12), 0.25), Cause("season", 0.1))
        start = smallest_trials(needed=needed, chance=chance, spread=spread, most=10**6) or 0
        planned.append(Promise(n, needed, (Drawn(start, spread, causes),)))
        habit.append(Promise(n, needed, (Drawn(round(needed * 1.1 / spread.mean), spread, causes),)))
    return tuple(float(draw(one, futures=seasons, seed=seed).met.mean()) for one in (planned, habit))  # type: ignore[return-value]


class Calibration(TestCase):
    def test_what_is_promised_at_a_chance_is_kept_that_often(self) -> None:
        """Over 500 seasons of 40 lines with causes in common; the lump of a tenth keeps neither."""
        for chance, low, high in ((0.95, 0.93, 0.97), (0.8, 0.77, 0.83)):
            kept, _ = kept_share(chance)
            self.assertTrue(low <= kept <= high, (chance, kept))
