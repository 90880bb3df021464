"""A request that takes too long is told so, and ends its process when it does not listen; backups fail without harm."""

import contextlib
import json
import os
import resource
import stat
import subprocess
import tempfile
import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import TestCase, mock

from aldrip.base.requests import TookTooLong
from aldrip.season import backups as told
from aldrip.serving import Watch, close_half_sent
from launcher import backups
from launcher.backups import Taken
from launcher.postgres import Cluster
from launcher.state import Stop
from tests.server.house import HouseCase, member

WHERE = {"REQUEST_METHOD": "GET", "PATH_INFO": "/api/x"}


class Watching(TestCase):
    def run_one(self, work: Any, seconds: float = 0.2, grace: float = 0.4) -> tuple[list[Any], bool]:
        """What a request answered, and whether its process would have been ended."""
        watch, said, ends = Watch(work, seconds=seconds, grace=grace), [], False

        def call() -> None:
            try:
                said.append(b"".join(watch(WHERE, lambda status, headers: said.append(status))))
            except TookTooLong:
                said.append("raised")

        thread = threading.Thread(target=call)
        thread.start()
        while thread.is_alive():
            ends = watch.look() or ends
            thread.join(0.02)
        return said, ends

    def test_one_that_works_on_is_told_and_answers_that_it_took_too_long(self) -> None:
        def busy(*_: Any) -> list[bytes]:
            until = time.monotonic() + 5
            while time.monotonic() < until:
                sum(range(1000))
            return [b"done"]

        said, ends = self.run_one(busy)
        self.assertEqual((said[0][:3], ends), ("503", False))

    def test_one_that_does_not_listen_ends_its_process(self) -> None:
        with self.assertLogs("aldrip.serving", "ERROR"):
            _, ends = self.run_one(lambda *_: time.sleep(1.0) or [b"late"])
        self.assertTrue(ends)

    def test_one_that_ends_in_time_is_left_alone_and_so_is_the_next_on_its_thread(self) -> None:
        said, ends = self.run_one(lambda *_: [b"done"])
        self.assertEqual((said, ends), ([b"done"], False))
        watch = Watch(lambda *_: time.sleep(0.15) or [b"done"], seconds=0.1, grace=9)
        stop = threading.Event()
        look = threading.Thread(target=lambda: [watch.look() or time.sleep(0.005) for _ in iter(stop.is_set, True)])
        look.start()
        for _ in range(20):
            answer = watch(WHERE, lambda *_: None)
            self.assertIn(b"".join(answer), (b"done", b"This took too long.\n"))
        stop.set()
        look.join()
        sum(range(100_000))  # nothing is left that would break in here

    def test_a_request_that_does_not_arrive_is_closed_and_one_that_did_is_not(self) -> None:
        half, whole, idle = mock.Mock(will_close=False), mock.Mock(will_close=False), mock.Mock(will_close=False)
        half.request.completed, whole.request.completed, idle.request = False, True, None
        server = mock.Mock(active_channels={1: half, 2: whole, 3: idle})
        begun: dict[int, float] = {}
        close_half_sent(server, begun, seconds=0.05)
        self.assertFalse(half.will_close)
        time.sleep(0.1)
        close_half_sent(server, begun, seconds=0.05)
        self.assertEqual((half.will_close, whole.will_close, idle.will_close), (True, False, False))


class Backups(TestCase):
    """On a cluster of its own: a backup that fails leaves the last good one, and says why."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        folder = tempfile.TemporaryDirectory(prefix="aldrip-backups-", dir="/tmp")
        cls.addClassCleanup(folder.cleanup)
        home = Path(folder.name)
        home.chmod(0o755)
        cls.cluster = Cluster(home / "pg", password="for this test", role_password="as well", lasting=False)
        cls.cluster.start()
        cls.addClassCleanup(cls.cluster.stop)
        cls.cluster.ensure_role()
        cls.cluster.ensure_database("garden")
        cls.cluster.sql(
            "create table beds as select n, repeat(md5(n::text), 20) as words from generate_series(1, 4000) n", "garden"
        )
        cls.where = home / "kept"
        cls.where.mkdir()

    def setUp(self) -> None:
        give = mock.patch.object(backups, "give", lambda path, mode: path.chmod(mode))
        give.start()
        self.addCleanup(give.stop)
        for path in self.where.iterdir():
            path.unlink()

    def test_taken_restored_counted_and_kept_for_its_owner(self) -> None:
        made = backups.take(self.cluster, "garden", self.where, "daily")
        self.assertEqual((made.words, made.rows), ("", 4000))
        self.assertEqual(stat.S_IMODE((self.where / made.file).stat().st_mode), 0o600)
        self.assertEqual(backups.read_index(self.where), [made])
        self.assertEqual(self.cluster.databases(), ["garden", "postgres", "template0", "template1"])

    def test_on_a_full_disk_the_last_good_one_stays_and_why_is_told(self) -> None:
        """Files that may not grow over 50 kB stand in for a full disk: the write fails in the middle."""
        good = backups.take(self.cluster, "garden", self.where, "daily")
        before = (self.where / good.file).read_bytes()
        soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
        resource.setrlimit(resource.RLIMIT_FSIZE, (50_000, hard))
        try:
            failed = backups.take(self.cluster, "garden", self.where, "asked for")
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
        self.assertTrue(failed.words)
        self.assertEqual((self.where / good.file).read_bytes(), before)
        self.assertEqual(sorted(path.name for path in self.where.iterdir()), sorted([good.file, "index.json"]))
        self.assertEqual([row.words for row in backups.read_index(self.where)], [failed.words, ""])
        again = backups.take(self.cluster, "garden", self.where, "asked for")
        self.assertEqual([row.file for row in backups.read_index(self.where)], [again.file, good.file])

    def test_on_a_file_system_that_really_is_full_the_last_good_one_stays(self) -> None:
        """A small file system of its own, where root may mount one: first it has room for one, then for nothing."""
        sized = backups.take(self.cluster, "garden", self.where, "daily").bytes
        small = Path(tempfile.mkdtemp())
        self.addCleanup(small.rmdir)
        size = f"size={sized * 3 // 2}"
        made = subprocess.run(["mount", "-t", "tmpfs", "-o", size, "tmpfs", str(small)], capture_output=True)
        if made.returncode:
            self.skipTest("no small file system can be mounted here; the limit on files above stands in for it")
        self.addCleanup(subprocess.run, ["umount", "-l", str(small)])
        good = backups.take(self.cluster, "garden", small, "daily")
        before = (small / good.file).read_bytes()
        failed = backups.take(self.cluster, "garden", small, "asked for")
        self.assertIn("No space left", failed.words)
        self.assertEqual([row.words for row in backups.read_index(small)], [failed.words, ""])
        ballast = small / "ballast"
        with contextlib.suppress(OSError), ballast.open("wb", buffering=0) as file:
            while True:
                file.write(b"0" * 512)
        worse = backups.take(self.cluster, "garden", small, "asked for")  # not even the list of them can be written
        self.assertTrue(worse.words)
        self.assertEqual((small / good.file).read_bytes(), before)
        self.assertIn(good, backups.read_index(small))
        ballast.unlink()
        (small / good.file).rename(small / "elsewhere")  # as somebody does who makes room
        (small / "elsewhere").unlink()
        self.assertEqual(backups.take(self.cluster, "garden", small, "asked for").words, "")

    def test_one_that_cannot_be_restored_is_not_called_good(self) -> None:
        with mock.patch.object(backups, "restore_into", side_effect=Stop("cut short")):
            made = backups.take(self.cluster, "garden", self.where, "daily")
        self.assertEqual((made.words, made.file), ("cut short", ""))
        self.assertEqual([path.name for path in self.where.iterdir()], ["index.json"])

    def test_the_oldest_of_each_kind_go(self) -> None:
        rows = []
        for n in range(40):
            why = ("daily", "before an upgrade")[n % 2]
            file = self.where / f"{n}.backup"
            file.touch()
            rows.append(Taken(f"2027-07-01T00:00:{n:02d}+00:00", why, file.name, 1, 1))
        kept = backups._pruned(self.where, rows)
        for why, most in (("daily", 14), ("before an upgrade", 5)):
            self.assertEqual(sum(1 for row in kept if row.why == why), most)
        self.assertEqual({path.name for path in self.where.glob("*.backup")}, {row.file for row in kept})
        self.assertEqual(kept[0], rows[0])

    def test_one_is_due_after_a_day_when_asked_and_not_all_the_time(self) -> None:
        daily = backups.Daily(self.cluster, "garden", self.where)
        self.assertEqual(daily.due(), "daily")
        daily()
        daily()
        daily.wait(60)
        self.assertEqual((daily.due(), len(backups.read_index(self.where))), ("", 1))
        (self.where / backups.WANTED).touch()
        self.assertEqual(daily.due(), "asked for")
        (self.where / backups.WANTED).unlink()
        old = (datetime.now(UTC) - timedelta(hours=25)).isoformat()
        backups._write_index(self.where, [Taken(old, "daily", "x")])
        self.assertEqual(daily.due(), "")  # it was tried within the hour
        daily.tried -= 3601
        self.assertEqual(daily.due(), "daily")


class Told(HouseCase):
    """What the screen says of the backups, and to whom."""

    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.where = Path(folder.name)
        patch = mock.patch.dict(os.environ, {"ALDRIP_BACKUPS": folder.name})
        patch.start()
        self.addCleanup(patch.stop)

    def index(self, *ages_h: float, words: str = "") -> None:
        now = datetime.now(UTC)
        rows = [
            Taken((now - timedelta(hours=age)).isoformat(), "daily", f"{n}.backup", 9, 9)
            for n, age in enumerate(ages_h)
        ]
        rows = [Taken(now.isoformat(), "daily", words=words), *rows] if words else rows
        (self.where / "index.json").write_text(json.dumps([vars_of(row) for row in rows]))

    def asked(self) -> list[str]:
        return [one["sentence"] for one in self.get("/season-line")["decisions"] if one["room"] == "house"]

    def test_a_manager_hears_of_a_missing_an_old_and_a_failed_one_and_of_no_good_one(self) -> None:
        self.assertEqual(self.asked(), ["There is no good backup yet."])
        self.index(49)
        self.assertRegex(self.asked()[0], r"^The last good backup is of ")
        self.index(3, 27, words="no room")
        self.assertEqual(self.asked(), [])
        shown = self.get("/backups")
        self.assertEqual((shown["old"], shown["failed"], len(shown["rows"])), (False, "no room", 3))
        self.client.force_login(member(self.ctx, "vi", "viewer"))
        self.index()
        self.assertEqual(self.asked(), [])
        self.get("/backups", status=403)

    def test_asking_leaves_a_word_for_the_launcher_and_only_listed_files_are_given_out(self) -> None:
        self.post("/backups")
        self.assertTrue((self.where / "wanted").exists())
        self.assertTrue(self.get("/backups")["asked"])
        self.index(1)
        (self.where / "0.backup").write_bytes(b"123456789")
        (self.where / "other").write_text("secret")
        self.assertEqual(b"".join(self.client.get("/api/backups/0.backup")), b"123456789")
        for name in ("other", "index.json", "..%2Fetc%2Fpasswd", "1.backup"):
            self.assertEqual(self.client.get(f"/api/backups/{name}").status_code, 404, name)

    def test_where_none_are_taken_nothing_is_said(self) -> None:
        with mock.patch.dict(os.environ):
            del os.environ["ALDRIP_BACKUPS"]
            self.assertEqual(self.asked(), [])
            self.assertFalse(self.get("/backups")["taken_here"])
            self.post("/backups", status=422)
            self.assertFalse(told.is_old())


def vars_of(row: Taken) -> dict[str, Any]:
    return {name: getattr(row, name) for name in Taken.__dataclass_fields__}
