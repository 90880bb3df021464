"""The tuber store: nothing is lost between kilos and trays, what is drawn is there, sprouts, damage, and who goes where."""

from collections import Counter
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.tuber_store import (
    D2_OF_TWO,
    Held,
    Plot,
    StoreHabit,
    TrayRange,
    cover_m,
    damage_chart,
    plant_out,
    sprout_days,
    sprout_rate,
    stood,
    trays_to_look_at,
)


class Standing(TestCase):
    @given(st.floats(1, 60_000), st.floats(5, 200), st.integers(1, 500), st.integers(1, 80))
    @settings(max_examples=100, deadline=None)
    def test_every_tuber_has_its_tray_and_every_tray_its_stack(
        self, kg: float, g: float, a_tray: int, high: int
    ) -> None:
        found = stood(kg=kg, tuber_g=g, a_tray=a_tray, habit=StoreHabit(trays_a_stack=high))
        self.assertTrue((found.trays - 1) * a_tray < found.tubers <= found.trays * a_tray)
        self.assertEqual((found.stacks - 1) * high + found.in_last, found.trays)
        self.assertTrue(1 <= found.in_last <= high)
        self.assertEqual(found.working[-1].value, found.hours)

    def test_what_cannot_be_is_refused_at_its_field(self) -> None:
        for field, more in (
            ("kg", {"kg": 0}),
            ("kg", {"kg": 0.001}),
            ("tuber_g", {"tuber_g": 0}),
            ("a_tray", {"a_tray": 0}),
        ):
            with self.subTest(more), self.assertRaises(Refused) as caught:
                stood(**{"kg": 100, "tuber_g": 50, "a_tray": 100, "habit": StoreHabit(), **more})  # type: ignore[arg-type]
            self.assertEqual(caught.exception.errors[0].field, field)
        for wrong in ({"trays_a_stack": 0}, {"gangway": 1.0}, {"an_hour": -1}):
            with self.assertRaises(Refused):
                StoreHabit(**wrong)  # type: ignore[arg-type]


class Drawing(TestCase):
    @given(
        st.integers(1, 90_000),
        st.integers(0, 2000),
        st.integers(1, 60),
        st.integers(1, 400),
        st.floats(0.001, 0.3),
        st.floats(0, 0.999),
    )
    @settings(max_examples=150, deadline=None)
    def test_drawn_trays_are_there_each_once_and_enough_to_tell(
        self, first: int, more: int, high: int, a_tray: int, limit: float, start: float
    ) -> None:
        of = TrayRange(first, first + more, high, 1 + (first % high))
        drawn = trays_to_look_at(of, a_tray=a_tray, limit=limit, start=start)
        self.assertEqual(len(set(drawn)), len(drawn))
        for stack, tray in drawn:
            self.assertTrue(first <= stack <= of.last)
            self.assertTrue(1 <= tray <= (of.in_last if stack == of.last else high))
        self.assertTrue(len(drawn) == of.trays or len(drawn) * a_tray * limit >= 4 - 1e-9)

    def test_drawn_a_thousand_times_every_tray_has_its_turn(self) -> None:
        of, turns = TrayRange(1, 4, 5, 5), Counter[tuple[int, int]]()
        for n in range(1000):
            turns.update(trays_to_look_at(of, a_tray=50, limit=0.02, start=n / 1000))
        self.assertEqual(len(turns), of.trays)
        self.assertLess(max(turns.values()) - min(turns.values()), 3)


class Sprouts(TestCase):
    @given(st.floats(0, 20), st.floats(21, 80), st.floats(0.01, 0.5), st.floats(5, 20))
    @settings(max_examples=80, deadline=None)
    def test_at_one_temperature_it_is_the_closed_form(self, now: float, wanted: float, rate: float, c: float) -> None:
        exact = (wanted - now) / (rate * (c - 4))
        for known in (1, 30):
            days = sprout_days(now_mm=now, wanted_mm=wanted, mm_per_c_d=rate, mean_c=[c] * known)
            assert days is not None
            self.assertTrue(exact - 1e-6 <= days < exact + 1 + 1e-6)

    def test_in_the_cold_they_stand_still_and_a_rate_read_back_is_the_rate(self) -> None:
        self.assertIsNone(sprout_days(now_mm=5, wanted_mm=20, mm_per_c_d=0.1, mean_c=[3.0] * 40))
        self.assertEqual(sprout_days(now_mm=25, wanted_mm=20, mm_per_c_d=0.1, mean_c=[]), 0)
        means = [8.0, 3.0, 10.0]
        rate = sprout_rate(first_mm=2, last_mm=7, mean_c=means)
        assert rate is not None
        self.assertAlmostEqual(rate, 0.5)
        self.assertIsNone(sprout_rate(first_mm=2, last_mm=7, mean_c=[2.0]))


class Damage(TestCase):
    def test_the_constant_is_the_published_one(self) -> None:
        """d₂ for samples of two is 1.128, and 3 ÷ d₂ is 2.66: Montgomery, Introduction to Statistical Quality Control,
        appendix VI (from memory); and by a million draws."""
        self.assertAlmostEqual(D2_OF_TWO, 1.128, places=3)
        self.assertAlmostEqual(3 / D2_OF_TWO, 2.66, places=2)
        pairs = np.random.default_rng(5).normal(size=(1_000_000, 2))
        self.assertAlmostEqual(float(np.abs(pairs[:, 0] - pairs[:, 1]).mean()), D2_OF_TWO, delta=0.003)

    def test_where_samples_differ_only_by_chance_the_limits_are_those_of_a_plain_share_chart(self) -> None:
        draws = np.random.default_rng(3).binomial(200, 0.05, 4000)
        usual, chart = damage_chart([(200, int(one)) for one in draws])
        plain = 3 * (usual * (1 - usual) / 200) ** 0.5
        self.assertAlmostEqual(chart[0].high, usual + plain, delta=0.03 * plain)
        self.assertLess(sum(one.outside for one in chart) / 4000, 0.01)

    def test_crews_that_differ_do_not_cry_wolf_and_a_bad_chain_is_seen(self) -> None:
        rng = np.random.default_rng(8)
        samples = [(int(n), int(rng.binomial(n, rng.beta(20, 380)))) for n in rng.integers(100, 5000, 60)]
        self.assertEqual(sum(one.outside for one in damage_chart(samples)[1]), 0)
        self.assertTrue(damage_chart([*samples, (1000, 200)])[1][-1].outside)

    def test_a_few_samples_that_happen_to_agree_make_no_wolf_of_the_next(self) -> None:
        self.assertFalse(damage_chart([(400, 12)] * 4 + [(400, 16)])[1][-1].outside)

    def test_one_sample_none_and_impossible_ones(self) -> None:
        self.assertEqual(damage_chart([]), (0.0, ()))
        self.assertFalse(damage_chart([(50, 50)])[1][0].outside)
        self.assertFalse(any(one.outside for one in damage_chart([(50, 0), (80, 0)])[1]))
        for wrong in ((0, 0), (10, 11), (10, -1)):
            with self.assertRaises(Refused):
                damage_chart([(10, 1), wrong])


numbers = st.integers(1, 50_000)


class Planting(TestCase):
    @given(
        st.lists(st.tuples(numbers, st.floats(20, 90), st.integers(20, 300)), max_size=5),
        st.lists(st.tuples(st.floats(1, 20_000), st.floats(20, 90), st.floats(10, 50)), min_size=1, max_size=5),
    )
    @settings(max_examples=120, deadline=None)
    def test_nothing_is_planted_twice_or_left_where_a_place_lacks(
        self, stock: list[tuple[int, float, int]], ground: list[tuple[float, float, float]]
    ) -> None:
        held = [Held(f"h{n}", *one) for n, one in enumerate(stock)]
        plots = [Plot(f"p{n}", *one) for n, one in enumerate(ground)]
        found, short = plant_out(held, plots)
        planted = Counter[str]()
        for one in found:
            planted[one.held] += one.tubers
        for have in held:
            self.assertLessEqual(planted[have.key], have.tubers)
            trays = sum(one.trays for one in found if one.held == have.key)
            self.assertTrue((trays - 1) * have.a_tray < planted[have.key] <= trays * have.a_tray or trays == 0)
        for plot in plots:
            got = sum(one.tubers for one in found if one.plot == plot.key)
            self.assertEqual(got + short.get(plot.key, 0), plot.wants)
        if short:
            self.assertEqual(sum(planted.values()), sum(one.tubers for one in held))
        # The earliest ground has the first of what is held.
        order = [(int(one.plot[1:]), int(one.held[1:])) for one in found]
        self.assertEqual(order, sorted(order))

    def test_tonnes_and_covers_by_hand(self) -> None:
        """75 × 30 cm is 44,444 a hectare (arithmetic); at 60 g 2.67 t."""
        found, short = plant_out([Held("a", 100_000, 60, 200)], [Plot("p", 10_000, 75, 30)])
        self.assertEqual((found[0].tubers, found[0].trays, short), (44_444, 223, {}))
        self.assertAlmostEqual(found[0].t_per_ha, 2.6667, places=3)
        self.assertAlmostEqual(found[0].kg, 2666.64)
        self.assertEqual(cover_m(area_m2=2600, sheet_m=13, overlap_m=0)[0].value, 200)
        with self.assertRaises(Refused):
            cover_m(area_m2=100, sheet_m=13, overlap_m=13)
        with self.assertRaises(Refused):
            plant_out([], [Plot("p", 0, 75, 30)])
