"""Used as people use it: huge and odd input, wrong order, repeated clicks; never a crash, never half-saved."""

from datetime import date, timedelta
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase as PropertyCase

from aldrip.accounts.models import AuditEvent
from aldrip.batches.models import Batch, Occupancy
from aldrip.batches.starting import plan_lines
from aldrip.methods.models import Container, Crop, Method
from aldrip.orders.models import OrderLine
from aldrip.orders.rows import Reader
from tests.server.house import (
    TODAY,
    HouseCase,
    advance,
    ensure_library,
    make_house,
    order_row,
    seed_lot,
    take_order,
    uid,
)

cells = st.one_of(
    st.text(max_size=30),
    st.sampled_from(["", "week 31", "12k", "-1", "1e309", "NaN", "∞", "2027-W53", "=1+1", "0x10", "\x00"]),
)
ROW = st.fixed_dictionaries(
    {name: cells for name in ("order", "customer", "crop", "cultivar", "form", "quantity", "due", "until", "note")}
)


class AnyRow(PropertyCase):
    @classmethod
    def setUpTestData(cls) -> None:
        ensure_library()
        cls.reader = Reader(make_house())

    @given(ROW)
    @settings(max_examples=300, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    def test_whatever_stands_in_a_row_it_is_read_or_its_faults_are_named(self, row: dict[str, str]) -> None:
        read, faults = self.reader.read(0, row)
        self.assertEqual(read is None, bool(faults))
        for fault in faults:
            self.assertIn(fault.column, row)
            self.assertGreater(len(fault.message), 5)


class HugeAndOdd(HouseCase):
    def test_a_promise_of_ten_million_is_planned_or_refused_in_words(self) -> None:
        seed_lot(self.ctx)
        line = take_order(self.ctx, quantity="9,000,000", due="2027-W40")
        result = plan_lines(self.ctx, [line.pk])
        line.refresh_from_db()
        self.assertTrue(result["planned"] == 1 or result["unplanned"])
        self.assertTrue(line.problem)
        self.assertEqual(self.get("/orders")[0]["quantity"], 9_000_000)

    def test_a_promise_of_one_plant_fills_one_tray(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="1")
        self.assertEqual((batch.trays, batch.start), (1, 240))
        self.assertGreater(batch.planned_chance, 0.999)

    def test_a_window_of_a_year_and_one_of_a_day(self) -> None:
        seed_lot(self.ctx)
        wide, _ = self.planned(due="2027-09-01", until="2028-08-31")
        narrow, batch = self.planned(due="2027-09-01")
        self.assertEqual((wide.due.upper - wide.due.lower).days, 366)
        self.assertLessEqual(list(batch.stages.order_by("order"))[-1].planned.upper, date(2027, 9, 1))
        self.assertEqual((narrow.due.upper - narrow.due.lower).days, 1)

    def test_due_on_a_weekend_or_a_closed_day_is_ready_before(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(due="2027-09-05")  # a Sunday
        ready = list(batch.stages.order_by("order"))[-1].planned.upper
        self.assertLess(ready, date(2027, 9, 5))
        self.assertLess(ready.weekday(), 5)

    def test_wild_figures_in_a_change_are_refused_by_field(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        for change in (
            {"trays": 0},
            {"trays": -5},
            {"trays": 10**9},
            {"trays": "many"},
            {"seed_g": 0},
            {"seed_g": 1e12},
            {"chance": 1},
            {"chance": 0},
            {"needed": 0},
            {"shift_days": 4000},
            {"rung": {"stage": "grow", "quantity": -1}},
            {"rate": {"mean": 2, "reason": "x"}, "stage": "grow"},
            {"sow_on": "tomorrow"},
            {"stage": 77, "place_id": 1},
        ):
            answer = self.client.post(f"/api/batches/{batch.pk}/preview", change, content_type="application/json")
            self.assertIn(answer.status_code, (404, 422), change)
            self.assertTrue(answer.json()["errors"][0]["message"])
        batch.refresh_from_db()
        self.assertEqual(batch.version, 1)

    def test_grams_for_one_seed_and_a_rung_that_is_not_there(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        self.assertEqual(
            self.post(f"/batches/{batch.pk}/preview", {"seed_g": 0.001}, status=422)["errors"][0]["code"], "too_little"
        )
        self.post(f"/batches/{batch.pk}/preview", {"rung": {"stage": 40, "quantity": 5}}, status=422)
        shown = self.post(f"/batches/{batch.pk}/preview", {})
        self.assertTrue(all(f["before"] == f["after"] for f in shown["figures"] if f["kind"] != "space"))

    def test_a_batch_of_another_crops_lot_or_method_is_refused(self) -> None:
        seed_lot(self.ctx)
        endive = seed_lot(self.ctx, "endive")
        _, batch = self.planned()
        self.assertEqual(
            self.post(f"/batches/{batch.pk}/preview", {"lot_id": endive.pk}, status=422)["errors"][0]["code"],
            "other_crop",
        )
        crop = Crop.objects.get(slug="pak-choi")
        method = Method.objects.get(slug="plug-single-endive")
        body = {"crop_id": crop.pk, "method_id": method.pk, "needed": 100, "ready_on": "2027-10-01"}
        self.assertEqual(self.post("/batches", body, status=422)["errors"][0]["code"], "other_crop")

    def test_a_batch_on_speculation_and_in_another_tray(self) -> None:
        seed_lot(self.ctx)
        crop = Crop.objects.get(slug="pak-choi")
        method = Method.objects.get(slug="plug-single-pak-choi")
        made = self.post(
            "/batches", {"crop_id": crop.pk, "method_id": method.pk, "needed": 3000, "ready_on": "2027-10-01"}
        )
        ladder = self.get(f"/batches/{made['id']}")
        self.assertEqual((ladder["orders"], ladder["forecast"]["needed"]), ([], 0))
        small = Container.objects.get(slug="tray-104")
        self.post(f"/batches/{made['id']}/keep", {"version": 1, "change": {"container_id": small.pk}})
        after = self.get(f"/batches/{made['id']}")
        self.assertEqual(after["start"], after["trays"] * 104)
        self.post(f"/audit/{AuditEvent.objects.get(action='batch.new').pk}/undo", status=409)
        self.post(f"/audit/{AuditEvent.objects.get(action='batch.keep').pk}/undo")

    def test_a_new_batch_can_be_taken_back_and_lets_its_space_go(self) -> None:
        seed_lot(self.ctx)
        crop = Crop.objects.get(slug="pak-choi")
        method = Method.objects.get(slug="plug-single-pak-choi")
        made = self.post(
            "/batches", {"crop_id": crop.pk, "method_id": method.pk, "needed": 3000, "ready_on": "2027-10-01"}
        )
        self.post(f"/audit/{AuditEvent.objects.get(action='batch.new').pk}/undo")
        self.assertEqual(Batch.objects.get(pk=made["id"]).state, "abandoned")
        self.assertFalse(Occupancy.objects.filter(stage__batch=made["id"]).exists())

    def test_a_character_that_cannot_be_stored_is_refused_in_words(self) -> None:
        refused = self.post("/tasks", {"title": "wash\x00trays", "due": "2027-07-06"}, status=422)
        self.assertIn("cannot be stored", refused["errors"][0]["message"])
        pasted = self.post("/orders/import/check", {"rows": [order_row(customer="A\u202eB <script>alert(1)</script>")]})
        self.assertEqual(pasted["faults"], [])

    def test_odd_addresses_are_not_found_and_never_a_crash(self) -> None:
        for path in ("/batches/0", "/batches/99999999999999999999", "/lots/0", "/deliveries/0", "/batches/1/card"):
            self.get(path, status=404)
        for path in ("/batches/-1", "/batches/x", "/nothing"):
            self.assertEqual(self.client.get(f"/api{path}").status_code, 404)
        for path in (
            "/board?start=2027-01-01&end=2026-01-01",
            "/board?start=x&end=y",
            "/day?days=0",
            "/day?days=1000",
            "/day?day=never",
        ):
            self.get(path, status=422)
        self.assertEqual(self.client.post("/api/orders", "not json", content_type="application/json").status_code, 400)


class Repeated(HouseCase):
    def test_planning_again_plans_nothing_twice(self) -> None:
        seed_lot(self.ctx)
        self.planned()
        self.assertEqual(self.post("/batches/plan-lines", {})["planned"], 0)
        self.assertEqual(Batch.objects.count(), 1)

    def test_a_line_that_no_method_raises_keeps_its_reason_and_the_others_are_planned(self) -> None:
        seed_lot(self.ctx)
        good = take_order(self.ctx, order="1")
        bad = take_order(self.ctx, order="2")
        OrderLine.objects.filter(pk=bad.pk).update(form="tree")
        result = self.post("/batches/plan-lines", {})
        self.assertEqual((result["planned"], [u["line"] for u in result["unplanned"]]), (1, [bad.pk]))
        bad.refresh_from_db()
        self.assertIn("No method raises", bad.problem)
        self.assertTrue(good.allocations.exists())
        waits = [d["sentence"] for d in self.get("/season-line")["decisions"] if d["room"] == "orders"]
        self.assertEqual(len(waits), 1)

    def test_sown_moved_and_graded_twice_are_refused_and_change_nothing(self) -> None:
        lot = seed_lot(self.ctx)
        line, batch = self.planned(quantity="1000", due="2027-W36")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow)})
        lot.refresh_from_db()
        left = lot.balance
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow)}, status=422)
        lot.refresh_from_db()
        self.assertEqual(lot.balance, left)
        advance(self.ctx, date(2027, 9, 1))
        self.post(f"/batches/{batch.pk}/moved", {"stage": "grow", "on": "2027-08-20"})
        self.post(f"/batches/{batch.pk}/moved", {"stage": "grow", "on": "2027-08-20"}, status=422)
        self.post(f"/batches/{batch.pk}/graded", {"good": 700, "on": "2027-09-01", "client_uuid": uid()})
        much = self.post(
            f"/batches/{batch.pk}/graded", {"good": 5000, "on": "2027-09-01", "client_uuid": uid()}, status=422
        )
        self.assertIn("more than", much["errors"][0]["message"])
        # A second grading of the rest is a lot of its own.
        self.post(f"/batches/{batch.pk}/graded", {"good": 200, "on": "2027-09-01", "client_uuid": uid()})
        due = self.get("/deliveries")["due"][0]
        self.assertEqual(sum(stock["balance"] for stock in due["stock"]), 900)
        self.assertEqual(line.quantity, 1000)

    def test_a_stale_version_of_a_done_mark_is_refused(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        self.post(f"/batches/{batch.pk}/keep", {"version": 1, "change": {"trays": 60}})
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        refused = self.post(f"/batches/{batch.pk}/sown", {"on": str(sow), "version": 1}, status=409)
        self.assertEqual(refused["code"], "changed_meanwhile")

    def test_an_order_changed_after_planning_changes_its_chance(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned()
        before = self.get(f"/batches/{batch.pk}")["forecast"]["chance"]
        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today), "trays": batch.trays})
        line.refresh_from_db()
        self.call("patch", f"/order-lines/{line.pk}", {"version": line.version, "quantity": "12,060"})
        after = self.get(f"/batches/{batch.pk}")["forecast"]["chance"]
        self.assertLess(after, before)
        listed = self.get("/orders")[0]
        self.assertAlmostEqual(listed["chance"], after, places=6)

    def test_an_order_moved_earlier_than_its_batch_says_so(self) -> None:
        seed_lot(self.ctx)
        line, _ = self.planned(due="2027-W40")
        self.call("patch", f"/order-lines/{line.pk}", {"version": 1, "due": "2027-W29", "until": "2027-W29"})
        self.assertTrue(self.get("/orders")[0]["problem"])


class Days(HouseCase):
    def sheet(self, day: date) -> list[dict[str, Any]]:
        return self.get(f"/day?day={day}")["tasks"]

    def test_what_was_not_done_stands_on_todays_sheet_as_late(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(due="2027-W36")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow + timedelta(days=2))
        late = [task for task in self.sheet(sow + timedelta(days=2)) if task["late"]]
        self.assertIn("sow", [task["kind"] for task in late])
        self.assertIn("diary", [d["room"] for d in self.get("/season-line")["decisions"]])
        self.assertEqual(self.get("/day.pdf")["Content-Type"], "application/pdf")

    def test_cautions_stand_at_the_task_and_on_the_card(self) -> None:
        line = take_order(self.ctx, crop="Lavender", form="rooted cutting", quantity="2000", due="2027-W40")
        plan_lines(self.ctx, [line.pk])
        batch = Batch.objects.get()
        task = next(t for t in self.sheet(batch.stages.get(key="sow").planned.lower) if t["kind"] == "sow")
        self.assertIn("Blades", task["caution"])
        card = self.get(f"/batches/{batch.pk}/card")
        self.assertEqual((card["verb"], card["grams"], card["lot"]), ("Stick", None, ""))
        said = " ".join(card["cautions"])
        for word in ("Blades", "ethanol", "Dust", "weighs about"):
            self.assertIn(word, said)

    def test_cuttings_are_stuck_without_a_seed_lot(self) -> None:
        line = take_order(self.ctx, crop="Lavender", form="rooted cutting", quantity="2000", due="2027-W40")
        plan_lines(self.ctx, [line.pk])
        batch = Batch.objects.get()
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow), "trays": 30})
        batch.refresh_from_db()
        self.assertEqual((batch.state, batch.start), ("sown", 30 * 104))

    def test_several_seeds_a_cell_need_more_seed_and_fill_more_cells(self) -> None:
        seed_lot(self.ctx, "amaranth", germination=0.8)
        line = take_order(self.ctx, crop="Leaf amaranth", form="multi-seeded plug", quantity="4000", due="2027-W38")
        plan_lines(self.ctx, [line.pk])
        batch = Batch.objects.get()
        self.assertEqual(batch.seeds, batch.start * 3)
        stage = batch.stages.get(key="germinate")
        spread = stage.alpha / (stage.alpha + stage.beta) if stage.beta else stage.alpha
        self.assertAlmostEqual(spread, 1 - (1 - 0.8 * 0.92) ** 3, places=4)
        self.assertEqual(TODAY, self.ctx.today)
        self.assertIn("3 seeds a cell", stage.source)


class Rows(HouseCase):
    def test_a_second_import_of_other_lines_adds_to_the_same_order(self) -> None:
        self.post("/orders", {"rows": [order_row(order="7")]})
        self.post("/orders", {"rows": [order_row(order="7", crop="Endive"), order_row(order="7", quantity="5000")]})
        lines = self.get("/orders")
        self.assertEqual(sorted(line["number"] for line in lines), [1, 2, 3])
        self.assertEqual({line["order_id"] for line in lines}.__len__(), 1)
