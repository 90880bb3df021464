"""Mothers that stand: what they give against a walk through every one of them, and remedies that do what they say."""

from datetime import date, timedelta
from math import floor
from random import Random
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.mother_stock import WAITS_AT_MOST, Habit, Stand, given_by_week, grows, outlook
from aldrip_core.refusal import Refused

MONDAY = date(2027, 3, 1)
WEEK = timedelta(weeks=1)
WEEKS = 20


def _habit(seed: int) -> Habit:
    any_ = Random(seed)
    life = any_.randrange(2, 31)
    first = any_.randrange(life)
    shoots = [float(any_.randrange(7)) for _ in range(life)]
    shoots[first] += 1
    return Habit(tuple(shoots), first, life)


habits = st.integers(0, 2**32).map(_habit)
stands = st.builds(
    lambda mothers, days, habit, ends: Stand(
        mothers, MONDAY + timedelta(days=days), habit, MONDAY + timedelta(days=ends) if ends is not None else None
    ),
    st.integers(1, 50).map(float),
    st.integers(-200, 100),
    habits,
    st.none() | st.integers(-50, 200),
)
amounts = st.integers(0, 2**32).map(
    lambda seed: [float(any_.choice((0, any_.randrange(400)))) for any_ in [Random(seed)] for _ in range(WEEKS)]
)


class Gives(TestCase):
    @given(st.lists(stands, max_size=5))
    def test_it_is_what_a_walk_through_every_mother_counts(self, all_of_them: list[Stand]) -> None:
        found = given_by_week(all_of_them, first=MONDAY, weeks=WEEKS)
        for week in range(WEEKS):
            monday, cut = MONDAY + week * WEEK, 0.0
            for stand in all_of_them:
                old = floor((monday - (stand.planted - timedelta(days=stand.planted.weekday()))) / WEEK)
                over = stand.until is not None and monday >= stand.until
                if old >= 0 and stand.habit.first_cut_week <= old < stand.habit.life_weeks and not over:
                    cut += stand.mothers * stand.habit.shoots_by_age_weeks[old]
            self.assertAlmostEqual(found[week], cut)

    @given(stands, habits)
    def test_ended_three_weeks_early_it_gives_less_and_never_more(self, stand: Stand, habit: Habit) -> None:
        whole = given_by_week([Stand(stand.mothers, stand.planted, habit)], first=MONDAY, weeks=WEEKS)
        for ends in range(WEEKS):
            until = MONDAY + ends * WEEK
            cut = given_by_week([Stand(stand.mothers, stand.planted, habit, until)], first=MONDAY, weeks=WEEKS)
            self.assertEqual(cut, (*whole[:ends], *(0.0 for _ in whole[ends:])))

    def test_it_agrees_with_a_projection_matrix(self) -> None:
        """Leslie's matrix without births: a mother of an age is a week older a week later (Leslie 1945)."""
        habit = Habit((0, 0, 0, 1, 2, 3, 2, 1), 3, 8)
        ages = np.array([5.0, 0, 7, 0, 0, 2, 0, 0])
        older = np.eye(8, k=-1)
        all_of_them = [Stand(many, MONDAY - age * WEEK, habit) for age, many in enumerate(ages.tolist()) if many]
        found = given_by_week(all_of_them, first=MONDAY, weeks=8)
        for week in range(8):
            self.assertAlmostEqual(found[week], float(ages @ np.array(habit.shoots_by_age_weeks)))
            ages = older @ ages


class Helps(TestCase):
    @settings(max_examples=200)
    @given(amounts, amounts, habits)
    def test_each_remedy_does_what_it_says(self, gives: list[float], wanted: list[float], habit: Habit) -> None:
        found = outlook(gives, wanted, first=MONDAY, habit=habit)
        self.assertEqual(found.short, tuple(max(0, w - g) for g, w in zip(gives, wanted, strict=True)))
        by_code = {one.code: one for one in found.remedies}
        self.assertEqual(bool(found.remedies), any(found.short))
        if "buy" in by_code:
            self.assertGreaterEqual(by_code["buy"].many, sum(found.short))
        if "plant" in by_code:
            planted = by_code["plant"]
            more = given_by_week([Stand(planted.many, MONDAY, habit)], first=MONDAY, weeks=WEEKS)
            served = [n for n, short in enumerate(found.short) if short and more[n]]
            self.assertTrue(served)
            for week in served:
                self.assertGreaterEqual(more[week] + 1e-6, found.short[week])
            fewer = given_by_week([Stand(planted.many - 1, MONDAY, habit)], first=MONDAY, weeks=WEEKS)
            self.assertTrue(any(fewer[week] < found.short[week] - 1e-6 for week in served))
        if "later" in by_code:
            weeks = by_code["later"].many
            self.assertTrue(0 < weeks <= WAITS_AT_MOST)
            # In whole cuttings, one after another: the n-th that is wanted is cut at most so many weeks later.
            cut = [n for n, many in enumerate(gives) for _ in range(int(many))]
            due = [n for n, many in enumerate(wanted) for _ in range(int(many))]
            waits, at = [], 0
            for want in due:
                while at < len(cut) and cut[at] < want:
                    at += 1
                self.assertLess(at, len(cut))
                waits.append(cut[at] - want)
                at += 1
            self.assertEqual(max(waits), weeks)

    def test_what_growers_count_comes_out(self) -> None:
        """30 to 70 cuttings a mother in four to five months (common practice, no source)."""
        for months in (4, 5):
            habit = Habit(grows(first_cut_week=4, first=1, a_week=0.15, most=6, life_weeks=35), 4, 35)
            many = sum(given_by_week([Stand(1, MONDAY, habit)], first=MONDAY, weeks=round(months * 365.25 / 12 / 7)))
            self.assertTrue(30 <= many <= 70, many)

    def test_a_habit_that_cannot_be_is_refused(self) -> None:
        for shoots, first, life, field in (
            ((1.0,), 0, 0, "life_weeks"),
            ((1.0, 1.0), 2, 2, "first_cut_week"),
            ((1.0, -1.0), 0, 2, "shoots"),
            ((1.0, 0.0), 1, 2, "shoots"),
        ):
            with self.subTest(field), self.assertRaises(Refused) as refused:
                Habit(shoots, first, life)
            self.assertEqual(refused.exception.errors[0].field, field)
