"""Every view and sheet at every size that hands hold: nothing cut off, nothing overprinted, one thing that scrolls, axe silent."""

import re
import time
from datetime import timedelta
from typing import Any
from uuid import uuid4

from django.conf import settings
from django.core.management import call_command

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import Member, User
from aldrip.archive.services import begin_with
from aldrip.batches.models import Batch, BatchStage
from aldrip.deliveries.models import Delivery
from aldrip.lots.models import Lot
from aldrip.lots.services import receive
from aldrip.methods.library import load_library
from aldrip.methods.models import Crop
from aldrip.methods.resolver import Library
from aldrip.orders.models import OrderLine
from aldrip.seedcrops.models import Inspection, SeedBlock
from aldrip.sowing.trays import record as write_trays
from aldrip.stockplants import tuber_store
from aldrip.stockplants.models import MotherPlan, MotherStock, TuberStack
from aldrip.stockplants.planning import Asked, keep
from aldrip.stockplants.services import Planted, cut, index, plant, read_habit
from aldrip_core.mother_plan import Raising
from aldrip_core.tuber_store import StoreHabit
from aldrip_core.units import Quantity, Unit
from tests.browser.driver import BrowserCase

LOOK = (settings.ROOT / "tests" / "browser" / "look.js").read_text(encoding="utf-8")
#: Looked at once it is drawn anew.
DRAWN = f"""const done = arguments[0]; const look = () => {{ {LOOK} }};
requestAnimationFrame(() => requestAnimationFrame(() => setTimeout(() => done(look()), 30)))"""
GOLDEN = settings.ROOT / "tests" / "golden" / "archive-1.zip"
#: Width, height, size of text in percent, sun mode. 640 × 400 is a laptop at 200 %.
DESK = (1280, 800, 100, False)
PHONE = (390, 844, 100, False)
SIZES = (
    PHONE,
    (820, 1180, 100, False),
    DESK,
    (1920, 1080, 100, False),
    (640, 400, 100, False),
    (1280, 800, 125, False),
    (390, 844, 100, True),  # where sun mode is needed
)


class Walk(BrowserCase):
    maxDiff = None

    def setUp(self) -> None:
        super().setUp()
        call_command("flush", interactive=False, verbosity=0)
        load_library()
        with GOLDEN.open("rb") as file:
            begin_with(file)
        someone = User.objects.get(username="manager")
        someone.set_password("a long password")
        someone.save()
        self.furnish()
        self.sign_in("manager")

    def furnish(self) -> None:
        """What the first release did not have yet."""
        one = Member.objects.select_related("organisation", "user").get(user__username="manager")
        ctx = Ctx(one.organisation, one.user, one.role)
        crop = Library(ctx).rows(Crop).order_by("pk")[0]
        spec = Planted(crop.pk, 40, read_habit("1, 15 %, 6", 4, 35), planted_on=ctx.today - timedelta(weeks=9))
        stock = plant(ctx, spec, uuid4())
        cut(ctx, stock.pk, cuttings=60, into="stock", client_uuid=uuid4())
        index(ctx, stock.pk, what="grey mould", sound=True, client_uuid=uuid4())
        raising = Raising(read_habit("1, 15 %, 6", 4, 35), 2, 3, 0.9, 2, 0.95)
        asked = Asked(crop.pk, raising, many=(900.0,) * 9, from_on=ctx.today + timedelta(weeks=20))
        keep(ctx, asked, None, uuid4())
        tubers = receive(ctx, crop_id=crop.pk, line_id=None, quantity=Quantity.of(9000, Unit.TUBER), form="tuber")
        load = [tuber_store.Load(2, 300, 40, 120), tuber_store.Load(3, 60, 60, 80)]
        stood = tuber_store.stand(ctx, tubers.pk, load, StoreHabit(), place_id=None, on=None, client_uuid=uuid4())
        tuber_store.look(ctx, stood[0].pk, trays=2, looked=200, bad=30, limit=0.02, client_uuid=uuid4(), sprout_mm=3)
        filled = (
            Batch.objects.filter(state="sown", container__isnull=False).select_related("container").order_by("pk")[0]
        )
        assert filled.container is not None
        write_trays(ctx, name=filled.container.name, what="counted", many=300, clean=80, lasts=9, client_uuid=uuid4())
        for damaged in (8, 11, 9, 70):
            tuber_store.sample(ctx, crew="Crew 1", looked=400, damaged=damaged, client_uuid=uuid4())

    def views(self) -> dict[str, list[str]]:
        """Addresses by the room's route, and what is pressed there to open what lies over it."""
        block = SeedBlock.objects.order_by("pk")[0]
        sown = Batch.objects.filter(state="sown", method__way="plants").order_by("pk")[0]
        visit = Inspection.objects.filter(block=block).order_by("number")[0]
        own = Lot.objects.exclude(status="").order_by("pk")[0]
        line = OrderLine.objects.filter(state="open").order_by("pk")[0]
        note = Delivery.objects.order_by("pk")[0]
        potted = BatchStage.objects.filter(kind__in=("pot", "space", "prick")).order_by("pk")[0]
        return {
            "/diary": ["/diary", "/diary > Add a task", "/diary > key ?", "/diary > key /", "/diary > key w"],
            "/orders": [
                "/orders",
                f"/orders?line={line.pk}",
                "/orders?new=1",
                "/orders > Can we take it?",
                "/orders > A succession",
                "/orders > How sure is it?",
            ],
            "/orders/import": ["/orders/import"],
            "/orders/customers": ["/orders/customers", f"/orders/customers?name={line.order.customer}"],
            "/methods": ["/methods", "/methods?kind=crop", "/methods?kind=crop&act=new", "/methods?act=yaml"],
            "/places": ["/places", "/places?add=field", "/places > Lay out beds"],
            "/batches": ["/batches?view=board", "/batches?view=list", "/batches > New batch", "/batches > Level"],
            "/batches/$id": [f"/batches/{sown.pk}", f"/batches/{sown.pk}?do=count"],
            "/sowing": [
                "/sowing",
                f"/sowing?card={sown.pk}",
                f"/sowing?later={potted.batch_id}.{potted.key}",
                "/sowing > Count trays",
            ],
            "/stockplants": [
                "/stockplants",
                f"/stockplants?stock={MotherStock.objects.order_by('pk')[0].pk}",
                "/stockplants > Plant mothers",
                "/stockplants?plan=new",
                f"/stockplants?plan={MotherPlan.objects.order_by('pk')[0].pk}",
            ],
            "/stockplants/tubers": [
                "/stockplants/tubers",
                f"/stockplants/tubers?stack={TuberStack.objects.order_by('first')[0].pk}",
                "/stockplants/tubers > Stand tubers",
                "/stockplants/tubers > Planting list",
            ],
            "/seedcrops": ["/seedcrops"],
            "/seedcrops/$id": [f"/seedcrops/{block.pk}"],
            "/seedcrops/$id/isolation": [f"/seedcrops/{block.pk}/isolation"],
            "/seedcrops/$id/harvest": [f"/seedcrops/{block.pk}/harvest"],
            "/seedcrops/inspections/$id": [f"/seedcrops/inspections/{visit.pk}"],
            "/lots": [
                "/lots",
                f"/lots?lot={own.pk}",
                "/lots?view=buy",
                "/lots?view=week",
                "/lots > Receive seed or plants",
            ],
            "/deliveries": [
                "/deliveries",
                f"/deliveries?note={note.pk}",
                f"/deliveries?line={line.pk}",
                f"/deliveries?grade={sown.pk}",
            ],
            "/house": ["/house"],
        }

    def test_no_room_is_left_out(self) -> None:
        routes = (settings.ROOT / "web" / "src" / "routes.tsx").read_text(encoding="utf-8")
        named = set(re.findall(r"\bat\(\s*\"(/[^\"]+)\"", routes))
        self.assertEqual(named, set(self.views()))

    def test_every_view_at_every_size(self) -> None:
        wrong: list[str] = []
        for view in [*(one for some in self.views().values() for one in some), "/no/such/room"]:
            path, _, press = view.partition(" > ")
            self.size(1280, 800)
            self.open(path)
            self.rests()
            for size in SIZES if not press else (DESK, PHONE):
                self.as_if(*size)
                if press:
                    self.open(path)
                    self.rests()
                if press.startswith("key "):
                    self.keys(press.removeprefix("key "))
                elif press:
                    self.press(press)
                if press:
                    self.rests()
                width, height, text, sun = size
                where = f"{view} at {width} × {height}{', 125 %' if text > 100 else ''}{', in the sun' if sun else ''}"
                wrong += [f"{where}: {what}" for what in self.driver.execute_async_script(DRAWN)]
                if size == PHONE:  # where a thing to press may be too small
                    wrong += [f"{where}: {what}" for what in self.axe(target_size=True)]
            self.as_if(*DESK)
        self.assertEqual(wrong, [])
        self.assertEqual(self.complaints(), [])

    def as_if(self, width: int, height: int, text: int, sun: bool) -> None:
        self.size(width, height)
        self.driver.execute_script(
            "document.documentElement.dataset.size = arguments[0]; document.documentElement.dataset.sun = arguments[1]",
            str(text),
            "on" if sun else "off",
        )

    def rests(self) -> None:
        """Wait until the page has not changed for a moment and nothing is being fetched."""
        end, last, since = time.monotonic() + 20, "", time.monotonic()
        while time.monotonic() < end:
            now: Any = self.driver.execute_script(
                "return document.body.innerText.length + ' ' + document.querySelectorAll('*').length + ' ' +"
                "(document.querySelector('main')?.scrollHeight ?? 0) + (document.querySelector('h1') && !document.body.innerText.includes('Fetching') ? '' : Math.random())"
            )
            if now != last:
                last, since = now, time.monotonic()
            elif time.monotonic() - since > 0.12:
                return
            time.sleep(0.03)
