"""The calculators of seed crops: fields, refusals, warnings, edges."""

import json
import time
import unittest
from typing import Any

from aldrip.calc import contract
from aldrip_core.refusal import Refused

SQUARE = [[0, 0], [100, 0], [100, 100], [0, 100]]
NICK = {
    "female": {"sow": "2027-04-15", "days_to_receptive": 95, "spread_sd_days": 2, "receptive_days": 8},
    "male": {"sow": "2027-04-15", "days_to_shed": 90, "spread_sd_days": 2, "shed_days": 7},
}
ROWS: dict[str, Any] = {
    "outline": [[0, 0], [60, 0], [60, 100], [0, 100]],
    "row_bearing_deg": 0,
    "row_spacing_m": 0.75,
    "pattern": "FFFFMM",
    "border_rows": 4,
    "in_row_cm": {"F": 20, "M": 25},
    "tgw_g": {"F": 60, "M": 50},
    "establishment": {"F": 0.8, "M": 0.8},
}


def ask(name: str, question: Any) -> Any:
    return contract.calculate(name, json.dumps(question))


def codes(name: str, question: Any) -> dict[str, str]:
    try:
        ask(name, question)
    except Refused as error:
        return {e.field: e.code for e in error.errors}
    return {}


class GenerationsAnswer(unittest.TestCase):
    def test_area_is_clean_seed_over_yield_and_recovery_and_feeds_the_class_above(self) -> None:
        steps = [
            {"class": "certified", "yield_kg_per_ha": 1000, "recovery": 0.8, "seed_rate_kg_per_ha": 10},
            {"class": "basic", "yield_kg_per_ha": 500, "recovery": 0.5, "seed_rate_kg_per_ha": 12},
        ]
        answer = ask("generations", {"need_kg": 8000, "reserve": 0.25, "steps": steps})
        certified, basic = answer["steps"]
        self.assertEqual(
            (certified["class"], certified["area_ha"], certified["seed_in_kg"]), ("certified", 12.5, 125.0)
        )
        self.assertEqual((basic["clean_kg"], basic["area_ha"], basic["seed_in_kg"]), (125.0, 0.5, 6.0))
        self.assertNotIn("seed_in_kg_by_line", certified)

    def test_a_hybrid_sows_both_parents_on_the_whole_block(self) -> None:
        inputs = [{"line": "F", "seed_rate_kg_per_ha": 3}, {"line": "M", "seed_rate_kg_per_ha": 1}]
        steps = [
            {"class": "hybrid", "yield_kg_per_ha": 1000, "recovery": 1, "inputs": inputs},
            {"class": "basic F", "yield_kg_per_ha": 600, "recovery": 1, "seed_rate_kg_per_ha": 4, "of_line": "F"},
        ]
        answer = ask("generations", {"need_kg": 2000, "steps": steps})
        self.assertEqual(answer["steps"][0]["seed_in_kg_by_line"], {"F": 6.0, "M": 2.0})
        self.assertEqual(answer["steps"][1]["clean_kg"], 6.0)
        steps[1].pop("of_line")
        both = ask("generations", {"need_kg": 2000, "steps": steps})
        self.assertEqual(both["steps"][1]["clean_kg"], 8.0)
        self.assertEqual([w["code"] for w in both["warnings"]], ["lines_together"])

    def test_what_cannot_be_reckoned_is_refused_at_its_field(self) -> None:
        nothing = {"class": "c", "yield_kg_per_ha": 100, "recovery": 0, "seed_rate_kg_per_ha": 1}
        self.assertEqual(codes("generations", {"need_kg": 1, "steps": [nothing]}), {"steps.0.recovery": "unreachable"})
        neither = {"class": "c", "yield_kg_per_ha": 100, "recovery": 1}
        self.assertEqual(
            codes("generations", {"need_kg": 1, "steps": [neither]}), {"steps.0.seed_rate_kg_per_ha": "one_of"}
        )
        self.assertIn("steps", codes("generations", {"need_kg": 1, "steps": []}))


class RowPlanAnswer(unittest.TestCase):
    def test_a_rectangle_by_hand(self) -> None:
        answer = ask("row-plan", ROWS | {"planter_rows": 6})
        # 80 rows: 8 of the border, 72 in the pattern = 48 F and 24 M, each 100 - 2 × 4 × 0.75 = 94 m; 8 strips of 60 m.
        self.assertAlmostEqual(answer["metres"]["F"], 48 * 94)
        self.assertAlmostEqual(answer["metres"]["M"], 32 * 94 + 8 * 60)
        self.assertAlmostEqual(answer["plants"]["F"], 48 * 94 / 0.20)
        self.assertAlmostEqual(answer["seed_kg"]["F"], 48 * 94 / 0.20 / 0.8 * 60 / 1e6)
        self.assertAlmostEqual(answer["female_share_in_pattern"], 2 / 3)
        self.assertAlmostEqual(answer["female_share"], 4512 / 8000)
        self.assertEqual((answer["passes"], len(answer["rows"])), (14, 88))
        self.assertEqual(answer["rows"][0]["segments"][0][0][0], 0.375)
        self.assertEqual(answer["warnings"], [])

    def test_without_borders_every_row_is_whole(self) -> None:
        answer = ask("row-plan", ROWS | {"border_rows": 0})
        self.assertAlmostEqual(sum(answer["metres"].values()), 80 * 100)

    def test_a_pattern_that_does_not_fit_the_planter_is_told(self) -> None:
        answer = ask("row-plan", ROWS | {"planter_rows": 4})
        self.assertEqual([w["code"] for w in answer["warnings"]], ["pattern_not_whole_passes"])

    def test_bad_fields_are_refused_with_what_to_do(self) -> None:
        self.assertEqual(codes("row-plan", ROWS | {"pattern": "FFX"}), {"pattern": "not_a_pattern"})
        self.assertEqual(codes("row-plan", ROWS | {"border_rows": 40}), {"border_rows": "no_room"})
        self.assertEqual(codes("row-plan", ROWS | {"in_row_cm": {"F": 20}}), {"in_row_cm.M": "missing"})
        self.assertEqual(
            codes("row-plan", ROWS | {"outline": [[0, 0], [9, 9], [9, 0], [0, 9]]}), {"outline": "not_a_field"}
        )
        self.assertEqual(codes("row-plan", ROWS | {"outline": [[0, 0], [1, 0]]}), {"outline": "too_few"})
        self.assertEqual(codes("row-plan", ROWS | {"row_spacing_m": 0.01}), {"row_spacing_m": "too_large"})
        self.assertEqual(
            codes("row-plan", ROWS | {"establishment": {"F": 0, "M": 1}}), {"establishment.F": "unreachable"}
        )


class NickAnswer(unittest.TestCase):
    def test_a_female_five_days_late_wants_the_male_sown_five_days_later(self) -> None:
        answer = ask("nick", NICK)
        self.assertEqual(
            (answer["gap_days"], answer["best_male_sow"], answer["remedy_class"]), (5.0, "2027-04-20", "cultural")
        )
        cured = NICK | {"male": NICK["male"] | {"sow": answer["best_male_sow"]}}
        self.assertGreater(ask("nick", cured)["overlap"], answer["overlap"])

    def test_the_class_of_remedy_follows_the_gap(self) -> None:
        def remedy(days: float) -> str:
            return str(ask("nick", NICK | {"male": NICK["male"] | {"days_to_shed": 95 - days}})["remedy_class"])

        self.assertEqual(
            [remedy(d) for d in (0, 1, -1, 1.5, 6.9, 7, -12)],
            ["none", "none", "none", "cultural", "cultural", "strong", "strong"],
        )

    def test_two_male_sowings_cover_a_longer_female(self) -> None:
        long_female = NICK["female"] | {"receptive_days": 16, "days_to_receptive": 90}
        one = ask("nick", NICK | {"female": long_female})
        two = ask("nick", {"female": long_female, "male": NICK["male"] | {"sowings": 2, "sowing_gap_days": 8}})
        self.assertGreater(two["overlap"], one["overlap"])

    def test_without_any_spread_whole_days_are_counted(self) -> None:
        sharp = {"female": NICK["female"] | {"spread_sd_days": 0}, "male": NICK["male"] | {"spread_sd_days": 0}}
        # Female receptive days 95-102, male sheds 90-96: two of eight are covered.
        self.assertEqual(ask("nick", sharp)["overlap"], 0.25)

    def test_an_unsure_date_widens_the_curve(self) -> None:
        unsure = NICK | {"male": NICK["male"] | {"date_sd_days": 4}}
        self.assertNotEqual(ask("nick", unsure)["overlap"], ask("nick", NICK)["overlap"])
        self.assertEqual(ask("nick", unsure)["gap_sd_days"], 4.0)


class IsolationAnswer(unittest.TestCase):
    def other(self, **more: Any) -> dict[str, Any]:
        return {"id": "n", "polygon": [[520, 0], [600, 0], [600, 100], [520, 100]], "kind": "other cultivar", **more}

    def test_the_largest_rule_counts_and_the_shortfall_is_told(self) -> None:
        rules = [{"kind": "other cultivar", "metres": 300}, {"kind": "other cultivar", "metres": 500}]
        answer = ask("isolation", {"field": SQUARE, "neighbours": [self.other()], "rules": rules})
        self.assertEqual(answer["breaches"], [{"id": "n", "distance_m": 420.0, "required_m": 500, "short_m": 80.0}])
        self.assertAlmostEqual(answer["plantable_area_m2"], 2000, delta=1)

    def test_exactly_the_distance_is_enough(self) -> None:
        answer = ask(
            "isolation",
            {"field": SQUARE, "neighbours": [self.other()], "rules": [{"kind": "other cultivar", "metres": 420}]},
        )
        self.assertEqual((answer["breaches"], answer["plantable_area_m2"]), ([], 10000.0))

    def test_dates_excuse_only_where_the_rule_allows(self) -> None:
        question = {
            "field": SQUARE,
            "neighbours": [self.other(flowering={"from": "2027-06-01", "to": "2027-06-15"})],
            "rules": [{"kind": "other cultivar", "metres": 500, "time_allowed": True}],
            "flowering": {"from": "2027-07-05", "to": "2027-07-20"},
            "time_margin_days": 14,
        }
        answer = ask("isolation", question)
        self.assertEqual((answer["breaches"], answer["excused"][0]["days_apart"]), ([], 20))
        self.assertEqual(len(ask("isolation", question | {"time_margin_days": 21})["breaches"]), 1)
        strict = ask("isolation", question | {"rules": [{"kind": "other cultivar", "metres": 500}]})
        self.assertEqual((strict["breaches"][0]["time_separated"], strict["breaches"][0]["days_apart"]), (True, 20))
        together = question | {"flowering": {"from": "2027-06-10", "to": "2027-06-20"}, "time_margin_days": 0}
        self.assertFalse(ask("isolation", together)["breaches"][0]["time_separated"])

    def test_a_kind_without_a_rule_is_refused(self) -> None:
        self.assertEqual(
            codes("isolation", {"field": SQUARE, "neighbours": [self.other()], "rules": []}),
            {"neighbours.0.kind": "no_rule"},
        )

    def test_a_neighbour_on_the_field_leaves_nothing(self) -> None:
        answer = ask(
            "isolation",
            {
                "field": SQUARE,
                "neighbours": [self.other(polygon=SQUARE)],
                "rules": [{"kind": "other cultivar", "metres": 50}],
            },
        )
        self.assertEqual(
            (answer["breaches"][0]["distance_m"], answer["plantable"], answer["plantable_area_m2"]), (0.0, [], 0.0)
        )


class TheRestAnswers(unittest.TestCase):
    def test_eight_in_four_thousand_passes_by_number_and_fails_by_share(self) -> None:
        question = {"plants": 4000, "limit": 0.001, "found": 8}
        self.assertEqual(ask("reject-number", question | {"decision": "reject_number"})["verdict"], "accept")
        plain = ask("reject-number", question | {"decision": "plain_max"})
        self.assertEqual((plain["reject_at"], plain["verdict"]), (5, "reject"))

    def test_a_sample_too_small_to_tell_is_warned_of(self) -> None:
        answer = ask("reject-number", {"plants": 3999, "limit": 0.001, "decision": "reject_number"})
        self.assertEqual([w["code"] for w in answer["warnings"]], ["small_sample"])
        self.assertEqual(
            ask("reject-number", {"plants": 4000, "limit": 0.001, "decision": "reject_number"})["warnings"], []
        )

    def test_a_limit_of_none_rejects_the_first(self) -> None:
        answer = ask("reject-number", {"plants": 100, "limit": 0, "decision": "reject_number", "found": 1})
        self.assertEqual((answer["reject_at"], answer["verdict"]), (1, "reject"))

    def test_more_found_than_counted_is_refused(self) -> None:
        self.assertEqual(
            codes("reject-number", {"plants": 5, "limit": 0.1, "decision": "plain_max", "found": 6}),
            {"found": "out_of_range"},
        )
        self.assertEqual(codes("off-type-interval", {"plants": 5, "found": 6}), {"found": "out_of_range"})
        self.assertEqual(codes("off-type-interval", {"plants": 0, "found": 0}), {"plants": "out_of_range"})

    def test_untabulated_means_agree(self) -> None:
        for normal, mean in (([100] * 4, 100), ([0] * 4, 0), ([1, 1, 1, 1], 1)):
            answer = ask("replicate-tolerance", {"normal": normal})
            self.assertEqual(
                (answer["mean_percent"], answer["within"], answer["tolerated_percent"]), (mean, True, None)
            )

    def test_eight_of_fifty_are_merged_in_pairs(self) -> None:
        answer = ask("replicate-tolerance", {"normal": [45, 40, 44, 44, 41, 45, 47, 38], "seeds_per_replicate": 50})
        self.assertEqual((answer["mean_percent"], answer["range_percent"], answer["within"]), (86, 3, True))
        self.assertEqual(
            codes("replicate-tolerance", {"normal": [45, 51] * 4, "seeds_per_replicate": 50})["normal.1"],
            "out_of_range",
        )

    def test_storage_life_refuses_what_it_does_not_know(self) -> None:
        seed = {"initial_germination": 0.9, "moisture_percent": 8, "temperature_c": 10, "days": 100}
        self.assertEqual(codes("seed-viability", seed | {"crop": "parsnip"}), {"crop": "no_constants"})
        self.assertEqual(
            codes("seed-viability", seed | {"crop": "onion", "seed_form": "pelleted"}), {"seed_form": "not_natural"}
        )
        self.assertEqual(codes("seed-viability", seed), {"crop": "one_of"})
        self.assertEqual(
            ask("seed-viability", seed | {"crop": "onion", "initial_germination": 1})["warnings"][0]["code"],
            "taken_as_less",
        )

    def test_drying_cannot_wet(self) -> None:
        self.assertEqual(
            codes("drying", {"mass_kg": 1, "from_percent": 10, "to_percent": 12}), {"to_percent": "out_of_range"}
        )
        self.assertEqual(
            codes("drying", {"mass_kg": 1, "from_percent": 100, "to_percent": 100}), {"from_percent": "out_of_range"}
        )

    def test_large_questions_are_answered_or_refused_at_once(self) -> None:
        many = [[x, (x % 7) * 0.1] for x in range(2499)] + [[2499 - x, 900 + (x % 5)] for x in range(2499)]
        neighbours = [
            {"id": str(n), "polygon": [[n, 200], [n + 0.5, 200], [n, 200.5]], "kind": "k"} for n in range(2000)
        ]
        questions = {
            "row-plan": ROWS | {"outline": many, "row_spacing_m": 0.5},
            "reject-number": {"plants": 10_000_000, "limit": 0.5, "decision": "reject_number"},
            "off-type-interval": {"plants": 10_000_000, "found": 4_999_999},
            "isolation": {"field": SQUARE, "neighbours": neighbours, "rules": [{"kind": "k", "metres": 150}]},
        }
        for name, question in questions.items():
            started = time.perf_counter()
            refused = codes(name, question)
            self.assertLess(time.perf_counter() - started, 6, name)  # generous: two busy cores
            self.assertTrue(set(refused.values()) <= {"too_large"}, refused)
