"""A small nursery for the tests, set up with the services that people use; its figures are invented."""

import uuid
from datetime import date
from typing import Any, Self

from django.test import Client, TestCase

from aldrip.accounts.context import ANYTHING, Ctx
from aldrip.accounts.models import Member, Organisation, Role, User
from aldrip.batches.models import Batch
from aldrip.lots import services as lots
from aldrip.lots.models import Lot
from aldrip.methods.library import load_library
from aldrip.methods.models import Crop, Line
from aldrip.methods.resolver import Library
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from aldrip.places.models import Site
from aldrip.places.services import PlaceSpec, add_place
from aldrip_core.units import Quantity, Unit

TODAY = date(2027, 7, 6)
COAST = [6, 7, 9.5, 12, 16, 20, 23, 23, 19.5, 15, 10, 7]
PLACES = (
    PlaceSpec("Shed", "shed", None),
    PlaceSpec("Room", "germination", 500, set_point_c=18.5, cooled_to_c=18.5),
    PlaceSpec("Bench 1", "bench", 60, set_point_c=18, excess_c=3),
    PlaceSpec("Bench 2", "bench", 60, set_point_c=18, excess_c=3),
    PlaceSpec("Tunnel", "tunnel", 200, excess_c=3),
    PlaceSpec("Hot bed", "hotbed", 40, set_point_c=27),
    PlaceSpec("Store", "store", 80, cooled_to_c=8),
)


#: Tests of anything else answer every question about a value that is far from the plan.
SURE = {
    "X-Sure": "fields_move,all_in,after_the_end,overlap,apart,set_aside,male_out,harvest_day,seen,visit,sown,grams,cells,emerged,lost,good,germination,tgw,load"
}


#: Routes that take a file, not JSON; their own tests send junk.
FILES = {"/orders/import/file", "/archive", "/sites/{ref:site_id}/weather/file"}


def make_house(name: str = "Test Nursery", role: str = Role.MANAGER, username: str = "ada") -> Ctx:
    """A nursery on a practice date, with places and one person."""
    organisation = Organisation.objects.create(
        name=name, practice_date=TODAY, working_days=[0, 1, 2, 3, 4], sowing_days=[1, 4], safety_days=5
    )
    user = User.objects.create_user(username, password="a long password")
    Member.objects.create(user=user, organisation=organisation, role=role)
    site = Site.objects.create(organisation=organisation, name="Yard", latitude=41.6, monthly_c=COAST)
    ctx = Ctx(organisation, user, role, frozenset({ANYTHING}))  # nobody can be asked here
    for place in PLACES:
        add_place(ctx, site.pk, place)
    return ctx


def member(ctx: Ctx, username: str, role: str) -> User:
    """One more person of a nursery."""
    user = User.objects.create_user(username, password="a long password")
    Member.objects.create(user=user, organisation=ctx.organisation, role=role)
    return user


def seed_lot(ctx: Ctx, crop: str = "pak-choi", grams: float = 500, germination: float = 0.93) -> Lot:
    """A tested lot of seed."""
    found = Library(ctx).get(Crop, crop)
    line = Line.objects.filter(crop=found).first()
    return lots.receive(
        ctx,
        crop_id=found.pk,
        line_id=line.pk if line else None,
        quantity=Quantity.of(grams, Unit.GRAM),
        germination=germination,
        tgw_g=2.6,
        tested_on=date(2027, 3, 1),
        received_on=date(2027, 3, 10),
    )


def order_row(**more: str) -> dict[str, str]:
    """An order row as a person would type it."""
    row = {
        "order": "",
        "customer": "Greenlane Salads",
        "crop": "Pak choi",
        "cultivar": "",
        "form": "plug",
        "quantity": "12000",
        "due": "2027-W36",
        "until": "",
        "note": "",
    }
    return {**row, **more}


def take_order(ctx: Ctx, **more: str) -> OrderLine:
    """One saved order line."""
    return OrderLine.objects.get(pk=orders.take_in(ctx, [order_row(**more)])[0])


def advance(ctx: Ctx, day: date) -> None:
    """Move the practice clock, also backwards, which only a test may."""
    ctx.organisation.practice_date = day
    ctx.organisation.save(update_fields=["practice_date"])


def ensure_library() -> None:
    """The library that ships: it is in the database as a rule, except after a test that emptied all of it."""
    if not Crop.objects.filter(organisation=None).exists():
        load_library()


class HouseCase(TestCase):
    """A test case with the library and one nursery."""

    ctx: Ctx

    @classmethod
    def setUpTestData(cls) -> None:
        ensure_library()
        cls.ctx = make_house()

    @classmethod
    def teller(cls) -> Self:
        """Somebody who lives through a story once, for all tests of a class; what a test does to it is undone after it."""
        told = cls()
        HouseCase.setUp(told)
        return told

    def setUp(self) -> None:
        self.ctx.organisation.refresh_from_db()
        assert self.ctx.user is not None
        self.client = Client()
        self.client.force_login(self.ctx.user)

    def call(
        self,
        method: str,
        path: str,
        body: Any = None,
        *,
        status: int = 200,
        client: Client | None = None,
        sure: str | None = None,
    ) -> Any:
        """A call of the API; checks the status and gives the JSON. `sure`: what is said to be so, instead of the usual."""
        send = getattr(client or self.client, method)
        arguments = {} if body is None else {"data": body, "content_type": "application/json"}
        answer = send(f"/api{path}", headers=SURE if sure is None else {"X-Sure": sure}, **arguments)
        self.assertEqual(answer.status_code, status, answer.content[:800])
        return answer.json() if answer["Content-Type"].split(";")[0].endswith("json") else answer

    def post(self, path: str, body: Any = None, **more: Any) -> Any:
        return self.call("post", path, {} if body is None else body, **more)

    def get(self, path: str, **more: Any) -> Any:
        return self.call("get", path, **more)

    def planned(self, **more: str) -> tuple[OrderLine, Batch]:
        """An order line with its planned batch."""
        from aldrip.batches.starting import plan_lines

        line = take_order(self.ctx, **more)
        plan_lines(self.ctx, [line.pk])
        line.refresh_from_db()
        return line, Batch.objects.get(allocations__order_line=line)


def uid() -> str:
    return str(uuid.uuid4())
