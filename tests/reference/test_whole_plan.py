"""The plan's chance and the forecast's band against simulation of the whole way, stage by stage."""

from unittest import TestCase

import numpy as np

from aldrip_core.distributions import Spread
from aldrip_core.forecast import Stock, TrayCount, counted_rate, forecast, remaining_share, resow, stock_after_count
from aldrip_core.quantities import Rate, Sowing, emergence, plan_quantities
from aldrip_core.working import Origin

DRAWS = 40_000


def rate(name: str, mean: float, sd: float) -> Rate:
    return Rate(name, Spread.from_mean_sd(mean, sd), Origin.LIBRARY, "invented for this test")


def draw(random: np.random.Generator, spread: Spread) -> np.ndarray:
    if spread.beta is None:
        return np.full(DRAWS, spread.alpha)
    return random.beta(spread.alpha, spread.beta, DRAWS)


class WholeWay(TestCase):
    def simulate(self, random: np.random.Generator, start: int, rates: list[Rate]) -> np.ndarray:
        """Good plants of many batches: each stage draws its own rate, then each plant its own fate."""
        units = np.full(DRAWS, start)
        for one in rates:
            units = random.binomial(units, draw(random, one.spread))
        return units

    def test_the_planned_chance_is_what_many_seasons_would_give(self) -> None:
        random = np.random.default_rng(101)
        rates = [
            rate("emerged", 0.836, 0.036),
            rate("grown", 0.975, 0.01),
            rate("hardened", 0.99, 0.005),
            rate("graded", 0.95, 0.012),
        ]
        for needed, chance, cells in ((12_000, 0.95, 240), (900, 0.9, 104), (150, 0.99, 1)):
            with self.subTest(needed=needed, chance=chance):
                plan = plan_quantities(needed=needed, chance=chance, rates=rates, sowing=Sowing(cells_per_tray=cells))
                good = self.simulate(random, plan.start, rates)
                self.assertAlmostEqual(float((good >= needed).mean()), plan.chance, delta=0.012)
                self.assertAlmostEqual(float(good.mean()), plan.expected, delta=plan.expected * 0.003)

    def test_several_seeds_a_cell_fill_cells_as_drawing_each_seed_does(self) -> None:
        random = np.random.default_rng(102)
        germination, factor = Spread.from_mean_sd(0.8, 0.04), Spread.from_mean_sd(0.92, 0.03)
        ours = emergence(germination=germination, cell_factor=factor, seeds_per_cell=3)
        per_seed = draw(random, germination) * draw(random, factor)
        filled = 1 - (1 - per_seed) ** 3
        self.assertAlmostEqual(ours.mean, float(filled.mean()), delta=0.003)
        self.assertAlmostEqual(ours.sd, float(filled.std()), delta=0.003)

    def test_oversowing_by_the_plain_need_alone_fails_half_the_time(self) -> None:
        random = np.random.default_rng(103)
        rates = [rate("emerged", 0.8, 0.04), rate("graded", 0.95, 0.01)]
        plan = plan_quantities(needed=5000, chance=0.95, rates=rates, sowing=Sowing())
        plain = self.simulate(random, plan.plain_start, rates)
        self.assertAlmostEqual(float((plain >= 5000).mean()), 0.5, delta=0.05)


class Counted(TestCase):
    def test_the_band_after_a_count_holds_nine_batches_in_ten(self) -> None:
        random = np.random.default_rng(104)
        ahead = [Spread.from_mean_sd(0.975, 0.01), Spread.from_mean_sd(0.95, 0.012)]
        trays, cells, inside, tried = 100, 240, 0, 1500
        for _ in range(tried):
            own = random.beta(60, 25)
            # Trays of one batch differ more than chance alone would make them.
            filled = random.binomial(cells, np.clip(random.normal(own, 0.03, trays), 0.01, 0.99))
            seen = random.choice(trays, 6, replace=False)
            found = counted_rate(trays=[TrayCount(cells, int(filled[t])) for t in seen], of_trays=trays)
            stock = stock_after_count(start=trays * cells, counted=found, ahead=remaining_share(ahead))
            result = forecast(needed=0, stocks=(stock,))
            truth = int(filled.sum())
            for one in ahead:
                assert one.beta is not None
                truth = random.binomial(truth, random.beta(one.alpha, one.beta))
            inside += result.low <= truth <= result.high
        self.assertAlmostEqual(inside / tried, 0.9, delta=0.04)

    def test_sown_again_as_offered_the_promise_is_kept_as_often_as_was_said(self) -> None:
        random = np.random.default_rng(105)
        standing = Stock(14_800, Spread.from_mean_sd(0.917, 0.018))
        fresh = Spread.from_mean_sd(0.81, 0.036)
        offer = resow(needed=18_000, stocks=(standing,), fresh=fresh, cells_per_tray=240, chance=0.95)
        assert offer is not None
        good = random.binomial(standing.units, draw(random, standing.remaining)) + random.binomial(
            offer.cells, draw(random, fresh)
        )
        self.assertAlmostEqual(float((good >= 18_000).mean()), offer.chance, delta=0.006)
        self.assertGreaterEqual(offer.chance, 0.95)
