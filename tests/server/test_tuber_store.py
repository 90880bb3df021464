"""The tuber store by the API: stood, drawn, looked through, rejected, turned, carried out; lifting damage; a list of who goes where."""

from datetime import timedelta
from typing import Any

from aldrip.accounts.models import Role
from aldrip.lots import services as lots
from aldrip.lots.holds import hold
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop
from aldrip.stockplants.models import TuberStack
from aldrip_core.units import Quantity, Unit
from tests.server.house import HouseCase, advance, member, uid

ONE = timedelta(days=1)
LOADS = [
    {"grade": 1, "kg": "600", "tuber_g": "30 g", "a_tray": "250"},  # 20,000 in 80 trays
    {"grade": 2, "kg": "1.2 t", "tuber_g": "60", "a_tray": "160"},  # 20,000 in 125 trays
]


class TuberStoreCase(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.crop = Crop.objects.get(slug="oca", organisation=None)
        self.lot = self.there(50_000)

    def there(self, many: int) -> Lot:
        quantity = Quantity.of(many, Unit.TUBER)
        return lots.receive(self.ctx, crop_id=self.crop.pk, line_id=None, quantity=quantity, form="tuber")

    def stand(self, status: int = 200, **more: Any) -> Any:
        body = {"lot_id": self.lot.pk, "loads": LOADS, "client_uuid": uid(), **more}
        return self.post("/tubers", body, status=status)

    def stacks(self) -> Any:
        return self.get("/tubers")["stacks"]

    def look(self, stack: int, bad: int = 0, status: int = 200, sure: str = "few", **more: Any) -> Any:
        body = {"trays": "1", "looked": "150", "bad": f"{bad}", "client_uuid": uid(), **more}
        return self.post(f"/tubers/{stack}/look", body, status=status, sure=sure)

    def out(self, stack: int, trays: str, status: int = 200, sure: str = "not_looked", **more: Any) -> Any:
        body = {"trays": trays, "to": "North slope", "client_uuid": uid(), **more}
        return self.post(f"/tubers/{stack}/out", body, status=status, sure=sure)

    def wrong(self, answer: Any) -> tuple[str, str]:
        return answer["errors"][0]["field"], answer["errors"][0]["code"]


class Stands(TuberStoreCase):
    def test_a_load_comes_to_trays_stacks_floor_and_hours_before_anything_is_saved(self) -> None:
        draft = self.post("/tubers/draft", {"loads": LOADS})
        self.assertEqual(
            [(one["tubers"], one["trays"], one["stacks"]) for one in draft["grades"]],
            [(20_000, 80, 2), (20_000, 125, 4)],
        )
        self.assertEqual((draft["trays"], draft["stacks"], draft["hours"]), (205, 6, 80 / 15 + 125 / 15))
        self.assertAlmostEqual(draft["floor_m2"], 6 * 1.2 / 0.75)
        self.assertFalse(TuberStack.objects.exists())

    def test_stood_it_is_numbered_on_and_never_more_than_the_lot_holds(self) -> None:
        again = uid()
        self.stand(client_uuid=again)
        self.stand(client_uuid=again)
        self.assertEqual([(one["first"], one["last"]) for one in self.stacks()], [(1, 2), (3, 6)])
        self.assertEqual(self.get("/tubers")["sentence"], "205 trays, 40,000 tubers in 6 stacks")
        more = self.stand(status=422)
        self.assertEqual(self.wrong(more), ("loads", "not_enough"))
        self.assertIn("40,000 stand already", more["errors"][0]["message"])
        self.stand(loads=[{"grade": 5, "kg": "100", "tuber_g": "100", "a_tray": "90"}])
        self.assertEqual(self.stacks()[-1]["first"], 7)

    def test_a_million_and_a_half_of_trays_are_a_few_rows(self) -> None:
        self.lot = self.there(10_000_000)
        Lot.objects.filter(pk=self.lot.pk).update(balance=300_000_000)
        loads = [{"grade": grade, "kg": "3000 t", "tuber_g": "50", "a_tray": "200"} for grade in (1, 2, 3, 4, 5)]
        self.stand(loads=loads)
        found = self.get("/tubers")
        self.assertEqual(found["sentence"], "1,500,000 trays, 300,000,000 tubers in 37,500 stacks")
        self.assertEqual(TuberStack.objects.count(), 5)

    def test_what_cannot_be_is_refused_at_its_field(self) -> None:
        seed = lots.receive(self.ctx, crop_id=self.crop.pk, line_id=None, quantity=Quantity.of(9, Unit.GRAM))
        one = LOADS[0]
        for more, field in (
            ({"lot_id": seed.pk}, "lot_id"),
            ({"loads": []}, "loads"),
            ({"loads": [{**one, "grade": 6}]}, "loads.0.grade"),
            ({"loads": [one, {**one, "kg": "2 gal"}]}, "loads.1.kg"),
            ({"loads": [{**one, "a_tray": "0"}]}, "loads.0.a_tray"),
            ({"on": str(self.ctx.today + ONE)}, "on"),
            ({"turn_every": 400}, "turn_every"),
            ({"gangway_percent": "100"}, "gangway"),
        ):
            with self.subTest(more):
                self.assertEqual(self.wrong(self.stand(status=422, **more))[0], field)


class Looked(TuberStoreCase):
    def setUp(self) -> None:
        super().setUp()
        self.stand()
        self.small, self.large = (one["id"] for one in self.stacks())

    def test_drawn_trays_are_the_same_every_time_one_asks(self) -> None:
        path = f"/tubers/{self.large}/drawn?limit_percent=1"
        drawn = self.get(path)
        self.assertEqual(len(drawn), 3)  # of 160 tubers each: four over a limit of a hundredth
        self.assertEqual(drawn, self.get(path))
        self.assertEqual(self.wrong(self.get(f"/tubers/{self.large}/drawn?limit_percent=0", status=422))[0], "limit")

    def test_rejected_nothing_of_it_goes_out_until_it_passes(self) -> None:
        """150 looked at against 2 %: three are to be expected, rejected from seven on (Poisson, 5 %)."""
        found = self.look(self.large, bad=7)
        self.assertEqual((found["state"], found["checks"][0]["reject_at"]), ("rejected", 7))
        answer = self.out(self.large, "10", status=422)
        self.assertEqual(self.wrong(answer), ("stack_id", "rejected"))
        self.assertIn("Sort them", answer["errors"][0]["message"])
        listed = self.post("/tubers/planting-list", {"crop": "Oca", "plots": [PLOT]})
        self.assertEqual({one["grade"] for one in listed["plantings"]}, {1})
        self.assertEqual(self.look(self.large, bad=6)["state"], "passed")
        left = self.out(self.large, "10")
        self.assertEqual((left["left"], left["left_tubers"]), (115, 20_000 - 1_600))
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.balance, 50_000 - 1_600)

    def test_what_nobody_looked_through_is_asked_about_and_a_repeat_is_one(self) -> None:
        self.assertEqual(self.out(self.small, "80", status=422, sure="")["code"], "doubtful")
        again = uid()
        for _ in (1, 2):
            self.out(self.small, "80", client_uuid=again)
        self.assertEqual([one["id"] for one in self.stacks()], [self.large])
        gone = self.get("/tubers?older=true")["stacks"][0]
        self.assertEqual((gone["left"], gone["left_tubers"], gone["sentence"]), (0, 0, "All carried out."))
        for path, body in (("look", {"trays": "1", "looked": "1"}), ("out", {"trays": "1", "to": "x"}), ("turn", {})):
            self.post(f"/tubers/{self.small}/{path}", {**body, "client_uuid": uid()}, status=422)

    def test_a_held_lot_stays_and_says_so(self) -> None:
        hold(self.ctx, self.lot.pk, reason="blackleg", client_uuid=uid())  # type: ignore[arg-type]
        self.out(self.small, "1", status=422)
        self.assertIn("blackleg", self.stacks()[0]["sentence"])
        self.assertEqual(self.post("/tubers/planting-list", {"crop": "Oca", "plots": [PLOT]})["plantings"], [])

    def test_what_is_rejected_or_held_may_be_thrown_away(self) -> None:
        self.look(self.large, bad=30)
        self.out(self.large, "5", status=422)
        left = self.out(self.large, "5", thrown=True, to="rot")
        self.assertEqual((left["left"], left["out"][0]["thrown"], left["out"][0]["tubers"]), (120, True, 800))
        hold(self.ctx, self.lot.pk, reason="blackleg", client_uuid=uid())  # type: ignore[arg-type]
        self.assertEqual(self.out(self.small, "80", thrown=True, to="blackleg")["left"], 0)
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.balance, 50_000 - 800 - 20_000)

    def test_a_handful_that_passes_is_asked_about_and_one_that_rejects_is_not(self) -> None:
        """Four over the limit on average are 200 of 2 %."""
        answer = self.look(self.large, sure="", status=422, looked="150")
        self.assertEqual(self.wrong(answer), ("looked", "doubtful"))
        self.assertIn("200 and more do", answer["errors"][0]["message"])
        self.assertEqual(self.look(self.large, sure="", bad=30)["state"], "rejected")
        self.assertEqual(self.look(self.large, sure="", trays="2", looked="200")["state"], "passed")

    def test_impossible_counts_are_refused(self) -> None:
        for more, field in (
            ({"trays": "81"}, "trays"),
            ({"looked": "251"}, "looked"),
            ({"bad": "151"}, "bad"),
            ({"limit_percent": "0"}, "limit"),
            ({"sprout_mm": "2 m"}, "sprout_mm"),
        ):
            with self.subTest(more):
                self.assertEqual(self.wrong(self.look(self.small, status=422, **more))[0], field)
        self.assertEqual(self.wrong(self.out(self.small, "81", status=422))[0], "trays")
        self.assertEqual(self.wrong(self.out(self.small, "1", status=422, to=" "))[0], "to")

    def test_turned_twice_a_week_on_the_day_sheet_and_late_it_says_so(self) -> None:
        def told() -> list[Any]:
            beside = self.get(f"/day?day={self.ctx.today}")["beside"]
            return [one for one in beside if "tuber stacks" in one["words"]]

        self.assertEqual(told(), [])
        advance(self.ctx, self.ctx.today + 4 * ONE)
        self.assertIn("Turn 2 ranges of tuber stacks: 1–2, 3–6.", told()[0]["words"])
        advance(self.ctx, self.ctx.today + ONE)
        self.assertTrue(told()[0]["wrong"])
        self.post(f"/tubers/{self.small}/turn")
        self.assertIn("Turn 1 range of tuber stacks: 3–6.", told()[0]["words"])
        self.assertTrue(self.stacks()[1]["late"])

    def test_carried_out_by_mistake_it_is_taken_back(self) -> None:
        before = self.get("/tubers")
        self.out(self.large, "5")
        event = next(one for one in self.get("/audit") if one["sentence"].startswith("Carried"))
        self.post(f"/acts/{event['id']}/take-back", {"reason": "other stack", "known": [event["id"]]})
        self.assertEqual(self.get("/tubers"), before)
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.balance, 50_000)

    def test_as_each_role(self) -> None:
        for role, looks, stores in ((Role.VIEWER, 403, 403), (Role.INSPECTOR, 200, 403), (Role.SUPERVISOR, 200, 200)):
            with self.subTest(role):
                self.client.force_login(member(self.ctx, role, role))
                self.look(self.small, status=looks)
                self.out(self.small, "1", status=stores)
                self.assertEqual(len(self.stacks()), 2)


PLOT = {"name": "North slope", "area": "1 ha", "row": "75 cm", "in_row": "30"}


class Planted(TuberStoreCase):
    def test_the_earliest_ground_has_the_largest_and_what_lacks_is_said(self) -> None:
        self.stand()
        flat = {**PLOT, "name": "Flat", "area": "2500", "sheet": "13 m"}
        early = {**PLOT, "name": "Tunnel 1", "area": "2000 m²", "in_row": "25 cm"}
        found = self.post("/tubers/planting-list", {"crop": "Oca", "plots": [early, flat, PLOT], "overlap": ""})
        said = [(one["plot"], one["grade"], one["tubers"]) for one in found["plantings"]]
        self.assertEqual(
            said, [("Tunnel 1", 2, 10_666), ("Flat", 2, 9_334), ("Flat", 1, 1_777), ("North slope", 1, 18_223)]
        )
        self.assertEqual(found["plots"][1]["cover_m"], 2500 / 13)
        self.assertEqual(found["plots"][2]["lacks"], 44_444 - 18_223)
        self.assertIn("26,221 tubers are lacking in 1 place", found["sentence"])
        self.assertIn("Nobody has looked through the stacks from 1, 3 on yet", found["sentence"])
        small = self.post("/tubers/planting-list", {"crop": "Oca", "plots": [{**PLOT, "area": "9"}]})
        self.assertIn("Every place is full; 39,960 tubers stay", small["sentence"])
        nothing = self.post("/tubers/planting-list", {"crop": "Oca", "plots": [{**PLOT, "row": "0"}]}, status=422)
        self.assertEqual(self.wrong(nothing)[0], "plots.0.row")
        self.assertEqual(
            self.wrong(
                self.post("/tubers/planting-list", {"crop": "Oca", "plots": [{**PLOT, "area": "no"}]}, status=422)
            )[0],
            "plots.0.area",
        )
        self.assertEqual(
            self.wrong(self.post("/tubers/planting-list", {"crop": "Oca", "plots": []}, status=422))[0], "plots"
        )


class Lifted(TuberStoreCase):
    def test_a_chain_that_bruises_is_told_against_what_is_usual(self) -> None:
        again = uid()
        for n, damaged in enumerate((12, 9, 14, 8, 11, 13, 10)):
            self.post(
                "/tubers/samples",
                {"crew": f"Crew {n % 2}", "looked": "400", "damaged": f"{damaged}", "client_uuid": uid()},
            )
        self.assertIn("within it", self.get("/tubers")["damage_sentence"])
        for _ in (1, 2):
            self.post("/tubers/samples", {"crew": "Crew 1", "looked": "400", "damaged": "60", "client_uuid": again})
        found = self.get("/tubers")
        self.assertEqual([one["outside"] for one in found["samples"]], [False] * 7 + [True])
        self.assertIn("Crew 1: 15.0 % damaged is more than", found["damage_sentence"])
        wrong = {"crew": "x", "looked": "5", "damaged": "6", "client_uuid": uid()}
        self.assertEqual(self.wrong(self.post("/tubers/samples", wrong, status=422))[0], "damaged")


class Sprouted(TuberStoreCase):
    def test_two_readings_say_when_they_are_long_enough(self) -> None:
        place = self.ctx.organisation.sites.get().places.filter(kind="store").first()
        assert place is not None
        self.stand(place_id=place.pk)
        stack = self.stacks()[0]["id"]
        self.look(stack, sprout_mm="2")
        self.assertIsNone(self.stacks()[0]["ready_on"])
        advance(self.ctx, self.ctx.today + 10 * ONE)
        self.look(stack, sprout_mm="6 mm")
        ready = self.stacks()[0]["ready_on"]
        later = self.get("/tubers?sprout_mm=40")["stacks"][0]["ready_on"]
        if place.set_point_c is not None and place.set_point_c <= 4:
            self.assertIsNone(ready)
        else:
            self.assertTrue(str(self.ctx.today) < ready < later)
