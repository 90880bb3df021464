"""The ladder covers what was promised, inverts, and carries its roundings."""

from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.distributions import Spread, tail_at_least
from aldrip_core.ladder import LadderStage, cells_from_seed, ladder
from aldrip_core.quantities import Rate, Sowing, plan_quantities, promise_from_seed, start_from_rung
from aldrip_core.refusal import Refused
from aldrip_core.working import Origin

shares = st.floats(0.05, 1.0)
stages = st.lists(
    st.builds(
        LadderStage, st.just("stage"), shares, st.sampled_from([1.0, 2.0, 0.5]), st.sampled_from([1.0, 10.0, 50.0])
    ),
    min_size=1,
    max_size=6,
)


class Ladder(TestCase):
    @given(st.integers(1, 200_000), stages)
    @settings(max_examples=150, deadline=None)
    def test_every_rung_covers_the_need_and_no_step_less_would(self, deliver: int, steps: list[LadderStage]) -> None:
        result = ladder(deliver=deliver, stages=steps)
        need = float(deliver)
        for rung, stage in reversed(list(zip(result.rungs, steps, strict=True))):
            assert rung.into is not None and rung.out is not None and rung.surplus is not None
            kept = stage.survival * stage.multiply
            self.assertGreaterEqual(rung.out, need - 1e-6 * max(1, need))
            self.assertLess((rung.into - stage.round_to) * kept, need)
            self.assertAlmostEqual(rung.surplus, rung.out - need, places=6)
            need = rung.into
        self.assertEqual(result.start, need)

    def test_a_filled_last_tray_is_sown_full(self) -> None:
        full = ladder(deliver=1000, stages=[LadderStage("kept", 0.8)], cells_per_tray=240, tgw_g=2.0, seeds_per_cell=3)
        self.assertEqual((full.start, full.trays, full.seeds, full.seed_g), (1250, 6, 4320, 8.64))
        open_ = ladder(deliver=1000, stages=[LadderStage("kept", 0.8)], cells_per_tray=240, fill_last_tray=False)
        self.assertEqual((open_.trays, open_.seeds), (6, 1250))

    def test_germination_is_not_multiplied_twice(self) -> None:
        with self.assertRaises(Refused) as caught:
            ladder(deliver=10, stages=[LadderStage("up", 0.9, kind="emergence")], germination=0.9)
        self.assertEqual(caught.exception.errors[0].code, "counted_twice")

    def test_a_stage_that_keeps_nothing_is_unreachable_and_not_infinite(self) -> None:
        result = ladder(deliver=10, stages=[LadderStage("lost", 0.0)])
        self.assertIsNone(result.start)
        self.assertEqual(result.warnings[0].code, "unreachable")

    @given(
        st.lists(st.floats(0, 1, allow_subnormal=True), min_size=2, max_size=5),
        st.floats(0, 1e-3, allow_subnormal=True),
        st.integers(0, 10_000_000),
        st.booleans(),
    )
    @settings(max_examples=200, deadline=None)
    def test_however_small_a_rate_it_is_planned_or_refused(
        self, kept: list[float], sd: float, needed: int, whole: bool
    ) -> None:
        rates = []
        for n, mean in enumerate(kept):
            try:
                spread = Spread.from_mean_sd(mean, sd)
            except ValueError:  # no such spread: refused before it is planned
                return
            rates.append(Rate(f"stage {n}", spread, Origin.ENTERED, "seen", whole=whole))
        try:
            found = plan_quantities(needed=float(needed), chance=0.9, rates=rates, sowing=Sowing(cells_per_tray=150))
        except Refused as refused:
            self.assertTrue(refused.errors[0].message)
        else:
            self.assertGreaterEqual(found.start, 0)

    def test_nothing_wanted_is_nothing_sown(self) -> None:
        self.assertEqual(ladder(deliver=0, stages=[LadderStage("kept", 0.5)]).start, 0)


def rates(*pairs: tuple[float, float]) -> tuple[Rate, ...]:
    return tuple(Rate(f"s{n}", Spread.from_mean_sd(m, sd), Origin.LIBRARY, "test") for n, (m, sd) in enumerate(pairs))


class Quantities(TestCase):
    usual = rates((0.82, 0.03), (0.975, 0.01), (0.95, 0.012))

    def test_one_tray_less_would_miss_the_chance(self) -> None:
        plan = plan_quantities(needed=12_000, chance=0.95, rates=self.usual, sowing=Sowing(cells_per_tray=240))
        self.assertEqual(plan.start % 240, 0)
        self.assertGreaterEqual(plan.chance, 0.95)
        less = tail_at_least(needed=12_000, trials=plan.start - 240, spread=plan.overall)
        self.assertLess(less, 0.95)

    @given(st.floats(1.0, 5000.0), st.sampled_from([0.8, 0.95, 0.99]))
    @settings(max_examples=40, deadline=None)
    def test_what_a_weight_of_seed_promises_can_be_grown_from_it(self, seed_g: float, chance: float) -> None:
        sowing = Sowing(cells_per_tray=240, tgw_g=2.6)
        start, good = promise_from_seed(seed_g=seed_g, chance=chance, rates=self.usual, sowing=sowing)
        self.assertLessEqual(start * 2.6 / 1000, seed_g + 1e-9)
        if good:
            back = plan_quantities(needed=good, chance=chance, rates=self.usual, sowing=sowing)
            self.assertLessEqual(back.start, start)
            more = tail_at_least(needed=good + 1, trials=start, spread=back.overall)
            self.assertLess(more, chance)

    def test_a_typed_rung_gives_at_least_that_rung(self) -> None:
        sowing = Sowing(cells_per_tray=150)
        for index in range(3):
            start = start_from_rung(index=index, quantity=9_999, rates=self.usual, sowing=sowing)
            plan = plan_quantities(needed=1, chance=0.9, rates=self.usual, sowing=sowing, start=start)
            self.assertGreaterEqual(plan.rungs[index].out, 9_999 - 1e-6)
            self.assertEqual(start % 150, 0)

    def test_grams_that_fill_no_tray_fill_none(self) -> None:
        self.assertEqual(cells_from_seed(seed_g=0.1, tgw_g=2.6, seeds_per_cell=1, cells_per_tray=240), 0)

    def test_the_working_ends_in_the_start(self) -> None:
        plan = plan_quantities(needed=500, chance=0.95, rates=self.usual, sowing=Sowing(cells_per_tray=100))
        values = {step.label: step.value for step in plan.working}
        self.assertEqual(values["Start"], plan.start)
        self.assertEqual(values["Plain need"], plan.plain_start)
        self.assertEqual(plan.plain_start + values["On top, because batches differ"], plan.start)
