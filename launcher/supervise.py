"""What serves is watched: whatever dies is started again, a little later each time; one end ends all, in order."""

import os
import signal
import socket
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from launcher import install
from launcher.postgres import Cluster, end
from launcher.rights import without_rights
from launcher.state import Stop, say

LONGEST_WAIT_S = 60.0
STEADY_S = 60.0  # after which a process that lived so long is no more held for one that keeps dying
WEB_PROCESSES = 2
BACKLOG = 512


class Kept:
    """One process that is to be there. `look` starts it again where it has died."""

    def __init__(self, name: str, command: Sequence[str], env: Mapping[str, str], cwd: Path, fds: Sequence[int] = ()):
        self.name, self.command, self.env, self.cwd, self.fds = name, list(command), dict(env), cwd, tuple(fds)
        self.wait_s, self.again_at, self.since = 0.0, 0.0, 0.0
        self.process = self._start()

    def _start(self) -> "subprocess.Popen[bytes]":
        self.since = time.monotonic()
        # A session of its own: Ctrl-C reaches the launcher, which ends everything in order.
        return subprocess.Popen(
            [*without_rights(), *self.command],
            env=self.env,
            cwd=self.cwd,
            start_new_session=True,
            pass_fds=self.fds,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
        )

    def look(self) -> None:
        if self.process.poll() is None:
            return
        now = time.monotonic()
        if not self.again_at:
            self.wait_s = 0.0 if now - self.since > STEADY_S else min(LONGEST_WAIT_S, max(0.5, self.wait_s * 2))
            self.again_at = now + self.wait_s
            say(f"{self.name} ended with {self.process.returncode}; it is started again")
        if now >= self.again_at:
            self.process, self.again_at = self._start(), 0.0

    def end(self) -> None:
        end(self.process)


def listen(port: int, *, patience_s: float = 15.0) -> socket.socket:
    """The socket on which everything is answered, held by the launcher. Raises Stop where another program has the port.

    One that a killed Aldrip of this clone still holds is let go within moments.
    """
    until = time.monotonic() + patience_s
    while True:
        held = socket.socket()
        held.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            held.bind(("127.0.0.1", port))
        except OSError:
            held.close()
            if time.monotonic() > until:
                raise Stop(
                    f"Port {port} is taken by another program. End that one, or choose another port with --port NUMBER."
                ) from None
            time.sleep(0.3)
            continue
        held.listen(BACKLOG)
        held.set_inheritable(True)
        return held


def web(number: int, env: Mapping[str, str], code: Path, held: socket.socket) -> Kept:
    """One web process on the socket."""
    more = {
        "ALDRIP_SOCKET": str(held.fileno()),
        "ALDRIP_PROCESS": f"web-{number}",
        "ALDRIP_STATEMENT_MS": "25000",
        "MALLOC_ARENA_MAX": "2",
        "OPENBLAS_NUM_THREADS": "1",
    }
    command = [str(install.python()), "-m", "aldrip.serving"]
    return Kept(f"web process {number}", command, {**env, **more}, code, [held.fileno()])


def worker(env: Mapping[str, str], code: Path) -> Kept:
    """The one process that does long work."""
    command = [str(install.python()), str(code / "server" / "manage.py"), "procrastinate", "worker"]
    command += ["--queues", "aldrip", "--concurrency", "1", "--delete-jobs", "always"]
    return Kept("the worker", command, {**env, "ALDRIP_PROCESS": "worker"}, code)


def practice_sower(env: Mapping[str, str], code: Path, port: int) -> Kept:
    """The sower for practice and its scale, beside the demo."""
    command = [str(install.python()), "-m", "aldrip.sowing.practice_device", "--port", str(port)]
    return Kept("the sower for practice", command, env, code)


def stop_on_term() -> None:
    """TERM is Ctrl-C: at any moment, everything that was started is ended in order."""

    def stop(*_: object) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGHUP, stop)


def watch(kept: Sequence[Kept], cluster: Cluster, every: Sequence[Callable[[], None]] = ()) -> int:
    """Keep everything up until somebody stops us."""
    try:
        while True:
            for one in kept:
                one.look()
            if cluster.keep_up():
                say("The database had died and was started again")
            for tend in every:
                tend()
            time.sleep(0.5)
    except KeyboardInterrupt:
        for name in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            signal.signal(name, signal.SIG_IGN)  # the end is not interrupted by a second Ctrl-C
        say("\nStopping")
        return 0


def end_all(kept: Sequence[Kept]) -> None:
    """Ask all of them at once, then wait for each."""
    for one in kept:
        if one.process.poll() is None:
            os.kill(one.process.pid, signal.SIGTERM)
    for one in kept:
        one.end()
