"""Feed against libraries of others: molar masses against molmass, EC against PHREEQC (U.S. Geological Survey)."""

import math
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st
from molmass import Formula
from phreeqpython import PhreeqPython

from aldrip_core.nutrients import EC_WITHIN, Salt, atoms, conductivity, molar_mass, nutrient_solution

#: Salts that are bought for feeding, with their waters.
SALTS = (
    "KNO3", "Ca(NO3)2·4H2O", "MgSO4·7H2O", "KH2PO4", "K2SO4", "NH4NO3", "NH4H2PO4", "(NH4)2HPO4", "(NH4)2SO4", "KCl",
    "Mg(NO3)2·6H2O", "CaCl2·2H2O", "CO(NH2)2", "H3BO3", "MnSO4·H2O", "ZnSO4·7H2O", "CuSO4·5H2O", "Na2MoO4·2H2O",
    "FeSO4·7H2O", "HNO3", "H3PO4",
)  # fmt: skip
#: Without ammonium: that chemistry lets it react with nitrate, which it does not do in a tank.
DRY = ("KNO3", "Ca(NO3)2", "MgSO4", "KH2PO4", "K2SO4", "KCl", "Mg(NO3)2", "NaCl")


class Feed(TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.chemistry = PhreeqPython()

    def test_molar_masses_are_those_of_a_formula_library(self) -> None:
        for formula in SALTS:
            with self.subTest(formula):
                theirs = Formula(formula.replace("·", "."))
                self.assertTrue(math.isclose(molar_mass(formula), theirs.mass, rel_tol=2e-4), theirs.mass)
                counted = {one.symbol: one.count for one in theirs.composition().values()}
                self.assertEqual(atoms(formula), counted)

    @settings(max_examples=60, deadline=None)
    @given(mmol=st.dictionaries(st.sampled_from(DRY), st.floats(0.2, 8), min_size=1, max_size=5))
    def test_the_ec_is_within_what_it_says_of_a_water_chemistry(self, mmol: dict[str, float]) -> None:
        """Whatever is mixed of these salts, up to 5 mS/cm."""
        ours = nutrient_solution(
            volume_l=1, salts=[Salt(molar_mass(salt) * many / 1000, formula=salt) for salt, many in mmol.items()]
        )
        solution = self.chemistry.add_solution_simple(mmol)
        theirs = solution.sc / 1000
        solution.forget()
        if theirs <= 5:
            self.assertLess(abs(ours.ec_ms_per_cm / theirs - 1), EC_WITHIN, f"{ours.ec_ms_per_cm} and {theirs}")

    def test_the_conductivity_standards_of_potassium_chloride(self) -> None:
        """KCl at 25 °C: 0.1469, 0.7174, 1.412 and 6.667 mS/cm for 1, 5, 10 and 50 mmol/L (Standard Methods 2510)."""
        for mmol, ec in ((1, 0.1469), (5, 0.7174), (10, 1.412), (50, 6.667)):
            with self.subTest(mmol):
                self.assertAlmostEqual(conductivity({"K": mmol, "Cl": mmol})[0] / ec, 1, delta=0.02)
