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
