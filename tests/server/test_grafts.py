"""A batch that is made of two lots: planned, both halves raised, grafted, put right, held from either side, taken back."""

from datetime import date, timedelta
from typing import Any

from aldrip.accounts.models import AuditEvent
from aldrip.batches.models import Batch, BatchInput
from aldrip.lots import services as lots
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop, Line, Method
from aldrip_core.units import Quantity, Unit
from tests.server.house import HouseCase, advance, seed_lot, uid

READY = date(2027, 10, 12)


class GraftCase(HouseCase):
    crop_slug, foot_slug = "tomato", "tomato"

    def setUp(self) -> None:
        super().setUp()
        self.crop = Crop.objects.get(slug=self.crop_slug, organisation=None)
        self.foot = Crop.objects.get(slug=self.foot_slug, organisation=None)
        self.batch = self.planned_graft(600)

    def planned_graft(self, many: int) -> Batch:
        method = Method.objects.get(crop=self.crop, form="grafted plug", organisation=None)
        body = {"crop_id": self.crop.pk, "method_id": method.pk, "needed": many, "ready_on": str(READY)}
        return Batch.objects.get(pk=self.post("/batches", body)["id"])

    def plants(self, many: int, crop: Crop | None = None, form: str = "plug") -> Lot:
        of = Unit.SEED if form == "seed" else Unit.PLANT
        return lots.receive(
            self.ctx, crop_id=(crop or self.crop).pk, line_id=None, quantity=Quantity.of(many, of), form=form
        )

    def graft(self, *used: tuple[Lot, str, str], status: int = 200, **more: Any) -> Any:
        self.batch.refresh_from_db()
        day = self.batch.stages.get(order=0).planned.lower
        if self.ctx.today < day:
            advance(self.ctx, day)
        rows = [{"lot_id": lot.pk, "quantity": many, "part": part} for lot, many, part in used]
        body = {"on": str(day), "lots": rows, **more}
        return self.post(f"/batches/{self.batch.pk}/sown", body, status=status)

    def left(self, *of: Lot) -> list[int]:
        return [int(Lot.objects.get(pk=lot.pk).balance) for lot in of]


class Grafted(GraftCase):
    def test_both_halves_leave_the_stock_and_are_known_by_what_they_were(self) -> None:
        top, foot = self.plants(1000), self.plants(1200)
        self.graft((top, "900", "scion"), (foot, "", "rootstock"), start=850)
        self.batch.refresh_from_db()
        self.assertEqual((self.batch.state, self.batch.start, self.batch.lot_id), ("sown", 850, top.pk))
        self.assertEqual(self.left(top, foot), [100, 350])
        parts = BatchInput.objects.filter(stage__batch=self.batch).order_by("id").values_list("part", "lot", "quantity")
        self.assertEqual([*parts], [("scion", top.pk, 900), ("rootstock", foot.pk, 850)])
        told = self.get(f"/batches/{self.batch.pk}")
        self.assertEqual(
            [(one["part"], one["lot"]) for one in told["inputs"]], [("scion", top.code), ("rootstock", foot.code)]
        )

    def test_a_half_that_lacks_is_asked_for_and_nothing_is_half_saved(self) -> None:
        top, foot, seed, small = self.plants(1000), self.plants(1000), seed_lot(self.ctx, "tomato"), self.plants(300)
        for used, field, code in (
            ([(top, "", "scion")], "rootstock", "missing"),
            ([(foot, "", "rootstock")], "scion", "missing"),
            ([], "scion", "missing"),
            ([(top, "", "scion"), (top, "", "rootstock")], "lots.1.lot_id", "same_lot"),
            ([(top, "", "scion"), (foot, "", "cutting")], "lots.1.part", "not_a_choice"),
            ([(top, "", "scion"), (seed, "", "rootstock")], "lots.1.lot_id", "other_form"),
            ([(top, "700", "scion"), (foot, "", "rootstock")], "scion", "not_enough"),
            ([(top, "", "scion"), (small, "300", "rootstock")], "rootstock", "not_enough"),
            (
                [
                    (top, "", "scion"),
                    (self.plants(1000, Crop.objects.get(slug="squash", organisation=None)), "", "rootstock"),
                ],
                "lots.1.lot_id",
                "other_crop",
            ),
        ):
            with self.subTest(code=code, field=field):
                error = self.graft(*used, status=422, start=800)["errors"][0]
                self.assertEqual((error["field"], error["code"]), (field, code), error["message"])
        self.assertEqual(self.left(top, foot, small), [1000, 1000, 300])
        self.assertFalse(BatchInput.objects.filter(stage__batch=self.batch).exists())
        # What is begun of one thing takes no rootstock.
        method = Method.objects.get(crop__slug="lavender", form="rooted cutting", organisation=None)
        made = self.post(
            "/batches", {"crop_id": method.crop_id, "method_id": method.pk, "needed": 50, "ready_on": "2027-12-01"}
        )
        stuck = Batch.objects.get(pk=made["id"])
        cuttings = self.plants(900, Crop.objects.get(slug="lavender", organisation=None), "cutting")
        body = {"on": str(self.ctx.today), "lots": [{"lot_id": cuttings.pk, "part": "rootstock"}]}
        error = self.post(f"/batches/{stuck.pk}/sown", body, status=422)["errors"][0]
        self.assertEqual((error["field"], error["code"]), ("lots.0.part", "not_a_choice"))

    def test_a_hold_on_either_half_finds_the_graft_and_what_came_of_it(self) -> None:
        for held in ("scion", "rootstock"):
            with self.subTest(held=held):
                self.batch = self.planned_graft(400)
                both = {"scion": self.plants(900), "rootstock": self.plants(900)}
                self.graft(*((lot, "", part) for part, lot in both.items()))
                self.post(f"/lots/{both[held].pk}/hold", {"reason": "wilt", "client_uuid": uid()})
                self.batch.refresh_from_db()
                self.assertIn("wilt", self.batch.on_hold)
                self.assertIn(self.batch.code, str(self.get(f"/lots/{both[held].pk}/holds")))

    def test_recorded_wrongly_it_is_put_right_and_the_half_nobody_names_stays(self) -> None:
        top, foot, other = self.plants(1000), self.plants(1200), self.plants(1100)
        self.graft((top, "900", "scion"), (foot, "", "rootstock"), start=850)
        path = f"/batches/{self.batch.pk}/correct-sowing"
        self.post(
            path, {"lots": [{"lot_id": other.pk, "quantity": "880", "part": "rootstock"}], "reason": "wrong tray"}
        )
        self.assertEqual(self.left(top, foot, other), [100, 1200, 220])
        self.post(path, {"start": 870, "lots": [{"lot_id": top.pk, "part": "scion"}], "reason": "counted again"})
        self.batch.refresh_from_db()
        self.assertEqual((self.batch.start, self.batch.lot_id, self.left(top, other)), (870, top.pk, [100, 220]))
        error = self.post(path, {"start": 890, "reason": "again"}, status=422)["errors"][0]
        self.assertEqual((error["field"], error["code"]), ("rootstock", "not_enough"))
        both = BatchInput.objects.filter(stage__batch=self.batch).values_list("part", "lot")
        self.assertEqual({*both}, {("scion", top.pk), ("rootstock", other.pk)})

    def test_taken_back_both_halves_are_in_stock_again(self) -> None:
        top, foot = self.plants(1000), self.plants(1200)
        self.graft((top, "", "scion"), (foot, "", "rootstock"))
        event = AuditEvent.objects.filter(action="batch.sown").latest("id")
        told = self.get(f"/acts/{event.pk}/back")
        known = [one["id"] for one in (*told["events"], *told["rests"])]
        self.post(f"/acts/{event.pk}/take-back", {"reason": "not yet", "known": known})
        self.batch.refresh_from_db()
        self.assertEqual((self.batch.state, self.left(top, foot)), ("planned", [1000, 1200]))


class Raised(GraftCase):
    def raise_half(self, part: str, status: int = 200, sure: str | None = None, **more: Any) -> Any:
        half = next(one for one in self.get(f"/batches/{self.batch.pk}/halves") if one["part"] == part)
        method = half["methods"][0]["id"]
        body = {"part": part, "method_id": method, **more}
        return self.post(f"/batches/{self.batch.pk}/halves", body, status=status, sure=sure)

    def test_both_halves_are_raised_for_the_day_and_what_they_give_is_grafted(self) -> None:
        grafted = self.batch.stages.get(order=0).planned.lower
        wanted = [(one["what"], one["quantity"]) for one in self.get("/buying")]
        self.assertIn(("scions", self.batch.start), wanted)
        self.assertIn(("rootstocks", self.batch.start), wanted)
        line = Line.objects.create(organisation=self.ctx.organisation, crop=self.foot, slug="sturdy", name="Sturdy")
        made = {
            "scion": self.raise_half("scion", more="5 %"),
            "rootstock": self.raise_half("rootstock", line_id=line.pk),
        }
        feeders = {part: Batch.objects.get(pk=one["id"]) for part, one in made.items()}
        self.assertEqual(feeders["rootstock"].line_id, line.pk)
        self.assertEqual(float(feeders["scion"].needed), -(-self.batch.start * 21 // 20))
        halves = self.get(f"/batches/{self.batch.pk}/halves")
        for half in halves:
            one = half["grown"][0]
            self.assertEqual((one["code"], one["late_days"], one["waits_days"]), (feeders[half["part"]].code, 0, 0))
            self.assertLessEqual(date.fromisoformat(one["ready_on"]), grafted)
        self.assertFalse({"scions", "rootstocks"} & {one["what"] for one in self.get("/buying")})
        # A graft that is put off waits for nobody: its halves grow old.
        first = self.batch.stages.get(order=0)
        first.planned = (grafted + timedelta(days=60), grafted + timedelta(days=61))
        first.save()
        old = self.get(f"/batches/{self.batch.pk}/halves")[0]["grown"][0]
        self.assertGreaterEqual(old["waits_days"], 60)
        first.planned = (grafted, grafted + timedelta(days=1))
        first.save()
        error = self.raise_half("scion", status=422)["errors"][0]
        self.assertEqual((error["field"], error["code"]), ("part", "twice"))
        self.assertGreaterEqual(halves[0]["grown"][0]["expected"], self.batch.start)
        # One that is given up gives nothing, and another takes its place.
        self.post(f"/batches/{feeders['scion'].pk}/end", {"cause": "frost"})
        self.assertEqual(self.get(f"/batches/{self.batch.pk}/halves")[0]["grown"], [])
        self.assertIn("scions", {one["what"] for one in self.get("/buying")})
        feeders["scion"] = Batch.objects.get(pk=self.raise_half("scion")["id"])
        self.assertEqual(BatchInput.objects.filter(stage__batch=self.batch, part="scion").count(), 1)
        rows = {
            (one["what"], one["unit"])
            for one in self.get("/requirements?weeks=40")["rows"]
            if one["kind"] == "Begun with"
        }
        self.assertIn((f"{self.foot.name.split()[-1].capitalize()} to graft on", "rootstocks"), rows)
        # Grafted without a word of lots, what the two batches have not given yet is told.
        error = self.graft(status=422)["errors"][0]
        self.assertEqual(error["code"], "not_given")
        self.assertTrue(any(one.code in error["message"] for one in feeders.values()), error["message"])

    def test_too_late_is_asked_and_a_graft_that_was_made_raises_nothing(self) -> None:
        grafted = self.batch.stages.get(order=0).planned.lower
        advance(self.ctx, grafted - timedelta(days=9))
        error = self.raise_half("scion", status=422, sure="")["errors"][0]
        self.assertEqual(error["field"], "method_id")
        self.assertIn("after the grafting", error["message"])
        self.assertEqual(Batch.objects.count(), 1)
        made = self.raise_half("scion", sure="late")
        self.assertGreater(self.get(f"/batches/{self.batch.pk}/halves")[0]["grown"][0]["late_days"], 0)
        self.assertTrue(made["id"])
        self.graft((self.plants(1000), "", "scion"), (self.plants(1000, self.foot), "", "rootstock"))
        self.assertEqual(self.raise_half("rootstock", status=422)["errors"][0]["code"], "sown")

    def test_whether_they_fit_is_reckoned_from_a_few(self) -> None:
        path = f"/batches/{self.batch.pk}/pairs"
        self.assertIn("Measure ten scions", self.get(path)[0]["note"])
        start = self.batch.start
        found = self.get(f"{path}?top_mm=1.6 1.6 2.0 2.0&foot_mm=2.0 2.0 2.4 2.4&within=0,2")
        self.assertEqual([one["value"] for one in found], [start / 2, start / 2, start / 2])
        self.assertIn("The scions that are left are too thin", found[0]["note"])
        self.assertIn("4 measured tell little", found[0]["note"])
        inch = self.get(f"{path}?top_mm=2&foot_mm=0.08 in 2 mm&tops=2000&feet=3000")
        self.assertEqual([one["value"] for one in inch], [2000, 0, 1000])
        error = self.get(f"{path}?top_mm=2 x&foot_mm=2", status=422)["errors"][0]
        self.assertEqual(error["field"], "top_mm")


class OnAnotherCrop(Raised):
    """All of it again where the rootstock is of another crop."""

    crop_slug, foot_slug = "cucumber", "squash"

    def test_grafted_on_the_other_crop_and_on_no_third(self) -> None:
        top, foot, wrong = self.plants(1000), self.plants(1200, self.foot), self.plants(1200)
        error = self.graft((top, "", "scion"), (wrong, "", "rootstock"), status=422)["errors"][0]
        self.assertEqual(error["code"], "other_crop")
        self.graft((top, "", "scion"), (foot, "", "rootstock"))
        self.batch.refresh_from_db()
        self.assertEqual(self.batch.lot_id, top.pk)

    def test_whether_they_fit_is_reckoned_from_a_few(self) -> None:
        self.assertEqual(
            [one["crop"] for one in self.get(f"/batches/{self.batch.pk}/halves")], ["Cucumber", "Winter squash"]
        )
