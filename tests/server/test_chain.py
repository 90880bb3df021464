"""One batch's chain on its card: consistent with what the card says, however the planting is typed."""

from aldrip.sowing.chain import planted
from aldrip_core.refusal import Refused
from tests.server.house import HouseCase, seed_lot


class Chain(HouseCase):
    def test_it_agrees_with_the_card(self) -> None:
        seed_lot(self.ctx, grams=2000)
        _, batch = self.planned(quantity="9,000", due="2027-W37")
        card = self.get(f"/batches/{batch.pk}/card")
        links = {one["key"]: one for one in self.get(f"/batches/{batch.pk}/chain?planted=25 x 25 cm")}
        value = {key: one["value"] for key, one in links.items()}
        self.assertAlmostEqual(value["seed"] * 1000, card["grams"])
        self.assertAlmostEqual(value["medium"], card["litres"])
        self.assertAlmostEqual(value["trays_ha"] * value["plants_tray"], 160_000)  # 16 a square metre
        self.assertTrue(all(one["working"] for one in links.values()))
        told = self.get(f"/batches/{batch.pk}/chain?planted=many", status=422)
        self.assertEqual(told["errors"][0]["field"], "planted")

    def test_a_rule_of_thumb_is_held_against_what_is_lost(self) -> None:
        """600 g/ha of seed of 4 g at 45 × 45 cm buy three seeds a plant (check value of the trade, arithmetic)."""
        lot = seed_lot(self.ctx, grams=2000)
        lot.tgw_g = 4
        lot.save()
        _, batch = self.planned(quantity="9,000", due="2027-W37")
        path = f"/batches/{batch.pk}/chain?planted=45 x 45 cm&rate="
        links = {one["key"]: one for one in self.get(path + "600 g/ha")}
        self.assertAlmostEqual(links["rate_plant"]["value"], 150_000 / 49_383, places=3)
        self.assertRegex(
            links["rate_plant"]["note"], r"^This rate buys 3\.0 seeds for every plant .* sown for nobody\.$"
        )
        kept = batch.expected / (batch.seeds or 1)
        self.assertAlmostEqual(links["rate_needed"]["value"], 49_383 / kept * 4 / 1000, delta=0.5)
        self.assertEqual(links["rate_needed"]["unit"], "g/ha")
        same = {one["key"]: one for one in self.get(f"{path}{links['rate_needed']['value']:.4f} g/ha")}
        self.assertIn("about what is needed", same["rate_plant"]["note"])
        few = {one["key"]: one for one in self.get(f"{path}2 oz/acre")}
        self.assertIn("there will be gaps", few["rate_plant"]["note"])
        alone = self.get(f"/batches/{batch.pk}/chain?rate=600 g/ha", status=422)["errors"][0]
        self.assertEqual((alone["field"], alone["code"]), ("planted", "missing"))
        for wrong in ("many", "5 gal", "-3 g/ha", "0 g/ha"):
            with self.subTest(wrong):
                self.get(f"{path}{wrong}", status=422)

    def test_planting_as_people_say_it(self) -> None:
        """Check values of the trade: 4 × 2 ft are 5,445 an acre, 13,455 a hectare; 0.9 × 1.5 m 7,407 (arithmetic)."""
        for text, per_ha in (
            ("4 x 2 ft", 13_455),
            ("90 × 150 cm", 7_407),
            ("3 ft by 18 in", 23_920),
            ("0.4 m x 0.2 m", 125_000),
            ("5,445/acre", 13_455),
            ("4/m²", 40_000),
            ("40k/ha", 40_000),
            ("40,000 plants/ha", 40_000),
        ):
            with self.subTest(text):
                self.assertAlmostEqual((planted(text) or 0) / per_ha, 1, places=3)
        self.assertIsNone(planted(" "))
        for wrong in ("x", "0 x 4 cm", "5 gal", "4 x"):
            with self.subTest(wrong):
                self.assertRaises(Refused, planted, wrong)
