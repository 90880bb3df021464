"""Drip lines, a watering and covers: against counting them out, and the check values of the trade."""

import math
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.bed_water import cover_sheets, drip_lines, watering
from aldrip_core.refusal import Refused

M2_PER_ACRE = 4046.8564224


class Dripping(TestCase):
    @given(st.integers(1, 20), st.floats(0.2, 200), st.integers(1, 6), st.floats(0.05, 3), st.floats(0.2, 8))
    @settings(max_examples=100, deadline=None)
    def test_emitters_are_those_that_one_counts_out(
        self, beds: int, long: float, lines: int, apart: float, flow: float
    ) -> None:
        counted = 0
        while (counted + 1) * apart <= long + 1e-9 * apart:
            counted += 1
        if not counted:
            with self.assertRaises(Refused):
                drip_lines(beds=beds, bed_length_m=long, lines_a_bed=lines, apart_m=apart, emitter_l_h=flow)
            return
        found = drip_lines(beds=beds, bed_length_m=long, lines_a_bed=lines, apart_m=apart, emitter_l_h=flow)
        self.assertEqual(found.emitters, counted * lines * beds)
        self.assertAlmostEqual(found.litres_an_hour, found.emitters * flow)

    @given(st.floats(0.1, 1e5), st.floats(0.1, 60), st.floats(1, 1e6), st.integers(1, 10**6))
    @settings(max_examples=100, deadline=None)
    def test_what_runs_for_its_minutes_is_what_was_wanted(self, m2: float, mm: float, flow: float, plants: int) -> None:
        try:
            found = watering(area_m2=m2, mm=mm, litres_an_hour=flow, plants=plants)
        except Refused:
            self.assertGreater(m2 * mm / flow, 24)
            return
        assert found.minutes is not None and found.litres_a_plant is not None
        self.assertAlmostEqual(found.minutes / 60 * flow, m2 * mm, delta=1e-6 * m2 * mm)
        self.assertAlmostEqual(found.litres_a_plant * plants, m2 * mm, delta=1e-6 * m2 * mm)

    def test_the_drip_of_a_smallholding(self) -> None:
        """5,000 L a day on 0.4 ha is 1.25 mm; on an acre at 4,840 plants 1.03 L each, at 2,904 1.72 L (arithmetic)."""
        self.assertEqual(watering(area_m2=4000, mm=1.25).litres, 5000)
        for plants, litres in ((4840, 1.03), (2904, 1.72)):
            found = watering(area_m2=M2_PER_ACRE, mm=5000 / M2_PER_ACRE, plants=plants)
            assert found.litres_a_plant is not None
            self.assertAlmostEqual(found.litres_a_plant, litres, places=2)
        for wrong in ({"area_m2": 0, "mm": 5}, {"area_m2": 5, "mm": 0}):
            with self.assertRaises(Refused):
                watering(**wrong)


class Covering(TestCase):
    @given(st.floats(0.5, 300), st.floats(1, 300), st.floats(0.5, 30), st.floats(0, 0.4), st.floats(0, 1))
    @settings(max_examples=120, deadline=None)
    def test_sheets_reach_across_and_one_fewer_does_not(
        self, across: float, along: float, sheet: float, overlap: float, held: float
    ) -> None:
        found = cover_sheets(across_m=across, along_m=along, sheet_m=sheet, overlap_m=overlap, held_m=held)

        def reach(many: int) -> float:
            return many * sheet - (many - 1) * overlap

        self.assertGreaterEqual(reach(found.sheets) + 1e-6, across + 2 * held)
        if found.sheets > 1:
            self.assertLess(reach(found.sheets - 1) - 1e-6, across + 2 * held)
        self.assertTrue(math.isclose(found.metres, found.sheets * (along + 2 * held)))

    def test_what_cannot_lie_is_refused(self) -> None:
        for wrong in ({"across_m": 0}, {"sheet_m": 0.5}, {"overlap_m": -1}, {"held_m": -0.1}):
            with self.assertRaises(Refused):
                cover_sheets(**{"across_m": 5, "along_m": 5, "sheet_m": 3, "overlap_m": 0.5, **wrong})
