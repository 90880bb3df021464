"""Places that are shut for some days: typed, refused where they cannot be, planned round, shown on the board."""

from datetime import date, timedelta
from typing import Any

from aldrip.batches.models import Batch
from aldrip.diary.models import Task
from aldrip.places.models import Place
from tests.server.house import HouseCase, seed_lot


class Closings(HouseCase):
    def change(self, name: str, *closings: dict[str, Any], status: int = 200) -> Any:
        place = Place.objects.get(name=name)
        body = {"name": name, "kind": place.kind, "capacity": place.capacity, "closings": list(closings)}
        body |= {"set_point_c": place.set_point_c, "excess_c": place.excess_c}
        return self.call("patch", f"/places/{place.pk}", body, status=status)

    def test_a_batch_stands_elsewhere_while_a_bench_is_shut_and_there_again_once_it_is_not(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="3000", due="2027-W36")
        grow = batch.stages.get(key="grow")
        own = grow.occupancies.get()
        self.assertEqual(own.place.name, "Bench 1")
        days = own.during
        kept = self.change(
            "Bench 1",
            {"first": str(days.lower), "last": f"{days.upper.day} {days.upper:%B} {days.upper.year}", "why": "wash"},
        )
        self.assertEqual(
            kept["closings"], [{"first": str(days.lower), "last": str(days.upper), "holds": 0.0, "why": "wash"}]
        )
        over = [one for one in self.get("/season-line")["decisions"] if one["code"] == "over"]
        self.assertRegex(over[0]["sentence"], r"^Bench 1 is over by \d+ m² from")
        lane = next(
            one for one in self.get("/board?start=2027-07-05&end=2027-10-04")["lanes"] if one["name"] == "Bench 1"
        )
        self.assertEqual(lane["closings"][0]["holds"], 0.0)
        _, second = self.planned(quantity="3000", due="2027-W36", customer="Elm Farm")
        self.assertEqual(second.stages.get(key="grow").occupancies.get().place.name, "Bench 2")
        self.change("Bench 1")
        self.assertEqual([one for one in self.get("/season-line")["decisions"] if one["code"] == "over"], [])

    def test_what_cannot_be_is_told_at_its_field_and_a_change_of_something_else_leaves_them(self) -> None:
        told = self.change(
            "Bench 1",
            {"first": "3 Aug 2027", "last": "1 Aug 2027"},
            {"first": "07/08/2027", "last": "2027-08-09"},
            {"first": "2027-08-01", "last": "2037-08-09"},
            {"first": "2027-08-01", "last": "2027-08-09", "holds": "-3"},
            status=422,
        )
        self.assertEqual(
            [(one["field"], one["code"]) for one in told["errors"]],
            [
                ("closings.0.last", "crossed"),
                ("closings.1.first", "unreadable"),
                ("closings.2.last", "too_long"),
                ("closings.3.holds", "out_of_range"),
            ],
        )
        nothing = self.change("Shed", {"first": "2027-08-01", "last": "2027-08-09", "holds": "3"}, status=422)
        self.assertEqual(nothing["errors"][0]["code"], "no_capacity")
        self.change(
            "Bench 1",
            {"first": "2027-08-08", "last": "2027-08-09", "holds": 20},
            {"first": "2027-08-01", "last": "2027-08-02"},
        )
        place = Place.objects.get(name="Bench 1")
        self.assertEqual([one["first"] for one in place.closings], ["2027-08-01", "2027-08-08"])
        self.call("patch", f"/places/{place.pk}", {"name": "Bench A", "kind": "bench", "capacity": 60})
        place.refresh_from_db()
        self.assertEqual((place.name, len(place.closings)), ("Bench A", 2))
        self.assertEqual(date.fromisoformat(place.closings[1]["last"]), date(2027, 8, 9))


class Sums(HouseCase):
    """Hours and trays by week, against a count of tasks and batches one by one."""

    def test_by_week_they_are_what_a_recount_says(self) -> None:
        seed_lot(self.ctx)
        for week, many in ((34, "3000"), (35, "5000"), (36, "2000")):
            self.planned(quantity=many, due=f"2027-W{week}", customer=f"Week {week}")
        start, end = date(2027, 7, 7), date(2027, 10, 4)  # a Wednesday
        found = self.get(f"/board/sums?start={start}&end={end}")
        first = date(2027, 7, 5)
        self.assertEqual(found["first"], str(first))
        for n, hours in enumerate(found["hours"]):
            since, until = first + timedelta(weeks=n), first + timedelta(weeks=n + 1)
            minutes = [one.minutes or 0 for one in Task.objects.all() if since <= one.due_from < until]
            self.assertAlmostEqual(hours, sum(minutes) / 60, delta=0.06)
            days = [since + timedelta(days=d) for d in range(7)]
            used = []
            for day in days:
                spans = [(b, list(b.stages.order_by("order"))) for b in Batch.objects.filter(trays__gt=0)]
                used.append(
                    sum(b.trays or 0 for b, s in spans if s[0].planned.lower <= day < max(x.planned.upper for x in s))
                )
            self.assertEqual(found["trays"][0]["by_week"][n], max(used))
        self.assertIsNone(found["hours_week"])
        self.call("patch", "/organisation", {"hours_week": "120"})
        self.assertEqual(self.get(f"/board/sums?start={start}&end={end}")["hours_week"], 120)
        told = self.call("patch", "/organisation", {"hours_week": "99000"}, status=422)
        self.assertEqual(told["errors"][0]["field"], "hours_week")
        self.call("patch", "/organisation", {"hours_week": "0"})
        self.assertIsNone(self.get(f"/board/sums?start={start}&end={end}")["hours_week"])

    def test_a_chance_follows_from_what_one_too_many_and_one_missing_cost(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="3000", due="2027-W36")
        before = batch.start
        told = self.post(f"/batches/{batch.pk}/preview", {"costs": {"surplus": "0.04", "short": "7.96"}})
        self.assertRegex(told["sentence"], r"for a chance of 99\.5 %\.$")
        self.post(
            f"/batches/{batch.pk}/keep",
            {"version": told["version"], "change": {"costs": {"surplus": "1", "short": "1"}}},
        )
        batch.refresh_from_db()
        self.assertEqual(batch.chance_wanted, 0.5)
        self.assertLess(batch.start, before)
        cheap = self.post(f"/batches/{batch.pk}/preview", {"costs": {"surplus": "2", "short": "1"}}, status=422)
        self.assertEqual((cheap["errors"][0]["field"], cheap["errors"][0]["code"]), ("cost_short", "out_of_range"))
        percent = self.post(f"/batches/{batch.pk}/preview", {"chance": "90"})
        self.assertRegex(percent["sentence"], r"for a chance of 90\.0 %\.$")
