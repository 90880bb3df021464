"""A PostgreSQL of our own: Debian's binaries, our data directory, loopback only, no socket file."""

import os
import pwd
import shutil
import signal
import subprocess
from pathlib import Path

from launcher.state import Stop, free_port


def _binaries() -> Path:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda p: int(p.parts[-3]))
    if not found:
        raise Stop("PostgreSQL is not installed: apt-get install --no-install-recommends postgresql-15")
    return found[-1].parent


class Cluster:
    """One cluster in one data directory; `lasting` ones keep a password and fsync."""

    def __init__(self, directory: Path, *, password: str | None = None) -> None:
        self.directory = directory
        self.data = directory / "data"
        self.password = password
        self.port = 0
        self.bin = _binaries()
        # PostgreSQL refuses to run as root: there it runs as Debian's postgres user.
        self.as_postgres = (
            ["setpriv", "--reuid", "postgres", "--regid", "postgres", "--init-groups", "--reset-env", "--"]
            if os.geteuid() == 0
            else []
        )

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
        options = ["-D", str(self.data), "-U", "aldrip", "-E", "UTF8", "--locale=C.UTF-8"]
        if self.password is None:
            self._run("initdb", *options, "-A", "trust", "-N")
            return
        secret = self.directory / "first-password"
        secret.write_text(self.password)
        secret.chmod(0o600)
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

    def start(self, port: int | None = None) -> None:
        self.create()
        running = self._running_port()
        if running is not None:
            self.port = running
            return
        self.port = port or free_port()
        settings = {"listen_addresses": "127.0.0.1", "port": str(self.port), "unix_socket_directories": "''"}
        if self.password is None:
            settings |= {"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off"}
        text = " ".join(f"-c {name}={value}" for name, value in settings.items())
        log = self.directory / "server.log"
        self._run("pg_ctl", "-D", str(self.data), "-w", "-t", "60", "-l", str(log), "-o", text, "start")

    def keep_up(self) -> bool:
        """Start it again where it has died; whether it had. What its last processes still hold is tried again later."""
        if self._running_port() is not None:
            return False
        try:
            self.start(self.port)
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
            "ALDRIP_DB_USER": "aldrip",
            "ALDRIP_DB_PASSWORD": self.password or "",
        }

    def tool(self, name: str, *arguments: str, database: str) -> "subprocess.CompletedProcess[bytes]":
        """Run a client program (psql, pg_dump, pg_restore) against one of our databases, or none."""
        env = {**os.environ, "PGPASSWORD": self.password or ""}
        where = ["-h", "127.0.0.1", "-p", str(self.port), "-U", "aldrip", "-d", database] if database else []
        return subprocess.run([str(self.bin / name), *where, *arguments], env=env, capture_output=True)

    def databases(self) -> list[str]:
        """Names of the databases of this cluster."""
        found = self.tool("psql", "-tAc", "select datname from pg_database order by datname", database="postgres")
        if found.returncode:
            raise Stop(f"The database does not answer: {found.stderr.decode()}")
        return found.stdout.decode().split()

    def drop_database(self, name: str) -> None:
        self.tool("psql", "-c", f'drop database if exists "{name}" with (force)', database="postgres")

    def ensure_database(self, name: str) -> None:
        if name not in self.databases():
            self.tool("psql", "-c", f'create database "{name}"', database="postgres")


def sweep_test_clusters(base: Path) -> None:
    """Put away throw-away clusters whose test run was killed."""
    for directory in base.glob("test-*"):
        try:
            os.kill(int(directory.name.split("-")[1]), 0)
        except (OSError, ValueError):
            Cluster(directory).remove()


def end(process: "subprocess.Popen[bytes]", seconds: float = 15) -> None:
    """End a process that we started, by its id; wait for it."""
    if process.poll() is None:
        process.send_signal(signal.SIGTERM)
        try:
            process.wait(seconds)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
