"""A medium that is washed: readings against limits, and the washes still to come against a walk from wash to wash."""

from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.conditioning import MediumLimits, Wash, conditioning, read_wash
from aldrip_core.refusal import Refused

LIMITS = MediumLimits()


class Washing(TestCase):
    @given(first=st.floats(0.6, 9), leaves=st.floats(0.2, 0.9), washes=st.integers(2, 6))
    def test_the_washes_to_come_are_those_of_a_walk(self, first: float, leaves: float, washes: int) -> None:
        """Against pouring on until it is below: the closed form of a dilution is never one wash off."""
        read = [Wash(6.2, first * leaves**n) for n in range(washes)]
        told = conditioning(read, LIMITS)
        ec, poured = read[-1].ec, 0
        while ec >= LIMITS.ec_below:
            ec, poured = ec * leaves, poured + 1
        if abs(ec - LIMITS.ec_below) < 1e-9 or abs(ec / leaves - LIMITS.ec_below) < 1e-9:
            return  # a hair at the limit falls as the sum has it
        self.assertEqual(told.more_washes, poured)
        self.assertEqual(told.fit, poured == 0)

    @given(ph=st.floats(0, 14), ec=st.floats(0, 20))
    def test_it_is_fit_where_every_limit_holds_and_says_which_does_not(self, ph: float, ec: float) -> None:
        told = conditioning([read_wash(ph, ec)], LIMITS)
        inside = 6.0 <= ph <= 6.5 and ec < 0.5
        self.assertEqual(told.fit, inside)
        self.assertEqual(bool(told.lacks), not inside)
        self.assertEqual(any("EC" in one for one in told.lacks), ec >= 0.5)

    def test_only_the_newest_reading_counts(self) -> None:
        self.assertFalse(conditioning([Wash(6.2, 0.3), Wash(6.9, 0.3)], LIMITS).fit)
        self.assertTrue(conditioning([Wash(7.4, 3.0), Wash(6.3, 0.4)], LIMITS).fit)

    def test_water_that_takes_no_salt_away_is_told(self) -> None:
        told = conditioning([Wash(6.2, 1.2), Wash(6.2, 1.2), Wash(6.2, 1.21)], LIMITS)
        self.assertEqual((told.more_washes, [one.code for one in told.warnings]), (None, ["no_fall"]))
        self.assertIsNone(conditioning([Wash(6.2, 1.2)], LIMITS).more_washes)
        self.assertEqual(conditioning([], LIMITS).lacks, ("nothing was read yet",))

    def test_what_cannot_be_is_refused(self) -> None:
        for ph, ec, field in ((14.5, 0.3, "ph"), (-1, 0.3, "ph"), (6.2, 480, "ec"), (6.2, -0.1, "ec")):
            with self.subTest(ph=ph, ec=ec), self.assertRaises(Refused) as told:
                read_wash(ph, ec)
            self.assertEqual(told.exception.errors[0].field, field)
        with self.assertRaises(Refused):
            conditioning([], MediumLimits(ph_low=7, ph_high=6))
