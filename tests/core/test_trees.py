"""Trees of stages: their faults, their quantities against a simulation, their days; units that never mix."""

import random
import statistics
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.distributions import Spread
from aldrip_core.learned_rates import Counted, learned_rate
from aldrip_core.quantities import Limb, Rate, Sowing, plan_quantities
from aldrip_core.refusal import Refused
from aldrip_core.schedule import Duration, StageDates, TimedStage
from aldrip_core.stage_dates import Anchor, Begun, stage_dates
from aldrip_core.stages import Factor, MethodSpec, StageSpec, check, faults_of, rounds_of
from aldrip_core.units import Quantity, Unit, from_base, to_base
from aldrip_core.working import Origin
from aldrip_core.working_calendar import WorkingCalendar


def stage(key: str, after: str | None = None, *, days: float = 7, share: float = 1.0, **more: object) -> StageSpec:
    made = StageSpec(key, key, "grow", after, after, Duration(days=days), Spread(1.0), "invented", Unit.PLANT, share)
    return replace(made, **more)  # type: ignore[arg-type]


def method(*stages: StageSpec) -> MethodSpec:
    return MethodSpec("m", "m", "plug", Unit.PLANT, Unit.CELL, True, stages)


FORK = (stage("a"), stage("b", "a"), stage("big", "b", share=0.7), stage("small", "b", share=0.3, product="small plug"))


class Trees(TestCase):
    def test_a_fork_has_a_spine_two_leaves_and_two_products(self) -> None:
        tree = method(*FORK)
        self.assertEqual([s.key for s in tree.spine], ["a", "b", "big"])
        self.assertEqual(
            {form: [s.key for s in leaves] for form, leaves in tree.products.items()},
            {"plug": ["big"], "small plug": ["small"]},
        )
        self.assertEqual([s.key for s in tree.path("small")], ["a", "b", "small"])

    @settings(deadline=None)
    @given(st.permutations(range(4)))
    def test_a_tree_is_a_tree_whatever_is_written_in_which_order(self, order: list[int]) -> None:
        stages = tuple(FORK[index] for index in order)
        written = [one.key for one in stages]
        good = all(one.after is None or written.index(one.after) < written.index(one.key) for one in stages)
        self.assertEqual(not list(faults_of(stages)), good)

    @settings(deadline=None)
    @given(st.floats(0.01, 1), st.floats(0.01, 1))
    def test_no_more_is_taken_than_there_is(self, one: float, other: float) -> None:
        stages = (*FORK[:2], stage("big", "b", share=one), stage("small", "b", share=other))
        if one + other > 1 + 1e-6:
            with self.assertRaises(Refused):
                check(stages)
        elif one + other < 1:
            check(stages)

    @settings(deadline=None)
    @given(st.integers(2, 12), st.floats(0.05, 1))
    def test_rounds_take_together_what_the_stage_takes(self, number: int, share: float) -> None:
        rounds = rounds_of(stage("pick", "b", share=share), rounds=number, every_days=9)
        self.assertAlmostEqual(sum(one.share for one in rounds), share)
        self.assertEqual([one.follows for one in rounds], ["b", *(f"pick-{n}" for n in range(1, number))])
        check((*FORK[:2], *rounds))


class Quantities(TestCase):
    def rate(self, name: str, mean: float, sd: float = 0.0, multiply: float = 1.0, multiply_sd: float = 0.0) -> Rate:
        return Rate(name, Spread.from_mean_sd(mean, sd), Origin.ENTERED, "invented", multiply, multiply_sd)

    def test_the_harder_product_sets_the_start_and_both_are_met(self) -> None:
        limbs = (Limb(None), Limb(0, 0.7, "plug"), Limb(0, 0.3, "small plug"))
        rates = [self.rate("keeps", 0.9, 0.03), self.rate("big", 1.0), self.rate("small", 1.0)]
        for needs in ({"plug": 700.0, "small plug": 100.0}, {"plug": 100.0, "small plug": 900.0}):
            found = plan_quantities(needed=needs, chance=0.95, rates=rates, sowing=Sowing(), limbs=limbs)
            met = self.simulated(found.start, needs)
            self.assertGreater(met, 0.93)
            fewer = self.simulated(round(found.start * 0.96), needs)
            self.assertLess(fewer, met - 0.02, "the start is not larger than it must be")

    def simulated(self, start: int, needs: dict[str, float], runs: int = 3000) -> float:
        """The chance by drawing whole batches: a rate for the batch, then each plant's fate."""
        draw = random.Random(7)
        alpha = 0.9 * (0.9 * 0.1 / 0.03**2 - 1)
        met = 0
        for _ in range(runs):
            kept = draw.betavariate(alpha, alpha / 9)
            met += all(
                draw.gauss(start * kept * share, (start * kept * share * (1 - kept * share)) ** 0.5)
                >= needs[form] - 0.5
                for form, share in (("plug", 0.7), ("small plug", 0.3))
            )
        return met / runs

    def test_a_factor_with_a_spread_against_a_simulation(self) -> None:
        """Cuttings of mother plants: 30 each, give or take 6 between batches."""
        rates = [self.rate("kept", 0.9, 0.02), self.rate("cuttings", 1.0, 0.0, 30, 6)]
        found = plan_quantities(needed=6000, chance=0.9, rates=rates, sowing=Sowing(by_seed=False))
        draw = random.Random(3)
        room = 0.9 * 0.1 / 0.02**2 - 1
        runs = [
            found.start * draw.betavariate(0.9 * room, 0.1 * room) * max(0.0, draw.gauss(30, 6)) for _ in range(20_000)
        ]
        self.assertAlmostEqual(found.expected, statistics.mean(runs), delta=0.01 * found.expected)
        self.assertAlmostEqual(sum(run >= 6000 for run in runs) / len(runs), found.chance, delta=0.03)
        exact = plan_quantities(
            needed=6000, chance=0.9, rates=[rates[0], self.rate("cuttings", 1.0, 0.0, 30)], sowing=Sowing(by_seed=False)
        )
        self.assertGreater(found.start, exact.start, "a spread between batches costs plants")


class Days(TestCase):
    MONDAY = date(2027, 3, 1)
    WORK = WorkingCalendar(weekdays=frozenset(range(5)), closed=frozenset())

    def days(
        self, today: date, anchor: Anchor, begun: dict[str, Begun], planned: dict[str, StageDates] | None = None
    ) -> dict[str, StageDates]:
        tree = method(*FORK)
        timed = {s.key: TimedStage(s.name, s.duration, None, None) for s in tree.stages}
        return stage_dates(
            method=tree, timed=timed, calendar=self.WORK, today=today, anchor=anchor, planned=planned, begun=begun
        )[0]

    @settings(deadline=None)
    @given(
        begun=st.integers(0, 3),
        since=st.integers(1, 60),
        ahead=st.integers(-90, 120),
        stood=st.integers(0, 60),
        way=st.sampled_from(["ready", "move", "follow", "keep"]),
    )
    def test_what_has_begun_keeps_its_days_whatever_is_asked(
        self, begun: int, since: int, ahead: int, stood: int, way: str
    ) -> None:
        plan = self.days(self.MONDAY, Anchor(sow=self.MONDAY), {})
        today = self.MONDAY + timedelta(days=30 + since)
        keys = ["a", "b", "big"][:begun]
        done: dict[str, Begun] = {}
        for key in keys:
            last = key == keys[-1]
            seen = min(today, plan[key].start + timedelta(days=stood)) if last else None
            done[key] = Begun(plan[key].start, None if last else plan[key].end, seen)
        asked = today + timedelta(days=ahead)
        coming = ["a", "b", "big"][begun : begun + 1]
        anchors = {
            "ready": Anchor(ready=asked),
            "follow": Anchor(follow=True),
            "keep": Anchor(),
            "move": Anchor(move=(coming[0], asked)) if coming else Anchor(ready=asked),
        }
        anchor = anchors["keep" if way == "follow" and not keys else way]
        try:
            found = self.days(today, anchor, done, plan)
        except Refused:
            return
        for key, one in done.items():
            self.assertEqual(found[key].start, one.start)
            if one.end is not None:
                self.assertEqual(found[key].end, one.end)
            elif one.stood is not None:
                self.assertGreaterEqual(found[key].end, min(one.stood, today))
        for one, other in (("a", "b"), ("b", "big"), ("b", "small")):
            self.assertLessEqual(found[one].start, found[other].start)


class Units(TestCase):
    @settings(deadline=None)
    @given(st.sampled_from(list(Unit)), st.sampled_from(list(Unit)), st.decimals(0, 10**7, places=2))
    def test_units_of_another_measure_never_meet(self, one: Unit, other: Unit, value: Decimal) -> None:
        self.assertEqual(one.same_measure(other), one.base is other.base)
        if one.value.factor >= 1:
            self.assertEqual(from_base(to_base(value, one), one), value)
        if one.same_measure(other):
            self.assertEqual(
                Quantity.of(value, one).base * other.value.factor, Quantity.of(value, other).base * one.value.factor
            )


class Learned(TestCase):
    def test_batches_weigh_by_what_was_counted_of_them(self) -> None:
        """A tiny count of a bad tray beside two big ones: the plain mean would be 0.70, what was seen is 0.89."""
        found = learned_rate([Counted(3, 10), Counted(1800, 2000), Counted(1780, 2000)])
        assert found is not None
        self.assertEqual((found.batches, found.counted), (3, 4010))
        self.assertGreater(found.spread.mean, 0.74)
        self.assertIsNone(learned_rate([Counted(90, 100), Counted(91, 100)]), "two batches are no record")

    @settings(deadline=None, max_examples=12)
    @given(st.lists(st.integers(150, 200), min_size=3, max_size=9))
    def test_the_learned_mean_lies_among_what_was_seen(self, found: list[int]) -> None:
        record = learned_rate([Counted(one, 200) for one in found])
        assert record is not None
        self.assertTrue(min(found) / 200 - 0.01 <= record.spread.mean <= max(found) / 200 + 0.01)


class Factors(TestCase):
    def test_a_factor_of_nothing_is_said(self) -> None:
        codes = {fault.code for fault in faults_of((stage("a", factor=Factor(0.0)),))}
        self.assertEqual(codes, {"out_of_range"})
