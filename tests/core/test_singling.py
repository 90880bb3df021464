"""Misses and doubles: rows laid out seed by seed come back as what they were; the verdict waits for certainty."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.singling import by_spacing, singled


class Spacing(TestCase):
    @given(st.lists(st.sampled_from("smd"), min_size=3, max_size=120), st.floats(2, 40), st.integers(0, 1000))
    @settings(max_examples=120, deadline=None)
    def test_a_row_laid_out_place_by_place_is_read_back(self, places: list[str], wanted: float, seed: int) -> None:
        """Each place has one seed, none, or two close together; seeds lie within a tenth of their places."""
        rng = np.random.default_rng(seed)
        places = ["s", *places, "s"]
        at: list[float] = []
        for n, kind in enumerate(places):
            if kind == "m":
                continue
            here = n * wanted + float(rng.uniform(-0.1, 0.1)) * wanted
            at += [here] if kind == "s" else [here, here + 0.2 * wanted]
        found = by_spacing(list(np.diff(at)), wanted_cm=wanted)
        self.assertEqual(found[1:], (places.count("m"), places.count("d")))
        self.assertEqual(found[0], len(places) - 1)

    def test_what_cannot_be_is_refused(self) -> None:
        for spacings, wanted, field in (([], 10, "spacings"), ([10, -1], 10, "spacings"), ([10], 0, "wanted")):
            with self.assertRaises(Refused) as caught:
                by_spacing(spacings, wanted_cm=wanted)
            self.assertEqual(caught.exception.errors[0].field, field)


class Verdict(TestCase):
    def test_a_good_sower_is_rarely_stopped_and_a_bad_one_soon(self) -> None:
        rng = np.random.default_rng(2)
        good = [singled(looked=208, misses=int(one), doubles=0).verdict for one in rng.binomial(208, 0.03, 400)]
        self.assertLess(good.count("stop") / 400, 0.01)
        bad = [singled(looked=208, misses=0, doubles=int(one)).verdict for one in rng.binomial(208, 0.15, 400)]
        self.assertGreater(bad.count("stop") / 400, 0.95)
        self.assertEqual(singled(looked=20, misses=2, doubles=0).verdict, "watch")

    def test_impossible_counts_are_refused(self) -> None:
        for wrong in ((0, 0, 0), (10, 11, 0), (10, 0, 11), (10, 6, 5), (10, -1, 0)):
            with self.subTest(wrong), self.assertRaises(Refused):
                singled(looked=wrong[0], misses=wrong[1], doubles=wrong[2])
