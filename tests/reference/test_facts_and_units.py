"""The arithmetic of the facts that these calculators cover, and units against NIST values."""

import json
from typing import Any
from unittest import TestCase

from isoweek import Week

from aldrip.base.quantity import read_measure
from aldrip.calc import contract
from aldrip_core.check_character import check_character
from aldrip_core.refusal import Refused
from aldrip_core.weeks import weeks_in


def calc(name: str, **question: Any) -> dict[str, Any]:
    return contract.calculate(name, json.dumps(question))


class Units(TestCase):
    """NIST SP 811, from memory."""

    def test_weights_and_degrees_as_typed(self) -> None:
        self.assertAlmostEqual(read_measure("1 lb", "g", "q"), 453.59237, places=5)
        self.assertAlmostEqual(read_measure("2 oz", "g", "q"), 2 * 28.349523125, places=6)
        self.assertAlmostEqual(read_measure("131 F", "°C", "q"), 55.0, places=6)
        self.assertAlmostEqual(read_measure("1 ft2", "m²", "q"), 0.09290304, places=8)
        self.assertEqual(read_measure("12k", "g", "q"), 12_000)
        self.assertEqual(read_measure("12,000", "g", "q"), 12_000)
        with self.assertRaises(Refused):
            read_measure("3 parsecs", "g", "q")

    def test_the_acre(self) -> None:
        answer = calc("plants-per-area", pattern="square", in_row_cm=100)
        self.assertAlmostEqual(answer["per_acre"], 4046.856, places=3)


class Facts(TestCase):
    """Common practice, no source; each line names its fact."""

    def density(self, row: float, in_row: float) -> dict[str, Any]:
        return calc("plants-per-area", pattern="square", row_spacing_cm=row, in_row_cm=in_row)

    def test_c1_plants_by_spacing(self) -> None:
        for row, in_row, per_m2 in (
            (40, 40, 6.25),
            (25, 25, 16.0),
            (30, 30, 11.1),
            (30, 10, 33.3),
            (36, 25, 11.1),
            (46, 25, 8.7),
        ):
            self.assertAlmostEqual(self.density(row, in_row)["net_per_m2"], per_m2, delta=0.05)
        for row, in_row, per_ha in (
            (100, 50, 20_000),
            (90, 90, 12_346),
            (90, 150, 7_407),
            (40, 20, 125_000),
            (60, 20, 83_333),
            (45, 45, 49_383),
            (60, 60, 27_778),
            (60, 40, 41_667),
            (60, 45, 37_037),
        ):
            self.assertEqual(round(self.density(row, in_row)["per_ha"]), per_ha)
        feet = self.density(4 * 30.48, 2 * 30.48)
        self.assertEqual((round(feet["per_acre"]), round(feet["per_ha"])), (5445, 13455))
        self.assertEqual(round(self.density(3 * 30.48, 3 * 30.48)["per_acre"]), 4840)
        self.assertEqual(round(self.density(3 * 30.48, 5 * 30.48)["per_acre"]), 2904)
        yam = self.density(3 * 30.48, 18 * 2.54)
        self.assertEqual((round(yam["per_acre"]), round(yam["per_ha"], -1)), (9680, 23920))

    def test_c6_two_rows_on_a_bed_net_and_with_the_path(self) -> None:
        for in_row, net, gross in ((25, 10.5, 7.5), (30, 8.7, 6.2)):
            answer = calc(
                "plants-per-area", pattern="rows_on_bed", rows=2, bed_width_cm=76.2, in_row_cm=in_row, path_cm=30.48
            )
            self.assertAlmostEqual(answer["net_per_m2"], net, delta=0.06)
            self.assertAlmostEqual(answer["gross_per_m2"], gross, delta=0.06)

    def test_c7_and_c8_pots_and_stock_plants(self) -> None:
        for spacing, per_m2 in ((30, 11.1), (18, 30.9), (25, 16.0), (5, 400)):
            self.assertAlmostEqual(self.density(spacing, spacing)["net_per_m2"], per_m2, delta=0.05)

    def test_c9_the_lump_of_four_on_ten(self) -> None:
        # 5 a week for two weeks and four more: 14 sown; at 85 % the chance of ten says what the lump is worth.
        answer = calc("oversow", needed=10, chance=0.95, rate=0.85)
        self.assertEqual(answer["start"], 14)

    def test_c11_trays_for_twenty_thousand(self) -> None:
        for cells, trays in ((100, 223), (400, 56)):
            answer = calc("ladder", deliver=20_000, stages=[{"name": "overall", "survival": 0.9}], cells_per_tray=cells)
            self.assertEqual(answer["trays"], trays)

    def test_c12_seed_rate_of_a_large_pulse(self) -> None:
        for seeds, rate, tgw in ((40, 180, 450), (35, 210, 600), (40, 210, 525)):
            answer = calc("seed-rate", target_plants_per_m2=seeds, germination=1, tgw_g=tgw, area_ha=1)
            self.assertAlmostEqual(answer["rate_kg_per_ha"], rate)

    def test_c13_establishment_makes_the_seeds(self) -> None:
        answer = calc("seed-rate", target_plants_per_m2=30, germination=0.75, tgw_g=450, area_ha=1, row_width_cm=12)
        self.assertAlmostEqual(answer["seeds_per_m2"], 40)
        self.assertAlmostEqual(answer["seeds_per_metre_of_row"], 4.8)

    def test_c57_mixes_in_parts(self) -> None:
        self.assertEqual(
            calc("media", parts={"coir": 3, "vermiculite": 1}, litres=100)["by_part"], {"coir": 75, "vermiculite": 25}
        )
        self.assertEqual(
            calc("media", parts={"manure": 2, "husk": 1, "sand": 1}, litres=8)["by_part"],
            {"manure": 4, "husk": 2, "sand": 2},
        )

    def test_media_of_trays_with_settling_and_spillage(self) -> None:
        answer = calc("media", parts={"coir": 1}, trays=10, cells_per_tray=240, cell_ml=13, settling=0.1, spillage=0.05)
        self.assertAlmostEqual(answer["litres"], 31.2 * 1.15)

    def test_staggered_rows_stand_closer(self) -> None:
        answer = calc("plants-per-area", pattern="staggered", in_row_cm=30)
        self.assertAlmostEqual(answer["net_per_m2"], 1 / (0.3 * 0.3 * 0.866))


class Published(TestCase):
    def test_years_of_fifty_three_weeks(self) -> None:
        # ISO 8601; the isoweek package counts them independently.
        for year in range(1990, 2070):
            self.assertEqual(weeks_in(year), Week.last_week_of_year(year).week)

    def test_check_character_of_a_published_identifier(self) -> None:
        # ISO/IEC 7064 MOD 37,36 as used by the Global Release Identifier A1-2425G-ABC1234002-M, from memory.
        self.assertEqual(check_character("A1-2425G-ABC1234002"), "M")
