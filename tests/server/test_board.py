"""Where a batch may stand, what each place would hold with it, and moves that add up; the board draws what is said here."""

from datetime import date, timedelta
from io import BytesIO

from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase as PropertyCase
from pypdf import PdfReader

from aldrip.batches.models import Batch, BatchStage, Occupancy
from aldrip.places.models import Place
from aldrip_core.ground import CouldStand, Ground, PlaceSpec, Standing, Takes, could_stand, would_load
from aldrip_core.stages import Density
from aldrip_core.units import Unit
from aldrip_core.working_calendar import WorkingCalendar
from tests.server.house import HouseCase, advance, seed_lot, take_order

DAY = date(2027, 7, 6)
EVERY_DAY = WorkingCalendar(frozenset(range(7)))


class Offers(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, grams=900)
        _, self.batch = self.planned(due="2027-W38", quantity="9000")
        self.grow = self.batch.stages.get(key="grow")

    def offers(self, **query: object) -> dict[str, dict]:
        words = "&".join(f"{key}={value}" for key, value in {"stage": "grow", **query}.items())
        return {one["name"]: one for one in self.get(f"/batches/{self.batch.pk}/places?{words}")}

    def test_its_own_kind_first_each_with_what_it_would_hold(self) -> None:
        found = self.offers()
        names = list(found)
        self.assertEqual(
            [found[name]["of_kind"] for name in names], sorted((one["of_kind"] for one in found.values()), reverse=True)
        )
        own = found[self.grow.place.name]  # type: ignore[union-attr]
        stands = Occupancy.objects.get(stage=self.grow)
        self.assertAlmostEqual(own["share"], stands.amount / self.grow.place.usable, places=3)  # type: ignore[union-attr]
        self.assertEqual(own["words"], f"would be {round(own['share'] * 100)} % full")

    def test_a_place_measured_in_trays_takes_trays_and_a_closed_one_nothing(self) -> None:
        room = Place.objects.get(name="Room")
        self.assertAlmostEqual(self.offers()["Room"]["share"], (self.batch.trays or 0) / room.usable, places=3)  # type: ignore[operator]
        Place.objects.filter(name="Tunnel").update(active=False)
        self.assertNotIn("Tunnel", self.offers())

    def test_what_would_overflow_says_by_how_much(self) -> None:
        Place.objects.filter(name="Bench 2").update(capacity=5)
        self.assertRegex(self.offers()["Bench 2"]["words"], r"over by \d+ m²")

    def test_other_days_other_neighbours(self) -> None:
        """Somebody else stands there in the first days only: a week later there is room."""
        other = Place.objects.get(name="Bench 2")
        _, second = self.planned(order="2", due="2027-W38", quantity="9000")
        stage = second.stages.get(key="grow")
        Occupancy.objects.filter(stage=stage).update(place=other)
        now, later = self.offers()["Bench 2"], self.offers(shift_days=60)["Bench 2"]
        self.assertGreater(now["share"], later["share"])

    def test_an_unknown_stage_and_a_year_too_far_are_refused(self) -> None:
        for query, code in (("stage=xyz", "missing"), ("stage=grow&shift_days=4000", "out_of_range")):
            answer = self.client.get(f"/api/batches/{self.batch.pk}/places?{query}")
            self.assertEqual((answer.status_code, answer.json()["errors"][0]["code"]), (422, code))


class Moves(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, grams=900)
        _, self.batch = self.planned(due="2027-W38", quantity="9000")
        self.sow = self.batch.stages.get(key="sow").planned.lower

    def propose(self, **change: object) -> dict:
        found: dict = self.post(f"/batches/{self.batch.pk}/preview", change)
        return found

    def sown_on(self, told: dict) -> date:
        return date.fromisoformat(next(f["after"] for f in told["figures"] if f["name"] == "Sow"))

    def test_every_press_moves_it_also_over_days_on_which_nobody_sows(self) -> None:
        """The house sows on two days of the week: one press later is the next of them, and one back the one before."""
        seen, shift = [self.sow], 0
        for _ in range(4):
            told = self.propose(shift_days=shift + 1)
            shift = told["shift_days"]
            seen.append(self.sown_on(told))
        self.assertEqual(len(set(seen)), 5, seen)
        self.assertEqual(seen, sorted(seen))
        self.assertTrue({day.weekday() for day in seen} <= {1, 4})
        back = self.propose(shift_days=-1)
        self.assertLess(self.sown_on(back), self.sow)

    def test_a_place_and_a_day_add_up_to_one_change(self) -> None:
        grow = self.batch.stages.get(key="grow")
        other = Place.objects.filter(name__startswith="Bench").exclude(pk=grow.place_id).get()
        told = self.propose(shift_days=7, place_id=other.pk, stage="grow")
        self.assertGreater(self.sown_on(told), self.sow)
        self.assertIn(f"to {other.name}, and sow", told["sentence"])
        self.assertEqual({s["place_id"] for s in told["stages"] if s["stage"] == "grow"}, {other.pk})
        kept = self.post(
            f"/batches/{self.batch.pk}/keep",
            {"version": self.batch.version, "change": {"shift_days": 7, "place_id": other.pk, "stage": "grow"}},
        )
        self.assertEqual(kept["sentence"], told["sentence"])
        self.assertEqual(BatchStage.objects.get(pk=grow.pk).place_id, other.pk)
        self.assertEqual(self.batch.stages.get(key="sow").planned.lower, self.sown_on(told))

    def test_what_is_proposed_is_what_the_board_shows_once_it_is_kept(self) -> None:
        advance(self.ctx, date(2027, 7, 7))
        take_order(self.ctx, order="7", due="2027-W36", quantity="4000")
        self.post("/batches/plan-lines", {})
        told = self.propose(shift_days=10)
        start, end = "2027-06-01", "2028-03-01"
        self.post(
            f"/batches/{self.batch.pk}/keep",
            {"version": Batch.objects.get(pk=self.batch.pk).version, "change": {"shift_days": told["shift_days"]}},
        )
        lanes = {lane["place_id"]: lane["load"] for lane in self.get(f"/board?start={start}&end={end}")["lanes"]}
        self.assertTrue(told["loads"])
        for would in told["loads"]:
            first = (date.fromisoformat(would["start"]) - date.fromisoformat(start)).days
            there = lanes[would["place_id"]][first : first + len(would["load"])]
            for said, stands in zip(would["load"], there, strict=True):
                self.assertAlmostEqual(said, stands, places=2)


class AnyGround(PropertyCase):
    spans = st.tuples(st.integers(0, 60), st.integers(1, 40), st.floats(0.5, 300))

    @given(st.lists(spans, max_size=6), st.lists(spans, min_size=1, max_size=3), st.floats(20, 400))
    @settings(max_examples=60, deadline=None)
    def test_the_load_with_a_batch_is_the_load_without_it_and_the_batch(
        self, others: list[tuple], own: list[tuple], usable: float
    ) -> None:
        def stands(rows: list[tuple]) -> list[Standing]:
            return [
                Standing(1, DAY + timedelta(days=at), DAY + timedelta(days=at + days), amount)
                for at, days, amount in rows
            ]

        places = [PlaceSpec(1, "Bench", "bench", usable, Unit.SQUARE_METRE)]
        ground = Ground(today=DAY, working=EVERY_DAY, sowing=EVERY_DAY, places=places, standing=stands(others))
        whole = Ground(
            today=DAY, working=EVERY_DAY, sowing=EVERY_DAY, places=places, standing=[*stands(others), *stands(own)]
        )
        (would,) = would_load(ground, (), stands(own))
        first = whole.index(would.start)
        for said, really in zip(would.load, whole.lanes[1].load[first:], strict=False):
            self.assertAlmostEqual(said, float(really), places=6)
        at, days, amount = own[0]
        start, end = DAY + timedelta(days=at), DAY + timedelta(days=at + days)
        (offer,) = could_stand(ground, "bench", start, end, Takes(amount), Density.UNIT_M2)
        self.assertIsInstance(offer, CouldStand)
        peak = max(float(v) for v in ground.lanes[1].load[ground.index(start) : ground.index(end)])
        self.assertAlmostEqual(offer.share * usable, peak + amount, places=6)


class TrayLabels(HouseCase):
    def test_one_label_a_tray_and_none_for_what_stands_in_none(self) -> None:
        seed_lot(self.ctx, grams=900)
        _, batch = self.planned(quantity="3000")
        answer = self.client.get(f"/api/batches/{batch.pk}/tray-labels.pdf")
        self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "application/pdf"))
        roll = PdfReader(BytesIO(self.client.get(f"/api/batches/{batch.pk}/tray-labels.pdf?roll=true").content))
        self.assertEqual(len(roll.pages), batch.trays)
        self.assertEqual({round(float(page.mediabox.width) / 72 * 25.4) for page in roll.pages}, {64})
        Batch.objects.filter(pk=batch.pk).update(trays=5000)
        told = self.client.get(f"/api/batches/{batch.pk}/tray-labels.pdf")
        self.assertEqual((told.status_code, told.json()["errors"][0]["code"]), (422, "too_many"))
        Batch.objects.filter(pk=batch.pk).update(trays=None)
        told = self.client.get(f"/api/batches/{batch.pk}/tray-labels.pdf")
        self.assertEqual(told.json()["errors"][0]["code"], "no_trays")
