"""The commands. Each returns its exit code."""

import argparse
import fcntl
import os
import re
import signal
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from launcher import gates, install
from launcher.postgres import Cluster, end, sweep_test_clusters
from launcher.state import ROOT, Stop, free_port, kept_port, say, secret, state_dir

DEMO, OWN = "aldrip_demo", "aldrip"


def _environment(cluster: Cluster | None, database: str, **more: str) -> dict[str, str]:
    env = {**install.node_env(), **more}
    env["PYTHONPATH"] = os.pathsep.join(str(ROOT / part) for part in ("core", "server", "."))
    env["DJANGO_SETTINGS_MODULE"] = "aldrip.settings"
    env["ALDRIP_SECRET_KEY"] = secret("secret-key")
    env["PYTHONUNBUFFERED"] = "1"
    if cluster is not None:
        env |= cluster.environment(database)
    if database == DEMO:
        env["ALDRIP_DEMO"] = "1"
    return env


def _manage(env: dict[str, str], *arguments: str) -> int:
    return subprocess.run([str(install.python()), str(ROOT / "server" / "manage.py"), *arguments], env=env).returncode


def _lasting_cluster() -> Cluster:
    cluster = Cluster(state_dir() / "pg", password=secret("database-password"))
    cluster.start(kept_port("database"))
    return cluster


@contextmanager
def _only_one(name: str) -> Iterator[None]:
    """One server of a kind in a clone at a time."""
    with (state_dir() / f"{name}.lock").open("a+") as handle:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            handle.seek(0)
            raise Stop(f"Aldrip is already serving from this clone: {handle.read().strip() or 'starting'}") from None
        yield


def _others_use_the_cluster() -> bool:
    """Whether another command of this clone holds a server lock."""
    held = 0
    for name in ("demo", "serve"):
        with (state_dir() / f"{name}.lock").open("a+") as handle:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                held += 1
    return held > 1


def demo(arguments: list[str]) -> int:
    options = argparse.ArgumentParser(prog="aldrip demo")
    options.add_argument("--reset", action="store_true", help="start the demo over: forget what was done in it")
    options.add_argument("--port", type=int, help="port to serve on (a free one is chosen and remembered)")
    chosen = options.parse_args(arguments)
    sign_in = "Sign in as  manager  with password  quillmere-demo  (also: glasshouse, dispatch, inspector, viewer)"
    return _serve("demo", DEMO, chosen.port, sign_in, reset=chosen.reset)


def serve(arguments: list[str]) -> int:
    options = argparse.ArgumentParser(prog="aldrip serve")
    options.add_argument("--port", type=int, help="port to serve on (a free one is chosen and remembered)")
    chosen = options.parse_args(arguments)
    return _serve("serve", OWN, chosen.port, "The first visitor sets up the nursery and its first user.")


def _serve(name: str, database: str, port: int | None, sign_in: str, reset: bool = False) -> int:
    install.debian_packages("build")
    install.python_packages("build")
    install.front_end()
    with _only_one(name):
        cluster = _lasting_cluster()
        server = worker = None
        try:
            if reset:
                cluster.drop_database(database)
            cluster.ensure_database(database)
            port = port or kept_port(name)
            env = _environment(cluster, database, ALDRIP_COOKIE=f"aldrip_{name}_{port}")
            say("Bringing the database up to date")
            if _manage(env, "prepare", *(["--demo"] if name == "demo" else [])):
                raise Stop("The database could not be brought up to date; see above.")
            server = _gunicorn(env, port)
            address = f"http://127.0.0.1:{port}/"
            _wait_until_it_answers(address, server)
            (state_dir() / f"{name}.lock").write_text(address)
            worker = Worker(env)
            print(f"\nAldrip serves at  {address}\n{sign_in}\nCtrl-C stops it.", flush=True)
            return _until_stopped(server, worker, cluster)
        finally:
            if worker is not None:
                worker.end()
            if server is not None:
                end(server)
            if not _others_use_the_cluster():
                cluster.stop()


def _gunicorn(env: dict[str, str], port: int) -> "subprocess.Popen[bytes]":
    command = [
        str(install.python()),
        "-m",
        "gunicorn",
        "aldrip.wsgi",
        "--chdir",
        str(ROOT / "server"),
        "--bind",
        f"127.0.0.1:{port}",
        "--workers",
        "2",
        "--threads",
        "4",
        "--preload",
        "--timeout",
        "60",
        "--graceful-timeout",
        "5",
        "--log-level",
        "warning",
        "--no-control-socket",
    ]
    # A process group of its own: Ctrl-C reaches the launcher, which ends the server in order.
    return subprocess.Popen(command, env=env, cwd=ROOT, start_new_session=True)


def _wait_until_it_answers(address: str, server: "subprocess.Popen[bytes]") -> None:
    for _ in range(200):
        if server.poll() is not None:
            raise Stop("The server ended while starting; its words are above.")
        try:
            urllib.request.urlopen(address + "api/session", timeout=5)
        except urllib.error.HTTPError:
            return
        except OSError:
            time.sleep(0.1)
        else:
            return
    raise Stop("The server does not answer.")


class Worker:
    """The one process that does long work; it is started again when it dies, a little later each time."""

    LONGEST_WAIT_S = 60.0

    def __init__(self, env: dict[str, str]) -> None:
        self.env, self.wait_s, self.again_at = env, 1.0, 0.0
        self.process = self._start()

    def _start(self) -> "subprocess.Popen[bytes]":
        command = [
            str(install.python()),
            str(ROOT / "server" / "manage.py"),
            "procrastinate",
            "worker",
            "--queues",
            "aldrip",
            "--concurrency",
            "1",
            "--delete-jobs",
            "always",
        ]
        return subprocess.Popen(command, env=self.env, cwd=ROOT, start_new_session=True, stdout=subprocess.DEVNULL)

    def look(self) -> None:
        """Start it again where it has died."""
        if self.process.poll() is None:
            return
        now = time.monotonic()
        if not self.again_at:
            self.again_at = now + self.wait_s
        elif now >= self.again_at:
            self.process, self.again_at = self._start(), 0.0
            self.wait_s = min(self.LONGEST_WAIT_S, self.wait_s * 2)

    def end(self) -> None:
        end(self.process)


def _until_stopped(server: "subprocess.Popen[bytes]", worker: Worker, cluster: Cluster) -> int:
    def stop(*_: object) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop)
    try:
        while server.poll() is None:
            worker.look()
            if cluster.keep_up():
                say("The database had died and was started again")
            time.sleep(0.5)
        return server.returncode
    except KeyboardInterrupt:
        say("\nStopping")
        return 0


CRASHES = ("Traceback (most recent call last)", "Internal Server Error")


def test(arguments: list[str]) -> int:
    options = argparse.ArgumentParser(prog="aldrip test")
    options.add_argument("labels", nargs="*", help="parts such as tests.core; all, with the gates, when none is named")
    options.add_argument("--long", action="store_true", help="let the random seasons live much longer")
    chosen = options.parse_args(arguments)
    install.debian_packages("reference")
    install.python_packages("reference")
    install.front_end()
    base = state_dir()
    sweep_test_clusters(base)
    cluster = Cluster(base / f"test-{os.getpid()}")
    try:
        cluster.start(free_port())
        cluster.ensure_database("aldrip")
        home = cluster.directory / "home"
        home.mkdir(exist_ok=True)
        env = _environment(cluster, "aldrip", HOME=str(home), ALDRIP_SECRET_KEY="only-for-tests")
        if chosen.long:
            env["ALDRIP_LONG"] = "1"
        if not chosen.labels:
            failed = gates.run_all(env)
            if failed:
                print(f"\nGates failed: {', '.join(failed)}\n0 passed, {len(failed)} failed", flush=True)
                return 1
        command = [
            str(install.python()),
            "-W",
            "ignore::RuntimeWarning",
            str(ROOT / "server" / "manage.py"),
            "test",
            "-v",
            "1",
            "-t",
            str(ROOT),
            "--noinput",
            "--parallel",
            "2",
            *(chosen.labels or ["tests"]),
        ]
        return judged(subprocess.Popen(command, env=env, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.STDOUT))
    finally:
        cluster.remove()


def judged(run: "subprocess.Popen[bytes]") -> int:
    """Pass the words of a test run on; one that shows a crash has failed, whatever its tests say."""
    assert run.stdout is not None
    crashes, held, text = 0, "", b""
    while part := os.read(run.stdout.fileno(), 1 << 16):
        *lines, text = (text + part).split(b"\n")
        for line in (raw.decode(errors="replace") for raw in lines):
            crashes += any(words in line for words in CRASHES)
            if held:
                print(held, flush=True)
            held = line
    if text.strip():
        print(held, flush=True)
        held = text.decode(errors="replace")
    code = run.wait()
    closing = re.fullmatch(r"(\d+) passed, (\d+) failed(.*)", held)
    if crashes and code == 0:
        print(f"{crashes} crashes stand in the words above; a run that shows one has failed.")
        if closing:
            held = f"{int(closing[1]) - 1} passed, {int(closing[2]) + 1} failed{closing[3]}"
        code = 1
    print(held, flush=True)
    return code


def calc(arguments: list[str]) -> int:
    install.python_packages("runtime")
    env = {**os.environ, "PYTHONPATH": f"{ROOT / 'core'}{os.pathsep}{ROOT / 'server'}"}
    return subprocess.run([str(install.python()), "-m", "aldrip.calc", *arguments], env=env).returncode


def bench(arguments: list[str]) -> int:
    install.debian_packages("build")
    install.python_packages("reference")  # its invented nurseries are those of the tests
    install.front_end()
    cluster = Cluster(state_dir() / f"test-{os.getpid()}", password=secret("database-password"))  # fsync stays on
    try:
        cluster.start(free_port())
        cluster.ensure_database("aldrip_bench")
        env = _environment(cluster, "aldrip_bench", PYTHONPATH=f"{ROOT / 'core'}:{ROOT / 'server'}:{ROOT}")
        return subprocess.run([str(install.python()), "-m", "launcher.bench", *arguments], env=env, cwd=ROOT).returncode
    finally:
        cluster.remove()


def manage(arguments: list[str]) -> int:
    install.debian_packages("build")
    install.python_packages("build")
    database = OWN
    if arguments[:1] == ["--demo"]:
        database, arguments = DEMO, arguments[1:]
    with _cluster_for_a_while() as cluster:
        cluster.ensure_database(database)
        return _manage(_environment(cluster, database), *arguments)


@contextmanager
def _cluster_for_a_while() -> Iterator[Cluster]:
    """The lasting cluster: as it runs, or started for one command and stopped again."""
    cluster = Cluster(state_dir() / "pg", password=secret("database-password"))
    was_running = (cluster.data / "postmaster.pid").exists()
    cluster.start(None if was_running else kept_port("database"))
    try:
        yield cluster
    finally:
        if not was_running:
            cluster.stop()


def backup(arguments: list[str]) -> int:
    options = argparse.ArgumentParser(prog="aldrip backup")
    options.add_argument("file", type=Path)
    chosen = options.parse_args(arguments)
    part = chosen.file.with_name(chosen.file.name + ".part")
    with _cluster_for_a_while() as cluster:
        answer = cluster.tool("pg_dump", "-Fc", database=OWN)
        if answer.returncode:
            raise Stop(f"The backup failed: {answer.stderr.decode()}")
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "wb") as file:
            file.write(answer.stdout)
    part.replace(chosen.file)  # the last good one stays until this one is whole
    print(f"Wrote {len(answer.stdout):,} bytes to {chosen.file}")
    return 0


RESTORING = "aldrip_restoring"
KEPT = "aldrip_before_"


def restore(arguments: list[str]) -> int:
    """Put a backup in place of the database: beside it first, checked, then swapped by name; the old one is kept."""
    options = argparse.ArgumentParser(prog="aldrip restore")
    options.add_argument("file", type=Path, nargs="?")
    options.add_argument("--replace", action="store_true", help="put it in the place of the database that is there")
    options.add_argument("--kept", action="store_true", help="name the databases that earlier restores put aside")
    options.add_argument("--back", metavar="NAME", help="put a database back that was put aside")
    chosen = options.parse_args(arguments)
    if sum((chosen.file is not None, chosen.kept, chosen.back is not None)) != 1:
        raise Stop("Name the backup file, or use --kept or --back NAME.")
    if chosen.file is not None and not chosen.file.is_file():
        raise Stop(f"There is no file {chosen.file}.")
    with _only_one("serve"), _cluster_for_a_while() as cluster:
        kept = [name for name in cluster.databases() if name.startswith(KEPT)]
        if chosen.kept:
            print("\n".join(kept) or "No database was put aside.")
            return 0
        if chosen.back is not None:
            if chosen.back not in kept:
                raise Stop(f"No database {chosen.back} was put aside. --kept names those that were.")
            _swap_in(cluster, chosen.back)
            return 0
        if OWN in cluster.databases() and not chosen.replace:
            raise Stop("There is a database already. Add --replace to put the backup in its place; it is kept aside.")
        _restore_beside(cluster, chosen.file)
        _swap_in(cluster, RESTORING)
    return 0


def _restore_beside(cluster: Cluster, file: Path) -> None:
    """Restore a file into a new database and look whether it is a nursery; nothing else is touched."""
    listed = cluster.tool("pg_restore", "--list", str(file.resolve()), database="")
    if listed.returncode:
        raise Stop(f"{file} is no backup of Aldrip, or it is cut short. Nothing was changed.\n{listed.stderr.decode()}")
    cluster.drop_database(RESTORING)
    cluster.ensure_database(RESTORING)
    try:
        answer = cluster.tool(
            "pg_restore",
            "--no-owner",
            "--exit-on-error",
            "--single-transaction",
            str(file.resolve()),
            database=RESTORING,
        )
        if answer.returncode:
            raise Stop(f"The restore failed; nothing was changed.\n{answer.stderr.decode()}")
        found = cluster.tool("psql", "-tAc", "select count(*) from accounts_organisation", database=RESTORING)
        if found.returncode:
            raise Stop(f"{file} holds no nursery of Aldrip; nothing was changed.")
        if found.stdout.strip() == b"0":
            raise Stop(f"The nursery in {file} is empty: nobody could sign in. Nothing was changed.")
        if _manage(_environment(cluster, RESTORING), "prepare"):
            raise Stop("The backup cannot be brought up to this version; see above. Nothing was changed.")
    except BaseException:
        cluster.drop_database(RESTORING)
        raise


def _swap_in(cluster: Cluster, name: str) -> None:
    """Give a database the name that `serve` uses; the one that had it is kept under a name with the time."""
    moves = [f'alter database "{name}" rename to "{OWN}"']
    aside = ""
    if OWN in cluster.databases():
        aside = f"{KEPT}{time.strftime('%Y%m%d_%H%M%S')}"
        moves.insert(0, f'alter database "{OWN}" rename to "{aside}"')
    # Renames of one connection in one transaction: the nursery is there under its name, or as it was.
    answer = cluster.tool(
        "psql", "-v", "ON_ERROR_STOP=1", "-c", f"begin; {'; '.join(moves)}; commit", database="postgres"
    )
    if answer.returncode:
        raise Stop(f"The databases could not change places; nothing was changed.\n{answer.stderr.decode()}")
    if aside:
        print(f"What was there before is kept as {aside}; ./aldrip restore --back {aside} puts it back.")
    print("Restored.")


def archive(arguments: list[str]) -> int:
    """Write a whole nursery as a file that any Aldrip can read."""
    options = argparse.ArgumentParser(prog="aldrip archive")
    options.add_argument("file", type=Path)
    options.add_argument("--demo", action="store_true", help="the invented season instead of your own nursery")
    options.add_argument("--nursery", help="its name, where there are several")
    chosen = options.parse_args(arguments)
    name = DEMO if chosen.demo else OWN
    which = ["--nursery", chosen.nursery] if chosen.nursery else []
    with _cluster_for_a_while() as cluster:
        if name not in cluster.databases():
            raise Stop("There is nothing to write yet: serve your nursery first, or use --demo after ./aldrip demo.")
        return _manage(_environment(cluster, name), "archive", str(chosen.file.resolve()), *which)


def unarchive(arguments: list[str]) -> int:
    """Bring a whole nursery in from an archive, into the database of `serve`."""
    options = argparse.ArgumentParser(prog="aldrip unarchive")
    options.add_argument("file", type=Path)
    chosen = options.parse_args(arguments)
    if not chosen.file.is_file():
        raise Stop(f"There is no file {chosen.file}.")
    install.debian_packages("build")
    install.python_packages("build")
    with _cluster_for_a_while() as cluster:
        cluster.ensure_database(OWN)
        env = _environment(cluster, OWN)
        return _manage(env, "prepare") or _manage(env, "unarchive", str(chosen.file.resolve()))


def types(arguments: list[str]) -> int:
    install.python_packages("reference")
    install.front_end()
    return gates.write_types(_environment(None, OWN))
