"""A feed in its tanks: what is weighed in adds up, what falls out stands apart, and a litre at the plants holds what it says."""

from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.nutrients import Salt, nutrient_solution
from aldrip_core.refusal import Refused
from aldrip_core.tank_card import FeedBand, FeedPart, from_label, read_feed, tank_card

#: The handbook's recipe for 100 litres.
RECIPE = [
    FeedPart("monopotassium phosphate", 13.6, formula="KH2PO4"),
    FeedPart("calcium nitrate", 23.6, formula="Ca(NO3)2·4H2O"),
    FeedPart("potassium nitrate", 50.4, formula="KNO3"),
    FeedPart("bitter salt", 10, formula="MgSO4·7H2O"),
]


class Tanks(TestCase):
    @given(litres=st.floats(1, 50_000), ratio=st.none() | st.floats(2, 200))
    def test_what_is_weighed_in_comes_out_at_the_plants(self, litres: float, ratio: float | None) -> None:
        """Salts of all tanks together, thinned by the injector, hold in a litre what the card says."""
        card = tank_card(parts=RECIPE, recipe_l=100, litres=litres, ratio=ratio)
        grams = {one.name: one.grams for tank in card.tanks for one in tank.parts}
        again = nutrient_solution(
            volume_l=litres, salts=[Salt(grams[part.name], formula=part.formula) for part in RECIPE]
        )
        for element, mg in card.solution.mg_per_l.items():
            self.assertAlmostEqual(again.mg_per_l[element], mg, places=6)
        for tank in card.tanks:
            self.assertAlmostEqual(tank.litres * (ratio or 1), litres, delta=1e-6 * litres)
        self.assertEqual(len(card.tanks), 2 if ratio else 1)

    def test_calcium_stands_alone_in_a_concentrated_tank_only(self) -> None:
        card = tank_card(parts=RECIPE, recipe_l=100, litres=1000, ratio=100)
        self.assertEqual([one.name for one in card.tanks[0].parts], ["calcium nitrate"])
        self.assertIn("incompatible", [one.code for one in card.warnings])
        thin = tank_card(parts=RECIPE, recipe_l=100, litres=1000)
        self.assertNotIn("incompatible", [one.code for one in thin.warnings])
        plain = tank_card(parts=RECIPE[2:3], recipe_l=100, litres=1000, ratio=100)
        self.assertEqual([tank.name for tank in plain.tanks], ["Stock"])

    def test_a_product_with_both_makes_no_stock(self) -> None:
        both = [FeedPart("all in one", 100, label={"N": 10, "CaO": 12, "SO3": 8})]
        told = tank_card(parts=both, recipe_l=100, litres=100, ratio=50).warnings
        self.assertIn("do not make a stock solution", " ".join(one.message for one in told))

    def test_more_than_dissolves_is_told(self) -> None:
        told = tank_card(parts=RECIPE, recipe_l=100, litres=100, ratio=600).warnings
        self.assertIn("too_strong", [one.code for one in told])

    def test_labels_count_oxides_as_elements(self) -> None:
        """250 mg N a litre are 1.25 g of a 20 % feed (common practice, no source); P2O5 holds 43.6 % P by its atoms."""
        card = tank_card(
            parts=[FeedPart("20-20-20", 125, label={"N": 20, "P2O5": 20, "K2O": 20})], recipe_l=100, litres=40
        )
        self.assertAlmostEqual(card.solution.mg_per_l["N"], 250)
        self.assertAlmostEqual(card.oxides_mg_per_l["P2O5"], 250)
        self.assertAlmostEqual(card.solution.mg_per_l["P"], 250 * 61.948 / 141.943, places=3)
        self.assertAlmostEqual(card.tanks[0].parts[0].grams, 50)
        self.assertEqual(from_label({"auxin": 3, "N": 4}), {"N": 4})

    def test_the_water_adds_its_own(self) -> None:
        with_water = tank_card(parts=RECIPE, recipe_l=100, litres=100, source_ec=0.4)
        self.assertAlmostEqual(with_water.ec_ms_per_cm - with_water.solution.ec_ms_per_cm, 0.4)

    @given(ec=st.floats(0, 20), ph=st.floats(0, 14))
    def test_a_reading_is_told_where_it_is_outside_its_band(self, ec: float, ph: float) -> None:
        told = read_feed(ec, ph, FeedBand(1.2, 1.6, 5.5, 6.5))
        self.assertEqual(any("EC" in one for one in told), not 1.2 <= ec <= 1.6)
        self.assertEqual(any("pH" in one for one in told), not 5.5 <= ph <= 6.5)
        self.assertEqual(read_feed(ec, ph, FeedBand()), ())

    def test_what_cannot_be_is_refused(self) -> None:
        for wrong in ({"litres": 0}, {"ratio": 1}, {"ratio": 2000}, {"source_ec": 400}, {"recipe_l": 0}):
            with self.subTest(wrong), self.assertRaises(Refused):
                tank_card(**{"parts": RECIPE, "recipe_l": 100, "litres": 100, **wrong})
        for ec, ph in ((None, None), (1200, 6), (1, 62)):
            with self.subTest(ec=ec, ph=ph), self.assertRaises(Refused):
                read_feed(ec, ph, FeedBand())
