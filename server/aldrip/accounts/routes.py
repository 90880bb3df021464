"""Routes that know their permission: every route of a room is added through here."""

import functools
import inspect
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from typing import Any
from uuid import UUID

from django.db import connection, transaction
from django.http import HttpRequest
from django.urls import register_converter
from ninja import Router
from ninja.utils import check_csrf

from aldrip.accounts.context import Ctx as Context
from aldrip.accounts.context import context_of
from aldrip.base.errors import Busy, Forbidden


class RefConverter:
    """A row in an address: its number, or its uuid, which means the same in every Aldrip."""

    regex = "[0-9]+|[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}"

    def to_python(self, value: str) -> int | UUID:
        return int(value) if value.isdigit() else UUID(value)

    def to_url(self, value: object) -> str:
        return str(value)


register_converter(RefConverter, "ref")

# (method, path, action) of every route that needs a signed-in member; read by the permission test.
ROUTES: list[tuple[str, str, str]] = []
SAFE = ("GET",)
#: What takes seconds of a processor: so many of a process at once, and the others wait a little or come again.
HEAVY = (".pdf", "/archive")
AT_ONCE, WAIT_S = 2, 10.0
_turns = threading.BoundedSemaphore(AT_ONCE)


@contextmanager
def a_turn() -> Iterator[None]:
    """One of the few turns that heavy work has; while it waits, its thread holds no processor. Raises Busy."""
    if not _turns.acquire(timeout=WAIT_S):
        raise Busy("Many papers are being made at this moment. Try again in a few seconds.")
    try:
        yield
    finally:
        _turns.release()


@contextmanager
def one_snapshot() -> Iterator[None]:
    """Everything that is read inside shows the database at one moment, however many queries it takes."""
    if connection.in_atomic_block:  # whoever opened it decided what is seen
        yield
        return
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("set transaction isolation level repeatable read read only")
        yield


def request_of(ctx: Context) -> HttpRequest:
    """The request behind a context, for the few answers that depend on it: addresses and sessions."""
    assert ctx.request is not None
    return ctx.request


class Room:
    """A room's routes: `@room.get("/places", "see", response=…)` over a function of (ctx, …)."""

    def __init__(self, name: str) -> None:
        self.router = Router(tags=[name])

    def get(self, path: str, action: str, **options: Any) -> Callable[..., Any]:
        return self._add("GET", path, action, options)

    def post(self, path: str, action: str, **options: Any) -> Callable[..., Any]:
        return self._add("POST", path, action, options)

    def patch(self, path: str, action: str, **options: Any) -> Callable[..., Any]:
        return self._add("PATCH", path, action, options)

    def _add(self, method: str, path: str, action: str, options: dict[str, Any]) -> Callable[..., Any]:
        ROUTES.append((method, path, action))
        heavy = path.endswith(HEAVY)

        def wrap(view: Callable[..., Any]) -> Callable[..., Any]:
            @functools.wraps(view)
            def answer(request: HttpRequest, *args: Any, **kwargs: Any) -> Any:
                if method not in SAFE and check_csrf(request):
                    raise Forbidden("This page is out of date. Reload it and try again.")
                if method in SAFE:
                    with a_turn() if heavy else nullcontext(), one_snapshot():
                        return view(context_of(request, action), *args, **kwargs)
                return view(context_of(request, action), *args, **kwargs)

            signature = inspect.signature(view)
            first, *rest = signature.parameters.values()
            request = first.replace(name="request", annotation=HttpRequest)
            answer.__signature__ = signature.replace(parameters=[request, *rest])  # type: ignore[attr-defined]
            self.router.add_api_operation(path, [method], answer, by_alias=True, **options)
            return view

        return wrap
