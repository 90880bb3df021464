"""Edges of the tails, and what must hold whatever the numbers are."""

import math
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.distributions import (
    Spread,
    chance_of_sum,
    count_sd,
    expected_shortage,
    fit_beta_binomial,
    largest_needed,
    probabilities,
    product,
    quantile_of_sum,
    smallest_trials,
    sum_of_counts,
    tail_at_least,
)

spreads = st.one_of(
    st.builds(Spread, st.floats(0.02, 0.98)),
    st.builds(
        lambda m, s: Spread.from_mean_sd(m, s * (m * (1 - m)) ** 0.5), st.floats(0.05, 0.95), st.floats(0.01, 0.5)
    ),
)


class Spreads(TestCase):
    @given(st.floats(0.01, 0.99), st.floats(0.001, 0.9))
    @settings(max_examples=100, deadline=None)
    def test_mean_and_sd_come_back(self, mean: float, share: float) -> None:
        sd = share * (mean * (1 - mean)) ** 0.5
        spread = Spread.from_mean_sd(mean, sd)
        self.assertAlmostEqual(spread.mean, mean, places=9)
        self.assertAlmostEqual(spread.sd, sd, places=9)

    def test_a_spread_wider_than_any_rate_can_have_is_an_error(self) -> None:
        with self.assertRaises(ValueError):
            Spread.from_mean_sd(0.5, 0.5)

    def test_none_and_all_are_exact_whatever_the_spread(self) -> None:
        self.assertEqual(Spread.from_mean_sd(0.0, 0.2), Spread(0.0))
        self.assertEqual(Spread.from_mean_sd(1.0, 0.2), Spread(1.0))

    @given(st.lists(spreads, min_size=1, max_size=6))
    @settings(max_examples=80, deadline=None)
    def test_a_product_is_no_more_than_its_least_factor_and_keeps_its_mean(self, parts: list[Spread]) -> None:
        together = product(parts)
        mean = 1.0
        for part in parts:
            mean *= part.mean
        self.assertAlmostEqual(together.mean, mean, places=9)
        self.assertLessEqual(together.mean, min(part.mean for part in parts) + 1e-12)


class Tails(TestCase):
    def test_nothing_needed_is_certain_and_more_than_there_are_is_impossible(self) -> None:
        for spread in (Spread(0.3), Spread(3, 7)):
            self.assertEqual(tail_at_least(needed=0, trials=10, spread=spread), 1.0)
            self.assertEqual(tail_at_least(needed=-5, trials=10, spread=spread), 1.0)
            self.assertEqual(tail_at_least(needed=11, trials=10, spread=spread), 0.0)
        self.assertEqual(tail_at_least(needed=1, trials=0, spread=Spread(0.9)), 0.0)
        self.assertEqual(tail_at_least(needed=10, trials=10, spread=Spread(1.0)), 1.0)
        self.assertEqual(tail_at_least(needed=1, trials=10, spread=Spread(0.0)), 0.0)

    def test_small_cases_by_hand(self) -> None:
        self.assertAlmostEqual(tail_at_least(needed=2, trials=2, spread=Spread(0.5)), 0.25)
        self.assertAlmostEqual(tail_at_least(needed=1, trials=2, spread=Spread(0.5)), 0.75)
        # A uniform rate makes every count equally likely: 0 … 4, so at least 3 has two chances in five.
        self.assertAlmostEqual(tail_at_least(needed=3, trials=4, spread=Spread(1.0, 1.0)), 0.4)

    @given(st.integers(1, 3000), st.integers(0, 3000), spreads)
    @settings(max_examples=120, deadline=None)
    def test_a_tail_falls_with_the_need_and_rises_with_the_start(
        self, trials: int, needed: int, spread: Spread
    ) -> None:
        here = tail_at_least(needed=needed, trials=trials, spread=spread)
        self.assertTrue(0.0 <= here <= 1.0)
        self.assertLessEqual(tail_at_least(needed=needed + 1, trials=trials, spread=spread), here + 1e-9)
        self.assertGreaterEqual(tail_at_least(needed=needed, trials=trials + 1, spread=spread), here - 1e-9)

    @given(st.integers(1, 4000), spreads)
    @settings(max_examples=60, deadline=None)
    def test_the_terms_add_up_to_one_and_to_the_mean(self, trials: int, spread: Spread) -> None:
        first, chances = probabilities(trials, spread)
        self.assertAlmostEqual(float(chances.sum()), 1.0, delta=2e-6)
        mean = sum((first + n) * float(c) for n, c in enumerate(chances))
        self.assertAlmostEqual(mean / trials, spread.mean, places=4)

    def test_a_wider_spread_lowers_the_chance_of_a_need_below_the_mean(self) -> None:
        chances = [
            tail_at_least(needed=7800, trials=10_000, spread=Spread.from_mean_sd(0.8, sd))
            for sd in (0.0, 0.01, 0.03, 0.06)
        ]
        self.assertEqual(chances, sorted(chances, reverse=True))

    def test_ten_million_take_their_time_but_come(self) -> None:
        spread = Spread.from_mean_sd(0.9, 0.002)
        start = smallest_trials(needed=8_900_000, chance=0.95, spread=spread, most=10_000_000)
        assert start is not None
        self.assertTrue(9_880_000 < start < 10_000_000)
        self.assertIsNone(smallest_trials(needed=9_900_000, chance=0.95, spread=spread, most=10_000_000))


class Starts(TestCase):
    @given(st.integers(1, 4000), st.sampled_from([0.5, 0.9, 0.95, 0.99]), spreads)
    @settings(max_examples=60, deadline=None)
    def test_the_start_is_enough_and_one_less_is_not(self, needed: int, chance: float, spread: Spread) -> None:
        start = smallest_trials(needed=needed, chance=chance, spread=spread, most=10**6)
        if start is None:
            self.assertLess(tail_at_least(needed=needed, trials=10**6, spread=spread), chance)
            return
        self.assertGreaterEqual(tail_at_least(needed=needed, trials=start, spread=spread), chance)
        if start > needed:
            self.assertLess(tail_at_least(needed=needed, trials=start - 1, spread=spread), chance)

    @given(st.integers(1, 4000), st.integers(1, 300), spreads)
    @settings(max_examples=60, deadline=None)
    def test_whole_trays_are_the_single_cells_rounded_up(self, needed: int, step: int, spread: Spread) -> None:
        cells = smallest_trials(needed=needed, chance=0.9, spread=spread, most=10**6)
        trays = smallest_trials(needed=needed, chance=0.9, spread=spread, most=10**6, step=step)
        if cells is not None and cells < 900_000:
            self.assertEqual(trays, -(-cells // step) * step)

    @given(st.integers(1, 5000), st.sampled_from([0.8, 0.95]), spreads)
    @settings(max_examples=60, deadline=None)
    def test_what_may_be_promised_is_the_most_that_holds(self, trials: int, chance: float, spread: Spread) -> None:
        promise = largest_needed(trials=trials, chance=chance, spread=spread)
        self.assertGreaterEqual(tail_at_least(needed=promise, trials=trials, spread=spread), chance)
        self.assertLess(tail_at_least(needed=promise + 1, trials=trials, spread=spread), chance)


class Sums(TestCase):
    def test_one_batch_alone_is_its_own_tail(self) -> None:
        part = (500, Spread(80, 20))
        found = sum_of_counts([part])
        for needed in (380, 400, 420):
            alone = tail_at_least(needed=needed, trials=500, spread=part[1])
            self.assertAlmostEqual(chance_of_sum(needed=needed, parts=[part]), alone)
            self.assertAlmostEqual(found.at_least(needed), alone, places=9)

    @given(st.integers(200_000, 200_000_000), spreads, st.floats(0.01, 0.99))
    @settings(max_examples=60, deadline=None)
    def test_a_count_as_large_as_anybody_types_is_told_at_once_and_agrees_with_its_tail(
        self, trials: int, spread: Spread, share: float
    ) -> None:
        found = sum_of_counts([(trials, spread)])
        self.assertLess(len(found.chances), 20_000)
        self.assertAlmostEqual(float(found.chances.sum()), 1.0, delta=1e-5)
        if spread.beta is not None and min(spread.alpha, spread.beta) < 1:
            return  # its tail takes a term for every count
        count = found.quantile(share)
        self.assertAlmostEqual(1 - tail_at_least(needed=count, trials=trials, spread=spread), share, delta=2e-3)

    def test_ten_times_as_many_in_bins_are_what_they_are_count_by_count(self) -> None:
        parts = [(4_000, Spread.from_mean_sd(0.8, 0.05)), (300, Spread(0.9)), (4_000, Spread.from_mean_sd(0.7, 0.1))]
        fine, coarse = (sum_of_counts([(n * times, spread) for n, spread in parts]) for times in (1, 100))
        self.assertEqual(fine.width, 1)
        self.assertGreater(coarse.width, 1)
        for share in (0.001, 0.05, 0.5, 0.95, 0.999):
            count = fine.quantile(share)
            self.assertAlmostEqual(coarse.quantile(share) / 100, count, delta=0.01 * count)
            self.assertAlmostEqual(coarse.at_least(coarse.quantile(share)), 1 - share, delta=3e-3)

    def test_a_batch_that_is_certain_only_moves_the_need(self) -> None:
        part = (500, Spread(80, 20))
        both = chance_of_sum(needed=520, parts=[part, (100, Spread(1.0))])
        self.assertAlmostEqual(both, tail_at_least(needed=420, trials=500, spread=part[1]), places=9)

    def test_quantiles_are_ordered_and_inside(self) -> None:
        parts = [(500, Spread(80, 20)), (300, Spread(0.7))]
        found = [quantile_of_sum(share=share, parts=parts) for share in (0.01, 0.05, 0.5, 0.95, 0.99)]
        self.assertEqual(found, sorted(found))
        self.assertTrue(found[0] >= 0 and found[-1] <= 800)

    @given(st.integers(1, 800), st.integers(0, 800), spreads)
    @settings(max_examples=60, deadline=None)
    def test_the_shortage_is_none_below_and_all_that_is_missing_above(
        self, trials: int, needed: int, spread: Spread
    ) -> None:
        short = expected_shortage(needed=needed, trials=trials, spread=spread)
        self.assertGreaterEqual(short, max(0.0, needed - trials * spread.mean) - 4e-6 * needed)
        self.assertLessEqual(short, needed + 1e-9)

    def test_batches_that_do_not_differ_are_fitted_narrow_and_those_that_do_wide(self) -> None:
        alike = fit_beta_binomial([80, 81, 79, 80, 80], [100] * 5)
        self.assertLess(alike.sd, 0.002)
        apart = fit_beta_binomial([60, 95, 70, 99, 82], [100] * 5)
        self.assertGreater(apart.sd, 0.08)
        self.assertAlmostEqual(apart.mean, 0.812, delta=0.02)
        self.assertGreater(count_sd(1000, apart), count_sd(1000, alike))


class Narrow(TestCase):
    @given(st.floats(1e-60, 1.0), st.floats(0.0, 0.45))
    def test_however_narrow_a_rate_is_said_its_product_is_a_number(self, mean: float, sd: float) -> None:
        """Found by a random season: a standard deviation of 3e-90 that somebody typed."""
        try:
            spread = Spread.from_mean_sd(mean, sd)
        except ValueError:
            return  # too wide, and said so
        found = product([spread, Spread.from_mean_sd(0.9, 0.03), Spread.from_mean_sd(0.54, sd * 1e-80)])
        self.assertTrue(math.isfinite(found.mean) and math.isfinite(found.sd), found)
        self.assertLess(abs(found.mean - mean * 0.9 * 0.54), 1e-6 + 0.02 * mean)
