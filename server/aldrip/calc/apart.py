"""Calculators in a process of their own, with an end in time and in memory, so that no question exhausts the machine."""

import atexit
import contextlib
import json
import os
import resource
import select
import subprocess
import sys
import threading
import time
from pathlib import Path

from aldrip.calc import contract
from aldrip_core.refusal import FieldError, Refused

SECONDS = 2.0  # the contract's: an answer within two seconds, else `too_large`
STARTING_SECONDS = 30.0
MEMORY = 1 << 30  # bytes on top of what the process needs to stand there
LONGEST = 4_000_000  # bytes of a question
TOO_LARGE = FieldError("", "too_large", "This takes longer or more memory than is given here. Ask for less at once.")


def confine(more: int = MEMORY) -> None:
    """Bound the memory of this process to what it has now and `more` bytes."""
    pages = int(Path("/proc/self/statm").read_text().split()[0])
    limit = pages * resource.getpagesize() + more
    resource.setrlimit(resource.RLIMIT_AS, (limit, limit))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def answer(name: str, body: bytes | str) -> tuple[bool, str]:
    """Whether a question was answered, and the answer or the refusal as JSON."""
    try:
        return True, contract.dumps(contract.calculate(name, body))
    except Refused as error:
        return False, contract.dumps(contract.problem(error.errors))
    except MemoryError:
        return False, contract.dumps(contract.problem([TOO_LARGE]))


def serve() -> None:
    """Answer questions from standard input, one JSON line each, until it closes."""
    confine()
    print("ready", flush=True)
    for line in sys.stdin:
        question = json.loads(line)
        print(json.dumps(answer(question["name"], question["body"])), flush=True)


def answer_in_time(name: str, body: bytes, seconds: float = SECONDS) -> tuple[bool, str]:
    """`answer` in a forked child that is ended when the time is over. For the command line, which has one thread."""
    reads, writes = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(reads)
        status = 1
        try:
            confine()
            with os.fdopen(writes, "wb") as out:
                out.write(json.dumps(answer(name, body)).encode())
            status = 0
        finally:
            os._exit(status)
    os.close(writes)
    told = b""
    with os.fdopen(reads, "rb") as read:
        while select.select([read], [], [], seconds)[0]:
            part = os.read(read.fileno(), 1 << 20)
            if not part:
                break
            told += part
        else:
            os.kill(child, 9)
            told = b""
    os.waitpid(child, 0)
    if not told:
        return False, contract.dumps(contract.problem([TOO_LARGE]))
    answered, text = json.loads(told)
    return bool(answered), str(text)


class Apart:
    """One child that answers for a web process; ended and started anew when a question takes too long."""

    def __init__(self, seconds: float = SECONDS) -> None:
        self.seconds = seconds
        self._lock = threading.Lock()
        self._child: subprocess.Popen[bytes] | None = None

    def ask(self, name: str, body: bytes) -> tuple[bool, str]:
        """Whether it was answered, and the answer or refusal as JSON."""
        too_large = False, contract.dumps(contract.problem([TOO_LARGE]))
        if len(body) > LONGEST:
            return too_large
        try:
            text = body.decode("utf-8")
        except UnicodeDecodeError:
            return False, contract.dumps(contract.problem([FieldError("", "not_json", "The input is not JSON.")]))
        with self._lock:
            child = self._standing()
            if child is None:
                return too_large
            assert child.stdin is not None
            try:
                child.stdin.write(json.dumps({"name": name, "body": text}).encode() + b"\n")
                child.stdin.flush()
            except OSError:
                self.end()
                return too_large
            line = self._line(child, self.seconds)
            if line is None:
                self.end()
                return too_large
        answered, said = json.loads(line)
        return bool(answered), str(said)

    def end(self) -> None:
        """End the child, if there is one."""
        child, self._child = self._child, None
        if child is not None:
            with contextlib.suppress(OSError):
                child.kill()
            child.wait()
            for stream in (child.stdin, child.stdout):
                if stream is not None:
                    with contextlib.suppress(OSError):
                        stream.close()

    def _standing(self) -> "subprocess.Popen[bytes] | None":
        if self._child is not None and self._child.poll() is None:
            return self._child
        self.end()
        env = {**os.environ, "PYTHONPATH": os.pathsep.join(part for part in sys.path if part)}
        self._child = subprocess.Popen(
            [sys.executable, "-m", "aldrip.calc", "--serve"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=env
        )
        atexit.register(self.end)
        if self._line(self._child, STARTING_SECONDS) is None:
            self.end()
        return self._child

    def _line(self, child: "subprocess.Popen[bytes]", seconds: float) -> bytes | None:
        """One whole line within the time, else None."""
        assert child.stdout is not None
        deadline, told = time.monotonic() + seconds, b""
        while not told.endswith(b"\n"):
            left = deadline - time.monotonic()
            if left <= 0 or not select.select([child.stdout], [], [], left)[0]:
                return None
            part = os.read(child.stdout.fileno(), 1 << 20)
            if not part:
                return None
            told += part
        return told
