"""Pairing scions with rootstocks: never fewer than the best matching that a graph library finds, and never more."""

from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import maximum_bipartite_matching

from aldrip_core.grafting import pairs
from aldrip_core.refusal import Refused

stems = st.lists(st.integers(10, 40).map(lambda tenths: tenths / 10), min_size=1, max_size=14)


class Pairing(TestCase):
    @given(stems, stems, st.integers(0, 8))
    @settings(max_examples=300, deadline=None)
    def test_one_of_each_measured_stem_is_a_maximum_matching(
        self, tops: list[float], feet: list[float], tenths: int
    ) -> None:
        """Against scipy's maximum bipartite matching (Hopcroft and Karp), every stem standing for one plant."""
        fits = np.abs(np.subtract.outer(tops, feet)) <= tenths / 10 + 1e-9
        best = int((maximum_bipartite_matching(csr_matrix(fits), perm_type="column") >= 0).sum())
        found = pairs(tops, feet, scions=len(tops), rootstocks=len(feet), within_mm=tenths / 10)
        self.assertAlmostEqual(found.pairs, best, places=6)
        self.assertAlmostEqual(found.pairs + found.scions_left, len(tops), places=6)
        self.assertAlmostEqual(found.pairs + found.rootstocks_left, len(feet), places=6)

    @given(stems, stems, st.floats(0, 5000), st.floats(0, 5000), st.floats(0, 3), st.floats(0, 1))
    @settings(max_examples=150, deadline=None)
    def test_more_of_either_or_more_leave_never_make_fewer(
        self, tops: list[float], feet: list[float], scions: float, rootstocks: float, within: float, more: float
    ) -> None:
        found = pairs(tops, feet, scions=scions, rootstocks=rootstocks, within_mm=within)
        self.assertLessEqual(found.pairs, min(scions, rootstocks) + 1e-6)
        for wider in (
            pairs(tops, feet, scions=scions, rootstocks=rootstocks, within_mm=within + more),
            pairs(tops, feet, scions=scions * (1 + more), rootstocks=rootstocks, within_mm=within),
            pairs(tops, feet, scions=scions, rootstocks=rootstocks * (1 + more), within_mm=within),
            pairs(feet, tops, scions=rootstocks, rootstocks=scions, within_mm=within),
        ):
            self.assertGreaterEqual(wider.pairs, found.pairs - 1e-6)

    def test_what_cannot_be_is_refused_at_its_field(self) -> None:
        right = {"scions_mm": [2.0], "rootstocks_mm": [2.0], "scions": 1.0, "rootstocks": 1.0, "within_mm": 0.3}
        for field, wrong in (
            ("scions_mm", []),
            ("rootstocks_mm", [2.0, -1.0]),
            ("scions_mm", [2000.0]),
            ("rootstocks", -1.0),
            ("within_mm", -0.1),
        ):
            with self.assertRaises(Refused) as caught:
                pairs(**{**right, field: wrong})  # type: ignore[arg-type]
            self.assertEqual(caught.exception.errors[0].field, field)
