"""Random seasons of random people, through the API: what has happened stays, stock balances, no answer is a crash.

A few hundred steps in every run; `./aldrip test --long` lives through ten thousand.
"""

import os
import sys
import threading
import uuid
from datetime import date, timedelta
from typing import Any

from django.db import connections
from django.test import Client, TransactionTestCase
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import AuditEvent
from aldrip.batches.models import Batch
from aldrip.diary.models import Clock
from aldrip.lots.models import Hold, Lot, MediumLot
from aldrip.methods.models import Container, Crop, Method
from aldrip.methods.resolver import Library, plain_values
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip.seedcrops.models import SeedBlock
from aldrip.sowing.models import Machine
from tests.server.house import SURE, TODAY, advance, ensure_library, make_house, order_row, seed_lot
from tests.server.looking import ASKED, RESTS, seen, untold
from tests.server.seasons import Facts, broken, facts_of, wrong
from tests.server.seed_house import SPRING, make_seed_house, parent_seed
from tests.server.test_taken_back import differences, rows_now

LONG = os.environ.get("ALDRIP_LONG") == "1"
CROPS = ("Pak choi", "Endive", "Zinnia", "Lavender")
FORMS = {"Lavender": "rooted cutting"}
PLUG_STAGES = ("sow", "germinate", "grow", "harden", "grade", "dispatch", "nowhere")
# Three of four times a choice falls on what the act is meant for; the fourth on anything.
numbers = st.integers(0, 399)
few = st.integers(0, 5)
#: Every field of a change to a batch, as people use it and as they mistype it.
FIELDS: dict[str, st.SearchStrategy[Any]] = {
    "needed": st.integers(-1, 30_000),
    "chance": st.sampled_from([0.5, 0.9, 0.99]),
    "trays": st.integers(0, 90),
    "start": st.integers(0, 20_000),
    "seed_g": st.floats(0.01, 90),
    "shift_days": st.integers(-60, 60),
    "stage": st.sampled_from(PLUG_STAGES),
    "back_to_planned": st.booleans(),
    "sow_on": st.integers(-30, 60),
    "ready_on": st.integers(-30, 90),
    "place": few,
    "split": few,
    "lot": few,
    "tray": few,
    "typed": st.fixed_dictionaries(
        {
            "rung": st.sampled_from(["trays", "start", "seeds", "seed_g", "stage:grow", "stage:x"]),
            "text": st.sampled_from(["12k", "40", "3.5 oz", "-3", "", "many", "9 g"]),
        }
    ),
    "rate": st.fixed_dictionaries(
        {"mean": st.floats(0, 1), "sd": st.floats(0, 0.2), "reason": st.sampled_from(["", "seen", "seen"])}
    ),
}
#: What people ask of an order line, as they type it and mistype it.
COMMANDS = st.sampled_from(
    [
        {"do": "change", "typed": {"quantity": "4,200"}, "named": []},
        {"do": "change", "typed": {"due": "2027-W41"}, "named": []},
        {"do": "change", "typed": {"quantity": "x", "due": "yesterday"}, "named": []},
        {"do": "split", "typed": {"quantity": "650", "due": "2027-10-04"}, "named": []},
        {"do": "join", "typed": {}, "named": ["other"]},
        {"do": "cancel", "typed": {"reason": "not wanted"}, "named": []},
        {"do": "give", "typed": {}, "named": ["batch"]},
        {"do": "give", "typed": {"quantity": "300"}, "named": ["lot"]},
        {"do": "take_off", "typed": {}, "named": ["batch"]},
        {"do": "take_off", "typed": {}, "named": ["lot"]},
        {"do": "raise", "typed": {}, "named": []},
    ]
)
WISHES = st.sampled_from(sorted(FIELDS)).flatmap(lambda name: st.tuples(st.just(name), FIELDS[name]))


class Season(RuleBasedStateMachine):
    """A nursery, and whatever its people think of next."""

    ctx: Ctx
    client: Client

    def __init__(self) -> None:
        super().__init__()
        self.known: Facts = {}
        self.sent: list[tuple[str, dict[str, Any], int]] = []
        self.asked = 0

    @initialize()
    def opens(self) -> None:
        name = uuid.uuid4().hex[:8]
        self.ctx = make_house(name, username=name)
        self.client = self.signed_in()
        for crop in ("pak-choi", "endive", "zinnia"):
            seed_lot(self.ctx, crop, grams=400)
        for crop, quantity, due in (
            ("Pak choi", 12_000, 34),
            ("Endive", 5_000, 36),
            ("Zinnia", 3_000, 37),
            ("Lavender", 800, 48),
        ):
            row = order_row(
                order=str(due), crop=crop, form=FORMS.get(crop, "plug"), quantity=str(quantity), due=f"2027-W{due}"
            )
            self.post("/orders", {"rows": [row]})
        self.post("/batches/plan-lines", {})
        for at in range(3, 28, 4):
            self.happen(at)

    def signed_in(self) -> Client:
        client = Client()
        assert self.ctx.user is not None
        client.force_login(self.ctx.user)
        return client

    def post(
        self, path: str, body: dict[str, Any], method: str = "post", client: Client | None = None
    ) -> tuple[int, Any]:
        """A call; whatever is asked, the answer is a result or a refusal in words."""
        self.asked += 1
        # All screens are looked at before and after every so many acts; each act would be too slow.
        before = seen(self.client) if self.asked % 37 == 0 and client is None else None
        answer = getattr(client or self.client, method)(
            f"/api{path}", body, content_type="application/json", headers=SURE
        )
        if before is not None and answer.status_code < 400:
            stale = untold(before, seen(self.client), answer.headers.get("X-Touched"))
            assert not stale, (path, answer.headers.get("X-Touched"), stale)
        assert answer.status_code < 500, (path, body, answer.content[:400])
        told = answer.json()
        if answer.status_code >= 400:
            assert told["errors"] and all(error["message"] for error in told["errors"]), (path, told)
        return answer.status_code, told

    def once(self, path: str, body: dict[str, Any], key: str = "client_uuid") -> None:
        """An entry with a uuid of its own; it may be sent again later."""
        body = {**body, key: str(uuid.uuid4())}
        status, told = self.post(path, body)
        if status == 200:
            self.sent.append((path, body, told.get("id")))

    def pick(self, rows: Any, at: int) -> Any:
        found = list(rows)
        return found[at % len(found)] if found else None

    def likely(self, rows: Any, at: int, **meant: Any) -> Any:
        """One of the rows that are meant, three of four times; else any."""
        sensible = self.pick(rows.filter(**meant), at // 4) if at % 4 else None
        return sensible or self.pick(rows, at // 4)

    def batch(self, at: int, *states: str) -> Batch | None:
        found: Batch | None = self.likely(
            self.ctx.rows(Batch).order_by("id"), at, **({"state__in": states} if states else {})
        )
        return found

    def line(self, at: int) -> OrderLine | None:
        found: OrderLine | None = self.likely(self.ctx.rows(OrderLine).order_by("id"), at, state="open")
        return found

    def happen(self, at: int) -> None:
        """The next thing that ought to happen to a batch, on its day."""
        batch = self.batch(at, "planned", "sown")
        coming = batch.stages.filter(actual_start=None).order_by("order").first() if batch else None
        if batch is None or coming is None:
            return
        if self.ctx.today < coming.planned.lower < date(2029, 1, 1):
            advance(self.ctx, coming.planned.lower)
        day = str(min(self.ctx.today, coming.planned.lower))
        if batch.state == "planned":
            self.post(f"/batches/{batch.pk}/sown", {"on": day})
        elif coming.kind != "grade":
            self.post(f"/batches/{batch.pk}/moved", {"stage": coming.key, "on": day})
        else:
            self.once(f"/batches/{batch.pk}/graded", {"good": int(batch.expected) + 1, "out": [], "on": self.day(0)})

    @rule(at=numbers)
    def live(self, at: int) -> None:
        self.happen(at)

    @rule(at=numbers, times=st.integers(1, 3))
    def live_on(self, at: int, times: int) -> None:
        for _ in range(times):
            self.happen(at)

    def day(self, back: int) -> str:
        return str(self.ctx.today - timedelta(days=back))

    @rule(crop=st.sampled_from(CROPS), quantity=st.integers(1, 20_000), weeks=st.integers(1, 20))
    def order(self, crop: str, quantity: int, weeks: int) -> None:
        due = self.ctx.today + timedelta(weeks=weeks)
        row = order_row(
            order=uuid.uuid4().hex[:6], crop=crop, form=FORMS.get(crop, "plug"), quantity=str(quantity), due=str(due)
        )
        self.post("/orders", {"rows": [row]})
        self.post("/batches/plan-lines", {})

    @rule(crop=st.sampled_from(("pak-choi", "zinnia")), needed=st.integers(1, 4000), days=st.integers(-5, 90), at=few)
    def speculate(self, crop: str, needed: int, days: int, at: int) -> None:
        method = Library(self.ctx).get(Method, f"plug-single-{crop}")
        line = self.line(at)
        body = {
            "crop_id": Library(self.ctx).get(Crop, crop).pk,
            "method_id": method.pk,
            "needed": needed,
            "ready_on": self.day(-days),
        }
        self.post("/batches", {**body, "order_line_ids": [line.pk] if line and at % 2 else []})

    @rule(
        at=numbers,
        wishes=st.lists(st.lists(WISHES, min_size=1, max_size=2), min_size=1, max_size=6),
        stale=st.integers(0, 9),
    )
    def edit(self, at: int, wishes: list[list[tuple[str, Any]]], stale: int) -> None:
        for number, wish in enumerate(wishes):
            self.propose(at + 5 * number, wish, stale)

    @rule(at=numbers, wishes=st.lists(WISHES, min_size=1, max_size=2), stale=st.integers(0, 9))
    def edit_one(self, at: int, wishes: list[tuple[str, Any]], stale: int) -> None:
        self.propose(at, wishes, stale)

    @rule(at=numbers, name=st.sampled_from(["place", "split", "ready_on", "chance"]), wish=few)
    def edit_what_stands(self, at: int, name: str, wish: int) -> None:
        self.propose(at, [(name, {"ready_on": -30, "chance": 0.99}.get(name, wish))], 1)

    def propose(self, at: int, wishes: list[tuple[str, Any]], stale: int) -> None:
        batch = self.batch(at, *(("planned",) if at % 2 else ("planned", "sown")))
        if batch is None:
            return
        places = list(self.ctx.rows(Place).order_by("id"))
        stage = batch.stages.all()[at % batch.stages.count()].key
        change: dict[str, Any] = {}
        for name, wish in wishes:
            if name == "place":
                change |= {"stage": stage, "place_id": places[wish].pk}
            elif name == "split":
                change |= {"stage": stage, "split": [{"place_id": p.pk, "share": 0.5} for p in (places[2], places[3])]}
            elif name == "rate":
                change |= {"stage": stage, "rate": wish}
            elif name == "lot":
                change["lot_id"] = self.likely(self.ctx.rows(Lot).order_by("id"), at, crop=batch.crop_id).pk
            elif name == "tray":
                change["container_id"] = self.pick(Container.objects.order_by("id"), wish).pk
            else:
                change[name] = self.day(-wish) if name in ("sow_on", "ready_on") else wish
        status, told = self.post(f"/batches/{batch.pk}/preview", change)
        if status == 200:
            self.post(f"/batches/{batch.pk}/keep", {"version": told["version"] - (stale == 0), "change": change})

    def set_the_sower(self, batch: Batch, at: int) -> None:
        if not self.ctx.rows(Machine).exists():
            self.post("/machines", {"name": "hand sower", "setting_min": 0, "setting_max": 8})
        machine = self.ctx.rows(Machine).get()
        caught = {"setting": str(at % 10), "grams": f"{0.2 + at / 50:.2f}", "even": at % 4 != 0}
        for _ in range(2):
            self.post(f"/batches/{batch.pk}/trials", {"machine_id": machine.pk, **caught, "uuid": uuid.uuid4().hex})

    @rule(
        at=numbers,
        back=st.integers(-2, 9),
        trays=st.none() | st.integers(0, 60),
        grams=st.none() | st.floats(0.1, 300),
        lot=st.none() | few,
    )
    def sow(self, at: int, back: int, trays: int | None, grams: float | None, lot: int | None) -> None:
        batch = self.batch(at, "planned")
        if batch is not None:
            if at % 3 == 0:
                self.set_the_sower(batch, at)
            chosen = self.pick(self.ctx.rows(Lot).order_by("id"), lot).pk if lot is not None else None
            medium = self.pick(self.ctx.rows(MediumLot).order_by("-id"), at) if at % 2 else None
            body = {"on": self.day(back), "trays": trays, "grams": grams, "lot_id": chosen}
            self.post(f"/batches/{batch.pk}/sown", {**body, "medium_id": medium and medium.pk})

    @rule(at=numbers, ec=st.floats(0.1, 2), decision=st.sampled_from(["passed", "passed", "rejected", "waits"]))
    def wash_a_medium(self, at: int, ec: float, decision: str) -> None:
        if at % 3 == 0 or not self.ctx.rows(MediumLot).exists():
            self.post("/media", {"name": "coir", "litres": str(20 + 9 * at), "washed": at % 2 == 0})
        medium = self.pick(self.ctx.rows(MediumLot).order_by("-id"), at)
        assert medium is not None
        self.once(f"/media/{medium.pk}/readings", {"ph": "6.2", "ec": f"{ec:.2f}"}, "uuid")
        self.post(f"/media/{medium.pk}/decide", {"decision": decision, "why": "looked at" if at % 2 else ""})

    @rule(at=numbers, grams=st.floats(0.1, 60), ends=st.sampled_from(["", "end", "end", "broken"]))
    def treat_seed(self, at: int, grams: float, ends: str) -> None:
        lot = self.pick(self.ctx.rows(Lot).filter(form="seed").order_by("id"), at)
        if lot is not None:
            slug = ("soak-12-h", "dust-or-coat", "prime-in-water", "hot-water-leafy-brassicas")[at % 4]
            self.once(f"/lots/{lot.pk}/treat", {"treatment": slug, "quantity": f"{grams:.2f} g"}, "uuid")
        clock = self.pick(self.ctx.rows(Clock).filter(ended_at=None).order_by("id"), at)
        if clock is not None and ends:
            self.once(f"/clocks/{clock.pk}/warmth", {"temp": str(40 + at)}, "uuid")
            self.once(f"/clocks/{clock.pk}/end", {"broken_off": ends == "broken", "note": "cold"}, "uuid")

    @rule(at=numbers, grams=st.tuples(st.floats(0.1, 60), st.floats(0.1, 60)))
    def sow_from_two(self, at: int, grams: tuple[float, float]) -> None:
        batch = self.batch(at, "planned")
        lots = list(self.ctx.rows(Lot).filter(form="seed").order_by("id"))
        if batch is not None:
            same = [lot for lot in lots if lot.crop_id == batch.crop_id][:2] or lots[:2]
            taken = [{"lot_id": lot.pk, "quantity": f"{g:.3f} g"} for lot, g in zip(same, grams, strict=False)]
            self.post(f"/batches/{batch.pk}/sown", {"on": self.day(0), "lots": taken})

    @rule(at=numbers, stage=st.none() | st.sampled_from(PLUG_STAGES), back=st.integers(-1, 6), place=st.none() | few)
    def move_on(self, at: int, stage: str | None, back: int, place: int | None) -> None:
        batch = self.batch(at, "sown")
        if batch is not None:
            coming = batch.stages.filter(actual_start=None).order_by("order").first()
            named = stage or (coming.key if coming else "grow")
            where = self.pick(self.ctx.rows(Place).order_by("id"), place).pk if place is not None else None
            self.post(f"/batches/{batch.pk}/moved", {"stage": named, "on": self.day(back), "place_id": where})

    @rule(at=numbers, found=st.integers(0, 245), trays=st.integers(1, 8), back=st.integers(-1, 6))
    def count(self, at: int, found: int, trays: int, back: int) -> None:
        batch = self.batch(at, "sown")
        if batch is not None:
            self.once(
                f"/batches/{batch.pk}/counts",
                {"trays": [{"sampled": 240, "found": found}] * trays, "on": self.day(back)},
            )

    @rule(at=numbers, lost=st.integers(1, 6000), back=st.integers(-1, 9))
    def lose(self, at: int, lost: int, back: int) -> None:
        batch = self.batch(at, "sown", "ready")
        if batch is not None:
            self.once(f"/batches/{batch.pk}/losses", {"lost": lost, "cause": "slugs", "on": self.day(back)})

    @rule(at=numbers, good=st.integers(0, 12_000), out=st.integers(0, 500), back=st.integers(-1, 3))
    def grade(self, at: int, good: int, out: int, back: int) -> None:
        batch = self.batch(at, "sown")
        if batch is not None:
            body = {"good": good, "out": [{"cause": "thin", "count": out}], "on": self.day(back)}
            self.once(f"/batches/{batch.pk}/graded", body)

    @rule(at=numbers, lot=numbers, quantity=st.integers(0, 9000), short=st.booleans())
    def deliver(self, at: int, lot: int, quantity: int, short: bool) -> None:
        line = self.line(at)
        stock = (
            self.pick(self.ctx.rows(Lot).exclude(form="seed").order_by("-id"), lot // 9) or self.ctx.rows(Lot).first()
        )
        if line is not None and stock is not None and at % 4:
            line = self.ctx.rows(OrderLine).filter(crop=stock.crop_id).order_by("id").first() or line
        if line is not None and stock is not None:
            picks = [{"line_id": line.pk, "lot_id": stock.pk, "quantity": quantity}]
            told = [{"line_id": line.pk, "cause": "frost"}] if short else []
            self.once("/deliveries", {"order_id": line.order_id, "on": self.day(0), "picks": picks, "short": told})

    @rule(at=numbers, reason=st.sampled_from(["", "gave up"]))
    def cancel(self, at: int, reason: str) -> None:
        line = self.line(at)
        if line is not None:
            self.post(f"/order-lines/{line.pk}/cancel", {"reason": reason})

    @rule(at=numbers, quantity=st.sampled_from(["10", "24000", "3k", "x"]), weeks=st.integers(-1, 12))
    def change_order(self, at: int, quantity: str, weeks: int) -> None:
        line = self.line(at)
        if line is not None:
            due = str(self.ctx.today + timedelta(weeks=weeks))
            self.post(
                f"/order-lines/{line.pk}",
                {"version": line.version, "quantity": quantity, "due": due, "until": due},
                "patch",
            )

    @rule(asked=st.lists(st.tuples(COMMANDS, numbers, numbers), min_size=1, max_size=3), stale=few, undo=st.booleans())
    def propose_for_orders(self, asked: list[tuple[dict[str, Any], int, int]], stale: int, undo: bool) -> None:
        """Lines are changed, split, joined, given and covered, several at once; now and then taken back at once."""
        commands = []
        for command, at, other in asked:
            line, batch = self.line(at), self.pick(self.ctx.rows(Batch).order_by("id"), other)
            lot, joined = self.pick(self.ctx.rows(Lot).order_by("id"), other), self.line(other)
            named = {"batch": batch, "lot": lot, "other": joined}
            more = {name: named[name].pk for name in command["named"] if named[name] is not None}
            given = {"do": command["do"], "line": line.pk if line else None, "typed": command["typed"]}
            commands.append({**given, **more})
        body = {"commands": commands, "cover": bool(asked[0][1] % 2)}
        status, told = self.post("/proposals/preview", body)
        if status != 200:
            return
        versions = {one: version - (not stale) for one, version in told["versions"].items()}
        before = rows_now()
        status, kept = self.post("/proposals/keep", {**body, "versions": versions})
        assert (status == 200) == (stale > 0 or not versions), (body, kept)
        if status == 200 and undo:
            self.post(f"/proposals/{kept['id']}/undo", {})
            left = list(differences(before, rows_now()))
            assert not left, (body, left[:3])

    @rule(at=numbers)
    def end(self, at: int) -> None:
        batch = self.batch(at, "sown", "ready", "planned")
        if batch is not None and at % 3 == 0:
            self.post(f"/batches/{batch.pk}/end", {"cause": "composted"})

    @rule(at=numbers)
    def resow(self, at: int) -> None:
        batch = self.batch(at, "sown")
        if batch is not None:
            self.post(f"/batches/{batch.pk}/resow", {"version": batch.version})

    @rule(at=numbers, lift=st.booleans(), one=st.booleans())
    def hold_or_lift(self, at: int, lift: bool, one: bool) -> None:
        lot = self.pick(self.ctx.rows(Lot).order_by("id"), at)
        held = self.ctx.rows(Hold).order_by("-id").first()
        if lot is not None and held is not None and lift:
            self.once(f"/holds/{held.pk}/lift", {"reason": "sound", "lot_id": lot.pk if one else None})
        elif lot is not None and at % 3 == 0:
            self.once(f"/lots/{lot.pk}/hold", {"reason": "a spot on the leaf"})

    @rule(at=numbers)
    def undo(self, at: int) -> None:
        event = self.pick(self.ctx.rows(AuditEvent).order_by("-id")[:12], at)
        if event is not None:
            self.post(f"/audit/{event.pk}/undo", {})

    @rule(at=numbers)
    def take_back_and_let_stand(self, at: int) -> None:
        """Whatever was recorded goes back with what rests on it; let stand again, everything is where it was."""
        event = self.pick(self.ctx.rows(AuditEvent).filter(undone_by=None).order_by("-id")[:12], at)
        if event is None:
            return
        before = rows_now(reckoned=False)
        status, back = self.post(f"/acts/{event.pk}/back", {}, "get")
        if status != 200:
            return
        known = [one["id"] for one in (*back["events"], *back["rests"])]
        status, done = self.post(f"/acts/{event.pk}/take-back", {"reason": "tried", "known": known})
        if status == 200:
            status, told = self.post(
                f"/acts/{done['id']}/take-back", {"reason": "right after all", "known": [done["id"]]}
            )
            assert status == 200, told
        assert list(differences(before, rows_now(reckoned=False))) == []

    @rule(
        at=few,
        active=st.booleans(),
        capacity=st.sampled_from([0, 20, 60, 500]),
        kind=st.sampled_from(["bench", "tunnel", "germination"]),
    )
    def change_place(self, at: int, active: bool, capacity: float, kind: str) -> None:
        place = self.pick(self.ctx.rows(Place).order_by("id"), at)
        body = {
            "name": place.name,
            "kind": place.kind if at % 2 else kind,
            "capacity": capacity,
            "gangway": 0.1,
            "active": active,
            "set_point_c": place.set_point_c,
            "cooled_to_c": place.cooled_to_c,
            "excess_c": place.excess_c,
        }
        self.post(f"/places/{place.pk}", body, "patch")

    @rule(
        cells=st.sampled_from([0, 104, 160, 240, 300]),
        days=st.integers(-1, 40),
        keeps=st.floats(0.4, 1.1),
        back=st.booleans(),
    )
    def change_library(self, cells: int, days: int, keeps: float, back: bool) -> None:
        """As somebody who corrects a tray and a method does; what runs was planned with what it was."""
        self.post("/library/container/tray-240", {"values": {"cells": cells}})
        stages = plain_values(Library(self.ctx).get(Method, "plug-single-pak-choi"))["stages"]
        for stage in stages:
            stage.update({"days": days, "keeps": keeps} if stage["key"] == "grow" else {})
        status, told = self.post("/library/method/plug-single-pak-choi", {"values": {"stages": stages}})
        if back and status == 200:
            self.post(f"/editions/{told[-1]['id']}/take-back", {})

    @rule(
        slug=st.sampled_from(["pak-choi", "endive", "zinnia"]),
        percent=st.sampled_from(["40", "95 %", "130", ""]),
        retire=st.booleans(),
    )
    def change_crop(self, slug: str, percent: str, retire: bool) -> None:
        """As on the screen: the form of a crop typed over, its usual method retired and written again."""
        _, form = self.post(f"/library/crop/{slug}", {}, "get")
        self.post(f"/library/crop/{slug}/typed", {"typed": {**form["typed"], "germination": percent}})
        if retire:
            _, method = self.post(f"/library/method/plug-single-{slug}", {}, "get")
            self.post(f"/library/method/plug-single-{slug}/retire", {"reason": "no more"})
            self.post("/batches/plan-lines", {})
            self.post(f"/library/method/plug-single-{slug}/typed", {"typed": method["typed"]})

    @rule(
        at=numbers,
        words=st.sampled_from(["Bok salad", "Pak choi 104", "plug 77", "9 cm"]),
        keep=st.booleans(),
        settle=st.booleans(),
    )
    def order_in_own_words(self, at: int, words: str, keep: bool, settle: bool) -> None:
        if settle:
            self.post(
                "/orders/words",
                {"column": "crop", "said": "bok salad", "means": ("pak-choi", "endive", "tree")[at % 3]},
            )
        crop, form = (words, "plug") if words[0] in "BP" else ("Zinnia", words)
        due = str(self.ctx.today + timedelta(weeks=2 + at % 15))
        rows = [order_row(order=uuid.uuid4().hex[:6], crop=crop, form=form, quantity=str(1 + at % 900), due=due)]
        waited: list[int] = []
        if at % 2:
            waiting = self.client.get("/api/orders/waiting").json()
            rows, waited = rows + waiting["rows"], waiting["waited"]
        self.post("/orders", {"rows": rows, "keep": keep, "waited": waited if keep else []})
        self.post("/batches/plan-lines", {})

    @rule(at=numbers, grams=st.floats(0.1, 300), germination=st.integers(1, 100), stale=st.integers(0, 5))
    def give_seed(self, at: int, grams: float, germination: int, stale: int) -> None:
        crop = Library(self.ctx).get(Crop, ("pak-choi", "endive", "zinnia")[at % 3])
        body = {"crop_id": crop.pk, "quantity": f"{grams:.2f} g", "germination_percent": germination}
        status, lot = self.post("/lots", body)
        if status != 200:
            return
        waiting = self.client.get(f"/api/lots/{lot['id']}/waiting").json()
        chosen = {str(one["batch_id"]): one["version"] - (stale == 1) for one in waiting[: 1 + at % 4]}
        self.post(f"/lots/{lot['id']}/give", {"batches": chosen})

    @rule(part=st.booleans(), first=st.integers(-3, 40), days=st.integers(-1, 12), closed=st.booleans())
    def change_house_rules(self, part: bool, first: int, days: int, closed: bool) -> None:
        self.post("/organisation", {"part_trays": part}, method="patch")
        body = {"day": self.day(-first), "until": self.day(-first - days), "name": "holiday", "closed": closed}
        self.post("/closed-days", body)
        self.ctx.organisation.refresh_from_db()

    @rule()
    def plan_again(self) -> None:
        self.post("/batches/plan-again", {})

    @rule(days=st.integers(1, 25))
    def time_passes(self, days: int) -> None:
        if self.ctx.today < date(2029, 1, 1):
            advance(self.ctx, self.ctx.today + timedelta(days=days))

    @rule(at=numbers)
    def send_again(self, at: int) -> None:
        """A repeat gets the first answer, whatever has happened since."""
        entry = self.pick(self.sent, at)
        if entry is not None:
            self.repeat(*entry)

    def repeat(self, path: str, body: dict[str, Any], first: int | None) -> None:
        status, told = self.post(path, body)
        assert (status, told.get("id")) == (200, first), (path, body, status, told)

    def teardown(self) -> None:
        """When all is over, whatever was ever sent may come once more, and nothing comes of it."""
        if not hasattr(self, "ctx") or sys.exc_info()[0] is not None:
            return
        for batch in self.ctx.rows(Batch).filter(state__in=("sown", "ready")):
            self.post(f"/batches/{batch.pk}/end", {"cause": "the season is over"})
        self.known = facts_of(self.ctx)
        for entry in self.sent:
            self.repeat(*entry)
        self.what_has_happened_stays()

    @rule(at=numbers, other=numbers, which=st.integers(0, 3))
    def two_at_once(self, at: int, other: int, which: int) -> None:
        batch, entry = self.batch(at, "sown", "planned"), {"client_uuid": str(uuid.uuid4())}
        if batch is None:
            return
        line = batch.allocations.first()
        asked: list[tuple[str, dict[str, Any]]] = [
            (f"/batches/{batch.pk}/losses", {**entry, "lost": 3, "cause": "slugs", "on": self.day(0)}),
            ("/batches/plan-lines", {}),
            (f"/batches/{batch.pk}/sown", {"on": self.day(0)}),
            (f"/order-lines/{line.order_line_id}/cancel" if line else "/batches/plan-lines", {"reason": "gave up"}),
        ]
        answers: list[tuple[int, Any]] = []
        both = (asked[which], asked[which] if other % 2 else asked[other % 4])
        threads = [threading.Thread(target=self._elsewhere, args=(path, body, answers)) for path, body in both]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert len(answers) == 2, "an answer is missing: a crash"
        if which == 0 and other % 2 and {status for status, _ in answers} == {200}:
            assert answers[0][1]["id"] == answers[1][1]["id"]
        served = [
            row.order_line_id
            for row in batch.allocations.model.objects.filter(
                order_line__organisation=self.ctx.organisation, batch__tops_up=None, batch__note=""
            )
        ]
        assert which != 1 or len(served) >= len(set(served))

    def _elsewhere(self, path: str, body: dict[str, Any], answers: list[tuple[int, Any]]) -> None:
        try:
            answers.append(self.post(path, body, client=self.signed_in()))
        finally:
            connections.close_all()

    @invariant()
    def what_has_happened_stays(self) -> None:
        if not hasattr(self, "ctx"):
            return
        now = facts_of(self.ctx)
        said = broken(self.known, now) + wrong(self.ctx)
        assert not said, said[:6]
        self.known = now


class SeedSeason(Season):
    """A house that grows seed: blocks, own lots, and the same invariants."""

    @initialize()
    def opens(self) -> None:
        name = uuid.uuid4().hex[:8]
        self.ctx = make_house(name, username=name)
        advance(self.ctx, SPRING)
        make_seed_house(self.ctx)
        self.lines = [parent_seed(self.ctx, "AA-1"), parent_seed(self.ctx, "RR-2", label="B-2")]
        self.client = self.signed_in()
        row = order_row(
            crop="Sunflower", cultivar="Testhybrid", form="seed", quantity="900 kg", due="2027-W44", until="2027-W46"
        )
        self.post("/orders", {"rows": [row]})
        self.post("/batches/plan-lines", {})
        field = self.ctx.rows(Place).get(name="Long field")
        self.post("/seed-blocks", {"batch_id": self.ctx.rows(Batch).get().pk, "field_id": field.pk, "bearing_deg": 0})

    def block(self) -> SeedBlock | None:
        return self.ctx.rows(SeedBlock).order_by("id").first()

    @rule(
        kilos=st.sampled_from(["250 g", "40 kg", "1.2 t", "9000 seeds", "5 packets of 1,000 seeds"]),
        week=st.integers(40, 50),
    )
    def order_seed(self, kilos: str, week: int) -> None:
        row = order_row(
            order=uuid.uuid4().hex[:6],
            crop="Sunflower",
            cultivar="Testhybrid",
            form="seed",
            quantity=kilos,
            due=f"2027-W{week}",
        )
        self.post("/orders", {"rows": [row]})
        self.post("/batches/plan-lines", {})

    @rule(at=numbers, other=st.booleans())
    def lay_out(self, at: int, other: bool) -> None:
        batch, field = self.batch(at), self.ctx.rows(Place).get(name="Far field" if other else "Long field")
        if batch is not None:
            self.post("/seed-blocks", {"batch_id": batch.pk, "field_id": field.pk})

    @rule(
        change=st.fixed_dictionaries(
            {},
            optional={
                "pattern": st.sampled_from(["FFMM", "FFFFFFMM", "FM", "X"]),
                "row_spacing_m": st.sampled_from([0.7, 0.8, -1]),
                "border_rows": st.integers(0, 6),
                "planter_rows": st.integers(0, 8),
                "male_sowings": st.integers(0, 3),
            },
        ),
        days=st.integers(-9, 30),
        undo=st.booleans(),
    )
    def change_layout(self, change: dict[str, Any], days: int, undo: bool) -> None:
        block = self.block()
        if block is None:
            return
        change = {**change, "sow_on": {"M": str(date(2027, 4, 10) + timedelta(days=days))}} if days % 2 else change
        status, told = self.post(f"/seed-blocks/{block.pk}/preview", change)
        if status == 200:
            self.post(f"/seed-blocks/{block.pk}/keep", {**change, "version": told["version"]})
        if undo:
            self.post(f"/seed-blocks/{block.pk}/undo", {})

    @rule(
        role=st.sampled_from("FMS"),
        kg=st.sampled_from(["3.5 kg", "0", "900 kg", "12 lb"]),
        back=st.integers(-1, 5),
        lot=st.integers(0, 1),
    )
    def sow_line(self, role: str, kg: str, back: int, lot: int) -> None:
        block = self.block()
        if block is not None:
            body = {
                "role": role,
                "lot_id": self.lines[lot].pk,
                "kg": kg,
                "on": self.day(back),
            }
            self.once(f"/seed-blocks/{block.pk}/sown", body)

    @rule()
    def sow_both(self) -> None:
        block = self.block()
        if block is not None:
            for role, lot in zip("FM", self.lines, strict=True):
                body = {
                    "role": role,
                    "lot_id": lot.pk,
                    "kg": "3.5 kg",
                    "on": self.day(0),
                }
                self.once(f"/seed-blocks/{block.pk}/sown", body)

    @rule(role=st.sampled_from("FM"), stage=st.sampled_from(["star-bud", "first-flower", "x"]), back=st.integers(-1, 9))
    def see(self, role: str, stage: str, back: int) -> None:
        block = self.block()
        if block is not None:
            body = {"role": role, "stage": stage, "on": self.day(back)}
            self.once(f"/seed-blocks/{block.pk}/seen", body)

    @rule(at=few, faults=st.integers(0, 9), decision=st.sampled_from(["accept", "rogue", "reject", "downgrade"]))
    def inspect(self, at: int, faults: int, decision: str) -> None:
        block = self.block()
        visit = self.pick(block.inspections.order_by("number"), at) if block else None
        if visit is None:
            return
        status, begun = self.post(f"/inspections/{visit.pk}/begin", {})
        if status == 200 and begun["areas"]:
            entries = [
                {
                    "client_uuid": str(uuid.uuid4()),
                    "area": n + 1,
                    "plants": begun["plants_per_area"],
                    "faults": {"off_types": faults} if n == 0 else {},
                }
                for n in range(begun["areas"])
            ]
            self.post(f"/inspections/{visit.pk}/counts", {"entries": entries})
            self.post(f"/inspections/{visit.pk}/sign", {"decision": decision})

    @rule(at=few, metres=st.integers(-5, 160), side=st.sampled_from(["north", "east", "west"]), part=st.booleans())
    def judge_otherwise(self, at: int, metres: int, side: str, part: bool) -> None:
        """A part rejected, or a visit dispensed with."""
        block = self.block()
        visit = self.pick(block.inspections.order_by("number"), at) if block else None
        if visit is not None and part:
            body = {"side": side, "metres": str(metres), "reason": "volunteers"}
            self.post(f"/inspections/{visit.pk}/reject-part", body)
        elif visit is not None:
            self.post(f"/inspections/{visit.pk}/dispense", {"given_by": "the office", "reason": "seen before"})

    @rule(back=st.integers(-1, 9))
    def all_in(self, back: int) -> None:
        block = self.block()
        if block is not None:
            self.post(f"/seed-blocks/{block.pk}/all-in", {"on": self.day(back)})

    @rule(back=st.integers(-1, 9))
    def male_out(self, back: int) -> None:
        block = self.block()
        if block is not None:
            self.once(f"/seed-blocks/{block.pk}/male-out", {"on": self.day(back), "how": "cut and destroyed"})

    @rule(net=st.integers(-5, 3000), moisture=st.floats(5, 30), back=st.integers(-1, 3))
    def harvest(self, net: int, moisture: float, back: int) -> None:
        block = self.block()
        if block is not None:
            body = {
                "on": self.day(back),
                "gross": f"{7000 + net} kg",
                "tare": "7000 kg",
                "moisture_percent": moisture,
                "equipment_clean": True,
            }
            self.once(f"/seed-blocks/{block.pk}/harvest", body)

    def own(self, at: int) -> Lot | None:
        found: Lot | None = self.pick(self.ctx.rows(Lot).exclude(status="").order_by("id"), at)
        return found

    @rule(at=few, to=st.floats(1, 20), weighed=st.none() | st.integers(0, 3000))
    def dry(self, at: int, to: float, weighed: int | None) -> None:
        lot = self.own(at)
        if lot is not None:
            body = {"on": self.day(0), "to_percent": to}
            self.once(f"/lots/{lot.pk}/drying", body if weighed is None else {**body, "mass_after": f"{weighed} kg"})

    @rule(at=few, share=st.floats(0.1, 1.1), clean=st.floats(0.5, 1.0))
    def clean(self, at: int, share: float, clean: float) -> None:
        lot = self.own(at)
        if lot is not None:
            kg = float(lot.balance) / 1000 * share
            body = {
                "on": self.day(0),
                "lots": [{"lot_id": lot.pk, "kg": f"{kg:.2f} kg"}],
                "clean": f"{kg * clean:.2f} kg",
                "screenings": f"{kg * (1 - clean):.2f} kg",
                "reason": "dust",
            }
            self.once("/cleaning", body)

    @rule(at=few, good=st.integers(60, 100), decision=st.sampled_from(["release", "hold", "reject", "downgrade"]))
    def test_and_decide(self, at: int, good: int, decision: str) -> None:
        lot = self.own(at)
        if lot is None:
            return
        for kind, more in (
            ("germination", {"normal": [good] * 4}),
            ("purity", {"pure_g": 99.2, "inert_g": 0.6, "other_g": 0.2}),
            ("moisture", {"duplicates": [8.9, 9.0]}),
            ("other_seeds", {"seeds_found": 1, "sample_g": 500}),
        ):
            self.once(f"/lots/{lot.pk}/results", {"kind": kind, "tested_on": self.day(0), **more})
        self.once(f"/lots/{lot.pk}/verdicts", {"decision": decision, "reason": "as it is"})


# Hypothesis runs a machine's methods named like tests as rules only; Django must not collect them.
def steps(examples: int, count: int) -> settings:
    # No shrinking: a season that went wrong is told step by step, and making it shorter takes minutes.
    return settings(
        max_examples=examples,
        stateful_step_count=count,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        database=None,
        derandomize=not LONG,
        report_multiple_bugs=False,
        phases=[Phase.generate],
    )


class RandomSeasons(TransactionTestCase):
    def setUp(self) -> None:
        ensure_library()

    def test_plants_whatever_people_do_what_has_happened_stays(self) -> None:
        run_state_machine_as_test(Season, settings=steps(160, 45) if LONG else steps(7, 30))

    def test_seed_whatever_people_do_what_has_happened_stays(self) -> None:
        run_state_machine_as_test(SeedSeason, settings=steps(70, 45) if LONG else steps(4, 30))

    def test_every_screen_that_is_kept_is_looked_at(self) -> None:
        self.assertEqual(sorted(RESTS), sorted(ASKED))

    def test_the_invariants_see_what_they_are_there_to_see(self) -> None:
        """Each kind of fact, falsified by hand, is told."""
        ctx = make_house()
        lot = seed_lot(ctx)
        before = facts_of(ctx)
        self.assertEqual(broken(before, facts_of(ctx)), [])
        Lot.objects.filter(pk=lot.pk).update(balance=3)
        self.assertEqual(len(wrong(ctx)), 1)
        lot.movements.all().update(quantity=3)
        self.assertTrue(broken(before, facts_of(ctx)))
        self.assertEqual(TODAY, ctx.today)
