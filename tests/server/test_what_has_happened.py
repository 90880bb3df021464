"""What has happened stays, one by one: each of these was once falsified by a later act."""

import threading
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from typing import Any

from django.db import connections
from django.test import Client, TransactionTestCase

from aldrip.batches.models import Batch, Occupancy
from aldrip.diary.models import Count, Task
from aldrip.lots.models import Lot, Status
from aldrip.methods.models import Crop
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip.seedcrops.models import InspectionCount
from tests.server.house import HouseCase, advance, ensure_library, make_house, order_row, seed_lot, take_order, uid
from tests.server.seed_house import SeedCase


class Grown(HouseCase):
    """A batch of endive that was sown by the gram and grows on a bench."""

    def setUp(self) -> None:
        super().setUp()
        self.lot = seed_lot(self.ctx, "endive", grams=300)
        self.line, self.batch = self.planned(crop="Endive", quantity="9000", due="2027-W37")

    def sow(self, **more: Any) -> None:
        on = self.batch.stages.get(key="sow").planned.lower
        advance(self.ctx, on)
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(on), **more})

    def move(self, key: str) -> None:
        on = self.batch.stages.get(key=key).planned.lower
        advance(self.ctx, on)
        self.post(f"/batches/{self.batch.pk}/moved", {"stage": key, "on": str(on)})

    def keep(self, change: dict[str, Any]) -> None:
        told = self.post(f"/batches/{self.batch.pk}/preview", change)
        self.post(f"/batches/{self.batch.pk}/keep", {"version": told["version"], "change": change})
        self.batch.refresh_from_db()

    def stood(self) -> list[Any]:
        """What stood where on the days before today."""
        rows = Occupancy.objects.filter(stage__batch=self.batch, during__startswith__lt=self.ctx.today).order_by("id")
        return sorted(
            (r.stage.key, r.place_id, r.during.lower, min(r.during.upper, self.ctx.today), r.amount) for r in rows
        )


class Edits(Grown):
    def test_another_chance_leaves_what_was_started(self) -> None:
        self.sow()
        start = Batch.objects.get(pk=self.batch.pk).start
        self.keep({"chance": 0.995})
        self.assertEqual((self.batch.start, self.batch.chance_wanted), (start, 0.995))

    def test_another_day_or_place_leaves_where_it_stood(self) -> None:
        self.sow()
        self.move("germinate") if self.batch.stages.get(key="germinate").actual_start is None else None
        self.move("grow")
        advance(self.ctx, self.ctx.today + timedelta(days=6))
        before = self.stood()
        bench = (
            Place.objects.filter(organisation=self.ctx.organisation, kind="bench")
            .exclude(pk=self.batch.stages.get(key="grow").place_id)
            .get()
        )
        for change in (
            {"ready_on": "2027-11-20"},
            {"ready_on": str(self.ctx.today)},
            {"stage": "grow", "place_id": bench.pk},
        ):
            self.keep(change)
            self.assertEqual(self.stood(), before, change)
        told = self.post(f"/batches/{self.batch.pk}/preview", {"stage": "germinate", "place_id": bench.pk}, status=422)
        self.assertEqual(told["errors"][0]["code"], "happened")

    def test_closing_a_place_leaves_what_stood_there(self) -> None:
        self.sow()
        self.move("grow")
        advance(self.ctx, self.ctx.today + timedelta(days=3))
        before, place = self.stood(), Place.objects.get(pk=self.batch.stages.get(key="germinate").place_id)
        body = {
            "name": place.name,
            "kind": place.kind,
            "capacity": place.capacity,
            "gangway": place.gangway,
            "active": False,
            "set_point_c": place.set_point_c,
            "cooled_to_c": place.cooled_to_c,
            "excess_c": place.excess_c,
        }
        self.call("patch", f"/places/{place.pk}", body)
        self.keep({"ready_on": "2027-10-20"})
        self.assertEqual(self.stood(), before)

    def test_the_grams_that_were_weighed_stay(self) -> None:
        self.sow(grams=62.8)
        self.keep({"chance": 0.9})
        self.assertAlmostEqual(float(self.batch.seed_g or 0), 62.8, places=4)
        self.assertEqual(Lot.objects.get(pk=self.lot.pk).balance, Decimal("237.2"))

    def test_a_task_keeps_its_number_its_note_and_its_mark(self) -> None:
        task = Task.objects.filter(subject=self.batch.uuid, kind="sow").get()
        Task.objects.filter(pk=task.pk).update(note="with Bert")
        before = set(Task.objects.filter(subject=self.batch.uuid).values_list("id", "stage", "key"))
        self.keep({"shift_days": 7})
        after = Task.objects.filter(subject=self.batch.uuid)
        self.assertEqual(set(after.values_list("id", "stage", "key")), before)
        self.assertEqual(after.get(pk=task.pk).note, "with Bert")
        self.assertGreater(after.get(pk=task.pk).due_from, task.due_from)

    def test_a_preview_of_a_batch_that_waits_to_be_graded(self) -> None:
        self.sow()
        for key in ("grow", "harden", "grade"):
            self.move(key)
        self.post(f"/batches/{self.batch.pk}/preview", {"chance": 0.9})
        self.post(f"/batches/{self.batch.pk}/preview", {"ready_on": "2027-10-10"})


class Seed(Grown):
    def refused(self, lot: Lot, code: str) -> None:
        on = self.batch.stages.get(key="sow").planned.lower
        advance(self.ctx, on)
        told = self.post(f"/batches/{self.batch.pk}/sown", {"on": str(on), "lot_id": lot.pk}, status=422)
        self.assertEqual(told["errors"][0]["code"], code, told)
        lot.refresh_from_db()
        self.assertEqual(Batch.objects.get(pk=self.batch.pk).state, "planned")

    def test_graded_plugs_rejected_seed_and_another_crop_are_not_sown(self) -> None:
        plugs = Lot.objects.create(
            organisation=self.ctx.organisation,
            code="P",
            crop=self.lot.crop,
            form="plug",
            unit="plants",
            received_on=self.ctx.today,
            balance=9000,
        )
        self.refused(plugs, "other_form")
        Lot.objects.filter(pk=self.lot.pk).update(status=Status.REJECTED)
        self.refused(self.lot, "not_released")
        self.refused(seed_lot(self.ctx, "zinnia"), "other_crop")

    def test_a_lot_kept_in_kilos_gives_grams(self) -> None:
        kilo = self.post(
            "/lots", {"crop_id": self.lot.crop_id, "quantity": "2 kg", "germination": 0.9, "tested_on": "2027-03-01"}
        )["id"]
        self.sow(lot_id=kilo, grams=41.8)
        self.assertEqual(Lot.objects.get(pk=kilo).balance, Decimal("1958.2"))

    def test_sown_from_a_poorer_lot_it_is_reckoned_with_that_lot(self) -> None:
        before = self.batch.planned_chance
        poor = seed_lot(self.ctx, "endive", grams=300, germination=0.55)
        self.sow(lot_id=poor.pk)
        shown = self.get(f"/batches/{self.batch.pk}")
        rate = next(rung["rate"] for rung in shown["rungs"] if rung["stage"] == "germinate")
        self.assertIn(poor.code, rate["source"])
        self.assertLess(rate["mean"], 0.6)
        self.assertLess(shown["forecast"]["chance"], before)


class Counts(Grown):
    def count(self, found: int, back: int, **more: Any) -> dict[str, Any]:
        body = {
            "trays": [{"sampled": 240, "found": found}] * 3,
            "on": str(self.ctx.today - timedelta(days=back)),
            "client_uuid": uid(),
            **more,
        }
        self.post(f"/batches/{self.batch.pk}/counts", body)
        return body

    def test_of_two_counts_the_later_day_counts_in_whatever_order_they_come(self) -> None:
        self.sow()
        advance(self.ctx, self.ctx.today + timedelta(days=9))
        self.count(216, 0)
        self.count(120, 4)
        self.assertAlmostEqual(self.batch.stages.get(key="germinate").counted_share or 0, 0.9)

    def test_a_repeat_after_the_end_gets_the_first_answer(self) -> None:
        self.sow()
        advance(self.ctx, self.ctx.today + timedelta(days=6))
        body = self.count(200, 0)
        first = Count.objects.get(subject=self.batch.uuid)
        self.post(f"/batches/{self.batch.pk}/end", {"cause": "slugs"})
        self.assertEqual(self.post(f"/batches/{self.batch.pk}/counts", body)["id"], first.pk)


class WithoutASignal(SeedCase):
    def test_a_count_keeps_the_hour_at_which_it_was_made(self) -> None:
        """Sent two hours after it was made, by a phone whose clock is right; a clock that cannot be right is not believed."""
        block = self.sown()
        visit = block.inspections.order_by("number").first()
        assert visit is not None
        self.on(date(2027, 6, 25))
        begun = self.post(f"/inspections/{visit.pk}/begin")
        for area, (made, late) in enumerate(
            ((timedelta(hours=2), timedelta(hours=2)), (timedelta(days=90), timedelta(0))), start=1
        ):
            counted_at = (datetime.now(UTC) - made).isoformat()
            entry = {
                "client_uuid": uid(),
                "area": area,
                "plants": begun["plants_per_area"],
                "faults": {},
                "counted_at": counted_at,
            }
            self.post(f"/inspections/{visit.pk}/counts", {"entries": [entry]})
            kept = InspectionCount.objects.get(client_uuid=entry["client_uuid"]).happened_at
            self.assertLess(abs(self.ctx.now - late - kept), timedelta(minutes=1), area)


class PlacesAndWords(Grown):
    def test_a_place_measured_otherwise_takes_nothing_of_it(self) -> None:
        """A room with so many trays says nothing of pots; trays it could count."""
        room = Place.objects.get(organisation=self.ctx.organisation, name="Room")
        _, pots = self.planned(crop="Gerbera", form="pot", quantity="300", due="2027-W46")
        spaced = next(
            one["key"]
            for one in pots.method_snapshot["stages"]
            if one["density"] == "unit_m2" and one["place_kind"] == "bench"
        )
        told = self.post(f"/batches/{pots.pk}/preview", {"stage": spaced, "place_id": room.pk}, status=422)
        self.assertEqual(told["errors"][0]["code"], "other_unit")
        told = self.post(f"/batches/{self.batch.pk}/preview", {"stage": "grow", "place_id": room.pk}, status=422)
        self.assertEqual(told["errors"][0]["code"], "never_grown")  # trays it could count, but it is dark there

    def test_a_place_with_something_in_it_stays_measured_as_it_is(self) -> None:
        bench = Place.objects.get(pk=self.batch.stages.get(key="grow").place_id)
        body = {
            "name": bench.name,
            "kind": "germination",
            "capacity": 400,
            "unit": "trays",
            "gangway": 0.1,
            "set_point_c": 18,
            "cooled_to_c": 18,
        }
        told = self.call("patch", f"/places/{bench.pk}", body, status=422)
        self.assertEqual(told["errors"][0]["code"], "in_use")
        self.assertIn(self.batch.code, told["errors"][0]["message"])
        free = Place.objects.get(organisation=self.ctx.organisation, name="Hot bed")
        self.call("patch", f"/places/{free.pk}", {**body, "name": free.name})

    def test_braces_in_a_tasks_words_and_a_method_of_one_stage(self) -> None:
        crop = Crop.objects.get(slug="statice")
        task = {"kind": "sow", "words": "Sow {crop} {thinly} in {", "minutes": 10}
        one = {
            "key": "sow",
            "name": "Sown",
            "kind": "sow",
            "after": "",
            "days": 5,
            "unit": "plants",
            "traits": ["starts"],
            "takes": "seed",
            "tasks": [task],
        }
        self.post(
            "/library/method/one-stage",
            {
                "values": {
                    "name": "One stage",
                    "crop": "statice",
                    "form": "sown tray",
                    "container": "tray-240",
                    "stages": [one],
                }
            },
        )
        seed_lot(self.ctx, "statice")
        line = take_order(self.ctx, crop="Statice", form="sown tray", quantity="2000", due="2027-W40")
        self.post("/batches/plan-lines", {})
        batch = Batch.objects.get(allocations__order_line=line)
        self.assertIn("statice {thinly} in {", Task.objects.get(subject=batch.uuid, kind="sow").title.lower())
        on = batch.stages.get().planned.lower
        advance(self.ctx, on)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(on)})
        self.get(f"/batches/{batch.pk}")
        self.assertTrue(crop.pk)


class AtOnce(TransactionTestCase):
    """Two people, one moment: each gets an answer, and it is done once."""

    def setUp(self) -> None:
        ensure_library()
        self.ctx = make_house()
        seed_lot(self.ctx, "pak-choi")

    def both(self, *asked: tuple[str, dict[str, Any]]) -> list[tuple[int, Any]]:
        answers: list[tuple[int, Any]] = []

        def ask(path: str, body: dict[str, Any]) -> None:
            client = Client()
            assert self.ctx.user is not None
            client.force_login(self.ctx.user)
            answer = client.post(f"/api{path}", body, content_type="application/json")
            answers.append((answer.status_code, answer.json()))
            connections.close_all()

        threads = [threading.Thread(target=ask, args=one) for one in asked]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(len(answers), len(asked))
        return answers

    def test_two_who_plan_the_same_lines_make_each_batch_once(self) -> None:
        for number in range(3):
            take_order(self.ctx, order=f"A{number}")
        answers = self.both(*[("/batches/plan-lines", {})] * 3)
        self.assertEqual([status for status, _ in answers], [200] * 3)
        self.assertEqual(Batch.objects.count(), 3)

    def test_a_delivery_sent_twice_at_once_is_one(self) -> None:
        line = take_order(self.ctx, quantity="500")
        lot = Lot.objects.create(
            organisation=self.ctx.organisation,
            code="P",
            crop=line.crop,
            form="plug",
            unit="plants",
            received_on=self.ctx.today,
            balance=0,
        )
        lot.movements.create(organisation=self.ctx.organisation, quantity=800, kind="graded", happened_at=self.ctx.now)
        Lot.objects.filter(pk=lot.pk).update(balance=800)
        body = {
            "order_id": line.order_id,
            "on": str(self.ctx.today),
            "client_uuid": uid(),
            "short": [],
            "picks": [{"line_id": line.pk, "lot_id": lot.pk, "quantity": 500}],
        }
        answers = self.both(("/deliveries", body), ("/deliveries", body))
        self.assertEqual([status for status, _ in answers], [200, 200], answers)
        self.assertEqual(answers[0][1]["id"], answers[1][1]["id"])
        self.assertEqual(Lot.objects.get(pk=lot.pk).balance, 300)

    def test_a_line_cancelled_while_its_batch_is_sown(self) -> None:
        client = Client()
        assert self.ctx.user is not None
        client.force_login(self.ctx.user)
        for number in range(4):
            client.post(
                "/api/orders",
                {"rows": [order_row(order=f"B{number}", due="2027-W34")]},
                content_type="application/json",
            )
        client.post("/api/batches/plan-lines", {}, content_type="application/json")
        for line in OrderLine.objects.all():
            batch = Batch.objects.get(allocations__order_line=line)
            on = batch.stages.get(key="sow").planned.lower
            advance(self.ctx, on)
            answers = self.both(
                (f"/batches/{batch.pk}/sown", {"on": str(on)}),
                (f"/order-lines/{line.pk}/cancel", {"reason": "gave up"}),
            )
            self.assertTrue(all(status in (200, 422) for status, _ in answers), answers)
            batch.refresh_from_db()
            self.assertIn(batch.state, ("sown", "abandoned"))
