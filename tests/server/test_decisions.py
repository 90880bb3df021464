"""What waits for a decision: each appears when it must, says what and where, and goes when it is decided."""

from datetime import date, timedelta
from typing import Any

from aldrip.batches.models import Batch
from aldrip.lots.models import Lot
from aldrip.places.models import Place
from aldrip.seedcrops.models import Inspection, SeedBlock
from tests.server.house import HouseCase, advance, seed_lot, take_order, uid
from tests.server.seed_house import NEAR, SeedCase, sunflower
from tests.server.test_drilled import DrilledCase


def titles(found: list[dict[str, Any]], *rooms: str) -> list[str]:
    return [one["title"] for one in found if one["room"] in rooms]


class SeedStory(SeedCase):
    """One block from its order to its verdict, by what the morning brief says of it."""

    def waits(self, *rooms: str) -> list[str]:
        return titles(self.get("/season-line")["decisions"], *(rooms or ("seedcrops", "lots")))

    def one(self, title: str) -> dict[str, Any]:
        found: dict[str, Any] = next(one for one in self.get("/season-line")["decisions"] if one["title"] == title)
        return found

    def test_a_batch_of_seed_asks_for_its_block(self) -> None:
        _, batch = self.order()
        self.assertEqual(self.waits("seedcrops"), [f"lay out {batch.code}"])
        self.assertEqual(self.one(f"lay out {batch.code}")["link"], f"/seedcrops?batch={batch.pk}")
        place = Place.objects.get(name="Long field")
        self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": place.pk})
        self.assertEqual(self.waits("seedcrops"), [])

    def test_a_neighbour_too_near_waits_until_a_strip_is_left(self) -> None:
        block = self.laid_out()
        body = {
            "name": "Bank",
            "crop_id": sunflower().pk,
            "kind": "other cultivar",
            "year": 2027,
            "seen_on": str(self.ctx.today),
            "corners_m": NEAR,
        }
        self.post("/neighbours", body)
        title = f"isolation of {block.batch.code}"
        told = self.one(title)
        self.assertEqual(told["sentence"], "Long field: a neighbour stands 420 m away where 500 m are asked.")
        self.assertEqual(told["link"], f"/seedcrops/{block.pk}/isolation")
        version = self.get(f"/seed-blocks/{block.pk}/isolation")["version"]
        self.post(f"/seed-blocks/{block.pk}/strip", {"version": version})
        self.assertNotIn(title, self.waits())

    def test_a_gap_waits_until_it_is_answered_or_over(self) -> None:
        block = self.sown()
        self.on(date(2027, 6, 24))
        for role, day in (("F", "2027-06-17"), ("M", "2027-06-24")):
            self.post(
                f"/seed-blocks/{block.pk}/seen", {"role": role, "stage": "star-bud", "on": day, "client_uuid": uid()}
            )
        title = f"flowering of {block.batch.code}"
        self.assertIn("the male is", self.one(title)["sentence"])
        match = self.get(f"/seed-blocks/{block.pk}")["flowering"]["match"]
        waters = next(r for r in match["remedies"] if r["name"].startswith("Irrigate"))
        chosen = {"remedy_id": waters["id"], "chosen": True, "client_uuid": uid()}
        self.post(f"/seed-blocks/{block.pk}/remedies", chosen)
        self.assertNotIn(title, self.waits())
        self.post(f"/seed-blocks/{block.pk}/remedies", {**chosen, "chosen": False, "client_uuid": uid()})
        self.assertIn(title, self.waits())
        self.on(date.fromisoformat(max(p["first"] for p in match["parents"])) + timedelta(days=1))
        self.assertNotIn(title, self.waits())

    def test_a_visit_waits_from_three_days_before_it_until_it_is_signed(self) -> None:
        block = self.sown()
        visit = block.inspections.get(number=1)
        self.on(visit.planned_on - timedelta(days=4))
        title = f"inspect {block.batch.code}"
        self.assertNotIn(title, self.waits())
        visit.refresh_from_db()
        self.on(visit.planned_on - timedelta(days=3))
        self.assertEqual(self.one(title)["by"], str(Inspection.objects.get(pk=visit.pk).planned_on))
        self.count_all(visit.pk, off_types=1)
        self.assertIn(title, self.waits())
        self.post(f"/inspections/{visit.pk}/sign", {"decision": "accept"})
        self.assertNotIn(title, self.waits())

    def test_a_lot_waits_for_its_test_its_repeat_and_its_verdict(self) -> None:
        block = self.sown()
        self.on(date(2027, 7, 1))
        lot = self.clean_lot(block)
        self.assertEqual(self.waits("lots"), [f"test {lot.code}"])
        self.result(lot, "germination", normal=[78, 82, 85, 95])
        self.assertEqual(self.waits("lots"), [f"repeat {lot.code}"])
        self.assertIn("differ by 17 %", self.one(f"repeat {lot.code}")["sentence"])
        for kind in ("germination", "purity", "moisture", "other_seeds"):
            self.result(lot, kind)
        self.assertEqual(self.waits("lots"), [f"judge {lot.code}"])
        self.accept_all(block)
        self.decide(lot, "release")
        self.assertEqual(self.waits("lots"), [])

    def test_a_rejected_lot_asks_for_nothing_more(self) -> None:
        lot = self.clean_lot(self.sown())
        self.decide(lot, "reject", reason="weevils")
        self.assertEqual(self.waits("lots"), [])

    def test_an_ended_block_asks_for_nothing(self) -> None:
        block = self.sown()
        self.on(date(2027, 6, 30))
        self.post(f"/batches/{block.batch_id}/end", {"cause": "hail"})
        self.assertEqual(self.waits("seedcrops"), [])


class WetLoad(DrilledCase):
    def test_a_wet_load_is_the_first_thing_in_the_morning_until_it_is_dried(self) -> None:
        block = self.sown_block()
        self.on(date(2028, 7, 10))
        wet = self.load(block, on="2028-07-10", moisture_percent=20.6)["loads"][-1]
        lot = Lot.objects.get(pk=wet["lot_id"])
        told = next(one for one in self.get("/season-line")["decisions"] if one["room"] == "lots")
        self.assertEqual((told["title"], told["by"], told["action"]), (f"dry {lot.code}", "2028-07-10", "Dry it"))
        self.assertIn("20.6 %, over the 20 % of intake", told["sentence"])
        self.post(f"/lots/{lot.pk}/drying", {"on": "2028-07-10", "to_percent": 16, "client_uuid": uid()})
        self.assertNotIn(f"dry {lot.code}", titles(self.get("/season-line")["decisions"], "lots"))


class PlantStory(HouseCase):
    def waits(self, room: str) -> list[str]:
        return titles(self.get("/season-line")["decisions"], room)

    def test_an_order_without_a_batch_one_too_late_and_one_overdue(self) -> None:
        self.assertEqual(self.get("/season-line")["decisions"], [])
        line = take_order(self.ctx, order="7")
        self.assertEqual(self.waits("orders"), ["order 7"])
        self.post("/batches/plan-lines", {"lines": [line.pk]})
        self.assertEqual(self.waits("orders"), [])
        soon = take_order(self.ctx, order="8", due="2027-07-09")
        self.post("/batches/plan-lines", {"lines": [soon.pk]})
        told = next(one for one in self.get("/season-line")["decisions"] if one["title"] == "order 8")
        self.assertIn("Cannot be met", told["sentence"])
        advance(self.ctx, date(2027, 7, 10))
        self.assertEqual(self.waits("deliveries"), ["order 8 overdue"])

    def test_a_card_without_a_lot_waits_from_a_week_before_its_sowing(self) -> None:
        line = take_order(self.ctx)
        self.post("/batches/plan-lines", {"lines": [line.pk]})
        batch = Batch.objects.get()
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow - timedelta(days=7))
        self.assertEqual(self.waits("sowing"), [])
        advance(self.ctx, sow - timedelta(days=6))
        self.assertEqual(self.waits("sowing"), [f"lot for {batch.code}"])
        lot = seed_lot(self.ctx)
        seen = self.post(f"/batches/{batch.pk}/preview", {"lot_id": lot.pk})
        self.post(f"/batches/{batch.pk}/keep", {"version": seen["version"], "change": {"lot_id": lot.pk}})
        self.assertEqual(self.waits("sowing"), [])

    def test_old_seed_waits_for_a_test_and_late_tasks_are_counted(self) -> None:
        lot = seed_lot(self.ctx)
        self.assertEqual(self.waits("lots"), [])
        advance(self.ctx, date(2028, 3, 20))
        self.assertEqual(self.waits("lots"), [f"test {lot.code}"])
        self.post(f"/lots/{lot.pk}/tests", {"kind": "germination", "value": 0.8, "tested_on": "2028-03-19"})
        self.assertEqual(self.waits("lots"), [])
        self.post("/tasks", {"title": "Mend the door", "due": "2028-03-18", "part_of_day": "morning"})
        self.assertEqual(self.waits("diary"), ["late tasks"])

    def test_the_most_urgent_comes_first_and_rooms_count_what_waits_in_them(self) -> None:
        for number, due in (("1", "2027-W40"), ("2", "2027-W38"), ("3", "2027-W44")):
            take_order(self.ctx, order=number, due=due)
        line = self.get("/season-line")
        self.assertEqual(titles(line["decisions"], "orders"), ["order 2", "order 1", "order 3"])
        room = next(one for one in line["rooms"] if one["room"] == "orders")
        self.assertEqual(room["waiting"], 3)


class Blocks(SeedCase):
    def test_the_brief_asks_the_same_few_questions_however_many_blocks_there_are(self) -> None:
        """Blocks, their visits, remedies and neighbours are loaded once, not once each."""
        from django.db import connection
        from django.test.utils import CaptureQueriesContext

        def asked() -> int:
            with CaptureQueriesContext(connection) as queries:
                self.get("/season-line")
            return len(queries)

        self.laid_out()
        self.get("/season-line")
        one = asked()
        self.laid_out(field="Far field", order="two")
        self.assertEqual(SeedBlock.objects.count(), 2)
        self.assertLessEqual(asked(), one)
