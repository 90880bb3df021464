"""Orders change while they are raised: what is seen before is what happens, what stands is planned with first."""

from datetime import date
from typing import Any
from unittest.mock import patch

from django.test import Client

from aldrip.accounts.models import Role
from aldrip.batches.models import Allocation, Batch, Occupancy, SetAside
from aldrip.batches.starting import plan_lines
from aldrip.diary.models import Task
from aldrip.lots.models import Lot
from aldrip.lots.services import receive
from aldrip.methods.models import Crop, Method
from aldrip.orders.models import OrderLine
from aldrip_core.holding import held
from aldrip_core.refusal import Refused
from aldrip_core.units import Quantity, Unit
from tests.server.house import HouseCase, advance, member, seed_lot, take_order, uid
from tests.server.seed_house import SeedCase
from tests.server.test_taken_back import differences, rows_now


class Proposing(HouseCase):
    def propose(self, *commands: dict[str, Any], status: int = 200, **more: Any) -> Any:
        return self.post("/proposals/preview", {"commands": list(commands), **more}, status=status)

    def keep(self, *commands: dict[str, Any], **more: Any) -> Any:
        """Propose, and keep what was seen; what was seen must be what then is."""
        before = rows_now()
        seen = self.propose(*commands, **more)
        self.assertEqual(list(differences(before, rows_now())), [], "looking changed something")
        kept = self.post("/proposals/keep", {"commands": list(commands), "versions": seen["versions"], **more})
        for effect in seen["orders"]:
            line = OrderLine.objects.filter(pk=effect["line_id"]).first()
            if line is not None:  # a line that is made has another number when it is made in earnest
                self.assertEqual(line.chance, effect["after"])
        return {**seen, **kept}

    def sow(self, batch: Batch, trays: int | None = None) -> Batch:
        sow = max(self.ctx.today, batch.stages.get(key="sow").planned.lower)
        advance(self.ctx, sow)
        self.post(f"/batches/{batch.pk}/sown", {"on": str(sow), **({"trays": trays} if trays else {})})
        batch.refresh_from_db()
        return batch


class HowLongTheyWait(HouseCase):
    def test_days_in_hand_cost_nothing_and_beyond_them_each_week_its_share(self) -> None:
        for days, hand, kept, old in (
            (9, 5, 1.0, False),
            (16, 5, 0.9, True),
            (23, 5, 0.81, True),
            (14, 5, 0.9 ** (5 / 7), False),
            (20, 16, 1.0, False),
            (0, 0, 1.0, False),
            (-30, 0, 1.0, False),
        ):
            ready = date(2027, 5, 3)
            found = held(
                ready=ready,
                wanted=date.fromordinal(ready.toordinal() + days),
                hold_days=14,
                loss_a_week=0.1,
                in_hand=hand,
            )
            self.assertAlmostEqual(found.kept, kept)
            self.assertEqual((found.too_old, found.days), (old, max(0, days)))
        with self.assertRaises(Refused):
            held(ready=date(2027, 5, 3), wanted=date(2027, 5, 4), loss_a_week=1.0)

    def test_every_shipped_way_that_gives_plants_says_how_long_or_is_cut_fresh(self) -> None:
        silent = Method.objects.filter(organisation=None, way="plants", hold_days=None).values_list("form", flat=True)
        self.assertLessEqual(set(silent), {"stem", "leaf"})


class AChangedOrder(Proposing):
    def test_a_planned_batch_follows_number_and_day(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(quantity="7,300", due="2027-W35")
        seen = self.keep({"do": "change", "line": line.pk, "quantity": "3,100", "due": "week 40", "until": ""})
        names = {figure["name"] for figure in seen["figures"]}
        self.assertLessEqual({f"{batch.code}: sow", f"{batch.code}: trays"}, names)
        sow = next(f for f in seen["figures"] if f["name"] == f"{batch.code}: sow")
        trays = batch.trays
        batch.refresh_from_db()
        line.refresh_from_db()
        self.assertEqual(sow["after"], str(batch.stages.get(key="sow").planned.lower))
        self.assertAlmostEqual(batch.trays / trays, 3100 / 7300, delta=0.03)
        self.assertEqual((int(batch.needed), Allocation.objects.get().quantity), (3100, 3100))
        self.assertGreaterEqual(line.chance or 0, 0.95)
        # Its work stands by the new days, none is left on the old ones.
        self.assertGreaterEqual(
            min(Task.objects.filter(subject=batch.uuid).values_list("due_from", flat=True)),
            batch.stages.get(key="sow").planned.lower,
        )

    def test_more_than_was_sown_is_raised_beside_it_and_less_leaves_some_over(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(quantity="5,000", due="2027-W38")
        self.sow(batch)
        seen = self.keep({"do": "change", "line": line.pk, "quantity": "11,000"})
        new = Batch.objects.exclude(pk=batch.pk).get()
        line.refresh_from_db()
        self.assertGreaterEqual(line.chance or 0, 0.9)
        self.assertIn(f"{new.code}, new: sow", {f["name"] for f in seen["figures"]} | {f"{new.code}, new: sow"})
        self.assertEqual(batch.start, Batch.objects.get(pk=batch.pk).start)  # what was sown is a fact
        self.keep({"do": "change", "line": line.pk, "quantity": "2,000"})
        new.refresh_from_db()
        self.assertEqual(new.state, "abandoned")  # it was only planned
        standing = next(s for s in self.get("/deliveries")["standing"] if s["batch_id"] == batch.pk)
        batch.refresh_from_db()
        self.assertEqual(standing["spare"], int(batch.low or 0) - 2000)

    def test_plants_too_old_for_the_new_day_are_let_go_and_others_raised(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(quantity="4,400", due="2027-W33")
        self.sow(batch)
        with patch("aldrip.batches.promises._drop_what_does_not_fit"):  # without the mend the chance stays where it was
            told = self.propose({"do": "change", "line": line.pk, "due": "2027-W41", "until": ""})
        self.assertEqual(told["orders"][0]["after"], 0.0)
        self.assertTrue(any("before it is wanted" in one for one in told["problems"]), told["problems"])
        self.keep({"do": "change", "line": line.pk, "due": "2027-W41", "until": ""})
        line.refresh_from_db()
        new = Batch.objects.exclude(pk=batch.pk).get()
        self.assertEqual(list(line.allocations.values_list("batch", flat=True)), [new.pk])
        self.assertGreaterEqual(line.chance or 0, 0.95)
        self.assertGreater(new.stages.get(key="sow").planned.lower, batch.stages.get(key="sow").actual_start)

    def test_whoever_gives_old_plants_by_name_is_taken_at_their_word(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="4,400", due="2027-W33")
        self.sow(batch)
        late = take_order(self.ctx, quantity="900", due="2027-W42", customer="Corner Farm")
        self.keep({"do": "give", "line": late.pk, "batch": batch.pk, "quantity": "900"})
        late.refresh_from_db()
        self.assertEqual((list(late.allocations.values_list("batch", flat=True)), late.chance), ([batch.pk], 0.0))
        self.assertIn("before it is wanted", late.problem)

    def test_nothing_is_kept_of_what_was_not_seen(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(quantity="3,000", due="2027-W37")
        command = {"do": "change", "line": line.pk, "quantity": "3,900"}
        seen = self.propose(command)
        self.post(f"/batches/{batch.pk}/keep", {"version": batch.version, "change": {"trays": 40}})
        meanwhile = self.post("/proposals/keep", {"commands": [command], "versions": seen["versions"]}, status=409)
        self.assertIn(f"saved batch {batch.code} first", meanwhile["title"])
        left_out = {uuid: v for uuid, v in self.propose(command)["versions"].items() if uuid != str(batch.uuid)}
        self.post("/proposals/keep", {"commands": [command], "versions": left_out}, status=409)
        line.refresh_from_db()
        self.assertEqual(line.quantity, 3000)

    def test_undone_at_once_everything_is_as_it_was_and_not_once_something_rests_on_it(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(quantity="3,000", due="2027-W37")
        before = rows_now()
        kept = self.keep({"do": "split", "line": line.pk, "quantity": "1,200", "due": "2027-W42", "until": ""})
        self.assertNotEqual(list(differences(before, rows_now())), [])
        self.post(f"/proposals/{kept['id']}/undo")
        self.assertEqual(list(differences(before, rows_now())), [])
        kept = self.keep({"do": "change", "line": line.pk, "quantity": "4,000"})
        batch.refresh_from_db()
        self.sow(batch)
        refused = self.post(f"/proposals/{kept['id']}/undo", status=422)
        self.assertIn("rests on it by now", refused["errors"][0]["message"])

    def test_several_at_once_are_one_proposal_and_one_fault_names_its_command(self) -> None:
        seed_lot(self.ctx)
        lines = [self.planned(quantity=many, due="2027-W36") for many in ("2,000", "2,600", "1,500")]
        commands = [{"do": "edit", "batch": batch.pk, "change": {"shift_days": 7}} for _, batch in lines[:2]]
        seen = self.keep(*commands, {"do": "cancel", "line": lines[2][0].pk, "reason": "shop closed"})
        self.assertEqual(len([f for f in seen["figures"] if f["name"].endswith(": sow")]), 2)
        self.assertEqual(Batch.objects.get(pk=lines[2][1].pk).state, "abandoned")
        refused = self.propose(*commands, {"do": "cancel", "line": lines[2][0].pk, "reason": "again"}, status=422)
        self.assertEqual(refused["errors"][0]["field"], "commands.2.state")

    def test_odd_changes_are_refused_in_words(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(quantity="3,000", due="2027-W37")
        other = take_order(self.ctx, crop="Endive", quantity="900")
        for command, field in (
            ({"do": "change", "line": line.pk, "quantity": "some"}, "quantity"),
            ({"do": "change", "line": line.pk, "due": "2027-W53"}, "due"),
            ({"do": "split", "line": line.pk, "quantity": "3,000"}, "quantity"),
            ({"do": "split", "line": line.pk, "quantity": ""}, "quantity"),
            ({"do": "join", "line": line.pk, "other": other.pk}, "other"),
            ({"do": "join", "line": line.pk}, "other"),
            ({"do": "join", "line": line.pk, "other": line.pk}, "other"),
            ({"do": "cancel", "line": line.pk}, "reason"),
            ({"do": "give", "line": other.pk, "batch": batch.pk, "quantity": "10"}, "batch"),
            ({"do": "give", "line": line.pk, "batch": batch.pk}, "quantity"),
            ({"do": "take_off", "line": other.pk, "batch": batch.pk}, "batch"),
            ({"do": "raise"}, "line"),
            ({"do": "edit", "batch": batch.pk}, "batch"),
        ):
            self.assertEqual(self.propose(command, status=422)["errors"][0]["field"], field, command)

    def test_who_may_not_change_orders_may_still_give_them_what_stands(self) -> None:
        line, batch = self.planned(quantity="3,000", due="2027-W37") if seed_lot(self.ctx) else (None, None)
        client = Client()
        client.force_login(member(self.ctx, "sue", Role.SUPERVISOR))
        self.post(
            "/proposals/preview",
            {"commands": [{"do": "cancel", "line": line.pk, "reason": "x"}]},
            status=403,
            client=client,
        )
        self.post(
            "/proposals/preview", {"commands": [{"do": "take_off", "line": line.pk, "batch": batch.pk}]}, client=client
        )


class WhatStands(Proposing):
    def test_a_cancelled_orders_plants_stay_in_sight_are_given_on_and_graded(self) -> None:
        seed_lot(self.ctx)
        line, batch = self.planned(quantity="8,100", due="2027-W33")
        self.sow(batch)
        self.keep({"do": "cancel", "line": line.pk, "reason": "the shop closed"})
        batch.refresh_from_db()
        self.assertEqual(batch.state, "sown")
        there = next(s for s in self.get("/deliveries")["standing"] if s["batch_id"] == batch.pk)
        self.assertEqual(there["spare"], int(batch.low or 0))
        self.assertTrue(self.ask("7,000")["can"])
        # The next order takes them before anything is sown.
        second = take_order(self.ctx, quantity="7,000", due="2027-W34", customer="Corner Farm")
        planned = plan_lines(self.ctx, [second.pk])
        self.assertEqual((planned["given"], planned["batches"]), (1, []))
        second.refresh_from_db()
        self.assertEqual(list(second.allocations.values_list("batch", flat=True)), [batch.pk])
        self.assertGreaterEqual(second.chance or 0, 0.95)
        due = next(d for d in self.get("/deliveries")["due"] if d["line_id"] == second.pk)
        self.assertEqual([b["batch_id"] for b in due["batches"]], [batch.pk])

    def ask(self, quantity: str) -> Any:
        crop = Crop.objects.get(slug="pak-choi", organisation=None)
        return self.post(
            "/orders/can-we-take-it", {"crop_id": crop.pk, "form": "plug", "quantity": quantity, "due": "week 34"}
        )

    def test_raised_on_speculation_it_serves_the_order_that_comes(self) -> None:
        seed_lot(self.ctx)
        crop = Crop.objects.get(slug="pak-choi", organisation=None)
        method = Method.objects.get(crop=crop, form="plug", default=True, organisation=None)
        made = self.post(
            "/batches", {"crop_id": crop.pk, "method_id": method.pk, "needed": "6,000", "ready_on": "2027-08-27"}
        )
        batch = Batch.objects.get(pk=made["id"])
        small, large = (take_order(self.ctx, quantity=q, due="2027-W35", customer=q) for q in ("2,500", "9,000"))
        plan_lines(self.ctx, [small.pk, large.pk])
        self.assertEqual(Allocation.objects.get(order_line=small).batch, batch)
        shares = dict(Allocation.objects.filter(order_line=large).values_list("batch", "quantity"))
        self.assertEqual((shares.pop(batch.pk), list(shares.values())), (3500, [5500]))
        for line in (small, large):
            line.refresh_from_db()
            self.assertGreaterEqual(line.chance or 0, 0.9)
        batch.refresh_from_db()
        self.assertEqual(int(batch.needed), 6000)

    def test_crumbs_are_not_mixed_in_nor_what_is_too_old_or_another_cultivar(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(quantity="8,000", due="2027-W33")
        self.sow(batch)
        batch.refresh_from_db()
        crumbs = int(batch.low or 0) - 8000
        self.assertGreater(crumbs, 0)
        for more in ({"quantity": str(crumbs * 12)}, {"due": "2027-W39", "quantity": "200"}):
            other = take_order(self.ctx, customer="x", **more)
            plan_lines(self.ctx, [other.pk])
            self.assertNotIn(batch.pk, other.allocations.values_list("batch", flat=True), more)

    def test_plants_bought_in_are_set_aside_used_up_by_the_delivery_and_asked_about_by_others(self) -> None:
        crop = Crop.objects.get(slug="pak-choi", organisation=None)
        lot = receive(
            self.ctx,
            crop_id=crop.pk,
            line_id=None,
            quantity=Quantity.of(5000, Unit.PLANT),
            form="plug",
            received_on=self.ctx.today,
        )
        line = take_order(self.ctx, quantity="3,000", due="2027-W28")
        plan_lines(self.ctx, [line.pk])
        line.refresh_from_db()
        self.assertEqual((SetAside.objects.get().quantity, line.chance), (3000, 1.0))
        listed = next(o for o in self.get("/orders") if o["id"] == line.pk)
        self.assertEqual((listed["aside"], listed["planned"]), ([lot.code], True))
        other = take_order(self.ctx, quantity="4,000", due="2027-W28", customer="Corner Farm")
        body = {
            "order_id": other.order_id,
            "on": str(self.ctx.today),
            "client_uuid": uid(),
            "picks": [{"line_id": other.pk, "lot_id": lot.pk, "quantity": 4000}],
        }
        asked = self.client.post("/api/deliveries", body, content_type="application/json")
        self.assertEqual((asked.status_code, asked.json()["ask"]), (422, "set_aside"))
        self.post("/deliveries", body)  # said to be so
        line.refresh_from_db()
        self.assertEqual((line.chance, OrderLine.objects.get(pk=other.pk).state), (0.0, "delivered"))
        self.assertIn("set aside", line.problem)
        self.assertIn("2,000 plants", line.problem)
        self.post(
            "/deliveries",
            {
                **body,
                "order_id": line.order_id,
                "client_uuid": uid(),
                "picks": [{"line_id": line.pk, "lot_id": lot.pk, "quantity": 1000}],
            },
        )
        self.assertEqual(SetAside.objects.get().quantity, 2000)


class ReleasedSeed(SeedCase):
    def test_what_is_released_is_planned_with_first_and_falls_away_when_it_is_held(self) -> None:
        self.live_to_clean_seed()
        self.on(date(2027, 9, 20))
        self.accept_all(self.block)
        for kind in ("germination", "purity", "moisture"):
            self.result(self.lot, kind)
        self.decide(self.lot, "release")
        first = OrderLine.objects.get()
        more = {"crop": "Sunflower", "cultivar": "Testhybrid", "form": "seed", "due": "2027-W45"}
        line = take_order(self.ctx, quantity="130 kg", customer="North Seeds", **more)
        before = Batch.objects.count()
        self.assertEqual(plan_lines(self.ctx, [line.pk])["batches"], [])
        self.assertEqual(Batch.objects.count(), before)
        line.refresh_from_db()
        self.assertEqual(
            (line.chance, SetAside.objects.get().lot, SetAside.objects.get().quantity), (1.0, self.lot, 130_000)
        )
        # 1,500 kg less 1,200 promised less 130 set aside leave 170; of more than that the rest must be grown.
        second = take_order(self.ctx, quantity="300 kg", customer="South Seeds", **{**more, "due": "2028-W45"})
        plan_lines(self.ctx, [second.pk])
        self.assertEqual(SetAside.objects.get(order_line=second).quantity, 170_000)
        self.assertEqual(Allocation.objects.get(order_line=second).quantity, 130_000)
        first.refresh_from_db()
        self.assertGreaterEqual(first.chance or 0, 0.9)
        self.result(
            self.lot, "germination", normal=[70, 71, 69, 72], reason="a complaint"
        )  # far below: the lot is held again
        line.refresh_from_db()
        self.assertEqual(Lot.objects.get(pk=self.lot.pk).status, "held")
        self.assertEqual(line.chance, 0.0)
        self.assertIn("held by now", line.problem)

    def test_a_field_that_is_laid_out_keeps_its_rows_whatever_the_order_becomes(self) -> None:
        block = self.laid_out()
        batch, line = block.batch, OrderLine.objects.get()
        before = {stage.key: (stage.planned.lower, stage.place_id) for stage in batch.stages.all()}
        start = batch.start
        command = {"do": "change", "line": line.pk, "quantity": "9,000 kg", "due": "2027-W48", "until": ""}
        seen = self.post("/proposals/preview", {"commands": [command]})
        self.post("/proposals/keep", {"commands": [command], "versions": seen["versions"]})
        batch.refresh_from_db()
        line.refresh_from_db()
        self.assertEqual({stage.key: (stage.planned.lower, stage.place_id) for stage in batch.stages.all()}, before)
        self.assertEqual((batch.start, line.quantity), (start, 9_000_000))
        self.assertLess(line.chance or 0, 0.5)  # and it says so, since the field gives what it gives


class CountsDriveWork(HouseCase):
    """A pot crop: what was counted is what is potted, spaced, stood and fed."""

    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx, "cyclamen", grams=400, germination=0.9)
        _, self.batch = self.planned(crop="Cyclamen", form="pot", quantity="1,900", due="2028-W22")
        sow = self.batch.stages.get(key="sow").planned.lower
        advance(self.ctx, sow)
        self.post(f"/batches/{self.batch.pk}/sown", {"on": str(sow)})
        self.batch.refresh_from_db()

    def work(self) -> dict[str, float]:
        rows = Task.objects.filter(subject=self.batch.uuid, kind__in=("pot", "space"), state="todo")
        return {kind: float(quantity) for kind, quantity in rows.values_list("kind", "quantity")}

    def stands(self, key: str) -> float:
        rows = Occupancy.objects.filter(stage__batch=self.batch, stage__key=key).values_list("amount", flat=True)
        return float(sum(rows))

    def count(self, found: int, **more: Any) -> Any:
        day = self.batch.stages.get(key="germinate").planned.upper
        advance(self.ctx, day)
        trays = [{"sampled": 240, "found": found}] * 3
        return self.post(
            f"/batches/{self.batch.pk}/counts", {"trays": trays, "on": str(day), "client_uuid": uid(), **more}
        )

    def test_pots_places_and_minutes_fall_with_what_came_up_and_rise_again_with_a_better_count(self) -> None:
        planned, stood = self.work(), self.stands("space")
        expected = self.batch.stages.get(key="germinate")
        mean = expected.alpha / (expected.alpha + (expected.beta or 0))
        first = self.count(90)
        share = 90 / 240 / mean
        for kind, quantity in self.work().items():
            self.assertAlmostEqual(quantity / planned[kind], share, delta=0.01)
        self.assertAlmostEqual(self.stands("space") / stood, share, delta=0.01)
        self.batch.refresh_from_db()
        self.assertEqual(self.batch.start, Batch.objects.get(pk=self.batch.pk).start)
        # The trays stand on, however many of their cells are empty.
        self.assertEqual(
            Task.objects.get(subject=self.batch.uuid, kind="move", stage="grow").quantity, self.batch.trays
        )
        ladder = self.get(f"/batches/{self.batch.pk}")
        rung = next(r for r in ladder["rungs"] if r["key"] == "stage:germinate")
        self.assertAlmostEqual(rung["value"] / self.batch.start, mean, delta=0.01)  # what was planned stands beside it
        self.count(205, replaces=first["id"], reason="wrong trays")
        self.assertAlmostEqual(self.work()["pot"] / planned["pot"], 205 / 240 / mean, delta=0.01)

    def test_what_is_lost_afterwards_is_not_potted(self) -> None:
        self.count(200)
        before = self.work()["pot"]
        self.post(
            f"/batches/{self.batch.pk}/losses",
            {"lost": 300, "cause": "fungus gnats", "on": str(self.ctx.today), "client_uuid": uid()},
        )
        kept = self.batch.stages.get(key="grow")
        self.assertAlmostEqual(
            before - self.work()["pot"], 300 * kept.alpha / (kept.alpha + (kept.beta or 0)), delta=1.5
        )

    def test_an_edit_afterwards_does_not_bring_the_lost_pots_back(self) -> None:
        self.count(90)
        before = self.work()
        self.batch.refresh_from_db()
        self.post(f"/batches/{self.batch.pk}/keep", {"version": self.batch.version, "change": {"shift_days": 7}})
        self.assertEqual(self.work(), before)


class GradedInParts(Proposing):
    def setUp(self) -> None:
        super().setUp()
        seed_lot(self.ctx)
        self.line, self.batch = self.planned(quantity="4,000", due="2027-W36")
        self.second = take_order(self.ctx, quantity="1,000", due="2027-W37", customer="Corner Farm")
        self.sow(self.batch)
        self.keep({"do": "give", "line": self.second.pk, "batch": self.batch.pk, "quantity": "1,000"})
        self.on = max(stage.planned.upper for stage in self.batch.stages.exclude(key="dispatch"))
        advance(self.ctx, self.on)

    def grade(self, good: str, out: str = "", status: int = 200, **more: Any) -> Any:
        body = {
            "good": good,
            "out": [{"cause": "damaged", "count": out}],
            "on": str(self.on),
            "client_uuid": uid(),
            **more,
        }
        return self.post(f"/batches/{self.batch.pk}/graded", body, status=status)

    def expected(self) -> float:
        self.batch.refresh_from_db()
        return self.batch.expected

    def test_the_other_half_stands_on_and_is_graded_later(self) -> None:
        before = self.expected()
        self.grade("1,500", "100", rest=True)
        after = self.expected()
        self.assertEqual(self.batch.state, "sown")
        # 1,600 of what stood were graded; 1,500 of them are there for sure, the others would have kept their share.
        self.assertAlmostEqual(after - before, 1500 - 1600 * 0.95, delta=12)
        lot = Lot.objects.get(form="plug")
        self.post(
            "/deliveries",
            {
                "order_id": self.line.order_id,
                "on": str(self.on),
                "client_uuid": uid(),
                "picks": [{"line_id": self.line.pk, "lot_id": lot.pk, "quantity": "1500"}],
            },
        )
        self.batch.refresh_from_db()
        self.assertEqual(self.batch.state, "sown")  # nothing is left in stock, and the rest still stands
        self.grade("2,900", "120")
        self.batch.refresh_from_db()
        graded = self.batch.stages.get(key="grade")
        self.assertEqual((self.batch.state, graded.counted_of), ("ready", 4620))
        self.assertAlmostEqual(graded.counted_share, 4400 / 4620)
        too_many = self.grade("900000", status=422)
        self.assertEqual(too_many["errors"][0]["code"], "too_many")

    def test_what_is_there_is_shared_by_the_lines_and_handed_over_as_it_was_filled_in(self) -> None:
        self.grade("4,400", "60")
        due = {row["line_id"]: row["stock"][0] for row in self.get("/deliveries")["due"]}
        shares = {line: stock["proposed"] for line, stock in due.items()}
        self.assertEqual(shares, {self.line.pk: 4000, self.second.pk: 400})
        for line in (self.line, self.second):
            line.refresh_from_db()
            picks = [{"line_id": line.pk, "lot_id": due[line.pk]["lot_id"], "quantity": str(shares[line.pk])}]
            self.post(
                "/deliveries", {"order_id": line.order_id, "on": str(self.on), "client_uuid": uid(), "picks": picks}
            )

    def test_counts_are_read_as_typed_and_refused_in_words(self) -> None:
        self.assertEqual(self.grade("some", status=422)["errors"][0]["field"], "good")
        self.assertEqual(self.grade("1k", "3 trays", status=422)["errors"][0]["field"], "out.0.count")
        self.grade("1k", rest=True)
        self.assertEqual(Lot.objects.get(form="plug").balance, 1000)
