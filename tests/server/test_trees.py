"""Methods that fork, repeat, repot and feed each other, written by a house of its own and lived through by the API."""

from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from aldrip.batches.models import Batch, Occupancy
from aldrip.lots.models import Lot, Movement
from aldrip.methods.models import Method
from aldrip.places.models import Place
from tests.server.house import HouseCase, advance, seed_lot, take_order, uid


def stage(key: str, kind: str, after: str = "", **more: Any) -> dict[str, Any]:
    """A stage as a person writes it; rates are invented."""
    traits = {"sow": ["starts"], "germinate": ["emerges"], "grade": ["grades", "yields"], "dispatch": ["leaves"]}.get(
        kind, []
    )
    base = {
        "key": key,
        "kind": kind,
        "name": key.replace("-", " ").capitalize(),
        "after": after,
        "days": 10,
        "unit": "plants",
        "traits": traits,
        "takes": "seed" if kind == "sow" else "",
    }
    return {**base, **more}


SOW = stage("sow", "sow", unit="cells", days=0, place_kind="shed")
EMERGE = stage("emerge", "germinate", "sow", unit="cells", days=8, place_kind="germination", density="tray")
GROW = stage("grow", "grow", "emerge", days=28, keeps=0.95, keeps_sd=0.02, place_kind="bench", density="tray_m2")
GRADE = stage("grade", "grade", "grow", days=0, keeps=0.94, keeps_sd=0.01, place_kind="shed")


class TreeCase(HouseCase):
    def method(self, slug: str, crop: str, stages: list[dict[str, Any]], **more: Any) -> Method:
        values = {
            "name": slug.replace("-", " "),
            "crop": crop,
            "form": "plug",
            "container": "tray-240",
            "cell_factor": 0.95,
            "stages": stages,
        }
        self.post(f"/library/method/{slug}", {"values": {**values, **more}})
        return Method.objects.get(slug=slug)

    def batch(self, method: Method, **more: Any) -> Batch:
        body = {"crop_id": method.crop_id, "method_id": method.pk, "ready_on": "2027-10-20", **more}
        return Batch.objects.get(pk=self.post("/batches", body)["id"])

    def live(self, batch: Batch, *keys: str, **sown: Any) -> None:
        """Sow a batch on its day and move it on, each stage on its own."""
        for key in keys:
            row = batch.stages.get(key=key)
            if row.actual_start is not None:  # began with the sowing
                continue
            advance(self.ctx, row.planned.lower)
            path, body = ("sown", sown) if key == "sow" else ("moved", {"stage": key})
            self.post(f"/batches/{batch.pk}/{path}", {"on": str(row.planned.lower), **body})
        batch.refresh_from_db()

    def rungs(self, batch: Batch) -> dict[str, Any]:
        return {rung["key"].removeprefix("stage:"): rung for rung in self.get(f"/batches/{batch.pk}")["rungs"]}


class TwoGrades(TreeCase):
    STAGES = (
        SOW,
        EMERGE,
        GROW,
        stage("grade", "grade", "grow", days=0, keeps=0.96, keeps_sd=0.01, place_kind="shed", traits=["grades"]),
        stage("firsts", "store", "grade", days=3, share=0.7, traits=["yields"], place_kind="store", density="tray_m2"),
        stage(
            "seconds",
            "store",
            "grade",
            days=3,
            share=0.25,
            traits=["yields"],
            product="small plug",
            place_kind="store",
            density="tray_m2",
        ),
    )

    def test_two_grades_out_of_one_batch(self) -> None:
        seed_lot(self.ctx, "statice")
        method = self.method("statice-in-two-sizes", "statice", list(self.STAGES))
        big = take_order(self.ctx, crop="Statice", form="plug", quantity="4000", due="2027-W42")
        small = take_order(
            self.ctx, crop="Statice", form="small plug", quantity="1500", due="2027-W42", customer="Hill Cut Flowers"
        )
        batch = self.batch(method, order_line_ids=[big.pk, small.pk])
        rungs = self.rungs(batch)
        # 1,500 small ones are the harder half: 1500/0.25 against 4000/0.7 out of the grading.
        self.assertGreaterEqual(rungs["seconds"]["value"], 1500)
        self.assertGreaterEqual(rungs["firsts"]["value"], 4000)
        self.assertAlmostEqual(rungs["firsts"]["value"] / rungs["seconds"]["value"], 0.7 / 0.25, places=2)
        self.live(batch, "sow", "emerge", "grow")
        advance(self.ctx, self.ctx.today + timedelta(days=28))
        body = {
            "good": 4100,
            "out": [{"cause": "thin", "count": 90}],
            "seconds": [{"stage": "seconds", "count": 1600}],
            "on": str(self.ctx.today),
            "client_uuid": uid(),
        }
        first = self.post(f"/batches/{batch.pk}/graded", body)["id"]
        self.assertEqual(self.post(f"/batches/{batch.pk}/graded", body)["id"], first)
        given = {lot.form: lot.balance for lot in Lot.objects.filter(from_stages__stage__batch=batch)}
        self.assertEqual(given, {"plug": Decimal(4100), "small plug": Decimal(1600)})
        for line, quantity in ((big, 4000), (small, 1500)):
            lot = Lot.objects.get(from_stages__stage__batch=batch, form=line.form)
            self.post(
                "/deliveries",
                {
                    "order_id": line.order_id,
                    "on": str(self.ctx.today),
                    "client_uuid": uid(),
                    "short": [],
                    "picks": [{"line_id": line.pk, "lot_id": lot.pk, "quantity": quantity}],
                },
            )
            line.refresh_from_db()
            self.assertEqual(line.state, "delivered")


class FedByAnother(TreeCase):
    def test_pots_from_the_plugs_of_another_batch(self) -> None:
        seed_lot(self.ctx, "zinnia")
        plugs = self.method("zinnia-plugs-of-our-own", "zinnia", [SOW, EMERGE, GROW, GRADE])
        pots = self.method(
            "zinnia-pots-from-plugs",
            "zinnia",
            [
                stage("pot", "pot", takes="plant", traits=["starts"], unit="pots", days=0, place_kind="shed"),
                stage(
                    "stand",
                    "grow",
                    "pot",
                    unit="pots",
                    days=30,
                    keeps=0.97,
                    keeps_sd=0.01,
                    place_kind="bench",
                    density="unit_m2",
                    unit_m2=0.012,
                ),
                stage("sort", "grade", "stand", unit="pots", days=0, keeps=0.96, place_kind="shed"),
            ],
            form="pot",
            unit="pots",
            start_unit="plants",
            by_seed=False,
            container=None,
        )
        mother = self.batch(plugs, needed=3000, ready_on="2027-09-10")
        early = {
            "crop_id": pots.crop_id,
            "method_id": pots.pk,
            "needed": 800,
            "ready_on": "2027-09-20",
            "from_batch": {"batch_id": mother.pk, "stage": "grade"},
        }
        self.assertEqual(self.post("/batches", early, status=422)["errors"][0]["code"], "too_early")
        self.assertEqual(
            self.post("/batches", {**early, "needed": 9000, "ready_on": "2027-10-30"}, status=422)["errors"][0]["code"],
            "not_enough",
        )
        daughter = self.batch(
            pots, needed=800, ready_on="2027-10-30", from_batch={"batch_id": mother.pk, "stage": "grade"}
        )
        shown = self.get(f"/batches/{daughter.pk}")["inputs"]
        self.assertEqual([(one["batch"], one["quantity"]) for one in shown], [(mother.code, float(daughter.start))])
        self.live(mother, "sow", "emerge", "grow")
        advance(self.ctx, mother.stages.get(key="grade").planned.lower)
        self.post(
            f"/batches/{mother.pk}/graded", {"good": 3050, "out": [], "on": str(self.ctx.today), "client_uuid": uid()}
        )
        lot = Lot.objects.get(from_stages__stage__batch=mother)
        root = daughter.stages.get(key="pot")
        advance(self.ctx, root.planned.lower)
        self.post(f"/batches/{daughter.pk}/sown", {"on": str(self.ctx.today)})
        lot.refresh_from_db()
        daughter.refresh_from_db()
        self.assertEqual(lot.balance, 3050 - daughter.start)
        self.assertEqual(Movement.objects.filter(lot=lot).count(), 2)


class Rounds(TreeCase):
    def test_three_rounds_of_picking_each_to_stock(self) -> None:
        mothers = self.method(
            "lavender-mothers",
            "lavender",
            [
                stage("plant", "plant", takes="plant", traits=["starts"], days=0, place_kind="shed"),
                stage(
                    "stock",
                    "grow",
                    "plant",
                    days=40,
                    keeps=0.98,
                    keeps_sd=0.01,
                    place_kind="bench",
                    density="unit_m2",
                    unit_m2=0.06,
                ),
                stage(
                    "pick",
                    "pick",
                    "stock",
                    unit="cuttings",
                    days=7,
                    multiply=30,
                    multiply_sd=4,
                    rounds=3,
                    round_days=14,
                    round_shares=[0.4, 0.35, 0.25],
                    traits=["yields"],
                    place_kind="bench",
                ),
            ],
            form="unrooted cutting",
            unit="cuttings",
            start_unit="plants",
            by_seed=False,
            container=None,
        )
        line = take_order(self.ctx, crop="Lavender", form="unrooted cutting", quantity="3000", due="2027-W45")
        batch = self.batch(mothers, order_line_ids=[line.pk], ready_on="2027-11-08")
        rungs = self.rungs(batch)
        picked = [rungs[f"pick-{number}"] for number in (1, 2, 3)]
        self.assertGreaterEqual(sum(one["value"] for one in picked), 3000)
        self.assertAlmostEqual(picked[0]["value"] / picked[2]["value"], 0.4 / 0.25, places=3)
        self.assertGreater(batch.start, 3000 / 30 / 0.98)  # plainly needed, and more because rounds and batches differ
        days = [one["date"] for one in picked]
        self.assertEqual(days, sorted(days))
        advance(self.ctx, batch.stages.get(key="plant").planned.lower)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today)})
        self.live(batch, "stock")
        for number, quantity in ((1, 1250), (2, 1100), (3, 800)):
            row = batch.stages.get(key=f"pick-{number}")
            advance(self.ctx, row.planned.lower)
            entry = {
                "stage": f"pick-{number}",
                "quantity": f"{quantity} cuttings",
                "on": str(self.ctx.today),
                "client_uuid": uid(),
            }
            self.assertEqual(
                self.post(f"/batches/{batch.pk}/picked", entry), self.post(f"/batches/{batch.pk}/picked", entry)
            )
            batch.refresh_from_db()
            self.assertEqual(batch.state, "ready" if number == 3 else "sown")
        lots = Lot.objects.filter(from_stages__stage__batch=batch).order_by("id")
        self.assertEqual([lot.balance for lot in lots], [1250, 1100, 800])
        picks = [
            {"line_id": line.pk, "lot_id": lot.pk, "quantity": q}
            for lot, q in zip(lots, (1250, 1100, 650), strict=True)
        ]
        self.post(
            "/deliveries",
            {"order_id": line.order_id, "on": str(self.ctx.today), "client_uuid": uid(), "short": [], "picks": picks},
        )
        self.assertEqual(Lot.objects.get(pk=lots[2].pk).balance, 150)


class PrickingOut(TreeCase):
    def test_a_stage_changes_the_container_and_loses_some(self) -> None:
        seed_lot(self.ctx, "amaranth")
        method = self.method(
            "amaranth-pricked-out",
            "amaranth",
            [
                SOW,
                EMERGE,
                stage(
                    "prick",
                    "grow",
                    "emerge",
                    days=21,
                    keeps=0.9,
                    keeps_sd=0.02,
                    container="tray-104",
                    place_kind="bench",
                    density="tray_m2",
                ),
                {**GRADE, "after": "prick"},
            ],
        )
        batch = self.batch(method, needed=2600)
        rungs = self.rungs(batch)
        self.assertEqual(batch.start % 240, 0)
        entering = rungs["emerge"]["value"]
        self.assertAlmostEqual(rungs["prick"]["value"], entering * 0.9, delta=1)
        standing = Occupancy.objects.get(stage__batch=batch, stage__key="prick")
        trays = -(-entering // 104)  # pricked into trays of 104: more trays than were sown
        self.assertGreater(trays, batch.trays or 0)
        area = Method.objects.get(pk=method.pk).stages.get(key="prick").container.area_m2  # type: ignore[union-attr]
        self.assertAlmostEqual(standing.amount, trays * area, delta=2 * area)
        # In use week by week: those that were sown until they are pricked out, then those that they are pricked into.
        days = {one.key: one.planned for one in batch.stages.all()}
        self.assertEqual(days["prick"].lower, days["emerge"].upper)
        found = self.get(f"/board/sums?start={days['sow'].lower}&end={days['prick'].upper}")
        used = {one["name"]: one["by_week"] for one in found["trays"]}
        first = date.fromisoformat(found["first"])

        def week(day: date) -> int:
            return (day - first).days // 7

        sown, into = batch.container.name, "Tray of 104"  # type: ignore[union-attr]
        self.assertEqual({*used}, {sown, into})
        for n, (a, b) in enumerate(zip(used[sown], used[into], strict=True)):
            self.assertEqual(a, batch.trays if n <= week(days["emerge"].upper - timedelta(days=1)) else 0)
            self.assertAlmostEqual(b, trays if week(days["prick"].lower) <= n else 0, delta=1)


class TwoPlacesTwoLotsSeveralLines(TreeCase):
    def setUp(self) -> None:
        super().setUp()
        self.lots = [
            seed_lot(self.ctx, "fennel", grams=20, germination=0.9),
            seed_lot(self.ctx, "fennel", grams=500, germination=0.7),
        ]
        self.way = self.method("fennel-of-our-own", "fennel", [SOW, EMERGE, GROW, GRADE])

    def test_two_places_for_one_stage(self) -> None:
        batch = self.batch(self.way, needed=5000)
        benches = list(Place.objects.filter(organisation=self.ctx.organisation, kind="bench").order_by("id"))
        change = {
            "stage": "grow",
            "split": [{"place_id": benches[0].pk, "share": 0.6}, {"place_id": benches[1].pk, "share": 0.4}],
        }
        told = self.post(f"/batches/{batch.pk}/preview", change)
        self.post(f"/batches/{batch.pk}/keep", {"version": told["version"], "change": change})
        rows = Occupancy.objects.filter(stage__batch=batch, stage__key="grow").order_by("place_id")
        self.assertEqual([one.place_id for one in rows], [bench.pk for bench in benches[:2]])
        self.assertAlmostEqual(rows[0].amount / rows[1].amount, 1.5, places=2)
        lanes = {lane["place_id"]: lane for lane in self.get("/board?start=2027-09-01&end=2027-11-30")["lanes"]}
        for bench in benches[:2]:
            self.assertTrue([body for body in lanes[bench.pk]["bodies"] if body["batch_id"] == batch.pk])

    def test_two_lots_for_one_sowing(self) -> None:
        batch = self.batch(self.way, needed=5000, lot_ids=[lot.pk for lot in self.lots])
        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        taken = [{"lot_id": self.lots[0].pk, "quantity": "12.5 g"}, {"lot_id": self.lots[1].pk, "quantity": "0.03 kg"}]
        self.post(f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today), "lots": taken})
        left = [Lot.objects.get(pk=lot.pk).balance for lot in self.lots]
        self.assertEqual(left, [Decimal("7.5"), Decimal(470)])
        batch.refresh_from_db()
        self.assertAlmostEqual(float(batch.seed_g or 0), 42.5, places=3)
        inputs = self.get(f"/batches/{batch.pk}")["inputs"]
        self.assertEqual(sorted(one["quantity"] for one in inputs), [12.5, 30.0])
        # The stand is expected of what was really mixed, between the two lots.
        share = (12.5 * 0.9 + 30 * 0.7) / 42.5
        rate = self.rungs(batch)["emerge"]["rate"]["mean"]
        self.assertAlmostEqual(rate, share * 0.95, delta=0.02)

    def test_a_lot_that_does_not_hold_it_takes_nothing_of_the_other(self) -> None:
        batch = self.batch(self.way, needed=5000)
        advance(self.ctx, batch.stages.get(key="sow").planned.lower)
        taken = [{"lot_id": self.lots[1].pk, "quantity": "5 g"}, {"lot_id": self.lots[0].pk, "quantity": "20.5 g"}]
        self.post(f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today), "lots": taken}, status=422)
        self.assertEqual([Lot.objects.get(pk=lot.pk).balance for lot in self.lots], [20, 500])

    def test_one_batch_for_several_order_lines(self) -> None:
        lines = [
            take_order(self.ctx, crop="Fennel", quantity=q, due="2027-W42", customer=who)
            for q, who in (("1200", "Ada"), ("3k", "Bea"))
        ]
        batch = self.batch(self.way, order_line_ids=[line.pk for line in lines])
        self.assertEqual(batch.needed, 4200)
        shown = self.get(f"/batches/{batch.pk}")["orders"]
        self.assertEqual({one["allocated"] for one in shown}, {1200.0, 3000.0})
        self.post(f"/order-lines/{lines[0].pk}/cancel", {"reason": "closed"})
        batch.refresh_from_db()
        self.assertEqual(batch.state, "planned")
        self.assertEqual(self.post("/batches/plan-lines")["planned"], 0)


class WhatAHouseWrites(TreeCase):
    """Editions: own over shipped, every change kept, retired and taken back; faults are sentences by field."""

    def test_faults_are_said_by_field_and_nothing_is_saved(self) -> None:
        loop = [
            SOW,
            {**EMERGE, "after": "grow"},
            {**GROW, "after": "emerge", "share": 1.5, "keeps": 0.9, "keeps_sd": 0.4},
        ]
        told = self.post(
            "/library/method/a-loop",
            {"values": {"name": "A loop", "crop": "fennel", "form": "plug", "stages": loop}},
            status=422,
        )
        self.assertTrue(
            all(error["message"] and "Constraint" not in error["message"] for error in told["errors"]), told
        )
        self.assertFalse(Method.objects.filter(slug="a-loop").exists())
        for stages in (
            [],
            [SOW, SOW],
            [{**SOW, "unit": "furlongs"}],
            [{**SOW, "days": -4}],
            [SOW, {**EMERGE, "after": "nothing"}],
        ):
            body = {"values": {"name": "No way", "crop": "fennel", "form": "plug", "stages": stages}}
            self.assertTrue(self.post("/library/method/no-way", body, status=422)["errors"])

    def test_own_over_shipped_retired_and_taken_back(self) -> None:
        seed_lot(self.ctx)
        _, running = self.planned()
        before = self.get(f"/batches/{running.pk}")
        changed = self.post("/library/container/tray-240", {"values": {"cells": 160}, "reason": "we bought others"})
        self.assertEqual((changed[0]["own"], changed[0]["changed"], changed[0]["number"]), (True, ["cells"], 1))
        shown = {one["name"]: one["cells"] for one in self.get("/library")["containers"]}
        self.assertIn(160, shown.values())
        after = self.get(f"/batches/{running.pk}")
        self.assertEqual((after["trays"], after["start"]), (before["trays"], before["start"]))
        self.assertEqual(
            self.post("/library/container/tray-240/retire", {}, status=422)["errors"][0]["field"], "reason"
        )
        self.post("/library/container/tray-240/retire", {"reason": "worn out"})
        self.assertFalse(
            [one for one in self.get("/library")["containers"] if one["name"] == changed[0]["values"]["name"]]
        )
        editions = self.post(f"/editions/{changed[-1]['id']}/take-back", {})
        self.assertEqual(
            (editions[0]["number"], editions[0]["values"]["cells"], editions[0]["values"]["retired"]), (3, 240, False)
        )
        other = self.post("/library/container/tray-240", {"values": {"cells": 240}})
        self.assertEqual(len(other), len(editions), "what changes nothing is no edition")
