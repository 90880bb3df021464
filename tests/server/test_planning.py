"""Planning by the rules of the house: places, warmth, frozen methods, rates with an origin, decisions that wait."""

import itertools
from datetime import date, timedelta

from aldrip.batches.editing import Change, propose
from aldrip.batches.ground import Ground, lot_spec
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.saved import dates_of, load_batch, request_of
from aldrip.batches.starting import Asked, plan_lines, request_for
from aldrip.methods.models import Crop, Method, MethodStage
from aldrip.methods.snapshot import read_snapshot
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip_core.batch_plan import plan_batch
from aldrip_core.stages import Trait
from aldrip_core.working import Origin
from tests.server.house import HouseCase, advance, seed_lot, take_order, uid


class Methods(HouseCase):
    def test_a_batch_keeps_the_method_as_it_was_when_planned(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        before = self.get(f"/batches/{batch.pk}")
        MethodStage.objects.filter(method=batch.method, kind="grade").update(keeps=0.5)
        MethodStage.objects.filter(method=batch.method, kind="grow").update(days=90)
        after = self.get(f"/batches/{batch.pk}")
        self.assertEqual([r["value"] for r in before["rungs"]], [r["value"] for r in after["rungs"]])
        shown = self.post(f"/batches/{batch.pk}/preview", {"shift_days": 7})
        days = next(f for f in shown["figures"] if f["name"] == "Ready")
        self.assertLess((date.fromisoformat(days["after"]) - date.fromisoformat(days["before"])).days, 15)
        _, fresh = self.planned(order="2")
        self.assertGreater(fresh.start, batch.start)

    def test_a_snapshot_reads_back_what_the_method_says(self) -> None:
        ground = Ground(self.ctx)
        for method in Method.objects.prefetch_related("stages__container"):
            with self.subTest(method.slug):
                ground.know_methods([method])
                definition = ground.method(method.pk)
                self.assertEqual(definition, read_snapshot(ground.snapshots[method.pk]))
                rows = {row.key: row for row in method.stages.all()}
                self.assertEqual({stage.round_of or stage.key for stage in definition.stages}, set(rows))
                for stage in definition.stages:
                    row = rows[stage.round_of or stage.key]
                    self.assertAlmostEqual(stage.keeps.mean, row.keeps)
                    self.assertAlmostEqual(stage.keeps.sd, row.keeps_sd if row.keeps < 1 else 0.0)
                    self.assertEqual(stage.duration.days, row.days)
                self.assertTrue(definition.root.does(Trait.STARTS))
                self.assertTrue(definition.last.does(Trait.LEAVES))

    def test_own_methods_are_not_seen_by_others(self) -> None:
        crop = Crop.objects.get(slug="zinnia")
        shipped = Method.objects.get(slug="plug-single-zinnia")
        own = Method.objects.create(
            organisation=self.ctx.organisation,
            crop=crop,
            slug="own",
            name="Own",
            form="bunch",
            unit="bunches",
            container=shipped.container,
            mix=shipped.mix,
        )
        MethodStage.objects.create(
            method=own, order=0, key="sow", traits=["starts"], name="Sown", kind="sow", days=0, unit="cells"
        )
        MethodStage.objects.create(
            method=own,
            order=1,
            key="up",
            after="sow",
            traits=["emerges"],
            name="Up",
            kind="germinate",
            days=5,
            unit="cells",
            place_kind="germination",
            density="tray",
        )
        MethodStage.objects.create(
            method=own, order=2, key="cut", after="up", name="Cut", kind="dispatch", days=1, unit="bunches", keeps=0.9
        )
        forms = {m["form"] for m in self.get("/library")["methods"] if m["own"]}
        self.assertEqual(forms, {"bunch"})
        seed_lot(self.ctx, "zinnia")
        line = take_order(self.ctx, crop="Zinnia", form="bunch", quantity="200", due="week 40")
        plan_lines(self.ctx, [line.pk])
        batch = Batch.objects.get()
        self.assertEqual((batch.method_id, batch.method_snapshot["unit"], line.unit), (own.pk, "bunches", "bunches"))
        self.assertEqual(self.get(f"/batches/{batch.pk}")["rungs"][0]["unit"], "bunches")


class Warmth(HouseCase):
    def test_a_warmer_room_is_sooner_through_and_a_cooler_one_later(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(due="2027-W45")
        room = Place.objects.get(organisation=self.ctx.organisation, kind="germination")
        ready = {}
        for degrees in (11, 18.5, 34):
            Place.objects.filter(pk=room.pk).update(set_point_c=degrees, cooled_to_c=degrees)
            proposal = propose(self.ctx, batch.pk, Change(sow_on=batch.stages.get(key="sow").planned.lower))
            ready[degrees] = proposal.plan.stage("germinate").dates.end
        self.assertLess(ready[34], ready[18.5])
        self.assertLess(ready[18.5], ready[11])

    def test_a_stage_that_runs_on_warmth_without_a_place_is_refused_in_words(self) -> None:
        seed_lot(self.ctx)
        Place.objects.filter(organisation=self.ctx.organisation, kind="germination").update(active=False)
        line = take_order(self.ctx)
        result = plan_lines(self.ctx, [line.pk])
        self.assertEqual(result["planned"], 0)
        self.assertIn("needs a place with a climate", result["unplanned"][0]["reason"])


class Dates(HouseCase):
    def test_the_day_aimed_for_keeps_days_in_hand_and_the_calendar(self) -> None:
        ground = Ground(self.ctx)
        self.assertEqual(ground.ready_day(date(2027, 9, 6), date(2027, 9, 12)), date(2027, 9, 1))
        self.assertEqual(ground.ready_day(date(2027, 9, 4), date(2027, 9, 5)), date(2027, 8, 27))  # only a weekend
        self.ctx.organisation.safety_days = 0
        ground = Ground(self.ctx)
        self.assertEqual(ground.ready_day(date(2027, 9, 6), date(2027, 9, 12)), date(2027, 9, 6))

    def test_too_late_is_planned_forward_from_the_next_sowing_day(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(due="2027-W29")
        self.assertEqual(batch.stages.get(key="sow").planned.lower, date(2027, 7, 6))
        self.assertRegex(
            line.problem, r"Cannot be met as asked: the earliest day is \w+ \d+ \w+, week \d+, \d+ days late\."
        )
        self.assertEqual(line.chance, 0.0)

    def test_missing_the_aim_but_not_the_window_is_no_problem(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(due="2027-W31")
        ready = list(batch.stages.order_by("order"))[-1].planned.upper
        self.assertTrue(date(2027, 7, 28) < ready < date(2027, 8, 9))
        self.assertEqual(line.problem, "")
        self.assertGreaterEqual(line.chance or 0, 0.95)

    def test_stages_join_without_gap_or_overlap_before_and_after_sowing(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(due="2027-W38")
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow)})
        dates = dates_of(load_batch(self.ctx, batch.pk))
        for before, after in itertools.pairwise(dates.values()):
            self.assertEqual(before.end, after.start)

    def test_moving_a_late_stage_leaves_the_early_ones_and_stretches_the_one_before(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(due="2027-W40")
        before = dates_of(load_batch(self.ctx, batch.pk))
        proposal = propose(self.ctx, batch.pk, Change(shift_days=7, stage="harden"))
        after = {s.spec.key: s.dates for s in proposal.plan.stages}
        self.assertEqual([after[k] for k in ("sow", "germinate")], [before[k] for k in ("sow", "germinate")])
        self.assertEqual(after["grow"].start, before["grow"].start)
        self.assertEqual(after["grow"].end, before["grow"].end + timedelta(days=7))
        early = self.client.post(
            f"/api/batches/{batch.pk}/preview", {"shift_days": -300, "stage": "harden"}, content_type="application/json"
        )
        self.assertEqual(early.json()["errors"][0]["code"], "too_early")


class Rates(HouseCase):
    def request(self) -> tuple:
        ground = Ground(self.ctx)
        crop = Crop.objects.get(slug="pak-choi")
        method = ground.methods_of("pak-choi")[0]
        asked = Asked(crop, method, {"plug": 5000}, date(2027, 9, 6), date(2027, 9, 12))
        return ground, request_for(ground, asked)

    def test_without_a_lot_the_librarys_germination_stands_in_and_says_so(self) -> None:
        ground, request = self.request()
        plan = plan_batch(request, ground)
        rate = plan.stage("germinate").rate
        self.assertEqual(rate.origin, Origin.LIBRARY)
        self.assertIn("library germination 90 %", rate.source)

    def test_a_tested_lot_is_a_record_and_a_worse_one_needs_more_trays(self) -> None:
        seed_lot(self.ctx, germination=0.95)
        ground, request = self.request()
        good = plan_batch(request, ground)
        self.assertEqual(good.stage("germinate").rate.origin, Origin.RECORDS)
        from dataclasses import replace

        worse = seed_lot(self.ctx, germination=0.6)
        poor = plan_batch(replace(request, lots=((lot_spec(worse), 1.0),)), ground)
        self.assertGreater(poor.quantities.start, good.quantities.start)

    def test_a_saved_batch_read_back_gives_the_same_plan(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        saved = load_batch(self.ctx, batch.pk)
        plan = plan_batch(request_of(saved), Ground(self.ctx, without=[batch.pk]))
        self.assertEqual((plan.quantities.start, plan.quantities.trays), (batch.start, batch.trays))
        self.assertAlmostEqual(plan.quantities.chance, batch.planned_chance, places=9)
        self.assertEqual([s.place for s in plan.stages], [s.place_id for s in saved.stages.values()])
        for stage in plan.stages:
            self.assertAlmostEqual(stage.out, saved.stages[stage.spec.key].out, places=6)

    def test_another_chance_wanted_in_the_house_plans_more_or_fewer(self) -> None:
        seed_lot(self.ctx, grams=5000)
        _, usual = self.planned(order="1")
        self.call("patch", "/organisation", {"chance_wanted": 0.999})
        self.ctx.organisation.refresh_from_db()
        _, sure = self.planned(order="2")
        self.call("patch", "/organisation", {"chance_wanted": 0.5})
        self.ctx.organisation.refresh_from_db()
        _, even = self.planned(order="3")
        self.assertTrue(even.start < usual.start < sure.start)


class Decisions(HouseCase):
    def rooms(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for decision in self.get("/season-line")["decisions"]:
            found.setdefault(decision["room"], []).append(decision["sentence"])
        return found

    def test_a_quiet_house_asks_for_nothing(self) -> None:
        self.assertEqual(self.rooms(), {})
        line = self.get("/season-line")
        self.assertEqual(line["flags"], [])
        self.assertEqual(line["last"]["sentence"], "Added Store.")
        self.assertEqual({room["waiting"] for room in line["rooms"]}, {0})

    def test_each_room_counts_what_waits_in_it(self) -> None:
        seed_lot(self.ctx, grams=50_000)
        self.planned(order="1", due="2027-W29")  # too late as asked
        take_order(self.ctx, order="2")  # not planned at all
        for number in range(4):
            self.planned(order=f"9{number}", quantity="60000", due="2027-W36")  # more than two benches hold
        found = self.rooms()
        self.assertEqual(len(found["orders"]), 2)
        self.assertTrue(found["places"])
        self.assertRegex(found["places"][0], r"is over by [\d,]+ (m²|trays) from \w+ \d+ \w+, week \d+\.")
        rooms = {room["room"]: room["waiting"] for room in self.get("/season-line")["rooms"]}
        self.assertEqual(rooms["orders"], 2)

    def test_an_overdue_line_waits_in_deliveries(self) -> None:
        seed_lot(self.ctx)
        self.planned(due="2027-W36")
        advance(self.ctx, date(2027, 9, 20))
        found = self.rooms()
        self.assertIn("deliveries", found)
        self.assertIn("was due by", found["deliveries"][0])

    def test_two_batches_for_one_line_fill_it_together_and_the_late_one_does_not_count(self) -> None:
        seed_lot(self.ctx, grams=5000)
        line, first = self.planned(quantity="12000", due="2027-W36")
        self.post(f"/batches/{first.pk}/keep", {"version": 1, "change": {"trays": 30}})
        line.refresh_from_db()
        self.assertLess(line.chance or 0, 0.01)
        crop, method = Crop.objects.get(slug="pak-choi"), Method.objects.get(slug="plug-single-pak-choi")
        body = {
            "crop_id": crop.pk,
            "method_id": method.pk,
            "needed": 7000,
            "ready_on": "2027-09-06",
            "order_line_id": line.pk,
        }
        second = Batch.objects.get(pk=self.post("/batches", body)["id"])
        line.refresh_from_db()
        self.assertGreater(line.chance or 0, 0.9)
        both = self.get(f"/batches/{first.pk}")["forecast"]
        self.assertEqual((both["batches"], both["needed"]), (2, 12000))
        self.post(f"/batches/{second.pk}/keep", {"version": second.version, "change": {"ready_on": "2027-09-29"}})
        line.refresh_from_db()
        self.assertLess(line.chance or 0, 0.01)

    def test_a_batch_that_serves_nobody_any_more_can_be_ended_with_a_reason(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned()
        self.post(f"/batches/{batch.pk}/end", {"cause": " "}, status=422)
        self.post(f"/batches/{batch.pk}/end", {"cause": "customer took another crop"})
        self.post(f"/batches/{batch.pk}/end", {"cause": "again"}, status=422)
        line.refresh_from_db()
        self.assertEqual((Batch.objects.get().state, line.chance), ("abandoned", None))
        self.assertEqual(self.post("/batches/plan-lines", {})["planned"], 0)
        self.assertEqual(OrderLine.objects.get().state, "open")
        self.assertEqual(BatchStage.objects.filter(batch=batch).count(), 6)
        body = {"trays": [{"sampled": 10, "found": 5}], "on": "2027-07-06", "client_uuid": uid()}
        self.assertEqual(self.post(f"/batches/{batch.pk}/counts", body, status=422)["errors"][0]["code"], "closed")


class Cards(HouseCase):
    def test_what_is_to_be_sown_before_a_day_and_the_one_that_was_asked_for(self) -> None:
        seed_lot(self.ctx, grams=5000)
        soon, late = (self.planned(order=number, due=due)[1] for number, due in (("1", "2027-W34"), ("2", "2027-W44")))
        day = late.stages.get(key="sow").planned.lower
        for query, expected in (
            (f"?before={day}", [soon.pk]),
            (f"?before={day + timedelta(days=1)}", [soon.pk, late.pk]),
            (f"?before=2027-01-01&also={late.pk}", [late.pk]),
            (f"?before=2027-01-01&also={late.uuid}", [late.pk]),
            ("?before=2027-01-01&also=0x12", []),
            (f"?before=2027-01-01&also={'9' * 30}", []),
        ):
            self.assertEqual([one["id"] for one in self.get(f"/sowing/cards{query}")], expected, query)
        whole = self.get(f"/batches/{late.pk}")
        card = self.get(f"/sowing/cards?also={late.pk}")[-1]
        self.assertEqual(card, {name: whole[name] for name in card})

    def test_a_row_of_the_list_says_what_the_batch_says(self) -> None:
        """In every state, and with a stage whose end another begins."""
        seed_lot(self.ctx, grams=5000)
        for number, due in (("1", "2027-W34"), ("2", "2027-W44"), ("3", "2027-W40")):
            _, batch = self.planned(order=number, due=due)
        sow = batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow)})
        for row in self.get("/batches"):
            whole = self.get(f"/batches/{row['id']}")
            self.assertEqual(row, {name: whole[name] for name in row})

    def test_what_is_long_over_is_listed_where_it_is_asked_for(self) -> None:
        seed_lot(self.ctx, grams=5000)
        _, batch = self.planned(due="2027-W34")
        last = batch.stages.order_by("-order")[0].planned.upper
        Batch.objects.filter(pk=batch.pk).update(state="delivered")
        self.ctx.organisation.practice_date = last + timedelta(days=8 * 7 - 1)
        self.ctx.organisation.save()
        self.assertEqual([len(self.get(f"/batches{back}")) for back in ("", "?back=3")], [1, 0])
        self.ctx.organisation.practice_date = last + timedelta(days=8 * 7)
        self.ctx.organisation.save()
        self.assertEqual([len(self.get(f"/batches{back}")) for back in ("", "?back=9", "?back=-4")], [0, 1, 0])
