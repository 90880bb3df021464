"""Counting until it is clear: the risks that were asked are kept, on fields that are simulated plant by plant."""

from unittest import TestCase

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.sequential_inspection import Sequential, sequential_inspection

PLAN = {"limit": 0.01, "reject_level": 0.04, "alpha": 0.05, "beta": 0.05}


class UntilItIsClear(TestCase):
    def ended(self, rate: float, draw: np.random.Generator) -> Sequential:
        """A field of a rate, counted fifty plants at a time."""
        counted = found = 0
        while True:
            counted, found = counted + 50, found + int(draw.binomial(50, rate))
            told = sequential_inspection(counted=counted, found=found, **PLAN).decision
            if told is not Sequential.CONTINUE:
                return told

    def test_good_fields_are_rejected_and_bad_ones_accepted_no_oftener_than_was_agreed(self) -> None:
        """Wald's bounds hold for the counting itself; looked at in fifties the risks only shrink."""
        draw = np.random.default_rng(7)
        good = [self.ended(0.01, draw) for _ in range(1500)]
        bad = [self.ended(0.04, draw) for _ in range(1500)]
        self.assertLess(good.count(Sequential.REJECT) / 1500, 0.05 / 0.95 + 0.015)
        self.assertLess(bad.count(Sequential.ACCEPT) / 1500, 0.05 / 0.95 + 0.015)

    @given(counted=st.integers(0, 5000), share=st.floats(0, 0.1))
    def test_so_many_clean_plants_more_and_it_is_accepted_one_fewer_and_it_is_not(
        self, counted: int, share: float
    ) -> None:
        found = int(counted * share)
        told = sequential_inspection(counted=counted, found=found, **PLAN)
        if told.decision is not Sequential.CONTINUE:
            self.assertIsNone(told.more_plants)
            return
        assert told.more_plants is not None
        then = sequential_inspection(counted=counted + told.more_plants, found=found, **PLAN)
        self.assertIs(then.decision, Sequential.ACCEPT)
        before = sequential_inspection(counted=counted + told.more_plants - 1, found=found, **PLAN)
        self.assertIs(before.decision, Sequential.CONTINUE)

    def test_levels_that_cross_and_counts_that_cannot_be_are_refused(self) -> None:
        for wrong, field in (
            ({"limit": 0.04}, "reject_level"),
            ({"alpha": 0.5}, "alpha"),
            ({"beta": 0.0}, "beta"),
            ({"found": 9}, "found"),
        ):
            with self.subTest(field), self.assertRaises(Refused) as told:
                sequential_inspection(**{"counted": 5, "found": 1, **PLAN, **wrong})  # type: ignore[arg-type]
            self.assertEqual(told.exception.errors[0].field, field)
