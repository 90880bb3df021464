"""Levelling: what is only planned is moved on paper, told move by move, and taken like any other change."""

from datetime import date, timedelta
from typing import Any

from aldrip.batches import levelling
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, Occupancy
from aldrip.batches.starting import plan_lines
from aldrip.jobs import services as jobs
from aldrip.jobs.models import Job
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from tests.server.house import HouseCase, advance, member, order_row, seed_lot

SPAN = (date(2027, 7, 5), date(2027, 11, 1))


class Levelling(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, grams=9000)
        seed_lot(self.ctx, "zinnia", grams=9000)
        Place.objects.filter(kind="bench").update(capacity=30)
        rows = [
            order_row(order=str(n), crop=("Pak choi", "Zinnia")[n % 2], quantity="8000", due=f"2027-W{35 + n // 5}")
            for n in range(10)
        ]
        plan_lines(self.ctx, orders.take_in(self.ctx, rows))

    def over(self) -> dict[int, tuple[float, int]]:
        """Of each place that is over: by how much at most, and on how many days."""
        ground = Ground(self.ctx)
        runs = {key: ground.over(key, *SPAN) for key in ground.lanes if isinstance(key, int)}
        return {
            key: (round(max(run.amount for run in own), 6), sum((run.end - run.start).days for run in own))
            for key, own in runs.items()
            if own
        }

    def told(self, found: dict[str, Any], when: str) -> dict[int, tuple[float, int]]:
        days = {one["place_id"]: (round(one[when], 6), one[f"{when}_days"]) for one in found["places"]}
        return {key: value for key, value in days.items() if value[1]}

    def area(self, found: dict[str, Any]) -> float:
        return sum(one["now"] for one in found["places"])

    def level(self) -> dict[str, Any]:
        return levelling.level_span(self.ctx, SPAN, seconds=5)

    def commands(self, found: dict[str, Any]) -> list[dict[str, Any]]:
        return [
            {
                "do": "edit",
                "batch": m["batch_id"],
                "change": {k: m[k] for k in ("sow_on", "stage", "place_id", "split")},
            }
            for m in found["moves"]
        ]

    def take(self, commands: list[dict[str, Any]]) -> None:
        seen = self.post("/proposals/preview", {"commands": commands})
        self.post("/proposals/keep", {"commands": commands, "versions": seen["versions"]})

    def test_what_it_says_is_what_is_there_once_its_moves_are_taken(self) -> None:
        before = self.over()
        chances = dict(OrderLine.objects.values_list("pk", "chance"))
        versions = dict(Batch.objects.values_list("pk", "version"))
        found = self.level()
        self.assertEqual(dict(Batch.objects.values_list("pk", "version")), versions)
        self.assertTrue(before)
        self.assertEqual(self.told(found, "was"), before)
        self.assertLess(found["price"], found["before"] / 2)
        self.assertTrue(found["moves"])
        self.take(self.commands(found))
        self.assertEqual(self.over(), self.told(found, "now"))
        for pk, chance in OrderLine.objects.values_list("pk", "chance"):
            assert chance is not None
            self.assertGreaterEqual(chance, min(chances[pk] or 0, 0.95) - 0.01)
        self.assertFalse(OrderLine.objects.exclude(problems=[]).exists())
        for move in found["moves"]:
            self.assertRegex(move["words"], r"^\S+, (pak choi|zinnia): .*instead of")
            self.assertRegex(move["why"], "is over by|makes room")

    def test_some_of_it_may_be_taken_and_the_rest_is_found_again(self) -> None:
        found = self.level()
        some = self.commands(found)[: len(found["moves"]) // 2]
        self.take(some)
        again = self.level()
        self.assertLess(again["before"], found["before"])
        self.assertLessEqual(self.area(again), self.area(found) + 1e-6)

    def test_what_no_place_holds_alone_is_parted_between_two(self) -> None:
        Batch.objects.all().delete()
        self.planned(quantity="8000", due="2027-W36")
        benches = Place.objects.filter(kind="bench")
        takes = max(one.amount for one in Occupancy.objects.filter(place__in=benches))
        benches.update(capacity=float(takes) * 0.7, gangway=0)
        found = self.level()
        self.assertEqual([len(move["split"]) for move in found["moves"]], [2])
        self.assertRegex(found["moves"][0]["words"], r"5\d % of “.*” in .* instead of all in ")
        self.take(self.commands(found))
        self.assertEqual(self.over(), {})
        parts = Occupancy.objects.filter(place__in=benches).values_list("place", "amount")
        self.assertEqual(len({place for place, _ in parts}), 2)
        self.assertAlmostEqual(float(sum(amount for _, amount in parts)), float(takes), places=6)

    def test_what_is_sown_or_pinned_stays(self) -> None:
        first = self.level()
        moved = [move["batch_id"] for move in first["moves"]]
        pinned, sown = (
            moved[0],
            min(moved[1:], key=lambda pk: Batch.objects.get(pk=pk).stages.get(key="sow").planned.lower),
        )
        self.post(f"/batches/{pinned}/pin", {"pinned": True})
        self.post(f"/batches/{pinned}/pin", {"pinned": True})
        self.assertTrue(self.get(f"/batches/{pinned}")["pinned"])
        day = Batch.objects.get(pk=sown).stages.get(key="sow").planned.lower
        advance(self.ctx, day)
        self.post(f"/batches/{sown}/sown", {"on": str(day)})
        again = levelling.level_span(self.ctx, (day, SPAN[1]), seconds=5)
        self.assertFalse({pinned, sown} & {move["batch_id"] for move in again["moves"]})
        for pk in Batch.objects.filter(state="planned").values_list("pk", flat=True):
            self.post(f"/batches/{pk}/pin", {"pinned": True})
        told = levelling.level_span(self.ctx, (day, SPAN[1]), seconds=5)
        self.assertEqual((told["looked_at"], told["moves"]), (0, []))
        self.assertIn("nothing that stands there may be moved", told["sentence"])
        self.assertTrue(all("pinned" in one["why"] for one in told["places"]))

    def test_as_a_job_it_is_read_and_what_was_changed_meanwhile_is_not_taken_unseen(self) -> None:
        made = self.post("/levelling", {"start": str(SPAN[0]), "end": str(SPAN[1])})["id"]
        self.assertEqual(self.get(f"/levelling/{made}")["state"], "waiting")
        jobs.run(made)
        found = self.get(f"/levelling/{made}")
        self.assertEqual((found["state"], found["sentence"]), ("done", found["words"]))
        self.assertEqual({move["stale"] for move in found["moves"]}, {False})
        seen = self.post("/proposals/preview", {"commands": self.commands(found)})
        batch = found["moves"][0]["batch_id"]
        self.post(f"/batches/{batch}/pin", {"pinned": True})
        self.assertEqual([move["stale"] for move in self.get(f"/levelling/{made}")["moves"]].count(True), 1)
        body = {"commands": self.commands(found), "versions": seen["versions"]}
        self.post("/proposals/keep", body, status=409)
        self.get("/levelling/999999", status=404)

    def test_stopped_in_the_middle_it_leaves_nothing(self) -> None:
        made = self.post("/levelling", {"start": str(SPAN[0]), "end": str(SPAN[1])})["id"]
        Job.objects.filter(pk=made).update(cancel_asked=True)
        versions = dict(Batch.objects.values_list("pk", "version"))
        jobs.run(made)
        found = self.get(f"/levelling/{made}")
        self.assertEqual((found["state"], found["moves"]), ("cancelled", []))
        self.assertEqual(dict(Batch.objects.values_list("pk", "version")), versions)

    def test_where_nothing_is_over_it_says_so_and_days_that_are_over_are_refused(self) -> None:
        Place.objects.filter(kind="bench").update(capacity=900)
        told = self.level()
        self.assertEqual((told["moves"], told["places"]), ([], []))
        self.assertIn("Nothing is over", told["sentence"])
        past = {"start": "2026-01-05", "end": "2026-03-01"}
        self.assertEqual(self.post("/levelling", past, status=422)["errors"][0]["field"], "end")
        far = {"start": str(SPAN[0]), "end": str(SPAN[0] + timedelta(days=4000))}
        self.assertEqual(self.post("/levelling", far, status=422)["errors"][0]["code"], "too_long")
        eye = self.client_class()
        eye.force_login(member(self.ctx, "eye", "viewer"))
        self.post("/levelling", {"start": str(SPAN[0]), "end": str(SPAN[1])}, client=eye, status=403)
