"""`./aldrip check`: whether this installation is sound, in words; what is wrong, and what to do."""

import os
import shutil
import stat
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from launcher import backups, install, rights
from launcher.postgres import ROLE, Cluster
from launcher.state import ROOT, Stop, kept_ports, port_is_free, state_dir

ENOUGH_FREE = 1 << 30
YEARS = (2024, 2100)
SECRETS = ("secret-key", "database-password", "program-password", "set-up-word")


@dataclass(frozen=True)
class Found:
    """One thing that was looked at. `bad`: what to do about it; empty where it is well."""

    what: str
    is_so: str
    bad: str = ""


def versions() -> Iterator[Found]:
    """The programs it stands on."""
    now = ".".join(map(str, sys.version_info[:3]))
    yield Found(
        "Python", now, "" if sys.version_info[:2] == (3, 11) else "Aldrip is tried on Python 3.11, Debian 12's."
    )
    try:
        server = subprocess.run([str(Cluster.binaries() / "postgres"), "--version"], capture_output=True, text=True)
        yield Found("PostgreSQL", server.stdout.strip())
    except Stop as stop:
        yield Found("PostgreSQL", "not there", str(stop))
    there = install.python().exists()
    yield Found("Environment", str(install.venv()), "" if there else "Start ./aldrip serve once: it is made then.")


def space() -> Iterator[Found]:
    """Room on the disks that are written to."""
    for what, path in (("Room for the database", state_dir()), ("Room for backups", backups.home())):
        free = shutil.disk_usage(path).free
        short = f"Make room: less than {ENOUGH_FREE >> 20:,} MB are left on the disk of {path}."
        yield Found(what, f"{free >> 20:,} MB free", "" if free >= ENOUGH_FREE else short)


def last_backups() -> Iterator[Found]:
    """The newest good backup, and whether the last try failed."""
    rows = backups.read_index(backups.home())
    good = next((row for row in rows if not row.words), None)
    if good is None:
        yield Found("Backup", "none yet", "Start ./aldrip serve: it takes one within a minute, and then every day.")
        return
    age = datetime.now(UTC) - datetime.fromisoformat(good.at)
    old = age > timedelta(days=2)
    told = f"{good.file}, {good.rows:,} rows, {age.total_seconds() / 3600:.0f} h old, restored to see that it is good"
    yield Found(
        "Backup",
        told,
        "It is older than two days. Is ./aldrip serve running? Its words say why none is taken." if old else "",
    )
    if rows[0].words:
        yield Found("Last try of a backup", "failed", rows[0].words)
    if not (backups.home() / good.file).exists():
        yield Found(
            "Backup file", "gone", f"{good.file} is not in {backups.home()} any more. Take one with The house, Backups."
        )


def clock() -> Iterator[Found]:
    """The machine's clock: everything is dated by it."""
    now = datetime.now(UTC)
    fits = YEARS[0] <= now.year < YEARS[1] and now.timestamp() > (ROOT / "README.md").stat().st_mtime - 86_400
    told = "Set the clock of this machine: it is earlier than the program itself, or far off."
    yield Found("Clock", f"{now:%Y-%m-%d %H:%M} UTC, {time.tzname[0]}", "" if fits else told)


def ports(serving: Callable[[str], bool]) -> Iterator[Found]:
    """Whether the ports that people know are free or ours."""
    for name, port in sorted(kept_ports().items()):
        if name == "database":
            continue
        ours, free = serving(name), port_is_free(port)
        told = f"Another program has port {port}. End it, or serve with --port NUMBER."
        yield Found(
            f"Port of {name}",
            f"{port}, {'ours' if ours else 'free' if free else 'taken'}",
            "" if ours or free else told,
        )


def files() -> Iterator[Found]:
    """Secrets and backups are for their owner alone."""
    open_ones = []
    for path in (*(state_dir() / name for name in SECRETS), *backups.home().glob("*.backup")):
        if path.exists() and stat.S_IMODE(path.stat().st_mode) & 0o077:
            open_ones.append(path)
    told = "Others can read " + ", ".join(str(path) for path in open_ones[:3]) + "; chmod 600 them."
    yield Found("Secrets and backups", "for their owner alone" if not open_ones else "open", told if open_ones else "")
    if rights.is_root():
        yield Found("Started as", "root: what serves runs as “aldrip”, PostgreSQL as “postgres”")
    else:
        yield Found("Started as", f"user {os.geteuid()}")


def database(cluster: Cluster, name: str, waiting: Callable[[], bool]) -> Iterator[Found]:
    """The database: that it answers, of which version it is, and that the program's role may nothing else."""
    if name not in cluster.databases():
        yield Found("Database", "none yet: nothing was served")
        return
    may = cluster.sql(f"select rolsuper or rolcreaterole or rolcreatedb from pg_roles where rolname = '{ROLE}'")
    yield Found("Database role", ROLE, "" if may == "f" else "It may more than it should. Start ./aldrip serve once.")
    size = int(cluster.sql(f"select pg_database_size('{name}')"))
    yield Found("Database", f"{size / 1e6:,.0f} MB")
    late = waiting()
    yield Found(
        "Version",
        "behind" if late else "of this program",
        "Start ./aldrip serve: it is brought up to date." if late else "",
    )
    if cluster.sql("select to_regclass('public.accounts_auditevent') is not null", database=name) == "t":
        ahead = cluster.sql(
            "select count(*) from accounts_auditevent where recorded_at > now() + interval '1 hour'", database=name
        )
        told = f"{ahead} acts are dated in the future: the clock was wrong once, or is now."
        yield Found("Dates of acts", "in order" if ahead == "0" else "in the future", told if ahead != "0" else "")


def say(found: list[Found]) -> int:
    """Print what was found; 1 where something is wrong."""
    wide = max(len(one.what) for one in found)
    for one in found:
        print(f"{'!!' if one.bad else 'ok'}  {one.what:{wide}}  {one.is_so}")
        if one.bad:
            print(f"    {'':{wide}}  {one.bad}")
    wrong = sum(1 for one in found if one.bad)
    print(f"\n{wrong} of {len(found)} things need somebody." if wrong else f"\nAll {len(found)} things are well.")
    return 1 if wrong else 0
