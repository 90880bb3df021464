"""Three doors to a calculator give the same; the launcher's cluster heals after a crash."""

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from unittest import TestCase as PlainCase

from django.conf import settings
from django.test import TestCase

from aldrip.calc import contract
from launcher.postgres import Cluster

ROOT = Path(settings.ROOT)
QUESTION = {"needed": 12000, "chance": 0.95, "rate": 0.7336, "rate_sd": 0.03}


class CalcDoor(TestCase):
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

    def test_it_needs_no_sign_in_and_a_get_is_not_an_answer(self) -> None:
        self.assertEqual(self.client.get("/api/calc/oversow").status_code, 405)


class OwnCluster(PlainCase):
    def test_it_starts_refuses_strangers_heals_after_a_crash_and_stops(self) -> None:
        base = Path(tempfile.mkdtemp(prefix="aldrip-cluster-", dir="/tmp"))
        base.chmod(0o755)
        cluster = Cluster(base / "pg", password="only for this test")
        try:
            cluster.start()
            cluster.ensure_database("one")
            self.assertEqual(
                cluster.tool("psql", "-tAc", "show listen_addresses", database="one").stdout.strip(), b"127.0.0.1"
            )
            self.assertEqual(
                cluster.tool("psql", "-tAc", "show unix_socket_directories", database="one").stdout.strip(), b""
            )
            self.assertEqual(cluster.tool("psql", "-tAc", "show fsync", database="one").stdout.strip(), b"on")
            stranger = Cluster(base / "pg", password="wrong")
            stranger.port = cluster.port
            self.assertNotEqual(stranger.tool("psql", "-tAc", "select 1", database="one").returncode, 0)
            again = Cluster(base / "pg", password="only for this test")
            again.start()
            self.assertEqual(again.port, cluster.port)  # it runs already: it is used as it is

            pid = int((cluster.data / "postmaster.pid").read_text().split()[0])
            os.kill(pid, signal.SIGKILL)
            time.sleep(0.5)
            healed = Cluster(base / "pg", password="only for this test")
            healed.start()
            self.assertEqual(healed.tool("psql", "-tAc", "select 1", database="one").stdout.strip(), b"1")
            healed.stop()
            self.assertNotEqual(healed.tool("psql", "-tAc", "select 1", database="one").returncode, 0)
        finally:
            cluster.stop()
            shutil.rmtree(base, ignore_errors=True)
