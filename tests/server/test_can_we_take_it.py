"""Can we take it? The earliest day, what limits it, what cures it; and nothing is saved."""

from datetime import date

from django.db import connection
from django.test.utils import CaptureQueriesContext

from aldrip.batches.models import Batch
from aldrip.methods.models import Crop
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from tests.server.house import HouseCase, advance, seed_lot


class CanWeTakeIt(HouseCase):
    def ask(self, status: int = 200, **more: object) -> dict:
        crop = Crop.objects.get(slug=str(more.pop("slug", "pak-choi")))
        body = {"crop_id": crop.pk, "form": "plug", "quantity": "12k", "due": "week 36", **more}
        return self.post("/orders/can-we-take-it", body, status=status)

    def test_yes_with_the_sowing_in_a_sentence_and_nothing_saved(self) -> None:
        seed_lot(self.ctx)
        answer = self.ask()
        self.assertTrue(answer["can"])
        self.assertRegex(answer["sentence"], r"^Yes: sow \d+ trays on (Tue|Fri) \d+ \w+, week \d+\.$")
        self.assertGreaterEqual(answer["chance"], 0.95)
        self.assertTrue(answer["working"])
        self.assertEqual((OrderLine.objects.count(), Batch.objects.count()), (0, 0))

    def test_too_soon_names_the_earliest_day_and_the_cures(self) -> None:
        seed_lot(self.ctx)
        answer = self.ask(due="week 28")
        self.assertFalse(answer["can"])
        earliest = date.fromisoformat(answer["earliest"])
        self.assertGreater(earliest, date(2027, 7, 18))
        self.assertIn("season", [limit["kind"] for limit in answer["limits"]])
        kinds = [remedy["kind"] for remedy in answer["remedies"]]
        self.assertIn("date", kinds)
        self.assertIn("buy", kinds)
        later = self.ask(due=str(earliest))
        self.assertTrue(later["can"], later)

    def test_no_seed_and_no_room_are_limits_with_their_measure(self) -> None:
        answer = self.ask()
        self.assertIn("no seed lot", answer["limits"][0]["sentence"])
        seed_lot(self.ctx, grams=5000)
        crowded = self.ask(quantity="200000")
        space = [limit["sentence"] for limit in crowded["limits"] if limit["kind"] == "space"]
        self.assertTrue(space)
        self.assertRegex(space[0], r"would be over by [\d,]+ (m²|trays) from")
        self.assertFalse(crowded["can"])

    def test_plants_that_stand_beyond_what_is_promised_are_a_cure(self) -> None:
        seed_lot(self.ctx)
        advance(self.ctx, date(2027, 6, 22))
        _, batch = self.planned(quantity="6000", due="2027-W31")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow), "trays": 60})
        advance(self.ctx, date(2027, 7, 6))
        answer = self.ask(quantity="2000", due="week 30")
        self.assertTrue(answer["can"])
        self.assertIn("of what stands", answer["sentence"])
        more = self.ask(quantity="45,000", due="week 30")
        self.assertFalse(more["can"])
        spare = next(r["quantity"] for r in more["remedies"] if r["kind"] == "standing")
        batch.refresh_from_db()
        self.assertEqual(spare, int(batch.low) - 6000)

    def test_without_seed_the_yes_says_so(self) -> None:
        self.assertTrue(self.ask(quantity="1,500", due="week 40")["sentence"].startswith("Yes, if the seed is there"))
        seed_lot(self.ctx, grams=0.4)
        short = self.ask(quantity="1,500", due="week 40")
        self.assertTrue(short["sentence"].startswith("Yes, if the seed is there"))
        self.assertIn("more are needed", " ".join(limit["sentence"] for limit in short["limits"]))
        seed_lot(self.ctx, grams=90)
        self.assertTrue(self.ask(quantity="1,500", due="week 40")["sentence"].startswith("Yes: sow"))

    def test_odd_questions_are_answered_in_words(self) -> None:
        self.assertEqual(self.ask(status=422, quantity="some")["errors"][0]["field"], "quantity")
        self.assertEqual(self.ask(status=422, due="2027-W53")["errors"][0]["code"], "no_such_week")
        self.assertEqual(self.ask(status=422, due="2020-01-01")["errors"][0]["code"], "past")
        self.assertEqual(self.ask(status=422, form="pot")["errors"][0]["code"], "no_method")
        self.post(
            "/orders/can-we-take-it", {"crop_id": 0, "form": "plug", "quantity": "1", "due": "week 40"}, status=404
        )

    def test_the_search_for_a_day_asks_the_database_no_more(self) -> None:
        seed_lot(self.ctx)
        with CaptureQueriesContext(connection) as easy:
            self.ask()
        with CaptureQueriesContext(connection) as hard:
            self.ask(quantity="100000", due="week 29")
        self.assertLessEqual(len(hard), len(easy) + 3)

    def test_heat_that_stops_endive_is_said(self) -> None:
        # With a cool place the seed would lie there first.
        Place.objects.filter(kind__in=("germination", "store", "shed")).update(active=False)
        answer = self.ask(slug="endive", due="week 33")
        self.assertIn("rests above 27 °C", " ".join(limit["sentence"] for limit in answer["limits"]))
