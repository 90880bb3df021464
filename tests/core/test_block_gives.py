"""What a block gives of its method's kilos: never more when females, stand, pollen or males are fewer."""

from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.block_gives import Sown, block_gives, needed_for, stand_of
from aldrip_core.refusal import Refused

shares = st.floats(0, 1)
lots = st.builds(Sown, st.floats(0.1, 300), st.floats(1, 400), st.floats(0.05, 1))


class BlockGives(TestCase):
    def test_by_hand(self) -> None:
        """Half the females of the pattern, nine tenths of the stand, 60 % of the days covered: 27 % of the kilos."""
        found = block_gives(females=0.5, stand=0.9, pollen=0.6)
        self.assertAlmostEqual(found.share, 0.27)
        self.assertEqual((found.females, found.stand, found.pollen), (0.5, 0.9, 0.6))
        self.assertEqual(len(found.working[0].inputs), 3)

    def test_without_a_male_there_is_no_seed(self) -> None:
        self.assertEqual(block_gives(females=1.0, pollen=1.0, males=0.0).share, 0.0)
        self.assertEqual(block_gives(females=1.0, pollen=None, males=0.0).share, 0.0)

    def test_one_drilled_line_asks_for_a_stand_alone(self) -> None:
        self.assertEqual(block_gives(stand=0.35).share, 0.35)
        with self.assertRaises(Refused):
            block_gives(stand=-0.1)

    @given(shares, shares, shares, shares, st.integers(0, 2))
    @settings(max_examples=200, deadline=None)
    def test_no_part_that_falls_lets_the_kilos_rise(
        self, females: float, stand: float, pollen: float, less: float, which: int
    ) -> None:
        parts = [females, stand, pollen]
        fewer = [value * less if n == which else value for n, value in enumerate(parts)]

        def share(values: list[float]) -> float:
            return block_gives(females=values[0], stand=values[1], pollen=values[2]).share

        self.assertLessEqual(share(fewer), share(parts) + 1e-12)
        self.assertLessEqual(share(parts), 1.0)

    @given(st.lists(lots, min_size=1, max_size=4), st.floats(100, 2e6), st.floats(0.2, 1), st.floats(0.05, 1))
    @settings(max_examples=120, deadline=None)
    def test_a_thinner_or_weaker_sowing_never_stands_thicker(
        self, sown: list[Sown], plants: float, establishment: float, less: float
    ) -> None:
        full = stand_of(plants=plants, establishment=establishment, usual=0.9, sown=tuple(sown))
        first, *others = sown
        for weaker in (
            Sown(first.kg * less, first.tgw_g, first.germination),
            Sown(first.kg, first.tgw_g, first.germination * less),
        ):
            there = stand_of(plants=plants, establishment=establishment, usual=0.9, sown=(weaker, *others))
            self.assertLessEqual(there, full + 1e-12)

    def test_weak_seed_is_sown_thicker_in_proportion(self) -> None:
        """Establishment 0.8 at 90 %: of a lot of 60 % two thirds of it, half as much seed again."""
        self.assertAlmostEqual(0.8 / needed_for(0.8, 0.6, 0.9), 1.5)
        self.assertEqual(needed_for(0.8, None, 0.9), 0.8)
        self.assertEqual(needed_for(0.95, 1.0, 0.6), 1.0)
