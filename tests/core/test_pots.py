"""Pots on beds: counted against pots put down one by one, none over an edge and none nearer than they may stand."""

from math import hypot
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.pots import pot_middles, pot_stands
from aldrip_core.refusal import Refused

CM = st.integers


class Pots(TestCase):
    @given(CM(40, 400), CM(20, 200), CM(6, 25), CM(0, 20), st.booleans(), st.integers(1, 9), st.integers(1, 5000))
    @settings(max_examples=200, deadline=None)
    def test_as_many_as_stand_there_one_by_one(
        self, long: int, wide: int, pot: int, more: int, staggered: bool, beds: int, wanted: int
    ) -> None:
        pot = min(pot, wide)
        ground = {"long_m": long / 100, "wide_m": wide / 100}
        apart = (pot + more) / 100
        found = pot_middles(**ground, pot_m=pot / 100, apart_m=apart, staggered=staggered)
        for x, y in found:
            self.assertTrue(
                pot / 200 - 1e-6 <= x <= long / 100 - pot / 200 + 1e-6
                and pot / 200 - 1e-6 <= y <= wide / 100 - pot / 200 + 1e-6
            )
        for n, (x, y) in enumerate(found[:60]):
            for u, v in found[n + 1 : n + 200]:
                self.assertGreaterEqual(hypot(x - u, y - v), apart - 1e-6)
        (told,) = pot_stands(
            beds=beds,
            bed_length_m=long / 100,
            bed_width_m=wide / 100,
            gross_m2=1000,
            pot_m=pot / 100,
            apart_m=[apart],
            staggered=staggered,
            wanted=wanted,
        )
        self.assertEqual((told.a_bed, told.pots), (len(found), beds * len(found)))
        self.assertAlmostEqual(told.gross_per_m2, told.pots / 1000)
        assert told.beds_for is not None
        self.assertTrue(told.beds_for * told.a_bed >= wanted > (told.beds_for - 1) * told.a_bed)

    def test_by_the_square_metre_as_growers_say(self) -> None:
        """10 cm pots 18 cm apart: about 31 a m², 25 cm apart 16 (arithmetic, edges of a large bed left out)."""
        for apart, per_m2 in ((0.18, 1 / 0.18**2), (0.25, 16.0)):
            (one,) = pot_stands(
                beds=1, bed_length_m=200, bed_width_m=50, gross_m2=10_000, pot_m=0.1, apart_m=[apart], staggered=False
            )
            self.assertAlmostEqual(one.net_per_m2, per_m2, delta=per_m2 * 0.01)

    def test_what_cannot_be(self) -> None:
        for pot_m, apart_m in ((0.1, [0.09]), (0.1, []), (1.2, [0.2]), (1.2, [1.3]), (0.1, [1.0] * 9), (0.0, [0.2])):
            with self.subTest(pot=pot_m, apart=apart_m), self.assertRaises(Refused):
                pot_stands(beds=1, bed_length_m=2.0, bed_width_m=1.0, gross_m2=5.0, pot_m=pot_m, apart_m=apart_m)
