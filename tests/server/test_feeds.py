"""Feeds: from a recipe to what is weighed in, and what was read of it against its band."""

from typing import Any

from aldrip.methods.models import Input
from aldrip.sowing.models import FeedReading
from tests.server.house import HouseCase, make_house, member, uid

SALTS = [{"formula": "KNO3", "grams": "505.5"}, {"input": "calcium-nitrate", "grams": "1 kg"}]


class Feeds(HouseCase):
    def tank(self, slug: str = "young-plants", *, status: int = 200, **asked: str) -> Any:
        query = "&".join(f"{name}={value}" for name, value in {"litres": "400 L", **asked}.items())
        return self.get(f"/feeds/{slug}/tank?{query}", status=status)

    def read(self, *, status: int = 200, **more: Any) -> Any:
        return self.post("/feeds/readings", {"recipe": "young-plants", "uuid": uid(), **more}, status=status)

    def test_a_recipe_becomes_a_tank(self) -> None:
        card = self.tank()
        grams = {part["name"]: part["grams"] for tank in card["tanks"] for part in tank["parts"]}
        self.assertAlmostEqual(grams["KH2PO4"], 54.4)
        self.assertAlmostEqual(grams["MgSO4·7H2O"], 40)
        self.assertEqual(len(card["tanks"]), 1)
        elements = {one["element"]: one["mg_per_l"] for one in card["elements"]}
        for element, mg in {"N": 98, "P": 31, "K": 234, "Ca": 40, "Mg": 9.9, "S": 13}.items():
            self.assertAlmostEqual(elements[element], mg, delta=0.5)
        self.assertTrue(card["working"])
        self.assertEqual(self.get("/feeds/young-plants/tank.pdf?litres=400")["Content-Type"], "application/pdf")

    def test_through_an_injector_calcium_stands_alone(self) -> None:
        for ratio in ("1:100", "100", "1 in 100", "1 %25"):
            with self.subTest(ratio):
                card = self.tank(ratio=ratio)
                self.assertEqual([tank["litres"] for tank in card["tanks"]], [4, 4])
                self.assertEqual([one["name"] for one in card["tanks"][0]["parts"]], ["Ca(NO3)2·4H2O"])
                self.assertIn("never together", " ".join(card["warnings"]))

    def test_what_is_typed_is_understood_or_refused(self) -> None:
        self.assertAlmostEqual(self.tank(litres="100 US gal")["litres"], 378.5, 1)
        for asked, code in (
            ({"litres": "2 gal"}, "ambiguous_unit"),
            ({"litres": ""}, "missing"),
            ({"litres": "-5"}, "out_of_range"),
            ({"ratio": "1:1"}, "out_of_range"),
            ({"ratio": "100 L"}, "unit_in_number"),
            ({"source_ec": "400"}, "out_of_range"),
        ):
            with self.subTest(asked):
                self.assertEqual(self.tank(status=422, **asked)["errors"][0]["code"], code)
        self.assertAlmostEqual(self.tank(source_ec="400 µS/cm")["ec"] - self.tank()["ec"], 0.4)
        self.tank("moon-milk", status=404)

    def test_a_house_writes_its_own_and_a_wrong_one_is_told(self) -> None:
        made = self.post("/library/recipe", {"typed": {"name": "Own", "litres": "1 m3", "salts": SALTS}})
        card = self.tank(made["slug"], litres="1000")
        self.assertAlmostEqual(card["tanks"][0]["parts"][1]["grams"], 1000)
        elements = {one["element"]: one["mg_per_l"] for one in card["elements"]}
        self.assertAlmostEqual(elements["N"], 505.5 * 14.007 / 101.102 + 155, delta=0.5)
        for wrong in (
            {"salts": [{"formula": "Moondust", "grams": "1"}]},
            {"salts": [{"grams": "1"}]},
            {"salts": [{"formula": "KNO3", "input": "urea", "grams": "1"}]},
            {"ec_low": "2", "ec_high": "1"},
        ):
            with self.subTest(wrong):
                typed = {"name": "X", "litres": "100", "salts": SALTS, **wrong}
                self.post("/library/recipe", {"typed": typed}, status=422)
        Input.objects.filter(slug="calcium-nitrate").update(contains={})
        self.assertEqual(self.tank(made["slug"], status=422)["errors"][0]["code"], "contains_nothing")
        Input.objects.filter(slug="calcium-nitrate").update(allowed="banned")
        self.assertEqual(self.tank(made["slug"], status=422)["errors"][0]["code"], "banned")

    def test_readings_stand_against_their_band_and_are_put_right(self) -> None:
        self.assertEqual(self.read(ec="1.2", ph="6")["said"], "")
        wrong = self.read(ec="2400 µS/cm", ph="")
        self.assertIn("thin it", wrong["said"])
        asked = [one["words"] for one in self.get("/day")["beside"]]
        self.assertEqual(asked, [f"Young plants, by salts: {wrong['said']}. Mend it, and read it again."])
        right = self.read(ec="1.4", replaces=wrong["id"], reason="read the wrong scale")
        self.assertEqual((right["said"], right["feed"]), ("", "Young plants, by salts"))
        self.assertEqual(self.get("/day")["beside"], [])
        listed = self.get("/feeds")["readings"]
        self.assertEqual([one["ec"] for one in listed], [1.4, 1.2])
        self.assertEqual(
            self.read(ec="1", replaces=wrong["id"], reason="x", status=422)["errors"][0]["code"], "replaced"
        )
        for body in ({"ec": "", "ph": ""}, {"ec": "1400"}, {"ph": "65"}):
            with self.subTest(body):
                self.read(**body, status=422)

    def test_twice_is_once_and_who_may(self) -> None:
        one = uid()
        self.read(ec="1.2", uuid=one)
        self.read(ec="1.2", uuid=one)
        self.assertEqual(FeedReading.objects.count(), 1)
        for role, may in (("viewer", 403), ("inspector", 200), ("dispatch", 200)):
            with self.subTest(role):
                self.client.force_login(member(self.ctx, role, role))
                self.read(ec="1.2", status=may)
        other = make_house("Other", username="bert")
        assert other.user is not None
        self.client.force_login(other.user)
        self.assertEqual(self.get("/feeds")["readings"], [])
