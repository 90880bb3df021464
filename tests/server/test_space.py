"""Occupancy on the ground: what is in memory, in the database and on the board is the same."""

from datetime import date, timedelta

import numpy as np

from aldrip.batches.board import board_of
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, Occupancy
from aldrip.batches.starting import plan_lines
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from tests.server.house import HouseCase, advance, order_row, seed_lot


class Ledger(HouseCase):
    def season(self, count: int = 24) -> None:
        seed_lot(self.ctx, grams=9000)
        seed_lot(self.ctx, "endive", grams=9000)
        crops = ("Pak choi", "Endive", "Bulb fennel", "Zinnia")
        rows = [
            order_row(order=str(n), crop=crops[n % 4], quantity=str(3000 + 500 * (n % 5)), due=f"2027-W{34 + n % 10}")
            for n in range(count)
        ]
        plan_lines(self.ctx, orders.take_in(self.ctx, rows))

    def slow(self, place: int, day: date) -> float:
        return sum(o.amount for o in Occupancy.objects.filter(place=place) if o.during.lower <= day < o.during.upper)

    def test_the_board_shows_each_day_the_sum_of_its_bodies(self) -> None:
        self.season()
        start = date(2027, 7, 5)
        board = board_of(self.ctx, start, start + timedelta(days=140))
        ground = Ground(self.ctx)
        checked = 0
        for lane in board["lanes"]:
            for offset in range(0, 140, 9):
                day = start + timedelta(days=offset)
                exact = self.slow(lane["place_id"], day)
                self.assertAlmostEqual(lane["load"][offset], exact, places=2)
                self.assertAlmostEqual(float(ground.lanes[lane["place_id"]].load[ground.index(day)]), exact, places=6)
                bodies = sum(b["amount"] for b in lane["bodies"] if b["start"] <= day < b["end"])
                self.assertAlmostEqual(bodies, exact, places=6)
                checked += exact > 0
            over = {
                run["start"] + timedelta(days=n)
                for run in lane["over"]
                for n in range((run["end"] - run["start"]).days)
            }
            for offset, amount in enumerate(lane["load"]):
                if abs(amount - lane["usable"]) > 0.01:
                    self.assertEqual(start + timedelta(days=offset) in over, amount > lane["usable"])
        self.assertGreater(checked, 20)

    def test_planning_puts_each_batch_where_it_is_least_full(self) -> None:
        self.season()
        ground = Ground(self.ctx)
        benches = [lane for lane in ground.by_kind["bench"]]
        peaks = [float(lane.load.max()) for lane in benches]
        self.assertLess(abs(peaks[0] - peaks[1]), 0.6 * max(peaks))
        self.assertTrue(all(peak > 0 for peak in peaks))

    def test_what_is_in_memory_after_planning_is_what_was_saved(self) -> None:
        seed_lot(self.ctx, grams=9000)
        lines = orders.take_in(self.ctx, [order_row(order=str(n), due=f"2027-W{36 + n}") for n in range(6)])
        plan_lines(self.ctx, lines)
        saved = Ground(self.ctx)
        total = sum(float(np.sum(lane.load)) for lane in saved.lanes.values())
        exact = sum(o.amount * (o.during.upper - o.during.lower).days for o in Occupancy.objects.all())
        self.assertAlmostEqual(total, exact, places=3)

    def test_a_batch_sown_is_firm_and_one_planned_is_a_draft(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        self.assertEqual(set(Occupancy.objects.values_list("firm", flat=True)), {False})
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow)})
        self.assertEqual(set(Occupancy.objects.values_list("firm", flat=True)), {True})

    def test_the_season_line_knows_the_tightest_place(self) -> None:
        self.season()
        line = self.get("/season-line")
        ground = Ground(self.ctx)
        first = date.fromisoformat(line["start"])
        for offset in (0, 200, 240, 260):
            day = first + timedelta(days=offset)
            shares = [lane.load[ground.index(day)] / lane.usable for lane in ground.lanes.values() if lane.usable]
            self.assertAlmostEqual(line["fullness"][offset], float(max(shares)), places=3)
        self.assertEqual(sum(tick["count"] for tick in line["ticks"]), OrderLine.objects.count())

    def test_a_closed_place_is_planned_no_more(self) -> None:
        seed_lot(self.ctx)
        places = {p["name"]: p for p in self.get("/places")["places"]}
        bench = places["Bench 1"]
        body = {
            name: bench[name]
            for name in ("name", "kind", "capacity", "unit", "gangway", "set_point_c", "cooled_to_c", "excess_c")
        }
        self.call("patch", f"/places/{bench['id']}", {**body, "active": False})
        self.planned(order="1")
        self.planned(order="2")
        self.assertFalse(Occupancy.objects.filter(place=bench["id"]).exists())
        self.assertEqual(
            self.call("patch", f"/places/{bench['id']}", {**body, "capacity": -1}, status=422)["errors"][0]["field"],
            "capacity",
        )

    def test_an_order_for_which_there_is_no_kind_of_place_still_stands_with_its_words(self) -> None:
        seed_lot(self.ctx)
        for place in self.get("/places")["places"]:
            if place["kind"] == "tunnel":
                body = {
                    k: place[k]
                    for k in ("name", "kind", "capacity", "unit", "gangway", "set_point_c", "cooled_to_c", "excess_c")
                }
                self.call("patch", f"/places/{place['id']}", {**body, "active": False})
        line, batch = self.planned()
        self.assertIn("asks for a place of kind tunnel", line.problem)
        self.assertEqual(Batch.objects.get().pk, batch.pk)


class Lots(HouseCase):
    def test_seed_is_promised_lot_by_lot_and_what_is_missing_is_said(self) -> None:
        first, second = seed_lot(self.ctx, grams=60), seed_lot(self.ctx, grams=70)
        lines = [self.planned(order=str(n), quantity="15000")[0] for n in range(3)]
        used = list(Batch.objects.order_by("id").values_list("lot", flat=True))
        self.assertEqual(used[:2], [first.pk, second.pk])
        self.assertEqual([bool(line.problem) for line in lines], [False, False, True])
        self.assertRegex(lines[2].problem, r"Lot L27-\w+ is short by [\d.]+ g")

    def test_no_lot_at_all_says_how_much_to_buy(self) -> None:
        line, batch = self.planned()
        self.assertRegex(line.problem, r"No seed lot of pak choi: receive or buy [\d.]+ g\.")
        self.assertIn("sowing", self.rooms_after(batch.stages.get(key="sow").planned.lower - timedelta(days=3)))

    def rooms_after(self, day: date) -> list[str]:
        advance(self.ctx, day)
        return [d["room"] for d in self.get("/season-line")["decisions"]]

    def test_own_records_of_three_batches_stand_in_for_the_library(self) -> None:
        seed_lot(self.ctx, grams=9000)
        advance(self.ctx, date(2027, 3, 1))
        batches = [self.planned(order=str(n), quantity="2000", due="2027-W20")[1] for n in range(3)]
        for batch, found in zip(batches, (200, 204, 196), strict=True):
            sow = batch.stages.get(key="sow").planned.lower
            advance(self.ctx, sow)
            self.post(f"/batches/{batch.pk}/sown", {"on": str(sow)})
            day = batch.stages.get(key="germinate").planned.upper
            advance(self.ctx, day)
            trays = [{"sampled": 240, "found": found + n} for n in (-3, 0, 3)]
            self.post(
                f"/batches/{batch.pk}/counts",
                {"trays": trays, "on": str(day), "client_uuid": f"00000000-0000-4000-8000-{batch.pk:012d}"},
            )
            grade = batch.stages.get(key="grade").planned.lower
            advance(self.ctx, grade)
            self.post(
                f"/batches/{batch.pk}/graded",
                {
                    "good": 1800,
                    "out": [{"cause": "damaged", "count": 80}],
                    "on": str(grade),
                    "client_uuid": f"00000000-0000-4000-9000-{batch.pk:012d}",
                },
            )
        advance(self.ctx, date(2027, 7, 6))
        _, new = self.planned(order="99", quantity="2000", due="2027-W40")
        stages = {s.kind: s for s in new.stages.all()}
        self.assertIn("own cell factor", stages["germinate"].source)
        self.assertIn("3 batches", stages["germinate"].source)
        self.assertEqual(
            (stages["grade"].origin, stages["grade"].source), ("records", "own records, 3 batches, 5,640 counted")
        )
        self.assertAlmostEqual(
            stages["grade"].alpha / (stages["grade"].alpha + stages["grade"].beta), 1800 / 1880, places=3
        )
