"""What the weeks ahead take, against the batches, their tasks and their places one by one."""

import csv
import io
from collections import Counter
from datetime import date, timedelta

from django.db import connection
from django.test.utils import CaptureQueriesContext
from openpyxl import load_workbook

from aldrip.batches.models import Batch, Occupancy
from aldrip.diary.models import Task
from tests.server.house import HouseCase, advance, seed_lot

WEEK = timedelta(days=7)


class ByWeek(HouseCase):
    def rows(self, weeks: int = 26) -> dict[tuple[str, str], list[float]]:
        told = self.get(f"/requirements?weeks={weeks}")
        self.assertEqual(len(told["weeks"]), weeks)
        return {(row["kind"], row["what"]): row["amounts"] for row in told["rows"]}

    def season(self) -> list[Batch]:
        seed_lot(self.ctx)
        seed_lot(self.ctx, "endive")
        for crop, quantity, due in (
            ("Pak choi", "6000", "2027-W33"),
            ("Pak choi", "9000", "2027-W36"),
            ("Endive", "4000", "2027-W35"),
        ):
            self.planned(crop=crop, quantity=quantity, due=due)
        return list(Batch.objects.select_related("container", "mix"))

    def test_trays_mix_seed_hours_and_benches_are_those_of_the_batches(self) -> None:
        batches = self.season()
        told = self.rows()
        first = self.ctx.today - timedelta(days=self.ctx.today.weekday())
        trays: Counter[tuple[str, int]] = Counter()
        litres = Counter[int]()
        for batch in batches:
            week = (batch.stages.get(order=0).planned.lower - first) // WEEK
            trays[batch.container.name, week] += batch.trays
            card = self.get(f"/batches/{batch.pk}/card")
            litres[week] += card["litres"]
        for (name, week), count in trays.items():
            self.assertEqual(told["Trays and pots", name][week], count)
        mixes = [sum(one) for one in zip(*(row for (kind, _), row in told.items() if kind == "Mix"), strict=True)]
        for week, amount in litres.items():
            self.assertAlmostEqual(mixes[week], amount, places=3)
        parts = sum(sum(row) for (kind, _), row in told.items() if kind == "Parts of mixes")
        self.assertAlmostEqual(parts, sum(mixes), places=3)
        grams = sum(sum(row) for (kind, _), row in told.items() if kind == "Seed")
        self.assertAlmostEqual(grams, sum(batch.seed_g for batch in batches), places=3)
        minutes = sum(task.minutes or 0 for task in Task.objects.filter(due_from__lt=first + 26 * WEEK))
        self.assertAlmostEqual(sum(told["Work", "Tasks that are planned"]), minutes / 60, places=3)
        bench = sum(
            one.amount * (one.during.upper - one.during.lower).days / 7
            for one in Occupancy.objects.filter(place__kind="bench")
        )
        self.assertAlmostEqual(sum(told["Benches", "Glasshouse bench, mean of the week"]), bench, places=3)

    def test_what_was_sown_is_wanted_no_more_and_what_is_late_is_wanted_now(self) -> None:
        batch = min(self.season(), key=lambda one: one.stages.get(order=0).planned.lower)
        sow = batch.stages.get(order=0).planned.lower
        advance(self.ctx, sow + timedelta(days=8))
        name = batch.container.name
        late = self.rows()["Trays and pots", name][0]
        self.assertGreaterEqual(late, batch.trays)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow), "trays": batch.trays})
        self.assertEqual(self.rows().get(("Trays and pots", name), [0])[0], late - batch.trays)

    def test_an_empty_house_has_no_rows_and_odd_spans_are_refused(self) -> None:
        self.assertEqual(self.rows(), {})
        for weeks in (0, 53):
            self.assertEqual(self.get(f"/requirements?weeks={weeks}", status=422)["errors"][0]["field"], "weeks")

    def test_files_say_the_same(self) -> None:
        self.season()
        told = self.get("/requirements?weeks=12")
        answer = self.client.get("/api/requirements/export?weeks=12")
        lines = list(csv.reader(io.StringIO(answer.content.decode("utf-8-sig"))))
        self.assertEqual(lines[0][3], told["weeks"][0])
        self.assertEqual([line[:3] for line in lines[1:]], [[r["kind"], r["what"], r["unit"]] for r in told["rows"]])
        book = load_workbook(io.BytesIO(self.client.get("/api/requirements/export?weeks=12&kind=xlsx").content)).active
        self.assertEqual(book["D1"].value.date(), date.fromisoformat(told["weeks"][0]))
        self.assertEqual(book["P2"].value, round(told["rows"][0]["total"], 1))

    def test_as_many_queries_for_many_batches(self) -> None:
        self.season()
        self.rows()
        with CaptureQueriesContext(connection) as few:
            self.rows()
        for week in range(37, 42):
            self.planned(quantity="1000", due=f"2027-W{week}")
        with CaptureQueriesContext(connection) as many:
            self.rows()
        self.assertEqual(len(many), len(few))
