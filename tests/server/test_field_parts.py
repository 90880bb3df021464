"""Inspection beyond the count: other grounds, dispensation, a part rejected; strips and hail counted one way."""

import csv
import io
from datetime import date
from typing import Any

from aldrip.accounts.models import Role
from aldrip.batches.models import Batch
from aldrip.lots.models import Lot
from aldrip.orders.models import OrderLine
from aldrip.places.ground import polygon_of
from aldrip.places.models import Site
from aldrip.seedcrops.flowering import match_of
from aldrip.seedcrops.models import Inspection, SeedBlock
from tests.server.house import member, uid
from tests.server.seed_house import SeedCase, parent_seed, sunflower


def rows_of_file(case: SeedCase, block: SeedBlock) -> list[dict[str, str]]:
    text = case.client.get(f"/api/seed-blocks/{block.pk}/rows.csv").content.decode()
    return list(csv.DictReader(io.StringIO(text)))


class Fields(SeedCase):
    block: SeedBlock

    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.live_to_july()

    def expected(self) -> float:
        return float(Batch.objects.get(pk=self.block.batch_id).expected) / 1000

    def first(self) -> Inspection:
        found = self.block.inspections.order_by("number").first()
        assert found is not None
        return found

    def part(self, visit: int, status: int = 200, **more: Any) -> Any:
        body = {"side": "east", "metres": "30", "reason": "volunteers along the track", **more}
        return self.post(f"/inspections/{visit}/reject-part", body, status=status)

    def dispense(self, visit: int, status: int = 200, **more: Any) -> Any:
        body = {"given_by": "R. Anning, letter 27/114", "reason": "hail on the day, seen two days before", **more}
        return self.post(f"/inspections/{visit}/dispense", body, status=status)

    def test_a_field_that_counts_well_is_rejected_on_other_grounds_with_the_reason_alone(self) -> None:
        visit = self.first()
        counted = self.count_all(visit.pk, off_types=1)
        self.assertEqual(counted["choices"], ["accept"])
        bare = self.post(f"/inspections/{visit.pk}/sign", {"decision": "reject"}, status=422)
        self.assertEqual(bare["errors"][0]["code"], "missing")
        body = {"decision": "reject", "reason": "another hybrid in the planter's last box"}
        signed = self.post(f"/inspections/{visit.pk}/sign", body)
        self.assertIn("On other grounds: another hybrid", signed["sentence"])
        self.assertEqual(OrderLine.objects.get().chance, 0.0)

    def test_a_count_that_is_not_full_may_be_rejected_on_other_grounds_too(self) -> None:
        visit = self.first()
        self.post(f"/inspections/{visit.pk}/begin")
        self.post(f"/inspections/{visit.pk}/sign", {"decision": "downgrade", "reason": "x"}, status=422)
        self.post(f"/inspections/{visit.pk}/sign", {"decision": "reject", "reason": "stood under water"})
        self.assertEqual(Inspection.objects.get(pk=visit.pk).decision, "reject")

    def test_a_visit_is_dispensed_with_by_name_and_never_the_last(self) -> None:
        first, second, third = self.block.inspections.order_by("number")
        self.assertEqual(self.dispense(second.pk, 422, given_by=" ")["errors"][0]["code"], "missing")
        self.assertEqual(self.dispense(second.pk, 422, reason="")["errors"][0]["code"], "missing")
        signed = self.dispense(second.pk)
        self.assertIn("Dispensed with by R. Anning, letter 27/114", signed["sentence"])
        self.assertIn("Covers “at flowering”", signed["sentence"])
        self.assertEqual(self.dispense(second.pk, 422)["errors"][0]["code"], "closed")
        self.dispense(third.pk)
        self.assertEqual(self.dispense(first.pk, 422)["errors"][0]["code"], "last_one")
        self.client.force_login(member(self.ctx, "lil", Role.LABORATORY))
        self.dispense(first.pk, 403)

    def test_a_visit_that_answers_for_a_failed_count_is_not_dispensed_with(self) -> None:
        visit = self.first()
        self.count_all(visit.pk, off_types=40)
        self.post(f"/inspections/{visit.pk}/sign", {"decision": "rogue"})
        again = Inspection.objects.get(follows=visit)
        self.assertEqual(self.dispense(again.pk, 422)["errors"][0]["code"], "must_be_counted")

    def test_a_part_that_is_rejected_takes_its_kilos_and_the_rest_is_inspected_again(self) -> None:
        """150 m square, 30 m from the east: a fifth goes."""
        before, visit = self.expected(), self.first()
        self.count_all(visit.pk, off_types=40)
        self.assertEqual(self.part(visit.pk, 422, reason="")["errors"][0]["code"], "missing")
        self.assertEqual(self.part(visit.pk, 422, metres="150")["errors"][0]["code"], "nothing_left")
        self.assertEqual(self.part(visit.pk, 422, side="up")["errors"][0]["code"], "not_a_choice")
        signed = self.part(visit.pk)
        self.assertEqual(signed["decision"], "part")
        self.assertIn("0.45 ha", signed["sentence"])
        self.assertAlmostEqual(self.expected() / before, 0.8, delta=0.005)
        again = Inspection.objects.get(follows=visit)
        self.assertEqual(again.state, "planned")
        shown = self.post(f"/inspections/{again.pk}/begin")
        east = max(p[0] for p in shown["outline"]) - 30
        self.assertTrue(shown["points"] and all(point[0] < east for point in shown["points"]))
        self.assertAlmostEqual(min(p[0] for p in shown["gone"][0][0]), east, delta=0.1)
        self.count_all(again.pk, off_types=40)
        self.part(again.pk, side="north", metres="75")
        rows = self.get(f"/seed-blocks/{self.block.pk}")["rows"]
        for line, metres in rows["metres"].items():
            self.assertAlmostEqual(rows["metres_left"][line] / metres, 0.4, delta=0.03)
        written = rows_of_file(self, self.block)
        counts = sum(float(row["counts_m"]) for row in written) / sum(float(row["length_m"]) for row in written)
        self.assertAlmostEqual(counts, 0.4, delta=0.01)
        self.assertEqual(self.client.get(f"/api/seed-blocks/{self.block.pk}/rows.pdf").status_code, 200)
        self.assertAlmostEqual(self.expected() / before, 0.4, delta=0.005)
        self.assertEqual(self.part(again.pk, 422)["errors"][0]["code"], "closed")

    def test_once_seed_came_in_no_part_is_rejected_apart(self) -> None:
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{self.block.pk}/male-out",
            {"on": "2027-08-20", "how": "cut and destroyed", "client_uuid": uid()},
        )
        self.load(self.block, on="2027-09-10")
        visit = self.first()
        self.post(f"/inspections/{visit.pk}/begin")
        self.assertEqual(self.part(visit.pk, 422)["errors"][0]["code"], "taken_in")

    def test_what_a_strip_is_seen_to_cost_is_what_it_costs_after_hail_as_well(self) -> None:
        """S15 with other numbers: 3,000 m² of hail before, a neighbour 475 m east of a field that asks for 500."""
        batch = Batch.objects.get(pk=self.block.batch_id)
        body = {
            "lost": "3000",
            "cause": "hail",
            "on": str(self.ctx.today),
            "client_uuid": uid(),
            "version": batch.version,
        }
        self.post(f"/batches/{batch.pk}/losses", body)
        corners = [(625.0, 0.0), (700.0, 0.0), (700.0, 150.0), (625.0, 150.0)]
        self.post(
            "/neighbours",
            {
                "name": "Track side",
                "crop_id": sunflower().pk,
                "kind": "other cultivar",
                "year": 2027,
                "seen_on": str(self.ctx.today),
                "corners_m": corners,
            },
        )
        seen = self.get(f"/seed-blocks/{self.block.pk}/isolation")
        cure = next(one for one in seen["remedies"] if one["kind"] == "strip")
        self.assertTrue(cure["possible"], cure)
        self.block.refresh_from_db()
        self.post(f"/seed-blocks/{self.block.pk}/strip", {"version": self.block.version})
        self.assertAlmostEqual(self.expected(), cure["kg_after"], delta=0.002 * cure["kg_after"])


class Papers(SeedCase):
    def test_the_rows_of_the_file_add_up_to_the_metres_of_the_plan(self) -> None:
        block = self.laid_out(kilos="500 kg")
        shown = self.get(f"/seed-blocks/{block.pk}")
        rows = rows_of_file(self, block)
        for part in shown["parents"]:
            written = sum(float(row["length_m"]) for row in rows if row["line"] == part["role"])
            self.assertAlmostEqual(written, part["metres"], delta=0.01 * part["metres"])

    def test_seed_of_a_class_that_may_not_be_sown_is_no_stock(self) -> None:
        block = self.laid_out(kilos="500 kg")
        parent_seed(self.ctx, "AA-1", seed_class="certified-1", label="C-9")
        rung = next(r for r in self.get(f"/seed-blocks/{block.pk}")["generations"]["rungs"] if r["key"] == "seed.F")
        self.assertIn("0.0 kg in stock", rung["words"])
        self.assertIn("12.0 kg more are of a class", rung["words"])

    def test_at_maturity_is_a_week_before_the_crop_is_cut_whatever_the_crop(self) -> None:
        block = self.laid_out(kilos="500 kg")
        visit = block.inspections.get(stage="maturity")
        first = match_of(SeedBlock.objects.get(pk=block.pk)).first
        # 14 days in flower and 35 to ripen, by the method.
        self.assertLessEqual(abs((visit.planned_on - first).days - (14 + 35 - 7)), 3)

    def test_two_fields_that_lie_on_one_another_are_asked_about(self) -> None:
        site = Site.objects.get(organisation=self.ctx.organisation)
        ring = [(75.0, 0.0), (240.0, 0.0), (240.0, 150.0), (75.0, 150.0)]
        body = {"name": "Half over", "kind": "field", "site_id": site.pk, "outline": polygon_of(site, ring)}
        answer = self.client.post("/api/places", body, content_type="application/json")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("m² of it lie on Long field", answer.json()["errors"][0]["message"])
        answer = self.client.post("/api/places", body, content_type="application/json", headers={"X-Sure": "overlap"})
        self.assertEqual(answer.status_code, 200)

    def test_a_field_that_is_taken_says_until_when_it_really_is(self) -> None:
        block = self.sown(kilos="500 kg")
        cut = block.batch.stages.get(key="harvest").planned.upper
        _, other = self.order(order="two", kilos="300 kg")
        answer = self.post("/seed-blocks", {"batch_id": other.pk, "field_id": block.field_id}, status=422)
        self.assertIn(f"until {cut}", answer["errors"][0]["message"])


class AtTheDoor(SeedCase):
    def test_a_dirty_or_infested_load_is_asked_about_and_taken_in_apart_and_held(self) -> None:
        """S17 with other numbers: 81 % pure with bruchid beetles."""
        block = self.sown(kilos="500 kg")
        self.on(date(2027, 9, 10))
        out = {"on": "2027-08-20", "how": "cut and destroyed", "client_uuid": uid()}
        self.post(f"/seed-blocks/{block.pk}/male-out", out)
        body = {
            "on": "2027-09-10",
            "gross": "3300 kg",
            "tare": "2900 kg",
            "moisture_percent": 12.1,
            "purity_percent": 81,
            "pests": "bruchid beetles",
            "equipment_clean": True,
            "client_uuid": uid(),
        }
        path = f"/api/seed-blocks/{block.pk}/harvest"
        asked = self.client.post(path, body, content_type="application/json", headers={"X-Sure": "harvest_day,load"})
        self.assertEqual(asked.status_code, 422)
        message = asked.json()["errors"][0]["message"]
        self.assertIn("81 % pure in the sample, 9 % under the 90 %", message)
        self.assertIn("bruchid beetles seen", message)
        self.assertEqual(Lot.objects.filter(status="raw").count(), 0)
        taken = self.post(f"/seed-blocks/{block.pk}/harvest", body)["loads"][-1]
        self.assertEqual(taken["decision"], "apart")
        lot = Lot.objects.get(pk=taken["lot_id"])
        self.assertIn("bruchid beetles", lot.on_hold)
        clean = Lot.objects.get(pk=self.load(block, on="2027-09-10")["loads"][-1]["lot_id"])
        both = {
            "on": "2027-09-10",
            "lots": [{"lot_id": clean.pk, "kg": "100"}, {"lot_id": lot.pk, "kg": "100"}],
            "clean": "150",
            "screenings": "48",
            "client_uuid": uid(),
        }
        self.assertEqual(self.post("/cleaning", both, status=422)["errors"][0]["code"], "on_hold")
        self.post(
            f"/holds/{lot.holds.get().pk}/lift",
            {"reason": "fumigated by a licensed firm, none alive", "client_uuid": uid()},
        )
        self.assertEqual(self.post("/cleaning", both, status=422)["errors"][0]["code"], "apart")
        alone = {**both, "lots": [{"lot_id": lot.pk, "kg": "400"}], "clean": "310", "screenings": "85"}
        made = self.post("/cleaning", {**alone, "client_uuid": uid()})
        self.assertEqual(Lot.objects.get(pk=made["id"]).on_hold, "")
