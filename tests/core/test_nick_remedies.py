"""Remedies for a flowering gap, the bees, the days of visits, and what a strip leaves."""

import math
import random
import unittest
from dataclasses import replace
from datetime import date, timedelta

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from aldrip_core import isolation
from aldrip_core.field_inspection import FaultLimit, judge, metres_to_walk, off_types_expected, visit_day
from aldrip_core.flowering import (
    FlowerDate,
    Phenology,
    Seen,
    as_parent,
    flower_date,
    flowers_until,
    heat_of_day,
    may_flower,
    newest_of,
    sheds_from,
)
from aldrip_core.nick import Parent, RemedyClass, in_flower, nick, overlap_of
from aldrip_core.nick_remedies import For, Kind, Remedy, bees_arrive, outlook, role_for, suits, works_until
from aldrip_core.schedule import Climate

COAST = Climate((6, 7, 9.5, 12, 16, 20, 23, 23, 19.5, 15, 10, 7), daily_swing_c=6)
LINE = Phenology(heat_sum_c_d=1180, base_c=6, upper_c=30, spread_sd_days=2, lasts_days=8)
SOWN = date(2027, 4, 15)
WATER = Remedy(Kind.CULTURAL, For.LAGGING, 1, 2, until_share=0.85)
SOAK = Remedy(Kind.CULTURAL, For.LAGGING, 1, 2, at_sowing=True)
STRONG = Remedy(Kind.STRONG, For.LEADING, 3, 6)
ROPE = Remedy(Kind.POLLINATION, For.BOTH)
PARENT = Parent(SOWN, 90, 2, 8)


class WhichRemedy(unittest.TestCase):
    def test_the_parent_is_the_one_that_the_gap_names(self) -> None:
        for gap, late, early in ((5.0, "F", "M"), (-5.0, "M", "F")):
            self.assertEqual(role_for(WATER, gap), late)
            self.assertEqual(role_for(STRONG, gap), early)
            self.assertEqual(role_for(ROPE, gap), "F")

    def test_a_gap_is_answered_by_its_class_and_by_nothing_stronger(self) -> None:
        offered = {
            asked: [r for r in (WATER, STRONG, ROPE) if suits(r, asked=asked, sown=True)] for asked in RemedyClass
        }
        self.assertEqual(offered[RemedyClass.NONE], [ROPE])
        self.assertEqual(offered[RemedyClass.CULTURAL], [WATER, ROPE])
        self.assertEqual(offered[RemedyClass.STRONG], [WATER, STRONG, ROPE])

    def test_what_is_decided_at_sowing_is_not_offered_after_it(self) -> None:
        self.assertTrue(suits(SOAK, asked=RemedyClass.CULTURAL, sown=False))
        self.assertFalse(suits(SOAK, asked=RemedyClass.CULTURAL, sown=True))


class UntilWhen(unittest.TestCase):
    def found(self, seen: list[Seen]) -> tuple[date, FlowerDate]:
        flowers = flower_date(sow=SOWN, phenology=LINE, climate=COAST, seen=seen)
        parent = as_parent(sow=SOWN, found=flowers, phenology=LINE)
        return works_until(WATER, parent=parent, first=flowers.first, phenology=LINE, climate=COAST, seen=seen), flowers

    def test_it_works_until_its_share_of_the_heat_is_gathered_day_by_day(self) -> None:
        until, flowers = self.found([])
        heat = sum(heat_of_day(COAST, SOWN + timedelta(days=n), LINE) for n in range((until - SOWN).days))
        before = heat - heat_of_day(COAST, until - timedelta(days=1), LINE)
        self.assertTrue(before < 0.85 * 1180 <= heat)
        self.assertLess(until, flowers.first)

    def test_a_stage_seen_late_gives_more_time_and_one_beyond_it_ends_it_that_day(self) -> None:
        plain, _ = self.found([])
        late, _ = self.found([Seen(date(2027, 6, 20), 0.5)])
        self.assertGreater(late, plain)
        beyond, _ = self.found([Seen(date(2027, 6, 20), 0.9)])
        self.assertEqual(beyond, date(2027, 6, 20))

    def test_help_for_pollination_works_as_long_as_the_parent_flowers(self) -> None:
        first = date(2027, 7, 12)
        until = works_until(ROPE, parent=PARENT, first=first, phenology=LINE, climate=COAST)
        self.assertEqual((until - first).days, 8)

    def test_the_stage_that_counts_is_the_newest_and_of_one_day_the_most_advanced(self) -> None:
        rows = [Seen(date(2027, 6, 1), 0.4), Seen(date(2027, 6, 9), 0.5), Seen(date(2027, 6, 9), 0.6)]
        for _ in range(6):
            random.Random(3).shuffle(rows)
            self.assertEqual(newest_of(rows), Seen(date(2027, 6, 9), 0.6))
        self.assertIsNone(newest_of([]))


class WhatIsLeft(unittest.TestCase):
    @given(
        gap=st.integers(-14, 14),
        moves=st.lists(st.tuples(st.floats(0, 3), st.floats(0, 3)), min_size=1, max_size=4),
    )
    def test_remedies_add_up_never_turn_the_gap_round_and_never_widen_it(
        self, gap: int, moves: list[tuple[float, float]]
    ) -> None:
        female = replace(PARENT, days_to_flower=PARENT.days_to_flower + gap)
        remedies = [Remedy(Kind.CULTURAL, For.LAGGING, low, low + more) for low, more in moves]
        left = outlook(female=female, male=PARENT, remedies=remedies)
        high = sum(r.high_days for r in remedies)
        if high == 0:
            self.assertIsNone(left)
            return
        assert left is not None
        self.assertLessEqual(abs(left.gap_low_days), abs(left.gap_high_days) + 1e-9)
        self.assertLessEqual(abs(left.gap_high_days), abs(gap) + 1e-9)
        for one in (left.gap_low_days, left.gap_high_days):
            self.assertGreaterEqual(one * gap, -1e-9)
        self.assertGreaterEqual(left.overlap, overlap_of(female, PARENT) - 1e-9)
        self.assertAlmostEqual(abs(left.gap_low_days), max(0.0, abs(gap) - high))

    def test_enough_of_them_meet_as_if_the_sowing_had_been_right(self) -> None:
        male = replace(PARENT, days_to_flower=94)
        left = outlook(female=PARENT, male=male, remedies=[WATER, WATER, STRONG])
        assert left is not None
        self.assertAlmostEqual(left.overlap, nick(female=PARENT, male=PARENT).overlap)

    def test_help_for_pollination_alone_moves_nothing(self) -> None:
        self.assertIsNone(outlook(female=PARENT, male=PARENT, remedies=[ROPE]))


class Bees(unittest.TestCase):
    @given(st.floats(0.01, 0.5), st.floats(0, 5), st.integers(1, 3))
    def test_hives_come_on_the_first_day_with_enough_flowers(self, share: float, sd: float, sowings: int) -> None:
        female = replace(PARENT, spread_sd_days=sd, sowings=sowings, sowing_gap_days=5)
        day = bees_arrive(female=female, share=share)
        there = in_flower(female, np.array([day.toordinal() - 1.0, float(day.toordinal())]))
        if max(in_flower(female, np.arange(female.first - 40.0, female.first + 60.0))) >= share:
            self.assertLess(there[0], share)
            self.assertGreaterEqual(there[1], share)


class DaysOfVisits(unittest.TestCase):
    def test_a_visit_before_flowering_leaves_a_week_to_rogue(self) -> None:
        flowers = date(2027, 7, 12)
        sheds = sheds_from(flowers, LINE)
        self.assertEqual(flowers - sheds, timedelta(days=4))
        first = visit_day(before=True, days_after=0, shedding_from=sheds, flowers_from=flowers)
        self.assertEqual(sheds - first, timedelta(days=7))

    def test_without_heat_sums_it_comes_two_weeks_before_the_stage(self) -> None:
        day = visit_day(before=True, days_after=0, shedding_from=None, flowers_from=date(2027, 7, 12))
        self.assertEqual(day, date(2027, 6, 28))

    def test_the_others_follow_first_flowers(self) -> None:
        for after in (0, 3, 40):
            day = visit_day(before=False, days_after=after, shedding_from=None, flowers_from=date(2027, 7, 12))
            self.assertEqual((day - date(2027, 7, 12)).days, after)

    def test_a_date_that_is_unsure_may_flower_longer(self) -> None:
        sure, unsure = (may_flower(FlowerDate(date(2027, 7, 12), sd), LINE) for sd in (0.0, 3.0))
        self.assertEqual(sure, (date(2027, 7, 8), date(2027, 7, 24)))
        self.assertEqual(sure[1], flowers_until(date(2027, 7, 12), LINE))
        self.assertEqual((sure[0] - unsure[0]).days, 6)
        self.assertEqual((unsure[1] - sure[1]).days, 6)

    def test_what_a_count_makes_expect_of_the_whole_field(self) -> None:
        limits = [FaultLimit("o", "off-types", 0.01), FaultLimit("d", "diseased", 0.01)]
        count = judge(limits=limits, sample=1000, plants=500, found={"o": 3, "d": 2})
        self.assertEqual(off_types_expected(count, 60_000), 600)
        none_yet = judge(limits=limits, sample=1000, plants=0, found={})
        self.assertEqual(off_types_expected(none_yet, 60_000), 0)
        self.assertEqual(metres_to_walk(6), 1)


class Strips(unittest.TestCase):
    FIELD = ((0.0, 0.0), (100.0, 0.0), (100.0, 100.0), (0.0, 100.0))
    EAST = ((520.0, 0.0), (600.0, 0.0), (600.0, 100.0), (520.0, 100.0))

    def check(self, *rules: isolation.Rule, near: tuple[tuple[float, float], ...] = EAST) -> isolation.Isolation:
        flowers = isolation.Flowering(date(2027, 7, 1), date(2027, 7, 11))
        theirs = isolation.Flowering(date(2027, 7, 23), date(2027, 8, 5))
        return isolation.isolation(
            field=self.FIELD,
            neighbours=[isolation.Neighbour("n", near, rules[0].kind, theirs)],
            rules=rules,
            flowering=flowers,
            time_margin_days=14,
        )

    def test_a_rule_may_have_its_own_margin(self) -> None:
        """Twelve days apart: too few by the margin of the check, enough by a rule that asks for ten."""
        self.assertEqual(len(self.check(isolation.Rule("a", 500, True)).breaches), 1)
        self.assertEqual(len(self.check(isolation.Rule("a", 500, True, time_margin_days=10)).excused), 1)
        self.assertEqual(len(self.check(isolation.Rule("a", 500, True, time_margin_days=0)).excused), 1)
        self.assertEqual(len(self.check(isolation.Rule("a", 500, False, time_margin_days=0)).breaches), 1)

    def test_what_a_strip_leaves_keeps_the_distance_and_hardly_more(self) -> None:
        found = self.check(isolation.Rule("a", 500))
        metres = isolation.distance_from_parts(found.plantable, self.EAST)
        self.assertAlmostEqual(metres, 500, places=2)

    def test_two_strips_one_after_the_other_are_one_for_both(self) -> None:
        north = tuple((y, x) for x, y in self.EAST)
        one, other = self.check(isolation.Rule("a", 500)), self.check(isolation.Rule("a", 500), near=north)
        parts, area = isolation.common_parts(one.plantable, other.plantable)
        both = isolation.isolation(
            field=self.FIELD,
            rules=[isolation.Rule("a", 500)],
            neighbours=[isolation.Neighbour("e", self.EAST, "a"), isolation.Neighbour("n", north, "a")],
        )
        self.assertTrue(math.isclose(area, both.plantable_area_m2, rel_tol=1e-9))
        self.assertEqual(len(parts), len(both.plantable))
