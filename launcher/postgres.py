"""A PostgreSQL of our own: Debian's binaries, our data directory, loopback only, no socket file."""

import os
import pwd
import shutil
import signal
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import IO

from launcher.rights import ensure_user, without_rights
from launcher.state import Stop, free_port

ADMIN = "aldrip"  # owns the cluster; used by the launcher alone
ROLE = "aldrip_program"  # owns the nursery's databases and nothing else; what serves signs in as this one
LOG_BYTES = 20 << 20
HAND_OVER = """
do $$
declare one record; kind text;
begin
  for one in select c.relname, c.relkind from pg_class c join pg_namespace n on n.oid = c.relnamespace
    where n.nspname = 'public' and c.relkind in ('r', 'p', 'v', 'm', 'S') and c.relowner <> '{role}'::regrole
      and not exists (select from pg_depend d where d.objid = c.oid and d.deptype in ('e', 'a', 'i'))
  loop
    kind := case one.relkind when 'S' then 'sequence' when 'v' then 'view' when 'm' then 'materialized view' else 'table' end;
    execute format('alter %s public.%I owner to {role}', kind, one.relname);
  end loop;
  for one in select p.oid::regprocedure::text as name from pg_proc p join pg_namespace n on n.oid = p.pronamespace
    where n.nspname = 'public' and p.proowner <> '{role}'::regrole
      and not exists (select from pg_depend d where d.objid = p.oid and d.deptype = 'e')
  loop
    execute format('alter routine %s owner to {role}', one.name);
  end loop;
  for one in select t.typname from pg_type t join pg_namespace n on n.oid = t.typnamespace
    where n.nspname = 'public' and t.typowner <> '{role}'::regrole and t.typrelid = 0 and t.typelem = 0
      and not exists (select from pg_depend d where d.objid = t.oid and d.deptype = 'e')
  loop
    execute format('alter type public.%I owner to {role}', one.typname);
  end loop;
  alter schema public owner to {role};
end $$;
""".replace("{role}", ROLE)


class Cluster:
    """One cluster in one data directory. `lasting` ones write everything through to the disk.

    password: of the administrator. role_password: of the role that the program signs in as.
    """

    def __init__(self, directory: Path, *, password: str, role_password: str, lasting: bool = True) -> None:
        self.directory = directory
        self.data = directory / "data"
        self.password, self.role_password, self.lasting = password, role_password, lasting
        self.port = 0
        self.bin = self.binaries()
        # PostgreSQL refuses to run as root: there it runs as Debian's postgres user.
        self.as_postgres = (
            ["setpriv", "--reuid", "postgres", "--regid", "postgres", "--init-groups", "--reset-env", "--"]
            if os.geteuid() == 0
            else []
        )

    @staticmethod
    def binaries() -> Path:
        """Where Debian keeps the newest PostgreSQL. Raises Stop where there is none."""
        found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda p: int(p.parts[-3]))
        if not found:
            raise Stop("PostgreSQL is not installed: apt-get install --no-install-recommends postgresql-15")
        return found[-1].parent

    def _run(self, *command: str, check: bool = True) -> "subprocess.CompletedProcess[str]":
        answer = subprocess.run(
            [*self.as_postgres, str(self.bin / command[0]), *command[1:]],
            cwd="/",
            capture_output=True,
            text=True,
            stdin=subprocess.DEVNULL,
        )
        if check and answer.returncode:
            raise Stop(f"{command[0]} failed:\n{answer.stdout}{answer.stderr}")
        return answer

    def _own(self, path: Path) -> None:
        if self.as_postgres:
            user = pwd.getpwnam("postgres")
            os.chown(path, user.pw_uid, user.pw_gid)

    def create(self) -> None:
        if (self.data / "PG_VERSION").exists():
            return
        shutil.rmtree(self.data, ignore_errors=True)  # an initdb that was cut short
        self.directory.mkdir(parents=True, exist_ok=True)
        self._own(self.directory)
        options = ["-D", str(self.data), "-U", ADMIN, "-E", "UTF8", "--locale=C.UTF-8"]
        options += [] if self.lasting else ["-N"]
        secret = self.directory / "first-password"
        with os.fdopen(os.open(secret, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
            file.write(self.password)
        self._own(secret)
        try:
            self._run("initdb", *options, "-A", "scram-sha-256", "--pwfile", str(secret))
        finally:
            secret.unlink()

    def _running_port(self) -> int | None:
        """The port of our postmaster if it lives; a stale pid file is put away."""
        pid_file = self.data / "postmaster.pid"
        if not pid_file.exists():
            return None
        lines = pid_file.read_text().splitlines()
        try:
            command = Path(f"/proc/{int(lines[0])}/cmdline").read_bytes()
        except (OSError, ValueError, IndexError):
            command = b""
        if str(self.data).encode() in command and len(lines) > 3:
            return int(lines[3])
        pid_file.unlink(missing_ok=True)
        return None

    def start(self, port: Callable[[], int] = free_port) -> None:
        """Start it on a port that is chosen only where it does not run already."""
        self.create()
        running = self._running_port()
        if running is not None:
            self.port = running
            return
        self.port = port()
        settings = {"listen_addresses": "127.0.0.1", "port": str(self.port), "unix_socket_directories": "''"}
        if not self.lasting:
            settings |= {"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off"}
        text = " ".join(f"-c {name}={value}" for name, value in settings.items())
        log = self.directory / "server.log"
        if log.exists() and log.stat().st_size > LOG_BYTES:
            log.replace(log.with_suffix(".log.1"))
        self._run("pg_ctl", "-D", str(self.data), "-w", "-t", "60", "-l", str(log), "-o", text, "start")

    def keep_up(self) -> bool:
        """Start it again where it has died; whether it had. What its last processes still hold is tried again later."""
        if self._running_port() is not None:
            return False
        try:
            self.start(lambda: self.port)
        except Stop:
            return False
        return True

    def stop(self) -> None:
        if self._running_port() is not None:
            self._run("pg_ctl", "-D", str(self.data), "-m", "fast", "-w", "stop", check=False)

    def remove(self) -> None:
        self.stop()
        shutil.rmtree(self.directory, ignore_errors=True)

    def environment(self, database: str) -> dict[str, str]:
        return {
            "ALDRIP_DB_HOST": "127.0.0.1",
            "ALDRIP_DB_PORT": str(self.port),
            "ALDRIP_DB_NAME": database,
            "ALDRIP_DB_USER": ROLE,
            "ALDRIP_DB_PASSWORD": self.role_password,
        }

    def tool(
        self, name: str, *arguments: str, database: str, out: IO[bytes] | None = None, given: IO[bytes] | None = None
    ) -> "subprocess.CompletedProcess[bytes]":
        """Run a client program (psql, pg_dump, pg_restore) against one of our databases, or none."""
        ensure_user()
        env = {**os.environ, "PGPASSWORD": self.password}
        where = ["-h", "127.0.0.1", "-p", str(self.port), "-U", ADMIN, "-d", database] if database else []
        return subprocess.run(
            [*without_rights(), str(self.bin / name), *where, *arguments],
            env=env,
            cwd="/",
            stdin=subprocess.DEVNULL if given is None else given,
            stdout=subprocess.PIPE if out is None else out,
            stderr=subprocess.PIPE,
        )

    def databases(self) -> list[str]:
        """Names of the databases of this cluster."""
        found = self.tool("psql", "-tAc", "select datname from pg_database order by datname", database="postgres")
        if found.returncode:
            raise Stop(f"The database does not answer: {found.stderr.decode()}")
        return found.stdout.decode().split()

    def drop_database(self, name: str) -> None:
        self.tool("psql", "-c", f'drop database if exists "{name}" with (force)', database="postgres")

    def sql(self, text: str, database: str = "postgres") -> str:
        """Run statements as the administrator; what they print. Raises Stop."""
        answer = self.tool("psql", "-v", "ON_ERROR_STOP=1", "-qtA", "-c", text, database=database)
        if answer.returncode:
            raise Stop(f"The database refused: {answer.stderr.decode()}")
        return answer.stdout.decode().strip()

    def ensure_role(self, *, makes_databases: bool = False) -> None:
        """The program's role with its password; it may nothing but what is its own. Tests make databases of their own."""
        if self.sql(f"select 1 from pg_roles where rolname = '{ROLE}'") != "1":
            self.sql(f"create role {ROLE} login")
        rights = "createdb" if makes_databases else "nocreatedb"
        secret = self.role_password.replace("'", "''")
        self.sql(f"alter role {ROLE} nosuperuser nocreaterole noreplication {rights} password '{secret}'")

    def ensure_database(self, name: str) -> None:
        """A database of the program's role; one from before there was a role is handed over."""
        if name not in self.databases():
            self.sql(f'create database "{name}" owner {ROLE}')
            self.sql("alter schema public owner to " + ROLE, database=name)
        elif self.sql(f"select datdba = '{ROLE}'::regrole from pg_database where datname = '{name}'") != "t":
            self.sql(HAND_OVER, database=name)
            self.sql(f'alter database "{name}" owner to {ROLE}')
        self.sql(f'revoke connect on database "{name}" from public')


def sweep_test_clusters(base: Path) -> None:
    """Put away throw-away clusters whose test run was killed."""
    for directory in base.glob("test-*"):
        try:
            os.kill(int(directory.name.split("-")[1]), 0)
        except (OSError, ValueError):
            Cluster(directory, password="", role_password="").remove()


def end(process: "subprocess.Popen[bytes]", seconds: float = 15) -> None:
    """End a process that we started, by its id; wait for it."""
    if process.poll() is None:
        process.send_signal(signal.SIGTERM)
        try:
            process.wait(seconds)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
