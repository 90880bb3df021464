"""The house itself: sign-in and lock-out, first run, arrows between rooms, constant query counts, the clock."""

import ast
import json
import re
from collections import Counter
from collections.abc import Iterator
from datetime import date
from io import StringIO
from pathlib import Path
from typing import Any

from django.apps import apps
from django.core.management import call_command
from django.db import IntegrityError, connection, transaction
from django.test import Client, TestCase, override_settings
from django.test.utils import CaptureQueriesContext
from pydantic import TypeAdapter

from aldrip.accounts.models import Member, Organisation, User
from aldrip.batches.models import Batch, BatchStage, Occupancy
from aldrip.batches.schemas import BatchRow, BoardOut
from aldrip.batches.starting import plan_lines
from aldrip.lots.models import Lot
from aldrip.methods.library import load_library
from aldrip.methods.models import Container, Crop, Method, MethodStage, Mix
from aldrip.orders import services as orders
from aldrip.orders.api import OrderLineOut
from aldrip.places.models import Place
from aldrip_core.units import Unit
from tests.server.house import COAST, HouseCase, make_house, member, order_row, seed_lot, take_order

ORDER = (
    "base",
    "accounts",
    "methods",
    "places",
    "diary",
    "lots",
    "orders",
    "batches",
    "sowing",
    "stockplants",
    "seedcrops",
    "deliveries",
    "season",
    "demo",
)


ROOT = Path(__file__).parents[2]
UNITS = {one.words for one in Unit} | {one.words.removesuffix("s") for one in Unit}
READS_WHAT_IS_TYPED = "server/aldrip/base/quantity.py"


def _compared(tree: ast.AST) -> Iterator[tuple[str, set[object]]]:
    """Every comparison: what is compared, and the constants it is compared with."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare):
            sides = [node.left, *node.comparators]
            listed = [item for side in sides if isinstance(side, ast.Tuple | ast.List | ast.Set) for item in side.elts]
            yield ast.unparse(node), {one.value for one in (*sides, *listed) if isinstance(one, ast.Constant)}


class Seams(TestCase):
    """A stage is asked for by its key and a unit for its dimension: read in every file of ours, so no list by hand."""

    def files(self, *suffixes: str) -> Iterator[tuple[str, str]]:
        for room in ("core", "server", "web/src", "tests", "launcher"):
            for path in sorted((ROOT / room).rglob("*")):
                if path.suffix in suffixes and "/migrations/" not in str(path) and path != Path(__file__):
                    yield str(path.relative_to(ROOT)), path.read_text()

    def test_no_stage_is_known_by_its_position(self) -> None:
        found = [
            name for name, text in self.files(".py", ".ts", ".tsx") if re.search(r"stages\[\s*-?\d|stages\.at\(", text)
        ]
        self.assertEqual(found, [])

    def test_no_unit_is_compared_as_a_word(self) -> None:
        found = [
            f"{name}: {words}"
            for name, text in self.files(".py")
            if name != READS_WHAT_IS_TYPED
            for words, constants in _compared(ast.parse(text))
            if "unit" in words and constants & UNITS
        ]
        plain = re.compile(r"""[uU]nits?\)?\s*[!=]==?\s*["']([^"']+)["']|[uU]nit\s+in\s+[{[](.*?)[\]}]""")
        for name, text in self.files(".ts", ".tsx"):
            found += [f"{name}: {hit[0]}" for hit in plain.finditer(text) if hit[2] or hit[1] in UNITS]
        self.assertEqual(found, [])

    def test_every_schema_of_the_api_has_a_name_of_its_own(self) -> None:
        """Two of one name would be one in the document from which the screens take their types."""
        names = Counter(
            node.name
            for name, text in self.files(".py")
            if name.startswith("server/") and "/calc/" not in name
            for node in ast.walk(ast.parse(text))
            if isinstance(node, ast.ClassDef) and re.search(r"(In|Out|IO)$", node.name)
        )
        self.assertEqual([name for name, many in names.items() if many > 1], [])


class Arrows(TestCase):
    def test_relations_point_to_the_left_only(self) -> None:
        walked = 0
        for model in apps.get_models():
            room = model._meta.app_label
            if room not in ORDER:
                continue
            for field in model._meta.get_fields():
                if not field.is_relation or field.auto_created or field.related_model is None:
                    continue
                target = field.related_model._meta.app_label  # type: ignore[union-attr]
                if target in ORDER:
                    walked += 1
                    self.assertLessEqual(ORDER.index(target), ORDER.index(room), f"{model.__name__}.{field.name}")
        self.assertGreater(walked, 40)

    def test_every_top_row_belongs_to_an_organisation(self) -> None:
        # What hangs on a row of its own kind is scoped through it.
        through = {
            "user",
            "organisation",
            "methodstage",
            "batchstage",
            "batchinput",
            "allocation",
            "setaside",
            "held",
            "occupancy",
            "yield",
            "deliveryitem",
            "lotparent",
            "blockparent",
            "inspectionphoto",
            "change",
            "answered",
        }
        for model in apps.get_models():
            if model._meta.app_label in ORDER and model._meta.model_name not in through:
                self.assertTrue(any(f.name == "organisation" for f in model._meta.get_fields()), model.__name__)


class SigningIn(TestCase):
    def setUp(self) -> None:
        self.ctx = make_house()
        self.client = Client()

    def sign_in(self, password: str) -> Any:
        return self.client.post(
            "/api/session", {"username": "ada", "password": password}, content_type="application/json"
        )

    def test_five_wrong_passwords_lock_the_name_for_a_while_even_for_the_right_one(self) -> None:
        for _ in range(4):
            self.assertEqual(self.sign_in("wrong").status_code, 401)
        self.assertEqual(self.sign_in("wrong").status_code, 429)
        locked = self.sign_in("a long password")
        self.assertEqual((locked.status_code, locked.json()["code"]), (429, "locked"))
        self.assertIn("quarter of an hour", locked.json()["title"])

    def test_in_and_out(self) -> None:
        answer = self.sign_in("a long password").json()
        self.assertTrue(answer["signed_in"])
        self.assertIn("batches.plan", answer["may"])
        self.assertEqual(answer["today"], "2027-07-06")
        self.assertEqual(self.client.get("/api/orders").status_code, 200)
        self.client.delete("/api/session")
        self.assertEqual(self.client.get("/api/orders").status_code, 401)

    def test_an_unknown_address_of_the_api_answers_as_a_problem(self) -> None:
        answer = self.client.get("/api/nothing")
        self.assertEqual((answer.status_code, answer["Content-Type"]), (404, "application/problem+json"))

    def test_the_page_carries_a_policy_and_no_inline_script(self) -> None:
        with override_settings():
            answer = self.client.get("/orders")
        if answer.status_code == 200:
            policy = answer["Content-Security-Policy"]
            self.assertIn("default-src 'self'", policy)
            self.assertIn("'nonce-", policy)
            self.assertNotIn("unsafe", policy)
            self.assertNotIn("__NONCE__", answer.content.decode())


class FirstRun(TestCase):
    answers = {
        "organisation": "Own Nursery",
        "timezone": "Europe/Oslo",
        "full_name": "Ola Nord",
        "username": "Ola",
        "password": "quiet-harbour-9",
        "site": "Yard",
        "latitude": 59.9,
        "monthly_c": COAST,
        "working_days": [0, 1, 2, 3, 4],
        "sowing_days": [],
        "places": [{"name": "Bench", "kind": "bench", "capacity": 50, "set_point_c": 18}],
    }

    def send(self, **more: Any) -> Any:
        return self.client.post("/api/setup", {**self.answers, **more}, content_type="application/json")

    def test_an_empty_house_is_set_up_and_its_manager_is_signed_in(self) -> None:
        load_library()
        self.assertTrue(self.client.get("/api/session").json()["empty"])
        answer = self.send()
        self.assertEqual(answer.status_code, 200, answer.content)
        self.assertEqual((answer.json()["role"], answer.json()["username"]), ("manager", "ola"))
        self.assertEqual(self.client.get("/api/orders").json(), [])
        self.assertEqual(len(self.client.get("/api/places").json()["places"]), 1)
        self.assertEqual(self.client.get("/api/season-line").json()["decisions"], [])
        self.assertEqual(self.send(organisation="Second").status_code, 403)

    def test_each_fault_is_named_and_nothing_is_kept(self) -> None:
        for more, field in (
            ({"organisation": " "}, "organisation"),
            ({"timezone": "Mars/Base"}, "timezone"),
            ({"latitude": 80}, "latitude"),
            ({"monthly_c": [1, 2]}, "monthly_c"),
            ({"monthly_c": [*COAST[:11], 99]}, "monthly_c.11"),
            ({"password": "short"}, "password"),
            ({"working_days": []}, "working_days"),
            ({"site": ""}, "site"),
            ({"places": [{"name": "A", "kind": "bench"}, {"name": "a", "kind": "bench"}]}, "places.1.name"),
            ({"places": [{"name": "A", "kind": "moon"}]}, "places.0.kind"),
        ):
            answer = self.send(**more)
            self.assertEqual(answer.status_code, 422, more)
            self.assertIn(field, [e["field"] for e in answer.json()["errors"]])
        self.assertEqual((Organisation.objects.count(), User.objects.count(), Place.objects.count()), (0, 0, 0))


class QueryCounts(HouseCase):
    PATHS = (
        "/orders",
        "/batches",
        "/lots",
        "/deliveries",
        "/season-line",
        "/day?day=2027-08-03&days=30",
        "/board?start=2027-06-07&end=2027-12-27",
        "/library",
        "/places",
    )

    def counts(self) -> dict[str, int]:
        found = {}
        for path in self.PATHS:
            self.get(path)  # frozen methods that no process has read yet are read once
            with CaptureQueriesContext(
                connection,
            ) as queries:
                self.get(path)
            found[path] = len(queries)
        return found

    def fill(self, first: int, count: int) -> None:
        crops = ("Pak choi", "Endive", "Bulb fennel")
        rows = [order_row(order=str(first + n), crop=crops[n % 3], due=f"2027-W{35 + n % 12}") for n in range(count)]
        plan_lines(self.ctx, orders.take_in(self.ctx, rows))

    def test_ten_times_the_rows_take_no_more_queries(self) -> None:
        seed_lot(self.ctx)
        self.fill(1000, 4)
        few = self.counts()
        self.fill(2000, 40)
        self.assertEqual(self.counts(), few)
        self.assertLess(max(few.values()), 37)

    def test_planning_forty_lines_takes_no_more_queries_than_planning_four(self) -> None:
        for first, grams in ((3000, 90_000), (5000, 30)):  # seed for all; and so little that each tells those before it
            seed_lot(self.ctx, grams=grams)
            Lot.objects.exclude(pk=Lot.objects.latest("pk").pk).update(balance=0)
            numbers = []
            for at, count in ((first, 4), (first + 100, 4), (first + 200, 40)):
                lines = orders.take_in(self.ctx, [order_row(order=str(at + n)) for n in range(count)])
                with CaptureQueriesContext(connection) as queries:
                    plan_lines(self.ctx, lines)
                numbers.append(len(queries))
            with self.subTest(grams=grams):
                self.assertLessEqual(numbers[2], numbers[1])

    def test_the_ladder_takes_as_many_for_a_crowded_house(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(order="1")
        numbers = []
        for first in (5000, 6000):
            with CaptureQueriesContext(connection) as queries:
                self.get(f"/batches/{batch.pk}")
                self.post(f"/batches/{batch.pk}/preview", {"trays": 50})
            numbers.append(len(queries))
            self.fill(first, 20)
        self.assertEqual(numbers[0], numbers[1])
        self.assertLess(numbers[0], 60)


class Library(HouseCase):
    def test_every_value_that_decides_a_plan_has_its_source(self) -> None:
        for stage in MethodStage.objects.select_related("method"):
            if stage.days:
                self.assertIn("days", stage.sources, stage)
            if stage.heat_sum_c_d is not None:
                self.assertRegex(stage.sources["heat_sum_c_d"], "from memory|as the aquacrop package ships it")
            if stage.keeps < 1:
                self.assertIn("keeps", stage.sources, stage)
        for crop in Crop.objects.exclude(tgw_g=None):
            self.assertIn("tgw_g", crop.sources)
        for model in (Container, Mix):
            self.assertTrue(all(row.sources for row in model.objects.all()))
        self.assertGreaterEqual(Crop.objects.count(), 8)

    def test_loading_twice_changes_nothing(self) -> None:
        before = list(Method.objects.values_list("id", "slug").order_by("id"))
        load_library()
        call_command("load_library", "--dry-run", verbosity=0, stdout=StringIO())
        self.assertEqual(list(Method.objects.values_list("id", "slug").order_by("id")), before)

    def test_an_own_cultivar_and_tray_are_ours_alone(self) -> None:
        crop = Crop.objects.get(slug="fennel")
        made = self.post("/lines", {"crop_id": crop.pk, "name": "Own Find"})
        self.assertTrue(made["own"])
        self.post("/lines", {"crop_id": crop.pk, "name": "own find"}, status=422)
        tray = {"name": "Tray of 60", "cells": 60, "cell_ml": 60, "length_cm": 60, "width_cm": 40, "depth_cm": 6}
        self.post("/containers", tray)
        self.assertEqual(
            self.post("/containers", {**tray, "name": "X", "has_holes": False}, status=422)["errors"][0]["code"],
            "no_holes",
        )
        other = make_house("Other", username="zoe")
        client = Client()
        assert other.user is not None
        client.force_login(other.user)
        names = [row["name"] for row in self.get("/library", client=client)["lines"]]
        self.assertNotIn("Own Find", names)
        self.assertEqual(
            self.post("/lines", {"crop_id": crop.pk, "name": "Own Find"}, client=client)["name"], "Own Find"
        )


class Rules(HouseCase):
    def test_house_rules_people_and_clock(self) -> None:
        changed = self.call("patch", "/organisation", {"chance_wanted": 0.9, "safety_days": 2, "sowing_days": [0, 2]})
        self.assertEqual((changed["chance_wanted"], changed["sowing_days"]), (0.9, [0, 2]))
        for body, field in (
            ({"chance_wanted": 1.0}, "chance_wanted"),
            ({"safety_days": 99}, "safety_days"),
            ({"working_days": [7]}, "working_days"),
        ):
            self.assertEqual(self.call("patch", "/organisation", body, status=422)["errors"][0]["field"], field)
        person = {"username": "Nia", "password": "quiet-harbour-9", "full_name": "Nia Low", "role": "dispatch"}
        added = self.post("/members", person)
        self.assertEqual(self.post("/members", person, status=422)["errors"][0]["code"], "taken")
        self.call("patch", f"/members/{added['id']}", {"role": "viewer"})
        mine = Member.objects.get(user=self.ctx.user)
        self.assertEqual(
            self.call("patch", f"/members/{mine.pk}", {"role": "viewer"}, status=422)["errors"][0]["code"],
            "last_manager",
        )
        self.assertEqual(self.post("/practice-clock", {"to": "2027-07-10"})["practice_date"], "2027-07-10")
        self.assertEqual(
            self.post("/practice-clock", {"to": "2027-07-01"}, status=422)["errors"][0]["code"], "backwards"
        )
        self.post("/closed-days", {"day": "2027-12-24", "name": "Midwinter"})
        self.assertEqual(self.get("/closed-days")[0]["name"], "Midwinter")
        self.assertGreater(len(self.get("/audit")), 4)

    def test_a_closed_day_moves_the_plan(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned(order="1", due="2027-W36")
        sow = batch.stages.get(key="sow").planned.lower
        self.post("/closed-days", {"day": str(sow)})
        _, second = self.planned(order="2", due="2027-W36")
        self.assertLess(second.stages.get(key="sow").planned.lower, sow)

    def test_tasks_of_ones_own_and_marks_with_reasons(self) -> None:
        task = self.post("/tasks", {"title": "Wash trays", "due": "2027-07-06", "minutes": 30})
        self.post(f"/tasks/{task['id']}/mark", {"state": "not_done"}, status=422)
        marked = self.post(f"/tasks/{task['id']}/mark", {"state": "not_done", "note": "no water"})
        self.assertEqual((marked["state_words"], marked["note"]), ("not done", "no water"))
        self.post("/tasks", {"title": " ", "due": "2027-07-06"}, status=422)
        self.assertEqual(self.get("/day?day=2027-07-06")["minutes_todo"], 0)


class Constraints(HouseCase):
    def test_two_firm_uses_of_a_whole_place_exclude_each_other_and_drafts_do_not(self) -> None:
        seed_lot(self.ctx)
        _, batch = self.planned()
        stage = BatchStage.objects.get(batch=batch, key="grow")
        assert stage.place is not None
        during = (date(2027, 8, 1), date(2027, 8, 10))
        Occupancy.objects.create(stage=stage, place=stage.place, during=during, amount=1, whole=True, firm=False)
        Occupancy.objects.create(stage=stage, place=stage.place, during=during, amount=1, whole=True, firm=True)
        with self.assertRaises(IntegrityError), transaction.atomic():
            Occupancy.objects.create(stage=stage, place=stage.place, during=during, amount=1, whole=True, firm=True)
            with connection.cursor() as cursor:
                cursor.execute("set constraints all immediate")

    def test_the_database_itself_refuses_what_must_never_be(self) -> None:
        lot = seed_lot(self.ctx)
        line = take_order(self.ctx)
        for change in (
            lambda: type(lot).objects.filter(pk=lot.pk).update(balance=-1),
            lambda: type(lot).objects.filter(pk=lot.pk).update(germination=1.2),
            lambda: type(line).objects.filter(pk=line.pk).update(quantity=0),
            lambda: Organisation.objects.update(chance_wanted=1),
            lambda: Place.objects.update(gangway=1),
        ):
            with self.assertRaises(IntegrityError), transaction.atomic():
                change()

    def test_a_viewer_reads_and_nothing_else(self) -> None:
        client = Client()
        client.force_login(member(self.ctx, "eye", "viewer"))
        self.assertEqual(self.get("/session", client=client)["may"], ["see"])
        self.get("/orders", client=client)
        self.post("/orders", {"rows": []}, client=client, status=403)
        self.assertEqual(Batch.objects.count(), 0)


class FastAnswers(HouseCase):
    """What goes out unchecked has the shape that its route says."""

    def test_each_is_what_its_schema_says(self) -> None:
        seed_lot(self.ctx)
        self.planned(quantity="2,000", due="2027-W36")
        for path, shape in (
            ("/orders", list[OrderLineOut]),
            ("/batches", list[BatchRow]),
            ("/board?start=2027-07-05&end=2027-10-01", BoardOut),
        ):
            answer = self.get(path)
            self.assertTrue(answer)
            read = TypeAdapter(shape)
            again = json.loads(read.dump_json(read.validate_python(answer)))
            self.assertEqual(again, answer)
