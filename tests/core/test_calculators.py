"""The calculators' contract: fields, refusals, limits, and the command line's exit codes."""

import json
import subprocess
import sys
from pathlib import Path
from typing import Any
from unittest import TestCase

from aldrip.calc import contract
from aldrip.calc.calculators import CALCULATORS
from aldrip_core.refusal import Refused

ROOT = Path(__file__).resolve().parent.parent.parent


def calc(name: str, **question: Any) -> dict[str, Any]:
    return contract.calculate(name, json.dumps(question))


COLD = {
    "first_harvest": "2027-07-05",
    "last_harvest": "2027-07-05",
    "harvest_every_days": 7,
    "heat_sum_c_d": 600,
    "daily_mean_c_by_day_of_year": [2] * 365,
}


class Contract(TestCase):
    def refusal(self, name: str, body: str | dict[str, Any]) -> dict[str, str]:
        with self.assertRaises(Refused) as caught:
            contract.calculate(name, body if isinstance(body, str) else json.dumps(body))
        return {error.field: error.code for error in caught.exception.errors}

    def test_every_answer_has_a_working_and_warnings(self) -> None:
        questions = {
            "ladder": {"deliver": 100, "stages": [{"name": "kept", "survival": 0.9}]},
            "oversow": {"needed": 100, "chance": 0.9, "rate": 0.9},
            "seed-rate": {"target_plants_per_m2": 40, "germination": 0.9, "tgw_g": 450, "area_ha": 2},
            "thermal-time": {"heat_sum_c_d": 170, "base_c": 1.3, "temperature_c": 18},
            "succession": {
                "first_harvest": "2027-07-05",
                "last_harvest": "2027-08-02",
                "harvest_every_days": 7,
                "heat_sum_c_d": 600,
                "base_c": 4,
                "daily_mean_c_by_day_of_year": [16] * 365,
            },
            "plants-per-area": {"pattern": "square", "in_row_cm": 25},
            "media": {"parts": {"coir": 3, "vermiculite": 1}, "litres": 100},
            "bench-space": {
                "batches": [{"trays": 10, "tray_m2": 0.24, "from": "2027-07-01", "to": "2027-07-03"}],
                "capacity_m2": 2,
            },
            "generations": {
                "need_kg": 1000,
                "steps": [{"class": "certified", "yield_kg_per_ha": 1000, "recovery": 0.8, "seed_rate_kg_per_ha": 9}],
            },
            "row-plan": {
                "outline": [[0, 0], [60, 0], [60, 99], [0, 99]],
                "row_bearing_deg": 0,
                "row_spacing_m": 0.75,
                "pattern": "FFM",
                "border_rows": 2,
                "in_row_cm": {"F": 20, "M": 22},
            },
            "nick": {
                "female": {"sow": "2027-04-15", "days_to_receptive": 90, "spread_sd_days": 2, "receptive_days": 8},
                "male": {"sow": "2027-04-15", "days_to_shed": 90, "spread_sd_days": 2, "shed_days": 8},
            },
            "isolation": {
                "field": [[0, 0], [9, 0], [9, 9]],
                "neighbours": [{"id": "n", "polygon": [[99, 0], [109, 0], [109, 9]], "kind": "k"}],
                "rules": [{"kind": "k", "metres": 50}],
            },
            "reject-number": {"plants": 4000, "limit": 0.003, "decision": "reject_number"},
            "off-type-interval": {"plants": 400, "found": 2},
            "sequential-inspection": {
                "limit": 0.001,
                "reject_level": 0.01,
                "alpha": 0.05,
                "beta": 0.05,
                "counted": 300,
                "found": 1,
            },
            "replicate-tolerance": {"normal": [90, 91, 92, 93]},
            "seed-viability": {
                "crop": "onion",
                "initial_germination": 0.9,
                "moisture_percent": 8,
                "temperature_c": 10,
                "days": 100,
            },
            "bed-layout": {
                "house_length_m": 30,
                "house_width_m": 9,
                "end_clearance_m": 0.6,
                "bed_width_m": 1.2,
                "path_width_m": 0.4,
            },
            "sower-calibration": {
                "trials": [{"setting": 3, "grams": 120}, {"setting": 5, "grams": 210}],
                "target_g": 180,
                "tolerance_g": 5,
                "setting_min": 0,
                "setting_max": 10,
                "more_is": "increasing",
            },
            "nutrient-solution": {"volume_l": 100, "salts": [{"formula": "KNO3", "grams": 50}]},
            "feed-rate": {
                "target_mg_per_l": 250,
                "element": "N",
                "label_percent": 20,
                "label_as": "element",
                "volume_l": 100,
            },
            "mother-plants": {
                "weekly_demand": [0] * 12 + [500] * 4,
                "shoots_by_age_weeks": [0, 0, 1, 1, 2, 2, 3, 3],
                "first_cut_week": 2,
                "mother_life_weeks": 20,
                "submother_cuts": 1,
                "rooting_rate": 0.9,
                "hardening_rate": 0.9,
                "rooting_weeks": 3,
                "hardening_weeks": 1,
                "horizon_weeks": 16,
            },
            "setts": {
                "plants": 900,
                "sett_g": 110,
                "tuber_g": 1000,
                "sprout_rate": 0.8,
                "footprint_cm2": 90,
                "bed_width_cm": 100,
            },
            "drying": {"mass_kg": 1000, "from_percent": 18, "to_percent": 14},
        }
        self.assertEqual(set(questions), set(CALCULATORS))
        for name, question in questions.items():
            answer = calc(name, **question)
            self.assertTrue(answer["working"], name)
            self.assertEqual(answer["warnings"], [], name)
            for step in answer["working"]:
                self.assertLessEqual({"label", "formula", "inputs", "value", "unit"}, set(step))
                for given in step["inputs"]:
                    self.assertIn(given["origin"], ("entered", "records", "library", "computed"))
            self.assertIn("properties", contract.schema_of(name))

    def test_faults_come_as_dotted_fields_with_codes(self) -> None:
        body = {"deliver": -1, "stages": [{"name": "a", "survival": 1.2, "colour": 1}], "tgw_g": "4"}
        self.assertEqual(
            self.refusal("ladder", body),
            {
                "deliver": "out_of_range",
                "stages.0.survival": "out_of_range",
                "stages.0.colour": "unknown_field",
                "tgw_g": "wrong_type",
            },
        )
        self.assertEqual(self.refusal("ladder", "{"), {"": "not_json"})
        self.assertEqual(self.refusal("ladder", '{"deliver": NaN, "stages": []}'), {"deliver": "not_finite"})
        self.assertEqual(self.refusal("ladder", '{"deliver": true, "stages": []}'), {"deliver": "wrong_type"})

    def test_too_much_is_too_large(self) -> None:
        self.assertEqual(
            self.refusal("oversow", {"needed": 10_000_001, "chance": 0.9, "rate": 0.9}), {"needed": "too_large"}
        )
        stages = [{"name": "a", "survival": 1}] * 5001
        self.assertEqual(self.refusal("ladder", {"deliver": 1, "stages": stages}), {"stages": "too_large"})
        far = [{"trays": 1, "tray_m2": 1, "from": "1900-01-01", "to": "2027-01-01"}]
        self.assertEqual(self.refusal("bench-space", {"batches": far, "capacity_m2": 1}), {"batches": "too_large"})

    def test_exactly_one_kind_of_evidence(self) -> None:
        self.assertEqual(self.refusal("oversow", {"needed": 1, "chance": 0.9}), {"rate": "one_of"})
        self.assertEqual(
            self.refusal("oversow", {"needed": 1, "chance": 0.9, "rate": 0.9, "good": 1, "trials": 2}),
            {"rate": "one_of"},
        )
        self.assertEqual(
            self.refusal("oversow", {"needed": 1, "chance": 0.9, "good": 3, "trials": 2}), {"good": "out_of_range"}
        )
        self.assertEqual(
            self.refusal("oversow", {"needed": 1, "chance": 0.9, "rate": 0.9, "rate_sd": 0.4}), {"rate_sd": "too_wide"}
        )
        self.assertEqual(self.refusal("media", {"parts": {"coir": 1}, "trays": 2}), {"cells_per_tray": "missing"})
        self.assertEqual(self.refusal("thermal-time", {"heat_sum_c_d": 9, "base_c": 1}), {"temperature_c": "one_of"})

    def test_one_pooled_record_is_said_to_be_one(self) -> None:
        answer = calc("oversow", needed=100, chance=0.95, good=90, trials=100)
        self.assertEqual([w["code"] for w in answer["warnings"]], ["one_record"])
        self.assertGreater(answer["start"], calc("oversow", needed=100, chance=0.95, rate=0.9)["start"])

    def test_what_cannot_be_reached_is_null_with_a_warning(self) -> None:
        for name, question, field in (
            ("oversow", {"needed": 5, "chance": 0.9, "rate": 0}, "start"),
            ("seed-rate", {"target_plants_per_m2": 40, "germination": 0, "tgw_g": 4, "area_ha": 1}, "rate_kg_per_ha"),
            ("thermal-time", {"heat_sum_c_d": 50, "base_c": 10, "temperature_c": 9}, "days"),
            ("thermal-time", {"heat_sum_c_d": 50, "base_c": 1, "daily_mean_c": [5, 6]}, "days"),
            ("ladder", {"deliver": 5, "stages": [{"name": "a", "survival": 0}]}, "start"),
            ("succession", {**COLD, "base_c": 3}, "sow"),
        ):
            answer = calc(name, **question)
            answer |= answer.get("sowings", [{}])[0]
            self.assertIsNone(answer[field])
            self.assertTrue(answer["warnings"])

    def test_absent_optionals_are_left_out(self) -> None:
        answer = calc("ladder", deliver=10, stages=[{"name": "a", "survival": 1}])
        self.assertEqual({"trays", "seed_g"} & set(answer), set())
        self.assertNotIn("cheapest_start", calc("oversow", needed=10, chance=0.9, rate=0.9))

    def test_heat_above_the_ceiling_stops_or_is_capped_and_peaks_decide(self) -> None:
        hot = {"heat_sum_c_d": 60, "base_c": 4, "ceiling_c": 24, "daily_mean_c": [20, 26, 20, 20, 20, 20]}
        self.assertEqual(calc("thermal-time", **hot)["days"], 5)
        self.assertEqual(calc("thermal-time", **hot)["stopped_days"], 1)
        self.assertEqual(calc("thermal-time", **hot, above_ceiling="cap")["days"], 4)
        peaks = calc("thermal-time", **hot, daily_max_c=[25, 30, 22, 22, 22, 22])
        self.assertEqual((peaks["days"], peaks["stopped_days"]), (6, 2))

    def test_the_cheapest_start_has_no_cheaper_neighbour(self) -> None:
        answer = calc("oversow", needed=200, chance=0.95, rate=0.8, rate_sd=0.03, cost_surplus=1, cost_short=9)
        from aldrip_core.distributions import Spread, expected_shortage

        spread = Spread.from_mean_sd(0.8, 0.03)

        def cost(start: int) -> float:
            short = expected_shortage(needed=200, trials=start, spread=spread)
            return start * 0.8 - 200 + short + 9 * short

        best = min(range(180, 400), key=cost)
        self.assertEqual(answer["cheapest_start"], best)


class CommandLine(TestCase):
    def run_calc(self, *arguments: str, text: str = "") -> "subprocess.CompletedProcess[str]":
        env = {"PYTHONPATH": f"{ROOT / 'core'}:{ROOT / 'server'}", "PATH": "/usr/bin:/bin"}
        return subprocess.run(
            [sys.executable, "-m", "aldrip.calc", *arguments], input=text, capture_output=True, text=True, env=env
        )

    def test_it_answers_refuses_lists_and_describes(self) -> None:
        good = self.run_calc("media", text='{"parts": {"coir": 1}, "litres": 5}')
        self.assertEqual((good.returncode, json.loads(good.stdout)["by_part"]), (0, {"coir": 5.0}))
        bad = self.run_calc("media", text='{"parts": {}}')
        self.assertEqual((bad.returncode, json.loads(bad.stdout)["status"]), (2, 422))
        self.assertEqual(self.run_calc("nothing").returncode, 2)
        self.assertIn("ladder", self.run_calc("--list").stdout)
        self.assertIn("properties", json.loads(self.run_calc("--schema", "ladder").stdout))
