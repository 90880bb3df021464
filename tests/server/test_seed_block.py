"""A seed block: planned from kilos, laid out, changed, sown; flowering that follows what is seen; isolation."""

import json
from dataclasses import replace
from datetime import date, timedelta
from typing import Any

from django.db import transaction

from aldrip.base.errors import Refused
from aldrip.batches.editing import apply_plan
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchStage, Occupancy
from aldrip.batches.saved import load_batch, request_of
from aldrip.diary.models import Task
from aldrip.lots.models import Lot
from aldrip.methods.models import ClassScheme
from aldrip.orders.models import OrderLine
from aldrip.places.models import LandUse, Place, Site
from aldrip.places.services import record_land_use
from aldrip.seedcrops.models import Inspection, Neighbour, SeedBlock
from aldrip_core.batch_plan import Stand, plan_batch
from tests.server.house import uid
from tests.server.seed_house import FIELD, NEAR, SPRING, SeedCase, parent_seed, sunflower


class FromKilosToGround(SeedCase):
    def test_kilos_are_worked_back_to_ground_on_the_same_ladder(self) -> None:
        line, batch = self.order("2.4 t")
        self.assertEqual((line.quantity, line.unit, line.seed_class), (2_400_000, "kg", "certified-1"))
        stages = list(batch.stages.order_by("order"))
        kept = 1.0
        for stage in stages:
            kept *= (stage.alpha if stage.beta is None else stage.alpha / (stage.alpha + stage.beta)) * stage.multiply
        self.assertGreater(batch.start * kept, 2400)
        self.assertGreaterEqual(batch.planned_chance, 0.95)
        self.assertEqual({stage.planned.lower.year for stage in stages if stage.order == 0}, {2027})
        rungs = {rung["key"]: rung for rung in self.get(f"/batches/{batch.pk}")["rungs"]}
        self.assertEqual((rungs["start"]["unit"], rungs["start"]["value"]), ("m²", batch.start))

    def test_a_class_is_read_by_name_and_an_unknown_one_is_told(self) -> None:
        line, _ = self.order(seed_class="Certified 1")
        self.assertEqual(line.seed_class, "certified-1")
        row = {
            "customer": "X",
            "crop": "Sunflower",
            "cultivar": "Testhybrid",
            "form": "seed",
            "quantity": "5 kg",
            "due": "2027-W44",
        }
        told = self.post("/orders", {"rows": [{**row, "seed_class": "superb"}]}, status=422)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("rows.0.seed_class", "unknown_class"))
        told = self.post("/orders", {"rows": [{**row, "quantity": "2.5 bushels of it"}]}, status=422)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("rows.0.quantity", "unknown_unit"))
        for typed, grams, of in (("250 g", 250, "g"), ("2.5 kg", 2500, "kg"), ("1.2 t", 1_200_000, "kg")):
            made = self.post("/orders", {"rows": [{**row, "quantity": typed}]})["lines"][0]
            kept = OrderLine.objects.get(pk=made)
            self.assertEqual((kept.quantity, kept.unit), (grams, of))

    def test_a_field_takes_one_crop_at_a_time(self) -> None:
        block = self.sown()
        stages = BatchStage.objects.filter(batch=block.batch, place=block.field)
        self.assertEqual(stages.count(), 5)
        self.assertTrue(all(Occupancy.objects.filter(stage__batch=block.batch).values_list("whole", flat=True)))
        _, second = self.order(order="second")
        self.assertEqual(second.stages.get(key="sow").place, Place.objects.get(name="Far field"))

    def test_land_history_refuses_a_field_and_an_inspected_crop_excuses(self) -> None:
        _, batch = self.order()
        place = Place.objects.get(name="Long field")
        record_land_use(self.ctx, place.pk, year=2026, crop="Sunflower")
        body = {"batch_id": batch.pk, "field_id": place.pk}
        told = self.post("/seed-blocks", body, status=422)["errors"][0]
        self.assertEqual(told["code"], "land_history")
        self.assertIn("not before 2029", told["message"])
        self.assertFalse(SeedBlock.objects.exists())
        LandUse.objects.update(inspected_clean=True)
        self.post("/seed-blocks", body)

    def test_a_hybrid_without_parents_a_field_without_outline_and_a_plant_batch_are_refused(self) -> None:
        _, batch = self.order()
        _, plugs = self.planned(due="2027-W36")
        site = Site.objects.get()
        bare = Place.objects.create(
            organisation=self.ctx.organisation, site=site, name="Bare", kind="field", sharing="whole"
        )
        self.assertEqual(
            self.post("/seed-blocks", {"batch_id": plugs.pk}, status=422)["errors"][0]["code"], "no_seed_crop"
        )
        told = self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": bare.pk}, status=422)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("outline", "missing"))
        corners = [[0, 0], [120, 0], [120, 120], [0, 120]]
        made = self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": bare.pk, "corners_m": corners})
        self.assertAlmostEqual(made["area_m2"], 14_400, delta=15)

    def test_outlines_are_judged_where_they_are_entered(self) -> None:
        site = Site.objects.get()
        base = {"name": "New", "kind": "field", "site_id": site.pk}
        for more, code in (
            ({"corners_m": [[0, 0], [10, 10], [10, 0], [0, 10]]}, "not_a_field"),
            ({"corners_m": [[0, 0], [10, 10]]}, "too_few"),
            ({"outline": {"type": "Point", "coordinates": [1, 2]}}, "not_geojson"),
            (
                {"outline": {"type": "Polygon", "coordinates": [[[41.6, -14.2], [41.7, -14.2], [41.7, -14.1]]]}},
                "far_away",
            ),
            ({"outline": {"type": "Polygon", "coordinates": [[["a", 2], [1, 2], [3, 4]]]}}, "not_geojson"),
        ):
            self.assertEqual(self.post("/places", {**base, **more}, status=422)["errors"][0]["code"], code, more)
        ring = [[-14.2, 41.6], [-14.198, 41.6], [-14.198, 41.601], [-14.2, 41.601]]
        made = self.post(
            "/places", {**base, "outline": {"type": "Feature", "geometry": {"type": "Polygon", "coordinates": [ring]}}}
        )
        self.assertAlmostEqual(made["capacity"], 166.8 * 111.1, delta=80)


class LayoutAndSowing(SeedCase):
    def test_rows_plants_and_kilos_of_the_block(self) -> None:
        block = self.laid_out()
        seen = self.get(f"/seed-blocks/{block.pk}")
        metres = {p["role"]: p["metres"] for p in seen["parents"]}
        self.assertAlmostEqual(sum(metres.values()) * 0.75 / seen["area_m2"], 1, delta=0.01)
        female = next(p for p in seen["parents"] if p["role"] == "F")
        self.assertAlmostEqual(female["seed_kg"], female["metres"] / 0.2 / 0.8 * 55 / 1e6, places=6)
        self.assertEqual(
            [r["key"] for r in seen["generations"]["rungs"]], ["rows", "plants.F", "plants.M", "seed.F", "seed.M"]
        )
        above = seen["generations"]["classes"]
        self.assertEqual([one["seed_class"] for one in above], ["basic", "basic"])
        self.assertAlmostEqual(above[0]["area_ha"], above[0]["kg"] / (600 * 0.8))

    def test_a_change_is_seen_before_it_is_kept_and_a_second_person_is_told(self) -> None:
        block = self.laid_out()
        before = self.get(f"/seed-blocks/{block.pk}")
        seen = self.post(f"/seed-blocks/{block.pk}/preview", {"pattern": "ffmm", "border_rows": 0})
        share = next(f for f in seen["figures"] if f["name"] == "Female share")
        self.assertLess(share["after"], share["before"])
        self.assertEqual(self.get(f"/seed-blocks/{block.pk}")["layout"], before["layout"])
        kept = self.post(f"/seed-blocks/{block.pk}/keep", {"pattern": "FFMM", "version": seen["version"]})
        self.assertEqual(kept["layout"]["pattern"], "FFMM")
        late = self.post(f"/seed-blocks/{block.pk}/keep", {"pattern": "FFFM", "version": seen["version"]}, status=409)
        self.assertEqual(
            (late["code"], late["values"][0]["theirs"], late["values"][0]["yours"]),
            ("changed_meanwhile", "FFMM", "FFFM"),
        )
        for bad, field in (
            ({"pattern": "FX"}, "pattern"),
            ({"border_rows": 400}, "border_rows"),
            ({"row_spacing_m": 0}, "row_spacing_m"),
        ):
            told = self.post(f"/seed-blocks/{block.pk}/preview", bad, status=422)["errors"][0]
            self.assertEqual(told["field"], field)

    def test_the_batch_and_its_space_follow_the_sowing_days_of_the_block(self) -> None:
        block = self.laid_out()
        seen = self.get(f"/seed-blocks/{block.pk}")
        self.post(
            f"/seed-blocks/{block.pk}/keep",
            {"sow_on": {"F": "2027-05-11", "M": "2027-05-14"}, "version": seen["version"]},
        )
        begins = BatchStage.objects.get(batch=block.batch, order=0)
        self.assertEqual(begins.planned.lower, date(2027, 5, 11))
        first = Occupancy.objects.filter(stage__batch=block.batch).order_by("during")[0]
        self.assertEqual(first.during.lower, date(2027, 5, 11))
        self.assertEqual(self.get(f"/seed-blocks/{block.pk}")["sow_on"], "2027-05-11")

    def test_a_kept_change_is_undone_as_a_new_change_and_only_while_nothing_followed(self) -> None:
        block = self.laid_out()
        before = self.get(f"/seed-blocks/{block.pk}")
        self.assertEqual(self.post(f"/seed-blocks/{block.pk}/undo", status=422)["errors"][0]["code"], "nothing_to_undo")
        change = {
            "pattern": "FFM",
            "bearing_deg": 33,
            "in_row_cm": {"F": 25},
            "sow_on": {"M": "2027-04-20"},
            "male_sowings": 2,
            "male_gap_days": 6,
        }
        kept = self.post(f"/seed-blocks/{block.pk}/keep", {**change, "version": before["version"]})
        self.assertEqual((kept["can_undo"], kept["layout"]["male_sowings"]), (True, 2))
        back = self.post(f"/seed-blocks/{block.pk}/undo")
        self.assertEqual((back["layout"], back["can_undo"]), (before["layout"], False))
        self.assertGreater(back["version"], kept["version"])

    def test_the_male_is_sown_so_that_both_flower_together(self) -> None:
        seen = self.get(f"/seed-blocks/{self.laid_out().pk}")
        match = seen["flowering"]["match"]
        self.assertLessEqual(abs(match["gap_days"]), 1)
        self.assertEqual(match["remedy_class"], "none")

    def test_parent_seed_has_its_line_class_and_label(self) -> None:
        block = self.laid_out()
        male = parent_seed(self.ctx, "RR-2")
        certified = parent_seed(self.ctx, "AA-1", seed_class="certified 2")
        bare = parent_seed(self.ctx, "AA-1", label="")
        self.on(date(2027, 4, 15))
        for lot, code in ((male, "other_line"), (certified, "wrong_class"), (bare, "no_label")):
            body = {"role": "F", "lot_id": lot.pk, "kg": "3", "on": "2027-04-15", "client_uuid": uid()}
            self.assertEqual(self.post(f"/seed-blocks/{block.pk}/sown", body, status=422)["errors"][0]["code"], code)
        self.assertEqual(Batch.objects.get(pk=block.batch_id).state, "planned")

    def test_a_sowing_counts_once_and_takes_the_seed_from_stock(self) -> None:
        block = self.laid_out()
        lot = parent_seed(self.ctx, "AA-1")
        self.on(date(2027, 4, 15))
        body = {"role": "F", "lot_id": lot.pk, "kg": "8 lb", "on": "2027-04-15", "client_uuid": uid()}
        for _ in range(2):
            self.post(f"/seed-blocks/{block.pk}/sown", body)
        lot.refresh_from_db()
        self.assertAlmostEqual(float(lot.balance), 12_000 - 8 * 453.59237, places=1)
        self.assertEqual(Batch.objects.get(pk=block.batch_id).state, "sown")
        told = self.post(f"/seed-blocks/{block.pk}/sown", {**body, "kg": "99", "client_uuid": uid()}, status=422)[
            "errors"
        ][0]
        self.assertEqual(told["code"], "not_enough")
        self.assertEqual(self.post(f"/seed-blocks/{block.pk}/preview", {"pattern": "FFM"}).keys() >= {"figures"}, True)
        told = self.post(
            f"/seed-blocks/{block.pk}/keep", {"pattern": "FFM", "version": self.version(block)}, status=422
        )["errors"][0]
        self.assertEqual(told["code"], "happened")

    def version(self, block: SeedBlock) -> int:
        return SeedBlock.objects.get(pk=block.pk).version

    def test_a_seed_crop_is_not_recorded_as_plants_are(self) -> None:
        block = self.sown()
        pk = block.batch_id
        for path, body in (
            ("moved", {"stage": "grow", "on": "2027-04-15"}),
            ("graded", {"good": 5, "on": "2027-04-15", "client_uuid": uid()}),
            ("counts", {"trays": [{"sampled": 9, "found": 8}], "on": "2027-04-15", "client_uuid": uid()}),
            ("sown", {"on": "2027-04-15"}),
        ):
            self.assertIn(
                self.post(f"/batches/{pk}/{path}", body, status=422)["errors"][0]["code"], ("seed_crop", "sown")
            )

    def test_the_row_plan_leaves_as_paper_table_and_geometry(self) -> None:
        block = self.laid_out()
        self.assertTrue(self.get(f"/seed-blocks/{block.pk}/rows.pdf").content.startswith(b"%PDF"))
        rows = self.get(f"/seed-blocks/{block.pk}/rows.csv").content.decode("utf-8-sig").splitlines()
        self.assertEqual(rows[0].split(",")[:4], ["row", "line", "part", "length_m"])
        self.assertGreater(len(rows), 180)
        drawn = json.loads(self.client.get(f"/api/seed-blocks/{block.pk}/rows.geojson").content)
        self.assertEqual(drawn["type"], "FeatureCollection")
        self.assertEqual(
            {f["properties"]["part"] for f in drawn["features"]}, {"outline", "body", "border", "headland"}
        )

    def test_the_plan_cannot_move_a_batch_away_from_its_block(self) -> None:
        block = self.laid_out()
        batch, other = block.batch, Place.objects.exclude(pk=block.field_id).filter(kind="field").first()
        changes: list[dict[str, Any]] = [{"sow_on": "2027-05-11"}, {"shift_days": 5}, {"start": 900}]
        changes += [{"stage": "sow", "place_id": other.pk}] if other else []
        for change in changes:
            told = self.post(f"/batches/{batch.pk}/preview", change, status=422)["errors"][0]
            self.assertEqual(told["code"], "laid_out", change)
            self.post(f"/batches/{batch.pk}/keep", {**change, "version": batch.version}, status=422)
        self.assertIn("Long field", told["message"])
        self.post(f"/batches/{batch.pk}/preview", {"chance": 0.9})

    def test_a_layout_on_the_wrong_field_is_taken_up_and_laid_out_anew(self) -> None:
        block = self.laid_out()
        batch, version = block.batch, self.get(f"/seed-blocks/{block.pk}")["version"]
        visits = Task.objects.filter(subject=batch.uuid, kind="inspect")
        self.assertTrue(visits.exists())
        self.post(f"/seed-blocks/{block.pk}/take-up", {"version": version + 1}, status=409)
        self.post(f"/seed-blocks/{block.pk}/take-up", {"version": version})
        self.assertFalse(SeedBlock.objects.exists() or visits.exists())
        batch.refresh_from_db()
        self.post(f"/batches/{batch.pk}/preview", {"shift_days": 5})
        self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": block.field_id, "bearing_deg": 30})
        self.assertTrue(visits.exists())

    def test_a_field_takes_one_crop_at_a_time_and_the_words_say_which_is_there(self) -> None:
        block = self.laid_out()
        _, second = self.order(order="two")
        body = {"batch_id": second.pk, "field_id": block.field_id}
        told = self.post("/seed-blocks", body, status=422)["errors"][0]
        self.assertEqual(told["code"], "taken")
        self.assertIn(f"Long field carries sunflower {block.batch.code}", told["message"])
        self.assertEqual(SeedBlock.objects.count(), 1)
        self.post("/seed-blocks", {**body, "field_id": Place.objects.get(name="Far field").pk})

    def test_a_crop_is_not_sown_where_another_stands(self) -> None:
        block = self.sown()
        stage = block.batch.stages.order_by("order")[0]
        _, second = self.order(order="two")
        saved = load_batch(self.ctx, second.pk)
        field = (Stand(block.field_id),)
        request = replace(request_of(saved), places={key: field for key in ("sow", "grow", "flower")})
        plan = plan_batch(request, Ground(self.ctx, without=[second.pk]), working=False)
        saved.batch.state = Batch.State.SOWN
        with self.assertRaises(Refused) as told, transaction.atomic():
            apply_plan(self.ctx, saved, plan)
        self.assertEqual((told.exception.errors[0].code, stage.place_id), ("taken", block.field_id))

    def test_a_sown_layout_stays(self) -> None:
        block = self.sown()
        body = {"version": self.get(f"/seed-blocks/{block.pk}")["version"]}
        told = self.post(f"/seed-blocks/{block.pk}/take-up", body, status=422)["errors"][0]
        self.assertEqual((told["code"], "was sown" in told["message"]), ("begun", True))
        self.assertTrue(SeedBlock.objects.exists())


class Flowering(SeedCase):
    def test_a_stage_seen_late_opens_a_gap_moves_the_visits_and_remedies_close_it(self) -> None:
        block = self.sown()
        visit = block.inspections.get(number=2)
        self.on(date(2027, 6, 24))
        body = {"role": "M", "stage": "star-bud", "on": "2027-06-24", "client_uuid": uid()}
        self.post(
            f"/seed-blocks/{block.pk}/seen",
            {"role": "F", "stage": "star-bud", "on": "2027-06-18", "client_uuid": uid()},
        )
        seen = self.post(f"/seed-blocks/{block.pk}/seen", body)
        match = seen["flowering"]["match"]
        self.assertLess(match["gap_days"], -4)
        self.assertEqual(match["remedy_class"], "cultural" if match["gap_days"] > -7 else "strong")
        self.assertLess(match["overlap"], match["planned_overlap"])
        waters = next(r for r in match["remedies"] if r["name"].startswith("Irrigate"))
        self.assertEqual((waters["role"], waters["useful"]), ("M", True))
        after = self.post(
            f"/seed-blocks/{block.pk}/remedies", {"remedy_id": waters["id"], "chosen": True, "client_uuid": uid()}
        )
        self.assertGreater(after["flowering"]["match"]["after"]["overlap"], match["overlap"])
        self.assertTrue(Task.objects.filter(kind="remedy", state="todo").exists())
        self.post(
            f"/seed-blocks/{block.pk}/remedies", {"remedy_id": waters["id"], "chosen": False, "client_uuid": uid()}
        )
        self.assertFalse(Task.objects.filter(kind="remedy").exists())
        moved = Inspection.objects.get(pk=visit.pk)
        self.assertGreaterEqual(moved.planned_on, visit.planned_on)
        # A remedy for another crop, and one that comes too late, are refused.
        names = {r["name"] for r in match["remedies"]}
        self.assertFalse(any("nitrogen" in name or "retardant" in name for name in names))
        self.on(date(2027, 7, 30))
        told = self.post(
            f"/seed-blocks/{block.pk}/remedies",
            {"remedy_id": waters["id"], "chosen": True, "client_uuid": uid()},
            status=422,
        )
        self.assertEqual(told["errors"][0]["code"], "too_late")

    def test_what_a_remedy_did_is_read_from_what_is_seen_after_it_and_not_reckoned_twice(self) -> None:
        block = self.sown()

        def saw(role: str, stage: str, on: str) -> Any:
            self.on(date.fromisoformat(on))
            body = {"role": role, "stage": stage, "on": on, "client_uuid": uid()}
            return self.post(f"/seed-blocks/{block.pk}/seen", body)["flowering"]["match"]

        saw("F", "star-bud", "2027-06-18")
        match = saw("M", "star-bud", "2027-06-24")
        waters = next(r for r in match["remedies"] if r["name"].startswith("Irrigate"))
        self.assertIsNone(waters["gap_then"])
        body = {"remedy_id": waters["id"], "chosen": True, "client_uuid": uid()}
        chosen = self.post(f"/seed-blocks/{block.pk}/remedies", body)["flowering"]["match"]
        self.assertAlmostEqual(chosen["after"]["gap_high"], chosen["gap_days"] + waters["shift_low"])
        later = saw("M", "bud-raised", "2027-07-01")
        row = next(r for r in later["remedies"] if r["id"] == waters["id"])
        self.assertEqual((row["gap_then"], row["seen_since"], row["chosen"]), (match["gap_days"], True, True))
        self.assertIsNone(later["after"])
        # A chosen remedy can be dropped even when nothing asks for one any more.
        body = {"remedy_id": waters["id"], "chosen": False, "client_uuid": uid()}
        self.post(f"/seed-blocks/{block.pk}/remedies", body)

    def test_nothing_is_seen_before_it_is_sown_nor_tomorrow(self) -> None:
        block = self.laid_out()
        body = {"role": "F", "stage": "star-bud", "on": str(SPRING), "client_uuid": uid()}
        self.assertEqual(self.post(f"/seed-blocks/{block.pk}/seen", body, status=422)["errors"][0]["code"], "not_sown")
        block = self.sown(field="Far field", order="two")
        for day in ("2027-04-01", "2027-04-16"):
            told = self.post(f"/seed-blocks/{block.pk}/seen", {**body, "on": day}, status=422)["errors"][0]
            self.assertEqual(told["field"], "on")

    def test_bees_are_reckoned_by_the_hectare_and_come_with_the_first_flowers(self) -> None:
        block = self.sown()
        bees = self.get(f"/seed-blocks/{block.pk}")["flowering"]["match"]["bees"]
        self.assertEqual(bees["needed"], 7)  # 3 a hectare on 2.25 ha
        self.post(f"/seed-blocks/{block.pk}/hives", {"hives": 7, "on": bees["arrive"]})
        task = Task.objects.get(kind="hives")
        self.assertEqual(str(task.due_from), bees["arrive"])
        self.assertIn("No spraying", task.caution)


class Isolation(SeedCase):
    def neighbour(self, **more: object) -> int:
        body = {
            "name": "Bank",
            "crop_id": sunflower().pk,
            "kind": "other cultivar",
            "year": 2027,
            "seen_on": str(self.ctx.today),
            "seen_by": "Jory",
            "corners_m": NEAR,
            **more,
        }
        return int(self.post("/neighbours", body)["id"])

    def test_a_neighbour_at_420_of_500_metres_and_the_three_remedies(self) -> None:
        block = self.laid_out()
        self.neighbour()
        seen = self.get(f"/seed-blocks/{block.pk}/isolation")
        row = seen["neighbours"][0]
        self.assertAlmostEqual(row["distance_m"], 420, delta=0.5)
        self.assertAlmostEqual(row["short_m"], 80, delta=0.5)
        self.assertEqual((row["required_m"], row["state"]), (500, "too close"))
        strip, delay, lower = seen["remedies"]
        self.assertAlmostEqual(seen["plantable_m2"], 70 * 150, delta=150)
        self.assertAlmostEqual(strip["kg_after"] / strip["kg_before"], seen["plantable_m2"] / seen["area_m2"], places=6)
        self.assertIn("short of", strip["sentence"])
        self.assertEqual((delay["kind"], delay["possible"]), ("delay", False))
        self.assertIn("takes no other time", delay["sentence"])
        self.assertEqual((lower["possible"], lower["seed_class"]), (True, "quality-declared"))
        self.assertIn("must agree", lower["sentence"])

    def test_time_excuses_where_the_rule_takes_it_and_a_delay_is_worked_out(self) -> None:
        block = self.laid_out()
        body = {
            "crop_id": sunflower().pk,
            "seed_class": "certified-1",
            "step": "hybrid",
            "kind": "other cultivar",
            "metres": 500,
            "time_allowed": True,
            "time_margin_days": 10,
            "source": "invented",
        }
        self.post("/isolation-rules", body)
        early = self.neighbour(flowers_from="2027-05-20", flowers_to="2027-06-10")
        seen = self.get(f"/seed-blocks/{block.pk}/isolation")
        self.assertEqual((seen["neighbours"][0]["state"], seen["remedies"]), ("other time", []))
        flowers = date.fromisoformat(seen["flowers_from"])
        body = {
            "name": "Bank",
            "crop_id": sunflower().pk,
            "kind": "other cultivar",
            "year": 2027,
            "seen_on": str(self.ctx.today),
        }
        self.call(
            "patch",
            f"/neighbours/{early}",
            {**body, "flowers_from": str(flowers), "flowers_to": str(flowers.replace(day=28))},
        )
        again = self.get(f"/seed-blocks/{block.pk}/isolation")
        delay = again["remedies"][1]
        self.assertTrue(delay["possible"], delay)
        later = self.post(
            f"/seed-blocks/{block.pk}/keep",
            {"sow_on": delay["sow_on"], "version": again["version"]},
        )
        self.assertGreaterEqual(later["flowering"]["match"]["parents"][0]["first"], str(flowers.replace(day=28)))
        self.assertGreater(later["flowering"]["match"]["overlap"], 0.9)
        cured = self.get(f"/seed-blocks/{block.pk}/isolation")
        self.assertEqual((cured["neighbours"][0]["state"], cured["remedies"]), ("other time", []))
        # Fading before the neighbour opens is offered as well, where that asks for less.
        first = date.fromisoformat(cured["flowers_from"])
        soon = {"flowers_from": str(first + timedelta(days=8)), "flowers_to": str(first + timedelta(days=60))}
        self.call("patch", f"/neighbours/{early}", {**body, **soon})
        delay = self.get(f"/seed-blocks/{block.pk}/isolation")["remedies"][1]
        self.assertIn("days earlier", delay["sentence"])
        self.assertLess(delay["sow_on"]["F"], later["parents"][0]["sow_on"])
        # Not much later than it must be.
        over = date.fromisoformat(cured["flowers_from"]) - flowers.replace(day=28)
        self.assertTrue(10 <= over.days <= 14, over)

    def test_leaving_the_strip_lowers_what_is_expected_and_dropping_the_class_lowers_the_rule(self) -> None:
        block = self.laid_out()
        self.neighbour()
        seen = self.get(f"/seed-blocks/{block.pk}/isolation")
        before = Batch.objects.get(pk=block.batch_id).expected
        self.post(f"/seed-blocks/{block.pk}/strip", {"version": seen["version"] + 5}, status=409)
        left = self.post(f"/seed-blocks/{block.pk}/strip", {"version": seen["version"]})
        self.assertEqual((left["neighbours"][0]["state"], left["remedies"]), ("strip left", []))
        after = Batch.objects.get(pk=block.batch_id).expected
        self.assertAlmostEqual(after / before, seen["plantable_m2"] / seen["area_m2"], delta=0.01)
        lower = self.post(
            f"/seed-blocks/{block.pk}/class", {"version": left["version"], "seed_class": "quality-declared"}
        )
        self.assertEqual(lower["neighbours"][0]["state"], "passes")
        told = self.post(
            f"/seed-blocks/{block.pk}/class", {"version": lower["version"], "seed_class": "basic"}, status=422
        )
        self.assertEqual(told["errors"][0]["code"], "not_below")

    def test_a_neighbour_who_comes_after_the_strip_is_a_new_breach_and_a_second_strip_adds_to_the_first(self) -> None:
        block = self.laid_out()
        self.neighbour()
        first = self.get(f"/seed-blocks/{block.pk}/isolation")
        left = self.post(f"/seed-blocks/{block.pk}/strip", {"version": first["version"]})
        self.assertAlmostEqual(left["plantable_m2"], first["plantable_m2"], delta=1)
        south = [(0.0, -600.0), (150.0, -600.0), (150.0, -450.0), (0.0, -450.0)]
        self.neighbour(name="Quarry", corners_m=south)
        again = self.get(f"/seed-blocks/{block.pk}/isolation")
        states = {n["name"]: n["state"] for n in again["neighbours"]}
        self.assertEqual(states, {"Bank": "strip left", "Quarry": "too close"})
        strip = again["remedies"][0]
        self.assertAlmostEqual(again["plantable_m2"], 70 * 100, delta=150)
        self.assertAlmostEqual(
            strip["kg_after"] / strip["kg_before"], again["plantable_m2"] / left["plantable_m2"], places=2
        )
        done = self.post(f"/seed-blocks/{block.pk}/strip", {"version": again["version"]})
        self.assertEqual({n["state"] for n in done["neighbours"]}, {"strip left"})
        batch = Batch.objects.get(pk=block.batch_id)
        self.assertAlmostEqual(
            batch.expected / 1000 / strip["kg_before"], strip["kg_after"] / strip["kg_before"], delta=0.02
        )
        told = self.post(f"/seed-blocks/{block.pk}/strip", {"version": done["version"]}, status=422)["errors"][0]
        self.assertEqual(told["code"], "nothing_to_leave")

    def test_each_rule_has_its_own_days_between(self) -> None:
        """A wide margin asked of one kind of neighbour is not asked of another."""
        block = self.laid_out()
        seen = self.get(f"/seed-blocks/{block.pk}/isolation")
        over = date.fromisoformat(seen["flowers_to"]) + timedelta(days=12)
        for kind, margin in (("other cultivar", 10), ("wild or weedy relative", 30)):
            self.post(
                "/isolation-rules",
                {
                    "crop_id": sunflower().pk,
                    "seed_class": "certified-1",
                    "step": "hybrid",
                    "kind": kind,
                    "metres": 500,
                    "time_allowed": True,
                    "time_margin_days": margin,
                    "source": "invented",
                },
            )
            self.neighbour(name=kind, kind=kind, flowers_from=str(over), flowers_to=str(over + timedelta(days=20)))
        states = {n["name"]: n["state"] for n in self.get(f"/seed-blocks/{block.pk}/isolation")["neighbours"]}
        self.assertEqual(states, {"other cultivar": "other time", "wild or weedy relative": "too close"})

    def test_a_class_that_the_step_does_not_allow_is_no_lower_class(self) -> None:
        block = self.laid_out()
        scheme = ClassScheme.objects.get(slug="oecd-like", organisation=None)
        scheme.classes = [
            {**c, "not_for": ["hybrid"]} if c["slug"] == "quality-declared" else c for c in scheme.classes
        ]
        scheme.save()
        version = self.get(f"/seed-blocks/{block.pk}")["version"]
        body = {"version": version, "seed_class": "quality-declared"}
        told = self.post(f"/seed-blocks/{block.pk}/class", body, status=422)["errors"][0]
        self.assertEqual(told["code"], "not_below")

    def test_own_blocks_count_as_neighbours_and_a_kind_without_a_rule_is_not_guessed(self) -> None:
        block = self.laid_out()
        other = self.laid_out(field="Far field", order="two")
        other.batch.line = None
        other.batch.save()
        self.neighbour(name="Meadow", kind="forage relative", corners_m=[[300, 300], [320, 300], [320, 330]])
        rows = {r["name"]: r for r in self.get(f"/seed-blocks/{block.pk}/isolation")["neighbours"]}
        self.assertEqual(rows["Meadow"]["state"], "no rule")
        own = next(r for name, r in rows.items() if name.startswith("Far field"))
        self.assertEqual((own["kind"], own["required_m"], own["state"]), ("same pollen parent", 5, "passes"))
        self.assertAlmostEqual(own["distance_m"], 750, delta=1)

    def test_neighbours_are_entered_once_with_care_and_forgotten_with_a_reason(self) -> None:
        pk = self.neighbour()
        body = {
            "name": "bank",
            "crop_id": sunflower().pk,
            "kind": "other cultivar",
            "year": 2027,
            "seen_on": str(self.ctx.today),
            "corners_m": FIELD,
        }
        for more, code in (
            ({}, "taken"),
            ({"name": ""}, "missing"),
            ({"name": "B", "kind": "enemy"}, "not_a_choice"),
            ({"name": "B", "seen_on": "2030-01-01"}, "in_the_future"),
            ({"name": "B", "corners_m": None}, "missing"),
            ({"name": "B", "flowers_from": "2027-07-01"}, "before_start"),
        ):
            self.assertEqual(self.post("/neighbours", {**body, **more}, status=422)["errors"][0]["code"], code, more)
        self.post(f"/neighbours/{pk}/forget", {"reason": ""}, status=422)
        self.post(f"/neighbours/{pk}/forget", {"reason": "ploughed in"})
        self.assertFalse(Neighbour.objects.get().active)
        self.post("/neighbours", body)


class Stock(SeedCase):
    def test_what_a_parent_lot_was_received_with_is_kept(self) -> None:
        lot = parent_seed(self.ctx, "AA-1")
        self.assertEqual((lot.seed_class, lot.label_number, Lot.objects.get(pk=lot.pk).status), ("basic", "B-1", ""))
        told = self.post("/lots", {"crop_id": sunflower().pk, "quantity": "5 kg", "seed_class": "royal"}, status=422)[
            "errors"
        ][0]
        self.assertEqual(told["code"], "unknown_class")


class FourSteps(SeedCase):
    """The other scheme that ships, walked through: nucleus, foundation, registered, certified."""

    def test_a_house_by_four_steps_grows_certified_from_foundation_and_keeps_400_metres(self) -> None:
        self.post("/class-scheme", {"slug": "four-step"})
        self.ctx.organisation.refresh_from_db()
        line, batch = self.order()
        self.assertEqual(line.seed_class, "certified")
        place = Place.objects.get(name="Long field")
        made = self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": place.pk})
        self.assertEqual(made["class_name"], "certified")
        classes = made["generations"]["classes"]
        self.assertEqual([(c["seed_class"], c["from_class"]) for c in classes], [("registered", "foundation")] * 2)
        body = {
            "name": "Bank",
            "crop_id": sunflower().pk,
            "kind": "other cultivar",
            "year": 2027,
            "seen_on": str(self.ctx.today),
            "corners_m": NEAR,
        }
        self.post("/neighbours", body)
        row = self.get(f"/seed-blocks/{made['block_id']}/isolation")["neighbours"][0]
        self.assertEqual((row["required_m"], row["state"]), (400, "passes"))
        lot = parent_seed(self.ctx, "AA-1", seed_class="foundation")
        self.on(date(2027, 4, 15))
        sow = {"role": "F", "lot_id": lot.pk, "kg": "3", "on": "2027-04-15", "client_uuid": uid()}
        self.post(f"/seed-blocks/{made['block_id']}/sown", sow)
        told = self.post("/class-scheme", {"slug": "oecd-like"}, status=422)["errors"][0]
        self.assertEqual(told["code"], "in_use")
        self.assertIn("promises certified", told["message"])

    def test_kilos_of_the_final_class_by_hand_through_four_classes(self) -> None:
        """10 t certified at 2 t/ha and 80 %: 6.25 ha, 62.5 kg registered; and so on up, as worked by hand."""
        steps = [
            {"class": name, "yield_kg_per_ha": 2000, "recovery": 0.8, "seed_rate_kg_per_ha": 10}
            for name in ("certified", "registered", "foundation", "nucleus")
        ]
        answer = self.client.post(
            "/api/calc/generations", json.dumps({"need_kg": 10_000, "steps": steps}), content_type="application/json"
        ).json()
        self.assertEqual(
            [s["area_ha"] for s in answer["steps"]], [6.25, 0.0390625, 0.000244140625, 0.00000152587890625]
        )
        self.assertEqual(answer["steps"][-1]["seed_in_kg"], 0.0000152587890625)


class InTheOtherRooms(SeedCase):
    """What a seed crop looks like where plants are at home: every view opens, and what does not fit says so."""

    def test_can_we_take_seed_answers_in_hectares_and_reads_kilos(self) -> None:
        body = {"crop_id": sunflower().pk, "form": "seed", "quantity": "1.1 t", "due": "2027-11-15"}
        answer = self.post("/orders/can-we-take-it", body)
        self.assertRegex(answer["sentence"], r"^Yes: sow \d\.\d\d ha on ")
        self.assertEqual(
            self.post("/orders/can-we-take-it", {**body, "quantity": "12 furlongs"}, status=422)["errors"][0]["field"],
            "quantity",
        )

    def test_every_view_of_the_batch_opens_at_every_step(self) -> None:
        def look(batch: Batch) -> None:
            for path in (
                f"/batches/{batch.pk}",
                f"/batches/{batch.pk}/card",
                "/batches",
                "/board?start=2027-03-01&end=2027-10-01",
                "/season-line",
                "/day",
                "/deliveries",
                "/orders",
                "/seed-crops",
            ):
                self.get(path)
            self.assertTrue(self.get(f"/batches/{batch.pk}/card.pdf").content.startswith(b"%PDF"))

        _, batch = self.order()
        look(batch)
        place = Place.objects.get(name="Long field")
        made = self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": place.pk})
        look(batch)
        lot = parent_seed(self.ctx, "AA-1")
        self.on(date(2027, 4, 15))
        self.post(
            f"/seed-blocks/{made['block_id']}/sown",
            {"role": "F", "lot_id": lot.pk, "kg": "3", "on": "2027-04-15", "client_uuid": uid()},
        )
        look(batch)

    def test_the_ladder_can_be_typed_into_and_the_board_moves_the_whole_crop_to_another_field(self) -> None:
        _, batch = self.order()
        seen = self.post(f"/batches/{batch.pk}/preview", {"start": 20_000})
        self.assertTrue(seen["figures"])
        other = Place.objects.get(name="Far field")
        moved = self.post(f"/batches/{batch.pk}/preview", {"stage": "grow", "place_id": other.pk})
        self.post(
            f"/batches/{batch.pk}/keep",
            {"version": moved["version"], "change": {"stage": "grow", "place_id": other.pk}},
        )
        fields = set(BatchStage.objects.filter(batch=batch, order__lte=4).values_list("place__name", flat=True))
        self.assertEqual(fields, {"Far field"})

    def test_a_seed_crop_that_serves_nobody_is_ended_and_lets_its_field_go(self) -> None:
        block = self.sown()
        self.post(f"/batches/{block.batch_id}/end", {"cause": "hail"})
        self.assertFalse(Occupancy.objects.filter(stage__batch=block.batch).exists())
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{block.pk}/male-out", {"on": "2027-09-01", "how": "cut and destroyed", "client_uuid": uid()}
        )
        self.assertEqual(self.load(block, on="2027-09-10", status=422)["errors"][0]["code"], "closed")

    def test_names_of_shapes_are_used_once(self) -> None:
        """Two rooms with one name for a shape would overwrite each other in the contract."""
        import re
        from collections import Counter

        from django.conf import settings

        names = Counter(
            name
            for path in (settings.ROOT / "server" / "aldrip").rglob("*.py")
            if path.name in ("api.py", "schemas.py")
            for name in re.findall(r"^class (\w+)\(", path.read_text(), re.MULTILINE)
        )
        self.assertEqual([name for name, count in names.items() if count > 1], [])
