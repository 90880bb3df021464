"""Every route with junk: a refusal with fields and codes, never a fault of ours, never half-saved."""

import json
import re
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from django.test import Client
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase as PropertyCase

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import AuditEvent, Organisation
from aldrip.accounts.routes import ROUTES
from aldrip.batches.models import Batch
from aldrip.batches.starting import plan_lines
from aldrip.calc.calculators import CALCULATORS
from aldrip.orders import services as orders
from aldrip.urls import api
from aldrip_core.check_character import is_valid
from tests.server.house import FILES, TODAY, HouseCase, ensure_library, make_house, order_row, seed_lot

junk = st.recursive(
    st.one_of(
        st.none(),
        st.booleans(),
        st.integers(-(10**20), 10**20),
        st.floats(allow_nan=False, allow_infinity=False),
        st.text(max_size=12),
        st.sampled_from(["2027-07-06", "2027-13-40", "12k", "-1", "\x00", "😀"]),
    ),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=8), inner, max_size=3)),
    max_leaves=6,
)
WRITES = [(method, path) for method, path, _ in ROUTES if method != "GET" and path not in FILES]
READS = [(method, path) for method, path, _ in ROUTES if method == "GET" and not path.endswith(".pdf")]


def known_fields(path: str, method: str, schema: dict[str, Any]) -> list[str]:
    """The names that a route's body has, so that junk reaches past the first check."""
    plain = "/api" + path.replace("ref:", "")
    body = schema["paths"][plain][method.lower()].get("requestBody")
    if not body:
        return []
    reference = body["content"]["application/json"]["schema"].get("$ref", "")
    return list(schema["components"]["schemas"][reference.rsplit("/", 1)[-1]]["properties"]) if reference else []


class Junk(PropertyCase):
    @classmethod
    def setUpTestData(cls) -> None:
        ensure_library()
        cls.ctx = make_house()
        seed_lot(cls.ctx)
        plan_lines(cls.ctx, orders.take_in(cls.ctx, [order_row()]))
        cls.ids = {"batch_id": Batch.objects.get().pk}
        schema = api.get_openapi_schema()
        cls.fields = {(method, path): known_fields(path, method, schema) for method, path in WRITES}

    def setUp(self) -> None:
        assert self.ctx.user is not None
        self.client = Client(raise_request_exception=False)
        self.client.force_login(self.ctx.user)

    def where(self, path: str) -> str:
        return "/api" + re.sub(r"\{ref:(\w+)\}", lambda m: str(self.ids.get(m[1], 1)), path)

    @given(st.sampled_from(WRITES), st.data())
    @settings(max_examples=250, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    def test_no_body_makes_a_route_fail_for_a_fault_of_ours(self, route: tuple[str, str], data: st.DataObject) -> None:
        method, path = route
        names = self.fields[route]
        body = data.draw(
            st.one_of(junk, st.fixed_dictionaries({}, optional={name: junk for name in names}) if names else junk)
        )
        before = AuditEvent.objects.count()
        answer = getattr(self.client, method.lower())(
            self.where(path), json.dumps(body), content_type="application/json"
        )
        self.assertLess(answer.status_code, 500, (path, body, answer.content[:300]))
        if answer.status_code >= 400:
            problem = answer.json()
            self.assertEqual(answer["Content-Type"], "application/problem+json", (path, answer.content[:200]))
            self.assertTrue(problem["errors"], path)
            for error in problem["errors"]:
                self.assertEqual(set(error), {"field", "code", "message"})
            self.assertEqual(AuditEvent.objects.count(), before)

    @given(
        st.sampled_from(READS),
        st.dictionaries(
            st.sampled_from(["day", "days", "start", "end", "kind", "subject", "limit"]), st.text(max_size=12)
        ),
    )
    @settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    def test_no_question_makes_a_route_fail(self, route: tuple[str, str], query: dict[str, Any]) -> None:
        answer = self.client.get(self.where(route[1]), query)
        self.assertLess(answer.status_code, 500, (route, query, answer.content[:300]))

    @given(
        junk,
        st.sampled_from(sorted(CALCULATORS)),
    )
    @settings(max_examples=120, deadline=None)
    def test_no_question_makes_a_calculator_fail(self, body: Any, name: str) -> None:
        answer = self.client.post(f"/api/calc/{name}", json.dumps(body), content_type="application/json")
        self.assertIn(answer.status_code, (200, 422))


class Clock(HouseCase):
    def test_what_happened_on_a_day_is_shown_on_that_day_everywhere(self) -> None:
        for zone in ("Pacific/Kiritimati", "Pacific/Pago_Pago", "Europe/Lisbon", "UTC"):
            Organisation.objects.filter(pk=self.ctx.organisation.pk).update(timezone=zone)
            organisation = Organisation.objects.get(pk=self.ctx.organisation.pk)
            ctx = Ctx(organisation, self.ctx.user, "manager")
            self.assertEqual(ctx.today, TODAY)
            self.assertEqual(ctx.local(ctx.now).date(), TODAY, zone)
            self.assertEqual(ctx.local(ctx.at(TODAY)).date(), TODAY, zone)
            event = ctx.record("test", "Something was done.")
            event.refresh_from_db()
            self.assertEqual(ctx.local(event.happened_at).date(), TODAY, zone)
            shown = self.get("/audit?limit=1")[0]["happened_at"]
            self.assertEqual(shown[:10], str(TODAY), zone)

    def test_without_a_practice_date_the_real_day_of_the_nursery_counts(self) -> None:
        organisation = Organisation.objects.get(pk=self.ctx.organisation.pk)
        organisation.practice_date = None
        organisation.timezone = "Pacific/Kiritimati"
        organisation.save()
        ctx = Ctx(organisation, self.ctx.user, "manager")
        self.assertEqual(ctx.today, datetime.now(ZoneInfo("Pacific/Kiritimati")).date())
        self.assertEqual(
            self.post("/practice-clock", {"to": "2099-01-01"}, status=422)["errors"][0]["code"], "no_practice"
        )

    def test_codes_run_on_within_their_year_and_kind(self) -> None:
        first = self.ctx.next_code("lot")[0]
        more = self.ctx.next_code("lot", 3)
        numbers = [int(code[4:7]) for code in [first, *more]]
        self.assertEqual(numbers[0], 1)
        self.assertEqual(numbers, sorted(set(numbers)))
        many = self.ctx.next_code("batch", 400)
        self.assertFalse([code for code in many if code[-1] in "OI"])
        self.assertTrue(all(is_valid(code) for code in many))
        left_out = int(many[-1][3:-1]) - 400  # two characters of thirty-six
        self.assertTrue(10 <= left_out <= 35, left_out)
        self.ctx.organisation.codecounter_set.filter(kind="batch").delete()
        self.assertTrue(self.ctx.next_code("batch")[0].startswith("27-001"))
        self.ctx.organisation.practice_date = TODAY.replace(year=2028)
        self.assertTrue(self.ctx.next_code("lot")[0].startswith("L28-001"))
