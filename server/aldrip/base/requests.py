"""Every request has a number: it stands in the log, in the answer's head, and in the sentence when something breaks."""

import json
import logging
import time
from collections.abc import Callable, Iterable
from contextvars import ContextVar
from datetime import UTC, datetime
from typing import Any
from uuid import uuid4

from django.http import HttpRequest, HttpResponse

log = logging.getLogger("aldrip.requests")

#: Rooms in which the request that runs has saved something; None outside of requests.
_touched: ContextVar[set[str] | None] = ContextVar("touched", default=None)


def touched(rooms: Iterable[str]) -> None:
    """Note that something of these rooms was saved, so that whoever asked need look again only there."""
    found = _touched.get()
    if found is not None:
        found.update(rooms)


def rooms_touched() -> frozenset[str]:
    """The rooms in which the request that runs has saved something until now."""
    return frozenset(_touched.get() or ())


class TookTooLong(Exception):
    """Raised in the middle of a request that has run as long as one may."""


SLOW_S = 2.0  # after which a request is written down even when it went well


class Numbered:
    """Give each request a short number, and write down what broke or was slow."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        number = uuid4().hex[:10]
        request.number = number  # type: ignore[attr-defined]
        began = time.perf_counter()
        rooms: set[str] = set()
        token = _touched.set(rooms)
        try:
            answer = self.answer(request)
        finally:
            _touched.reset(token)
        if rooms:
            answer["X-Touched"] = ",".join(sorted(rooms))
        answer["X-Request-Id"] = number
        spent = time.perf_counter() - began
        if request.path not in ("/healthz", "/readyz"):
            loud = answer.status_code >= 500 or spent > SLOW_S
            log.log(
                logging.WARNING if loud else logging.INFO,
                "%s %s %s",
                request.method,
                request.path,
                answer.status_code,
                extra={
                    "number": number,
                    "method": request.method,
                    "path": request.path,
                    "status": answer.status_code,
                    "ms": round(spent * 1000),
                },
            )
        return answer


class Lines(logging.Formatter):
    """A record as one line of JSON: when, how bad, where, what, and the number of its request where it has one."""

    OF_A_REQUEST = ("number", "method", "path", "status", "ms")

    def format(self, record: logging.LogRecord) -> str:
        line: dict[str, Any] = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "from": record.name,
            "what": record.getMessage(),
        }
        line |= {name: getattr(record, name) for name in self.OF_A_REQUEST if hasattr(record, name)}
        if record.exc_info:
            line["trace"] = self.formatException(record.exc_info)
        return json.dumps(line, ensure_ascii=False, default=str)
