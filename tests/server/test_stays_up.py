"""A real `./aldrip serve`, attacked: parts of it killed under people who write, its door held open, its port taken.

Common practice, no source: what a service of a small firm must outlive.
"""

import contextlib
import http.client
import json
import os
import pwd
import re
import shutil
import signal
import socket
import ssl
import stat
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from http.cookiejar import CookieJar
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, Self
from unittest import TestCase
from uuid import uuid4

from launcher import install, rights
from launcher.postgres import ROLE, Cluster
from launcher.state import ROOT, free_port, state_dir

BACK_S = 15.0
MOST_KB = 700_000
NAME = "aldrip.example.org"  # by which the proxy calls it
PASSWORD = "seven brown hens"
SET_UP = {
    "organisation": "Reedmace Nursery",
    "full_name": "Una Weir",
    "username": "una",
    "password": PASSWORD,
    "latitude": 52,
    "monthly_c": [4, 5, 7, 9, 13, 16, 18, 18, 15, 11, 7, 5],
}


class Person:
    """Somebody with a browser: cookies, the token, and patience."""

    def __init__(self, port: int) -> None:
        self.at = f"http://127.0.0.1:{port}"
        self.jar = CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))
        self.csrf = ""

    def beside(self) -> "Person":
        """The same person at another desk, without the half second that a password takes."""
        other = Person(int(self.at.rsplit(":", 1)[1]))
        for cookie in self.jar:
            other.jar.set_cookie(cookie)
        other.csrf = self.csrf
        return other

    def ask(self, method: str, path: str, body: Any = None, key: str = "", seconds: float = 20) -> tuple[int, Any]:
        request = urllib.request.Request(f"{self.at}{path}", method=method)
        if body is not None:
            request.data = json.dumps(body).encode()
            request.add_header("Content-Type", "application/json")
        request.add_header("X-CSRFToken", self.csrf)
        if key:
            request.add_header("Idempotency-Key", key)
        try:
            with self.opener.open(request, timeout=seconds) as answer:
                return answer.status, json.loads(answer.read() or b"null")
        except urllib.error.HTTPError as error:
            return error.code, json.loads(error.read() or b"null")

    def greet(self) -> dict[str, Any]:
        _, session = self.ask("GET", "/api/session")
        self.csrf = session["csrf"]
        found: dict[str, Any] = session
        return found

    def sign_in(self) -> "Person":
        self.greet()
        status, session = self.ask("POST", "/api/session", {"username": "una", "password": PASSWORD})
        assert status == 200, session
        self.csrf = session["csrf"]
        return self


def family(root: int) -> dict[int, tuple[str, int]]:
    """Processes under one, with their command line and the user they run as."""
    found: dict[int, tuple[str, int]] = {}
    parents: dict[int, int] = {}
    for path in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError, ValueError, IndexError):
            pid = int(path.name)
            parents[pid] = int((path / "stat").read_text().rsplit(")", 1)[1].split()[1])
            command = (path / "cmdline").read_bytes().replace(b"\0", b" ").decode()
            found[pid] = (command, path.stat().st_uid)
    mine = {root}
    while True:
        more = {pid for pid, parent in parents.items() if parent in mine} - mine
        if not more:
            return {pid: found[pid] for pid in mine if pid in found}
        mine |= more


class Relay:
    """TLS to plain HTTP, one request a connection, with the heads that a proxy sets."""

    def __init__(self, home: Path, name: str, port: int) -> None:
        self.name, self.port = name, port
        self.files = home / "tls.pem", home / "tls.key"
        words = f"req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN={name} -addext subjectAltName=DNS:{name}"
        paths = ["-out", str(self.files[0]), "-keyout", str(self.files[1])]
        subprocess.run(["openssl", *words.split(), *paths], check=True, capture_output=True)

    def __enter__(self) -> Self:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(*self.files)
        relay = self

        class Pass(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                length = int(self.headers.get("content-length") or 0)
                heads = {key: value for key, value in self.headers.items() if not key.lower().startswith("x-forwarded")}
                heads |= {"X-Forwarded-For": heads.pop("X-Test-Caller", "198.51.100.1"), "X-Forwarded-Proto": "https"}
                heads["X-Forwarded-Host"] = relay.name
                line = http.client.HTTPConnection("127.0.0.1", relay.port, timeout=20)
                line.request(self.command, self.path, self.rfile.read(length), heads)
                answer = line.getresponse()
                body = answer.read()
                self.send_response(answer.status)
                for key, value in answer.getheaders():
                    if key.lower() not in ("content-length", "transfer-encoding", "connection", "date", "server"):
                        self.send_header(key, value)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            do_POST = do_GET  # noqa: N815

            def log_message(self, *said: object) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Pass)
        self.server.socket = context.wrap_socket(self.server.socket, server_side=True)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self.server.shutdown()
        self.server.server_close()

    def ask(
        self,
        method: str,
        path: str,
        body: Any = None,
        heads: dict[str, str] | None = None,
        caller: str = "198.51.100.1",
    ) -> tuple[int, list[tuple[str, str]], bytes]:
        trusting = ssl.create_default_context(cafile=str(self.files[0]))
        line = http.client.HTTPSConnection("127.0.0.1", self.server.server_address[1], timeout=20, context=trusting)
        line.sock = trusting.wrap_socket(
            socket.create_connection(self.server.server_address[:2]), server_hostname=self.name
        )
        sent = {"Host": self.name, "X-Test-Caller": caller, "Content-Type": "application/json", **(heads or {})}
        line.request(method, path, None if body is None else json.dumps(body), sent)
        answer = line.getresponse()
        return answer.status, [(key.lower(), value) for key, value in answer.getheaders()], answer.read()


class Served(TestCase):
    """One server for all of these, in a state folder of its own; each test leaves it standing."""

    starts = 0

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.home = Path(tempfile.mkdtemp(prefix="aldrip-up-", dir="/tmp"))
        cls.home.chmod(0o755)
        cls.addClassCleanup(shutil.rmtree, cls.home, ignore_errors=True)
        real = state_dir()
        cls.state = cls.home / real.name
        cls.state.mkdir()
        (cls.state / "venv").symlink_to(real / "venv")
        for level in ("build", "runtime", "reference"):
            lock = install.digest([ROOT / "requirements" / f"{level}.txt"])
            (cls.state / f"python-{level}.stamp").write_text(lock)
        cls.port = free_port()
        cls.launcher = cls.launch()
        cls.addClassCleanup(cls.finish)

    @classmethod
    def launch(cls, **more: str) -> "subprocess.Popen[str]":
        log = (cls.home / "said.log").open("a")
        env = {**os.environ, "ALDRIP_STATE": str(cls.home), **more}
        env.pop("ALDRIP_DB_NAME", None)
        started = subprocess.Popen(
            [sys.executable, "-m", "launcher", "serve", "--port", str(cls.port)],
            cwd=ROOT,
            env=env,
            stdout=log,
            stderr=subprocess.STDOUT,
            text=True,
            start_new_session=True,
        )
        log.close()
        cls.starts += 1

        def said() -> bool:  # its words come after the first answer
            return (cls.home / "said.log").read_text().count("Ctrl-C stops it") >= cls.starts

        cls.until(lambda: (cls.healthy("readyz") and said()) or started.poll() is not None, 180, "it starts")
        assert started.poll() is None, (cls.home / "said.log").read_text()[-3000:]
        return started

    @classmethod
    def finish(cls) -> None:
        if cls.launcher.poll() is None:
            cls.launcher.send_signal(signal.SIGTERM)
            with contextlib.suppress(subprocess.TimeoutExpired):
                cls.launcher.wait(40)
        cls.cluster().stop()

    @classmethod
    def cluster(cls) -> Cluster:
        words = [(cls.state / name).read_text().strip() for name in ("database-password", "program-password")]
        found = Cluster(cls.state / "pg", password=words[0], role_password=words[1])
        found.port = json.loads((cls.state / "ports.json").read_text())["database"]
        return found

    @classmethod
    def healthy(cls, path: str = "healthz", seconds: float = 3) -> bool:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{cls.port}/{path}", timeout=seconds) as answer:
                return bool(answer.status == 200)
        except OSError:
            return False

    @staticmethod
    def until(holds: Callable[[], bool], seconds: float, what: str) -> float:
        began = time.monotonic()
        while not holds():
            if time.monotonic() - began > seconds:
                raise AssertionError(f"{what}: not within {seconds:.0f} s")
            time.sleep(0.1)
        return time.monotonic() - began

    def pids(self, words: str) -> list[int]:
        return [pid for pid, (command, _) in family(self.launcher.pid).items() if words in command]

    @contextlib.contextmanager
    def writing(self, people: int = 20) -> Iterator[list[str]]:
        """People who add tasks all the time, each under a key until it is answered; what was acknowledged."""
        kept: list[str] = []
        stop = threading.Event()
        una = Person(self.port).sign_in()

        def write() -> None:
            me = una.beside()
            while not stop.is_set():
                title, key = f"Sweep {uuid4().hex}", str(uuid4())
                for _ in range(200):
                    try:
                        status, _answer = me.ask("POST", "/api/tasks", {"title": title, "due": "2030-05-06"}, key)
                    except (OSError, ValueError):  # cut off, also in the middle of its words
                        status = 0
                    if status == 200:
                        kept.append(title)
                        break
                    time.sleep(0.2)
                time.sleep(0.05)

        threads = [threading.Thread(target=write, daemon=True) for _ in range(people)]
        for thread in threads:
            thread.start()
        try:
            yield kept
        finally:
            stop.set()
            for thread in threads:
                thread.join(60)

    def test_1_of_eight_who_set_it_up_at_once_one_does_and_only_with_the_word(self) -> None:
        stranger = Person(self.port)
        self.assertTrue(stranger.greet()["asks_word"])
        status, told = stranger.ask("POST", "/api/setup", {**SET_UP, "word": "open"})
        self.assertEqual((status, told["errors"][0]["field"]), (422, "word"))
        word = (self.state / "set-up-word").read_text().strip()
        self.assertIn(word, (self.home / "said.log").read_text())
        answers: list[int] = []

        def set_up(n: int) -> None:
            one = Person(self.port)
            one.greet()
            answers.append(one.ask("POST", "/api/setup", {**SET_UP, "word": word, "organisation": f"House {n}"})[0])

        threads = [threading.Thread(target=set_up, args=(n,)) for n in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(sorted(answers), [200] + [403] * 7)
        self.assertEqual(self.cluster().sql("select count(*) from accounts_organisation", "aldrip"), "1")

    def test_2_nothing_but_the_launcher_is_root_and_the_program_owns_its_database_alone(self) -> None:
        processes = family(self.launcher.pid)
        postmaster = int((self.state / "pg" / "data" / "postmaster.pid").read_text().split()[0])
        processes |= family(postmaster)
        others = {pid: told for pid, told in processes.items() if pid != self.launcher.pid}
        self.assertGreater(len(others), 6)
        if os.geteuid() == 0:
            names = {pwd.getpwuid(user).pw_name for _, user in others.values()}
            self.assertEqual(names, {"aldrip", "postgres"}, others)
        for pid in self.pids("aldrip.serving"):
            if os.geteuid() == 0:  # what only long work needs would double the time until it is back
                self.assertNotRegex(Path(f"/proc/{pid}/maps").read_text(), "ortools|pandas")
            status = Path(f"/proc/{pid}/status").read_text()
            self.assertRegex(status, r"NoNewPrivs:\s+1")
            if os.geteuid() == 0:
                self.assertRegex(status, r"CapEff:\s+0+\n")
                if rights._bounds():
                    self.assertRegex(status, r"CapBnd:\s+0+\n")
        powers = "rolsuper or rolcreaterole or rolcreatedb or rolreplication or rolbypassrls"
        self.assertEqual(self.cluster().sql(f"select {powers} from pg_roles where rolname = '{ROLE}'"), "f")
        self.assertEqual(
            self.cluster().sql(
                f"select count(*) from pg_tables where schemaname = 'public' and tableowner <> '{ROLE}'", "aldrip"
            ),
            "0",
        )
        secrets = [self.state / name for name in ("secret-key", "database-password", "program-password", "set-up-word")]
        self.assertEqual({stat.S_IMODE(path.stat().st_mode) for path in secrets}, {0o600})
        for name in ("backups", "logs", "home"):
            self.assertEqual(stat.S_IMODE((self.state / name).stat().st_mode), 0o700, name)

    def test_3_whatever_is_killed_under_twenty_writers_is_back_and_nothing_is_lost_or_twice(self) -> None:
        took = {}
        with self.writing() as kept:
            self.until(lambda: len(kept) > 20, 30, "people write")
            for what, words in (
                ("a web process", "aldrip.serving"),
                ("the worker", "procrastinate worker"),
                ("PostgreSQL", ""),
                ("both web processes", "aldrip.serving"),
            ):
                postmaster = int((self.state / "pg" / "data" / "postmaster.pid").read_text().split()[0])
                victims = self.pids(words) if words else [postmaster]
                victims = victims[:1] if what == "a web process" else victims
                for pid in victims:
                    os.kill(pid, signal.SIGKILL)
                time.sleep(0.3)
                before = len(kept)
                took[what] = self.until(lambda: self.healthy() and len(kept) > before + 5, BACK_S, f"{what} is back")  # noqa: B023
                self.until(lambda: len(self.pids("aldrip.serving")) == 2, BACK_S, "both web processes")
                self.until(lambda: len(self.pids("procrastinate worker")) == 1, BACK_S, "the worker")
        self.assertTrue(all(seconds < BACK_S for seconds in took.values()), took)
        cluster = self.cluster()
        there = cluster.sql("select title from diary_task where title like 'Sweep %'", "aldrip").split("\n")
        self.assertEqual(len(there), len(set(there)), "something was saved twice")
        self.assertEqual(set(kept) - set(there), set(), "something acknowledged is lost")

    def test_4_half_sent_requests_and_huge_ones_stop_nobody(self) -> None:
        with contextlib.ExitStack() as held:
            for n in range(60):
                line = held.enter_context(socket.create_connection(("127.0.0.1", self.port)))
                line.sendall(b"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\n" + b"X-A: b\r\n" * (n % 3))
            began = time.monotonic()
            self.assertTrue(self.healthy(seconds=2))
            Person(self.port).sign_in()
            self.assertLess(time.monotonic() - began, 5)
        with socket.create_connection(("127.0.0.1", self.port), timeout=5) as line:
            line.sendall(
                b"POST /api/archive HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 734003200\r\n\r\n" + b"x" * 1000
            )
            self.assertIn(b"413", line.recv(200))
        with socket.create_connection(("127.0.0.1", self.port), timeout=5) as line:
            line.sendall(b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Long: " + b"y" * 200_000)
            self.assertIn(b"431", line.recv(200))

    def test_4_long_work_whose_worker_is_killed_is_done_whole_and_once(self) -> None:
        me = Person(self.port).sign_in()
        many = 305  # so many that they are taken in by the worker
        rows = [
            {
                "customer": f"Hand {n % 40}",
                "crop": "Endive",
                "form": "plug",
                "quantity": str(400 + n),
                "due": "2030-W30",
            }
            for n in range(many)
        ]
        status, told = me.ask("POST", "/api/orders", {"rows": rows, "plan": True, "keep": False, "waited": []})
        self.assertEqual(status, 200, told)
        self.assertTrue(told["job"], told)
        cluster = self.cluster()

        def planned() -> int:
            return int(cluster.sql("select count(*) from batches_allocation", "aldrip"))

        self.until(lambda: planned() > 0, 60, "it plans")
        for pid in self.pids("procrastinate worker"):
            os.kill(pid, signal.SIGKILL)
        self.until(lambda: self._job(me, told["job"])["state"] not in ("waiting", "running"), 150, "it ends")
        self.assertEqual(self._job(me, told["job"])["state"], "done", self._job(me, told["job"]))
        self.assertEqual(cluster.sql("select count(*) from orders_orderline", "aldrip"), str(many))
        self.assertEqual(
            cluster.sql("select count(*), count(distinct order_line_id) from batches_allocation", "aldrip"),
            f"{many}|{many}",
        )

    def _job(self, me: Person, wanted: int) -> dict[str, Any]:
        found: dict[str, Any] = next(one for one in me.ask("GET", "/api/jobs")[1] if one["id"] == wanted)
        return found

    def test_4_what_asks_for_too_much_is_told_so_and_no_process_grows_over_its_bound(self) -> None:
        """A neighbour of thousands of corners, ten thousand rows, papers: twenty at once, and everybody is answered."""
        una = Person(self.port).sign_in()
        jagged = [[52 + n % 2 / 1000, n / 1e5] for n in range(4998)]
        row = {"customer": "Hand", "crop": "Endive", "form": "plug", "quantity": "400", "due": "2030-W30"}
        asked: list[tuple[str, str, Any]] = [
            ("POST", "/api/calc/isolation", {"outline": jagged, "neighbours": [{"outline": jagged}]}),
            ("POST", "/api/neighbours", {"name": "x", "crop_id": 1, "kind": "x", "year": 2030, "outline": jagged}),
            ("POST", "/api/orders/import/check", {"rows": [row] * 5000}),
            ("POST", "/api/orders/import/paste", {"text": "crop\tquantity\n" + "Endive\t500\n" * 60_000}),
            ("GET", "/api/archive", None),
            ("GET", "/api/board?start=2030-01-01&end=2031-12-31", None),
        ]
        answers: list[tuple[str, int, float]] = []

        def ask(n: int) -> None:
            method, path, body = asked[n % len(asked)]
            began, status = time.monotonic(), 0
            with contextlib.suppress(OSError, ValueError):  # an archive is no JSON
                status, _ = una.beside().ask(method, path, body, seconds=90)
            answers.append((path, status, time.monotonic() - began))

        threads = [threading.Thread(target=ask, args=(n,)) for n in range(20)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([one for one in answers if one[1] == 500 or one[2] > 46], [])
        for pid in self.pids("aldrip.serving") + self.pids("procrastinate worker"):
            high = int(re.findall(r"VmHWM:\s+(\d+)", Path(f"/proc/{pid}/status").read_text())[0])
            self.assertLess(high, MOST_KB, f"{pid} held {high} kB")
        began = time.monotonic()
        self.assertTrue(self.healthy())
        self.assertEqual(una.ask("GET", "/api/day")[0], 200)
        self.assertLess(time.monotonic() - began, 10)

    def test_5_a_backup_is_taken_when_asked_for_verified_and_holds_no_session(self) -> None:
        me = Person(self.port).sign_in()
        status, _ = me.ask("POST", "/api/backups")
        self.assertEqual(status, 200)

        def good() -> list[dict[str, Any]]:
            rows: list[dict[str, Any]] = me.ask("GET", "/api/backups")[1]["rows"]
            return [row for row in rows if row["why"] == "asked for" and not row["words"]]

        self.until(lambda: bool(good()), 60, "a good backup")
        row = good()[0]
        self.assertGreater(row["rows"], 500)
        file = self.state / "backups" / row["file"]
        self.assertEqual(stat.S_IMODE(file.stat().st_mode), 0o600)
        contents = subprocess.run(
            [str(Cluster.binaries() / "pg_restore"), "--data-only", "-f", "-", str(file)],
            capture_output=True,
            text=True,
        ).stdout
        self.assertIn("Reedmace" if "Reedmace" in contents else "House", contents)
        self.assertNotRegex(contents, r"COPY public\.(django_session|accounts_answered) ")
        self.assertEqual([name for name in self.cluster().databases() if name.startswith("aldrip_verif")], [])
        with me.opener.open(f"{me.at}/api/backups/{row['file']}") as answer:
            self.assertEqual(len(answer.read()), row["bytes"])
        self.assertEqual(me.ask("GET", "/api/backups/..%2Fsecret-key")[0], 404)

    def test_6_the_launcher_killed_leaves_nothing_that_the_next_start_does_not_put_right(self) -> None:
        database = json.loads((self.state / "ports.json").read_text())["database"]
        with self.writing() as kept:
            self.until(lambda: len(kept) > 20, 30, "people write")
            web, before = self.pids("aldrip.serving"), len(kept)
            os.kill(self.launcher.pid, signal.SIGKILL)
            self.launcher.wait()
            self.until(lambda: not any(Path(f"/proc/{pid}").exists() for pid in web), 20, "what served ends with it")
            type(self).launcher = self.launch()
            self.until(lambda: len(kept) > before + 5, BACK_S, "people go on")
        self.assertEqual(json.loads((self.state / "ports.json").read_text())["database"], database)
        there = self.cluster().sql("select title from diary_task where title like 'Sweep %'", "aldrip").split("\n")
        self.assertEqual(len(there), len(set(there)))
        self.assertEqual(set(kept) - set(there), set())

    def test_7_a_second_one_is_told_and_a_port_of_a_stranger_is_refused_in_words(self) -> None:
        env = {**os.environ, "ALDRIP_STATE": str(self.home)}
        told = subprocess.run(
            [sys.executable, "-m", "launcher", "serve"], cwd=ROOT, env=env, capture_output=True, text=True, timeout=60
        )
        self.assertEqual(told.returncode, 1)
        self.assertRegex(told.stderr, rf"already serving from this clone: http://127\.0\.0\.1:{self.port}/")
        sound = subprocess.run(
            [sys.executable, "-m", "launcher", "check"], cwd=ROOT, env=env, capture_output=True, text=True, timeout=60
        )
        self.assertEqual(sound.returncode, 0, sound.stdout + sound.stderr)
        self.assertIn(f"Port of serve       {self.port}, ours", re.sub(r" {7,}", "       ", sound.stdout))

    def test_8_a_term_ends_everything_in_order(self) -> None:
        processes = family(self.launcher.pid)
        self.launcher.send_signal(signal.SIGTERM)
        self.assertEqual(self.launcher.wait(40), 0)
        for pid in processes:
            self.assertFalse(Path(f"/proc/{pid}").exists(), processes[pid])
        self.assertFalse((self.state / "pg" / "data" / "postmaster.pid").exists())
        with socket.socket() as stranger:
            stranger.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            stranger.bind(("127.0.0.1", self.port))
        type(self).launcher = self.launch(ALDRIP_HOSTS=NAME, ALDRIP_HTTPS="1", ALDRIP_PROXY="127.0.0.1")

    def test_9_behind_a_proxy_with_tls_the_session_is_for_tls_alone_and_a_lock_is_for_one_caller(self) -> None:
        """A relay of a few lines stands in for the web server of `docs/operating/proxy.conf`, with the same heads."""
        with Relay(self.home, NAME, self.port) as relay:
            status, heads, _ = relay.ask("GET", "/api/session", caller="198.51.100.7")
            self.assertEqual(status, 200)
            cookies = [value for key, value in heads if key == "set-cookie"]
            self.assertTrue(cookies)
            self.assertTrue(all("secure" in one.lower() for one in cookies), cookies)
            pair, token = re.findall(r"(\w+_csrf=(\w+))", " ".join(cookies))[0]

            def sign_in(password: str, caller: str) -> int:
                body = {"username": "una", "password": password}
                sent = {"cookie": pair, "x-csrftoken": token, "referer": f"https://{NAME}/"}
                return relay.ask("POST", "/api/session", body, sent, caller=caller)[0]

            for _ in range(8):
                sign_in("a wrong one", "198.51.100.66")
            self.assertNotEqual(sign_in(PASSWORD, "198.51.100.66"), 200, "who guessed is locked")
            self.assertEqual(sign_in(PASSWORD, "198.51.100.7"), 200, "somebody at another desk is not")
            other = {"cookie": pair, "x-csrftoken": token, "referer": "https://elsewhere.example/"}
            self.assertEqual(
                relay.ask("POST", "/api/session", {"username": "una", "password": PASSWORD}, other)[0], 403
            )
