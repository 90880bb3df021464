"""The launcher: what it says, what it keeps, what it never does twice."""

import contextlib
import io
import json
import os
import socket
import stat
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from launcher import __main__ as entry
from launcher import bench, commands, gates, install, postgres, state, supervise
from launcher.state import Stop


class StateCase(unittest.TestCase):
    """A case whose clone keeps its things in a folder that goes afterwards."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.home = Path(folder.name)
        for patch in (
            mock.patch.dict(os.environ, {"XDG_STATE_HOME": folder.name}),
            mock.patch("os.geteuid", return_value=1000),
            mock.patch.object(install, "say"),
        ):
            patch.start()
            self.addCleanup(patch.stop)
        os.environ.pop("ALDRIP_STATE", None)  # back again with the rest of the environment


class Entry(unittest.TestCase):
    def main(self, *arguments: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with (
            mock.patch.object(sys, "argv", ["aldrip", *arguments]),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
        ):
            code = entry.main()
        return code, out.getvalue(), err.getvalue()

    def test_without_a_command_it_lists_them_and_says_that_it_did_nothing(self) -> None:
        code, out, _ = self.main()
        self.assertEqual(code, 2)
        for name in entry.COMMANDS:
            self.assertIn(f"  {name}", out)
        self.assertEqual(self.main("--help")[0], 0)

    def test_an_unknown_command_is_named_with_the_known_ones(self) -> None:
        code, out, err = self.main("plant")
        self.assertEqual((code, out), (2, ""))
        self.assertIn("There is no command “plant”. Known: demo, serve, test", err)

    def test_a_stop_is_a_sentence_and_not_a_traceback(self) -> None:
        def stops(_: list[str]) -> int:
            raise Stop("PostgreSQL is not installed.")

        with mock.patch.dict(entry.COMMANDS, {"demo": (stops, "")}):
            self.assertEqual(self.main("demo"), (1, "", "PostgreSQL is not installed.\n"))

    def test_ctrl_c_ends_quietly(self) -> None:
        with mock.patch.dict(entry.COMMANDS, {"demo": (mock.Mock(side_effect=KeyboardInterrupt), "")}):
            self.assertEqual(self.main("demo"), (130, "", ""))


class WhatAcloneKeeps(StateCase):
    def test_two_clones_never_meet(self) -> None:
        one = state.state_dir()
        with mock.patch.object(state, "ROOT", Path("/somewhere/else")):
            other = state.state_dir()
        self.assertNotEqual(one, other)
        self.assertEqual({one.parent, other.parent}, {self.home / "aldrip"})

    def test_a_secret_is_made_once_and_only_its_owner_reads_it(self) -> None:
        first = state.secret("key")
        self.assertEqual(state.secret("key"), first)
        self.assertNotEqual(state.secret("other"), first)
        self.assertGreater(len(first), 40)
        mode = stat.S_IMODE((state.state_dir() / "key").stat().st_mode)
        self.assertEqual(mode, 0o600)

    def test_a_port_that_people_know_never_moves_and_the_databases_own_does(self) -> None:
        kept = {name: state.kept_port(name) for name in ("demo", "database")}
        self.assertEqual({name: state.kept_port(name) for name in kept}, kept)
        with contextlib.ExitStack() as held:
            for port in kept.values():
                other = held.enter_context(socket.socket())
                other.bind(("127.0.0.1", port))
                self.assertFalse(state.port_is_free(port))
            self.assertEqual(state.kept_port("demo"), kept["demo"])
            moved = state.kept_port("database")
            self.assertNotEqual(moved, kept["database"])
            with self.assertRaisesRegex(Stop, f"Port {kept['demo']} is taken by another program.*--port"):
                supervise.listen(kept["demo"], patience_s=0)
        self.assertEqual(state.kept_port("demo", asked=moved), moved)
        self.assertEqual(json.loads((state.state_dir() / "ports.json").read_text())["demo"], moved)
        (state.state_dir() / "ports.json").write_text("{cut sho")
        self.assertGreater(state.kept_port("demo"), 0)

    def test_one_server_of_a_kind_and_the_second_is_told_where_the_first_is(self) -> None:
        with commands._only_one("demo"):
            (state.state_dir() / "demo.lock").write_text("http://127.0.0.1:8000/")
            with (
                self.assertRaisesRegex(Stop, "already serving from this clone: http://127.0.0.1:8000/"),
                commands._only_one("demo"),
            ):
                pass
            with commands._only_one("serve"):  # the other kind may
                pass
            self.assertTrue(commands._is_serving("demo"))
            self.assertFalse(commands._is_serving("serve"))
        with commands._only_one("demo"):
            pass

    def test_the_environment_names_loopback_and_nothing_of_the_persons_own(self) -> None:
        cluster = mock.Mock(spec=postgres.Cluster)
        cluster.environment.return_value = {"ALDRIP_DB_HOST": "127.0.0.1"}
        with mock.patch.dict(os.environ, {"NPM_CONFIG_NODEDIR": "/x", "npm_config_nodedir": "/x"}):
            env = commands._environment(cluster, "aldrip", ALDRIP_COOKIE="c")
        self.assertEqual((env["ALDRIP_DB_HOST"], env["ALDRIP_COOKIE"]), ("127.0.0.1", "c"))
        self.assertNotIn("npm_config_nodedir", {name.lower() for name in env})
        self.assertTrue(env["PATH"].startswith(str(install.venv())))


class Installing(StateCase):
    def told(self, packages: set[str]) -> str:
        with (
            mock.patch.object(install, "_installed", side_effect=lambda name: name not in packages),
            self.assertRaises(Stop) as stopped,
        ):
            install.debian_packages("build")
        return str(stopped.exception)

    def test_an_ordinary_user_is_told_the_line_to_run(self) -> None:
        said = self.told({"postgresql-15", "fonts-dejavu-core"})
        self.assertIn("apt-get install --no-install-recommends postgresql-15 fonts-dejavu-core", said)
        self.assertIn("create_main_cluster = false", said)  # and no second server comes with it
        self.assertNotIn("libpango", said)

    def test_with_everything_there_nothing_is_asked(self) -> None:
        with mock.patch.object(install, "_installed", return_value=True), mock.patch("subprocess.run") as ran:
            install.debian_packages("reference")
        ran.assert_not_called()

    def test_root_installs_what_is_missing_and_only_that(self) -> None:
        done = subprocess.CompletedProcess([], 0)
        with (
            mock.patch("os.geteuid", return_value=0),
            mock.patch.object(install, "_installed", side_effect=lambda name: name != "chromium"),
            mock.patch.object(install, "_never_make_a_system_cluster") as quiet,
            mock.patch("subprocess.run", return_value=done) as ran,
            mock.patch.object(install, "state_dir", return_value=self.home),
        ):
            install.debian_packages("reference")
        quiet.assert_called_once()
        update, get = (call.args[0] for call in ran.call_args_list)
        self.assertEqual((update[-1], get[-2:]), ("update", ["install", "chromium"]))

    def test_the_same_lock_file_is_installed_once(self) -> None:
        calls: list[list[str]] = []

        def run(command: list[str], log: str, **_: Any) -> None:
            calls.append(command)
            install.python().parent.mkdir(parents=True, exist_ok=True)
            install.python().touch()

        with mock.patch.object(install, "run", side_effect=run):
            install.python_packages("runtime")
            first = len(calls)
            install.python_packages("runtime")
        self.assertEqual(len(calls), first)
        self.assertTrue(all("--require-hashes" in c for c in calls if "install" in c), calls)

    def test_a_step_that_fails_shows_its_last_words(self) -> None:
        with self.assertRaisesRegex(Stop, r"(?s)This step failed: .*no such crop"):
            install.run([sys.executable, "-c", "import sys; sys.exit('no such crop')"], "try")
        self.assertIn("no such crop", (state.state_dir() / "try.log").read_text())

    def test_a_digest_follows_names_and_contents(self) -> None:
        with mock.patch.object(install, "ROOT", self.home):
            one = self.home / "a.txt"
            one.write_text("x")
            first = install.digest([one])
            self.assertEqual(install.digest([one]), first)
            one.write_text("y")
            self.assertNotEqual(install.digest([one]), first)
            two = self.home / "b.txt"
            two.write_text("y")
            self.assertNotEqual(install.digest([one]), install.digest([two]))

    def test_locks_name_no_host_and_hash_every_package(self) -> None:
        for path in (state.ROOT / "requirements").glob("*.txt"):
            text = path.read_text()
            self.assertNotRegex(text, r"https?://|index-url", path.name)
            pins = [line for line in text.splitlines() if "==" in line and not line.startswith(" ")]
            self.assertGreaterEqual(text.count("--hash=sha256:"), len(pins), path.name)
        lock = (state.ROOT / "web" / "package-lock.json").read_text()
        self.assertNotIn("registry", lock)
        self.assertNotIn('"resolved"', lock)


class Clusters(StateCase):
    def test_clusters_of_runs_that_are_gone_are_put_away_and_living_ones_stay(self) -> None:
        gone = subprocess.Popen([sys.executable, "-c", ""])
        gone.wait()
        for name in (f"test-{gone.pid}", f"test-{os.getpid()}", "test-odd"):
            (self.home / name).mkdir()
        postgres.sweep_test_clusters(self.home)
        self.assertEqual([path.name for path in self.home.iterdir()], [f"test-{os.getpid()}"])

    def test_a_stale_pid_file_of_another_program_is_no_server(self) -> None:
        cluster = postgres.Cluster(self.home / "pg", password="", role_password="")
        cluster.data.mkdir(parents=True)
        pid_file = cluster.data / "postmaster.pid"
        pid_file.write_text(f"{os.getpid()}\n{cluster.data}\n0\n5432\n")
        self.assertIsNone(cluster._running_port())
        self.assertFalse(pid_file.exists())

    def test_only_a_process_of_ours_is_ended_and_waited_for(self) -> None:
        sleeper = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
        postgres.end(sleeper)
        self.assertIsNotNone(sleeper.returncode)
        postgres.end(sleeper)  # a second time does nothing

    def test_a_server_that_will_not_end_is_killed_after_a_while(self) -> None:
        code = "import signal, sys, time; signal.signal(signal.SIGTERM, signal.SIG_IGN); print('up', flush=True); time.sleep(60)"
        stubborn = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
        assert stubborn.stdout
        stubborn.stdout.readline()
        postgres.end(stubborn, seconds=0.2)
        stubborn.stdout.close()
        self.assertEqual(stubborn.returncode, -9)

    def test_a_server_that_ends_while_starting_says_so(self) -> None:
        ended = subprocess.Popen([sys.executable, "-c", ""])
        ended.wait()
        with self.assertRaisesRegex(Stop, "ended while starting"):
            commands._wait_until_it_answers("http://127.0.0.1:9/", [mock.Mock(process=ended)])


class Judged(unittest.TestCase):
    """A green run that shows a crash is a red run."""

    def judge(self, words: str, code: int = 0) -> tuple[int, list[str]]:
        out = io.StringIO()
        run = subprocess.Popen(
            [sys.executable, "-c", f"import sys; print({words!r}); sys.exit({code})"], stdout=subprocess.PIPE
        )
        with contextlib.redirect_stdout(out):
            found = commands.judged(run)
        return found, out.getvalue().splitlines()

    def test_a_traceback_or_a_500_in_a_green_run_fails_it(self) -> None:
        for crash in ("Traceback (most recent call last):", "Internal Server Error: /api/season-line"):
            code, said = self.judge(f"....\n{crash}\nOK\n7 passed, 0 failed")
            self.assertEqual((code, said[-1]), (1, "6 passed, 1 failed"))
            self.assertIn(crash, said)

    def test_a_quiet_run_stays_as_it_was_and_a_failed_one_keeps_its_own_count(self) -> None:
        self.assertEqual(self.judge("....\n7 passed, 0 failed"), (0, ["....", "7 passed, 0 failed"]))
        code, said = self.judge("Traceback (most recent call last):\n6 passed, 1 failed", 1)
        self.assertEqual((code, said[-1]), (1, "6 passed, 1 failed"))


class Gates(unittest.TestCase):
    def test_every_gate_that_the_house_promises_is_run(self) -> None:
        names = [name for name, _, _ in gates.gate_commands()]
        self.assertEqual(
            names,
            [
                "ruff",
                "ruff format",
                "mypy core (strict)",
                "mypy server",
                "import contracts",
                "tsc",
                "front-end lint",
                "migrations complete",
            ],
        )

    def test_a_gate_that_fails_is_named_with_its_words_and_the_others_still_run(self) -> None:
        bad = [
            ("good", [sys.executable, "-c", ""], Path("/")),
            ("bad", [sys.executable, "-c", "import sys; sys.exit('line 3 is long')"], Path("/")),
        ]
        out = io.StringIO()
        with (
            mock.patch.object(gates, "gate_commands", return_value=bad),
            mock.patch.object(gates, "types_drift", return_value="drifted"),
            contextlib.redirect_stdout(out),
        ):
            failed = gates.run_all(dict(os.environ))
        self.assertEqual(failed, ["bad", "API types"])
        for said in ("ok   good", "FAIL bad", "line 3 is long", "FAIL API types not drifted", "drifted"):
            self.assertIn(said, out.getvalue())


class Bench(unittest.TestCase):
    def run_it(self, *arguments: str) -> tuple[int, str]:
        out = io.StringIO()
        with (
            mock.patch.object(sys, "argv", ["bench", *arguments]),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(io.StringIO()),
        ):
            code = bench.main()
        return code, out.getvalue()

    def test_it_names_its_measures_and_refuses_others(self) -> None:
        code, out = self.run_it("--list")
        self.assertEqual((code, [line.split()[0] for line in out.splitlines()]), (0, list(bench.MEASURES)))
        self.assertEqual(self.run_it("--only", "moon")[0], 2)

    def test_a_ratio_says_whether_its_aim_was_met(self) -> None:
        def measured(ratio: float) -> Any:
            return {"one": (lambda _: bench.Measure("one", ratio * 2, 2, ratio, 3, "told"), "words")}

        for ratio, word in ((2.5, "met"), (3.5, "missed")):
            with mock.patch.object(bench, "MEASURES", measured(ratio)):
                self.assertIn(f"aim 3: {word}", self.run_it()[1])
                row = json.loads(self.run_it("--json")[1])[0]
            self.assertEqual({k: row[k] for k in ("name", "ratio", "aim")}, {"name": "one", "ratio": ratio, "aim": 3})
