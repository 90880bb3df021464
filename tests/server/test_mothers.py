"""Mother plants by the API: planted, cut, short, not clean and held everywhere, exhausted three weeks early, retired."""

from datetime import timedelta
from typing import Any

from django.db import connection
from django.test.utils import CaptureQueriesContext

from aldrip.base.words import who
from aldrip.batches.models import Allocation, Batch
from aldrip.lots.models import Lot, LotParent, Movement
from aldrip.methods.models import Crop, Method
from aldrip.places.models import Place, Site
from aldrip.stockplants.models import CutLog, MotherStock
from aldrip.stockplants.services import read_habit
from aldrip_core.refusal import Refused
from tests.server.house import HouseCase, advance, member, take_order, uid

WEEK = timedelta(weeks=1)
ONE = timedelta(days=1)


class MothersCase(HouseCase):
    def setUp(self) -> None:
        super().setUp()
        self.crop = Crop.objects.get(slug="lavender", organisation=None)
        self.first = self.ctx.today - timedelta(days=self.ctx.today.weekday())

    def planted(
        self, mothers: str = "40", weeks: int = 8, status: int = 200, sure: str | None = None, **more: Any
    ) -> Any:
        body = {
            "crop_id": self.crop.pk,
            "mothers": mothers,
            "planted_on": str(self.ctx.today - weeks * WEEK),
            "client_uuid": uid(),
            **more,
        }
        return self.post("/mothers", body, status=status, sure=sure)

    def cut(self, stock: int, many: str, status: int = 200, sure: str | None = None, **more: Any) -> Any:
        return self.post(
            f"/mothers/{stock}/cuts", {"cuttings": many, "client_uuid": uid(), **more}, status=status, sure=sure
        )

    def sticking(self, many: int, weeks: int) -> Batch:
        """A batch that is to be begun with cuttings."""
        method = Method.objects.get(crop=self.crop, form="rooted cutting", organisation=None)
        day = self.first + weeks * WEEK + 100 * ONE
        made = self.post(
            "/batches", {"crop_id": self.crop.pk, "method_id": method.pk, "needed": many, "ready_on": str(day)}
        )
        batch = Batch.objects.get(pk=made["id"])
        stage = batch.stages.get(order=0)
        stage.planned = (self.first + weeks * WEEK + ONE, self.first + weeks * WEEK + 2 * ONE)
        stage.save()
        return batch

    def outlook(self) -> Any:
        return self.get("/mothers")["outlooks"][0]

    def waits(self, code: str) -> list[Any]:
        return [one for one in self.get("/season-line")["decisions"] if one["code"] == code]


class Stands(MothersCase):
    def test_planted_it_is_a_lot_that_gives_by_its_habit(self) -> None:
        key = uid()
        made = self.planted(client_uuid=key, shoots="1 2 3", first_cut_week=8, life_weeks=11)
        self.assertEqual(self.planted(client_uuid=key)["id"], made["id"])  # sent twice
        self.assertEqual((made["mothers"], made["given"][:4], made["age_weeks"]), (40, [40, 80, 120, 0], 8))
        self.assertEqual(Lot.objects.get(pk=made["lot_id"]).balance, 40)
        self.assertEqual(made["sentence"], "Week 9 of 11. Not tested yet.")

    def test_how_they_give_as_it_is_typed(self) -> None:
        growing = read_habit("1, 50 %, 2", 2, 6)
        self.assertEqual([round(one, 2) for one in growing.shoots_by_age_weeks], [0, 0, 1, 1.5, 2, 2])
        self.assertEqual(read_habit("1 2, 3", 1, 5).shoots_by_age_weeks, (0, 1, 2, 3))
        for shoots, first, life in (
            ("many", 1, 5),
            ("", 1, 5),
            ("0 0", 1, 5),
            ("1, 15 %, 6", 5, 5),
            ("1", 0, 0),
            ("-1", 1, 5),
        ):
            with self.subTest(shoots), self.assertRaises(Refused):
                read_habit(shoots, first, life)

    def test_what_cannot_be_is_refused_where_it_stands(self) -> None:
        other = Crop.objects.exclude(slug="lavender").filter(organisation=None).first()
        assert other is not None
        seed = self.post("/lots", {"crop_id": self.crop.pk, "quantity": "5 g", "germination_percent": 90})
        for more, field in (
            ({"mothers": "0"}, "mothers"),
            ({"mothers": "2,000,000"}, "mothers"),
            ({"weeks": -1}, "planted_on"),
            ({"weeks": 40}, "planted_on"),
            ({"shoots": "x"}, "shoots"),
            ({"lot_id": seed["id"]}, "lot_id"),
        ):
            with self.subTest(more):
                told = self.planted(status=422, **more)
                self.assertEqual(told["errors"][0]["field"], field, told)
        self.assertFalse(MotherStock.objects.exists() or Lot.objects.filter(form="mother plant").exists())

    def test_of_a_lot_of_young_plants_they_are_taken(self) -> None:
        lot = self.post("/lots", {"crop_id": self.crop.pk, "quantity": "60 plants", "form": "plant"})
        made = self.planted("40", weeks=0, lot_id=lot["id"])
        self.assertEqual(Lot.objects.get(pk=lot["id"]).balance, 20)
        self.assertTrue(LotParent.objects.filter(child=made["lot_id"], parent=lot["id"], how="planted").exists())
        short = self.planted("21", weeks=0, lot_id=lot["id"], status=422)
        self.assertEqual(short["errors"][0]["code"], "not_enough")
        self.assertEqual(MotherStock.objects.count(), 1)


class Cuts(MothersCase):
    def test_cuttings_are_a_lot_of_their_mothers_to_be_stuck_in_time(self) -> None:
        stock = self.planted()["id"]
        before, key = self.outlook()["given"], uid()
        made = self.cut(stock, "60", client_uuid=key)
        self.cut(stock, "60", client_uuid=key)
        self.assertEqual(CutLog.objects.count(), 1)
        after = self.outlook()["given"]
        self.assertAlmostEqual(after[0], max(0, before[0] - 60))
        self.assertEqual(after[1:], before[1:])
        lot = Lot.objects.get(pk=made["cuts"][0]["lot_id"])
        self.assertEqual((lot.form, lot.unit, lot.balance), ("cutting", "cuttings", 60))
        assert lot.use_by is not None
        self.assertAlmostEqual((lot.use_by - self.ctx.now) / timedelta(hours=2), 1, delta=0.02)
        self.assertIn(lot.code, str(self.get("/clocks")["others"]))
        yesterday = self.cut(stock, "10", on=str(self.ctx.today - ONE))
        late = Lot.objects.get(pk=yesterday["cuts"][1]["lot_id"])
        assert late.use_by is not None
        self.assertLess(late.use_by, self.ctx.now)

    def test_a_cut_that_was_none_is_taken_back_with_its_lot(self) -> None:
        stock = self.planted()["id"]
        before, given = self.get("/lots"), self.outlook()["given"]
        self.cut(stock, "60")
        event = next(one for one in self.get("/audit") if one["sentence"].startswith("Cut 60"))
        self.post(f"/acts/{event['id']}/take-back", {"reason": "another crate", "known": [event["id"]]})
        self.assertEqual((self.get("/mothers")["stocks"][0]["cuts"], self.outlook()["given"]), ([], given))
        self.assertEqual(self.get("/lots"), before)

    def test_the_queries_do_not_grow_with_the_stocks(self) -> None:
        counts = []
        for many in (1, 6):
            for _ in range(many):
                self.cut(self.planted()["id"], "3")
            for path in ("/mothers", "/season-line", "/orders"):
                with CaptureQueriesContext(connection) as asked:
                    self.get(path)
                counts.append(len(asked))
        self.assertEqual(counts[:3], counts[3:])

    def test_in_the_cold_they_give_later_and_less_and_it_says_so(self) -> None:
        site = Site.objects.get(organisation=self.ctx.organisation)
        cold = {"kind": "bench", "site_id": site.pk, "capacity": 50, "cooled_to_c": 14, "lamps_mol": 2}
        place = self.post("/places", {**cold, "name": "Cold bench"})
        habit = {"shoots": "1 2 3 4 5", "first_cut_week": 4, "life_weeks": 20, "place_id": place["id"]}
        self.planted(slows=True, status=422, **{**habit, "place_id": None})
        warm, slow = self.planted(**habit), self.planted(slows=True, **habit)
        self.assertEqual((warm["given"][0], warm["slows"]), (200, ""))
        self.assertEqual(slow["given"][0], 20)  # week 8 at half the pace: half of the fifth week's one
        self.assertIn("In Cold bench they grow at 50 % of their pace", slow["slows"])
        self.assertGreater(warm["reckoned"], slow["reckoned"])

    def test_what_they_were_reckoned_to_give_stays_when_some_die_or_are_held(self) -> None:
        made = self.planted()
        before, monday = made["reckoned"], made["given"][0]
        self.assertGreater(before, monday)
        self.post(f"/lots/{made['lot_id']}/balance", {"counted": 30, "reason": "ten died"})
        row = self.get("/mothers")["stocks"][0]
        self.assertAlmostEqual(row["given"][0], monday * 30 / 40)
        self.assertLess(before - row["reckoned"], monday)  # at most what this week's ten would have given
        self.assertGreaterEqual(row["reckoned"], before - monday * 10 / 40 - 1e-9)
        self.post(f"/lots/{made['lot_id']}/balance", {"counted": 40, "reason": "counted wrong"})
        self.assertAlmostEqual(self.get("/mothers")["stocks"][0]["reckoned"], before)
        self.post(f"/lots/{made['lot_id']}/balance", {"counted": 0, "reason": "all died"})
        row = self.get("/mothers")["stocks"][0]
        self.assertGreaterEqual(row["reckoned"], before - monday - 1e-9)

    def test_who_is_not_among_those_who_enter_is_asked_about(self) -> None:
        site = Site.objects.get(organisation=self.ctx.organisation)
        clean = {"name": "Clean house", "kind": "bench", "site_id": site.pk, "capacity": 50}
        place = self.post("/places", {**clean, "enters": "Ada Brook, Bo Lind,"})
        self.assertEqual(place["enters"], ["Ada Brook", "Bo Lind"])
        self.post("/places", {**clean, "name": "Other", "enters": "x" * 70}, status=422)
        made = self.planted(place_id=place["id"], sure="entry")
        told = self.cut(made["id"], "20", status=422)["errors"][0]
        self.assertEqual(told["code"], "doubtful")
        self.assertIn("Only Ada Brook and Bo Lind enter Clean house; you are not among them.", told["message"])
        self.assertIn("Only Ada Brook and Bo Lind enter", self.get("/mothers")["stocks"][0]["enters"])
        trap = {"place_id": place["id"], "insect": "thrips", "found": "2", "traps": "1", "client_uuid": uid()}
        self.post("/traps", {**trap, "colour": "blue"}, status=422)
        self.call("patch", f"/places/{place['id']}", {**clean, "enters": f"Bo Lind, {who(self.ctx.user)}"})
        self.cut(made["id"], "20")
        self.call("patch", f"/places/{place['id']}", {**clean, "capacity": 60})  # not said again: as it was
        self.assertEqual(len(Place.objects.get(pk=place["id"]).enters), 2)
        self.call("patch", f"/places/{place['id']}", {**clean, "enters": ""})
        self.assertEqual(self.get("/mothers")["stocks"][0]["enters"], "")

    def test_far_more_than_they_give_is_asked_about(self) -> None:
        stock = self.planted()["id"]
        told = self.cut(stock, "6,000", status=422, sure="")
        self.assertEqual(told["errors"][0]["field"], "cuttings")
        self.assertFalse(CutLog.objects.exists())
        self.cut(stock, "6,000", sure="cuttings")
        for wrong in ({"on": str(self.ctx.today + ONE)}, {"on": str(self.ctx.today - 10 * WEEK)}):
            self.cut(stock, "5", status=422, **wrong)

    def test_first_cuts_become_mothers_of_the_next_generation(self) -> None:
        stock = self.planted()["id"]
        cut = self.cut(stock, "30", into="mothers")["cuts"][0]
        self.assertIsNone(cut["use_by"])
        advance(self.ctx, self.ctx.today + 3 * WEEK)
        sub = self.planted("26", weeks=0, lot_id=cut["lot_id"])
        self.assertEqual((sub["generation"], sub["mothers"]), (1, 26))
        self.assertEqual(Lot.objects.get(pk=cut["lot_id"]).balance, 4)


class NotClean(MothersCase):
    def test_everything_made_of_mothers_that_are_not_clean_is_held_on_every_route(self) -> None:
        stock = self.planted("100")
        cut = self.cut(stock["id"], "120")["cuts"][0]
        sub_cut = self.cut(stock["id"], "30", into="mothers")["cuts"][0]
        sub = self.planted("20", weeks=0, lot_id=sub_cut["lot_id"])
        batch = self.sticking(40, 0)
        self.post(
            f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today), "lot_id": cut["lot_id"], "trays": batch.trays}
        )
        told = self.post(f"/mothers/{stock['id']}/index", {"what": "virus Y", "sound": False, "client_uuid": uid()})
        self.assertIn("not clean of virus Y", told["on_hold"])
        self.assertTrue(told["sentence"].startswith("Held"))
        batch.refresh_from_db()
        used = batch.stages.get(order=0).inputs.filter(lot=cut["lot_id"], taken_on__isnull=False).exists()
        for lot in (stock["lot_id"], cut["lot_id"], sub_cut["lot_id"], sub["lot_id"]):
            self.assertIn("held since", Lot.objects.get(pk=lot).on_hold, lot)
        self.assertEqual(bool(batch.on_hold), used)
        self.assertTrue(used, "the batch was begun with these cuttings")
        # No way on: not cut to be stuck, not planted, not given away.
        for into in ("stock", "mothers"):
            self.assertEqual(self.cut(stock["id"], "5", into=into, status=422)["errors"][0]["code"], "on_hold")
        self.cut(stock["id"], "5", into="discarded")
        self.assertEqual(
            self.planted("2", weeks=0, lot_id=sub_cut["lot_id"], status=422)["errors"][0]["code"], "on_hold"
        )
        self.assertEqual(sum(self.get("/mothers")["stocks"][0]["given"]), 0)
        hold = self.get(f"/lots/{stock['lot_id']}/holds")
        for code in (cut["lot"], sub_cut["lot"], sub["code"], batch.code):
            self.assertIn(code, str(hold))  # found in one question
        clean = self.post(f"/mothers/{stock['id']}/index", {"what": "Virus Y", "sound": True, "client_uuid": uid()})
        self.assertTrue(clean["on_hold"], "a second test lifts nothing: a person does, with a reason")

    def test_a_test_that_runs_out_asks_for_the_next(self) -> None:
        stock = self.planted()
        until = self.ctx.today + 20 * ONE
        body = {"what": "wilt", "sound": True, "valid_until": str(until), "client_uuid": uid()}
        self.post(f"/mothers/{stock['id']}/index", body)
        self.assertEqual([one["about"] for one in self.waits("index_due")], [stock["code"]])
        self.post(
            f"/mothers/{stock['id']}/index", {**body, "valid_until": str(until + 20 * WEEK), "client_uuid": uid()}
        )
        self.assertEqual(self.waits("index_due"), [])
        for wrong in ({"what": " "}, {"tested_on": str(self.ctx.today + ONE)}, {"valid_until": str(self.ctx.today)}):
            self.post(f"/mothers/{stock['id']}/index", {**body, "client_uuid": uid(), **wrong}, status=422)


class Short(MothersCase):
    def test_exhausted_three_weeks_early_the_orders_it_feeds_hear_of_it(self) -> None:
        shoots = " ".join(["2"] * 12)
        stock = self.planted("300", weeks=0, shoots=shoots, first_cut_week=0, life_weeks=12)
        needs = [self.sticking(80, week) for week in range(8, 12)]
        wanted = sum(batch.start for batch in needs)
        before = self.outlook()
        self.assertEqual((sum(before["wanted"]), sum(before["short"]), before["remedies"]), (wanted, 0, []))
        self.assertEqual(self.waits("mothers_short"), [])
        self.post(f"/mothers/{stock['id']}/exhausted", {"on": str(self.first + 9 * WEEK)})
        found = self.outlook()
        self.assertEqual([n for n, many in enumerate(found["short"]) if many], [9, 10, 11])
        self.assertEqual(sum(found["short"]), sum(batch.start for batch in needs[1:]))
        self.assertGreaterEqual(len(found["remedies"]), 2)
        self.assertTrue(all(one["working"] for one in found["remedies"]))
        # The order that hangs on one of them stands among what is wrong, with the week and by how much.
        line = take_order(self.ctx, crop="Lavender", form="rooted cutting", quantity="80", due="2027-W50")
        Allocation.objects.create(order_line=line, batch=needs[2], quantity=80)
        week = (self.first + 10 * WEEK).isocalendar().week
        self.assertIn(
            f"Batch {needs[2].code} is to be begun in week {week}, when the mothers give {needs[2].start:,} cuttings less",
            next(one["problem"] for one in self.get("/orders") if one["id"] == line.pk),
        )
        told = self.waits("mothers_short")
        self.assertIn(line.order.number, told[0]["sentence"])
        self.assertRegex(told[0]["sentence"], r"^3 weeks short of lavender cuttings, first by \d+ in week \d+; ")
        self.post(f"/mothers/{stock['id']}/exhausted", {"on": None})
        self.assertEqual(self.waits("mothers_short"), [])

    def test_what_is_over_waits_to_be_retired(self) -> None:
        stock = self.planted("10", weeks=34)
        self.assertEqual(self.waits("mothers_old"), [])
        advance(self.ctx, self.ctx.today + WEEK)
        self.assertEqual([one["about"] for one in self.waits("mothers_old")], [stock["code"]])
        self.post(f"/mothers/{stock['id']}/retire", {"into": " "}, status=422)
        self.post(f"/mothers/{stock['id']}/retire", {"into": "composted"})
        self.assertEqual((self.waits("mothers_old"), self.get("/mothers")["stocks"]), ([], []))
        old = self.get("/mothers?older=true")["stocks"][0]
        self.assertEqual((old["mothers"], old["sentence"].split(": ")[1]), (0, "composted."))
        self.assertEqual(self.cut(stock["id"], "5", status=422)["errors"][0]["code"], "retired")
        self.assertEqual(Movement.objects.filter(kind="retired").count(), 1)
        again = self.post(f"/mothers/{stock['id']}/retire", {"into": "burnt"}, status=422)
        self.assertEqual(again["errors"][0]["code"], "retired")
        event = next(one for one in self.get("/audit") if one["sentence"].startswith("Retired"))
        self.post(f"/acts/{event['id']}/take-back", {"reason": "the wrong ones", "known": [event["id"]]})
        self.assertEqual(self.get("/mothers")["stocks"][0]["mothers"], 10)

    def test_as_each_role(self) -> None:
        stock = self.planted()["id"]
        for role, may_cut, may_plan in (
            ("viewer", False, False),
            ("inspector", True, False),
            ("supervisor", True, True),
        ):
            with self.subTest(role):
                self.client.force_login(member(self.ctx, role, role))
                self.cut(stock, "3", status=200 if may_cut else 403)
                self.planted(status=200 if may_plan else 403)
