"""From the count in the field to the sealed lot: what is signed, what is refused, what balances."""

from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from django.db import connection
from django.test import Client, TransactionTestCase
from django.test.utils import CaptureQueriesContext
from psycopg.types.range import DateRange

from aldrip.accounts.models import AuditEvent, Role
from aldrip.accounts.routes import ROUTES
from aldrip.batches.forecasting import in_stock
from aldrip.batches.models import Batch, SetAside
from aldrip.deliveries.models import Document
from aldrip.diary.models import Task
from aldrip.lots.descent import batches_behind, descent
from aldrip.lots.laboratory import VALID_DAYS
from aldrip.lots.models import Intake, Lot, Movement, Seal, TestResult, Verdict
from aldrip.lots.moving import shown_of
from aldrip.methods.models import Standard
from aldrip.orders.models import OrderLine
from aldrip.places.ground import polygon_of
from aldrip.places.models import Site
from aldrip.places.services import PlaceSpec, add_place
from aldrip.seedcrops.models import Inspection, InspectionCount, MaleRemoval, SeedBlock
from tests.server.house import HouseCase, advance, ensure_library, make_house, member, uid
from tests.server.seed_house import FIELD, NEAR, SPRING, SeedCase, make_seed_house, sunflower


class Counting(SeedCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        told = cls.teller()
        cls.block = told.sown()
        told.on(date(2027, 6, 28))
        cls.visit = cls.block.inspections.get(number=1)

    def test_the_plan_is_spread_over_the_field_and_frozen_when_the_count_begins(self) -> None:
        begun = self.post(f"/inspections/{self.visit.pk}/begin")
        self.assertEqual((begun["areas"], begun["sample"], len(begun["points"])), (6, 1200, 6))
        Standard.objects.filter(kind="field").update(limits=[])
        again = self.get(f"/inspections/{self.visit.pk}")
        self.assertEqual(len(again["limits"]), 3)
        self.assertEqual(again["table"]["reject_at"]["off_types"], 11)  # Poisson tail of 6 at 5 %: see tests/reference
        self.assertEqual(again["table"]["reject_at"]["diseased"], 13)  # plain share: 12 of 1200 is the limit itself

    def test_an_entry_arrives_once_however_often_it_is_sent(self) -> None:
        entry = {"client_uuid": uid(), "area": 1, "plants": 10, "faults": {"off_types": 1}}
        for _ in range(3):
            answer = self.post(f"/inspections/{self.visit.pk}/counts", {"entries": [entry, entry]})
        self.assertEqual((answer["inspection"]["plants"], InspectionCount.objects.count()), (11, 1))

    def test_a_tap_taken_back_stays_on_record_and_counts_for_nothing(self) -> None:
        first = {"client_uuid": uid(), "area": 1, "plants": 10, "faults": {"off_types": 2}}
        back = {"client_uuid": uid(), "area": 1, "takes_back": first["client_uuid"]}
        answer = self.post(f"/inspections/{self.visit.pk}/counts", {"entries": [first, back]})
        self.assertEqual((answer["inspection"]["plants"], answer["inspection"]["faults"]), (0, {}))
        self.assertEqual(InspectionCount.objects.count(), 2)
        twice = self.post(f"/inspections/{self.visit.pk}/counts", {"entries": [{**back, "client_uuid": uid()}]})
        self.assertFalse(twice["entries"][0]["kept"])

    def test_a_bad_entry_is_told_and_the_good_ones_are_kept(self) -> None:
        good = {"client_uuid": uid(), "area": 2, "plants": 5}
        bad = [
            {"area": 99, "plants": 5},
            {"area": 1, "plants": -4},
            {"area": 1, "faults": {"ghosts": 1}},
            {"area": 1, "takes_back": uid()},
        ]
        entries = [good, *({"client_uuid": uid(), **one} for one in bad)]
        answer = self.post(f"/inspections/{self.visit.pk}/counts", {"entries": entries})
        self.assertEqual([e["kept"] for e in answer["entries"]], [True, False, False, False, False])
        self.assertTrue(all(e["message"] for e in answer["entries"][1:]))
        self.assertEqual(answer["inspection"]["plants"], 5)

    def test_weeds_are_no_plants_that_were_looked_at(self) -> None:
        entry = {"client_uuid": uid(), "area": 1, "plants": 10, "faults": {"weeds": 4, "diseased": 1}}
        self.assertEqual(
            self.post(f"/inspections/{self.visit.pk}/counts", {"entries": [entry]})["inspection"]["plants"], 11
        )

    def test_nothing_is_signed_before_the_count_is_full_unless_it_rejects(self) -> None:
        self.post(
            f"/inspections/{self.visit.pk}/counts", {"entries": [{"client_uuid": uid(), "area": 1, "plants": 100}]}
        )
        bare = self.post(f"/inspections/{self.visit.pk}/sign", {"decision": "reject"}, status=422)["errors"][0]
        self.assertEqual(bare["code"], "missing")  # on other grounds than the count, with a word to it
        for decision in ("accept", "rogue", "nonsense"):
            told = self.post(f"/inspections/{self.visit.pk}/sign", {"decision": decision}, status=422)["errors"][0]
            self.assertEqual(told["code"], "not_allowed")
        self.assertIn("1,100 plants are still to be counted", told["message"])

    def test_rejected_rogued_counted_again_and_accepted_with_both_counts_kept(self) -> None:
        counted = self.count_all(self.visit.pk, off_types=11)
        self.assertEqual(
            (counted["judgement"]["state"], counted["choices"]), ("reject", ["rogue", "downgrade", "reject"])
        )
        told = self.post(f"/inspections/{self.visit.pk}/sign", {"decision": "accept"}, status=422)["errors"][0]
        self.assertIn("cannot be accepted", told["message"])
        self.post(f"/inspections/{self.visit.pk}/sign", {"decision": "rogue"})
        again = Inspection.objects.get(follows=self.visit)
        self.assertTrue(Task.objects.filter(kind="rogue", unit="person-hours", quantity__gt=1).exists())
        told = self.post(
            f"/inspections/{self.visit.pk}/counts",
            {"entries": [{"client_uuid": uid(), "area": 1, "plants": 1}]},
            status=409,
        )
        self.assertEqual(told["code"], "inspection_closed")
        self.on(date(2027, 7, 1))
        seen = self.count_all(again.pk, off_types=4)
        self.assertIn("11 off-types", seen["follows"]["sentence"])
        self.post(f"/inspections/{again.pk}/sign", {"decision": "accept"})
        self.visit.refresh_from_db()
        self.assertEqual((self.visit.decision, self.visit.counted["faults"]), ("rogue", {"off_types": 11}))
        again.refresh_from_db()
        self.assertEqual((again.counted["plants"], again.signed_role), (1200, Role.MANAGER))

    def test_once_pollen_is_shed_roguing_cures_nothing(self) -> None:
        self.on(date(2027, 7, 25))
        counted = self.count_all(self.visit.pk, off_types=20)
        self.assertEqual(counted["choices"], ["downgrade", "reject"])
        told = self.post(f"/inspections/{self.visit.pk}/sign", {"decision": "rogue"}, status=422)["errors"][0]
        self.assertIn("sheds pollen", told["message"])
        self.post(f"/inspections/{self.visit.pk}/sign", {"decision": "downgrade"})
        self.assertEqual(SeedBlock.objects.get(pk=self.block.pk).seed_class, "quality-declared")

    def test_a_disease_is_not_cured_by_roguing_and_a_rejected_field_gives_no_seed(self) -> None:
        counted = self.count_all(self.visit.pk, diseased=13)
        self.assertNotIn("rogue", counted["choices"])
        self.post(f"/inspections/{self.visit.pk}/sign", {"decision": "reject"})
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{self.block.pk}/male-out",
            {"on": "2027-08-20", "how": "cut and destroyed", "client_uuid": uid()},
        )
        self.assertEqual(self.load(self.block, on="2027-09-10", status=422)["errors"][0]["code"], "field_rejected")

    def test_only_an_inspector_or_a_manager_signs_and_a_growers_count_is_taken(self) -> None:
        client = Client()
        client.force_login(member(self.ctx, "sue", Role.SUPERVISOR))
        entry = {"client_uuid": uid(), "area": 1, "plants": 10}
        self.post(f"/inspections/{self.visit.pk}/counts", {"entries": [entry]}, client=client)
        self.post(f"/inspections/{self.visit.pk}/sign", {"decision": "accept"}, client=client, status=403)

    def test_without_a_field_standard_no_count_begins_and_the_words_say_what_to_do(self) -> None:
        Standard.objects.filter(kind="field").delete()
        told = self.post(f"/inspections/{self.visit.pk}/begin", status=422)["errors"][0]
        self.assertIn("Add one in Methods", told["message"])

    def test_two_people_counting_at_once_are_summed(self) -> None:
        client = Client()
        client.force_login(member(self.ctx, "wren", Role.INSPECTOR))
        self.post(
            f"/inspections/{self.visit.pk}/counts", {"entries": [{"client_uuid": uid(), "area": 1, "plants": 30}]}
        )
        both = self.post(
            f"/inspections/{self.visit.pk}/counts",
            {"entries": [{"client_uuid": uid(), "area": 2, "plants": 40}]},
            client=client,
        )
        self.assertEqual((both["inspection"]["plants"], both["inspection"]["by_area"]), (70, {"1": 30, "2": 40}))


class AtTheDoor(SeedCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.block = cls.teller().sown()

    def test_the_female_is_not_cut_before_the_male_is_out(self) -> None:
        block = self.block
        self.on(date(2027, 9, 10))
        told = self.load(block, on="2027-09-10", status=422)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("male", "male_stands"))
        self.post(
            f"/seed-blocks/{block.pk}/male-out", {"on": "2027-09-01", "how": "cut and destroyed", "client_uuid": uid()}
        )
        self.assertEqual(self.load(block, on="2027-08-30", status=422)["errors"][0]["code"], "male_stands")
        self.assertEqual(Lot.objects.exclude(status="").count(), 0)
        self.load(block, on="2027-09-10")
        self.assertEqual(MaleRemoval.objects.count(), 1)
        again = {"on": "2027-09-05", "how": "cut and destroyed", "client_uuid": uid()}
        self.assertEqual(
            self.post(f"/seed-blocks/{block.pk}/male-out", again, status=422)["errors"][0]["code"], "out_already"
        )

    def test_no_route_of_the_api_makes_a_lot_of_an_unready_block(self) -> None:
        """Every write route, with the block's, batch's and lots' own ids: none harvests while the male stands."""
        block = self.block
        self.on(date(2027, 9, 10))
        body = {
            "on": "2027-09-10",
            "gross": "9000",
            "tare": "10",
            "moisture_percent": 9,
            "equipment_clean": True,
            "good": 100,
            "to_percent": 5,
            "stage": "grade",
            "decision": "release",
            "client_uuid": uid(),
            "version": 1,
            "lots": [],
            "clean": "5",
            "cause": "x",
            "reason": "x",
        }
        for method, path, _ in ROUTES:
            if method == "GET" or "male-out" in path or path in ("/lots", "/session"):
                continue
            for pk in {block.pk, block.batch_id, 1}:
                where = path.replace("{int:block_id}", str(block.pk)).replace("{int:batch_id}", str(block.batch_id))
                where = "/api" + where.split("{")[0] + (str(pk) + where.split("}")[1] if "{" in where else "")
                getattr(self.client, method.lower())(
                    where, {**body, "client_uuid": uid()}, content_type="application/json"
                )
        self.assertEqual(Lot.objects.exclude(status="").count(), 0)
        self.assertEqual(Verdict.objects.count(), 0)

    def test_a_wet_load_is_taken_in_to_be_dried_at_once_and_a_refused_one_makes_no_lot(self) -> None:
        block = self.block
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{block.pk}/male-out", {"on": "2027-09-01", "how": "harvested first", "client_uuid": uid()}
        )
        wet = self.load(block, on="2027-09-10", moisture_percent=17.3)["loads"][-1]
        self.assertEqual((wet["decision"], wet["net_kg"]), ("dry now", 1800))
        self.assertTrue(Task.objects.filter(subject_kind="lot", kind="dry", state="todo").exists())
        body = {
            "on": "2027-09-10",
            "lots": [{"lot_id": wet["lot_id"], "kg": "1800"}],
            "clean": "1700",
            "screenings": "100",
            "client_uuid": uid(),
        }
        self.assertEqual(self.post("/cleaning", body, status=422)["errors"][0]["code"], "too_wet")
        refused = self.load(block, on="2027-09-10", refused=True)["loads"][-1]
        self.assertEqual((refused["decision"], refused["lot_id"]), ("refuse", None))
        self.assertEqual(Intake.objects.count(), 2)
        for more, code in (
            ({"gross": "1 kg"}, "out_of_range"),
            ({"equipment_clean": False}, "not_clean"),
            ({"moisture_percent": 91}, "out_of_range"),
            ({"gross": "heavy"}, "not_a_number"),
        ):
            self.assertEqual(self.load(block, on="2027-09-10", status=422, **more)["errors"][0]["code"], code)

    def test_a_load_sent_twice_is_one_lot(self) -> None:
        block = self.block
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{block.pk}/male-out", {"on": "2027-09-01", "how": "cut and destroyed", "client_uuid": uid()}
        )
        same = uid()
        for _ in range(2):
            self.load(block, on="2027-09-10", client_uuid=same)
        self.assertEqual(Lot.objects.filter(status="raw").count(), 1)

    def test_water_screenings_and_loss_are_named_and_everything_balances(self) -> None:
        lot = self.clean_lot(self.block)
        raw = Lot.objects.get(status="raw")
        self.assertEqual(raw.balance, 0)
        self.assertEqual(lot.note, raw.note)  # where it grew stays in sight
        water = Movement.objects.get(lot=raw, kind="water dried off")
        self.assertEqual(-water.quantity, Decimal("59340.6593"))  # 1800 × (12 - 9) ÷ 91
        for one in (lot, raw):
            self.assertEqual(sum(m.quantity for m in one.movements.all()), one.balance)
        group = Movement.objects.exclude(group=None).filter(lot=lot).get().group
        rows = Movement.objects.filter(group=group)
        self.assertEqual(sum(m.quantity for m in rows if m.kind == "cleaned"), 0)
        named = {m.kind: -m.quantity for m in rows if m.kind != "cleaned"}
        self.assertEqual(set(named), {"screenings", "cleaning loss"})
        self.assertEqual(sum(named.values()) + 1_500_000, sum(-m.quantity for m in rows.filter(lot=raw)))

    def test_more_cannot_come_out_than_went_in_and_a_large_loss_asks_why(self) -> None:
        block = self.block
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{block.pk}/male-out", {"on": "2027-09-01", "how": "cut and destroyed", "client_uuid": uid()}
        )
        raw = self.load(block, on="2027-09-10")["loads"][-1]["lot_id"]
        body = {
            "on": "2027-09-10",
            "lots": [{"lot_id": raw, "kg": "1800"}],
            "clean": "1700",
            "screenings": "200",
            "client_uuid": uid(),
        }
        self.assertEqual(self.post("/cleaning", body, status=422)["errors"][0]["code"], "too_much")
        told = self.post("/cleaning", {**body, "clean": "1500", "screenings": "100"}, status=422)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("reason", "missing"))
        self.assertEqual(Lot.objects.get(pk=raw).balance, 1_800_000)
        for more, code in (
            ({"lots": []}, "missing"),
            ({"lots": [{"lot_id": raw, "kg": "9000"}]}, "not_enough"),
            ({"lots": [{"lot_id": raw, "kg": "5"}, {"lot_id": raw, "kg": "5"}]}, "missing"),
        ):
            self.assertEqual(
                self.post("/cleaning", {**body, "clean": "1", "screenings": "4", "reason": "x", **more}, status=422)[
                    "errors"
                ][0]["code"],
                code,
            )
        self.assertEqual(
            self.post(f"/lots/{raw}/drying", {"on": "2027-09-10", "to_percent": 15, "client_uuid": uid()}, status=422)[
                "errors"
            ][0]["code"],
            "out_of_range",
        )

    def test_a_lot_cleaned_from_two_fields_counts_for_both_with_their_shares(self) -> None:
        one = self.block
        other = self.laid_out(field="Far field", order="two")
        for role, name in (("F", "AA-1"), ("M", "RR-2")):
            lot = Lot.objects.filter(line__name=name).first()
            assert lot is not None
            self.post(
                f"/seed-blocks/{other.pk}/sown",
                {"role": role, "lot_id": lot.pk, "kg": "2", "on": "2027-04-15", "client_uuid": uid()},
            )
        self.on(date(2027, 9, 10))
        raws = []
        for block, gross in ((one, "9000 kg"), (other, "7800 kg")):
            self.post(
                f"/seed-blocks/{block.pk}/male-out",
                {"on": "2027-08-20", "how": "cut and destroyed", "client_uuid": uid()},
            )
            raws.append(self.load(block, on="2027-09-10", gross=gross)["loads"][-1]["lot_id"])
        body = {
            "on": "2027-09-10",
            "lots": [{"lot_id": raws[0], "kg": "1800"}, {"lot_id": raws[1], "kg": "600"}],
            "clean": "2200",
            "screenings": "190",
            "client_uuid": uid(),
        }
        same = [self.post("/cleaning", body)["id"] for _ in range(2)]
        self.assertEqual(same[0], same[1])
        stock = in_stock([one.batch_id, other.batch_id])
        clean = {pk: sum(found.values()) for pk, found in stock.items()}
        self.assertAlmostEqual(clean[one.batch_id], 1650, places=2)
        self.assertAlmostEqual(clean[other.batch_id], 550, places=2)
        for block in (one, other):
            self.post(f"/seed-blocks/{block.pk}/all-in", {"on": "2027-09-10"})
            batch = Batch.objects.get(pk=block.batch_id)
            self.assertAlmostEqual(batch.expected / 1000, clean[batch.pk], delta=2)
        self.assertEqual(set(batches_behind(self.ctx, same[0])), {one.batch.uuid, other.batch.uuid})
        # One of the two ends; the other's share stays in the bin.
        self.post(f"/batches/{other.batch_id}/end", {"cause": "the customer is gone"})
        self.assertAlmostEqual(shown_of(Lot.objects.get(pk=same[0])), 1650, places=2)

    def test_lots_of_two_cultivars_are_never_blended(self) -> None:
        block = self.block
        self.on(date(2027, 9, 10))
        self.post(
            f"/seed-blocks/{block.pk}/male-out", {"on": "2027-09-01", "how": "cut and destroyed", "client_uuid": uid()}
        )
        first = Lot.objects.get(pk=self.load(block, on="2027-09-10")["loads"][-1]["lot_id"])
        second = Lot.objects.get(pk=self.load(block, on="2027-09-10")["loads"][-1]["lot_id"])
        body = {
            "on": "2027-09-10",
            "lots": [{"lot_id": lot.pk, "kg": "1000"} for lot in (first, second)],
            "clean": "1800",
            "screenings": "200",
            "client_uuid": uid(),
        }
        Lot.objects.filter(pk=second.pk).update(line=None)
        self.assertEqual(self.post("/cleaning", body, status=422)["errors"][0]["code"], "other_cultivar")
        Lot.objects.filter(pk=second.pk).update(line=first.line)
        made = self.post("/cleaning", body)
        self.assertEqual(
            set(Lot.objects.get(pk=made["id"]).made_from.values_list("parent", flat=True)), {first.pk, second.pk}
        )


class Releasing(SeedCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.live_to_clean_seed()

    def test_no_release_while_a_result_is_missing_and_the_words_say_which(self) -> None:
        self.accept_all(self.block)
        self.result(self.lot, "purity")
        self.result(self.lot, "moisture")
        told = self.decide(self.lot, "release", status=422, reason="the customer waits")["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("decision", "results_wanting"))
        self.assertIn("germination was not tested", told["message"])
        self.result(self.lot, "germination")
        self.decide(self.lot, "release")
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.status, "released")

    def test_where_the_house_asks_for_two_pairs_of_eyes_the_one_who_tested_does_not_release(self) -> None:
        self.accept_all(self.block)
        for kind in ("purity", "moisture", "germination"):
            self.result(self.lot, kind)
        self.call("patch", "/organisation", {"two_pairs": True})
        told = self.decide(self.lot, "release", status=422)["errors"][0]
        self.assertEqual(told["code"], "second_person")
        self.client.force_login(member(self.ctx, "lil", Role.LABORATORY))
        self.decide(self.lot, "release")
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.status, "released")

    def test_no_release_while_a_field_inspection_is_open(self) -> None:
        for kind in ("germination", "purity", "moisture"):
            self.result(self.lot, kind)
        told = self.decide(self.lot, "release", status=422)["errors"][0]
        self.assertEqual(told["code"], "inspection_wanting")
        self.assertIn("“before flowering” is not signed", told["message"])
        self.assertEqual(len(self.get(f"/lots/{self.lot.pk}/field-wanting")), 3)

    def test_a_lot_is_never_released_above_the_class_its_field_was_taken_down_to(self) -> None:
        block, lot = self.block, self.lot
        self.accept_all(block)
        for kind in ("germination", "purity", "moisture", "other_seeds"):
            self.result(lot, kind)
        version = self.get(f"/seed-blocks/{block.pk}")["version"]
        self.post(f"/seed-blocks/{block.pk}/class", {"seed_class": "quality-declared", "version": version})
        told = self.decide(lot, "release", 422, reason="it looks well")["errors"][0]
        self.assertEqual(told["code"], "field_class")
        lot.refresh_from_db()
        self.assertEqual((lot.status, lot.verdicts.count()), ("clean", 0))

    def test_no_release_while_a_neighbour_stands_too_near_and_a_strip_comes_too_late_after_harvest(self) -> None:
        block, lot = self.block, self.lot
        self.accept_all(block)
        for kind in ("germination", "purity", "moisture", "other_seeds"):
            self.result(lot, kind)
        body = {
            "name": "Bank",
            "crop_id": sunflower().pk,
            "kind": "other cultivar",
            "year": 2027,
            "seen_on": str(self.ctx.today),
            "seen_by": "Jory",
            "corners_m": NEAR,
        }
        neighbour = self.post("/neighbours", body)["id"]
        told = self.decide(lot, "release", 422, reason="the bees flew the other way")["errors"][0]
        self.assertEqual(told["code"], "inspection_wanting")
        self.assertIn("isolation: Bank stands at 420 of 500 m", told["message"])
        seen = self.get(f"/seed-blocks/{block.pk}/isolation")
        self.assertFalse(seen["remedies"][0]["possible"])
        late = self.post(f"/seed-blocks/{block.pk}/strip", {"version": seen["version"]}, status=422)["errors"][0]
        self.assertEqual(late["code"], "taken_in")
        self.post(f"/neighbours/{neighbour}/forget", {"reason": "it was millet"})
        self.decide(lot, "release")
        lot.refresh_from_db()
        self.assertEqual(lot.status, "released")

    def test_a_class_that_is_inspected_is_not_released_without_any_inspection(self) -> None:
        for kind in ("germination", "purity", "moisture", "other_seeds"):
            self.result(self.lot, kind)
        self.block.inspections.all().delete()
        told = self.decide(self.lot, "release", 422)["errors"][0]
        self.assertIn("no field inspection was made", told["message"])
        Standard.objects.filter(kind="field", crop=sunflower()).delete()
        self.decide(self.lot, "release")

    def test_what_an_abandoned_field_left_open_still_bars_its_lot(self) -> None:
        for kind in ("germination", "purity", "moisture", "other_seeds"):
            self.result(self.lot, kind)
        Batch.objects.filter(pk=self.block.batch_id).update(state=Batch.State.ABANDONED)
        self.assertEqual(self.decide(self.lot, "release", 422)["errors"][0]["code"], "inspection_wanting")

    def test_replicates_too_far_apart_count_for_nothing_until_repeated(self) -> None:
        self.accept_all(self.block)
        self.result(self.lot, "purity")
        self.result(self.lot, "moisture")
        far = self.result(self.lot, "germination", normal=[78, 82, 85, 95])
        self.assertIn("differ by 17 %", far["repeat"])
        told = self.decide(self.lot, "release", status=422)["errors"][0]
        self.assertIn("must be tested again", told["message"])
        self.result(self.lot, "germination", normal=[88, 90, 91, 87])
        self.decide(self.lot, "release")

    def test_a_limit_of_law_is_overridden_by_nobody_and_nothing(self) -> None:
        self.accept_all(self.block)
        for kind in ("purity", "moisture"):
            self.result(self.lot, kind)
        self.result(self.lot, "germination", normal=[84, 84, 85, 83])
        for role in Role:
            client = Client()
            client.force_login(member(self.ctx, f"r-{role}", role))
            answer = client.post(
                f"/api/lots/{self.lot.pk}/verdicts",
                {"decision": "release", "reason": "nearly 85", "client_uuid": uid()},
                content_type="application/json",
            )
            self.assertIn(answer.status_code, (403, 422))
            if answer.status_code == 422:
                self.assertEqual(answer.json()["errors"][0]["code"], "statutory_limit")
        # An own standard cannot loosen it either.
        body = {
            "crop_id": sunflower().pk,
            "seed_class": "certified-1",
            "name": "Ours",
            "source": "us",
            "limits": [{"attribute": "germination", "low": 70}, {"attribute": "purity", "low": 98}],
        }
        self.assertEqual(self.post("/seed-standards", body, status=422)["errors"][0]["code"], "statutory_limit")
        body["limits"] = [{"attribute": "germination", "low": 90}]
        self.post("/seed-standards", body)
        own = Standard.objects.get(organisation=self.ctx.organisation, kind="seed", seed_class="certified-1")
        self.assertEqual({x["attribute"]: x["statutory"] for x in own.limits}, {"germination": True, "purity": True})
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.status, "clean")

    def test_another_limit_is_overridden_only_with_a_reason_and_a_class_only_if_it_is_met(self) -> None:
        self.accept_all(self.block)
        for kind in ("germination", "purity"):
            self.result(self.lot, kind)
        self.result(self.lot, "moisture", duplicates=[10.9, 11.0])
        told = self.decide(self.lot, "release", status=422)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("reason", "reason_missing"))
        told = self.decide(self.lot, "downgrade", status=422, seed_class="quality-declared")["errors"][0]
        self.assertEqual(told["code"], "no_standard")
        self.decide(self.lot, "release", reason="dried again on the way, agreed in writing")
        self.assertEqual(Verdict.objects.get().reason, "dried again on the way, agreed in writing")

    def test_a_new_result_reopens_a_released_lot(self) -> None:
        self.accept_all(self.block)
        for kind in ("germination", "purity", "moisture"):
            self.result(self.lot, kind)
        self.decide(self.lot, "release")
        old = TestResult.objects.get(lot=self.lot, kind="germination")
        self.assertEqual(
            self.result(self.lot, "germination", status=422, replaces=old.pk)["errors"][0]["code"], "missing"
        )
        self.result(self.lot, "germination", replaces=old.pk, reason="misread", normal=[80, 81, 82, 83])
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.status, "held")
        self.assertEqual(self.decide(self.lot, "release", status=422)["errors"][0]["code"], "statutory_limit")
        self.assertEqual(
            self.result(self.lot, "germination", status=422, replaces=old.pk, reason="again")["errors"][0]["code"],
            "replaced",
        )

    def test_results_that_cannot_have_been_read_are_refused(self) -> None:
        for kind, more, code in (
            ("germination", {"normal": [101, 90, 90, 90]}, "out_of_range"),
            ("germination", {"normal": [90]}, "length"),
            ("purity", {"pure_g": -1}, "missing"),
            ("purity", {"pure_g": 0, "inert_g": 0, "other_g": 0}, "missing"),
            ("moisture", {"duplicates": [9]}, "length"),
            ("moisture", {"duplicates": [9, 99]}, "out_of_range"),
            ("other_seeds", {"sample_g": 0}, "missing"),
            ("germination", {"tested_on": "2027-01-01"}, "too_early"),
            ("germination", {"tested_on": "2029-01-01"}, "in_the_future"),
        ):
            self.assertEqual(self.result(self.lot, kind, status=422, **more)["errors"][0]["code"], code, (kind, more))
        self.assertEqual(TestResult.objects.filter(lot=self.lot).count(), 0)
        told = self.post(
            f"/lots/{self.lot.pk}/tests", {"kind": "germination", "value": 0.99, "tested_on": "2027-09-14"}, status=422
        )["errors"][0]
        self.assertEqual(told["code"], "needs_replicates")

    def test_moisture_duplicates_lie_within_a_fifth_of_a_percent(self) -> None:
        self.assertIn("apart", self.result(self.lot, "moisture", duplicates=[8.8, 9.1])["repeat"])
        self.assertEqual(self.result(self.lot, "moisture", duplicates=[8.9, 9.1])["repeat"], "")

    def test_descent_is_one_query_both_ways_and_the_delivery_declares_it(self) -> None:
        self.accept_all(self.block)
        for kind in ("germination", "purity", "moisture"):
            self.result(self.lot, kind)
        line = OrderLine.objects.get()
        order = {"order_id": line.order_id, "on": str(self.ctx.today), "client_uuid": uid()}
        pick = {"picks": [{"line_id": line.pk, "lot_id": self.lot.pk, "quantity": 1200}]}
        self.assertEqual(self.post("/deliveries", {**order, **pick}, status=422)["errors"][0]["code"], "not_released")
        self.decide(self.lot, "release")
        self.post(f"/lots/{self.lot.pk}/seals", {"numbers": ["EC-1", "EC-2"]})
        for numbers, code in ((["EC-2"], "used"), (["EC-3", "EC-3"], "twice"), ([" "], "missing")):
            self.assertEqual(
                self.post(f"/lots/{self.lot.pk}/seals", {"numbers": numbers}, status=422)["errors"][0]["code"], code
            )
        due = self.get("/deliveries")["due"][0]
        self.assertEqual(([s["code"] for s in due["stock"]], due["unit"]), ([self.lot.code], "kg"))
        made = self.post("/deliveries", {**order, **pick})
        declared = self.get(f"/deliveries/{made['id']}/quality-declaration")["lots"][0]
        self.assertEqual(
            (declared["code"], declared["class_name"], declared["seals"]), (self.lot.code, "certified 1", "EC-1, EC-2")
        )
        self.assertEqual({r["attribute"]: r["outcome"] for r in declared["results"]}["germination"], "pass")
        self.assertIn("before flowering accepted", declared["inspections"])
        self.assertTrue(self.get(f"/deliveries/{made['id']}/quality-declaration.pdf").content.startswith(b"%PDF"))
        self.assertTrue(self.get(f"/lots/{self.lot.pk}/label.pdf").content.startswith(b"%PDF"))
        self.assertEqual(Document.objects.filter(kind="quality declaration").count(), 1)
        with CaptureQueriesContext(connection) as queries:
            family = descent(self.ctx, self.lot.pk)
        self.assertEqual(len(queries), 1)
        self.assertEqual(
            [(f["level"], f["code"] == self.lot.code) for f in family],
            [(-2, False), (-2, False), (-1, False), (0, True)],
        )
        parents = descent(self.ctx, family[0]["id"])
        self.assertEqual({f["code"] for f in parents}, {family[0]["code"], family[2]["code"], self.lot.code})
        self.assertEqual((Batch.objects.get().state, OrderLine.objects.get().state), ("ready", "delivered"))

    def hand_over(self, kilos: int, status: int = 200, **more: Any) -> Any:
        line = OrderLine.objects.get()
        body = {
            "order_id": line.order_id,
            "on": str(self.ctx.today),
            "client_uuid": uid(),
            "picks": [{"line_id": line.pk, "lot_id": self.lot.pk, "quantity": kilos}],
        }
        return self.post("/deliveries", {**body, **more}, status=status)

    def test_released_seed_leaves_only_as_long_as_every_result_holds(self) -> None:
        self.accept_all(self.block)
        kinds = ("germination", "purity", "moisture")
        for kind in kinds:
            self.result(self.lot, kind)
        self.decide(self.lot, "release")
        begun = self.ctx.today
        for kind, days in sorted(((kind, VALID_DAYS[kind]) for kind in kinds), key=lambda one: one[1]):
            with self.subTest(kind=kind):
                advance(self.ctx, begun + timedelta(days=days - 1))
                sooner = [other for other in kinds if VALID_DAYS[other] < days]
                for other in sooner:
                    self.result(self.lot, other, reason="before the day of the delivery")
                if sooner:
                    self.decide(self.lot, "release")
                self.hand_over(11)
                advance(self.ctx, begun + timedelta(days=days))
                told = self.hand_over(11, status=422)["errors"][0]
                self.assertEqual((told["field"], told["code"]), ("picks.0.lot_id", "results_wanting"))
                self.assertIn("is too old", told["message"])
                stock = self.get("/deliveries")["due"][0]["stock"][0]
                self.assertIn("is too old", stock["barred"])
                self.assertEqual(stock["proposed"], 0)
                asked = [one for one in self.get("/season-line")["decisions"] if one["code"] == "expired"]
                self.assertEqual([one["about"] for one in asked], [self.lot.code])
                self.assertEqual(
                    self.get(f"/lots/{self.lot.pk}/label.pdf", status=422)["errors"][0]["code"], "results_wanting"
                )
                self.result(self.lot, kind)  # holds it until somebody judges it again
                self.assertEqual(self.hand_over(11, status=422)["errors"][0]["code"], "not_released")
                self.decide(self.lot, "release")
                self.hand_over(11)

    def test_testing_again_is_compared_averaged_and_told_and_no_way_round_the_law(self) -> None:
        """Sunflower must germinate at 85 % by law: 82 fails, and neither 86 nor 93 beside it makes it pass."""
        self.accept_all(self.block)
        for kind in ("purity", "moisture"):
            self.result(self.lot, kind)
        self.result(self.lot, "germination", normal=[82, 81, 83, 82])
        again = {"normal": [86, 85, 87, 86], "status": 422}
        told = self.result(self.lot, "germination", **again)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("reason", "missing"))
        self.result(self.lot, "germination", **{**again, "status": 200}, reason="a second sample was drawn")
        self.assertEqual(self.decide(self.lot, "release", status=422)["errors"][0]["code"], "statutory_limit")
        self.result(self.lot, "germination", normal=[93, 92, 94, 93], reason="another laboratory")
        detail = self.get(f"/lots/{self.lot.pk}")
        row = next(one for one in detail["judged"]["attributes"] if one["attribute"] == "germination")
        self.assertEqual((row["value"], row["outcome"]), (84, "fail"))
        self.assertIn("mean of 2 tests", row["note"])
        self.assertEqual(
            self.decide(self.lot, "release", status=422, reason="it looks fine")["errors"][0]["code"], "statutory_limit"
        )
        self.assertEqual(round(Lot.objects.get(pk=self.lot.pk).germination or 0, 4), 0.84)

    def test_a_test_entered_late_is_a_test_more_as_well(self) -> None:
        before = self.ctx.today
        self.on(before + timedelta(days=2))
        self.result(self.lot, "germination", normal=[83, 82, 84, 83])
        told = self.result(self.lot, "germination", tested_on=str(before), status=422)["errors"][0]
        self.assertEqual((told["field"], told["code"]), ("reason", "missing"))

    def test_two_tests_that_contradict_each_other_hold_a_lot_until_a_third_decides(self) -> None:
        self.accept_all(self.block)
        for kind in ("purity", "moisture"):
            self.result(self.lot, kind)
        self.result(self.lot, "germination", normal=[80, 81, 82, 81])
        self.result(self.lot, "germination", normal=[91, 90, 92, 91], reason="dormancy was not broken the first time")
        told = self.decide(self.lot, "release", status=422)["errors"][0]
        self.assertEqual(told["code"], "results_wanting")
        self.assertIn("10 % apart, more than the 5 % tolerated", told["message"])
        [asked] = [one for one in self.get("/season-line")["decisions"] if one["code"] == "repeat"]
        self.assertEqual(asked["about"], self.lot.code)
        self.result(self.lot, "germination", normal=[89, 88, 90, 89])  # called for, so no reason is asked
        self.decide(self.lot, "release")
        note = self.hand_over(40)
        lot = self.get(f"/deliveries/{note['id']}/quality-declaration")["lots"][0]
        [row] = [one for one in lot["results"] if one["words"] == "germination"]
        self.assertEqual((row["value"], row["note"].count("not in it: 81")), (90, 1))
        made = [one for one in lot["tests"] if one["words"] == "germination"]
        self.assertEqual([one["found"] for one in made], ["81 %", "91 %", "89 %"])
        self.assertTrue(all(one["by"] and one["on"] for one in made))
        self.assertIn("not in the result", made[0]["said"])
        self.assertIn("tested again because", made[2]["said"])
        self.assertIn("by ada, manager", lot["signed"])

    def test_seed_set_aside_for_a_day_after_its_results_is_to_be_tested_in_time(self) -> None:
        self.accept_all(self.block)
        for kind in ("germination", "purity", "moisture"):
            self.result(self.lot, kind)
        self.decide(self.lot, "release")
        line = OrderLine.objects.get()
        good_until = self.ctx.today + timedelta(days=VALID_DAYS["moisture"])

        def asked() -> list[dict[str, Any]]:
            return [one for one in self.get("/season-line")["decisions"] if one["code"] == "retest"]

        for days, told in ((-1, 0), (40, 1)):
            OrderLine.objects.filter(pk=line.pk).update(
                due=DateRange(good_until + timedelta(days=days), good_until + timedelta(days=days + 3))
            )
            SetAside.objects.update_or_create(order_line=line, lot=self.lot, defaults={"quantity": 9_000})
            self.assertEqual(len(asked()), told, days)
        self.assertIn(f"order {line.order.number}", asked()[0]["sentence"])
        self.assertEqual(asked()[0]["by"], str(good_until + timedelta(days=12)))
        advance(self.ctx, good_until - timedelta(days=30))
        self.result(self.lot, "moisture")
        self.decide(self.lot, "release")
        self.assertEqual(asked(), [])

    def test_what_leaves_is_judged_by_the_results_of_its_day(self) -> None:
        self.accept_all(self.block)
        for kind in ("germination", "purity", "moisture"):
            self.result(self.lot, kind)
        self.decide(self.lot, "release")
        released = self.ctx.today
        advance(self.ctx, released + timedelta(days=VALID_DAYS["moisture"] + 20))
        told = self.hand_over(7, status=422, on=str(released + timedelta(days=VALID_DAYS["moisture"] + 2)))
        self.assertEqual(told["errors"][0]["code"], "results_wanting")
        self.hand_over(7, on=str(released + timedelta(days=5)))  # entered late: on that day it could leave

    def test_a_lot_that_is_not_released_has_no_label_and_takes_no_seals(self) -> None:
        self.assertEqual(self.get(f"/lots/{self.lot.pk}/label.pdf", status=422)["errors"][0]["code"], "not_released")
        self.assertEqual(
            self.post(f"/lots/{self.lot.pk}/seals", {"numbers": ["X"]}, status=422)["errors"][0]["code"], "wrong_state"
        )
        self.assertEqual(Seal.objects.count(), 0)
        self.decide(self.lot, "reject", status=422)
        self.decide(self.lot, "reject", reason="musty")
        self.accept_all(self.block)
        self.assertEqual(self.decide(self.lot, "release", status=422)["errors"][0]["code"], "wrong_state")

    def test_own_seed_does_not_grow_by_correction(self) -> None:
        more = {"counted": 1600, "reason": "weighed again"}
        self.assertEqual(self.post(f"/lots/{self.lot.pk}/balance", more, status=422)["errors"][0]["code"], "own_seed")
        self.post(f"/lots/{self.lot.pk}/balance", {"counted": 1490, "reason": "mice"})
        self.lot.refresh_from_db()
        self.assertEqual(self.lot.balance, 1_490_000)

    def test_bought_seed_is_not_judged_and_a_verdict_is_signed_once(self) -> None:
        bought = Lot.objects.filter(status="").first()
        assert bought
        self.assertEqual(self.decide(bought, "hold", status=422)["errors"][0]["code"], "not_own")
        same = uid()
        for _ in range(2):
            self.decide(self.lot, "hold", client_uuid=same)
        self.assertEqual(Verdict.objects.count(), 1)
        self.assertEqual(AuditEvent.objects.filter(action="lot.verdict").count(), 1)


class Strangers(SeedCase):
    def test_blocks_visits_neighbours_and_lots_of_another_house_do_not_exist_here(self) -> None:
        from tests.server.house import make_house

        block = self.sown()
        self.on(date(2027, 9, 10))
        lot = self.clean_lot(block)
        neighbour = self.post(
            "/neighbours",
            {
                "name": "B",
                "crop_id": sunflower().pk,
                "kind": "other cultivar",
                "year": 2027,
                "seen_on": "2027-06-01",
                "corners_m": [[500, 0], [600, 0], [600, 90]],
            },
        )["id"]
        other = make_house("Other", username="bert")
        client = Client()
        assert other.user is not None
        client.force_login(other.user)
        visit = block.inspections.first()
        assert visit
        for path in (
            f"/seed-blocks/{block.pk}",
            f"/seed-blocks/{block.pk}/isolation",
            f"/inspections/{visit.pk}",
            f"/lots/{lot.pk}/descent",
            f"/seed-blocks/{block.pk}/rows.csv",
            f"/lots/{lot.pk}/field-wanting",
        ):
            self.get(path, client=client, status=404)
        for path, body in (
            ("/seed-blocks", {"batch_id": block.batch_id}),
            (f"/inspections/{visit.pk}/counts", {"entries": []}),
            (f"/lots/{lot.pk}/verdicts", {"decision": "hold", "client_uuid": uid()}),
            (f"/neighbours/{neighbour}/forget", {"reason": "x"}),
            (
                "/cleaning",
                {
                    "on": "2027-07-06",
                    "lots": [{"lot_id": lot.pk, "kg": "5"}],
                    "clean": "4",
                    "screenings": "1",
                    "client_uuid": uid(),
                },
            ),
        ):
            self.post(path, body, client=client, status=404)
        self.assertEqual(self.get("/seed-crops", client=client), [])


class AtTheSameMoment(TransactionTestCase):
    """Two requests in two threads, as two people or one impatient thumb make them."""

    def setUp(self) -> None:
        ensure_library()
        self.ctx = make_house()
        advance(self.ctx, SPRING)
        make_seed_house(self.ctx)
        SeedCase.setUp(self)  # type: ignore[arg-type]

    call, post, get = HouseCase.call, HouseCase.post, HouseCase.get
    order, laid_out, sown, on, load = SeedCase.order, SeedCase.laid_out, SeedCase.sown, SeedCase.on, SeedCase.load
    count_all = SeedCase.count_all

    def both(self, path: str, bodies: list[dict[str, Any]]) -> list[int]:
        def send(body: dict[str, Any]) -> int:
            client = Client()
            assert self.ctx.user is not None
            client.force_login(self.ctx.user)
            try:
                return client.post(f"/api{path}", body, content_type="application/json").status_code
            finally:
                connection.close()

        with ThreadPoolExecutor(2) as pool:
            return sorted(pool.map(send, bodies))

    def test_one_entry_sent_twice_at_once_is_one_record(self) -> None:
        block = self.sown()
        self.on(date(2027, 9, 10))
        out = {"on": "2027-09-01", "how": "cut and destroyed", "client_uuid": uid()}
        self.assertEqual(self.both(f"/seed-blocks/{block.pk}/male-out", [out, out]), [200, 200])
        load = {
            "on": "2027-09-10",
            "gross": "9000",
            "tare": "7000",
            "moisture_percent": 9,
            "equipment_clean": True,
            "client_uuid": uid(),
        }
        self.assertEqual(self.both(f"/seed-blocks/{block.pk}/harvest", [load, load]), [200, 200])
        raw = Lot.objects.get(status="raw")
        clean = {
            "on": "2027-09-10",
            "lots": [{"lot_id": raw.pk, "kg": "2000"}],
            "clean": "1900",
            "screenings": "100",
            "client_uuid": uid(),
        }
        self.assertEqual(self.both("/cleaning", [clean, clean]), [200, 200])
        lot = Lot.objects.get(status="clean")
        result = {"kind": "moisture", "tested_on": "2027-09-10", "duplicates": [9, 9.1], "client_uuid": uid()}
        self.assertEqual(self.both(f"/lots/{lot.pk}/results", [result, result]), [200, 200])
        hold = {"decision": "hold", "client_uuid": uid()}
        self.assertEqual(self.both(f"/lots/{lot.pk}/verdicts", [hold, hold]), [200, 200])
        self.assertEqual(
            (TestResult.objects.filter(lot=lot).count(), Verdict.objects.count(), raw.movements.count()), (1, 1, 3)
        )

    def test_two_people_sign_one_visit_and_one_of_them_is_told(self) -> None:
        block = self.sown()
        self.on(date(2027, 6, 28))
        visit = block.inspections.get(number=1)
        self.count_all(visit.pk)
        self.assertEqual(
            self.both(f"/inspections/{visit.pk}/sign", [{"decision": "accept"}, {"decision": "accept"}]), [200, 422]
        )

    def test_taps_of_two_phones_that_overlap_are_each_kept_once(self) -> None:
        block = self.sown()
        self.on(date(2027, 6, 28))
        visit = block.inspections.get(number=1)
        self.post(f"/inspections/{visit.pk}/begin")
        same = [{"client_uuid": uid(), "area": 1, "plants": 10} for _ in range(20)]
        self.assertEqual(
            self.both(f"/inspections/{visit.pk}/counts", [{"entries": same}, {"entries": list(reversed(same))}]),
            [200, 200],
        )
        self.assertEqual(InspectionCount.objects.count(), 20)


class QueryCounts(SeedCase):
    def test_five_times_the_blocks_neighbours_and_lots_take_no_more_queries(self) -> None:
        first = self.sown()
        numbers = []
        for round_ in range(2):
            counts = []
            for path in (
                "/seed-crops",
                "/season-line",
                "/lots",
                f"/seed-blocks/{first.pk}",
                f"/seed-blocks/{first.pk}/isolation",
            ):
                with CaptureQueriesContext(connection) as queries:
                    self.get(path)
                counts.append(len(queries))
            numbers.append(counts)
            if round_:
                break
            self.on(SPRING)
            site = Site.objects.get()
            for n in range(5):
                ring = [(x + 300.0, y + 400.0 * (n + 4)) for x, y in FIELD]
                add_place(self.ctx, site.pk, PlaceSpec(f"More {n}", "field", None, outline=polygon_of(site, ring)))
                self.laid_out(field=f"More {n}", order=f"m{n}")
                corners = [[x + 900, y + 300 * n] for x, y in FIELD]
                self.post(
                    "/neighbours",
                    {
                        "name": f"N{n}",
                        "crop_id": sunflower().pk,
                        "kind": "other cultivar",
                        "year": 2027,
                        "seen_on": str(SPRING),
                        "corners_m": corners,
                    },
                )
            self.on(date(2027, 4, 15))
        self.assertEqual(numbers[0], numbers[1])
        self.assertLess(max(numbers[1]), 45)
