"""A place that is heated in a part of the year only: written, shown, planned with, taken out of the house and back."""

from aldrip.batches.models import Batch
from aldrip.places.models import Place
from tests.server.house import HouseCase, seed_lot

PART = {"first": "1 Nov", "last": "15 March", "set_point_c": "6", "cooled_to_c": "", "excess_c": "0"}


class PartsOfYear(HouseCase):
    def change(self, place: Place, status: int = 200, **more: object) -> dict:
        body = {"name": place.name, "kind": place.kind, "capacity": place.capacity, "unit": place.unit}
        body |= {"set_point_c": place.set_point_c, "cooled_to_c": place.cooled_to_c, "excess_c": place.excess_c}
        return self.call("patch", f"/places/{place.pk}", {**body, **more}, status=status)

    def bench(self) -> Place:
        return Place.objects.filter(kind="bench").order_by("order").first()

    def test_written_as_people_write_days_and_kept_where_nobody_says(self) -> None:
        place = self.bench()
        self.change(place, parts=[PART])
        shown = next(one for one in self.get("/places")["places"] if one["id"] == place.pk)
        self.assertEqual(
            shown["parts"],
            [{"first": "11-01", "last": "03-15", "set_point_c": 6.0, "cooled_to_c": None, "excess_c": 0.0}],
        )
        self.change(place, gangway="10")
        place.refresh_from_db()
        self.assertEqual(len(place.parts), 1)
        self.change(place, parts=[])
        place.refresh_from_db()
        self.assertEqual(place.parts, [])

    def test_refusals_name_the_part_and_the_field(self) -> None:
        place = self.bench()
        for more, field in (
            ({"first": "some day"}, "parts.1.first"),
            ({"last": ""}, "parts.1.last"),
            ({"set_point_c": "80"}, "parts.1.set_point_c"),
            ({"excess_c": "99"}, "parts.1.excess_c"),
        ):
            told = self.change(place, 422, parts=[PART, {**PART, **more}])["errors"]
            self.assertIn(field, [error["field"] for error in told])
        self.assertEqual(self.change(place, 422, parts=[PART] * 13)["errors"][0]["field"], "parts")
        place.refresh_from_db()
        self.assertEqual(place.parts, [])

    def test_in_a_cold_winter_it_takes_longer_and_in_summer_nothing_changes(self) -> None:
        seed_lot(self.ctx, grams=5000)
        took = {}
        for when in ("warm", "cold"):
            if when == "cold":
                for place in Place.objects.filter(kind="bench"):
                    self.change(place, parts=[PART])
            for season, due in (("winter", "2028-W06"), ("summer", "2027-W35")):
                _, batch = self.planned(quantity="2000", due=due)
                batch = Batch.objects.get(pk=batch.pk)
                stages = batch.stages.order_by("order")
                took[when, season] = (stages.last().planned.upper - stages.first().planned.lower).days
        self.assertGreater(took["cold", "winter"], took["warm", "winter"])
        self.assertEqual(took["cold", "summer"], took["warm", "summer"])
