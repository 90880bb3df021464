"""Plans of mothers by the API: reckoned, by hand beside it, kept, counted with, ordered, planted, given up, taken back."""

from datetime import date
from typing import Any

from aldrip.methods.models import Crop
from aldrip.places.models import Site
from aldrip.stockplants.models import MotherPlan, MotherStart
from tests.server.house import advance, member, uid
from tests.server.test_mothers import ONE, WEEK, MothersCase


class PlansCase(MothersCase):
    def asked(self, **more: Any) -> dict[str, Any]:
        return {
            "crop_id": self.crop.pk,
            "many": "900",
            "from_on": str(self.first + 14 * WEEK),
            "weeks": 5,
            "shoots": "1 2 3 3 3 3 3 3",
            "first_cut_week": 3,
            "life_weeks": 12,
            **more,
        }

    def draft(self, status: int = 200, **more: Any) -> Any:
        return self.post("/mothers/plan-draft", self.asked(**more), status=status)

    def kept(self, **more: Any) -> Any:
        return self.post("/mothers/plans", {**self.asked(**more), "client_uuid": more.get("client_uuid", uid())})


class Drafts(PlansCase):
    def test_every_week_has_what_is_wanted_and_somebodys_own_plantings_stand_beside_it(self) -> None:
        made = self.draft()
        self.assertFalse(MotherPlan.objects.exists())
        self.assertEqual(sum(one["short"] for one in made["weeks"]), 0, made["sentence"])
        self.assertAlmostEqual(sum(one["wanted"] for one in made["weeks"]), 900 * 5 * 1.1)
        plantlets = sum(one["plantlets"] for one in made["starts"])
        fewer = [{**one, "plantlets": str(one["plantlets"] // 2)} for one in made["starts"]]
        hand = self.draft(starts=fewer)
        self.assertEqual(sum(one["plantlets"] for one in hand["starts"]), sum(int(one["plantlets"]) for one in fewer))
        self.assertGreater(sum(one["short"] for one in hand["weeks"]), 0)
        self.assertIn("are short", hand["sentence"])
        self.assertIn(f"{plantlets:,} plantlets", made["sentence"])

    def test_a_season_that_swells_is_typed_week_by_week(self) -> None:
        made = self.draft(many="1k 2,000 4000", weeks=9, reserve_percent="0 %")
        wanted = [one["wanted"] for one in made["weeks"] if one["wanted"]]
        self.assertEqual([round(one) for one in wanted], [1000, 2000, 4000])

    def test_with_mothers_of_their_own_first_cuts_fewer_plantlets_do(self) -> None:
        alone = self.draft(from_on=str(self.first + 20 * WEEK))
        own = self.draft(from_on=str(self.first + 20 * WEEK), submother_cuts=2)
        self.assertLess(*(sum(one["plantlets"] for one in made["starts"]) for made in (own, alone)))
        self.assertGreater(max(one["rooted"] for one in own["weeks"]), 0)

    def test_where_it_is_cold_more_plantlets_are_planted_or_sooner_and_the_plan_stays_as_it_was_reckoned(self) -> None:
        site = Site.objects.get(organisation=self.ctx.organisation)
        cold = {"name": "Cold bench", "kind": "bench", "site_id": site.pk, "capacity": 50, "cooled_to_c": 14}
        place = self.post("/places", {**cold, "lamps_mol": 2})["id"]
        late = {"from_on": str(self.first + 20 * WEEK), "life_weeks": 20}
        warm, slow = self.draft(**late), self.draft(place_id=place, **late)
        self.assertEqual(sum(one["short"] for one in slow["weeks"]), 0, slow["sentence"])
        self.assertLess(slow["starts"][0]["on"], warm["starts"][0]["on"])
        made = self.kept(place_id=place, **late)
        self.assertIn("slower in the cold and on the short days of Cold bench", made["raising"])
        self.assertEqual((made["place_id"], made["weeks"]), (place, slow["weeks"]))
        self.assertEqual(self.get(f"/mothers/raising?crop_id={self.crop.pk}")["place_id"], place)
        coming = self.outlook()["to_come"]
        pace = MotherPlan.objects.get(pk=made["id"]).pace
        self.assertEqual(len(pace), len(made["weeks"]) + 20)  # her life on, beyond the last week that is planned
        sticking = [one["stuck"] + one["wasted"] for one in made["weeks"]]
        self.assertEqual([round(one, 6) for one in coming[:20]], [round(one, 6) for one in sticking[:20]])
        self.call("patch", f"/places/{place}", {**cold, "cooled_to_c": 22, "lamps_mol": 2})
        self.assertEqual(self.get("/mothers/plans")[0]["weeks"], made["weeks"])

    def test_what_batches_lack_is_wanted_as_it_is_to_be_stuck(self) -> None:
        self.planted("40", weeks=8, shoots="1 1 1 1", first_cut_week=8, life_weeks=12)
        self.sticking(500, 10)
        short = self.outlook()["short"][10]
        self.assertGreater(short, 0)
        made = self.draft(many="", for_batches=True, reserve_percent="0")
        self.assertAlmostEqual(made["weeks"][10]["stuck"], short, places=3)
        self.assertEqual(sum(one["short"] for one in made["weeks"]), 0)
        kept = self.kept(many="", for_batches=True, reserve_percent="0")
        self.assertEqual(sum(self.outlook()["short"]), 0, "mothers that are planned are counted with")
        self.assertGreater(self.outlook()["to_come"][10], 0)
        self.post(f"/mothers/plans/{kept['id']}/drop", {})
        self.assertAlmostEqual(self.outlook()["short"][10], short)

    def test_batches_lack_all_their_cuttings_where_no_mother_stands_yet(self) -> None:
        batch = self.sticking(500, 12)
        made = self.draft(many="", for_batches=True, reserve_percent="0")
        self.assertAlmostEqual(made["weeks"][12]["stuck"], batch.start, places=3)

    def test_mothers_that_stand_serve_first_what_no_batch_sticks(self) -> None:
        self.planted("1,000", weeks=8, shoots="1", first_cut_week=26, life_weeks=27)  # a thousand in week 18 from now
        alone = self.draft(from_on=str(self.first + 23 * WEEK), weeks=1, count_standing=False)
        beside = self.draft(from_on=str(self.first + 23 * WEEK), weeks=1)
        rooted = 1000 * 0.9 * 0.95
        self.assertAlmostEqual(
            sum(one["wanted"] for one in alone["weeks"]) - sum(one["wanted"] for one in beside["weeks"]), rooted
        )
        self.assertIn(f"serve {rooted / 1.1:,.0f}", beside["sentence"])
        few = self.draft(from_on=str(self.first + 23 * WEEK), weeks=1, many="500")
        self.assertEqual((few["starts"], few["sentence"][-28:]), ([], "Nothing is left to plan for."))
        self.kept(from_on=str(self.first + 23 * WEEK), weeks=1, count_standing=False)
        again = self.draft(from_on=str(self.first + 23 * WEEK), weeks=1)  # those are spoken for by the plan
        self.assertNotIn("Nothing is left", again["sentence"])
        self.kept(from_on=str(self.first + 23 * WEEK), weeks=1)
        third = self.draft(from_on=str(self.first + 23 * WEEK), weeks=1)
        wanted = sum(one["wanted"] for one in third["weeks"])
        self.assertAlmostEqual(wanted, 900 * 1.1, delta=20, msg="what stands serves once; whole plantlets leave a few")

    def test_wanted_sooner_than_a_mother_gives_says_so(self) -> None:
        made = self.draft(from_on=str(self.first + 2 * WEEK), weeks=2)
        self.assertIn("No planting helps", made["sentence"])
        self.assertTrue(made["warnings"])
        self.post(
            "/mothers/plans",
            {**self.asked(from_on=str(self.first + 2 * WEEK), weeks=2), "client_uuid": uid()},
            status=422,
        )

    def test_what_cannot_be_is_refused_where_it_stands(self) -> None:
        for more, field in (
            ({"many": ""}, "many"),
            ({"many": "lots"}, "many"),
            ({"from_on": None}, "from_on"),
            ({"from_on": str(self.ctx.today - 8 * ONE)}, "from_on"),
            ({"from_on": str(self.first + 600 * WEEK)}, "from_on"),
            ({"weeks": 0}, "weeks"),
            ({"rooting_percent": "0"}, "rooting_percent"),
            ({"hardening_percent": "120"}, "hardening_percent"),
            ({"reserve_percent": "300"}, "reserve_percent"),
            ({"shoots": "x"}, "shoots"),
            ({"hold_weeks": -1}, "hold_weeks"),
            ({"starts": [{"on": str(self.first - WEEK), "plantlets": "5"}]}, "starts"),
            ({"starts": [{"on": str(self.first), "plantlets": "five"}]}, "starts.0.plantlets"),
        ):
            with self.subTest(more):
                told = self.draft(status=422, **more)
                self.assertEqual(told["errors"][0]["field"], field, told)


class Kept(PlansCase):
    def waiting(self) -> list[str]:
        return [one["sentence"] for one in self.waits("mothers_start")]

    def test_kept_once_ordered_planted_and_then_quiet(self) -> None:
        key = uid()
        plan = self.kept(client_uuid=key)
        self.assertEqual(self.kept(client_uuid=key)["id"], plan["id"])
        self.assertEqual(MotherPlan.objects.count(), 1)
        start = plan["starts"][0]
        on = date.fromisoformat(start["on"])
        advance(self.ctx, max(self.ctx.today, on - 5 * WEEK))
        self.assertIn("not ordered yet", self.waiting()[0])
        self.post(f"/mothers/starts/{start['id']}/ordered", {"from_whom": "Marram Lab", "on": str(self.ctx.today)})
        self.assertFalse([one for one in self.waiting() if "not ordered" not in one])
        self.assertIn("Ordered from Marram Lab", self.get("/mothers/plans")[0]["starts"][0]["sentence"])
        advance(self.ctx, on + 8 * ONE)
        self.assertIn("ordered from Marram Lab", self.waiting()[0])
        self.assertTrue(self.get("/mothers/plans")[0]["starts"][0]["late"])
        stock = self.planted(str(start["plantlets"]), weeks=0, start_id=start["id"])
        told = self.get("/mothers/plans")[0]["starts"][0]
        self.assertEqual((told["stock"], told["late"]), (stock["code"], False))
        self.assertFalse([one for one in self.waiting() if f"week {on.isocalendar().week}," in one])
        again = self.planted("5", weeks=0, start_id=start["id"], status=422)
        self.assertEqual(again["errors"][0]["code"], "planted")
        late = self.post(f"/mothers/starts/{start['id']}/ordered", {"on": str(self.ctx.today)}, status=422)
        self.assertEqual(late["errors"][0]["code"], "planted")

    def test_what_is_not_ordered_stands_on_the_buying_list_and_what_is_does_not(self) -> None:
        starts = self.kept()["starts"]
        start = starts[0]
        row = next(one for one in self.get("/buying?lead_days=30") if one["what"] == "plantlets")
        self.assertEqual((row["quantity"], row["uses"][0]["batch"]), (start["plantlets"], "mothers of lavender"))
        self.assertEqual(row["order_by"], str(date.fromisoformat(start["on"]) - 30 * ONE))
        self.assertIn("plantlets", self.client.get("/api/buying/export").content.decode())
        self.assertEqual(self.client.get("/api/buying.pdf").status_code, 200)
        for one in starts:
            self.post(f"/mothers/starts/{one['id']}/ordered", {"on": str(self.ctx.today)})
        self.assertFalse([one for one in self.get("/buying") if one["what"] == "plantlets"])
        self.post(f"/mothers/starts/{start['id']}/ordered", {"on": None})
        self.assertTrue([one for one in self.get("/buying") if one["what"] == "plantlets"])

    def test_what_mothers_give_is_not_bought(self) -> None:
        batch = self.sticking(500, 3)

        def bought() -> float:
            return float(sum(one["quantity"] for one in self.get("/buying") if one["what"] == "cuttings"))

        self.assertEqual(bought(), batch.start)
        stock = self.planted("100", weeks=8, shoots="2 2 2 2 2 2", first_cut_week=8, life_weeks=14)
        self.assertAlmostEqual(bought(), batch.start - 200)
        self.post(f"/mothers/{stock['id']}/exhausted", {"on": str(self.ctx.today)})
        self.assertEqual(bought(), batch.start)
        self.planted("1,000", weeks=8, shoots="2 2 2 2 2 2", first_cut_week=8, life_weeks=14)
        self.assertEqual(bought(), 0)

    def test_planted_by_mistake_and_taken_back_it_is_asked_for_again(self) -> None:
        start = self.kept()["starts"][0]
        self.planted("40", weeks=0, start_id=start["id"])
        event = next(one for one in self.get("/audit") if one["sentence"].startswith("Planted 40"))
        self.post(f"/acts/{event['id']}/take-back", {"reason": "not yet", "known": [event["id"]]})
        self.assertIsNone(MotherStart.objects.get(pk=start["id"]).stock)
        self.planted("41", weeks=0, start_id=start["id"])

    def test_another_crop_is_not_planted_for_it(self) -> None:
        start = self.kept()["starts"][0]
        other = Crop.objects.exclude(slug="lavender").filter(organisation=None).first()
        assert other is not None
        told = self.planted("5", weeks=0, start_id=start["id"], crop_id=other.pk, status=422)
        self.assertEqual(told["errors"][0]["field"], "crop_id")

    def test_a_season_later_a_plan_reads_as_it_was_kept(self) -> None:
        plan = self.kept(submother_cuts=1)
        advance(self.ctx, self.ctx.today + 40 * WEEK)
        later = self.get("/mothers/plans")[0]
        self.assertEqual((later["weeks"], later["sentence"]), (plan["weeks"], plan["sentence"]))
        self.assertEqual(self.get(f"/mothers/raising?crop_id={self.crop.pk}")["submother_cuts"], 1)

    def test_a_plan_that_is_planted_and_past_its_weeks_is_over(self) -> None:
        plan = self.kept()
        for start in plan["starts"]:
            self.planted(str(start["plantlets"]), weeks=0, start_id=start["id"])
        self.assertEqual(len(self.get("/mothers/plans")), 1)
        advance(self.ctx, self.ctx.today + 60 * WEEK)
        self.assertEqual(self.get("/mothers/plans"), [])

    def test_who_only_looks_plans_nothing(self) -> None:
        plan = self.kept()
        self.client.force_login(member(self.ctx, "looker", "viewer"))
        for path in (
            "/mothers/plans",
            "/mothers/plan-draft",
            f"/mothers/plans/{plan['id']}/drop",
            f"/mothers/starts/{plan['starts'][0]['id']}/ordered",
        ):
            self.post(path, {**self.asked(), "client_uuid": uid()}, status=403)
        self.assertEqual(len(self.get("/mothers/plans")), 1)
