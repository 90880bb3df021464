"""Beds laid out as somebody measures: drip lines, a watering and covers beside them, each refused at its own field."""

from typing import Any
from urllib.parse import urlencode

from tests.server.house import HouseCase

HOUSE = {
    "house_length": "60 ft",
    "house_width": "30 ft",
    "end_clearance": "7 ft",
    "bed_width": "30 in",
    "path_width": "18 in",
    "beds": "6",
    "bed_length": "46 ft",
}


class Laid(HouseCase):
    def laid(self, status: int = 200, **more: str) -> Any:
        return self.post("/places/layout", {**HOUSE, **more}, status=status)

    def test_six_beds_with_two_lines_each(self) -> None:
        """690 ft² of beds (arithmetic); 14.02 m hold 46 emitters at 30 cm; 5 mm on 64.1 m² are 320.5 L."""
        found = self.laid(lines="2", emitter_apart="30 cm", emitter_flow="1.6", water="5", rows="4", in_row="20 cm")
        self.assertAlmostEqual(found["net_m2"], 690 * 0.3048**2)
        self.assertEqual((found["drip"]["lines"], found["drip"]["emitters"]), (12, 12 * 46))
        self.assertAlmostEqual(found["watering"]["litres"], 320.5, delta=0.1)
        self.assertAlmostEqual(found["watering"]["minutes"], 320.5 / (552 * 1.6) * 60, delta=0.05)
        self.assertAlmostEqual(found["watering"]["litres_a_plant"], 320.5 / found["plants"], places=3)
        self.assertEqual(self.laid(water="0.2 in")["watering"]["mm"], 5.08)
        self.assertIsNone(self.laid(water="5")["watering"]["minutes"])

    def test_sheets_over_all_beds(self) -> None:
        """Six beds of 0.762 m and five paths of 0.457 m are 6.858 m; with half a metre held at each edge 7.858 m."""
        for sheet, sheets in (("13 m", 1), ("4 m", 3), ("4.2 m", 2)):
            found = self.laid(sheet=sheet)["cover"]
            self.assertEqual(found["sheets"], sheets, sheet)
            self.assertAlmostEqual(found["metres"], sheets * (46 * 0.3048 + 1))

    def test_pots_as_they_are_spaced(self) -> None:
        """14.02 m × 0.762 m: 10 cm pots stand 7 × 140 close, 4 × 78 at 18 cm (arithmetic)."""
        found = self.laid(pot="10", apart="10, 18 cm", pots="1,000", water="5")
        self.assertEqual([(one["a_bed"], one["beds_for"]) for one in found["pots"]], [(980, 2), (312, 4)])
        self.assertEqual(len(found["pots"][0]["middles_m"]), 7 * 20)  # two metres of it are drawn
        self.assertAlmostEqual(found["watering"]["litres_a_plant"], 320.5 / (6 * 312), places=3)
        inches = self.laid(pot="4 in", apart="6 in", staggered="true")
        self.assertEqual(inches["pots"][0]["rows"], 6)  # (30 − 4) ÷ (6 × 0.866) + 1
        paper = self.get("/places/layout.pdf?" + urlencode({**HOUSE, "pot": "10", "apart": "10, 18"}))
        self.assertTrue(paper.content.startswith(b"%PDF"))
        self.assertTrue(self.get("/places/layout.pdf").content.startswith(b"%PDF"))  # empty, to fill by hand
        self.get("/places/layout.pdf?house_length=5&house_width=2", status=422)

    def test_what_cannot_be_is_refused_where_it_was_typed(self) -> None:
        drip = {"lines": "1", "water": "5"}
        for more, field in (
            ({"lines": "0"}, "lines"),
            ({**drip, "emitter_apart": "20 m"}, "emitter_apart"),
            ({**drip, "emitter_flow": "0"}, "emitter_flow"),
            ({**drip, "emitter_flow": "2 gal"}, "emitter_flow"),
            ({**drip, "water": "2 m"}, "water"),
            ({"water": "no"}, "water"),
            ({"sheet": "0.4"}, "sheet"),
            ({"sheet": "4", "held": "-1"}, "overlap"),
            ({"pot": "10"}, "apart"),
            ({"pot": "10", "apart": "8"}, "apart"),
            ({"pot": "9 ft", "apart": "9 ft"}, "pot"),
            ({"apart": "18"}, "pot"),
        ):
            with self.subTest(more):
                self.assertEqual(self.laid(status=422, **more)["errors"][0]["field"], field)
