"""One web process: reads whole requests before a thread sees them, and ends what takes too long or too much.

Started by the launcher with a socket that it holds: when a process ends, who comes meanwhile waits for the next one.
"""

import ctypes
import logging
import os
import resource
import signal
import socket
import sys
import threading
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from waitress.server import create_server

from aldrip.base.requests import TookTooLong
from aldrip.calc.apart import confine

log = logging.getLogger("aldrip.serving")

THREADS = 4
SECONDS = 30.0  # a request is told that it took too long
GRACE = 15.0  # and this much later its process ends, with what else runs in it
READ_SECONDS = 30.0  # in which a request must have arrived
IDLE_SECONDS = 75
MEMORY = 480 << 20  # bytes on top of what the process needs to stand there
WORN = 600 << 20  # a process that has grown so large makes place for a fresh one
CONNECTIONS = 600
HEADER_BYTES = 64 << 10
BODY_BYTES = 64 << 20

Answer = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


def resident() -> int:
    """Memory that this process holds [bytes]."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize()


class Watch:
    """Knows what runs since when; `look` ends what has run too long."""

    def __init__(self, answer: Answer, *, seconds: float = SECONDS, grace: float = GRACE) -> None:
        self.answer, self.seconds, self.grace = answer, seconds, grace
        self.running: dict[int, tuple[float, str]] = {}
        self.told: set[int] = set()
        self.lock = threading.Lock()

    def __call__(self, environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        me = threading.get_ident()
        with self.lock:
            self.running[me] = (time.monotonic(), f"{environ['REQUEST_METHOD']} {environ['PATH_INFO']}")
        try:
            return self.answer(environ, start_response)
        except TookTooLong:  # it came between two steps of the frame itself
            start_response("503 Service Unavailable", [("Content-Type", "text/plain")])
            return [b"This took too long.\n"]
        finally:
            with self.lock:
                self.running.pop(me, None)
                if me in self.told:  # what was not heard any more must not end the thread's next request
                    self.told.discard(me)
                    ctypes.pythonapi.PyThreadState_SetAsyncExc(ctypes.c_ulong(me), None)

    def look(self) -> bool:
        """Tell what runs too long that it ends here; whether something did not listen."""
        now = time.monotonic()
        with self.lock:
            for thread, (since, what) in self.running.items():
                if now - since > self.seconds + self.grace:
                    log.error("%s did not end in %.0f s", what, now - since)
                    return True
                if now - since > self.seconds and thread not in self.told:
                    self.told.add(thread)
                    ctypes.pythonapi.PyThreadState_SetAsyncExc(ctypes.c_ulong(thread), ctypes.py_object(TookTooLong))
        return False


def close_half_sent(server: Any, begun: dict[int, float], *, seconds: float = READ_SECONDS) -> None:
    """Close connections whose request does not arrive; they hold no thread, and shall hold no place either."""
    now, seen = time.monotonic(), set()
    for number, channel in list(server.active_channels.items()):
        if channel.request is None or channel.request.completed:
            continue
        seen.add(number)
        if now - begun.setdefault(number, now) > seconds:
            channel.will_close = True
    for number in begun.keys() - seen:
        del begun[number]


def main() -> int:
    from django.urls import get_resolver

    from aldrip.wsgi import application

    assert get_resolver().url_patterns  # every room is read before the first visitor comes
    confine(MEMORY)
    watch = Watch(application)
    given = socket.socket(fileno=int(os.environ["ALDRIP_SOCKET"]))
    proxy = os.environ.get("ALDRIP_PROXY", "")
    trusted: dict[str, Any] = {}
    if proxy:
        headers = {"x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"}
        trusted = {"trusted_proxy": proxy, "trusted_proxy_count": 1, "trusted_proxy_headers": headers}
    server = create_server(
        watch,
        sockets=[given],
        threads=THREADS,
        ident="",
        channel_timeout=IDLE_SECONDS,
        cleanup_interval=5,
        connection_limit=CONNECTIONS,
        max_request_header_size=HEADER_BYTES,
        max_request_body_size=BODY_BYTES,
        clear_untrusted_proxy_headers=True,
        asyncore_use_poll=True,
        **trusted,
    )
    stopping = threading.Event()

    def stop(*_: object) -> None:
        stopping.set()
        raise SystemExit(0)

    def tend() -> None:
        begun: dict[int, float] = {}
        while not stopping.wait(1.0):
            if watch.look():
                os._exit(75)
            close_half_sent(server, begun)
            if resident() > WORN and not watch.running:
                log.warning("a web process of %d MB makes place for a fresh one", resident() >> 20)
                os.kill(os.getpid(), signal.SIGTERM)
                return

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C reaches the launcher, which ends us in order
    threading.Thread(target=tend, daemon=True, name="tend").start()
    server.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
