"""A crop drilled at a plant target and combined: the other way of growing seed, by the same house."""

import csv
import io
import json
from datetime import date
from typing import Any

from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.diary.models import Task
from aldrip.lots import services as lots
from aldrip.lots.models import Intake, Lot
from aldrip.lots.moving import shown_of
from aldrip.methods.models import Crop
from aldrip.methods.services import LineSpec, add_line, save_field_standard, save_rule
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip.seedcrops.models import SeedBlock
from aldrip_core.units import Quantity, Unit
from tests.server.house import take_order, uid
from tests.server.seed_house import FIELD, NEAR, SeedCase

AUTUMN = date(2027, 9, 20)
LIMITS = [
    {
        "attribute": "off_types",
        "words": "off-types",
        "limit": 0.01,
        "decision": "reject_number",
        "is_plant": True,
        "cures": True,
    }
]


class DrilledCase(SeedCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.lupin = Crop.objects.get(slug="white-lupin")
        cls.cultivar = add_line(cls.ctx, LineSpec(cls.lupin.pk, "Saltmarsh", 340))
        save_field_standard(
            cls.ctx,
            {
                "crop_id": cls.lupin.pk,
                "seed_class": "certified-1",
                "name": "Lupin field",
                "source": "invented",
                "first_areas": 5,
                "first_ha": 2,
                "per_ha": 2,
                "plants_per_area": 100,
                "limits": LIMITS,
            },
        )

    def setUp(self) -> None:
        super().setUp()
        self.on(AUTUMN)
        self.seed = lots.receive(
            self.ctx,
            crop_id=self.lupin.pk,
            line_id=self.cultivar.pk,
            quantity=Quantity.of(900_000, Unit.GRAM),
            germination=0.91,
            tgw_g=338,
            tested_on=date(2027, 8, 28),
            seed_class="basic",
            label_number="B-26-0311",
            received_on=date(2027, 9, 10),
        )

    def ordered(self) -> tuple[OrderLine, Batch]:
        line = take_order(
            self.ctx,
            crop="White lupin",
            cultivar="Saltmarsh",
            form="seed",
            quantity="2 t",
            due="2028-W30",
            until="2028-W34",
        )
        plan_lines(self.ctx, [line.pk])
        line.refresh_from_db()
        return line, Batch.objects.get(allocations__order_line=line)

    def drilled_block(self) -> SeedBlock:
        _, batch = self.ordered()
        field = Place.objects.get(name="Long field")
        return SeedBlock.objects.get(
            pk=self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": field.pk})["block_id"]
        )

    def sown_block(self) -> SeedBlock:
        block = self.drilled_block()
        self.on(date(2027, 10, 19))
        self.post(
            f"/seed-blocks/{block.pk}/sown",
            {"role": "S", "lot_id": self.seed.pk, "kg": "345", "on": "2027-10-19", "client_uuid": uid()},
        )
        return block


class Drilling(DrilledCase):
    def test_the_seed_rate_follows_the_lots_own_germination_by_hand(self) -> None:
        """35 plants ÷ (0.91 × 0.85) = 45.249 seeds/m²; × 338 g ÷ 100 = 152.94 kg/ha; × 2.25 ha = 344.12 kg."""
        block = self.drilled_block()
        seen = self.get(f"/seed-blocks/{block.pk}")
        self.assertAlmostEqual(seen["drill"]["seeds_per_m2"], 45.2489, places=3)
        self.assertAlmostEqual(seen["drill"]["rate_kg_per_ha"], 152.9412, places=3)
        self.assertAlmostEqual(seen["drill"]["seed_kg"], 344.118, places=0)
        self.assertAlmostEqual(seen["drill"]["seeds_per_metre_of_row"], 45.2489 * 0.125, places=4)
        self.assertEqual([p["role"] for p in seen["parents"]], ["S"])
        self.assertAlmostEqual(seen["parents"][0]["seed_kg"], seen["drill"]["seed_kg"])
        self.assertTrue(seen["working"])
        self.assertEqual((seen["has_male"], seen["rows"]["rows"], seen["layout"]["pattern"]), (False, [], ""))

    def test_a_thicker_stand_is_proposed_before_it_is_kept(self) -> None:
        block = self.drilled_block()
        before = self.get(f"/seed-blocks/{block.pk}")
        seen = self.post(f"/seed-blocks/{block.pk}/preview", {"target_per_m2": 42})
        figures = {one["name"]: one for one in seen["figures"]}
        self.assertAlmostEqual(figures["Seed"]["after"] / figures["Seed"]["before"], 42 / 35)
        self.assertEqual(self.get(f"/seed-blocks/{block.pk}"), before)
        told = self.post(f"/seed-blocks/{block.pk}/preview", {"target_per_m2": 0}, status=422)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("target_per_m2", "out_of_range"))
        kept = self.post(f"/seed-blocks/{block.pk}/keep", {"target_per_m2": 42, "version": seen["version"]})
        self.assertEqual(kept["layout"]["target_per_m2"], 42)

    def test_without_heat_sums_it_says_so_and_the_visits_follow_the_planned_stages(self) -> None:
        block = self.drilled_block()
        seen = self.get(f"/seed-blocks/{block.pk}")
        self.assertIsNone(seen["flowering"]["match"])
        self.assertIn("has no heat sum to flowering", seen["flowering"]["problem"])
        flower = block.batch.stages.get(key="flower").planned.lower
        days = list(block.inspections.order_by("number").values_list("planned_on", flat=True))
        self.assertTrue(10 <= (flower - days[0]).days <= 18, (flower, days))
        self.assertGreaterEqual(days[1], flower)
        told = self.post(f"/seed-blocks/{block.pk}/preview", {"sow_on": {"S": "2027-11-08"}})
        self.assertIn("Seed ready", [one["name"] for one in told["figures"]])
        sheet = self.get(f"/inspections/{block.inspections.get(number=1).pk}")
        self.assertIsNone(sheet["shedding_from"])

    def test_it_prints_and_exports_without_rows(self) -> None:
        block = self.drilled_block()
        self.assertTrue(self.get(f"/seed-blocks/{block.pk}/rows.pdf").content.startswith(b"%PDF"))
        self.assertTrue(self.get(f"/seed-blocks/{block.pk}/drill.pdf").content.startswith(b"%PDF"))
        rows = list(csv.reader(io.StringIO(self.get(f"/seed-blocks/{block.pk}/rows.csv").content.decode())))
        self.assertEqual(len(rows), 1)
        answer: Any = self.get(f"/seed-blocks/{block.pk}/rows.geojson")
        features = json.loads(answer.content)["features"] if hasattr(answer, "content") else answer["features"]
        self.assertEqual([f["properties"]["part"] for f in features], ["outline"])

    def test_a_neighbour_too_near_is_a_decision_also_without_heat_sums(self) -> None:
        block = self.drilled_block()
        save_rule(
            self.ctx,
            {
                "crop_id": self.lupin.pk,
                "seed_class": "certified-1",
                "step": "open",
                "kind": "other cultivar",
                "metres": 500,
                "time_allowed": True,
                "time_margin_days": 14,
                "source": "invented",
            },
        )
        body = {
            "name": "Bank",
            "crop_id": self.lupin.pk,
            "kind": "other cultivar",
            "year": 2028,
            "seen_on": str(self.ctx.today),
            "corners_m": NEAR,
        }
        made = self.post("/neighbours", body)["id"]
        line = self.get("/season-line")
        self.assertTrue(any("isolation of" in one["title"] for one in line["decisions"]), line["decisions"])
        delay = self.get(f"/seed-blocks/{block.pk}/isolation")["remedies"][1]
        self.assertEqual(
            (delay["possible"], delay["sentence"]), (False, "When does Bank flower? Enter it with the neighbour.")
        )
        self.call("patch", f"/neighbours/{made}", {**body, "flowers_from": "2028-05-01", "flowers_to": "2028-05-20"})
        delay = self.get(f"/seed-blocks/{block.pk}/isolation")["remedies"][1]
        self.assertIn("heat sums are not known", delay["sentence"])


class NextYear(DrilledCase):
    def test_the_season_line_reaches_to_the_end_of_what_is_planned(self) -> None:
        usual = self.get("/season-line")
        line = take_order(
            self.ctx, crop="White lupin", cultivar="Saltmarsh", form="seed", quantity="1 t", due="2029-W33"
        )
        plan_lines(self.ctx, [line.pk])
        batch = Batch.objects.get(allocations__order_line=line)
        seen = self.get("/season-line")
        last = batch.stages.order_by("-order")[0].planned.upper
        self.assertLess(date.fromisoformat(usual["end"]), last)
        end = date.fromisoformat(seen["end"])
        self.assertTrue(0 < (end - last).days <= 7)
        self.assertEqual(len(seen["fullness"]), (end - date.fromisoformat(seen["start"])).days)


class Combining(DrilledCase):
    def accepted(self) -> SeedBlock:
        block = self.sown_block()
        self.on(date(2028, 6, 10))
        self.accept_all(block)
        self.on(date(2028, 7, 10))
        return block

    def test_no_male_bars_the_combine_and_a_wet_load_is_dried_before_it_is_cleaned(self) -> None:
        block = self.accepted()
        wet = self.load(block, on="2028-07-10", moisture_percent=20.6)["loads"][-1]
        self.assertEqual(wet["decision"], "dry now")
        told = self.post(
            f"/seed-blocks/{block.pk}/male-out",
            {"on": "2028-07-01", "how": "cut and destroyed", "client_uuid": uid()},
            status=422,
        )
        self.assertEqual(told["errors"][0]["code"], "no_male")
        lot = Lot.objects.get(pk=wet["lot_id"])
        task = Task.objects.get(subject=lot.uuid, kind="dry")
        self.assertEqual(task.title, "Dry at once from 20.6 to 16 %")
        clean = {
            "on": "2028-07-10",
            "lots": [{"lot_id": lot.pk, "kg": "1800"}],
            "clean": "1700",
            "screenings": "90",
            "client_uuid": uid(),
        }
        self.assertEqual(self.post("/cleaning", clean, status=422)["errors"][0]["code"], "too_wet")
        self.post(f"/lots/{lot.pk}/drying", {"on": "2028-07-10", "to_percent": 16, "client_uuid": uid()})
        lot.refresh_from_db()
        # 1800 kg × (100 - 20.6) ÷ (100 - 16), by the mass of dry matter.
        self.assertAlmostEqual(shown_of(lot), 1800 * 79.4 / 84, places=3)
        self.assertEqual(Task.objects.get(pk=task.pk).state, "done")
        self.assertEqual(Intake.objects.get(lot=lot).limit_percent, 20)

    def test_two_loads_are_one_lot_whose_origin_is_the_seed_that_was_drilled(self) -> None:
        block = self.accepted()
        raws = [self.load(block, on="2028-07-10", moisture_percent=15.5)["loads"][-1]["lot_id"] for _ in range(2)]
        clean = {
            "on": "2028-07-10",
            "lots": [{"lot_id": pk, "kg": "1800"} for pk in raws],
            "clean": "3400",
            "screenings": "195",
            "client_uuid": uid(),
        }
        made = self.post("/cleaning", clean)["id"]
        family = {row["code"]: row for row in self.get(f"/lots/{made}/descent")}
        self.assertIn(self.seed.code, family)
        self.assertEqual(family[self.seed.code]["level"], -2)
        self.assertEqual(len(family), 4)
        lot = Lot.objects.get(pk=made)
        self.assertEqual(lot.balance, 3_400_000)
        for pk in raws:
            self.assertEqual(float(Lot.objects.get(pk=pk).balance), 0)

    def test_released_by_its_own_standard_and_the_batch_is_ready(self) -> None:
        block = self.accepted()
        raw = self.load(block, on="2028-07-10", moisture_percent=15.5)["loads"][-1]["lot_id"]
        made = self.post(
            "/cleaning",
            {
                "on": "2028-07-10",
                "lots": [{"lot_id": raw, "kg": "1800"}],
                "clean": "1700",
                "screenings": "95",
                "client_uuid": uid(),
            },
        )["id"]
        lot = Lot.objects.get(pk=made)
        for kind, more in (
            ("germination", {"normal": [92, 90, 94, 91]}),
            ("purity", {}),
            ("moisture", {"duplicates": [15.4, 15.5]}),
            ("other_seeds", {}),
        ):
            self.result(lot, kind, **more)
        self.decide(lot, "release")
        lot.refresh_from_db()
        block.batch.refresh_from_db()
        self.assertEqual(
            (lot.status, lot.seed_class, block.batch.state), ("released", "certified-1", Batch.State.READY)
        )

    def test_the_field_takes_no_crop_of_its_kind_again_within_two_seasons(self) -> None:
        block = self.accepted()
        Place.objects.get(pk=block.field_id).land_uses.create(
            organisation=self.ctx.organisation, year=2027, crop="White lupin", family="Fabaceae"
        )
        self.post(f"/batches/{block.batch_id}/end", {"cause": "hail"})
        self.on(AUTUMN.replace(year=2028))
        _, batch = self.ordered_again("2029-W33")
        told = self.post(
            "/seed-blocks", {"batch_id": batch.pk, "field_id": block.field_id, "corners_m": FIELD}, status=422
        )["errors"][0]
        self.assertEqual(told["code"], "land_history", told)
        self.assertIn("2027", told["message"])

    def ordered_again(self, due: str = "2028-W33") -> tuple[OrderLine, Batch]:
        line = take_order(
            self.ctx, order="9", crop="White lupin", cultivar="Saltmarsh", form="seed", quantity="1 t", due=due
        )
        plan_lines(self.ctx, [line.pk])
        return line, Batch.objects.get(allocations__order_line=line)
