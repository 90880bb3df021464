"""A database of the first release, with a season in it, comes up to date and shows the figures that it showed."""

import gzip
import json
import re
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.db import connection
from django.test import Client, TransactionTestCase

from aldrip.accounts.models import AuditEvent, Organisation, User
from aldrip.batches.models import Batch
from aldrip.methods.library import load_library

GOLDEN = Path(settings.ROOT) / "tests" / "golden"


def figures() -> dict[str, Any]:
    told: dict[str, Any] = json.loads(gzip.decompress((GOLDEN / "release-1.json.gz").read_bytes()))
    return told


class FirstRelease(TransactionTestCase):
    """The dump was written by that release's own demo; its figures were read off its own screens' routes."""

    def setUp(self) -> None:
        sql = gzip.decompress((GOLDEN / "release-1.sql.gz").read_bytes()).decode()
        sql = re.sub(
            r"^(\\.*|CREATE EXTENSION|COMMENT ON|SELECT pg_catalog.set_config|CREATE SCHEMA|SET transaction_timeout).*$",
            "",
            sql,
            flags=re.M,
        )
        with connection.cursor() as cursor:
            cursor.execute(
                "drop schema public cascade; create schema public; create extension if not exists btree_gist"
            )
            cursor.execute("set search_path to public")
            cursor.execute(sql)
        connection.close()
        call_command("migrate", verbosity=0)
        load_library()
        self.client = Client()
        self.client.force_login(User.objects.get(username="manager"))
        self.told = figures()
        self.assertGreater(len(self.told["batches"]), 40)

    def get(self, path: str) -> Any:
        answer = self.client.get(f"/api{path}")
        self.assertEqual(answer.status_code, 200, (path, answer.content[:300]))
        return answer.json()

    def same(self, told: Any, found: Any, where: str) -> None:
        """Equal, numbers to six figures."""
        if isinstance(told, dict):
            for key, value in told.items():
                self.same(value, found[key], f"{where}.{key}")
        elif isinstance(told, list):
            self.assertEqual(len(told), len(found), where)
            for index, (one, other) in enumerate(zip(told, found, strict=True)):
                self.same(one, other, f"{where}[{index}]")
        elif isinstance(told, float | int) and not isinstance(told, bool):
            self.assertAlmostEqual(told, found, delta=max(1e-6, abs(told) * 1e-6), msg=where)
        else:
            self.assertEqual(told, found, where)

    def test_it_comes_up_to_date_and_shows_what_it_showed(self) -> None:
        for told in (
            self.every_order_lot_and_delivery,
            self.every_batch_with_its_stages_rungs_tasks_and_counts,
            self.every_seed_crop,
            self.the_other_rooms_open,
            self.what_was_kept_last_can_still_be_taken_back,
            self.the_demo_is_known_as_the_demo,
        ):
            with self.subTest(told.__name__):
                told()

    def every_order_lot_and_delivery(self) -> None:
        orders = {(o["order"], o["number"]): o for o in self.get("/orders?back=520")}
        for told in self.told["orders"]:
            self.same(told, orders[told["order"], told["number"]], f"order {told['order']}/{told['number']}")
        lots = {lot["code"]: lot for lot in self.get("/lots")}
        for told in self.told["lots"]:
            self.same(told, lots[told["code"]], told["code"])
        done = {d["code"]: d for d in self.get("/deliveries")["done"]}
        for told in self.told["deliveries"]:
            self.same(told, done[told["code"]], told["code"])

    def every_batch_with_its_stages_rungs_tasks_and_counts(self) -> None:
        rows = {b["code"]: b for b in self.get("/batches?back=520")}
        for told in self.told["batches"]:
            found = rows[told["code"]]
            ladder = self.get(f"/batches/{found['id']}")
            ladder["tasks"] = sorted([t["title"], t["due"], t["state"]] for t in ladder["tasks"])
            ladder["counts"] = [[c["kind"], c["sampled"], c["found"]] for c in ladder["counts"]]
            self.same(told, ladder, told["code"])

    def every_seed_crop(self) -> None:
        rows = {b["code"]: b for b in self.get("/seed-crops")}
        for told in self.told["seed"]:
            self.same(told, rows[told["code"]], told["code"])

    def the_other_rooms_open(self) -> None:
        for path in ("/day", "/season-line", "/library", "/places", "/audit", "/board?start=2027-06-01&end=2027-09-01"):
            self.get(path)
        for block in self.get("/seed-crops"):
            self.get(f"/seed-blocks/{block['block_id']}")
        for lot in self.get("/lots"):
            self.get(f"/lots/{lot['id']}")
            self.get(f"/lots/{lot['id']}/descent")

    def what_was_kept_last_can_still_be_taken_back(self) -> None:
        for event in AuditEvent.objects.filter(action="batch.keep", undone_by=None).order_by("-id")[:3]:
            batch = Batch.objects.get(uuid=event.subject)
            if batch.version == (event.after or {})["version"]:
                answer = self.client.post(f"/api/audit/{event.pk}/undo", content_type="application/json")
                self.assertIn(answer.status_code, (200, 422), answer.content[:300])

    def the_demo_is_known_as_the_demo(self) -> None:
        self.assertTrue(Organisation.objects.get().demo)
