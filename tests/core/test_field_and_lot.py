"""Flowering from what was seen, inspection plans, verdicts on lots, land history."""

import unittest
from datetime import date, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.field_inspection import (
    Choice,
    FaultLimit,
    SamplingPlan,
    State,
    choices,
    decision_table,
    judge,
    spread_areas,
)
from aldrip_core.flowering import Phenology, Seen, flower_date, heat_of_day, sow_for
from aldrip_core.isolation import common_parts, parts_without
from aldrip_core.land_history import FreeYears, Grown, objections
from aldrip_core.reject_number import Decision
from aldrip_core.row_plan import row_plan
from aldrip_core.rows_left import metres_left
from aldrip_core.schedule import Climate
from aldrip_core.side import beyond_side
from aldrip_core.verdict import Limit, Outcome, Proposal, Refusal, Value, judge_lot, may_sign

COAST = Climate((6, 7, 9.5, 12, 16, 20, 23, 23, 19.5, 15, 10, 7), daily_swing_c=6)
LINE = Phenology(heat_sum_c_d=1180, base_c=6, upper_c=30, spread_sd_days=2, lasts_days=8)
SOWN = date(2027, 4, 15)
OFF = FaultLimit("off_types", "off-types", 0.003)
SICK = FaultLimit("diseased", "diseased", 0.005, Decision.PLAIN_MAX, cures=False)
TODAY = date(2027, 9, 1)
GERM = Limit("germination", "germination", "%", low=85, statutory=True, source="law")
PURE = Limit("purity", "pure seed", "%", low=98)
WET = Limit("moisture", "moisture", "%", high=10, required=False)


class Flowering(unittest.TestCase):
    def test_the_heat_gathered_before_the_day_is_enough_and_the_day_before_was_not(self) -> None:
        first = flower_date(sow=SOWN, phenology=LINE, climate=COAST).first
        total = sum(heat_of_day(COAST, SOWN + timedelta(days=n), LINE) for n in range((first - SOWN).days))
        self.assertGreaterEqual(total, 1180)
        self.assertLess(total - heat_of_day(COAST, first - timedelta(days=1), LINE), 1180)

    def test_a_stage_seen_late_moves_the_day_and_narrows_it(self) -> None:
        planned = flower_date(sow=SOWN, phenology=LINE, climate=COAST)
        half = next(
            SOWN + timedelta(days=n)
            for n in range(200)
            if sum(heat_of_day(COAST, SOWN + timedelta(days=k), LINE) for k in range(n)) >= 590
        )
        on_time = flower_date(sow=SOWN, phenology=LINE, climate=COAST, seen=[Seen(half, 0.5)])
        late = flower_date(sow=SOWN, phenology=LINE, climate=COAST, seen=[Seen(half + timedelta(days=7), 0.5)])
        self.assertLessEqual(abs((on_time.first - planned.first).days), 1)
        self.assertTrue(4 <= (late.first - on_time.first).days <= 7)
        self.assertLess(on_time.date_sd_days, planned.date_sd_days)

    def test_the_newest_stage_counts(self) -> None:
        seen = [Seen(date(2027, 6, 20), 0.7), Seen(date(2027, 6, 1), 0.3)]
        both = flower_date(sow=SOWN, phenology=LINE, climate=COAST, seen=seen)
        self.assertEqual(both.first, flower_date(sow=SOWN, phenology=LINE, climate=COAST, seen=seen[:1]).first)

    @given(st.dates(date(2026, 5, 15), date(2026, 9, 30)))
    def test_sowing_back_from_a_flowering_day_flowers_by_it(self, wanted: date) -> None:
        sow = sow_for(flower_on=wanted, phenology=LINE, climate=COAST)
        self.assertLessEqual(flower_date(sow=sow, phenology=LINE, climate=COAST).first, wanted)
        after = flower_date(sow=sow + timedelta(days=2), phenology=LINE, climate=COAST).first
        self.assertGreaterEqual(after, wanted)


class Counting(unittest.TestCase):
    def test_the_twenty_third_reject_is_a_rejection_only_from_the_reject_number_on(self) -> None:
        for found, state in ((18, State.ACCEPT), (19, State.REJECT)):
            self.assertEqual(judge(limits=[OFF], sample=4000, plants=4000, found={"off_types": found}).state, state)

    def test_a_rejection_stands_before_the_count_is_full_and_an_acceptance_does_not(self) -> None:
        self.assertEqual(judge(limits=[OFF], sample=4000, plants=1200, found={"off_types": 19}).state, State.REJECT)
        early = judge(limits=[OFF], sample=4000, plants=3999, found={})
        self.assertEqual((early.state, early.more_plants), (State.CONTINUE, 1))

    @settings(deadline=None)
    @given(st.lists(st.integers(0, 260), min_size=7, max_size=7))
    def test_a_count_is_full_when_every_area_is_and_says_what_is_missing_where(self, areas: list[int]) -> None:
        """Seven areas of 130: however many plants of one corner there are, the others are still to be counted."""
        by_area = dict(enumerate(areas, start=1))
        told = judge(limits=[OFF], sample=910, plants=sum(areas), found={}, by_area=by_area, areas=7)
        missing = [max(0, 130 - many) for many in areas]
        self.assertEqual(told.short_areas, tuple(n for n, many in enumerate(missing, start=1) if many))
        self.assertEqual(told.more_plants, sum(missing))
        self.assertEqual(told.state, State.CONTINUE if any(missing) else State.ACCEPT)
        found = {"off_types": told.faults[0].reject_at}  # what rejects, rejects wherever it stood
        again = judge(limits=[OFF], sample=910, plants=sum(areas), found=found, by_area=by_area, areas=7)
        self.assertEqual((again.state, again.size), (State.REJECT, max(910, sum(areas))))

    def test_one_rejecting_fault_rejects_the_whole(self) -> None:
        verdict = judge(limits=[OFF, SICK], sample=4000, plants=4000, found={"off_types": 3, "diseased": 21})
        self.assertEqual((verdict.state, verdict.cured_by_roguing), (State.REJECT, False))

    def test_what_may_follow(self) -> None:
        accepted = judge(limits=[OFF], sample=100, plants=100, found={})
        rejected = judge(limits=[OFF], sample=4000, plants=4000, found={"off_types": 30})
        sick = judge(limits=[SICK], sample=4000, plants=4000, found={"diseased": 30})
        going = judge(limits=[OFF], sample=100, plants=50, found={})
        self.assertEqual(choices(judgement=accepted, shedding=False, lower_class=True), (Choice.ACCEPT,))
        self.assertEqual(choices(judgement=going, shedding=False, lower_class=True), ())
        self.assertEqual(
            choices(judgement=rejected, shedding=False, lower_class=True),
            (Choice.ROGUE, Choice.DOWNGRADE, Choice.REJECT),
        )
        self.assertEqual(choices(judgement=rejected, shedding=True, lower_class=False), (Choice.REJECT,))
        self.assertNotIn(Choice.ROGUE, choices(judgement=sick, shedding=False, lower_class=True))

    def test_the_phones_table_says_what_the_server_says(self) -> None:
        table = decision_table(limits=[OFF, SICK], sample=2000)
        self.assertEqual(table.rows[-1].plants, 2000)
        for row in table.rows:
            for found, (low, high, *_) in enumerate(row.by_found):
                fault = judge(limits=[OFF], sample=2000, plants=row.plants, found={"off_types": found}).faults[0]
                self.assertEqual((fault.low, fault.high), (low, high))
                self.assertEqual(fault.reject_at, table.reject_at["off_types"])

    def test_a_count_beyond_the_sample_is_judged_by_its_own_size_on_the_phone_too(self) -> None:
        table = decision_table(limits=[OFF, SICK], sample=1000)
        for plants in (1001, 1100, 1333, 1500, 1999, 2000):
            for limit in (OFF, SICK):
                number = judge(limits=[limit], sample=1000, plants=plants, found={}).faults[0].reject_at
                risen = [n for start, n in table.beyond[limit.attribute] if plants >= start]
                self.assertEqual(
                    risen[-1] if risen else table.reject_at[limit.attribute], number, (plants, limit.attribute)
                )

    def test_areas_follow_the_field_and_lie_in_it(self) -> None:
        """At least 5 for the first 2 ha, one more for each further 2 ha: common practice, no source."""
        plan = SamplingPlan(5, 2, 2, 400)
        self.assertEqual([plan.areas(ha) for ha in (0.1, 2.0, 2.06, 4.0, 4.01, 10)], [5, 5, 6, 6, 7, 9])
        field = [(0.0, 0.0), (210.0, 15.0), (260.0, 140.0), (150.0, 120.0), (120.0, 210.0), (-30.0, 180.0)]
        points = spread_areas([[field]], 7)
        self.assertEqual(len(set(points)), 7)
        from shapely import Point, Polygon

        self.assertTrue(all(Polygon(field).contains(Point(p)) for p in points))

    @given(
        wide=st.floats(40, 400),
        long=st.floats(40, 400),
        side=st.sampled_from(("north", "east", "south", "west")),
        share=st.floats(0.05, 0.9),
        bearing=st.floats(0, 180),
        areas=st.integers(3, 12),
    )
    @settings(max_examples=40, deadline=None)
    def test_what_a_part_takes_and_what_is_left_are_the_whole(
        self, wide: float, long: float, side: str, share: float, bearing: float, areas: int
    ) -> None:
        """Rows left and rows gone add up to the plan; the areas lie where something still counts."""
        from shapely import Point, Polygon, union_all

        field = [(0.0, 0.0), (wide, 8.0), (wide * 0.9, long), (-5.0, long * 0.8)]
        metres = share * 0.8 * (long if side in ("north", "south") else wide)
        left, left_m2 = common_parts([[field]], [[beyond_side([[field]], side=side, metres=metres)]])
        gone = parts_without([[field]], left)
        plan = row_plan(
            outline=field,
            row_bearing_deg=bearing,
            row_spacing_m=0.7,
            pattern="FFMF",
            border_rows=3,
            in_row_cm={"F": 20, "M": 25},
        )
        stands, goes = metres_left(plan.rows, left), metres_left(plan.rows, gone)
        for line, whole in metres_left(plan.rows, [[field]]).items():
            self.assertAlmostEqual(whole, plan.metres[line], delta=0.002 * plan.metres[line])
            self.assertAlmostEqual(stands[line] + goes[line], whole, delta=0.002 * whole)
        self.assertAlmostEqual(sum(stands.values()) * 0.7 / left_m2, 1, delta=0.08)
        ground = union_all([Polygon(rings[0], rings[1:]) for rings in left]).buffer(1e-6)
        points = spread_areas(left, areas)
        self.assertEqual(len(points), areas)
        self.assertTrue(all(ground.contains(Point(p)) for p in points))


class LotVerdicts(unittest.TestCase):
    def values(self, **percent: float) -> dict[str, Value]:
        return {
            name: Value(value, date(2027, 8, 20), seeds=400 if name == "germination" else None)
            for name, value in percent.items()
        }

    def test_release_only_with_every_required_result(self) -> None:
        verdict = judge_lot(limits=[GERM, PURE, WET], values=self.values(germination=91), today=TODAY)
        self.assertEqual((verdict.proposal, verdict.sentence), (Proposal.HOLD, "Held: pure seed was not tested."))
        refusal, text = may_sign(decision=Proposal.RELEASE, verdict=verdict, reason="the customer is waiting")
        self.assertEqual(refusal, Refusal.WANTING)
        self.assertIn("pure seed was not tested", text)

    def test_a_limit_of_law_is_never_overridden_another_with_a_reason(self) -> None:
        law = judge_lot(limits=[GERM, PURE], values=self.values(germination=84, purity=99), today=TODAY)
        self.assertEqual(
            may_sign(decision=Proposal.RELEASE, verdict=law, reason="it is nearly 85")[0], Refusal.STATUTORY
        )
        own = judge_lot(limits=[GERM, PURE], values=self.values(germination=91, purity=97.5), today=TODAY)
        self.assertEqual(may_sign(decision=Proposal.RELEASE, verdict=own)[0], Refusal.REASON)
        self.assertEqual(
            may_sign(decision=Proposal.RELEASE, verdict=own, reason="agreed in writing")[0], Refusal.NOTHING
        )

    def test_margin_interval_and_expiry(self) -> None:
        verdict = judge_lot(limits=[GERM, PURE], values=self.values(germination=91, purity=98), today=TODAY)
        germ = verdict.attributes[0]
        self.assertEqual((germ.margin, verdict.proposal), (6, Proposal.RELEASE))
        self.assertTrue(germ.low is not None and germ.high is not None and germ.low < 91 < germ.high)
        old = {**self.values(purity=99), "germination": Value(91, date(2026, 1, 1), expires=date(2027, 9, 1))}
        self.assertEqual(judge_lot(limits=[GERM], values=old, today=TODAY).attributes[0].outcome, Outcome.EXPIRED)
        again = {"germination": Value(85, TODAY, repeat="replicates differ by 17 %")}
        self.assertEqual(judge_lot(limits=[GERM], values=again, today=TODAY).attributes[0].outcome, Outcome.REPEAT)

    def test_a_failing_lot_falls_to_the_highest_class_it_meets(self) -> None:
        lower = [("certified 2", [Limit("germination", "germination", "%", low=80)]), ("commercial", [])]
        verdict = judge_lot(limits=[GERM], values=self.values(germination=82), today=TODAY, lower_classes=lower)
        self.assertEqual((verdict.proposal, verdict.downgrade_to), (Proposal.DOWNGRADE, "certified 2"))
        none = judge_lot(limits=[GERM], values=self.values(germination=60), today=TODAY, lower_classes=lower[:1])
        self.assertEqual(none.proposal, Proposal.REJECT)
        self.assertEqual(may_sign(decision=Proposal.DOWNGRADE, verdict=none)[0], Refusal.CLASS)
        self.assertEqual(may_sign(decision=Proposal.REJECT, verdict=none)[0], Refusal.REASON)


class LandHistory(unittest.TestCase):
    def test_two_seasons_between_unless_it_was_inspected_clean(self) -> None:
        """Common practice, no source."""

        def said(year: int, clean: bool = False) -> int:
            return len(
                objections(
                    crop="Sunflower",
                    family="",
                    year=2027,
                    history=[Grown(year, "sunflower", clean=clean)],
                    rules=[FreeYears()],
                )
            )

        self.assertEqual([said(y) for y in (2027, 2026, 2025, 2024)], [1, 1, 1, 0])
        self.assertEqual(said(2026, clean=True), 0)

    def test_family_counts_where_the_rule_says_so(self) -> None:
        rule = FreeYears(seasons=3, same="family")
        history = [Grown(2025, "Cabbage", "Brassicaceae")]
        self.assertEqual(
            len(objections(crop="Radish", family="Brassicaceae", year=2027, history=history, rules=[rule])), 1
        )
        self.assertEqual(objections(crop="Radish", family="", year=2027, history=history, rules=[rule]), ())
