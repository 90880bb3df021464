"""What is still to be bought, and what came in given to the batches that wait for it."""

import io
from datetime import timedelta
from typing import Any

from django.db import connection
from django.test.utils import CaptureQueriesContext
from openpyxl import load_workbook

from aldrip.batches.models import Batch, BatchInput
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop
from aldrip.methods.resolver import Library
from tests.server.house import HouseCase, advance, member, order_row, seed_lot


class ToBuy(HouseCase):
    def plan(self, *rows: dict[str, str]) -> list[Batch]:
        lines = self.post("/orders", {"rows": list(rows)})["lines"]
        self.post("/batches/plan-lines", {"lines": lines})
        return [Batch.objects.get(allocations__order_line=pk) for pk in lines]

    def test_what_planned_batches_lack_is_listed_by_crop_and_cultivar(self) -> None:
        first, second, pots = self.plan(
            order_row(order="1", crop="Lettuce"),
            order_row(order="2", crop="Lettuce", due="2027-W40"),
            order_row(order="3", crop="Gerbera", form="pot", quantity="200", due="2027-W44"),
        )
        seed, plants = sorted(self.get("/buying"), key=lambda one: one["crop"], reverse=True)
        self.assertAlmostEqual(seed["quantity"], first.seed_g + second.seed_g)
        self.assertEqual([use["batch"] for use in seed["uses"]], [first.code, second.code])
        sown = first.stages.order_by("order")[0].planned.lower
        self.assertEqual(seed["order_by"], str(sown - timedelta(days=21)))
        self.assertEqual(self.get("/buying?lead_days=7")[0]["order_by"], str(sown - timedelta(days=7)))
        self.get("/buying?lead_days=-1", status=422)
        self.assertEqual((plants["what"], plants["unit"], plants["quantity"]), ("plants", "plants", pots.start))
        text = self.get("/buying/export").content.decode("utf-8-sig")
        self.assertIn(f"{first.code} {second.code}", text)
        book = load_workbook(io.BytesIO(self.client.get("/api/buying/export?kind=xlsx").content))
        cells = list(book["To buy"].iter_rows(values_only=True))
        self.assertEqual([row[1] for row in cells], ["crop", "Gerbera", "Lettuce"])
        self.assertEqual((cells[2][0].date(), cells[2][4]), (sown - timedelta(days=21), round(seed["quantity"], 1)))
        self.assertTrue(self.client.get("/api/buying.pdf").content.startswith(b"%PDF"))
        self.get("/buying/export?kind=ods", status=422)

    def test_a_lot_that_holds_less_than_is_planned_of_it_is_short_by_the_rest(self) -> None:
        lot = seed_lot(self.ctx, grams=50)
        batches = self.plan(order_row(order="1"), order_row(order="2", due="2027-W38"))
        planned = sum(float(one.seed_g or 0) for one in batches)
        held = float(Lot.objects.get(pk=lot.pk).balance)
        short = self.get("/buying")
        if planned > held:
            self.assertEqual(sum(one["quantity"] for one in short), planned - held)
        spoken = BatchInput.objects.filter(lot=lot).count()
        Lot.objects.filter(pk=lot.pk).update(balance=1)
        (one,) = [row for row in self.get("/buying") if row["lot"] == lot.code]
        total = sum(float(i.quantity) for i in BatchInput.objects.filter(lot=lot))
        self.assertAlmostEqual(one["quantity"], total - 1, places=3)
        self.assertEqual(len(one["uses"]), spoken)

    def test_what_is_sown_or_abandoned_wants_nothing_more(self) -> None:
        (batch,) = self.plan(order_row(crop="Lettuce"))
        self.assertEqual(len(self.get("/buying")), 1)
        Batch.objects.filter(pk=batch.pk).update(state=Batch.State.ABANDONED)
        self.assertEqual(self.get("/buying"), [])

    def test_seed_that_came_is_given_to_the_batches_that_wait(self) -> None:
        first, second = self.plan(order_row(order="1"), order_row(order="2", due="2027-W40"))
        self.assertIsNone(first.lot)
        need = float(first.seed_g or 0)
        lot = seed_lot(self.ctx, grams=need * 1.5, germination=0.80)
        waiting = self.get(f"/lots/{lot.pk}/waiting")
        self.assertEqual([(one["batch"], one["holds"]) for one in waiting], [(first.code, True), (second.code, False)])
        body = {"batches": {str(first.pk): waiting[0]["version"]}}
        self.post(f"/lots/{lot.pk}/give", body)
        first.refresh_from_db()
        self.assertEqual(first.lot, lot)
        self.assertEqual(BatchInput.objects.get(stage__batch=first).lot, lot)
        self.post(f"/lots/{lot.pk}/give", body, status=422)  # it waits no more
        self.assertEqual([one["batch"] for one in self.get(f"/lots/{lot.pk}/waiting")], [second.code])
        self.post(f"/lots/{lot.pk}/give", {"batches": {str(second.pk): 99}}, status=409)
        self.assertEqual(
            [use["batch"] for one in self.get("/buying") if not one["lot"] for use in one["uses"]], [second.code]
        )

    def test_seed_of_another_cultivar_or_crop_is_not_offered(self) -> None:
        self.post(
            "/library/line", {"typed": {"name": "Other", "crop": "pak-choi"}, "like": "", "source": "", "reason": ""}
        )
        self.plan(order_row(cultivar="Other"))
        lot = seed_lot(self.ctx)
        self.assertEqual(self.get(f"/lots/{lot.pk}/waiting"), [])

    def test_who_may_not_plan_gives_nothing(self) -> None:
        (batch,) = self.plan(order_row())
        lot = seed_lot(self.ctx)
        self.client.force_login(member(self.ctx, "looks", "viewer"))
        self.post(f"/lots/{lot.pk}/give", {"batches": {str(batch.pk): batch.version}}, status=403)

    def test_the_number_of_queries_does_not_grow_with_the_batches(self) -> None:
        self.plan(order_row(order="1", crop="Lettuce"))
        with CaptureQueriesContext(connection) as few:
            self.get("/buying")
        asked = len(few)
        self.plan(*(order_row(order=str(n), crop="Lettuce", due=f"2027-W{38 + n}") for n in range(2, 8)))
        with self.assertNumQueries(asked):
            self.get("/buying")


class BoughtIn(HouseCase):
    """Young plants, cuttings, tubers come into stock as lots, are begun from, and are bought no more."""

    def receive(self, status: int = 200, **more: Any) -> dict[str, Any]:
        crop = Library(self.ctx).get(Crop, "gerbera")
        body = {"crop_id": crop.pk, "form": "plant", "quantity": "470", "supplier": "Hallow Plants", **more}
        told: dict[str, Any] = self.post("/lots", body, status=status)
        return told

    def test_what_came_is_begun_from_and_bought_no_more(self) -> None:
        _, batch = self.planned(crop="Gerbera", form="pot", quantity="200", due="2027-W44")
        self.assertEqual([one["quantity"] for one in self.get("/buying")], [batch.start])
        half = self.receive(quantity=str(batch.start // 2))
        self.assertEqual([one["quantity"] for one in self.get("/buying")], [batch.start - batch.start // 2])
        lot = self.receive(quantity=str(batch.start))
        self.assertEqual(self.get("/buying"), [])
        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        on = str(self.ctx.today)
        self.post(f"/batches/{batch.pk}/sown", {"on": on, "lots": [{"lot_id": lot["id"], "quantity": ""}]})
        self.assertEqual(Lot.objects.get(pk=lot["id"]).balance, 0)
        self.assertEqual(Lot.objects.get(pk=half["id"]).balance, batch.start // 2)
        taken = BatchInput.objects.get(stage__batch=batch)
        self.assertEqual((taken.part, taken.quantity, taken.lot_id), ("plant", batch.start, lot["id"]))

    def test_plants_are_counted_and_not_tested_for_germination(self) -> None:
        for more, field in (
            ({"form": "tree"}, "form"),
            ({"quantity": "3 kg"}, "quantity"),
            ({"germination_percent": 90}, "value"),
            ({"quantity": "0"}, "quantity"),
        ):
            self.assertEqual(self.receive(status=422, **more)["errors"][0]["field"], field, more)

    def test_a_tray_sown_in_part_is_said_on_its_card(self) -> None:
        self.call("patch", "/organisation", {"part_trays": True})
        self.ctx.organisation.refresh_from_db()
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="14")
        self.assertLess(batch.start, 40)
        card = self.get(f"/batches/{batch.pk}/card")
        self.assertEqual(card["trays_words"], f"{batch.start} of the 240 cells of a tray")
        self.assertLess(card["litres"], 1)
        bench = batch.stages.get(key="grow").occupancies.get()
        self.assertAlmostEqual(bench.amount, batch.start / 240 * 0.24)
        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today), "start": 20})
        batch.refresh_from_db()
        self.assertEqual((batch.start, batch.trays), (20, 1))

    def test_a_start_typed_in_cells_is_as_much_seed_and_no_full_tray(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="1500")
        of = "of the 240 cells of"
        for cells, trays, words in (
            (35, 1, f"35 {of} a tray"),
            (275, 2, f"1 tray and 35 {of} another"),
            (480, 2, "2 trays"),
        ):
            self.post(f"/batches/{batch.pk}/keep", {"version": batch.version, "change": {"start": cells}})
            batch.refresh_from_db()
            card = self.get(f"/batches/{batch.pk}/card")
            self.assertEqual((card["start"], card["seeds"], card["trays"]), (cells, cells, trays))
            self.assertEqual(card["trays_words"], words)


class SpokenFor(HouseCase):
    def test_what_is_planned_of_a_lot_and_set_aside_is_told_as_the_lot_is_shown_until_it_is_taken(self) -> None:
        lot = seed_lot(self.ctx, grams=5)
        self.assertEqual(self.get("/buying/spoken"), [])
        _, batch = self.planned(quantity="4000")
        told = self.get("/buying/spoken")
        self.assertEqual([one["lot_id"] for one in told], [lot.pk])
        assert batch.seed_g is not None
        self.assertAlmostEqual(told[0]["planned"], batch.seed_g, places=3)
        self.assertGreater(told[0]["planned"], 5)  # more than it holds: the list says so
        self.assertEqual(told[0]["aside"], 0)
        Batch.objects.filter(pk=batch.pk).update(state="abandoned")
        self.assertEqual(self.get("/buying/spoken"), [])
