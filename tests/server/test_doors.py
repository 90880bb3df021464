"""Three doors to a calculator give the same; the launcher's cluster heals after a crash."""

import contextlib
import io
import json
import os
import shutil
import signal
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import TestCase as PlainCase
from unittest import mock

from django.conf import settings
from django.test import TestCase

from aldrip.calc import contract
from launcher import backups, commands
from launcher.postgres import Cluster
from launcher.state import Stop
from tests.server.house import make_house

ROOT = Path(settings.ROOT)
QUESTION = {"needed": 12000, "chance": 0.95, "rate": 0.7336, "rate_sd": 0.03}


class CalcDoor(TestCase):
    def setUp(self) -> None:
        ctx = make_house()
        assert ctx.user is not None
        self.client.force_login(ctx.user)

    def ask(self, name: str, body: object) -> tuple[int, dict]:
        answer = self.client.post(
            f"/api/calc/{name}", body if isinstance(body, str) else json.dumps(body), content_type="application/json"
        )
        return answer.status_code, answer.json()

    def test_api_and_command_line_and_function_agree(self) -> None:
        status, api = self.ask("oversow", QUESTION)
        env = {"PYTHONPATH": f"{ROOT / 'core'}:{ROOT / 'server'}", "PATH": "/usr/bin:/bin"}
        line = subprocess.run(
            [sys.executable, "-m", "aldrip.calc", "oversow"],
            input=json.dumps(QUESTION),
            capture_output=True,
            text=True,
            env=env,
        )
        self.assertEqual(status, 200)
        self.assertEqual(api, json.loads(line.stdout))
        self.assertEqual(api, contract.calculate("oversow", json.dumps(QUESTION)))

    def test_refusals_are_problems_with_fields(self) -> None:
        status, answer = self.ask("oversow", {**QUESTION, "colour": "green"})
        self.assertEqual((status, answer["errors"][0]["code"]), (422, "unknown_field"))
        self.assertEqual(self.ask("oversow", "{")[0], 422)
        self.assertEqual(self.ask("no-such", {})[0], 404)

    def test_it_asks_for_a_sign_in_and_a_get_is_not_an_answer(self) -> None:
        self.assertEqual(self.client.get("/api/calc/oversow").status_code, 405)
        self.client.logout()
        status, answer = self.ask("oversow", QUESTION)
        self.assertEqual((status, answer["code"]), (401, "sign_in"))
        self.assertEqual(self.ask("no-such", {})[0], 401)

    def test_a_question_that_would_hold_the_machine_is_ended_and_the_next_one_answered(self) -> None:
        comb = [[600 + 100 * n / 240, 0.0 if n % 2 else 100.0] for n in range(240)]
        comb = [*comb, [700.0, -5.0], [600.0, -5.0]]
        many = [{"id": str(n), "polygon": comb, "kind": "o"} for n in range(400)]
        body = {
            "field": [[0, 0], [500, 0], [500, 200], [0, 200]],
            "neighbours": many,
            "rules": [{"kind": "o", "metres": 500}],
        }
        began = time.monotonic()
        status, answer = self.ask("isolation", body)
        self.assertLess(time.monotonic() - began, 20)
        self.assertEqual((status, answer["errors"][0]["code"]), (422, "too_large"))
        self.assertEqual(self.ask("oversow", QUESTION)[0], 200)
        line = subprocess.run(
            [sys.executable, "-m", "aldrip.calc", "isolation"],
            input=json.dumps(body),
            capture_output=True,
            text=True,
            env={"PYTHONPATH": f"{ROOT / 'core'}:{ROOT / 'server'}", "PATH": "/usr/bin:/bin"},
        )
        self.assertEqual((line.returncode, json.loads(line.stdout)["errors"][0]["code"]), (2, "too_large"))

    def test_an_outline_of_thousands_of_corners_is_refused_by_its_field(self) -> None:
        comb = [[600 + 100 * n / 4998, 0.0 if n % 2 else 100.0] for n in range(4998)]
        body = {
            "field": [[0, 0], [500, 0], [500, 200], [0, 200]],
            "rules": [{"kind": "o", "metres": 500}],
            "neighbours": [{"id": "n", "polygon": [*comb, [700.0, -5.0], [600.0, -5.0]], "kind": "o"}],
        }
        status, answer = self.ask("isolation", body)
        self.assertEqual(status, 422)
        self.assertEqual(
            (answer["errors"][0]["field"], answer["errors"][0]["code"]), ("neighbours.0.polygon", "too_large")
        )


class OwnCluster(PlainCase):
    def hand_over(self, cluster: Cluster) -> None:
        """A database from before there was a role: everything of it becomes the program's, and nothing else does."""
        cluster.sql('create database "older"')
        cluster.sql(
            "create extension btree_gist; create type soil as enum ('clay', 'loam'); "
            "create table beds (id serial primary key, n int); insert into beds (n) values (7); create view wide as select * from beds; "
            "create function twice(n int) returns int language sql as 'select n * 2'",
            "older",
        )
        for _ in range(2):
            cluster.ensure_database("older")
        program = cluster.environment("older")
        env = {**os.environ, "PGPASSWORD": program["ALDRIP_DB_PASSWORD"]}
        where = ["-h", "127.0.0.1", "-p", program["ALDRIP_DB_PORT"], "-U", program["ALDRIP_DB_USER"]]

        def as_program(text: str, database: str = "older") -> "subprocess.CompletedProcess[str]":
            command = [str(cluster.bin / "psql"), *where, "-d", database, "-v", "ON_ERROR_STOP=1", "-tAc", text]
            return subprocess.run(command, env=env, capture_output=True, text=True)

        done = as_program(
            "alter table beds add words text; insert into beds (n) values (8); drop view wide; "
            "alter type soil add value 'sand'; drop function twice(int); select sum(n) from beds"
        )
        self.assertEqual((done.returncode, done.stdout.strip().split()[-1:]), (0, ["15"]), done.stderr)
        for wrong, database in (
            ("create role other", "older"),
            ("create database other", "older"),
            ("copy beds to program 'id'", "older"),
            ("select pg_read_file('/etc/passwd')", "older"),
            ("alter system set port = 1", "older"),
        ):
            self.assertNotEqual(as_program(wrong, database).returncode, 0, wrong)

    def test_it_starts_refuses_strangers_heals_after_a_crash_and_stops(self) -> None:
        base = Path(tempfile.mkdtemp(prefix="aldrip-cluster-", dir="/tmp"))
        base.chmod(0o755)
        cluster = Cluster(base / "pg", password="only for this test", role_password="nor this")
        try:
            cluster.start()
            cluster.ensure_role()
            cluster.ensure_database("one")
            self.assertEqual(
                cluster.tool("psql", "-tAc", "show listen_addresses", database="one").stdout.strip(), b"127.0.0.1"
            )
            self.assertEqual(
                cluster.tool("psql", "-tAc", "show unix_socket_directories", database="one").stdout.strip(), b""
            )
            self.assertEqual(cluster.tool("psql", "-tAc", "show fsync", database="one").stdout.strip(), b"on")
            self.hand_over(cluster)
            stranger = Cluster(base / "pg", password="wrong", role_password="")
            stranger.port = cluster.port
            self.assertNotEqual(stranger.tool("psql", "-tAc", "select 1", database="one").returncode, 0)
            again = Cluster(base / "pg", password="only for this test", role_password="nor this")
            again.start()
            self.assertEqual(again.port, cluster.port)  # it runs already: it is used as it is

            pid = int((cluster.data / "postmaster.pid").read_text().split()[0])
            os.kill(pid, signal.SIGKILL)
            time.sleep(0.5)
            healed = Cluster(base / "pg", password="only for this test", role_password="nor this")
            healed.start()
            self.assertEqual(healed.tool("psql", "-tAc", "select 1", database="one").stdout.strip(), b"1")
            healed.stop()
            self.assertNotEqual(healed.tool("psql", "-tAc", "select 1", database="one").returncode, 0)
        finally:
            cluster.stop()
            shutil.rmtree(base, ignore_errors=True)


class BackupAndRestore(PlainCase):
    """What somebody would lose a season by, done to a real cluster: a restore never destroys."""

    def setUp(self) -> None:
        self.home = Path(tempfile.mkdtemp(prefix="aldrip-restore-", dir="/tmp"))
        self.home.chmod(0o755)
        self.addCleanup(shutil.rmtree, self.home, ignore_errors=True)
        self.cluster = cluster = Cluster(self.home / "pg", password="only for this test", role_password="nor this")
        cluster.start()
        self.addCleanup(cluster.stop)
        cluster.ensure_role()

        @contextlib.contextmanager
        def held() -> Iterator[Cluster]:
            yield cluster

        for patch in (
            mock.patch.object(commands, "_lasting_cluster", held),
            mock.patch.object(commands, "state_dir", lambda: self.home),
        ):
            patch.start()
            self.addCleanup(patch.stop)

    def sql(self, text: str, database: str = commands.OWN) -> str:
        answer = self.cluster.tool("psql", "-v", "ON_ERROR_STOP=1", "-tAc", text, database=database)
        self.assertEqual(answer.returncode, 0, answer.stderr)
        return answer.stdout.decode().strip()

    def nursery(self, name: str) -> None:
        self.cluster.ensure_database(commands.OWN)
        self.assertEqual(commands._manage(commands._environment(self.cluster, commands.OWN), "prepare"), 0)
        self.sql(
            "insert into accounts_organisation (name, timezone, working_days, sowing_days, chance_wanted, safety_days, class_scheme, raises, part_trays, two_pairs, "
            f"demo, created_at) values ('{name}', 'UTC', '[]', '[]', 0.9, 0, 'oecd-like', '[]', false, false, false, now())"
        )

    def names(self) -> str:
        return self.sql("select string_agg(name, ',' order by name) from accounts_organisation")

    def said(self, command: Any, *arguments: str) -> str:
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            self.assertEqual(command(list(arguments)), 0)
        return out.getvalue()

    def test_whatever_the_file_is_the_nursery_is_there_afterwards(self) -> None:
        self.nursery("Adas")
        good, file = self.home / "good.dump", self.home / "file"
        self.assertIn("Wrote", self.said(commands.backup, str(good)))
        self.assertEqual(stat.S_IMODE(good.stat().st_mode), 0o600)
        whole = good.read_bytes()
        self.cluster.ensure_database("strange")
        self.sql("create table anything (x int)", "strange")
        stranger = self.cluster.tool("pg_dump", "-Fc", database="strange").stdout
        self.sql("delete from accounts_organisation", commands.OWN)
        self.said(commands.backup, str(self.home / "empty.dump"))
        empty = (self.home / "empty.dump").read_bytes()
        self.sql("create schema keep; create table keep.me (x int)")
        self.nursery("Adas")
        for what, content in (
            ("no dump", b"week,crop\n31,leek\n"),
            ("nothing", b""),
            ("cut short", whole[: len(whole) // 2]),
            ("its head alone", whole[:4000]),
            ("another program's", stranger),
            ("a nursery of nobody", empty),
            ("a changed byte", whole[:-4000] + b"x" * 100 + whole[-3900:]),
        ):
            with self.subTest(what):
                file.write_bytes(content)
                with self.assertRaisesRegex(Stop, "Nothing was changed|nothing was changed"):
                    commands.restore([str(file), "--replace"])
                self.assertEqual(self.names(), "Adas")
                self.assertEqual(self.sql("select count(*) from keep.me"), "0")
                self.assertNotIn(commands.RESTORING, self.cluster.databases())
        with self.assertRaisesRegex(Stop, "There is no file"):
            commands.restore([str(self.home / "none"), "--replace"])
        with self.assertRaisesRegex(Stop, "Add --replace"):
            commands.restore([str(good)])
        with commands._only_one("serve"), self.assertRaisesRegex(Stop, "already serving"):
            commands.restore([str(good), "--replace"])
        with self.assertRaisesRegex(Stop, "nothing to back up yet"), mock.patch.object(commands, "OWN", "not there"):
            commands.backup([str(good)])
        self.assertEqual(good.read_bytes(), whole)

    def test_a_good_one_takes_the_place_and_the_old_one_can_come_back(self) -> None:
        self.nursery("Adas")
        good = self.home / "good.dump"
        self.said(commands.backup, str(good))
        self.sql("update accounts_organisation set name = 'Bos'")
        told = self.said(commands.restore, str(good), "--replace")
        self.assertIn("Restored.", told)
        self.assertEqual(self.names(), "Adas")
        kept = self.said(commands.restore, "--kept").split()
        self.assertEqual(len(kept), 1)
        self.assertIn(kept[0], told)
        self.assertEqual(self.sql("select name from accounts_organisation", kept[0]), "Bos")
        with self.assertRaisesRegex(Stop, "No database aldrip_before_x was put aside"):
            commands.restore(["--back", "aldrip_before_x"])
        time.sleep(1.1)
        self.said(commands.restore, "--back", kept[0])
        self.assertEqual(self.names(), "Bos")

    def test_before_an_upgrade_a_good_backup_is_taken_or_nothing_is_upgraded(self) -> None:
        self.nursery("Adas")
        kept = self.home / "kept"
        kept.mkdir()
        env = commands._environment(self.cluster, commands.OWN)
        with mock.patch.object(backups, "home", lambda: kept):
            commands._before_an_upgrade(self.cluster, env)
            self.assertEqual(backups.read_index(kept), [])  # nothing is to be upgraded
            newest = "select max(id) from django_migrations where app = 'accounts'"
            self.sql(f"delete from django_migrations where id = ({newest})")
            commands._before_an_upgrade(self.cluster, env)
            made = backups.read_index(kept)
            self.assertEqual([(row.why, row.words) for row in made], [("before an upgrade", "")])
            self.assertGreater(made[0].rows, 100)
            with (
                mock.patch.object(backups, "dump", side_effect=Stop("no room")),
                self.assertRaisesRegex(Stop, "Without a backup the database is not brought up to date: no room"),
            ):
                commands._before_an_upgrade(self.cluster, env)
            self.assertTrue((kept / made[0].file).exists())
