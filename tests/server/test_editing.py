"""Proposals change nothing; a kept one is saved whole; two managers never overwrite each other; undo."""

from datetime import date, timedelta

from django.test import Client

from aldrip.accounts.models import AuditEvent, Role
from aldrip.batches.models import Batch, BatchStage, Occupancy
from aldrip.batches.saved import load_batch, state_of
from aldrip.diary.models import Task
from aldrip.places.models import Place
from tests.server.house import HouseCase, advance, member, seed_lot


class Proposals(HouseCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.lot = seed_lot(cls.ctx)
        cls.line, cls.batch = cls.teller().planned(order="401", due="2027-W37")

    def state(self) -> dict:
        return state_of(load_batch(self.ctx, self.batch.pk))

    def figure(self, proposal: dict, name: str) -> tuple:
        found = next(f for f in proposal["figures"] if f["name"] == name)
        return found["before"], found["after"]

    def preview(self, status: int = 200, **change: object) -> dict:
        return self.post(f"/batches/{self.batch.pk}/preview", change, status=status)

    def keep(self, version: int, status: int = 200, client: Client | None = None, **change: object) -> dict:
        return self.post(
            f"/batches/{self.batch.pk}/keep", {"version": version, "change": change}, status=status, client=client
        )

    def test_a_preview_saves_nothing_and_a_keep_saves_just_what_was_shown(self) -> None:
        before = self.state()
        shown = self.preview(trays=40)
        self.assertEqual(self.state(), before)
        self.assertEqual(self.figure(shown, "Trays")[1], 40)
        self.assertLess(shown["orders"][0]["after"], shown["orders"][0]["before"])
        self.keep(1, trays=40)
        self.batch.refresh_from_db()
        self.line.refresh_from_db()
        self.assertEqual((self.batch.trays, self.batch.start, self.batch.version), (40, 9600, 2))
        self.assertAlmostEqual(self.line.chance or 0, shown["orders"][0]["after"], places=9)
        self.assertEqual(
            set(
                Occupancy.objects.filter(stage__batch=self.batch, stage__key="germinate").values_list(
                    "amount", flat=True
                )
            ),
            {40.0},
        )
        self.assertEqual(Task.objects.get(subject=self.batch.uuid, kind="sow").quantity, 40)

    def test_any_rung_can_be_typed_and_the_ladder_answers_both_ways(self) -> None:
        grams = self.preview(seed_g=20)
        self.assertEqual(self.figure(grams, "Trays")[1], int(20 / 2.6 * 1000) // 240)
        rung = self.preview(rung={"stage": "grow", "quantity": 13_000})
        self.keep(1, rung={"stage": "grow", "quantity": 13_000})
        grown = self.batch.stages.get(key="grow").out
        self.assertGreaterEqual(grown, 13_000)
        self.assertEqual(self.figure(rung, "Trays")[1], Batch.objects.get(pk=self.batch.pk).trays)
        self.keep(2, back_to_planned=True)
        self.batch.refresh_from_db()
        self.assertFalse(self.batch.start_typed)
        self.assertGreaterEqual(self.batch.planned_chance, 0.95)

    def test_dates_move_with_the_sowing_and_from_delivery_backwards(self) -> None:
        sow = self.batch.stages.get(key="sow").planned.lower
        later = self.preview(shift_days=1)
        moved = date.fromisoformat(self.figure(later, "Sow")[1])
        self.assertGreater(moved, sow)
        self.assertIn(moved.weekday(), (1, 4))
        ready = self.preview(ready_on="2027-09-15")
        self.assertLessEqual(self.figure(ready, "Ready")[1], "2027-09-15")
        late = self.preview(ready_on="2027-10-20")
        self.assertEqual(late["orders"][0]["after"], 0.0)

    def test_another_place_takes_the_space_there(self) -> None:
        bench = Place.objects.get(organisation=self.ctx.organisation, name="Bench 2")
        now = self.batch.stages.get(key="grow").place
        other = bench if now != bench else Place.objects.get(organisation=self.ctx.organisation, name="Bench 1")
        self.keep(1, stage="grow", place_id=other.pk)
        self.assertEqual(self.batch.stages.get(key="grow").place, other)
        self.assertEqual(Occupancy.objects.get(stage__batch=self.batch, stage__key="grow").place, other)
        room = Place.objects.get(organisation=self.ctx.organisation, name="Room")
        self.assertEqual(self.preview(stage="grow", place_id=room.pk, status=422)["errors"][0]["code"], "never_grown")

    def test_a_typed_rate_keeps_its_reason_and_the_librarys_stays_in_the_method(self) -> None:
        self.preview(stage="grade", rate={"mean": 0.7, "sd": 0.02, "reason": " "}, status=422)
        shown = self.preview(stage="grade", rate={"mean": 0.7, "sd": 0.02, "reason": "hail last week"})
        self.assertGreater(self.figure(shown, "Trays")[1], self.figure(shown, "Trays")[0])
        self.keep(1, stage="grade", rate={"mean": 0.7, "sd": 0.02, "reason": "hail last week"})
        stage = self.batch.stages.get(key="grade")
        self.assertEqual((stage.origin, stage.source), ("entered", "hail last week"))
        self.batch.refresh_from_db()
        self.assertEqual(self.batch.method_snapshot["stages"][4]["keeps"], 0.95)
        self.preview(stage="grade", rate={"mean": 0.5, "sd": 0.5, "reason": "x"}, status=422)

    def test_the_second_of_two_managers_is_refused_with_both_values(self) -> None:
        second = Client()
        second.force_login(member(self.ctx, "bea", Role.MANAGER))
        self.keep(1, trays=70)
        refused = self.keep(1, trays=50, status=409, client=second)
        self.assertEqual(refused["code"], "changed_meanwhile")
        self.assertIn("ada", refused["title"])
        self.assertIn("16,800 cells", refused["theirs"])
        self.assertIn("12,000 cells", refused["yours"])
        trays = next(row for row in refused["values"] if row["name"] == "Trays")
        self.assertEqual((trays["theirs"], trays["yours"]), (70, 50))
        self.batch.refresh_from_db()
        self.assertEqual(self.batch.trays, 70)

    def test_two_managers_on_one_order_line(self) -> None:
        body = {"version": 1, "quantity": "13000"}
        self.call("patch", f"/order-lines/{self.line.pk}", body)
        refused = self.call("patch", f"/order-lines/{self.line.pk}", {"version": 1, "quantity": "9000"}, status=409)
        self.assertEqual((refused["values"][0]["theirs"], refused["values"][0]["yours"]), (13000, "9000"))

    def test_undo_brings_back_every_figure_and_only_the_last_can_be_undone(self) -> None:
        before = self.state()
        self.keep(1, trays=40)
        first = AuditEvent.objects.latest("id")
        self.keep(2, stage="grade", rate={"mean": 0.8, "sd": 0.01, "reason": "dry"})
        self.post(f"/audit/{first.pk}/undo", status=409)
        self.post(f"/audit/{AuditEvent.objects.latest('id').pk}/undo")
        self.post(f"/audit/{first.pk}/undo", status=409)  # the undo is an edit that came after
        second = AuditEvent.objects.filter(action="batch.keep").latest("id")
        self.assertEqual(self.post(f"/audit/{second.pk}/undo", status=422)["errors"][0]["code"], "undone")
        self.keep(3 + 0, shift_days=7, status=409)
        version = Batch.objects.get(pk=self.batch.pk).version
        self.keep(version, trays=60, back_to_planned=False)
        self.post(f"/audit/{AuditEvent.objects.filter(action='batch.keep').latest('id').pk}/undo")
        now = self.state()
        for name in ("dates", "places", "needed", "chance", "lot"):
            self.assertEqual(now[name], before[name], name)
        self.assertEqual(now["start"], 9600)

    def test_what_was_sown_cannot_be_planned_again(self) -> None:
        sow = self.batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(sow)})
        for change in ({"trays": 9}, {"sow_on": "2027-08-20"}, {"lot_id": self.lot.pk}, {"seed_g": 5}):
            self.assertEqual(self.preview(status=422, **change)["errors"][0]["code"], "happened")
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(sow)}, status=422)
        moved = self.preview(shift_days=3, stage="grow")
        self.assertEqual(self.figure(moved, "Sow")[0], self.figure(moved, "Sow")[1])


class WhatHappened(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.lot = seed_lot(self.ctx, grams=100)
        self.line, self.batch = self.planned(due="2027-W36")
        self.sow = self.batch.stages.get(key="sow").planned.lower
        advance(self.ctx, self.sow)

    def test_more_seed_than_there_is_says_by_how_much(self) -> None:
        refused = self.post(f"/batches/{self.batch.pk}/sown", {"on": str(self.sow), "grams": 120.5}, status=422)
        self.assertIn("short by 20.5 g", refused["errors"][0]["message"])
        self.batch.refresh_from_db()
        self.lot.refresh_from_db()
        self.assertEqual((self.batch.state, self.lot.balance), ("planned", 100))

    def test_sown_a_week_late_pushes_the_plan_and_tells_the_order(self) -> None:
        late = self.sow + timedelta(days=25)
        advance(self.ctx, late)
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(late)})
        self.line.refresh_from_db()
        self.assertIn("days after the window closes", self.line.problem)
        stage = BatchStage.objects.get(batch=self.batch, key="grow")
        self.assertGreaterEqual(stage.planned.lower, late)

    def test_steps_come_in_their_order_and_never_tomorrow(self) -> None:
        path = f"/batches/{self.batch.pk}"
        self.assertEqual(
            self.post(f"{path}/moved", {"stage": "grow", "on": str(self.sow)}, status=422)["errors"][0]["code"],
            "not_sown",
        )
        self.assertEqual(
            self.post(f"{path}/sown", {"on": "2028-01-01"}, status=422)["errors"][0]["code"], "in_the_future"
        )
        self.post(f"{path}/sown", {"on": str(self.sow), "trays": 50})
        self.assertEqual(
            self.post(f"{path}/moved", {"stage": "grade", "on": str(self.sow)}, status=422)["errors"][0]["code"],
            "not_next",
        )
        early = {"stage": "grow", "on": str(self.sow - timedelta(days=3))}
        self.assertEqual(self.post(f"{path}/moved", early, status=422)["errors"][0]["code"], "too_early")
        self.batch.refresh_from_db()
        self.assertEqual(self.batch.start, 12_000)

    def test_an_order_cancelled_lets_its_planned_batch_go(self) -> None:
        self.post(f"/order-lines/{self.line.pk}/cancel", {"reason": ""}, status=422)
        self.post(f"/order-lines/{self.line.pk}/cancel", {"reason": "customer gave up the land"})
        self.batch.refresh_from_db()
        self.assertEqual(self.batch.state, "abandoned")
        self.assertFalse(Occupancy.objects.filter(stage__batch=self.batch).exists())
        self.assertFalse(Task.objects.filter(subject=self.batch.uuid, state="todo").exists())
        self.post(f"/batches/{self.batch.pk}/preview", {"trays": 5}, status=422)


class TinyRates(HouseCase):
    def test_rates_that_are_next_to_nothing_are_planned_or_refused_in_words(self) -> None:
        """Found by a random season: 0.54 give or take 3e-90, after a rate of 1e-55."""
        seed_lot(self.ctx)
        _, batch = self.planned()
        for mean, sd in ((0.5437, 3e-90), (1e-55, 2e-73), (1e-12, 1e-20), (0.5, 1e-9), (0.9, 1e-300)):
            version = self.get(f"/batches/{batch.pk}")["version"]
            change = {"stage": "grow", "rate": {"mean": mean, "sd": sd, "reason": "seen"}}
            answer = self.client.post(
                f"/api/batches/{batch.pk}/keep", {"change": change, "version": version}, content_type="application/json"
            )
            self.assertIn(answer.status_code, (200, 422), answer.content[:300])
            for wish in ({"chance": 0.5}, {"shift_days": -9}, {"needed": 441}):
                seen = self.client.post(f"/api/batches/{batch.pk}/preview", wish, content_type="application/json")
                self.assertIn(seen.status_code, (200, 422), (mean, sd, wish, seen.content[:300]))
