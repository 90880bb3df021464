"""Setting a sower: what was caught is kept, corrected and read; the sower for practice is spoken to as a scale could be."""

import os
from datetime import timedelta
from threading import Thread
from typing import Any
from unittest.mock import patch
from uuid import uuid4

from aldrip.sowing.models import Machine, Trial
from aldrip.sowing.practice_device import device
from aldrip_core.practice_sower import PracticeSower
from tests.server.house import HouseCase, advance, member, seed_lot, uid

BENCH = {"name": "Hand sower", "setting_min": 0, "setting_max": 8, "tolerance_percent": 5}


class Sowers(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.lot = seed_lot(self.ctx, grams=2000)
        _, self.batch = self.planned(quantity="9,000", due="2027-W37")
        self.machine = self.post("/machines", BENCH)["id"]

    def caught(self, setting: str, part: float, *, status: int = 200, **more: Any) -> Any:
        body = {"machine_id": self.machine, "setting": setting, "grams": f"{part * self.target():.5f}", "uuid": uid()}
        return self.post(f"/batches/{self.batch.pk}/trials", body | more, status=status)

    def target(self) -> float:
        wanted: float = self.get(f"/batches/{self.batch.pk}/calibration/{self.machine}")["target_g"]
        return wanted

    def card(self) -> Any:
        return self.get(f"/batches/{self.batch.pk}/card")["sower"]

    def test_a_tray_is_to_catch_its_share_of_the_seed(self) -> None:
        self.assertAlmostEqual(self.target(), (self.batch.seed_g or 0) / (self.batch.trays or 1), places=9)

    def test_from_nothing_to_settled_and_it_stands_on_the_card(self) -> None:
        self.assertIsNone(self.card())
        told = self.get(f"/batches/{self.batch.pk}/calibration/{self.machine}")
        self.assertEqual((told["next_setting"], told["predicted_g"], told["settled"]), (4, None, False))
        told = self.caught("4", 0.8)
        self.assertAlmostEqual(told["next_setting"], 5, places=6)  # from nothing at the closed end: 4 ÷ 0.8
        for part in (1.01, 0.99, 1.02):
            told = self.caught("5", part)
        self.assertTrue(told["settled"])
        self.assertEqual(self.card()["settled"], True)
        self.assertIn("Settled at 5", self.card()["words"])
        self.assertEqual(self.get(f"/batches/{self.batch.pk}/card.pdf")["Content-Type"], "application/pdf")
        rising = [one["grams"] for one in told["curve"]]
        self.assertEqual(rising, sorted(rising))

    def test_a_tray_that_was_not_walked_evenly_is_kept_and_counts_for_nothing(self) -> None:
        before = self.caught("4", 0.8)["next_setting"]
        told = self.caught("4", 2.9, even=False)
        self.assertEqual(len(told["trials"]), 2)
        self.assertAlmostEqual(told["next_setting"], before)

    def test_beyond_the_dial_far_too_much_and_the_wrong_way_are_told(self) -> None:
        self.assertEqual(self.caught("8.5", 1, status=422)["errors"][0]["code"], "beyond_range")
        self.assertEqual(self.caught("four", 1, status=422)["errors"][0]["field"], "setting")
        body = {"machine_id": self.machine, "setting": "4", "grams": "4 gal", "uuid": uid()}
        self.assertIn(
            "not the same everywhere",
            self.post(f"/batches/{self.batch.pk}/trials", body, status=422)["errors"][0]["message"],
        )
        self.assertEqual(self.caught("4", 40, status=422)["code"], "doubtful")  # a slip of the point is asked about
        self.assertEqual(self.caught("4", 0, status=422)["code"], "doubtful")  # was it weighed?
        self.caught("2", 1.5)
        told = self.caught("6", 0.5)
        self.assertIn("Which way does the dial go?", told["fault"])
        self.assertIsNone(self.card())
        wrong = told["trials"][0]["id"]
        put_right = self.caught("2", 0.35, replaces=wrong, reason="read off the wrong pan")
        self.assertEqual((put_right["fault"], len(put_right["trials"])), ("", 2))
        again = self.caught("2", 0.3, replaces=wrong, reason="once more", status=422)
        self.assertEqual(again["errors"][0]["code"], "replaced")
        self.assertEqual(
            self.caught("2", 0.3, replaces=put_right["trials"][0]["id"], status=422)["errors"][0]["field"], "reason"
        )

    def test_what_the_same_seed_caught_lately_counts_and_other_seed_and_old_trays_do_not(self) -> None:
        for _ in range(3):
            self.caught("5", 1)
        _, other = self.planned(quantity="3,000", due="2027-W38")
        told = self.get(f"/batches/{other.pk}/calibration/{self.machine}")
        self.assertEqual([one["own"] for one in told["trials"]], [False] * 3)
        self.assertTrue(told["settled"])
        advance(self.ctx, self.ctx.today + timedelta(days=15))
        self.ctx.organisation.refresh_from_db()
        self.assertEqual(self.get(f"/batches/{other.pk}/calibration/{self.machine}")["trials"], [])
        self.assertEqual(len(self.get(f"/batches/{self.batch.pk}/calibration/{self.machine}")["trials"]), 3)
        self.batch.lot = seed_lot(self.ctx, grams=800)
        self.batch.save()
        self.assertEqual(self.get(f"/batches/{self.batch.pk}/calibration/{self.machine}")["trials"], [])

    def test_twice_is_once_and_who_may(self) -> None:
        one = uid()
        self.caught("4", 0.8, uuid=one)
        self.caught("4", 0.8, uuid=one)
        self.assertEqual(Trial.objects.count(), 1)
        for role, may in (("viewer", 403), ("laboratory", 403), ("dispatch", 200)):
            with self.subTest(role):
                self.client.force_login(member(self.ctx, role, role))
                self.caught("4", 0.8, status=may)
                self.post("/machines", {**BENCH, "name": role}, status=403)

    def test_a_machine_is_changed_within_what_was_caught_and_retired(self) -> None:
        self.caught("7", 1.4)
        kept = {**BENCH, "name": "Hand sower, new brush"}
        self.post(f"/machines/{self.machine}", kept)
        told = self.post(f"/machines/{self.machine}", {**kept, "setting_max": 6}, status=422)
        self.assertEqual(told["errors"][0]["code"], "caught_outside")
        for wrong, field in (
            ({"name": " "}, "name"),
            ({"setting_max": 0}, "setting_max"),
            ({"tolerance_percent": 0}, "tolerance"),
        ):
            with self.subTest(field):
                self.assertEqual(
                    self.post("/machines", {**BENCH, "name": "X", **wrong}, status=422)["errors"][0]["field"], field
                )
        self.assertEqual(self.post("/machines", kept, status=422)["errors"][0]["code"], "twice")
        self.post(f"/machines/{self.machine}", {**kept, "retired": True})
        self.assertEqual(self.caught("4", 1, status=422)["errors"][0]["code"], "retired")

    def test_nothing_is_asked_but_this_computer(self) -> None:
        plain = self.post("/machines", {**BENCH, "name": "plain", "scale_at": "127.0.0.1:8099/"})["id"]
        self.assertEqual(Machine.objects.get(pk=plain).scale_at, "http://127.0.0.1:8099")
        for address in (
            "http://10.0.0.1:80",
            "http://127.0.0.1.example.org:80",
            "file:///etc/passwd",
            "http://localhost:80/x",
        ):
            with self.subTest(address):
                told = self.post("/machines", {**BENCH, "name": address[:20], "scale_at": address}, status=422)
                self.assertEqual(told["errors"][0]["field"], "scale_at")
        self.assertEqual(self.post(f"/machines/{self.machine}/weigh", status=422)["errors"][0]["code"], "no_scale")


class ForPractice(HouseCase):
    """The device itself, over HTTP, with a trainee who does what is proposed."""

    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, grams=2000)
        _, self.batch = self.planned(quantity="9,000", due="2027-W37")

    def test_a_trainee_settles_it_with_what_is_proposed(self) -> None:
        for seed in (3, 7, 8):
            with self.subTest(seed), device(seed) as running:
                sower = PracticeSower(seed)
                Thread(target=running.serve_forever, daemon=True).start()
                self.addCleanup(running.shutdown)
                at = f"http://127.0.0.1:{running.server_address[1]}"
                more = {"simulated": True, "scale_at": at, "more_is": sower.more_is.value, "setting_max": 10}
                machine = self.post("/machines", {**BENCH, "name": f"practice {seed}", **more})["id"]
                told = self.get(f"/batches/{self.batch.pk}/calibration/{machine}")
                for _ in range(12):
                    if told["settled"]:
                        break
                    setting = str(told["next_setting"])
                    sown = self.post(f"/batches/{self.batch.pk}/practise", {"machine_id": machine, "setting": setting})
                    self.assertEqual(self.post(f"/machines/{machine}/weigh")["grams"], sown["grams"])
                    body = {
                        "machine_id": machine,
                        "setting": setting,
                        "grams": str(sown["grams"]),
                        "uuid": str(uuid4()),
                    }
                    told = self.post(f"/batches/{self.batch.pk}/trials", body)
                self.assertTrue(told["settled"], told["sentence"])
                self.assertIsNone(self.get(f"/batches/{self.batch.pk}/card")["sower"])  # it was for practice
                # Against the machine's own curve, which the fit never sees.
                of_g, opening = told["target_g"], sower.opening(told["next_setting"])
                truly = sower.most_g * of_g / 180 * opening**sower.bend
                self.assertLess(abs(truly - of_g), 1.5 * told["tolerance_g"])
                wrong = {"machine_id": machine, "setting": "11"}
                answer = self.post(f"/batches/{self.batch.pk}/practise", wrong, status=422)
                self.assertIn("would be forced", answer["errors"][0]["message"])
        away = self.post(f"/machines/{machine}/weigh", status=422)
        self.assertEqual(away["errors"][0]["code"], "no_answer")

    def test_where_the_demo_runs_it_is_found_there(self) -> None:
        machine = self.post("/machines", {**BENCH, "simulated": True})["id"]
        wanted = {"machine_id": machine, "setting": "4"}
        self.assertEqual(
            self.post(f"/batches/{self.batch.pk}/practise", wanted, status=422)["errors"][0]["code"], "no_scale"
        )
        with device(5) as running:
            Thread(target=running.serve_forever, daemon=True).start()
            self.addCleanup(running.shutdown)
            with patch.dict(os.environ, {"ALDRIP_PRACTICE_SOWER": f"http://127.0.0.1:{running.server_address[1]}"}):
                self.assertGreater(self.post(f"/batches/{self.batch.pk}/practise", wanted)["grams"], 0)
        real = Machine.objects.create(organisation=self.ctx.organisation, name="real", setting_min=0, setting_max=8)
        told = self.post(f"/batches/{self.batch.pk}/practise", {"machine_id": real.pk, "setting": "4"}, status=422)
        self.assertEqual(told["errors"][0]["code"], "not_practice")
