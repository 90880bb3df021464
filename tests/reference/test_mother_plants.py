"""The planner of mother plants: against a walk through cohorts, a projection matrix, a grid of all starts, the field's own figures."""

from itertools import product
from typing import Any
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.mother_plants import MotherPlants, mother_plants, of_one
from aldrip_core.refusal import Refused

#: Cuttings a mother by week of her life, cut weekly from the third week on: one at first, then growing by 15 % a week, then ageing.
GROWING = [0.0, 0, 0] + [1.15**n for n in range(12)] + [1.15**11 * 0.75**n for n in range(1, 22)]


def lived(plan: MotherPlants, starts: list[int], given: dict[str, Any]) -> list[tuple[float, float, float]]:
    """Mothers, cuts and cuts for sub-mothers by week, walked through cohort by cohort."""
    last = given.get("submother_generations", 1)
    cohorts = [(week, float(many), 0) for week, many in enumerate(starts) if many]
    weeks, told = len(plan.weekly), []
    for week in range(weeks):
        standing = cut = sub = 0.0
        for born, many, generation in cohorts:  # sub-mothers that root at once are met in the same week
            age = week - born
            if not 0 <= age < given["mother_life_weeks"]:
                continue
            standing += many
            shoots = given["shoots_by_age_weeks"][age] if age < len(given["shoots_by_age_weeks"]) else 0.0
            if age < given["first_cut_week"] or not shoots:
                continue
            cut += many * shoots
            if generation < last and age < given["first_cut_week"] + given["submother_cuts"]:
                sub += many * shoots
                cohorts.append((week + given["rooting_weeks"], many * shoots * given["rooting_rate"], generation + 1))
        told.append((standing, cut, sub))
    return told


small = st.fixed_dictionaries(
    {
        "weekly_demand": st.lists(st.integers(0, 60).map(float), min_size=6, max_size=10),
        "shoots_by_age_weeks": st.lists(st.integers(0, 4).map(float), min_size=3, max_size=9).filter(
            lambda one: any(one[2:])
        ),
        "first_cut_week": st.integers(0, 2),
        "mother_life_weeks": st.integers(9, 14),
        "submother_cuts": st.integers(0, 3),
        "submother_generations": st.integers(1, 4),
        "rooting_rate": st.sampled_from([0.5, 0.8, 1.0]),
        "hardening_rate": st.sampled_from([0.9, 1.0]),
        "rooting_weeks": st.integers(0, 2),
        "hardening_weeks": st.integers(0, 1),
        "hold_weeks": st.integers(0, 2),
        "reserve": st.sampled_from([0.0, 0.1]),
        "horizon_weeks": st.integers(6, 10),
    }
)


class Planned(TestCase):
    @given(given=small)
    @settings(deadline=None, max_examples=60)
    def test_its_weeks_are_those_of_a_walk_through_the_cohorts_and_nothing_is_lost(self, given: dict[str, Any]) -> None:
        found = mother_plants(**given)
        starts = [0] * len(found.weekly)
        for one in found.starts:
            starts[one.week] = one.plantlets
        for week, (mothers, cut, sub) in zip(found.weekly, lived(found, starts, given), strict=True):
            self.assertAlmostEqual(week.mothers, mothers, places=6)
            self.assertAlmostEqual(week.cut, cut, places=6)
            self.assertAlmostEqual(week.to_submothers, sub, places=6)
            self.assertAlmostEqual(week.cut, week.to_submothers + week.stuck + week.discarded, places=4)
        later = given["rooting_weeks"] + given["hardening_weeks"]
        kept = given["rooting_rate"] * given["hardening_rate"]
        for n, week in enumerate(found.weekly):
            before = found.weekly[n - later].stuck if n >= later else 0.0
            self.assertAlmostEqual(week.ready, before * kept, places=4)
        wanted = sum(given["weekly_demand"]) * (1 + given["reserve"])
        self.assertAlmostEqual(found.unmet, max(0.0, wanted - sum(week.ready for week in found.weekly)), delta=1e-3)

    @given(
        demand=st.lists(st.integers(0, 12).map(float), min_size=6, max_size=6),
        shoots=st.lists(st.integers(1, 3).map(float), min_size=4, max_size=6),
        sub=st.integers(0, 2),
        hold=st.integers(0, 1),
    )
    @settings(deadline=None, max_examples=25)
    def test_no_grid_of_starts_does_with_fewer(
        self, demand: list[float], shoots: list[float], sub: int, hold: int
    ) -> None:
        given: dict[str, Any] = {
            "weekly_demand": demand, "shoots_by_age_weeks": shoots, "first_cut_week": 1, "mother_life_weeks": 6, "submother_cuts": sub,
            "rooting_rate": 1.0, "hardening_rate": 1.0, "rooting_weeks": 1, "hardening_weeks": 0, "hold_weeks": hold, "horizon_weeks": 6,
        }  # fmt: skip
        found = mother_plants(**given)
        total = sum(one.plantlets for one in found.starts)
        gives = of_one(
            shoots_by_age_weeks=shoots,
            first_cut_week=1,
            mother_life_weeks=6,
            submother_cuts=sub,
            rooting_weeks=1,
            rooting_rate=1.0,
            weeks=6,
        )
        net = gives.cut - gives.to_submothers
        for starts in product(range(min(total, 6)), repeat=3):
            if sum(starts) >= total:
                continue
            ready = np.concatenate(([0.0], np.convolve([*starts, 0, 0, 0], net)[:5]))
            self.assertLess(_met(ready, demand, hold), sum(demand) - found.unmet - 1e-6, starts)

    def test_it_agrees_with_a_projection_matrix(self) -> None:
        """Ages as classes, sub-mothers as a second set of them; the matrix is numpy's own."""
        life, weeks, rooting, rate, cuts = 20, 40, 3, 0.85, 2
        shoots = np.array(GROWING[:life])
        size = 2 * life + rooting
        step = np.zeros((size, size))
        for age in range(life - 1):
            step[age + 1, age] = step[life + age + 1, life + age] = 1
        for age in range(3, 3 + cuts):
            step[2 * life, age] = shoots[age]  # stuck as sub-mothers
        for n in range(rooting - 1):
            step[2 * life + n + 1, 2 * life + n] = 1
        step[life, 2 * life + rooting - 1] = rate
        state = np.zeros(size)
        state[0] = 1
        one = of_one(
            shoots_by_age_weeks=GROWING,
            first_cut_week=3,
            mother_life_weeks=life,
            submother_cuts=cuts,
            rooting_weeks=rooting + 1,
            rooting_rate=rate,
            weeks=weeks,
        )
        for week in range(weeks):
            self.assertAlmostEqual(one.mothers[week], state[: 2 * life].sum())
            self.assertAlmostEqual(
                one.cut[week], (shoots * state[:life]).sum() + (shoots * state[life : 2 * life]).sum()
            )
            state = step @ state

    def test_one_mechanism_gives_what_growers_count(self) -> None:
        """30 to 70 cuttings a mother in 4 to 5 months without sub-mothers, 100 to 150 in 8 months with them (recorded practice)."""
        usual = {
            "shoots_by_age_weeks": GROWING,
            "first_cut_week": 3,
            "mother_life_weeks": 33,
            "rooting_weeks": 3,
            "rooting_rate": 0.9,
        }
        alone = of_one(**usual, submother_cuts=0, weeks=20)
        self.assertTrue(30 <= alone.cut.sum() <= 70, alone.cut.sum())
        more = of_one(**usual, submother_cuts=2, weeks=35)
        self.assertTrue(100 <= (more.cut - more.to_submothers).sum() <= 150, (more.cut - more.to_submothers).sum())
        self.assertAlmostEqual(alone.cut[3], 1.0)  # the first cut gives one

    def test_what_comes_too_soon_is_told_and_the_rest_is_met(self) -> None:
        usual: dict[str, Any] = {
            "shoots_by_age_weeks": GROWING, "first_cut_week": 3, "mother_life_weeks": 30, "submother_cuts": 2,
            "rooting_rate": 0.9, "hardening_rate": 0.95, "rooting_weeks": 3, "hardening_weeks": 1, "horizon_weeks": 40,
        }  # fmt: skip
        found = mother_plants(weekly_demand=[0, 0, 300, *[0] * 9, *[9000.0] * 6], reserve=0.05, **usual)
        self.assertAlmostEqual(found.unmet, 315, delta=0.5)
        self.assertEqual(found.warnings[0].code, "unmet")
        for week in found.weekly[12:18]:
            self.assertGreaterEqual(week.ready, 9000 * 1.05 - 1)
        with self.assertRaises(Refused):
            mother_plants(weekly_demand=[1], **usual | {"first_cut_week": 31})


def _met(ready: np.ndarray, demand: list[float], hold: int) -> float:  # type: ignore[type-arg]
    """What of a demand is met when the oldest is given first."""
    stock: list[list[float]] = []
    met = 0.0
    for week, wanted in enumerate(demand):
        stock = [one for one in stock if week - one[0] <= hold] + [[week, float(ready[week])]]
        for one in stock:
            given = min(one[1], wanted)
            one[1] -= given
            wanted -= given
            met += given
    return met
