"""The commands. Each returns its exit code."""

import argparse
import fcntl
import os
import re
import secrets
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from launcher import backups, gates, install, rights, supervise
from launcher import check as soundness
from launcher.postgres import Cluster, sweep_test_clusters
from launcher.state import ROOT, Stop, easy_word, free_port, kept_port, remembered, say, secret, state_dir

DEMO, OWN = "aldrip_demo", "aldrip"


def _environment(cluster: Cluster | None, database: str, code: Path = ROOT, **more: str) -> dict[str, str]:
    env = {**install.node_env(), **more}
    env["PYTHONPATH"] = os.pathsep.join(str(code / part) for part in ("core", "server", "."))
    env["DJANGO_SETTINGS_MODULE"] = "aldrip.settings"
    env["ALDRIP_SECRET_KEY"] = secret("secret-key")
    env["PYTHONUNBUFFERED"] = "1"
    if cluster is not None:
        env |= cluster.environment(database)
    if database == DEMO:
        env["ALDRIP_DEMO"] = "1"
    return env


def _manage(env: dict[str, str], *arguments: str, quiet: bool = False) -> int:
    command = [str(install.python()), str(ROOT / "server" / "manage.py"), *arguments]
    return subprocess.run(command, env=env, stdout=subprocess.DEVNULL if quiet else None).returncode


def _cluster() -> Cluster:
    return Cluster(state_dir() / "pg", password=secret("database-password"), role_password=secret("program-password"))


@contextmanager
def _lasting_cluster() -> Iterator[Cluster]:
    """The lasting cluster, up as long as anybody of this clone uses it; the last one who goes stops it."""
    with (state_dir() / "pg-turn.lock").open("a+") as turn, (state_dir() / "pg.lock").open("a+") as used:
        fcntl.flock(turn, fcntl.LOCK_EX)  # nobody starts it while somebody stops it
        cluster = _cluster()
        cluster.start(lambda: kept_port("database"))
        cluster.ensure_role()
        fcntl.flock(used, fcntl.LOCK_SH)
        fcntl.flock(turn, fcntl.LOCK_UN)
        try:
            yield cluster
        finally:
            fcntl.flock(turn, fcntl.LOCK_EX)
            fcntl.flock(used, fcntl.LOCK_UN)
            with suppress(BlockingIOError):
                fcntl.flock(used, fcntl.LOCK_EX | fcntl.LOCK_NB)
                cluster.stop()


@contextmanager
def _only_one(name: str, *, forget: bool = True) -> Iterator[None]:
    """One server of a kind in a clone at a time."""
    with (state_dir() / f"{name}.lock").open("a+") as handle:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            handle.seek(0)
            raise Stop(f"Aldrip is already serving from this clone: {handle.read().strip() or 'starting'}") from None
        if forget:
            handle.truncate(0)
        yield


def _port(text: str) -> int:
    if not text.isdigit() or not 1 <= int(text) <= 65535:
        raise argparse.ArgumentTypeError(f"{text} is no port; a number from 1 to 65535, as a rule above 1023")
    return int(text)


def demo(arguments: list[str]) -> int:
    options = argparse.ArgumentParser(prog="aldrip demo")
    options.add_argument("--reset", action="store_true", help="start the demo over: forget what was done in it")
    options.add_argument("--port", type=_port, help="port to serve on (a free one is chosen at first, and kept)")
    chosen = options.parse_args(arguments)
    sign_in = "Sign in as  manager  with password  quillmere-demo  (also: glasshouse, dispatch, inspector, viewer)"
    return _serve("demo", DEMO, chosen.port, lambda _: sign_in, reset=chosen.reset)


def serve(arguments: list[str]) -> int:
    options = argparse.ArgumentParser(prog="aldrip serve")
    options.add_argument("--port", type=_port, help="port to serve on (a free one is chosen at first, and kept)")
    chosen = options.parse_args(arguments)
    return _serve("serve", OWN, chosen.port, _first_words)


def _first_words(cluster: Cluster) -> str:
    """Until a nursery is set up, the word with which it may be; afterwards nothing."""
    if cluster.sql("select exists (select from accounts_organisation)", database=OWN) == "t":
        return ""
    return f"To set up your nursery there, you need this word:  {secret('set-up-word')}"


def _serve(name: str, database: str, port: int | None, words: Callable[[Cluster], str], reset: bool = False) -> int:
    supervise.stop_on_term()
    install.debian_packages("build")
    install.python_packages("build")
    install.front_end()
    rights.ensure_user()
    kept: list[supervise.Kept] = []
    with _only_one(name), _lasting_cluster() as cluster:
        daily: backups.Daily | None = None
        try:
            if reset:
                cluster.drop_database(database)
            cluster.ensure_database(database)
            port = kept_port(name, asked=port)
            code = rights.program(name)
            env = _environment(cluster, database, code, ALDRIP_COOKIE=f"aldrip_{name}_{port}")
            env |= {"ALDRIP_LOGS": str(rights.folder("logs")), "HOME": str(rights.folder("home"))}
            if database == OWN:
                env |= {"ALDRIP_SET_UP": remembered("set-up-word", easy_word), "ALDRIP_BACKUPS": str(backups.home())}
                daily = backups.Daily(cluster, database, backups.home())
                _before_an_upgrade(cluster, env)
            say("Bringing the database up to date")
            if _manage(env, "prepare", *(["--demo"] if name == "demo" else [])):
                raise Stop("The database could not be brought up to date; see above.")
            if name == "demo":
                kept.append(supervise.practice_sower(env, code, at := free_port()))
                env |= {"ALDRIP_PRACTICE_SOWER": f"http://127.0.0.1:{at}"}
            held = supervise.listen(port)
            kept += [supervise.web(n, env, code, held) for n in range(1, supervise.WEB_PROCESSES + 1)]
            address = f"http://127.0.0.1:{port}/"
            _wait_until_it_answers(address, kept)
            (state_dir() / f"{name}.lock").write_text(address)
            kept.append(supervise.worker(env, code))
            print(f"\nAldrip serves at  {address}\n{words(cluster)}\nCtrl-C stops it.", flush=True)
            return supervise.watch(kept, cluster, [daily] if daily else [])
        finally:
            supervise.end_all(kept)
            if daily is not None:
                daily.wait()


def _before_an_upgrade(cluster: Cluster, env: dict[str, str]) -> None:
    """A backup before the database is changed; without a good one it is not changed."""
    there = cluster.sql("select to_regclass('public.accounts_organisation') is not null", database=OWN)
    if there != "t" or _manage(env, "migrate", "--check", quiet=True) == 0:
        return
    say("Taking a backup before the database is brought up to date")
    made = backups.take(cluster, OWN, backups.home(), "before an upgrade")
    if made.words:
        raise Stop(f"Without a backup the database is not brought up to date: {made.words}")


def _wait_until_it_answers(address: str, kept: Sequence[supervise.Kept]) -> None:
    for _ in range(600):
        for one in kept:
            if one.process.poll() is not None:
                raise Stop(f"The server ended while starting; its words are above and in {rights.folder('logs')}.")
        try:
            urllib.request.urlopen(address + "readyz", timeout=5)
        except urllib.error.HTTPError as error:
            if error.code == 404:
                return
            time.sleep(0.1)
        except OSError:
            time.sleep(0.1)
        else:
            return
    raise Stop("The server does not answer.")


def _passing_cluster(*, lasting: bool) -> Cluster:
    """A cluster for one command, with passwords that nobody keeps."""
    words = [secrets.token_urlsafe(24) for _ in range(2)]
    return Cluster(state_dir() / f"test-{os.getpid()}", password=words[0], role_password=words[1], lasting=lasting)


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
    cluster = _passing_cluster(lasting=False)
    try:
        cluster.start()
        cluster.ensure_role(makes_databases=True)
        cluster.ensure_database("aldrip")
        home = cluster.directory / "home"
        home.mkdir(exist_ok=True)
        env = _environment(
            cluster, "aldrip", HOME=str(home), ALDRIP_SECRET_KEY="only-for-tests", ALDRIP_STATE=str(base.parent)
        )
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


def sower(arguments: list[str]) -> int:
    install.python_packages("runtime")
    env = {**os.environ, "PYTHONPATH": f"{ROOT / 'core'}{os.pathsep}{ROOT / 'server'}"}
    return subprocess.run(
        [str(install.python()), "-m", "aldrip.sowing.practice_device", *arguments], env=env
    ).returncode


def bench(arguments: list[str]) -> int:
    install.debian_packages("build")
    install.python_packages("reference")  # its invented nurseries are those of the tests
    install.front_end()
    cluster = _passing_cluster(lasting=True)  # fsync stays on
    try:
        cluster.start()
        cluster.ensure_role(makes_databases=True)
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
    with _lasting_cluster() as cluster:
        cluster.ensure_database(database)
        return _manage(_environment(cluster, database), *arguments)


def backup(arguments: list[str]) -> int:
    options = argparse.ArgumentParser(prog="aldrip backup")
    options.add_argument("file", type=Path)
    chosen = options.parse_args(arguments)
    with _lasting_cluster() as cluster:
        if OWN not in cluster.databases():
            raise Stop("There is nothing to back up yet: serve your nursery first.")
        size = backups.dump(cluster, OWN, chosen.file)
    print(f"Wrote {size:,} bytes to {chosen.file}")
    return 0


def check(arguments: list[str]) -> int:
    """Whether this installation is sound."""
    argparse.ArgumentParser(prog="aldrip check").parse_args(arguments)
    found = [*soundness.versions(), *soundness.clock(), *soundness.files(), *soundness.ports(_is_serving)]
    found += [*soundness.space(), *soundness.last_backups()]
    if install.python().exists():
        with _lasting_cluster() as cluster:
            env = _environment(cluster, OWN)
            found += soundness.database(cluster, OWN, lambda: bool(_manage(env, "migrate", "--check", quiet=True)))
    return soundness.say(found)


def _is_serving(name: str) -> bool:
    try:
        with _only_one(name, forget=False):
            return False
    except Stop:
        return True


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
    with _only_one("serve"), _lasting_cluster() as cluster:
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
    backups.restore_into(cluster, file, RESTORING)
    try:
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
    with _lasting_cluster() as cluster:
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
    with _lasting_cluster() as cluster:
        cluster.ensure_database(OWN)
        env = _environment(cluster, OWN)
        return _manage(env, "prepare") or _manage(env, "unarchive", str(chosen.file.resolve()))


def types(arguments: list[str]) -> int:
    install.python_packages("reference")
    install.front_end()
    return gates.write_types(_environment(None, OWN))
