"""What core refuses: the field, the code, and a sentence with the figure in it. And what it warns of."""

import unittest
from collections.abc import Callable
from datetime import date
from typing import Any

from aldrip_core.field_inspection import FaultLimit, SamplingPlan, judge, roguing_hours
from aldrip_core.flowering import Phenology, Seen, flower_date, sow_for, sow_not_before
from aldrip_core.forecast import TrayCount, counted_rate
from aldrip_core.generations import GenerationStep, ParentInput, generations
from aldrip_core.geometry import area_m2, open_ring, polygon
from aldrip_core.isolation import Neighbour, Rule, isolation
from aldrip_core.ladder import LadderStage, ladder
from aldrip_core.nick import Parent, nick
from aldrip_core.off_type_interval import off_type_interval
from aldrip_core.refusal import Refused
from aldrip_core.reject_number import Decision, reject_number
from aldrip_core.replicate_tolerance import replicate_tolerance
from aldrip_core.row_plan import row_plan
from aldrip_core.schedule import Climate
from aldrip_core.seed_rate import seed_rate
from aldrip_core.seed_viability import ViabilityConstants, seed_viability

COAST = Climate((6, 7, 9.5, 12, 16, 20, 23, 23, 19.5, 15, 10, 7), daily_swing_c=6)
ARCTIC = Climate((-20,) * 12)
LINE = Phenology(heat_sum_c_d=1180, base_c=6, upper_c=30, spread_sd_days=2, lasts_days=8)
SQUARE = [(0.0, 0.0), (100.0, 0.0), (100.0, 100.0), (0.0, 100.0)]
CERTIFIED = GenerationStep("certified", 1000, 0.8, 10)
BARLEY = ViabilityConstants(9.983, 5.896, 0.040, 0.000428)


class RefusalCase(unittest.TestCase):
    def refused(self, call: Callable[[], Any], field: str, code: str, *words: str) -> None:
        with self.assertRaises(Refused) as told:
            call()
        error = told.exception.errors[0]
        self.assertEqual((error.field, error.code), (field, code), error.message)
        for said in words:
            self.assertIn(said, error.message)


class Outlines(RefusalCase):
    def test_too_few_too_many_and_too_far(self) -> None:
        self.refused(lambda: open_ring(SQUARE[:2]), "outline", "too_few", "2 were given")
        self.refused(lambda: open_ring([(float(n), 1.0) for n in range(5001)]), "outline", "too_large", "5,001")
        self.refused(lambda: open_ring([(0, 0), (1, 0), (2e6, 1)]), "outline", "out_of_range", "Enter metres")
        self.refused(lambda: open_ring([(0, 0), (1, 0), (float("nan"), 1)]), "outline", "out_of_range")

    def test_what_crosses_itself_or_encloses_nothing_is_no_field(self) -> None:
        bow = [(0, 0), (10, 10), (10, 0), (0, 10)]
        self.refused(lambda: polygon(bow, "field"), "field", "not_a_field", "self-intersection")
        self.refused(lambda: area_m2([(0, 0), (10, 0), (20, 0)]), "outline", "not_a_field")

    def test_a_closed_ring_is_the_open_one(self) -> None:
        self.assertEqual(open_ring([*SQUARE, SQUARE[0]]), open_ring(SQUARE))
        self.assertEqual(area_m2(list(reversed(SQUARE))), 10_000)


class RowPlans(RefusalCase):
    def plan(self, **more: Any) -> Any:
        given = {
            "outline": SQUARE,
            "row_bearing_deg": 0,
            "row_spacing_m": 0.75,
            "pattern": "FFFFMM",
            "border_rows": 4,
            "in_row_cm": {"F": 20, "M": 25},
            **more,
        }
        return row_plan(**given)

    def test_patterns(self) -> None:
        for pattern in ("", "MM", "FFX", "F F"):
            self.refused(lambda pattern=pattern: self.plan(pattern=pattern), "pattern", "not_a_pattern", "FFFFMM")
        self.assertEqual(self.plan(pattern=" ffffmm ").female_share_in_pattern, 4 / 6)
        self.refused(lambda: self.plan(border_line="X"), "border_line", "not_a_choice")

    def test_a_line_that_is_planted_needs_its_distance_in_the_row(self) -> None:
        self.refused(lambda: self.plan(in_row_cm={"F": 20}), "in_row_cm.M", "missing", "plants of M")
        self.assertEqual(self.plan(pattern="F", border_rows=0, in_row_cm={"F": 20}).female_share, 1.0)

    def test_rows_that_do_not_fit(self) -> None:
        self.refused(lambda: self.plan(row_spacing_m=300), "row_spacing_m", "out_of_range", "100.0 m across")
        self.refused(lambda: self.plan(row_spacing_m=0.001), "row_spacing_m", "too_large")
        self.refused(lambda: self.plan(border_rows=70), "border_rows", "no_room", "133 rows fit; 70 border rows")


class Generations(RefusalCase):
    def test_what_cannot_be_multiplied(self) -> None:
        barren = GenerationStep("certified", 1000, 0.0, 10)
        self.refused(lambda: generations(need_kg=5, steps=[barren]), "steps.0.recovery", "unreachable", "“certified”")
        both = GenerationStep("certified", 1000, 0.8, 10, inputs=(ParentInput("A", 3),))
        self.refused(lambda: generations(need_kg=5, steps=[both]), "steps.0.seed_rate_kg_per_ha", "one_of")
        twice = GenerationStep("hybrid", 1000, 0.8, inputs=(ParentInput("A", 3), ParentInput("A", 1)))
        self.refused(lambda: generations(need_kg=5, steps=[twice]), "steps.0.inputs", "twice")

    def test_the_class_above_a_hybrid_names_a_line_that_is_sown(self) -> None:
        hybrid = GenerationStep("hybrid", 1000, 0.8, inputs=(ParentInput("A", 3), ParentInput("R", 1)))
        other = GenerationStep("basic B", 600, 0.8, 4, of_line="B")
        self.refused(
            lambda: generations(need_kg=5, steps=[hybrid, other]), "steps.1.of_line", "unknown_line", "A, R", "not B"
        )
        single = GenerationStep("hybrid", 1000, 0.8, inputs=(ParentInput("A", 3),))
        above = generations(need_kg=800, steps=[single, CERTIFIED])
        self.assertEqual((above.steps[1].clean_kg, above.warnings), (3.0, ()))


class Flowering(RefusalCase):
    def test_a_heat_sum_that_the_site_does_not_give(self) -> None:
        for call in (
            lambda: flower_date(sow=date(2027, 4, 15), phenology=LINE, climate=ARCTIC),
            lambda: sow_for(flower_on=date(2027, 7, 1), phenology=LINE, climate=ARCTIC),
            lambda: sow_not_before(flower_on=date(2027, 7, 1), phenology=LINE, climate=ARCTIC),
        ):
            self.refused(call, "heat_sum_c_d", "never_reached", "1,180 °C·d")

    def test_nothing_is_seen_before_it_is_sown(self) -> None:
        seen = [Seen(date(2027, 4, 1), 0.1)]
        self.refused(
            lambda: flower_date(sow=date(2027, 4, 15), phenology=LINE, climate=COAST, seen=seen),
            "on",
            "before_sowing",
            "2027-04-01",
        )

    def test_parents_of_two_years_do_not_meet(self) -> None:
        one, other = Parent(date(2027, 4, 15), 90, 2, 8), Parent(date(2029, 4, 15), 90, 2, 8)
        self.refused(lambda: nick(female=one, male=other), "male.sow", "out_of_range", "731 days apart")

    def test_a_sowing_that_does_not_flower_before_a_day_hardly_flowers_after_it(self) -> None:
        for month in (6, 7, 8, 9):
            wanted = date(2027, month, 15)
            sow = sow_not_before(flower_on=wanted, phenology=LINE, climate=COAST)
            first = flower_date(sow=sow, phenology=LINE, climate=COAST).first
            self.assertTrue(0 <= (first - wanted).days <= 2, (wanted, first))


class Isolations(RefusalCase):
    def test_a_kind_without_a_rule_is_not_guessed(self) -> None:
        far = [(500.0, 0.0), (600.0, 0.0), (600.0, 50.0)]
        near = [Neighbour("a", far, "known"), Neighbour("b", far, "strange")]
        self.refused(
            lambda: isolation(field=SQUARE, neighbours=near, rules=[Rule("known", 100)]),
            "neighbours.1.kind",
            "no_rule",
            "“strange”",
        )

    def test_a_crossed_neighbour_is_named(self) -> None:
        bow = [(0.0, 0.0), (10.0, 10.0), (10.0, 0.0), (0.0, 10.0)]
        near = [Neighbour("a", bow, "known")]
        self.refused(
            lambda: isolation(field=SQUARE, neighbours=near, rules=[Rule("known", 100)]),
            "neighbours.0.polygon",
            "not_a_field",
        )


class CountsAndLots(RefusalCase):
    def test_counts_that_cannot_be(self) -> None:
        self.refused(lambda: off_type_interval(plants=0, found=0), "plants", "out_of_range", "Nothing was counted")
        self.refused(lambda: off_type_interval(plants=10, found=11), "found", "out_of_range", "11 found among 10")
        self.refused(lambda: counted_rate(trays=[], of_trays=None), "trays", "missing")
        self.refused(
            lambda: counted_rate(trays=[TrayCount(10, 11)], of_trays=None),
            "trays.0.found",
            "out_of_range",
            "Tray 1: 11 of 10",
        )

    def test_a_full_and_an_empty_tray_are_never_certain(self) -> None:
        for found in (0, 240):
            rate = counted_rate(trays=[TrayCount(240, found)], of_trays=100)
            self.assertTrue(0 < rate.mean < 1)
            self.assertGreater(rate.sd, 0)

    def test_all_trays_counted_is_what_there_is(self) -> None:
        rate = counted_rate(trays=[TrayCount(240, 200), TrayCount(240, 210)], of_trays=2)
        self.assertEqual((rate.mean, rate.sd), (410 / 480, 0.0))

    def test_replicates_of_another_number(self) -> None:
        for normal, each in (([90, 91, 92], 100), ([45] * 7, 50), ([90, 91, 92, 101], 100), ([90, 91, 92, -1], 100)):
            with self.assertRaises(Refused) as told:
                replicate_tolerance(normal=normal, seeds_per_replicate=each)
            self.assertTrue(told.exception.errors[0].field.startswith("normal"), told.exception.errors)

    def test_few_expected_faults_are_warned_of(self) -> None:

        few = reject_number(plants=1000, limit=0.003, decision=Decision.REJECT_NUMBER)
        enough = reject_number(plants=4000, limit=0.003, decision=Decision.REJECT_NUMBER)
        self.assertEqual((len(few.warnings), len(enough.warnings)), (1, 0))

    def test_roguing_takes_longer_with_more_to_walk_and_more_to_pull(self) -> None:
        base = roguing_hours(row_metres=25_000, off_types=360)
        self.assertGreater(roguing_hours(row_metres=26_000, off_types=360), base)
        self.assertGreater(roguing_hours(row_metres=25_000, off_types=400), base)
        self.assertEqual(roguing_hours(row_metres=0, off_types=0), 0)

    def test_a_count_larger_than_its_sample_is_judged_by_its_own_size(self) -> None:
        limit = [FaultLimit("o", "off-types", 0.003)]
        for plants, number in ((2000, 11), (4000, 19)):
            self.assertEqual(
                judge(limits=limit, sample=2000, plants=plants, found={"o": 10}).faults[0].reject_at, number
            )
        self.assertEqual(SamplingPlan(5, 2, 2, 400).areas(0), 5)


class Store(RefusalCase):
    def store(self, **more: Any) -> Any:
        given = {
            "crop": "barley",
            "initial_germination": 0.95,
            "moisture_percent": 12,
            "temperature_c": 15,
            "days": 100,
            **more,
        }
        return seed_viability(**given)

    def test_what_the_equation_does_not_hold_for(self) -> None:
        for form in ("primed", "pelleted"):
            self.refused(lambda form=form: self.store(seed_form=form), "seed_form", "not_natural", form.capitalize())
        self.refused(lambda: self.store(constants=BARLEY), "crop", "one_of")
        self.refused(lambda: self.store(crop=None), "crop", "one_of")
        self.refused(lambda: self.store(days=None), "days", "missing")
        self.refused(lambda: self.store(initial_germination=0), "initial_germination", "out_of_range")
        for floor in (0, 1):
            self.refused(lambda floor=floor: self.store(floor=floor), "floor", "out_of_range")
        with self.assertRaises(Refused) as told:
            self.store(crop="moonflower")
        self.assertEqual(told.exception.errors[0].field, "crop")

    def test_own_constants_give_what_the_crops_own_give(self) -> None:
        self.assertEqual(self.store().germination, self.store(crop=None, constants=BARLEY).germination)

    def test_a_floor_that_is_passed_already_is_reached_today(self) -> None:
        self.assertEqual(self.store(floor=0.99).days_to_floor, 0.0)


class Sowings(RefusalCase):
    def test_emergence_is_not_counted_twice(self) -> None:
        stages = [LadderStage("emerged", 0.9, kind="emergence"), LadderStage("graded", 0.95)]
        self.refused(lambda: ladder(deliver=100, stages=stages, germination=0.9), "germination", "counted_twice")

    def test_a_stand_that_cannot_be_reached_is_a_warning_and_no_number(self) -> None:
        for more in ({"germination": 0.0}, {"field_factor": 0.0}, {"purity": 0.0}):
            given = {"target_plants_per_m2": 40.0, "germination": 0.9, "tgw_g": 300.0, "area_ha": 1.0, **more}
            found = seed_rate(**given)
            self.assertEqual((found.seeds_per_m2, found.seed_kg), (None, None))
            self.assertEqual([w.code for w in found.warnings], ["unreachable"])
