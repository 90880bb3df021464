"""The commands. Each returns its exit code."""

import argparse
import fcntl
import os
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
        server = None
        try:
            if reset:
                cluster.tool("psql", "-c", f'drop database if exists "{database}" with (force)', database="postgres")
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
            print(f"\nAldrip serves at  {address}\n{sign_in}\nCtrl-C stops it.", flush=True)
            return _until_stopped(server)
        finally:
            if server is not None:
                end(server)
            if not _others_use_the_cluster():
                cluster.stop()


def _gunicorn(env: dict[str, str], port: int) -> "subprocess.Popen[bytes]":
    command = [
        str(install.python()), "-m", "gunicorn", "aldrip.wsgi", "--chdir", str(ROOT / "server"), "--bind", f"127.0.0.1:{port}",
        "--workers", "2", "--threads", "4", "--preload", "--timeout", "60", "--graceful-timeout", "5", "--log-level", "warning",
        "--no-control-socket",
    ]  # fmt: skip
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


def _until_stopped(server: "subprocess.Popen[bytes]") -> int:
    def stop(*_: object) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop)
    try:
        return server.wait()
    except KeyboardInterrupt:
        say("\nStopping")
        return 0


def test(arguments: list[str]) -> int:
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
        if not arguments:
            failed = gates.run_all(env)
            if failed:
                print(f"\nGates failed: {', '.join(failed)}\n0 passed, {len(failed)} failed", flush=True)
                return 1
        labels = arguments or ["tests"]
        return subprocess.run(
            [str(install.python()), "-W", "ignore::RuntimeWarning", str(ROOT / "server" / "manage.py"), "test", "-v", "1",
             "-t", str(ROOT), "--noinput", "--parallel", "2", *labels],
            env=env, cwd=ROOT,
        ).returncode  # fmt: skip
    finally:
        cluster.remove()


def calc(arguments: list[str]) -> int:
    install.python_packages("runtime")
    env = {**os.environ, "PYTHONPATH": f"{ROOT / 'core'}{os.pathsep}{ROOT / 'server'}"}
    return subprocess.run([str(install.python()), "-m", "aldrip.calc", *arguments], env=env).returncode


def bench(arguments: list[str]) -> int:
    install.debian_packages("build")
    install.python_packages("build")
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
    with _cluster_for_a_while() as cluster:
        answer = cluster.tool("pg_dump", "-Fc", database=OWN)
        if answer.returncode:
            raise Stop(f"The backup failed: {answer.stderr.decode()}")
        chosen.file.write_bytes(answer.stdout)
    print(f"Wrote {len(answer.stdout):,} bytes to {chosen.file}")
    return 0


def restore(arguments: list[str]) -> int:
    options = argparse.ArgumentParser(prog="aldrip restore")
    options.add_argument("file", type=Path)
    options.add_argument("--replace", action="store_true", help="throw away what is in the database now")
    chosen = options.parse_args(arguments)
    if not chosen.file.exists():
        raise Stop(f"There is no file {chosen.file}.")
    with _only_one("serve"), _cluster_for_a_while() as cluster:
        found = cluster.tool("psql", "-tAc", f"select 1 from pg_database where datname='{OWN}'", database="postgres")
        if found.stdout.strip() and not chosen.replace:
            raise Stop("There is a database already. Add --replace to put the backup in its place.")
        cluster.tool("psql", "-c", f'drop database if exists "{OWN}" with (force)', database="postgres")
        cluster.ensure_database(OWN)
        answer = cluster.tool("pg_restore", "--no-owner", "--exit-on-error", str(chosen.file.resolve()), database=OWN)
        if answer.returncode:
            raise Stop(f"The restore failed: {answer.stderr.decode()}")
    print("Restored.")
    return 0


def types(arguments: list[str]) -> int:
    install.python_packages("reference")
    install.front_end()
    return gates.write_types(_environment(None, OWN))
