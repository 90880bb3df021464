"""Small rules of the job: workings end in their results, properties that hold whatever is asked."""

from datetime import date
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.distributions import Spread
from aldrip_core.ladder import filled_share, seed_need
from aldrip_core.media import media
from aldrip_core.oversow import Trial, chance_worth, oversow, spread_of
from aldrip_core.plants_per_area import Pattern, plants_per_area
from aldrip_core.quantities import Rate, Sowing, emergence, overall_rate, plan_quantities, promise_from_seed
from aldrip_core.refusal import FieldError, Refused, refuse
from aldrip_core.seed_rate import seed_rate
from aldrip_core.thermal_time import AboveCeiling, daily_heat, thermal_time
from aldrip_core.whole import ceil_whole, round_up
from aldrip_core.working import Origin

positive = st.floats(0.5, 5000)


class Whole(TestCase):
    @given(st.integers(0, 10**6), st.integers(1, 500))
    def test_binary_noise_never_costs_a_tray(self, trays: int, cells: int) -> None:
        self.assertEqual(ceil_whole(trays * cells / cells), trays)
        self.assertEqual(round_up(trays * cells, cells), trays * cells)

    def test_just_above_is_one_more(self) -> None:
        self.assertEqual(ceil_whole(3.0001), 4)
        self.assertEqual(ceil_whole(3 + 1e-12), 3)


class Heat(TestCase):
    @given(st.floats(-20, 45), st.floats(-5, 15), st.floats(16, 40))
    def test_a_day_never_gives_less_than_nothing_nor_more_than_its_ceiling(
        self, mean: float, base: float, ceiling: float
    ) -> None:
        for above in AboveCeiling:
            heat = daily_heat(mean_c=mean, base_c=base, ceiling_c=ceiling, above_ceiling=above)
            self.assertTrue(0.0 <= heat <= ceiling - base + 1e-9)
        stop, cap = (daily_heat(mean_c=mean, base_c=base, ceiling_c=ceiling, above_ceiling=a) for a in AboveCeiling)
        self.assertLessEqual(stop, cap)

    @given(st.lists(st.floats(-5, 30), min_size=5, max_size=60), st.floats(5, 300), st.floats(0.1, 5))
    @settings(max_examples=80, deadline=None)
    def test_warmer_days_never_take_longer(self, days: list[float], heat: float, warmer: float) -> None:
        cool = thermal_time(heat_sum_c_d=heat, base_c=4, daily_mean_c=days).days
        warm = thermal_time(heat_sum_c_d=heat, base_c=4, daily_mean_c=[d + warmer for d in days]).days
        if cool is not None:
            assert warm is not None
            self.assertLessEqual(warm, cool)

    def test_a_steady_series_agrees_with_the_constant(self) -> None:
        steady = thermal_time(heat_sum_c_d=170, base_c=1.3, daily_mean_c=[18.0] * 30).days
        constant = thermal_time(heat_sum_c_d=170, base_c=1.3, temperature_c=18).days
        assert constant is not None
        self.assertEqual(steady, ceil_whole(constant))

    def test_contradictions_are_refused_by_field(self) -> None:
        for more, field in (
            ({"temperature_c": 18, "daily_mean_c": [1.0]}, "temperature_c"),
            ({"temperature_c": 18, "daily_max_c": [1.0]}, "daily_max_c"),
            ({"daily_mean_c": [1.0, 2.0], "daily_max_c": [1.0]}, "daily_max_c"),
            ({"temperature_c": 18, "ceiling_c": 1.0}, "ceiling_c"),
        ):
            with self.assertRaises(Refused) as caught:
                thermal_time(heat_sum_c_d=10, base_c=4, **more)  # type: ignore[arg-type]
            self.assertEqual(caught.exception.errors[0].field, field)


class Fields(TestCase):
    @given(
        positive, st.floats(0.05, 1), st.floats(0.05, 1), st.floats(0.05, 1), st.floats(0.1, 600), st.floats(0.01, 500)
    )
    @settings(max_examples=80, deadline=None)
    def test_a_seed_rate_gives_its_stand_back(
        self, target: float, germination: float, field: float, purity: float, tgw: float, area: float
    ) -> None:
        rate = seed_rate(
            target_plants_per_m2=target,
            germination=germination,
            field_factor=field,
            purity=purity,
            tgw_g=tgw,
            area_ha=area,
            row_width_cm=25,
        )
        assert rate.seed_kg is not None and rate.rate_kg_per_ha is not None and rate.seeds_per_metre_of_row is not None
        plants = rate.seed_kg * purity * 1000 / tgw * 1000 * germination * field / (area * 10_000)
        self.assertAlmostEqual(plants / target, 1.0, places=9)
        self.assertAlmostEqual(rate.seed_kg, rate.rate_kg_per_ha * area)
        self.assertAlmostEqual(rate.seeds_per_metre_of_row * 4, rate.seeds_per_m2 or 0)

    @given(st.floats(5, 300), st.floats(5, 300))
    def test_twice_the_spacing_is_half_the_plants(self, row: float, in_row: float) -> None:
        one = plants_per_area(pattern=Pattern.SQUARE, row_spacing_cm=row, in_row_cm=in_row)
        two = plants_per_area(pattern=Pattern.SQUARE, row_spacing_cm=2 * row, in_row_cm=in_row)
        self.assertAlmostEqual(one.net_per_m2 / two.net_per_m2, 2)
        self.assertEqual(one.net_per_m2, one.gross_per_m2)
        self.assertAlmostEqual(one.per_ha / one.per_acre, 10_000 / 4046.8564224)

    def test_paths_make_gross_less_than_net(self) -> None:
        bed = plants_per_area(pattern=Pattern.ROWS_ON_BED, rows=4, bed_width_cm=120, path_cm=40, in_row_cm=30)
        self.assertAlmostEqual(bed.gross_per_m2 / bed.net_per_m2, 120 / 160)
        for missing in ({"rows": 4}, {"bed_width_cm": 120.0}):
            with self.assertRaises(Refused):
                plants_per_area(pattern=Pattern.ROWS_ON_BED, in_row_cm=30, **missing)  # type: ignore[arg-type]
        with self.assertRaises(Refused):
            plants_per_area(pattern=Pattern.SQUARE, in_row_cm=30, path_cm=40)

    @given(
        st.dictionaries(
            st.text("abcdef", min_size=1, max_size=4),
            st.one_of(st.just(0.0), st.floats(1e-6, 50)),
            min_size=1,
            max_size=5,
        ),
        st.floats(0, 10_000),
    )
    @settings(max_examples=80, deadline=None)
    def test_the_parts_of_a_mix_add_up_to_it(self, parts: dict[str, float], litres: float) -> None:
        if sum(parts.values()) <= 0:
            with self.assertRaises(Refused):
                media(parts=parts, litres=litres)
            return
        mix = media(parts=parts, litres=litres)
        self.assertAlmostEqual(sum(mix.by_part.values()), litres, places=6)

    def test_a_mix_takes_one_way_only(self) -> None:
        for more in ({}, {"litres": 5.0, "trays": 2.0}):
            with self.assertRaises(Refused):
                media(parts={"coir": 1}, **more)  # type: ignore[arg-type]


def rate(name: str, mean: float, sd: float = 0.0, multiply: float = 1.0) -> Rate:
    return Rate(name, Spread.from_mean_sd(mean, sd), Origin.LIBRARY, "test", multiply)


class Sowings(TestCase):
    @given(st.floats(0.05, 0.99), st.floats(0.3, 1.0), st.integers(1, 6))
    def test_more_seeds_a_cell_fill_more_cells(self, germination: float, factor: float, seeds: int) -> None:
        one = filled_share(germination=germination, cell_factor=factor, seeds_per_cell=seeds)
        more = filled_share(germination=germination, cell_factor=factor, seeds_per_cell=seeds + 1)
        self.assertGreaterEqual(more, one)
        self.assertLessEqual(more, 1.0)

    def test_emergence_of_several_seeds_is_surer_than_of_one(self) -> None:
        germination, factor = Spread.from_mean_sd(0.8, 0.04), Spread.from_mean_sd(0.95, 0.02)
        one = emergence(germination=germination, cell_factor=factor, seeds_per_cell=1)
        three = emergence(germination=germination, cell_factor=factor, seeds_per_cell=3)
        self.assertAlmostEqual(one.mean, 0.76)
        self.assertAlmostEqual(three.mean, 1 - 0.24**3)
        self.assertLess(three.sd, one.sd)

    def test_seed_is_counted_for_full_trays_or_just_for_the_cells(self) -> None:
        full = seed_need(cells=1000, seeds_per_cell=2, cells_per_tray=240, tgw_g=4.0)
        self.assertEqual((full.trays, full.seeds, full.seed_g), (5, 2400, 9.6))
        bare = seed_need(cells=1000, seeds_per_cell=2, cells_per_tray=240, tgw_g=None, fill_last_tray=False)
        self.assertEqual((bare.trays, bare.seeds, bare.seed_g), (5, 2000, None))
        self.assertEqual(seed_need(cells=10, seeds_per_cell=1, cells_per_tray=None, tgw_g=1.0).trays, None)

    def test_a_stage_that_multiplies_needs_less_to_start_with(self) -> None:
        rates = (rate("rooted", 0.8, 0.02), rate("divided", 1.0, multiply=3), rate("grown", 0.9, 0.01))
        plan = plan_quantities(needed=3000, chance=0.9, rates=rates, sowing=Sowing(by_seed=False))
        self.assertLess(plan.start, 1700)
        self.assertIsNone(plan.seeds)
        self.assertAlmostEqual(plan.rungs[-1].out, plan.expected)
        self.assertGreaterEqual(plan.expected, 3000)

    def test_what_keeps_nothing_is_refused_by_name(self) -> None:
        with self.assertRaises(Refused) as caught:
            plan_quantities(needed=10, chance=0.9, rates=(rate("frozen", 0.0),), sowing=Sowing())
        self.assertIn("frozen", caught.exception.errors[0].message)

    def test_grams_need_a_thousand_grain_weight(self) -> None:
        with self.assertRaises(Refused) as caught:
            promise_from_seed(seed_g=5, chance=0.9, rates=(rate("up", 0.9),), sowing=Sowing())
        with self.assertRaises(
            Refused
        ) as caught:  # three hundred tonnes for trays: refused before it is counted through
            promise_from_seed(seed_g=3e8, chance=0.9, rates=(rate("up", 0.9),), sowing=Sowing(tgw_g=2.6))
        self.assertEqual(caught.exception.errors[0].field, "seed_g")

    def test_the_overall_rate_is_the_product(self) -> None:
        rates = (rate("a", 0.9, 0.02), rate("b", 0.8, 0.02))
        self.assertAlmostEqual(overall_rate(rates).mean, 0.72)


class Evidence(TestCase):
    def test_one_batch_in_a_list_is_one_record(self) -> None:
        spread, _, warnings = spread_of(batches=[Trial(90, 100), Trial(0, 0)])
        self.assertEqual([w.code for w in warnings], ["one_record"])
        self.assertAlmostEqual(spread.mean, 91 / 102)

    def test_batches_that_all_came_up_are_not_believed_to_be_certain(self) -> None:
        spread, _, warnings = spread_of(batches=[Trial(100, 100), Trial(50, 50)])
        self.assertEqual([w.code for w in warnings], ["no_variation"])
        self.assertLess(spread.mean, 1.0)

    def test_impossible_records_name_their_place(self) -> None:
        with self.assertRaises(Refused) as caught:
            spread_of(batches=[Trial(1, 2), Trial(3, 2)])
        self.assertEqual(caught.exception.errors[0].field, "batches.1.good")
        with self.assertRaises(Refused):
            spread_of(batches=[])
        with self.assertRaises(Refused):
            spread_of(good=3)

    def test_batches_that_differ_ask_for_more_than_their_pooled_record(self) -> None:
        apart = oversow(
            needed=1000,
            chance=0.95,
            batches=[Trial(60, 100), Trial(95, 100), Trial(85, 100), Trial(80, 100), Trial(90, 100)],
        )
        pooled = oversow(needed=1000, chance=0.95, good=410, trials=500)
        assert apart.start is not None and pooled.start is not None
        self.assertGreater(apart.start, pooled.start)

    def test_both_costs_or_none(self) -> None:
        with self.assertRaises(Refused) as caught:
            oversow(needed=10, chance=0.9, rate=0.9, cost_surplus=1)
        self.assertEqual(caught.exception.errors[0].field, "cost_short")

    def test_dearer_shortage_starts_more(self) -> None:
        starts = [
            oversow(needed=500, chance=0.9, rate=0.8, rate_sd=0.04, cost_surplus=1, cost_short=c).cheapest_start or 0
            for c in (0.2, 1, 5, 50)
        ]
        self.assertEqual(starts, sorted(starts))
        self.assertLess(starts[0], starts[-1])

    @given(needed=st.integers(200, 3000), rate=st.floats(0.5, 0.97), short=st.floats(1.1, 60))
    @settings(deadline=None, max_examples=40)
    def test_the_chance_that_costs_least_gives_nearly_the_start_that_costs_least(
        self, needed: int, rate: float, short: float
    ) -> None:
        """Against the start found by adding up what surplus and shortage cost."""
        worth = chance_worth(cost_surplus=1, cost_short=short)
        cheapest = oversow(needed=needed, chance=0.5, rate=rate, rate_sd=0.03, cost_surplus=1, cost_short=short)
        start = oversow(needed=needed, chance=worth, rate=rate, rate_sd=0.03).start
        assert start is not None and cheapest.cheapest_start is not None
        self.assertAlmostEqual(start / cheapest.cheapest_start, 1, delta=0.02)

    def test_costs_from_which_no_chance_follows_are_refused(self) -> None:
        for surplus, short, field in (
            (0, 1, "cost_surplus"),
            (1, -2, "cost_short"),
            (3, 1, "cost_short"),
            (1, 5000, "cost_short"),
        ):
            with self.subTest(surplus=surplus, short=short), self.assertRaises(Refused) as told:
                chance_worth(cost_surplus=surplus, cost_short=short)
            self.assertEqual(told.exception.errors[0].field, field)


class Refusals(TestCase):
    def test_a_refusal_carries_every_fault_and_reads_as_a_sentence(self) -> None:
        refused = Refused([FieldError("a", "x", "First."), FieldError("b", "y", "Second.")])
        self.assertEqual([e.field for e in refused.errors], ["a", "b"])
        self.assertEqual(str(refuse("due", "past", "It is over.")), "due: It is over.")
        self.assertEqual(date(2027, 7, 6).isocalendar().week, 27)
