"""Every route against every role, and against strangers; nobody sees or changes another nursery."""

import re
from typing import Any

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from aldrip.accounts.models import AuditEvent, Member, Role
from aldrip.accounts.permissions import ALLOWED, may
from aldrip.accounts.routes import ROUTES
from aldrip.batches.models import Batch
from aldrip.deliveries.models import Delivery
from aldrip.diary.models import Task
from aldrip.lots.models import Lot
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip.urls import api
from tests.server.house import FILES, HouseCase, make_house, member, seed_lot, uid

# A body that passes the schema, so that what answers is the permission and not the field check.
BODIES: dict[str, Any] = {
    "/orders": {"rows": []},
    "/batches/{batch_id}/picked": {
        "stage": "pick",
        "quantity": "1",
        "on": "2027-07-06",
        "client_uuid": "00000000-0000-4000-8000-000000000001",
    },
    "/orders/import/check": {"rows": []},
    "/orders/import/paste": {"text": ""},
    "/orders/can-we-take-it": {"crop_id": 0, "form": "plug", "quantity": "1", "due": "week 40"},
    "/orders/questions": {"rows": [], "customer": ""},
    "/orders/questions/ask": {"rows": []},
    "/orders/questions/{question_id}/drop": {"version": 0},
    "/orders/questions/{question_id}/take": {"version": 0},
    "/orders/succession": {"crop_id": 0, "form": "plug", "quantity": "1", "first": "week 40", "last": "week 41"},
    "/order-lines/{line_id}": {"version": 0},
    "/order-lines/{line_id}/cancel": {"reason": ""},
    "/members": {"username": "", "password": "", "full_name": "", "role": "viewer"},
    "/closed-days": {"day": "2027-12-24"},
    "/practice-clock": {"to": "2020-01-01"},
    "/lines": {"crop_id": 0, "name": ""},
    "/containers": {"name": "", "cells": 1, "cell_ml": 1, "length_cm": 1, "width_cm": 1, "depth_cm": 1},
    "/places": {"name": "", "kind": "bench", "site_id": 0},
    "/places/{place_id}": {"name": "", "kind": "bench"},
    "/lots": {"crop_id": 0},
    "/lots/{lot_id}/tests": {"value": 0.5, "tested_on": "2027-01-01"},
    "/lots/{lot_id}/balance": {"counted": 1, "reason": ""},
    "/batches": {"crop_id": 0, "method_id": 0, "needed": 1, "ready_on": "2027-10-01"},
    "/batches/{batch_id}/preview": {"needed": 1},
    "/batches/{batch_id}/keep": {"version": 0, "change": {}},
    "/levelling": {"start": "2027-07-06", "end": "2027-08-06"},
    "/batches/{batch_id}/pin": {"pinned": True},
    "/proposals/preview": {"commands": [{"do": "raise"}]},
    "/proposals/keep": {"commands": [{"do": "raise"}], "versions": {}},
    "/batches/{batch_id}/sown": {"on": "2027-07-06"},
    "/batches/{batch_id}/correct-sowing": {"reason": ""},
    "/batches/{batch_id}/moved": {"stage": "germinate", "on": "2027-07-06"},
    "/batches/{batch_id}/counts": {"trays": [{"sampled": 1, "found": 1}], "on": "2027-07-06", "client_uuid": uid()},
    "/batches/{batch_id}/losses": {"lost": 1, "cause": "x", "on": "2027-07-06", "client_uuid": uid()},
    "/batches/{batch_id}/graded": {"good": 1, "on": "2027-07-06", "client_uuid": uid()},
    "/batches/{batch_id}/resow": {"version": 0},
    "/batches/{batch_id}/end": {"cause": ""},
    "/tasks": {"title": "", "due": "2027-07-06"},
    "/tasks/{task_id}/mark": {"state": "done"},
    "/field-standards": {"crop_id": 0, "seed_class": "x", "name": "x", "source": "x", "limits": []},
    "/seed-standards": {"crop_id": 0, "seed_class": "x", "name": "x", "source": "x", "limits": []},
    "/isolation-rules": {"crop_id": 0, "seed_class": "x", "step": "open", "kind": "x", "metres": 1, "source": "x"},
    "/sites/{site_id}": {"latitude": 41},
    "/sites/{site_id}/cover": {"first": "2027-07-06"},
    "/sites/{site_id}/shade": {"batch_id": 1},
    "/places/layout": dict.fromkeys(("house_length", "house_width", "end_clearance", "bed_width", "path_width"), "1"),
    "/applications": {
        "place_id": 0,
        "uuid": uid(),
        **dict.fromkeys(("product", "rate", "amount", "why", "operator"), "x"),
    },
    "/clocks": {"name": "x", "minutes": "5", "uuid": uid()},
    "/clocks/{clock_id}/step": {"step": 1, "uuid": uid()},
    "/clocks/{clock_id}/warmth": {"temp": "50", "uuid": uid()},
    "/clocks/{clock_id}/end": {"uuid": uid()},
    "/lots/{lot_id}/treat": {"treatment": "soak-12-h", "uuid": uid()},
    "/feeds/readings": {"ec": "1", "uuid": uid()},
    "/media": {"name": "", "litres": "1"},
    "/media/{medium_id}/readings": {"ph": "6", "ec": "1", "uuid": uid()},
    "/media/{medium_id}/decide": {"decision": "passed"},
    "/batches/{batch_id}/medium": {"medium_id": 0},
    "/mothers": {"crop_id": 0, "mothers": "1", "client_uuid": uid()},
    "/mothers/{stock_id}/cuts": {"cuttings": "1", "client_uuid": uid()},
    "/mothers/{stock_id}/index": {"what": "x", "sound": True, "client_uuid": uid()},
    "/mothers/{stock_id}/retire": {"into": "x"},
    "/tubers": {"lot_id": 0, "loads": [], "client_uuid": uid()},
    "/tubers/draft": {"loads": []},
    "/tubers/{stack_id}/look": {"trays": "1", "looked": "1", "client_uuid": uid()},
    "/tubers/{stack_id}/out": {"trays": "1", "to": "x", "client_uuid": uid()},
    "/tubers/samples": {"crew": "x", "looked": "1", "client_uuid": uid()},
    "/tubers/planting-list": {"crop": "x", "plots": []},
    "/trays": {"name": "x", "client_uuid": uid()},
    "/traps": {"place_id": 0, "insect": "x", "client_uuid": uid()},
    "/mothers/plan-draft": {"crop_id": 0},
    "/mothers/plans": {"crop_id": 0, "client_uuid": uid()},
    "/machines": {"name": "", "setting_min": 0, "setting_max": 8},
    "/machines/{machine_id}": {"name": "", "setting_min": 0, "setting_max": 8},
    "/batches/{batch_id}/halves": {"part": "scion", "method_id": 0},
    "/batches/{batch_id}/sow-checks": {"looked": "1", "client_uuid": uid()},
    "/batches/{batch_id}/trials": {"machine_id": 0, "setting": "4", "grams": "1", "uuid": uid()},
    "/batches/{batch_id}/practise": {"machine_id": 0, "setting": "4"},
    "/places/{place_id}/history": {"year": 2026, "crop": "x"},
    "/lots/{lot_id}/results": {"kind": "moisture", "tested_on": "2027-07-01", "client_uuid": uid()},
    "/lots/{lot_id}/seals": {"numbers": []},
    "/lots/{lot_id}/drying": {"on": "2027-07-06", "to_percent": 9, "client_uuid": uid()},
    "/lots/{lot_id}/verdicts": {"decision": "release", "client_uuid": uid()},
    "/cleaning": {"on": "2027-07-06", "lots": [], "clean": "1", "client_uuid": uid()},
    "/seed-blocks": {"batch_id": 0},
    "/class-scheme": {"slug": "x"},
    "/seed-blocks/{block_id}/keep": {"version": 1},
    "/seed-blocks/{block_id}/sown": {"role": "F", "lot_id": 0, "kg": "1", "on": "2027-07-06", "client_uuid": uid()},
    "/seed-blocks/{block_id}/seen": {"role": "F", "stage": "x", "on": "2027-07-06", "client_uuid": uid()},
    "/seed-blocks/{block_id}/remedies": {"remedy_id": 0, "chosen": True, "client_uuid": uid()},
    "/seed-blocks/{block_id}/hives": {"hives": 1, "on": "2027-07-06"},
    "/seed-blocks/{block_id}/strip": {"version": 1},
    "/seed-blocks/{block_id}/take-up": {"version": 1},
    "/seed-blocks/{block_id}/class": {"version": 1, "seed_class": "x"},
    "/seed-blocks/{block_id}/male-out": {"on": "2027-07-06", "how": "x", "client_uuid": uid()},
    "/seed-blocks/{block_id}/harvest": {"on": "2027-07-06", "gross": "1", "moisture_percent": 9, "client_uuid": uid()},
    "/seed-blocks/{block_id}/all-in": {"on": "2027-07-06"},
    "/inspections/{inspection_id}/dispense": {"given_by": "x", "reason": "x"},
    "/inspections/{inspection_id}/reject-part": {"side": "north", "metres": "1", "reason": "x"},
    "/lots/{lot_id}/hold": {"reason": "x", "client_uuid": uid()},
    "/holds/{hold_id}/lift": {"reason": "x", "client_uuid": uid()},
    "/neighbours": {"name": "x", "crop_id": 0, "kind": "x", "year": 2027, "seen_on": "2027-07-06"},
    "/neighbours/{neighbour_id}": {"name": "x", "crop_id": 0, "kind": "x", "year": 2027, "seen_on": "2027-07-06"},
    "/neighbours/{neighbour_id}/forget": {"reason": "x"},
    "/inspections/{inspection_id}/counts": {"entries": []},
    "/inspections/{inspection_id}/sign": {"decision": "accept"},
    "/library/{kind}": {"typed": {}},
    "/library/{kind}/{slug}/typed": {"typed": {}},
    "/library/yaml/read": {"text": "x"},
    "/methods/try": {"typed": {}},
    "/lots/{lot_id}/give": {"batches": {}},
    "/library/raised": {"crop": "x"},
    "/orders/words": {"column": "crop", "said": "x", "means": "x"},
    "/orders/waiting/let-go": {"waiting": []},
    "/acts/{event_id}/take-back": {"reason": "x", "known": []},
    "/account/password": {"password": "x", "fresh": "x"},
    "/account/second": {"password": "x", "secret": "x", "code": "x"},
    "/account/second/drop": {"password": "x"},
    "/deliveries": {"order_id": 0, "on": "2027-07-06", "client_uuid": uid()},
}
OPEN = {
    ("GET", "/session"),
    ("POST", "/session"),
    ("DELETE", "/session"),
    ("POST", "/setup"),
    ("GET", "/setup/offer"),
    ("POST", "/setup/archive"),
    ("POST", "/password"),
    ("GET", "/calendar/{token}.ics"),
}


def address(path: str) -> str:
    query = {"/board": "?start=2027-06-07&end=2027-07-12", "/acts": f"?subject={uid()}"}.get(path, "")
    return re.sub(r"\{[\w:]+\}", "999999", path) + query


class EveryRoute(HouseCase):
    def test_no_route_is_outside_the_table(self) -> None:
        known = {(method, path.replace("ref:", "")) for method, path, _ in ROUTES} | OPEN
        for path, view in api.get_openapi_schema()["paths"].items():
            for method in view:
                self.assertIn((method.upper(), path.removeprefix("/api")), known)
        for _, _, action in ROUTES:
            self.assertIn(action, ALLOWED)

    def test_each_role_may_just_what_the_table_says(self) -> None:
        clients = {}
        for role in Role:
            clients[role] = Client()
            clients[role].force_login(member(self.ctx, f"the-{role}", role))
        for method, path, action in ROUTES:
            for role, client in clients.items():
                answer = self._send(client, method, path)
                with self.subTest(f"{method} {path} as {role}"):
                    if may(role, action):
                        self.assertNotIn(answer.status_code, (401, 403, 500), answer.content[:300])
                    else:
                        self.assertEqual(answer.status_code, 403)
                        self.assertEqual(answer.json()["code"], "forbidden")

    def test_nobody_signed_in_gets_nothing(self) -> None:
        for method, path, _ in ROUTES:
            answer = self._send(Client(), method, path)
            self.assertEqual((answer.status_code, answer.json()["code"]), (401, "sign_in"), path)

    def test_a_change_without_the_token_is_refused(self) -> None:
        strict = Client(enforce_csrf_checks=True)
        assert self.ctx.user is not None
        strict.force_login(self.ctx.user)
        for method, path, _ in ROUTES:
            if method != "GET":
                self.assertEqual(self._send(strict, method, path).status_code, 403, path)

    def test_one_who_may_not_enter_any_more_is_out_at_once(self) -> None:
        user = member(self.ctx, "gone", Role.MANAGER)
        client = Client()
        client.force_login(user)
        self.get("/orders", client=client)
        Member.objects.filter(user=user).update(active=False)
        self.get("/orders", client=client, status=403)

    def _send(self, client: Client, method: str, path: str) -> Any:
        where = f"/api{address(path)}"
        if method == "GET":
            return client.get(where)
        if path in FILES:
            return client.post(where, {"file": SimpleUploadedFile("x.csv", b"")})
        body = BODIES.get(path.replace("ref:", ""), {})
        return getattr(client, method.lower())(where, body, content_type="application/json")


class TwoNurseries(HouseCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.other = make_house("Other Nursery", username="bert")

    def test_ids_of_another_nursery_do_not_exist_here(self) -> None:
        lot = seed_lot(self.other)
        theirs = HouseCase.planned(_as(self, self.other), order="900")
        line, batch = theirs
        task = Task.objects.filter(organisation=self.other.organisation).first()
        place = Place.objects.filter(organisation=self.other.organisation).first()
        audit = AuditEvent.objects.filter(organisation=self.other.organisation).last()
        assert task and place and audit
        for path in (
            f"/batches/{batch.pk}",
            f"/batches/{batch.pk}/card",
            f"/batches/{batch.pk}/card.pdf",
            f"/lots/{lot.pk}",
        ):
            self.get(path, status=404)
        for path, body in (
            (f"/batches/{batch.pk}/preview", {"needed": 5}),
            (f"/batches/{batch.pk}/keep", {"version": 1, "change": {"needed": 5}}),
            (f"/batches/{batch.pk}/sown", {"on": "2027-07-06", "lot_id": lot.pk}),
            (f"/batches/{batch.pk}/end", {"cause": "x"}),
            (f"/batches/{batch.pk}/resow", {"version": 1}),
            (f"/lots/{lot.pk}/balance", {"counted": 1, "reason": "x"}),
            (f"/lots/{lot.pk}/tests", {"value": 0.5, "tested_on": "2027-01-01"}),
            (f"/tasks/{task.pk}/mark", {"state": "done"}),
            (f"/audit/{audit.pk}/undo", {}),
            (f"/acts/{audit.pk}/take-back", {"reason": "x", "known": [audit.pk]}),
            (f"/order-lines/{line.pk}/cancel", {"reason": "x"}),
            ("/deliveries", {"order_id": line.order_id, "on": "2027-07-06", "client_uuid": uid()}),
        ):
            self.post(path, body, status=404)
        self.call("patch", f"/places/{place.pk}", {"name": "mine", "kind": "bench"}, status=404)
        self.call("patch", f"/order-lines/{line.pk}", {"version": 1, "quantity": "5"}, status=404)

    def test_ids_of_another_nursery_are_refused_in_bodies_too(self) -> None:
        theirs = seed_lot(self.other)
        place = Place.objects.filter(organisation=self.other.organisation, kind="bench").first()
        assert place
        _, batch = self.planned()
        self.post(f"/batches/{batch.pk}/preview", {"lot_id": theirs.pk}, status=404)
        self.post(f"/batches/{batch.pk}/preview", {"place_id": place.pk, "stage": "grow"}, status=404)
        self.post(f"/batches/{batch.pk}/sown", {"on": "2027-07-06", "lot_id": theirs.pk}, status=404)
        self.post("/tasks", {"title": "x", "due": "2027-07-06", "place_id": place.pk}, status=404)
        theirs.refresh_from_db()
        self.assertEqual(theirs.balance, 500)

    def test_lists_hold_only_what_is_ours(self) -> None:
        seed_lot(self.other)
        HouseCase.planned(_as(self, self.other), order="901")
        for path in ("/orders", "/batches", "/lots", "/audit"):
            self.assertEqual([row for row in self.get(path) if row.get("action", "") != "places.add"], [], path)
        self.assertEqual(self.get("/deliveries"), {"due": [], "standing": [], "done": []})
        self.assertEqual(self.get("/season-line")["ticks"], [])
        self.assertEqual(self.get("/day")["tasks"], [])
        self.assertNotIn("901", self.get("/orders/export").content.decode())
        for model in (OrderLine, Batch, Lot):
            self.assertEqual(model.objects.filter(organisation=self.ctx.organisation).count(), 0)
        self.assertEqual(Delivery.objects.count(), 0)


def _as(case: HouseCase, ctx: Any) -> Any:
    """The case's helpers with another nursery's context."""

    class Other:
        pass

    other = Other()
    other.ctx = ctx  # type: ignore[attr-defined]
    return other
