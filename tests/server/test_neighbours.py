"""Neighbours on the map: which count for a block, what a correction keeps, and what tells who saw them."""

from datetime import date, timedelta
from typing import Any

from aldrip.accounts.models import AuditEvent
from aldrip.methods.models import Crop, Line
from aldrip.seedcrops.models import Neighbour
from tests.server.house import uid
from tests.server.seed_house import FIELD, NEAR, SeedCase, sunflower


class OnTheMap(SeedCase):
    def setUp(self) -> None:
        super().setUp()
        self.block = self.laid_out()
        self.body: dict[str, Any] = {
            "name": "Bank",
            "crop_id": sunflower().pk,
            "kind": "other cultivar",
            "year": 2027,
            "seen_on": str(self.ctx.today),
            "seen_by": "Jory",
            "corners_m": NEAR,
        }

    def near(self) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.get(f"/seed-blocks/{self.block.pk}/isolation")["neighbours"]
        return found

    def test_only_the_same_crop_of_the_same_season_counts(self) -> None:
        for more in ({"crop_id": Crop.objects.get(slug="white-lupin").pk}, {"year": 2026}, {"year": 2028}):
            self.post("/neighbours", {**self.body, **more, "name": str(more)})
        self.assertEqual(self.near(), [])
        self.post("/neighbours", self.body)
        self.assertEqual([one["name"] for one in self.near()], ["Bank"])

    def test_a_correction_keeps_the_outline_that_is_not_typed_again_and_moves_one_that_is(self) -> None:
        made = self.post("/neighbours", self.body)["id"]
        bare = {k: v for k, v in self.body.items() if k != "corners_m"}
        self.call("patch", f"/neighbours/{made}", {**bare, "name": "Fallow Bank", "kind": "wild or weedy relative"})
        row = self.near()[0]
        self.assertEqual((row["name"], row["kind"]), ("Fallow Bank", "wild or weedy relative"))
        self.assertAlmostEqual(row["distance_m"], 420, delta=0.5)
        moved = [[x + 100, y] for x, y in NEAR]
        self.call("patch", f"/neighbours/{made}", {**self.body, "corners_m": moved})
        self.assertAlmostEqual(self.near()[0]["distance_m"], 520, delta=0.5)
        self.assertEqual((self.near()[0]["state"], Neighbour.objects.count()), ("passes", 1))

    def test_geojson_with_one_feature_is_an_outline(self) -> None:
        outline = self.block.outline
        shifted = [[x + 0.01, y] for x, y in outline["coordinates"][0]]
        feature = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [shifted]}}
        self.post("/neighbours", {**{k: v for k, v in self.body.items() if k != "corners_m"}, "outline": feature})
        # A hundredth of a degree of longitude at 41.6° north, less the width of the field.
        self.assertAlmostEqual(self.near()[0]["distance_m"], 833 - 150, delta=5)

    def test_it_says_who_saw_it_and_when_and_leaves_with_a_reason_in_the_audit(self) -> None:
        made = self.post("/neighbours", self.body)["id"]
        self.assertEqual(self.near()[0]["told"], "seen Mon 22 Feb, week 8 by Jory")
        self.post(f"/neighbours/{made}/forget", {"reason": "ploughed in"})
        self.assertEqual(self.near(), [])
        self.assertIn("ploughed in", AuditEvent.objects.order_by("-id")[0].sentence)

    def test_our_own_blocks_with_one_male_are_told_from_those_with_another(self) -> None:
        self.laid_out(field="Far field", order="two")
        self.assertEqual([(one["kind"], one["state"]) for one in self.near()], [("same pollen parent", "passes")])
        line = Line.objects.get(name="Testhybrid")
        other = Line.objects.create(
            organisation=self.ctx.organisation,
            crop=line.crop,
            name="Other",
            slug="other",
            female=line.male,
            male=line.female,
        )
        batch = self.block.batch
        batch.line = other
        batch.save()
        male = self.block.parents.get(role="M")
        male.line = line.female
        male.save()
        row = self.near()[0]
        self.assertEqual((row["kind"], row["state"], row["told"][:9]), ("other cultivar", "passes", "own block"))

    def test_a_block_that_was_ended_is_no_neighbour(self) -> None:
        other = self.laid_out(field="Far field", order="two")
        line = other.batch.line
        assert line is not None
        other.parents.filter(role="M").update(line=line.female)
        other.batch.line = None
        other.batch.save()
        self.assertEqual(len(self.near()), 1)
        self.post(f"/batches/{other.batch_id}/end", {"cause": "hail"})
        self.assertEqual(self.near(), [])

    def test_a_flowering_entered_later_excuses_where_the_rule_takes_time(self) -> None:
        rule = {
            "crop_id": sunflower().pk,
            "seed_class": "certified-1",
            "step": "hybrid",
            "kind": "other cultivar",
            "metres": 500,
            "time_allowed": True,
            "time_margin_days": 10,
            "source": "invented",
        }
        self.post("/isolation-rules", rule)
        made = self.post("/neighbours", self.body)["id"]
        self.assertEqual(self.near()[0]["state"], "too close")
        self.call(
            "patch", f"/neighbours/{made}", {**self.body, "flowers_from": "2027-05-01", "flowers_to": "2027-05-20"}
        )
        row = self.near()[0]
        self.assertEqual((row["state"], row["short_m"]), ("other time", None))
        self.assertGreaterEqual(row["days_apart"], 10)

    def test_a_stage_seen_moves_the_flowering_into_a_neighbours_and_the_excuse_is_gone(self) -> None:
        """Nature disagrees: what was apart in the plan may meet in the field."""
        block = self.sown(field="Far field", order="three")
        self.post(
            "/isolation-rules",
            {
                "crop_id": sunflower().pk,
                "seed_class": "certified-1",
                "step": "hybrid",
                "kind": "other cultivar",
                "metres": 500,
                "time_allowed": True,
                "time_margin_days": 5,
                "source": "invented",
            },
        )
        ends = date.fromisoformat(self.get(f"/seed-blocks/{block.pk}/isolation")["flowers_to"])
        late = {"flowers_from": str(ends + timedelta(days=6)), "flowers_to": "2027-10-01"}
        near = [[x, y + 900] for x, y in NEAR]
        self.post("/neighbours", {**self.body, "name": "Late", "corners_m": near, **late})
        first = next(n for n in self.get(f"/seed-blocks/{block.pk}/isolation")["neighbours"] if n["name"] == "Late")
        self.assertEqual((first["state"], first["days_apart"]), ("other time", 6))
        self.on(date(2027, 7, 6))
        for role in ("F", "M"):
            self.post(
                f"/seed-blocks/{block.pk}/seen",
                {"role": role, "stage": "star-bud", "on": "2027-07-06", "client_uuid": uid()},
            )
        again = next(n for n in self.get(f"/seed-blocks/{block.pk}/isolation")["neighbours"] if n["name"] == "Late")
        self.assertLess(again["days_apart"] or 0, 5)
        self.assertEqual(again["state"], "too close")

    def test_the_outline_of_a_neighbour_is_judged_like_a_field(self) -> None:
        bow = [[0, 0], [10, 10], [10, 0], [0, 10]]
        told = self.post("/neighbours", {**self.body, "corners_m": bow}, status=422)["errors"][0]
        self.assertEqual(told["code"], "not_a_field")
        self.post("/neighbours", {**self.body, "corners_m": FIELD})
        self.assertEqual(self.near()[0]["distance_m"], 0)
