"""Seed that heat would stop lies cool first, in whichever unit the cool place counts; what one place cannot hold stands in two."""

from datetime import date, timedelta

from aldrip.batches.models import Batch, Occupancy
from aldrip.diary.models import Task
from aldrip.places.models import Place
from tests.server.house import HouseCase, advance, seed_lot

MANY = "56000"  # pak choi, more than one bench of 60 m² holds


class CoolStay(HouseCase):
    """Lettuce in July: the bench passes 25 °C every day, the room is kept at 18.5 °C and counts trays."""

    def lettuce(self, many: int = 6000) -> Batch:
        seed_lot(self.ctx, "lettuce", grams=200)
        _, batch = self.planned(crop="Lettuce", quantity=str(many), due="2027-W34")
        return batch

    def stood(self, batch: Batch, stage: str = "germinate") -> list[tuple[str, str, int]]:
        rows = Occupancy.objects.filter(stage__batch=batch, stage__key=stage).order_by("during")
        return [(one.place.kind, one.place.unit, (one.during.upper - one.during.lower).days) for one in rows]

    def test_it_is_planned_there_and_back_with_its_work(self) -> None:
        batch = self.lettuce()
        (cool, unit, days), (back, _, _) = self.stood(batch)
        self.assertEqual((cool, unit, days, back), ("germination", "trays", 3, "bench"))
        self.assertEqual(batch.problems, [])
        moves = list(Task.objects.filter(subject=batch.uuid, key__startswith="cool").order_by("due_from"))
        self.assertEqual([one.key for one in moves], ["cool-in", "cool-out"])
        self.assertEqual((moves[0].quantity, moves[0].unit), (batch.trays, "trays"))
        self.assertGreaterEqual((moves[1].due_from - moves[0].due_from).days, 3)
        first = Occupancy.objects.filter(stage__batch=batch, stage__key="germinate").earliest("during")
        self.assertEqual(first.amount, batch.trays)

    def test_when_it_is_sown_it_stands_there_and_goes_back(self) -> None:
        batch = self.lettuce()
        day = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, day)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(day)})
        self.assertEqual([one[0] for one in self.stood(batch)], ["germination", "bench"])
        shown = self.get(f"/batches/{batch.pk}")
        self.assertFalse([said for said in shown["problems"] if "rests" in said])

    def test_without_a_cool_place_with_room_it_says_that_seed_rests(self) -> None:
        Place.objects.filter(kind__in=("germination", "store", "shed")).update(active=False)
        batch = self.lettuce()
        self.assertEqual([one[0] for one in self.stood(batch)], ["bench"])
        self.assertIn("rests", [one["code"] for one in batch.problems])

    def test_a_store_in_square_metres_serves_as_well(self) -> None:
        Place.objects.filter(kind="germination").update(active=False)
        batch = self.lettuce()
        (cool, unit, _), _ = self.stood(batch)
        self.assertEqual((cool, unit), ("store", "m²"))

    def test_in_spring_nothing_is_carried_about(self) -> None:
        advance(self.ctx, date(2028, 1, 10))
        seed_lot(self.ctx, "lettuce", grams=200)
        _, batch = self.planned(crop="Lettuce", quantity="6000", due="2028-W16")
        self.assertEqual([one[0] for one in self.stood(batch)], ["bench"])
        self.assertFalse(Task.objects.filter(subject=batch.uuid, key__startswith="cool").exists())

    def test_the_bench_is_offered_to_a_stage_that_counts_trays_and_the_room_to_one_that_does_not(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="2000", due="2027-W36")
        bench = Place.objects.get(name="Bench 1")
        change = {"stage": "germinate", "place_id": bench.pk}
        self.post(f"/batches/{batch.pk}/keep", {"version": batch.version, "change": change})
        here = Occupancy.objects.get(stage__batch=batch, stage__key="germinate")
        container = batch.method_snapshot["containers"][batch.method_snapshot["container"]]
        area = container["length_cm"] * container["width_cm"] / 10_000
        self.assertEqual(here.place, bench)
        self.assertAlmostEqual(here.amount, (batch.trays or 0) * area, places=6)


class SeveralPlaces(HouseCase):
    def test_what_one_bench_cannot_hold_stands_on_two_and_is_over_only_when_both_are_full(self) -> None:
        """Two benches of 60 m²; trays of about 0.17 m²."""
        seed_lot(self.ctx, grams=5000)
        _, batch = self.planned(quantity=MANY, due="2027-W36")
        rows = Occupancy.objects.filter(stage__batch=batch, stage__key="grow")
        self.assertEqual({one.place.name for one in rows}, {"Bench 1", "Bench 2"})
        self.assertTrue(all(one.amount <= 60 for one in rows))
        container = batch.method_snapshot["containers"][batch.method_snapshot["container"]]
        area = container["length_cm"] * container["width_cm"] / 10_000
        self.assertAlmostEqual(sum(one.amount for one in rows), (batch.trays or 0) * area, places=3)
        for one in rows:
            self.assertAlmostEqual(one.amount / area, round(one.amount / area), places=3)
        again = self.post(f"/batches/{batch.pk}/preview", {"shift_days": 1})
        self.assertFalse([f for f in again.get("problems", []) if "over" in f])

    def test_a_small_batch_is_not_cut(self) -> None:
        seed_lot(self.ctx, grams=500)
        _, batch = self.planned(quantity="4000", due="2027-W36")
        rows = Occupancy.objects.filter(stage__batch=batch, stage__key="grow")
        self.assertEqual(rows.count(), 1)
        self.assertGreater(rows[0].during.upper - rows[0].during.lower, timedelta(days=5))
