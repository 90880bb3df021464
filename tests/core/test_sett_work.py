"""The work of setts against sums by hand, in whatever measure it was typed, and growing with what is laid."""

from math import ceil
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.sett_work import APART_CM, DIP_MIN, DIPS_A_CHANGE, SettHabit, sett_work


def values(**given_: float) -> dict[str, float]:
    habit = {name: value for name, value in given_.items() if name not in ("laid", "sprouted")}
    return {
        one.key: one.value
        for one in sett_work(laid=given_["laid"], sprouted=given_["sprouted"], habit=SettHabit(**habit))
    }


class SettWork(TestCase):
    def test_tubers_of_two_to_three_pounds_give_eight_to_twelve_setts_of_four_ounces(self) -> None:
        ounce = 28.349523125
        for pounds, each in ((2, 8), (3, 12)):
            found = values(laid=each * 10, sprouted=60, tuber_g=pounds * 16 * ounce, sett_g=4 * ounce)
            self.assertEqual(found["tubers"], 10)

    @given(st.integers(1, 50_000), st.floats(0.1, 1), st.integers(20, 200), st.integers(1, 40), st.integers(1, 400))
    def test_every_figure_is_that_of_a_sum(self, laid: int, share: float, sett: int, dip_kg: int, an_hour: int) -> None:
        found = values(laid=laid, sprouted=laid * share, sett_g=sett, dip_kg=dip_kg, an_hour=an_hour)
        dips = ceil(laid * sett / 1000 / dip_kg - 1e-9)
        self.assertEqual(found["dips"], dips)
        self.assertAlmostEqual(found["dip_l"], ceil(dips / DIPS_A_CHANGE) * 20)
        self.assertAlmostEqual(found["dip_h"] * 60, dips * DIP_MIN)
        self.assertAlmostEqual(found["knife"] * an_hour, laid)
        self.assertAlmostEqual(found["ridge"], laid * share * APART_CM / 100)
        self.assertAlmostEqual(found["lost"], laid * (1 - share), places=5)
        self.assertAlmostEqual(found["bed"], laid * 40 / 60 / 100)

    def test_nothing_and_less_are_refused_at_their_name(self) -> None:
        with self.assertRaises(Refused):
            SettHabit(dip_kg=0)
        with self.assertRaises(Refused):
            values(laid=10, sprouted=8, tuber_g=50, sett_g=100)
