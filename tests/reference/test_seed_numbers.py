"""Seed numbers against published tables and against scipy, statsmodels and geographiclib."""

import math
import random
import unittest

import numpy as np
from geographiclib.geodesic import Geodesic
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from statsmodels.stats.proportion import proportion_confint

from aldrip_core.drying import drying
from aldrip_core.geometry import to_degrees, to_metres
from aldrip_core.off_type_interval import bounds
from aldrip_core.reject_number import Decision, poisson_at_least, reject_at
from aldrip_core.replicate_tolerance import half_up, replicate_tolerance
from aldrip_core.seed_viability import seed_viability
from aldrip_core.tables import retest_tolerance
from aldrip_core.tables.replicate_tolerance import ROWS, TOLERATED
from aldrip_core.tables.viability import CONSTANTS


class BetweenTwoTests(unittest.TestCase):
    def test_the_whole_table_follows_from_the_spread_of_two_tests(self) -> None:
        """ISTA Rules, tolerances between two tests of 400 (after Miles 1963; from memory).

        Two-way at 2.5 %: a normal deviate of 1.96 times the spread of a difference, a tenth wider than the binomial one
        by what laboratories add, gives every row of the table.
        """
        for mean in range(51, 100):
            spread = math.sqrt(2 * mean * (100 - mean) / 400)
            self.assertEqual(retest_tolerance.TOLERATED[mean], half_up(stats.norm.ppf(0.975) * 1.1025 * spread), mean)

    def test_two_tests_of_one_lot_seldom_contradict_each_other(self) -> None:
        """By scipy's binomial tails: honest pairs are sent to a third test at most about one time in twenty."""
        for percent in (55, 70, 80, 90, 96):
            chance = stats.binom.pmf(np.arange(401), 400, percent / 100)
            shown = np.array([half_up(n / 4) for n in range(401)])
            apart = abs(shown[:, None] - shown[None, :])
            most = np.array(
                [[retest_tolerance.TOLERATED[half_up((a + b) / 2)] for b in range(101)] for a in range(101)]
            )[shown[:, None], shown[None, :]]
            contradict = float((np.outer(chance, chance) * (apart > most)).sum())
            self.assertTrue(0.001 < contradict < 0.06, f"{percent} {contradict}")


class RejectNumbers(unittest.TestCase):
    def test_the_whole_published_table(self) -> None:
        """OECD Seed Schemes, guidelines on control plots and field inspection (from memory)."""
        table = {
            (4000, 0.001): 9,
            (4000, 0.003): 19,
            (4000, 0.010): 52,
            (2000, 0.001): 6,
            (1400, 0.001): 5,
            (1000, 0.001): 4,
        }
        for (plants, limit), number in table.items():
            self.assertEqual(reject_at(plants=plants, limit=limit), number, (plants, limit))

    def test_a_thousand_plants_at_five_percent(self) -> None:
        """Poisson tails by scipy 1.17: the numbers that a thousand plants are rejected at."""
        numbers = [reject_at(plants=1000, limit=limit) for limit in (0.001, 0.002, 0.003, 0.005, 0.01, 0.02)]
        self.assertEqual(numbers, [4, 6, 7, 10, 16, 29])

    @settings(deadline=None, max_examples=200)
    @given(st.integers(1, 200_000), st.floats(1e-6, 1), st.floats(1e-6, 0.5))
    def test_smallest_number_by_scipy(self, plants: int, limit: float, alpha: float) -> None:
        number = reject_at(plants=plants, limit=limit, alpha=alpha)
        mean = plants * limit
        self.assertLessEqual(stats.poisson.sf(number - 1, mean), alpha * (1 + 1e-9))
        if number > 0:
            self.assertGreater(stats.poisson.sf(number - 2, mean), alpha * (1 - 1e-9))

    @given(st.integers(0, 3000), st.floats(0, 2000))
    def test_tails_by_scipy(self, k: int, mean: float) -> None:
        self.assertAlmostEqual(poisson_at_least(k, mean), float(stats.poisson.sf(k - 1, mean)), delta=1e-10)

    @given(st.integers(1, 10_000), st.floats(0, 1))
    def test_plain_maximum_is_the_first_share_above_the_limit(self, plants: int, limit: float) -> None:
        number = reject_at(plants=plants, limit=limit, decision=Decision.PLAIN_MAX)
        self.assertGreater(number / plants, limit - 1e-9)
        self.assertLessEqual((number - 1) / plants, limit + 1e-9)


class Intervals(unittest.TestCase):
    @settings(deadline=None, max_examples=150)
    @given(st.integers(1, 20_000), st.data(), st.sampled_from([0.9, 0.95, 0.99]))
    def test_exact_bounds_by_statsmodels_and_scipy(self, plants: int, data: st.DataObject, confidence: float) -> None:
        found = data.draw(st.integers(0, plants))
        low, high = bounds(plants=plants, found=found, confidence=confidence)
        wanted = proportion_confint(found, plants, alpha=1 - confidence, method="beta")
        self.assertAlmostEqual(low, float(np.nan_to_num(wanted[0])), delta=1e-9)
        self.assertAlmostEqual(high, float(wanted[1]) if found < plants else 1.0, delta=1e-9)
        again = stats.binomtest(found, plants).proportion_ci(confidence_level=confidence, method="exact")
        self.assertAlmostEqual(low, again.low, delta=1e-9)
        self.assertAlmostEqual(high, again.high, delta=1e-9)

    def test_none_in_2996_shows_less_than_one_in_a_thousand(self) -> None:
        """One-sided 95 %: the usual statement of control plots (from memory)."""
        self.assertLess(bounds(plants=2996, found=0, sides=1)[1], 0.001)
        self.assertGreater(bounds(plants=2994, found=0, sides=1)[1], 0.001)
        self.assertGreater(bounds(plants=2996, found=0)[1], 0.001)


class ReplicateTolerance(unittest.TestCase):
    def test_the_shipped_table_row_by_row(self) -> None:
        """ISTA Rules, germination tolerance table, two-sided 2.5 % (after Miles 1963; from memory)."""
        printed = (
            "99/2→5 98/3→6 97/4→7 96/5→8 95/6→9 93–94/7–8→10 91–92/9–10→11 89–90/11–12→12 87–88/13–14→13 84–86/15–17→14 "
            "81–83/18–20→15 78–80/21–23→16 73–77/24–28→17 67–72/29–34→18 56–66/35–45→19 51–55/46–50→20"
        )
        read: dict[int, int] = {}
        for row in printed.split():
            halves, most = row.split("→")
            for half in halves.split("/"):
                first, _, last = half.partition("–")
                for mean in range(int(first), int(last or first) + 1):
                    read[mean] = int(most)
        self.assertEqual(read, TOLERATED)
        self.assertEqual(sorted(read), list(range(2, 100)))

    def test_the_formula_is_within_one_of_every_row(self) -> None:
        """R = q·√(m(100-m)/100) with the studentized range of four (scipy)."""
        q = float(stats.studentized_range.ppf(0.975, 4, np.inf))
        self.assertAlmostEqual(q, 3.984, delta=0.001)
        off = [
            mean
            for mean, most in TOLERATED.items()
            if abs(half_up(q * math.sqrt(mean * (100 - mean) / 100)) - most) > 1
        ]
        self.assertEqual(off, [])

    def test_false_alarms_by_the_exact_binomial(self) -> None:
        """Four honest replicates of 100 pass the tabulated range in about 97.5 % of tests, whole per cents allowing."""
        for low, _, most in ROWS:
            chances = stats.binom.pmf(np.arange(101), 100, low / 100)
            within = 0.0
            for least in range(
                101
            ):  # P(range ≤ most) = Σ P(all in [least, least+most]) - P(all in [least+1, least+most])
                upper = least + most + 1
                within += chances[least:upper].sum() ** 4 - chances[least + 1 : upper].sum() ** 4
            self.assertGreater(within, 0.95, low)
            self.assertLess(within, 0.999, low)

    def test_a_test_just_within_and_just_beyond(self) -> None:
        self.assertTrue(replicate_tolerance(normal=[78, 84, 86, 92]).within)
        self.assertFalse(replicate_tolerance(normal=[78, 84, 85, 93]).within)


class Viability(unittest.TestCase):
    def test_a_point_worked_by_hand(self) -> None:
        """Barley at 12 % and 20 °C with the constants of Ellis & Roberts 1980 (from memory).

        9.983 - 5.896 × log10 12 (1.0791812) - 0.040 × 20 - 0.000428 × 400 = 2.6489475…; 10^ that = 445.60 days a probit.
        From 97.72499 % (two probits) after 445.60 days: one probit, 84.1345 %.
        """
        sigma = 10 ** (9.983 - 5.896 * 1.0791812460 - 0.8 - 0.1712)
        result = seed_viability(
            crop="barley",
            initial_germination=0.9772498680518208,
            moisture_percent=12,
            temperature_c=20,
            days=sigma,
            floor=0.5,
        )
        self.assertAlmostEqual(result.germination or 0, 0.8413447461, places=7)
        self.assertAlmostEqual((result.days_to_floor or 0) / sigma, 2.0, places=7)

    def test_every_crop_falls_with_time_moisture_and_warmth(self) -> None:
        for crop in CONSTANTS:

            def after(m: float, t: float, days: float, crop: str = crop) -> float:
                return (
                    seed_viability(
                        crop=crop, initial_germination=0.95, moisture_percent=m, temperature_c=t, days=days
                    ).germination
                    or 0
                )

            self.assertLess(after(10, 20, 400), after(10, 20, 100))
            self.assertLess(after(14, 20, 400), after(10, 20, 400))
            self.assertLess(after(10, 30, 400), after(10, 20, 400))

    def test_life_doubles_for_each_percent_less_moisture_about(self) -> None:
        """Harrington 1972 (from memory): doubles per 1 % moisture and per 5 °C, in the middle of the range."""
        for crop in ("barley", "onion", "rice"):

            def life(m: float, t: float, crop: str = crop) -> float:
                return (
                    seed_viability(
                        crop=crop, initial_germination=0.95, moisture_percent=m, temperature_c=t, floor=0.5
                    ).days_to_floor
                    or 0
                )

            self.assertTrue(1.3 < life(9, 20) / life(10, 20) < 2.6, crop)
            self.assertTrue(1.4 < life(10, 15) / life(10, 20) < 2.6, crop)


class Drying(unittest.TestCase):
    def test_a_hundred_tonnes_from_19_5_to_16(self) -> None:
        """4.17 t: common practice, no source; the exact value by the dry matter."""
        result = drying(mass_kg=100_000, from_percent=19.5, to_percent=16)
        self.assertEqual(round(result.water_kg / 1000, 2), 4.17)
        self.assertAlmostEqual(result.dry_mass_kg * 0.84, 100_000 * 0.805, places=6)

    @given(st.floats(0, 1e9), st.floats(0, 99), st.floats(0, 99))
    def test_dry_matter_is_kept(self, mass: float, one: float, other: float) -> None:
        wet, dry = max(one, other), min(one, other)
        result = drying(mass_kg=mass, from_percent=wet, to_percent=dry)
        self.assertAlmostEqual(result.dry_mass_kg * (100 - dry), mass * (100 - wet), delta=1e-9 * max(1.0, mass * 100))
        self.assertAlmostEqual(result.water_kg + result.dry_mass_kg, mass, delta=1e-9 * max(1.0, mass))


class OnTheGlobe(unittest.TestCase):
    def test_distances_agree_with_geodesics_within_a_thousandth(self) -> None:
        """GeographicLib geodesics on WGS84, points up to 5 km from the site, at any latitude a field has."""
        draw = random.Random(27)
        for _ in range(200):
            latitude, longitude = draw.uniform(-65, 65), draw.uniform(-179, 179)
            ring = [(draw.uniform(-5000, 5000), draw.uniform(-5000, 5000)) for _ in range(2)]
            one, other = to_degrees(ring, longitude=longitude, latitude=latitude)
            geodesic = Geodesic.WGS84.Inverse(one[1], one[0], other[1], other[0])["s12"]
            self.assertAlmostEqual(math.dist(*ring) / geodesic, 1, delta=0.001)
            back = to_metres([one, other], longitude=longitude, latitude=latitude)
            for point, again in zip(ring, back, strict=True):
                self.assertLess(math.dist(point, again), 0.001)
