"""What text, number, date, depth and size may be: beyond it is refused at its field, up to it is taken; nothing saved stops a room."""

import json
import re
from typing import Any

from django.test import Client, SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from aldrip.accounts.routes import ROUTES
from aldrip.base import limits
from aldrip.places.models import Place, Site
from aldrip.seedcrops.models import SeedBlock
from aldrip.urls import api
from aldrip_core.refusal import Refused
from aldrip_core.weeks import UnreadableDay, read_span
from tests.server.house import FILES, TODAY, HouseCase
from tests.server.seed_house import SeedCase


class Decided(SimpleTestCase):
    def refused(self, value: Any) -> tuple[str, str]:
        with self.assertRaises(Refused) as told:
            limits.check(value)
        fault = told.exception.errors[0]
        return fault.field, fault.code

    def test_each_limit_holds_at_its_field_and_its_last_value_passes(self) -> None:
        deep: Any = 1
        for _ in range(limits.DEPTH):
            deep = [deep]
        for good in (
            {"a": "x" * limits.TEXT},
            {"text": "x" * 100_000},
            {"a": limits.NUMBER},
            {"a": [0] * limits.ITEMS},
            deep,
            "2200-12-31",
            "1900-01-01T00:00:00Z",
            "tab\tand\nline\r",
            "🌱 Sämling",
        ):
            limits.check(good)
        for bad, where, code in (
            ({"rows": [{"crop": "x" * (limits.TEXT + 1)}]}, "rows.0.crop", "too_long"),
            ({"text": "x" * (limits.LONG_TEXT + 1)}, "text", "too_long"),
            ({"n": limits.NUMBER * 2}, "n", "out_of_range"),
            ({"n": float("nan")}, "n", "out_of_range"),
            ({"n": float("-inf")}, "n", "out_of_range"),
            ([0] * (limits.ITEMS + 1), "", "too_many"),
            ([deep], ".".join(["0"] * limits.DEPTH), "too_deep"),
            ({"due": "9999-12-31"}, "due", "out_of_range"),
            ({"due": "0001-01-01"}, "due", "out_of_range"),
            ({"a": "\ud800"}, "a", "unreadable"),
            ({"a": "nul\x00"}, "a", "unreadable"),
            ({"\x00": 1}, "", "unreadable"),
        ):
            self.assertEqual(self.refused(bad), (where, code), repr(bad)[:60])

    def test_numbers_of_hundreds_of_figures_are_numbers_that_are_too_large(self) -> None:
        for figures in (41, 300, 10_000):
            with self.assertRaises(Refused):
                limits.read_json(f'{{"n": {"9" * figures}}}'.encode())
        with self.assertRaises(Refused):
            limits.read_json(b'{"n": NaN}')
        self.assertEqual(limits.read_json(b'{"n": 12345}'), {"n": 12345})

    @given(
        st.recursive(
            st.none()
            | st.booleans()
            | st.integers(-(10**14), 10**14)
            | st.floats(-1e14, 1e14)
            | st.text("abc é\n", max_size=40),
            lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text("abc", max_size=5), inner, max_size=4),
            max_leaves=12,
        )
    )
    def test_what_people_send_passes(self, value: Any) -> None:
        limits.check(value)
        self.assertEqual(limits.read_json(json.dumps(value).encode()), value)

    def test_a_week_or_a_day_of_no_such_year_is_no_day(self) -> None:
        for text in ("9999-W52", "week 3 0001", "31.12.9999", "9999-12-31", "1 Mar 1066"):
            with self.assertRaises(UnreadableDay, msg=text):
                read_span(text, today=TODAY)


class Afterwards(SeedCase):
    """D11 with other numbers: a site typed a degree and a half off, and a room with a warmth that is none."""

    def every_view(self) -> None:
        from tests.server.test_hostile import VIEWS

        for view in VIEWS:
            answer = self.client.get(f"/api{view}")
            self.assertEqual(answer.status_code, 200, (view, answer.content[:300]))
            json.loads(answer.content.decode() if answer["Content-Type"].startswith("application/json") else "null")

    def test_a_site_that_moved_stops_no_room_and_its_fields_come_with_it(self) -> None:
        block = self.sown()
        site = Site.objects.get(organisation=self.ctx.organisation)
        before = self.get(f"/seed-blocks/{block.pk}")
        near = {"latitude": site.latitude + 0.3, "longitude": -14.2}
        far = {"latitude": site.latitude + 1.5, "longitude": -14.2}
        told = self.client.patch(f"/api/sites/{site.pk}", far, content_type="application/json")
        self.assertEqual((told.status_code, told.json()["code"], told.json()["ask"]), (422, "doubtful", "fields_move"))
        self.assertIn("lie more than half a degree from there", told.json()["title"])
        for place, moves in ((near, False), (far, True), ({"latitude": -41.0, "longitude": 174.0}, True)):
            was = SeedBlock.objects.get(pk=block.pk).outline
            self.call("patch", f"/sites/{site.pk}", place)
            self.assertEqual(SeedBlock.objects.get(pk=block.pk).outline != was, moves)
            self.every_view()
            for path in ("", "/isolation", "/rows.csv", "/rows.pdf"):
                answer = self.client.get(f"/api/seed-blocks/{block.pk}{path}")
                self.assertEqual(answer.status_code, 200, (place, path, answer.content[:300]))
            after = self.get(f"/seed-blocks/{block.pk}")
            self.assertAlmostEqual(after["area_m2"] / before["area_m2"], 1, delta=1e-3)

    def test_what_is_no_number_is_refused_by_every_route(self) -> None:
        place = Place.objects.filter(organisation=self.ctx.organisation, kind="bench").first()
        assert place is not None
        body = b'{"name": "Bench", "kind": "bench", "capacity": 50, "excess_c": NaN}'
        answer = self.client.patch(f"/api/places/{place.pk}", body, content_type="application/json")
        self.assertEqual((answer.status_code, answer.json()["errors"][0]["field"]), (422, "excess_c"))
        client = Client(raise_request_exception=False)
        assert self.ctx.user is not None
        client.force_login(self.ctx.user)
        bodies = api.get_openapi_schema()["paths"]
        for method, path, _ in ROUTES:
            plain = bodies.get("/api" + path.replace("ref:", ""), {}).get(method.lower(), {})
            if method == "GET" or path in FILES or "requestBody" not in plain:
                continue
            where = "/api" + path.replace("{name}", "oversow").replace("{kind}", "crop").replace("{slug}", "endive")
            where = re.sub(r"\{[^}]*\}", "1", where)
            answer = client.generic(method, where, b'{"anything": [Infinity]}', content_type="application/json")
            self.assertEqual(answer.status_code, 422, (path, answer.content[:200]))
        self.every_view()


class Doors(HouseCase):
    def test_a_name_that_is_too_long_is_refused_before_anybody_is_signed_in(self) -> None:
        answer = Client(raise_request_exception=False).post(
            "/api/session", {"username": "x" * 30_000, "password": "x"}, content_type="application/json"
        )
        self.assertEqual((answer.status_code, answer.json()["errors"][0]["field"]), (422, "username"))
        for username in ("x" * 19_000, "é" * 300, "🌱"):
            answer = Client(raise_request_exception=False).post(
                "/api/session", {"username": username, "password": "x"}, content_type="application/json"
            )
            self.assertEqual(answer.status_code, 401, answer.content[:300])
