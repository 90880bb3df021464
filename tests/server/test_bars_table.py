"""For every state of a lot, a field and an order: what bars release and delivery, on every route by which seed gets out."""

from collections.abc import Callable
from datetime import timedelta
from typing import Any

from django.db import transaction

from aldrip.batches.models import SetAside
from aldrip.deliveries.models import DeliveryItem
from aldrip.lots.models import Lot, Status, Verdict
from aldrip.orders.models import OrderLine
from aldrip.seedcrops.models import Inspection
from tests.server.house import advance, uid
from tests.server.seed_house import NEAR, SeedCase, sunflower

#: Routes by which seed gets out, or is said to be fit to: none may be open in a state that is not sound.
ROUTES = ("release", "deliver", "set_aside", "label", "seals")


class Table(SeedCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        told = cls.live_to_clean_seed()
        told.accept_all(cls.block)
        for kind in ("germination", "purity", "moisture"):
            told.result(cls.lot, kind)
        told.decide(cls.lot, "release")

    # What may be wrong, each done as people do it where there is a way, and by hand where only time does it.
    def lot_is(self, status: str) -> Callable[[], None]:
        def done() -> None:
            Lot.objects.filter(pk=self.lot.pk).update(status=status)

        return done

    def on_hold(self) -> None:
        self.post(f"/lots/{self.lot.pk}/hold", {"reason": "a complaint", "client_uuid": uid()})

    def parent_on_hold(self) -> None:
        parent = Lot.objects.get(line__name="AA-1")
        self.post(f"/lots/{parent.pk}/hold", {"reason": "virus in the mother line", "client_uuid": uid()})

    def too_old(self) -> None:
        advance(self.ctx, self.ctx.today + timedelta(days=900))

    def doubtful(self) -> None:
        self.result(self.lot, "germination", normal=[60, 61, 95, 96], reason="asked for")

    def lower_class(self) -> None:
        Lot.objects.filter(pk=self.lot.pk).update(seed_class="quality-declared")

    def field_rejected(self) -> None:
        Inspection.objects.filter(block=self.block, number=1).update(decision="reject")

    def visit_open(self) -> None:
        Inspection.objects.filter(block=self.block, number=2).update(state="open", decision="")

    def neighbour_too_near(self) -> None:
        self.post("/neighbours", {**self.neighbour(), "kind": "other cultivar"})

    def neighbour_not_measured(self) -> None:
        self.post("/neighbours", {**self.neighbour(), "kind": "seed-borne disease source"})

    def neighbour(self) -> dict[str, Any]:
        return {
            "name": "Bank",
            "crop_id": sunflower().pk,
            "year": 2027,
            "seen_on": str(self.ctx.today),
            "corners_m": NEAR,
        }

    def order_is(self, state: str) -> Callable[[], None]:
        def done() -> None:
            OrderLine.objects.update(state=state)

        return done

    # The routes.
    def go(self, route: str) -> int:
        lot, line = self.lot.pk, OrderLine.objects.get()
        if route == "release":
            body: dict[str, Any] = {"decision": "release", "client_uuid": uid()}
            return self.status(f"/lots/{lot}/verdicts", body)
        if route == "deliver":
            pick = {"line_id": line.pk, "lot_id": lot, "quantity": 17}
            body = {"order_id": line.order_id, "on": str(self.ctx.today), "client_uuid": uid(), "picks": [pick]}
            return self.status("/deliveries", body)
        if route == "set_aside":
            command = {"do": "give", "line": line.pk, "lot": lot, "quantity": "13 kg"}
            return self.status("/proposals/preview", {"commands": [command]})
        if route == "seals":
            return self.status(f"/lots/{lot}/seals", {"numbers": [uid()[:12]]})
        return int(self.client.get(f"/api/lots/{lot}/label.pdf").status_code)

    def status(self, path: str, body: Any) -> int:
        answer = self.client.post(f"/api{path}", body, content_type="application/json")
        if path.startswith("/proposals") and answer.status_code == 200 and answer.json()["problems"]:
            return 422  # told as what stands against it, and not kept
        return answer.status_code

    def test_every_state_bars_every_route_that_it_must(self) -> None:
        """A state bars all routes but those named beside it; in the sound one all are open."""
        every = set(ROUTES)
        states: dict[str, tuple[Callable[[], None], set[str]]] = {
            "sound": (lambda: None, every),
            **{
                f"lot {status}": (self.lot_is(status), {"release"} if status in (Status.CLEAN, Status.HELD) else set())
                for status in Status.values
                if status != Status.RELEASED
            },
            "lot on hold": (self.on_hold, {"seals"}),
            "parent on hold": (self.parent_on_hold, {"seals"}),
            "results too old": (self.too_old, {"seals", "set_aside"}),
            "result in doubt": (self.doubtful, set()),
            "class too low": (self.lower_class, {"label", "seals"}),
            "field rejected": (self.field_rejected, {"set_aside", "seals"}),
            "visit not signed": (self.visit_open, {"set_aside", "seals"}),
            "neighbour too near": (self.neighbour_too_near, {"seals"}),
            "neighbour not measured": (self.neighbour_not_measured, {"set_aside", "seals"}),
            **{
                f"order {state}": (self.order_is(state), every - {"deliver", "set_aside"})
                for state in OrderLine.State.values
                if state != OrderLine.State.OPEN
            },
        }
        for name, (spoil, open_routes) in states.items():
            for route in ROUTES:
                with self.subTest(state=name, route=route):
                    self.one(spoil, route, route in open_routes)

    def one(self, spoil: Callable[[], None], route: str, may: bool) -> None:
        with transaction.atomic():
            spoil()
            before = (Lot.objects.get(pk=self.lot.pk).balance, Verdict.objects.count(), SetAside.objects.count())
            status = self.go(route)
            self.assertEqual(status == 200, may, f"answered {status}")
            if not may:
                after = (Lot.objects.get(pk=self.lot.pk).balance, Verdict.objects.count(), SetAside.objects.count())
                self.assertEqual((before, DeliveryItem.objects.count()), (after, 0))
            transaction.set_rollback(True)
        self.ctx.organisation.refresh_from_db()
