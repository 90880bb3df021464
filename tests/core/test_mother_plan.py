"""Plans of mothers replayed: against the planner, against the most that any use could serve, and nothing lost or made."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import linprog

from aldrip_core.mother_plan import PlanWeek, Raising, planned, replay
from aldrip_core.mother_stock import Habit
from aldrip_core.refusal import Refused

habits = st.builds(
    lambda first, shoots, more: Habit((*(0.0 for _ in range(first)), *shoots), first, first + len(shoots) + more),
    st.integers(0, 2),
    st.lists(st.integers(0, 4).map(float), min_size=1, max_size=6).filter(any),
    st.integers(0, 4),
)
raisings = st.builds(
    Raising,
    habits,
    submother_cuts=st.integers(0, 2),
    submother_generations=st.integers(1, 3),
    rooting_weeks=st.integers(0, 2),
    rooting_rate=st.sampled_from([0.5, 0.8, 1.0]),
    hardening_weeks=st.integers(0, 1),
    hardening_rate=st.sampled_from([0.9, 1.0]),
    hold_weeks=st.integers(0, 2),
    reserve=st.sampled_from([0.0, 0.1]),
)
demands = st.lists(st.integers(0, 60).map(float), min_size=6, max_size=12).filter(any)


def most_served(found: tuple[PlanWeek, ...], raising: Raising) -> float:
    """The most that any use of what is cut could serve; a linear program over which ready week serves which week."""
    weeks = len(found)
    cut = [one.stuck + one.wasted for one in found]
    ready = [cut[week - raising.later] * raising.kept if week >= raising.later else 0.0 for week in range(weeks)]
    pairs = [(a, b) for b in range(weeks) for a in range(max(0, b - raising.hold_weeks), b + 1)]
    rows = np.zeros((2 * weeks, len(pairs)))
    for n, (a, b) in enumerate(pairs):
        rows[a, n] = rows[weeks + b, n] = 1
    told = linprog(-np.ones(len(pairs)), A_ub=rows, b_ub=[*ready, *(one.wanted for one in found)])
    return float(-told.fun)


class Replay(TestCase):
    @given(raisings, demands, st.dictionaries(st.integers(0, 5), st.integers(0, 40).map(float)))
    @settings(max_examples=150, deadline=None)
    def test_no_use_of_the_cuttings_serves_more_and_each_is_somewhere(
        self, raising: Raising, demand: list[float], starts: dict[int, float]
    ) -> None:
        found = replay(raising, demand, starts)
        wanted = sum(one.wanted for one in found)
        self.assertAlmostEqual(wanted - sum(one.short for one in found), most_served(found, raising), places=3)
        self.assertAlmostEqual(wanted, sum(demand) * (1 + raising.reserve), places=6)
        for n, one in enumerate(found):
            before = found[n - raising.later].stuck if n >= raising.later else 0.0
            self.assertAlmostEqual(one.ready, before * raising.kept, places=6)
            self.assertGreaterEqual(min(one.raised, one.rooted, one.wasted, one.short), 0)

    @given(raisings, demands)
    @settings(max_examples=60, deadline=None)
    def test_what_the_planner_says_is_met_is_met_when_it_is_lived_through(
        self, raising: Raising, demand: list[float]
    ) -> None:
        plan = planned(raising, demand)
        found = replay(raising, demand, {one.week: float(one.plantlets) for one in plan.starts})
        self.assertAlmostEqual(sum(one.short for one in found), plan.unmet, delta=1e-3)
        for one, week in zip(found, plan.weekly, strict=True):
            self.assertAlmostEqual(one.raised + one.rooted, week.mothers, places=6)

    def test_mothers_do_not_wait_for_a_season_that_is_far(self) -> None:
        raising = Raising(Habit((0.0, 1, 1), 1, 3))
        plan = planned(raising, [0.0] * 20 + [10.0, 10.0])
        self.assertEqual([(one.week, one.plantlets) for one in plan.starts], [(19, 10)])

    def test_cuttings_to_stick_are_as_many_cuts_whether_asked_for_now_or_as_rooted_ones(self) -> None:
        raising = Raising(Habit((0.0, 1, 1, 1), 1, 4), rooting_weeks=2, rooting_rate=0.8, hardening_rate=0.5)
        found = replay(raising, raising.ready_of([0, 12, 12, 0]), {0: 12.0})
        self.assertEqual([round(one.stuck, 9) for one in found[:4]], [0, 12, 12, 0])
        self.assertEqual(sum(one.short for one in found), 0)

    def test_what_cannot_be_is_refused_at_its_name(self) -> None:
        raising = Raising(Habit((1.0,), 0, 3))
        for starts, demand in (({7: 1.0}, [1.0]), ({0: -1.0}, [1.0]), ({0: 2e6}, [1.0])):
            with self.assertRaises(Refused):
                replay(raising, demand, starts)
        with self.assertRaises(Refused):
            planned(raising, [0.0, 0.0])
        with self.assertRaises(Refused):
            Raising(Habit((1.0,), 0, 3), rooting_rate=1.2)
