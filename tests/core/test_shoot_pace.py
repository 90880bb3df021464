"""Mothers where it is cold or dark: against a walk through every mother day by day of her growth, and against themselves."""

from datetime import date, timedelta
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.mother_plan import Raising, gives, planned, replay
from aldrip_core.mother_plants import of_each
from aldrip_core.mother_stock import Habit, Stand, given_by_week, grows
from aldrip_core.schedule import Climate
from aldrip_core.shoot_pace import pace_by_week

MONDAY = date(2027, 1, 4)
WEEKS = 14
FINE = 4  # parts of a week of growth: paces below are whole numbers of them, so the walk is exact
habits = st.builds(
    lambda first, shoots, more: Habit((*(0.0 for _ in range(first)), *shoots), first, first + len(shoots) + more),
    st.integers(0, 3),
    st.lists(st.integers(0, 5).map(float), min_size=1, max_size=8).filter(any),
    st.integers(0, 5),
)
paces = st.lists(st.integers(0, FINE).map(lambda n: n / FINE), min_size=WEEKS, max_size=WEEKS)


def walked(habit: Habit, planted: int, pace: list[float], first_cuts: int | None = None) -> list[float]:
    """One mother, a part of a week of growth at a time; `first_cuts`: only what her first cuts give."""
    found, parts = [0.0] * WEEKS, 0
    for week in range(planted, min(WEEKS, planted + habit.life_weeks)):
        for _ in range(round(pace[week] * FINE)):
            age = parts // FINE
            if first_cuts is None or age < habit.first_cut_week + first_cuts:
                found[week] += habit.shoots(age) / FINE
            parts += 1
    return found


class Pace(TestCase):
    @given(habits, paces, st.integers(0, WEEKS - 1), st.integers(0, 3), st.sampled_from([0.5, 1.0]), st.integers(0, 2))
    @settings(max_examples=150, deadline=None)
    def test_a_mother_and_her_sub_mothers_give_what_a_walk_through_them_gives(
        self, habit: Habit, pace: list[float], planted: int, cuts: int, rate: float, rooting: int
    ) -> None:
        each = of_each(
            shoots_by_age_weeks=habit.shoots_by_age_weeks,
            first_cut_week=habit.first_cut_week,
            mother_life_weeks=habit.life_weeks,
            submother_cuts=cuts,
            rooting_weeks=rooting,
            rooting_rate=rate,
            weeks=WEEKS,
            pace=pace,
        )
        own, sub = walked(habit, planted, pace), walked(habit, planted, pace, cuts)
        cut = np.array(own)
        for week, many in enumerate(sub):
            if many and week + rooting < WEEKS:
                cut += many * rate * np.array(walked(habit, week + rooting, pace))
        np.testing.assert_allclose(each.cut[planted], cut, atol=1e-9)
        np.testing.assert_allclose(each.to_submothers[planted][: planted + 1], sub[: planted + 1], atol=1e-9)
        stand = Stand(1, MONDAY + timedelta(weeks=planted), habit, pace=tuple(pace[planted:]))
        np.testing.assert_allclose(given_by_week([stand], first=MONDAY, weeks=WEEKS), own, atol=1e-9)

    @given(habits, st.integers(0, 3), st.integers(1, 3))
    @settings(max_examples=60, deadline=None)
    def test_where_nothing_slows_them_it_is_as_without(self, habit: Habit, cuts: int, generations: int) -> None:
        raising = Raising(habit, submother_cuts=cuts, submother_generations=generations, rooting_weeks=1)
        np.testing.assert_allclose(gives(raising, WEEKS, [1.0] * WEEKS), gives(raising, WEEKS), atol=1e-9)

    @given(habits, paces, st.lists(st.integers(0, 40).map(float), min_size=6, max_size=WEEKS).filter(any))
    @settings(max_examples=50, deadline=None)
    def test_what_the_planner_says_is_met_is_met_in_the_cold_too(
        self, habit: Habit, pace: list[float], demand: list[float]
    ) -> None:
        raising = Raising(habit, submother_cuts=1, rooting_weeks=1, rooting_rate=0.8, hold_weeks=1)
        plan = planned(raising, demand, pace)
        found = replay(raising, demand, {one.week: float(one.plantlets) for one in plan.starts}, pace)
        self.assertAlmostEqual(sum(one.short for one in found), plan.unmet, delta=1e-3)

    def test_cold_and_short_days_slow_and_lamps_and_heating_help(self) -> None:
        cold = tuple(5 + 11 * (1 - abs(month - 6) / 6) for month in range(12))
        outside = Climate(cold, latitude=52)
        by = {
            "outside": outside,
            "heated": Climate(cold, latitude=52, set_point_c=20),
            "lit": Climate(cold, latitude=52, set_point_c=20, lamps_mol=4),
        }
        winter = {name: pace_by_week(one, MONDAY, 1)[0] for name, one in by.items()}
        self.assertLess(winter["outside"], winter["heated"])
        self.assertLess(winter["heated"], winter["lit"])
        self.assertAlmostEqual(winter["lit"], (20 - 6) / (22 - 6))
        for climate in by.values():
            self.assertTrue(all(0 <= one <= 1 for one in pace_by_week(climate, MONDAY, 60)))

    def test_what_growers_tell_of_good_conditions_takes_longer_in_a_winter(self) -> None:
        """30 to 70 cuttings in 4 to 5 months without sub-mothers: common practice, no source; fewer in the cold."""
        habit = Habit(grows(first_cut_week=4, first=1, a_week=0.15, most=6, life_weeks=35), 4, 35)
        warm = sum(habit.shoots_in(week) for week in range(20))
        slow = pace_by_week(Climate((17.0,) * 12, latitude=52), MONDAY, 35)
        self.assertTrue(30 <= warm <= 70)
        self.assertLess(sum(habit.shoots_in(week, slow) for week in range(20)), 0.6 * warm)
