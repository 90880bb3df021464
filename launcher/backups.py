"""Backups: written beside, verified by restoring, then kept; taken daily, before every migration, and when asked for."""

import json
import os
import subprocess
import threading
import time
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from launcher.postgres import ROLE, Cluster
from launcher.rights import folder, give, without_rights
from launcher.state import Stop, say

TRYING = "aldrip_verifying"
INDEX = "index.json"
WANTED = "wanted"
DAILY = timedelta(hours=24)
KEEP = {"daily": 14, "before an upgrade": 5, "asked for": 10}
#: Who is signed in, wrong passwords, and answers to keys are nobody's to keep.
LEFT_OUT = ("django_session", "axes_accessattempt", "axes_accesslog", "axes_accessfailurelog", "accounts_answered")


@dataclass(frozen=True)
class Taken:
    """One backup. `rows`: how many rows its restored copy held. `words`: why it failed; empty where it is good."""

    at: str
    why: str
    file: str = ""
    bytes: int = 0
    rows: int = 0
    seconds: float = 0.0
    words: str = ""


def home() -> Path:
    """The folder of the backups: the one that the house named, else one in the state of this clone."""
    named = os.environ.get("ALDRIP_BACKUPS")
    if named:
        path = Path(named)
        if not path.is_dir():
            raise Stop(
                f"ALDRIP_BACKUPS names {named}, and there is no such folder. Make it, or mount it, and start again."
            )
        return _own_folder(path / "aldrip-backups")
    return folder("backups")


def _own_folder(path: Path) -> Path:
    """A folder of our own where the house said; the program, which shows the list, must be able to enter. Raises Stop."""
    try:
        path.mkdir(exist_ok=True)
        give(path, 0o700)
    except OSError as error:
        raise Stop(
            f"{path} cannot be made for backups: {error.strerror}. Give another folder, or mend its rights."
        ) from None
    if subprocess.run([*without_rights(), "test", "-w", str(path)], capture_output=True).returncode:
        raise Stop(
            f"What serves cannot enter {path}: a folder above it is closed to others. Open it (chmod o+x), or name another."
        )
    return path


def read_index(where: Path) -> list[Taken]:
    """What is known of the backups of a folder, the newest first."""
    try:
        rows = json.loads((where / INDEX).read_text())
    except (OSError, ValueError):
        return []
    return [Taken(**row) for row in rows]


def _write_index(where: Path, rows: list[Taken]) -> None:
    part = where / f"{INDEX}.part"
    part.write_text(json.dumps([asdict(row) for row in rows], indent=1))
    give(part, 0o600)
    part.replace(where / INDEX)


def dump(cluster: Cluster, database: str, file: Path) -> int:
    """Write a database to a file of our own, compressed; whole or not at all. Its size [bytes]. Raises Stop."""
    part = file.with_name(file.name + ".part")
    left_out = [f"--exclude-table-data={name}" for name in LEFT_OUT]
    try:
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "wb") as out:
            answer = cluster.tool("pg_dump", "-Fc", *left_out, database=database, out=out)
            if answer.returncode:
                raise Stop(f"The backup failed: {answer.stderr.decode().strip()}")
            out.flush()
            os.fsync(out.fileno())
    except OSError as error:
        part.unlink(missing_ok=True)
        raise Stop(f"The backup could not be written to {file.parent}: {error.strerror}.") from None
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    part.replace(file)  # the last good one stays until this one is whole
    return file.stat().st_size


COUNTED = (
    "select coalesce(sum((xpath('/row/n/text()', query_to_xml(format('select count(*) as n from %I', relname), "
    "false, true, '')))[1]::text::bigint), 0) from pg_class where relkind = 'r' and relnamespace = 'public'::regnamespace "
    f"and relname not in ({', '.join(repr(name) for name in LEFT_OUT)})"
)


def restore_into(cluster: Cluster, file: Path, database: str) -> None:
    """Restore a file into a new database that belongs to the program. Raises Stop and leaves none behind."""
    with file.open("rb") as given:
        listed = cluster.tool("pg_restore", "--list", database="", given=given)
    if listed.returncode:
        raise Stop(
            f"{file} is no backup of Aldrip, or it is cut short. Nothing was changed.\n{listed.stderr.decode().strip()}"
        )
    cluster.drop_database(database)
    cluster.ensure_database(database)
    try:
        options = ["--no-owner", "--no-privileges", f"--role={ROLE}", "--exit-on-error", "--single-transaction"]
        with file.open("rb") as given:
            answer = cluster.tool("pg_restore", *options, database=database, given=given)
        if answer.returncode:
            raise Stop(f"The restore failed; nothing was changed.\n{answer.stderr.decode().strip()}")
    except BaseException:
        cluster.drop_database(database)
        raise


def _free_name(where: Path, now: datetime) -> Path:
    """A name that no backup has: two within one second never share one, so a failure cannot take a good one with it."""
    file, n = where / f"aldrip-{now:%Y%m%d-%H%M%S}.backup", 1
    while file.exists():
        n += 1
        file = where / f"aldrip-{now:%Y%m%d-%H%M%S}-{n}.backup"
    return file


def take(cluster: Cluster, database: str, where: Path, why: str) -> Taken:
    """Take a backup, restore it to see that it is good, and keep it; the oldest of its kind go. Never raises for a failure."""
    now, began = datetime.now(UTC), time.monotonic()
    at = now.isoformat(timespec="seconds")
    file = _free_name(where, now)
    trying = f"{TRYING}_{database}"
    try:
        size = dump(cluster, database, file)
        try:
            restore_into(cluster, file, trying)
            rows = int(cluster.sql(COUNTED, database=trying))
        finally:
            cluster.drop_database(trying)
        if rows == 0:
            raise Stop("The restored copy held no rows.")
        give(file, 0o600)
        made = Taken(at, why, file.name, size, rows, round(time.monotonic() - began, 1))
    except (Stop, OSError) as error:
        file.unlink(missing_ok=True)
        made = Taken(at, why, words=str(error)[:400], seconds=round(time.monotonic() - began, 1))
        say(f"The backup ({why}) failed: {error}")
    try:
        _write_index(where, _pruned(where, [made, *read_index(where)]))
    except OSError as error:  # the disk of the backups is away: said here, and asked again within the hour
        say(f"The list of backups in {where} cannot be written: {error.strerror}")
    return made


def _pruned(where: Path, rows: list[Taken]) -> list[Taken]:
    """The newest of each kind, and the newest failure while no good one came after it."""
    kept: list[Taken] = []
    for row in rows:
        if row.words:
            if not any(not one.words for one in kept) and not any(one.words for one in kept):
                kept.append(row)
            continue
        of_kind = sum(1 for one in kept if one.why == row.why and not one.words)
        if of_kind < KEEP.get(row.why, 5) and (where / row.file).exists():
            kept.append(row)
        else:
            (where / row.file).unlink(missing_ok=True)
    return kept


class Daily:
    """Takes one when the newest good one is a day old, and when somebody asks; in a thread, one at a time."""

    def __init__(self, cluster: Cluster, database: str, where: Path) -> None:
        self.cluster, self.database, self.where = cluster, database, where
        self.running: threading.Thread | None = None
        self.tried = 0.0

    def due(self) -> str:
        """Why one is due now; empty where none is."""
        if (self.where / WANTED).exists():
            return "asked for"
        good = [row for row in read_index(self.where) if not row.words]
        newest = datetime.fromisoformat(good[0].at) if good else None
        old = newest is None or datetime.now(UTC) - newest >= DAILY
        again = time.monotonic() - self.tried > 3600 or not self.tried
        return "daily" if old and again else ""

    def __call__(self) -> None:
        if self.running is not None and self.running.is_alive():
            return
        why = self.due()
        if not why:
            return
        self.tried = time.monotonic()
        self.running = threading.Thread(target=self._take, args=(why,), daemon=True, name="backup")
        self.running.start()

    def _take(self, why: str) -> None:
        take(self.cluster, self.database, self.where, why)
        if why == "asked for":  # the word stands until it is done, so that whoever asked sees it come
            (self.where / WANTED).unlink(missing_ok=True)

    def wait(self, seconds: float = 30.0) -> None:
        """Let one that runs come to its end."""
        if self.running is not None:
            self.running.join(seconds)
