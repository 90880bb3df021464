"""Dressings by stage, what is mixed into a medium, and water: written in a method, planned, recounted by hand."""

from datetime import timedelta
from typing import Any

from aldrip.batches.models import Batch
from aldrip.diary.models import Task
from aldrip.methods.models import Input, Mix
from tests.server.test_trees import EMERGE, GRADE, GROW, SOW, TreeCase, stage

FEED = {"kind": "feed", "input": "complete-20-20-20", "amount": "2 g", "per": "unit", "part": "morning"}
EACH = 0.0324  # m²
POT = stage(
    "pot", "pot", "grow", days=40, unit="pots", place_kind="bench", density="unit_m2", unit_m2=EACH, container="pot-9"
)
TASKS = [
    {**FEED, "words": "Dress {crop} when it is potted"},
    {**FEED, "words": "Dress {crop} again", "after_days": 20, "amount": "3 g"},
    {**FEED, "words": "Never: they are gone", "after_days": 60},
]


class Dressed(TreeCase):
    def potted(self, tasks: list[dict[str, Any]], **more: Any) -> Batch:
        stages = [SOW, EMERGE, GROW, {**POT, "tasks": tasks}, {**GRADE, "after": "pot"}]
        return self.batch(self.method("fennel-potted", "fennel", stages, **more), needed=2000)

    def test_by_plant_in_all_and_by_the_hectare(self) -> None:
        """Arithmetic; P is 0.436 and K 0.830 of their oxides by atomic weights."""
        batch = self.potted(TASKS)
        pot = batch.stages.get(key="pot")
        into = int(batch.stages.get(key="grow").out)  # whole plants
        rows = self.get(f"/batches/{batch.pk}/dressings")
        self.assertEqual([row["words"].split()[-1] for row in rows], ["potted", "again"])
        self.assertEqual(rows[0]["on"], str(pot.planned.lower))
        working, _ = self.ctx.calendars()
        self.assertEqual(rows[1]["on"], str(working.on_or_after(pot.planned.lower + timedelta(days=20))))
        for row, grams in zip(rows, (2, 3), strict=True):
            self.assertAlmostEqual(row["kg"], into * grams / 1000)
            self.assertAlmostEqual(row["kg_per_ha"], grams / 1000 / EACH * 10_000)
        per_ha = rows[0]["kg_per_ha"]
        told = f"{per_ha * 0.2:.1f} N, {per_ha * 0.2 * 0.4364:.1f} P, {per_ha * 0.2 * 0.8301:.1f} K"
        self.assertTrue(rows[0]["nutrients_words"].startswith(told), rows[0]["nutrients_words"])
        self.post(f"/tasks/{rows[0]['task_id']}/mark", {"state": "done"})
        self.assertTrue(self.get(f"/batches/{batch.pk}/dressings")[0]["done"])

    def test_what_comes_again_is_told_each_time_and_what_is_no_feed_never(self) -> None:
        Input.objects.create(
            slug="own-product", name="Own product", kind="protection", organisation=self.ctx.organisation
        )
        again = {**FEED, "words": "Dress", "every_days": 14}
        other = {**FEED, "words": "Treat by its label", "input": "own-product"}
        batch = self.potted([again, other])
        rows = self.get(f"/batches/{batch.pk}/dressings")
        care = Task.objects.filter(subject=batch.uuid, stage="pot", every=14).count()
        self.assertEqual((len(rows), {row["words"] for row in rows}), (care, {"Dress"}))
        self.assertGreater(care, 1)

    def test_days_after_the_start_are_refused_where_they_cannot_be(self) -> None:
        for wrong in (-1, 401, 2.5):
            stages = [SOW, EMERGE, {**GROW, "tasks": [{**FEED, "words": "Dress", "after_days": wrong}]}, GRADE]
            body = {"values": {"name": "x", "crop": "fennel", "form": "plug", "stages": stages}}
            told = self.post("/library/method/fennel-x", body, status=422)["errors"]
            self.assertIn("stages.2.tasks.0.after_days", [one["field"] for one in told])

    def test_what_is_mixed_into_the_medium_stands_on_both_cards(self) -> None:
        """3.7 kg/m³ of 14-14-14 (common practice, no source) is 3.7 g a litre and 518 mg N."""
        mixed = [{"input": "controlled-release-14-14-14", "kg_per_m3": 3.7}]
        values = {"name": "Pot mix", "parts": {"peat": 3, "perlite": 1}, "amendments": mixed}
        self.post("/library/mix/pot-mix", {"values": values})
        self.assertEqual(Mix.objects.get(slug="pot-mix").amendments, mixed)
        batch = self.potted(TASKS, mix="pot-mix")
        for path, litres in (
            (f"/batches/{batch.pk}/card", None),
            (f"/batches/{batch.pk}/stages/pot/card", None),
        ):
            card = self.get(path)
            litres = card["litres"] if "litres" in card else sum(one["litres"] for one in card["parts"])
            (one,) = card["mixed_in"]
            self.assertEqual(one["name"], "Controlled release 14-14-14, 3.7 kg/m³")
            self.assertEqual(one["words"], f"{litres * 3.7:.1f} g" if litres < 270 else f"{litres * 0.0037:.2f} kg")
            self.assertTrue(one["note"].startswith("518 mg N, 226 mg P, 430 mg K"), one["note"])
        needed = [row for row in self.get("/requirements?weeks=52")["rows"] if row["what"].startswith("Controlled")]
        mix_l = sum(row["total"] for row in self.get("/requirements?weeks=52")["rows"] if row["kind"] == "Mix")
        self.assertAlmostEqual(needed[0]["total"], mix_l * 3.7 / 1000, delta=0.01)
        self.post(
            "/library/mix/pot-mix", {"values": {**values, "amendments": [{**mixed[0], "kg_per_m3": 500}]}}, status=422
        )

    def test_water_stands_for_every_stage_in_the_light(self) -> None:
        batch = self.potted(TASKS)
        rows = {row["stage"]: row for row in self.get(f"/batches/{batch.pk}/water")}
        self.assertEqual(set(rows), {"grow", "pot"})  # a germination room is dark
        self.assertAlmostEqual(rows["pot"]["m2"], int(batch.stages.get(key="grow").out) * EACH)
        self.assertAlmostEqual(rows["grow"]["m2"], (batch.trays or 0) * 0.24)
        for row in rows.values():
            self.assertAlmostEqual(row["litres_a_day"], row["mm_a_day"] * row["m2"])
            self.assertTrue(0 < row["mm_a_day"] < 10)
        water = [row for row in self.get("/requirements?weeks=52")["rows"] if row["kind"] == "Water"]
        self.assertGreater(sum(row["total"] for row in water), 0)
