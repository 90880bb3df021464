"""A whole nursery out, into another Aldrip, and out again: the same content, the same figures on every screen."""

import io
import json
import re
import zipfile
from pathlib import Path
from typing import Any
from uuid import NAMESPACE_OID, uuid5

from django.apps import apps
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection, models
from django.test import Client, TestCase, TransactionTestCase

from aldrip.accounts.models import Organisation, User
from aldrip.accounts.routes import ROUTES
from aldrip.archive.reading import read_archive
from aldrip.archive.tables import NATURAL, columns, label, references, tables
from aldrip.archive.writing import write_archive
from aldrip.base.models import Event, Known
from aldrip.batches.models import Batch
from aldrip.methods.library import load_library
from aldrip.methods.models import Method
from aldrip_core.refusal import Refused
from tests.server.house import HouseCase, make_house
from tests.server.looking import still

GOLDEN = Path(settings.ROOT) / "tests" / "golden" / "archive-1.zip"
#: Tables that belong to no nursery: people, and the technical ones.
UUIDS = re.compile(r"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}")
NOBODYS = {"accounts.answered", "accounts.user", "accounts.organisation", "accounts.change", "jobs.job"}
Parts = dict[str, str]


def packed(organisation: Organisation) -> bytes:
    found = io.BytesIO()
    write_archive(organisation, found)
    return found.getvalue()


def parts_of(archive: bytes) -> Parts:
    """What is in an archive, but for the moment at which it was written."""
    with zipfile.ZipFile(io.BytesIO(archive)) as file:
        parts = {name: file.read(name).decode() for name in file.namelist()}
    head = json.loads(parts["archive.json"])
    head.pop("made_at")
    return {**parts, "archive.json": json.dumps(head)}


def repacked(parts: Parts) -> io.BytesIO:
    found = io.BytesIO()
    with zipfile.ZipFile(found, "w") as file:
        for name, text in parts.items():
            file.writestr(name, text)
    found.seek(0)
    return found


class EveryTable(TestCase):
    """Kept complete by walking the models: a new table, or a reference to one that nothing names, fails here."""

    def test_every_table_is_in_it_or_belongs_to_nobody(self) -> None:
        ours = {label(m) for app in apps.get_app_configs() if app.name.startswith("aldrip.") for m in app.get_models()}
        self.assertEqual(ours - {label(model) for model in tables()}, NOBODYS)

    def test_whatever_is_referred_to_has_a_name_outside(self) -> None:
        for model in tables():
            for field in references(model):
                target = field.related_model
                named = issubclass(target, Known | Event | User | Organisation) or label(target) in NATURAL
                self.assertTrue(named, f"{label(model)}.{field.name}: {label(target)} has no name outside its database")

    def test_an_empty_cell_is_never_two_things(self) -> None:
        for model in tables():
            for field in columns(model):
                text = isinstance(field, models.CharField | models.TextField)
                self.assertFalse(text and field.null, f"{label(model)}.{field.name} may be empty and null")


class RoundOfTheDemo(TransactionTestCase):
    """The invented season: every screen's figures before and after, asked of the API. Lived once, with the demo's own test."""

    def figures(self, username: str) -> dict[str, Any]:
        client = Client()
        client.force_login(User.objects.get(username=username))
        found: dict[str, Any] = {}
        for method, path, _ in sorted(set(ROUTES)):
            if method != "GET" or "pdf" in path or "{kind}" in path or path in ("/archive", "/audit"):
                continue
            for one in self.addresses(client, path):
                answer = client.get(f"/api{one[1]}")
                body = answer.json() if "json" in answer["Content-Type"] else answer.content.decode("utf-8", "replace")
                found[one[0]] = (answer.status_code, plain(still(path.strip("/"), body)))
        return found

    def addresses(self, client: Client, path: str) -> list[tuple[str, str]]:
        """Each address of a route, by a name that is the same in every database."""
        if path == "/board":
            return [(path, "/board?start=2027-06-01&end=2028-03-01")]
        if "{" not in path:
            return [(path, path)]
        lists = {"batches": "/batches", "lots": "/lots", "seed-blocks": "/seed-crops", "deliveries": "/deliveries"}
        room = path.strip("/").split("/")[0]
        if room not in lists or path.count("{") > 1:
            return []
        rows = client.get(f"/api{lists[room]}").json()
        rows = rows["done"] if room == "deliveries" else rows
        start, end = path.index("{"), path.index("}") + 1
        ids = [(index, row["block_id" if room == "seed-blocks" else "id"]) for index, row in enumerate(rows)]
        return [(f"{path}#{index}", f"{path[:start]}{pk}{path[end:]}") for index, pk in ids if pk is not None]

    def it_goes_out(self) -> None:
        self.before = self.figures("manager")
        self.assertGreater(len(self.before), 150, "every screen is asked")
        self.first = packed(Organisation.objects.get())

    def it_comes_in_again(self) -> None:
        before, first = self.before, self.first
        with connection.cursor() as cursor:
            cursor.execute(
                "select string_agg(format('%I', tablename), ', ') from pg_tables where schemaname = 'public' and tablename <> 'django_migrations'"
            )
            cursor.execute(f"truncate {cursor.fetchone()[0]} restart identity cascade")
        load_library()
        self.assertFalse(Organisation.objects.exists() or User.objects.exists())
        # Other numbers than before: nothing may hang on them.
        make_house("Another", username="somebody")
        found = read_archive(io.BytesIO(first))
        self.assertIn("manager", found.passwords)
        self.assertTrue(User.objects.get(username="manager").check_password(found.passwords["manager"]))
        after = self.figures("manager")
        self.assertEqual(sorted(before), sorted(after))
        for name, told in before.items():
            self.assertEqual(told, after[name], name)
        second = parts_of(packed(found.organisation))
        for name, text in parts_of(first).items():
            self.assertEqual(text, second[name], name)


#: Numbers of rows in their database; whether it is the demo's; and what an act changed does not travel.
NUMBERS = ("id", "demo", "parent", "can_take_back")


def plain(body: Any) -> Any:
    """An answer without the numbers that rows have in their database."""
    if isinstance(body, dict):
        kept = {key: value for key, value in body.items() if not (key in NUMBERS or key.endswith(("_id", "_ids")))}
        return {key: re.sub(r"\d+", "#", str(value)) if key == "link" else plain(value) for key, value in kept.items()}
    if isinstance(body, list):
        return [plain(one) for one in body]
    return body


class Refusals(HouseCase):
    """Whatever is wrong with a file is said, and nothing of it stays."""

    def setUp(self) -> None:
        super().setUp()
        self.planned()
        self.parts = parts_of(packed(self.ctx.organisation))

    def refused(self, file: io.BytesIO, code: str) -> None:
        before = [model._default_manager.count() for model in tables()]
        with self.assertRaises(Refused) as told:
            read_archive(file)
        self.assertEqual(told.exception.errors[0].code, code, told.exception.errors[0].message)
        self.assertEqual([model._default_manager.count() for model in tables()], before)

    def elsewhere(self) -> Parts:
        """The same file as if from another Aldrip: another nursery."""
        return {
            name: UUIDS.sub(lambda found: str(uuid5(NAMESPACE_OID, found[0])), text)
            for name, text in self.parts.items()
        }

    def test_no_archive_cut_short_newer_and_here_already(self) -> None:
        self.refused(io.BytesIO(b"PK but no zip"), "no_archive")
        self.refused(repacked({"hello.txt": "x"}), "incomplete")
        self.refused(repacked({**self.parts, "archive.json": '{"format": "another"}'}), "no_archive")
        self.refused(repacked({**self.parts, "archive.json": '{"format": "aldrip archive", "version": 99}'}), "newer")
        self.refused(repacked(self.parts), "here_already")
        whole = packed(self.ctx.organisation)
        self.refused(io.BytesIO(whole[: len(whole) // 2]), "no_archive")

    def test_rows_that_are_missing_strange_or_contradict_each_other(self) -> None:
        away = self.elsewhere()
        name = "tables/batches.batch.csv"
        lines = away[name].splitlines(keepends=True)
        self.refused(repacked({**away, name: lines[0]}), "incomplete")
        self.refused(repacked({**away, name: lines[0].replace("code", "colour") + lines[1]}), "unknown_column")
        self.refused(repacked({**away, name: lines[0] + "x,y\n"}), "damaged")
        self.refused(repacked({**away, "people.json": "["}), "damaged")
        self.refused(
            repacked(
                {**away, "tables/accounts.member.csv": away["tables/accounts.member.csv"].replace("manager", "viewer")}
            ),
            "no_manager",
        )
        # Rows that are here already under their uuids cannot come again under another nursery's name.
        own = str(self.ctx.organisation.uuid)
        self.refused(
            repacked({name: text.replace(own, str(uuid5(NAMESPACE_OID, own))) for name, text in self.parts.items()}),
            "damaged",
        )
        self.assertEqual(read_archive(repacked(away)).organisation.name, self.ctx.organisation.name)

    def test_what_does_not_ship_any_more_comes_in_as_its_own(self) -> None:
        away = {
            name: text.replace("plug-single-pak-choi", "a-method-of-old") for name, text in self.elsewhere().items()
        }
        found = read_archive(repacked(away))
        own = Method.objects.get(organisation=found.organisation)
        self.assertEqual((own.slug, own.stages.count()), ("a-method-of-old", 6))
        self.assertEqual(Batch.objects.get(organisation=found.organisation).method, own)

    def test_the_doors(self) -> None:
        answer = self.client.get("/api/archive")
        self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "application/zip"))
        self.assertEqual(parts_of(answer.content), self.parts)
        file = SimpleUploadedFile("house.zip", answer.content)
        again = self.client.post("/api/archive", {"file": file})
        self.assertEqual((again.status_code, again.json()["errors"][0]["code"]), (422, "here_already"))
        file = SimpleUploadedFile("house.zip", answer.content)
        first = Client().post("/api/setup/archive", {"file": file})
        self.assertEqual((first.status_code, first.json()["code"]), (403, "forbidden"))

    def test_no_password_leaves(self) -> None:
        assert self.ctx.user is not None
        self.assertNotIn(self.ctx.user.password, json.dumps(self.parts))


class GoldenArchive(TestCase):
    """Written by the first release that could; every later one must read it."""

    def test_it_is_read_and_shows_what_it_showed(self) -> None:
        load_library()
        first = Client().post("/api/setup/archive", {"file": SimpleUploadedFile("a.zip", GOLDEN.read_bytes())})
        self.assertEqual(first.status_code, 200, first.content[:400])
        manager = first.json()["managers"][0]
        client = Client()
        signed_in = client.post("/api/session", manager, content_type="application/json")
        self.assertEqual(signed_in.status_code, 200, signed_in.content)
        told = json.loads((GOLDEN.with_suffix(".json")).read_text())
        found = {
            one["code"]: (one["start"], one["expected"], one["state"])
            for one in client.get("/api/batches?back=520").json()
        }
        self.assertEqual(found, {code: tuple(values) for code, values in told["batches"].items()})
        lots = {one["code"]: one["balance"] for one in client.get("/api/lots").json()}
        self.assertEqual(lots, told["lots"])
