"""Once and only once: a change that is asked for again under its key is answered with the first answer."""

import logging
from collections.abc import Callable
from contextlib import suppress
from uuid import UUID

from django.db import DatabaseError, IntegrityError, OperationalError, connection, transaction
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.utils.crypto import salted_hmac

from aldrip.accounts.models import Answered, User
from aldrip.base.errors import FieldError, refused_problem
from aldrip.base.requests import rooms_touched, touched

log = logging.getLogger("aldrip.requests")

HEADER = "Idempotency-Key"
READS = ("GET", "HEAD", "OPTIONS")
#: Wrong passwords are counted whatever becomes of the request; calculators change nothing.
APART = ("/api/session", "/api/calc/")
#: Their answers hold a secret that is said once: that it was done is kept, what it told is not.
SAID_ONCE = ("/link", "/archive")
KEYS = 7102  # the number under which requests with one key wait for each other
#: What the database says when two got in each other's way: tried once more, it goes, or is refused in words.
IN_THE_WAY = ("40P01", "40001", "23505")


def sqlstate(error: BaseException) -> str:
    """The code that PostgreSQL gives to a fault; empty where it gave none."""
    return str(getattr(error.__cause__, "sqlstate", "") or "")


def in_the_way(request: HttpRequest, error: Exception) -> bool:
    """Whether a fault is two people at one moment, and the request is worth another try; then it is noted so."""
    found = isinstance(error, IntegrityError | OperationalError) and sqlstate(error) in IN_THE_WAY
    request.in_the_way = found  # type: ignore[attr-defined]
    return found


class Once:
    """Every change runs in one transaction; refused, none of it stays. With a key it is done once, however often it arrives."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if request.method in READS or not request.path.startswith("/api/") or request.path.startswith(APART):
            return self.answer(request)
        text = request.headers.get(HEADER, "")
        key: UUID | None = None
        with suppress(ValueError):
            key = UUID(text) if text else None
        if text and key is None:
            return _problem(422, "not_a_key", f"{HEADER} is no uuid.")
        answer = self._answered(request, key)
        if getattr(request, "in_the_way", False):
            log.info("%s %s again", request.method, request.path)
            request.in_the_way = False  # type: ignore[attr-defined]
            for _, files in request.FILES.lists():
                for file in files:
                    file.seek(0)  # it was read to its end the first time
            answer = self._answered(request, key)
        return answer

    def _answered(self, request: HttpRequest, key: UUID | None) -> HttpResponse:
        with transaction.atomic():
            if key is None:
                return self._tried(request)
            user = request.user if isinstance(request.user, User) else None
            with connection.cursor() as cursor:
                cursor.execute("select pg_advisory_xact_lock(%s, %s)", [KEYS, key.int % 2**31])
            asked = _fingerprint(request)
            found = Answered.objects.filter(user=user, key=key).first()
            if found is not None:
                return _first(found) if found.asked == asked else _problem(422, "key_used", OTHER)
            answer = self._tried(request)
            if answer.status_code < 400 and _wrote():
                kept = _problem(409, "said_once", DONE) if request.path.endswith(SAID_ONCE) else answer
                Answered.objects.create(
                    user=user,
                    key=key,
                    asked=asked,
                    status=kept.status_code,
                    kind=kept.headers.get("Content-Type", ""),
                    body=kept.content,
                    rooms=",".join(sorted(rooms_touched())),
                )
            return answer

    def _tried(self, request: HttpRequest) -> HttpResponse:
        answer = self.answer(request)
        if answer.status_code >= 400:
            transaction.set_rollback(True)
        return answer


DONE = "This was done already; what it told was said once, and is kept nowhere. Look, and ask anew where it is needed."
OTHER = "This key stands for something else that was sent. Reload the page, look whether it arrived, and send it again."


def _wrote() -> bool:
    """Whether anything was written in this transaction."""
    try:
        with connection.cursor() as cursor:
            cursor.execute("select pg_current_xact_id_if_assigned() is not null")
            return bool(cursor.fetchone()[0])
    except DatabaseError:
        return False


def _fingerprint(request: HttpRequest) -> str:
    """What was asked for; of a file only how long it is."""
    form = (request.content_type or "").startswith("multipart/")
    body = request.headers.get("Content-Length", "").encode() if form else request.body
    head = f"{request.method} {request.get_full_path()}\n".encode()
    # With the house's own secret: there may be a password in it, and nobody shall try some on the print.
    return salted_hmac("aldrip.once", head + body, algorithm="sha256").hexdigest()


def _first(found: Answered) -> HttpResponse:
    answer = HttpResponse(bytes(found.body), status=found.status, content_type=found.kind or None)
    answer["X-Answered-Before"] = "1"
    touched(one for one in found.rooms.split(",") if one)
    return answer


def _problem(status: int, code: str, words: str) -> HttpResponse:
    told = refused_problem([FieldError("", code, words)]) | {"title": words, "status": status, "code": code}
    return JsonResponse(told, status=status, content_type="application/problem+json")
