"""Places that are shut for some days: typed, refused where they cannot be, planned round, shown on the board."""

from datetime import date
from typing import Any

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
