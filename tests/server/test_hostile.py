"""Thousands of requests by the OpenAPI document, right and wrong, in a house that is in season: none breaks it."""

import os
import re
import resource
import time
from typing import Any
from uuid import UUID

import schemathesis
from django.test import Client
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase as PropertyCase
from schemathesis import GenerationMode

from aldrip.accounts.models import Member, Organisation, User
from aldrip.accounts.routes import ROUTES
from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.diary.models import Task
from aldrip.lots.models import Lot
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place, Site
from aldrip.seedcrops.models import Inspection, SeedBlock
from aldrip.urls import api
from tests.server.house import order_row, seed_lot
from tests.server.seed_house import SeedCase
from tests.server.test_permissions import BODIES

LONG = os.environ.get("ALDRIP_LONG") == "1"
REQUESTS = 30_000 if LONG else 2_000
SLOWEST_S = 10.0
MOST_KB = 700_000
#: What a question after "?" is needed for; a day or a thing is named there.
ASKED = {
    "/methods/schools": "?crop=endive",
    "/board": "?start=2027-06-07&end=2027-07-12",
    "/acts": "?subject=00000000-0000-4000-8000-000000000001",
}
VIEWS = [
    path + ASKED.get(path, "")
    for method, path, _ in ROUTES
    if method == "GET" and "{" not in path and path != "/customers/one"
]
#: Those by which somebody leaves, or which wait for a file; their own tests send them junk.
LEFT_OUT = {("delete", "/api/session"), ("post", "/api/archive"), ("post", "/api/setup/archive")}


def operations() -> list[Any]:
    schema = schemathesis.openapi.from_dict(api.get_openapi_schema())
    found = [result.ok() for result in schema.get_all_operations()]
    return [one for one in found if (one.method.lower(), one.path) not in LEFT_OUT and not one.path.endswith(".pdf")]


class Hostile(SeedCase, PropertyCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.live_to_july()
        seed_lot(cls.ctx)
        plan_lines(cls.ctx, orders.take_in(cls.ctx, [order_row(), order_row(order="2", quantity="300")]))
        rows = {
            "batch_id": Batch,
            "line_id": OrderLine,
            "lot_id": Lot,
            "block_id": SeedBlock,
            "inspection_id": Inspection,
            "task_id": Task,
            "place_id": Place,
            "site_id": Site,
            "member_id": Member,
        }
        cls.there = {name: list(model.objects.values_list("pk", flat=True)) for name, model in rows.items()}  # type: ignore[attr-defined]
        cls.operations = operations()

    def setUp(self) -> None:
        super().setUp()
        assert self.ctx.user is not None
        self.client = Client(raise_request_exception=False)
        self.client.force_login(self.ctx.user)

    def send(self, case: Any, pick: int) -> tuple[int, float, bytes]:
        """One case with the numbers of rows that are there, most of the time; status, seconds, answer."""
        path = case.operation.path
        for name, value in (case.path_parameters or {}).items():
            known = self.there.get(name)
            value = known[pick % len(known)] if known and pick % 5 else value
            path = path.replace("{" + name + "}", str(value).replace("/", "%2F") or "-")
        began = time.monotonic()
        query = {name: value for name, value in (case.query or {}).items() if value is not None}
        body = case.body if isinstance(case.body, dict | list | str | int | float) else {}
        with self.subTest(path=path):
            answer = self.client.generic(
                case.operation.method.upper(),
                path,
                _bytes(body),
                content_type="application/json",
                query_params=query,
            )
        return answer.status_code, time.monotonic() - began, answer.content if not answer.streaming else b""

    def test_no_number_however_large_holds_it_up(self) -> None:
        """Every number of every body, by the OpenAPI document, a hundred thousand times too large; one at a time."""
        schema = api.get_openapi_schema()
        tried, broken = 0, []
        for path, view in schema["paths"].items():
            for method, told in view.items():
                body = told.get("requestBody", {}).get("content", {}).get("application/json", {}).get("schema", {})
                fields = _fields(body, schema)
                base = BODIES.get(path.removeprefix("/api"), {})
                for name in (*fields, *(one["name"] for one in told.get("parameters", ()) if one["in"] == "query")):
                    where = re.sub(r"\{(\w+)\}", lambda found: str(self.there.get(found[1], [1])[0]), path)
                    for huge in (602_361_943, "602361943"):
                        sent = {"query_params": {name: huge}} if name not in fields else {}
                        began = time.monotonic()
                        answer = self.client.generic(
                            method.upper(),
                            where,
                            _bytes({**base, name: huge} if not sent else base),
                            content_type="application/json",
                            **sent,
                        )
                        seconds = time.monotonic() - began
                        if answer.status_code >= 500 or seconds > SLOWEST_S:
                            broken.append((method, path, name, huge, answer.status_code, seconds))
                        if answer.status_code in (401, 403):
                            self.client.force_login(User.objects.get(pk=self.ctx.user.pk))  # type: ignore[union-attr]
                        tried += 1
        self.assertEqual(broken, [])
        self.assertGreater(tried, 1000)

    def test_no_request_breaks_it_and_afterwards_every_view_opens(self) -> None:
        """Not rolled back in between: what one request saved is there for the next, as in a house."""
        told: dict[int, int] = {}
        picks = st.integers(0, 10_000)
        cases = st.sampled_from(self.operations).flatmap(
            lambda one: st.one_of(
                one.as_strategy(),
                one.as_strategy(generation_mode=GenerationMode.NEGATIVE)
                if one.body or one.query or one.path_parameters
                else one.as_strategy(),
            )
        )

        @given(cases, picks)
        @settings(
            max_examples=REQUESTS,
            deadline=None,
            derandomize=not LONG,  # the suite asks the same every time; `--long` asks anew
            database=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        def hostile(case: Any, pick: int) -> None:
            status, seconds, answer = self.send(case, pick)
            told[status] = told.get(status, 0) + 1
            if status in (401, 403):  # a request signed it out, or took its role: the next ones are a manager's again
                Member.objects.filter(user_id=self.ctx.user.pk).update(role="manager", active=True)  # type: ignore[union-attr]
                self.client.force_login(User.objects.get(pk=self.ctx.user.pk))  # type: ignore[union-attr]
            what = (case.operation.method, case.operation.path, case.path_parameters, case.query, case.body)
            self.assertLess(status, 500, (what, answer[:500]))
            self.assertLess(seconds, SLOWEST_S, what)

        hostile()
        # All of them went through this one process, which holds the tests and the fuzz besides.
        self.assertLess(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, MOST_KB)
        self.assertGreater(told.get(200, 0), REQUESTS / 50, told)
        self.assertGreater(told.get(422, 0), REQUESTS / 20, told)
        # Whoever was demoted or shut out by it is let in again: what is asked is whether the rooms open.
        user = User.objects.get(pk=self.ctx.user.pk)  # type: ignore[union-attr]
        Member.objects.filter(user=user).update(role="manager", active=True)
        self.client.force_login(user)
        self.assertTrue(Organisation.objects.exists())
        for view in VIEWS:
            answer = self.client.get(f"/api{view}")
            self.assertEqual(answer.status_code, 200, (view, answer.content[:500]))
        for batch in Batch.objects.all():
            self.assertEqual(self.client.get(f"/api/batches/{batch.pk}").status_code, 200)


def _fields(body: dict[str, Any], schema: dict[str, Any]) -> list[str]:
    """The names of a body's fields that take a number, typed or not."""
    if "$ref" in body:
        body = schema["components"]["schemas"][body["$ref"].rsplit("/", 1)[1]]
    takes = {"integer", "number", "string"}

    def may_be(told: dict[str, Any]) -> bool:
        return told.get("type") in takes or any(one.get("type") in takes for one in told.get("anyOf", ()))

    return [name for name, told in body.get("properties", {}).items() if may_be(told)]


def _bytes(body: Any) -> bytes:
    import json

    def plain(value: Any) -> Any:
        return str(value) if isinstance(value, UUID) else repr(value)

    return json.dumps(body, default=plain).encode("utf-8", "surrogatepass")
