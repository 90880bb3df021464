"""Every act of the demo's season, taken back one by one in reverse, leaves the database as it was before it."""

import json
from collections.abc import Iterator
from datetime import date
from io import StringIO
from typing import Any
from unittest.mock import patch

from django.core.management import call_command
from django.db import connection
from django.test import Client, TransactionTestCase

from aldrip.accounts.context import Ctx
from aldrip.accounts.journal import COUNTERS, kept_models
from aldrip.accounts.models import AuditEvent, Change, Organisation, User
from aldrip.accounts.taking_back import DERIVED, IN_THE_WAY, OTHERWISE, TAKEN_BACK, rests_on, take_back
from aldrip.batches.models import Batch
from aldrip.deliveries.models import Document
from aldrip.demo.loader import Season
from aldrip.diary.models import Count
from aldrip.lots.models import Lot, Movement
from tests.server.house import HouseCase, advance, member, seed_lot, uid

Rows = dict[str, dict[int, dict[str, Any]]]
LOOKED_AT = ("2027-02-01", "2027-04-12", "2027-05-31", "2027-06-21", "2027-07-05")
#: The clock of the demo is set beside its acts; papers that are out stay.
BESIDE = {"accounts_organisation": {"practice_date"}}


def steady(value: Any) -> Any:
    """What was reckoned anew may differ in its last bit."""
    return float(f"{value:.9g}") if isinstance(value, float) else value


def rows_now(*, reckoned: bool = True) -> Rows:
    """Everything of which changes are kept, but for counters; without what is `reckoned` from other rows where asked."""
    found: Rows = {}
    with connection.cursor() as cursor:
        for model in kept_models():
            table = model._meta.db_table
            where = "where withdrawn_at is null" if table == "deliveries_document" else ""
            cursor.execute(f'select id, to_jsonb(t)::text from "{table}" t {where}')
            left_out = {*COUNTERS, *BESIDE.get(table, ()), *(() if reckoned else DERIVED.get(table, ()))}
            found[table] = {
                pk: {name: steady(value) for name, value in json.loads(row).items() if name not in left_out}
                for pk, row in cursor.fetchall()
            }
    return found


def differences(one: Rows, other: Rows) -> Iterator[str]:
    for table in one:
        for pk in sorted({*one[table], *other[table]}):
            was, now = one[table].get(pk), other[table].get(pk)
            if was is None or now is None:
                yield f"{table} {pk}: {'is new' if was is None else 'is gone'}"
            elif was != now:
                yield f"{table} {pk}: " + "; ".join(f"{k} {was[k]} -> {now[k]}" for k in was if was[k] != now[k])


class WholeSeason(TransactionTestCase):
    """What the demo's own test does with the season that it lived once: all of it is taken back."""

    def live(self) -> None:
        """Load the demo, and keep what stands at the beginning of some days."""
        self.seen: dict[str, tuple[int, Rows]] = {}
        stood_on = Season._stand_on

        def stand_on(season: Season, day: date) -> None:
            named = day.isoformat()
            if named in LOOKED_AT and named not in self.seen and season.house["begins"] <= day:
                newest = AuditEvent.objects.order_by("-id").values_list("id", flat=True).first() or 0
                self.seen[named] = (newest, rows_now())
            stood_on(season, day)

        with patch.object(Season, "_stand_on", stand_on):
            call_command("load_demo", verbosity=0, stdout=StringIO())
        self.assertEqual(len(self.seen), len(LOOKED_AT))

    def it_goes_back_step_by_step(self) -> None:
        house = Organisation.objects.get()
        ctx = Ctx(house, User.objects.get(username="manager"), "manager")
        told = set(AuditEvent.objects.exclude(act=None).values_list("act", flat=True))
        silent = Change.objects.exclude(act__in=told).values_list("act", flat=True).distinct().count()
        self.assertEqual(silent, 0, "an act that changed something tells nobody")
        for day, (newest, before) in sorted(self.seen.items(), reverse=True):
            for event in (
                AuditEvent.objects.filter(pk__gt=newest, undone_by=None).exclude(action=TAKEN_BACK).order_by("-id")
            ):
                event.refresh_from_db()
                if event.undone_by_id or event.act is None or any(event.action.startswith(one) for one in OTHERWISE):
                    continue
                if not Change.objects.filter(act=event.act).exists():
                    continue
                house.practice_date = event.happened_at.date()
                house.save(update_fields=["practice_date"])
                back = rests_on(ctx, event.pk)
                self.assertEqual([one.sentence for one in back.rests], [], f"rests on {event.sentence}")
                take_back(ctx, event.pk, reason="tried", known=[one.pk for one in back.events])
            found = list(differences(before, rows_now()))
            self.assertEqual(found[:12], [], f"{day}: {len(found)} rows differ")


class OneByOne(HouseCase):
    """Who may, what goes with it, what stays."""

    def back(self, event: AuditEvent, **more: Any) -> Any:
        told = self.get(f"/acts/{event.pk}/back")
        known = [one["id"] for one in (*told["events"], *told["rests"])]
        return self.post(f"/acts/{event.pk}/take-back", {"reason": "typed wrong", "known": known}, **more)

    def sow(self, batch: Batch, **more: Any) -> AuditEvent:
        self.post(f"/batches/{batch.pk}/sown", {"on": str(self.ctx.today), **more})
        return AuditEvent.objects.filter(action="batch.sown").latest("id")

    def test_ten_times_too_many_trays_are_taken_back_and_sown_again(self) -> None:
        lot = seed_lot(self.ctx)
        _, batch = self.planned()
        asked, held, start = batch.trays or 0, lot.balance, batch.start
        event = self.sow(batch, trays=asked * 10, grams=400)
        lot.refresh_from_db()
        self.assertEqual(lot.balance, held - 400)
        self.back(event)
        batch.refresh_from_db()
        lot.refresh_from_db()
        self.assertEqual((batch.state, batch.trays, batch.start, lot.balance), ("planned", asked, start, held))
        self.assertFalse(Movement.objects.filter(lot=lot, kind="sown").exists())
        self.sow(batch, trays=asked)
        batch.refresh_from_db()
        self.assertEqual((batch.state, batch.trays), ("sown", asked))
        told = self.get(f"/acts?subject={batch.uuid}")
        self.assertEqual([one["action"] for one in told][:3], ["batch.sown", "act.taken_back", "batch.sown"])
        self.assertEqual(told[2]["taken_back"], "taken back by ada")

    def test_an_undo_that_is_taken_back_lets_the_edit_stand_again(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        self.post(f"/batches/{batch.pk}/keep", {"version": batch.version, "change": {"needed": 9000}})
        kept = AuditEvent.objects.get(action="batch.keep")
        start = Batch.objects.get().start
        self.post(f"/audit/{kept.pk}/undo")
        self.assertNotEqual(Batch.objects.get().start, start)
        self.back(AuditEvent.objects.get(action="batch.undo"))
        kept.refresh_from_db()
        self.assertEqual((Batch.objects.get().start, kept.undone_by), (start, None))

    def test_what_others_did_beside_it_stays_and_balances_are_weighed_anew(self) -> None:
        lot = seed_lot(self.ctx)
        _, one = self.planned()
        _, other = self.planned(order="2", due="2027-W37")
        first = self.sow(one, grams=30)
        self.sow(other, grams=20)
        self.assertEqual(self.get(f"/acts/{first.pk}/back")["rests"], [])
        self.back(first)
        lot.refresh_from_db()
        other.refresh_from_db()
        self.assertEqual((lot.balance, other.state, other.seed_g), (480, "sown", 20))

    def test_what_rests_on_it_is_named_and_goes_only_when_it_was_seen(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        event = self.sow(batch)
        told = self.get(f"/acts/{event.pk}/back")
        count = {"trays": [{"sampled": 240, "found": 200}], "on": str(self.ctx.today), "client_uuid": uid()}
        self.post(f"/batches/{batch.pk}/counts", count)
        known = [one["id"] for one in told["events"]]
        refused = self.post(f"/acts/{event.pk}/take-back", {"reason": "typed wrong", "known": known}, status=409)
        self.assertIn("rests on it by now", refused["errors"][0]["message"])
        self.assertEqual(Count.objects.filter(subject=batch.uuid).count(), 1)
        self.back(event)
        self.assertEqual(Count.objects.filter(subject=batch.uuid).count(), 0)
        again = self.post(f"/acts/{event.pk}/take-back", {"reason": "twice", "known": known}, status=422)
        self.assertEqual(again["errors"][0]["code"], "undone")

    def test_ones_own_or_as_planner_and_never_without_a_reason(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        event = self.sow(batch)
        for role, status in (("dispatch", 403), ("viewer", 403), ("supervisor", 422)):
            client = Client()
            client.force_login(member(self.ctx, f"{role}-1", role))
            self.post(f"/acts/{event.pk}/take-back", {"reason": " ", "known": [event.pk]}, status=status, client=client)
        batch.refresh_from_db()
        self.assertEqual(batch.state, "sown")

    def test_what_stands_in_the_way_is_named_by_constraints_that_there_are(self) -> None:
        with connection.cursor() as cursor:
            cursor.execute("select conname from pg_constraint")
            self.assertLessEqual(set(IN_THE_WAY), {name for (name,) in cursor.fetchall()})

    def test_what_takes_a_right_is_taken_back_by_that_right_alone(self) -> None:
        """A verdict, a signed inspection, a place: whoever may not do it may not undo it, nor let it stand again."""
        place = self.get("/places")["places"][0]
        body = {"name": "Bay 9", "kind": place["kind"], "capacity": 77, "gangway": 0.1}
        self.call("patch", f"/places/{place['id']}", body)
        event = AuditEvent.objects.latest("id")
        self.assertEqual(event.under, "places.edit")
        client = Client()
        client.force_login(member(self.ctx, "tam", "supervisor"))
        asked = {"reason": "no", "known": [event.pk]}
        self.post(f"/acts/{event.pk}/take-back", asked, status=403, client=client)
        done = self.back(event)
        self.assertEqual(self.get("/places")["places"][0]["name"], place["name"])
        self.post(f"/acts/{done['id']}/take-back", {"reason": "yes", "known": [done["id"]]}, status=403, client=client)

    def test_a_paper_that_left_the_gate_stays_as_withdrawn(self) -> None:
        line, batch = self.planned()
        lot = seed_lot(self.ctx, grams=500)
        self.sow(batch, lot_id=lot.pk)
        advance(self.ctx, line.due.lower)
        good = {"good": int(line.quantity), "out": [], "on": str(self.ctx.today), "client_uuid": uid()}
        self.post(f"/batches/{batch.pk}/graded", good)
        plugs = Lot.objects.get(form="plug")
        picks = [{"line_id": line.pk, "lot_id": plugs.pk, "quantity": float(line.quantity)}]
        made = self.post(
            "/deliveries", {"order_id": line.order_id, "on": str(self.ctx.today), "picks": picks, "client_uuid": uid()}
        )
        event = AuditEvent.objects.filter(action="delivery.hand_over").latest("id")
        self.assertEqual(self.get(f"/acts/{event.pk}/back")["papers"], [f"delivery note {made['code']}"])
        self.back(event)
        paper = Document.objects.get()
        self.assertEqual((paper.delivery, paper.withdrawn_because), (None, "typed wrong"))
        line.refresh_from_db()
        plugs.refresh_from_db()
        self.assertEqual((line.delivered, line.state, plugs.balance), (0, "open", line.quantity))
