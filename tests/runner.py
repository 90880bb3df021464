"""Django's runner, closing with one plain line: how many passed, how many failed."""

import os
import re
import time
from collections.abc import Callable
from typing import Any
from unittest import TestResult, TestSuite

from django.conf import settings
from django.db import connection
from django.test import TransactionTestCase
from django.test.runner import DiscoverRunner

from aldrip.base.circles import hunt_less

TIMES = os.environ.get(
    "ALDRIP_TIMES"
)  # a file that takes the seconds, process and moment of every test and of every class's preparation


class Runner(DiscoverRunner):
    def setup_test_environment(self, **kwargs: Any) -> None:
        super().setup_test_environment(**kwargs)
        # People of the tests sign in hundreds of times; a slow hash would guard nobody here.
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]

        watch_the_line()
        hunt_less()

    def setup_databases(self, **kwargs: Any) -> Any:
        """The library that ships is put into the first database, from which those of the processes are copied."""
        from aldrip.methods.library import load_library
        from tests.emptying import emptied, remember

        TransactionTestCase._fixture_teardown = lambda case: emptied()  # type: ignore[method-assign]

        create = connection.creation.create_test_db

        def with_library(*args: Any, **options: Any) -> str:
            name = create(*args, **options)
            load_library()
            remember()
            return name

        connection.creation.create_test_db = with_library  # type: ignore[method-assign]
        try:
            return super().setup_databases(**kwargs)
        finally:
            connection.creation.create_test_db = create  # type: ignore[method-assign]

    def suite_result(self, suite: TestSuite, result: TestResult, **kwargs: Any) -> int:
        wrong = [test for test, _ in (*result.failures, *result.errors)]
        wrong += getattr(result, "unexpectedSuccesses", [])
        # A test fails once, in however many of its cases.
        failed = len({getattr(test, "test_case", test).id() for test in wrong})
        skipped = len(result.skipped)
        self._closing = f"{result.testsRun - failed - skipped} passed, {failed} failed"
        if skipped:
            self._closing += f", {skipped} skipped"
        return failed

    def run_tests(self, test_labels: list[str], **kwargs: Any) -> int:
        try:
            return super().run_tests(test_labels, **kwargs)
        finally:
            print(getattr(self, "_closing", "0 passed, 1 failed"), flush=True)


#: Written without standing in line: who is signed in and whose password was wrong, answers to keys, the queue of jobs.
BESIDE = re.compile(r"django_session|axes_|accounts_answered|accounts_user\b|jobs_job|procrastinate|django_admin_log")
#: What is tried out: written, looked at and never kept.
TRIED = ("/api/methods/try", "/api/library/yaml/read")
WRITES = re.compile(r"\s*(?:INSERT INTO|UPDATE|DELETE FROM) \"(\w+)\"", re.IGNORECASE)


def watch_the_line() -> None:
    """Every change over HTTP waits its turn in its house before it writes, in every test there is: so no two ever race."""
    from aldrip.accounts.once import Once

    answered = Once._tried

    def watched(once: Once, request: Any) -> Any:
        waits = False

        def seen(execute: Callable[..., Any], sql: str, params: Any, many: bool, context: Any) -> Any:
            nonlocal waits
            waits = waits or "pg_advisory_xact_lock" in str(sql)
            wrote = WRITES.match(str(sql))
            if wrote and not waits and not BESIDE.match(wrote[1]) and request.path not in TRIED:
                raise AssertionError(f"{request.method} {request.path} writes {wrote[1]} without waiting its turn")
            return execute(sql, params, many, context)

        with connection.execute_wrapper(seen):
            return answered(once, request)

    Once._tried = watched  # type: ignore[method-assign]


def _timed(work: Callable[..., Any], name: Callable[[Any], str]) -> Callable[..., Any]:
    def timed(of: Any, *args: Any, **options: Any) -> Any:
        began = time.perf_counter()
        try:
            return work(of, *args, **options)
        finally:
            with open(TIMES or os.devnull, "a") as file:
                file.write(f"{time.perf_counter() - began:.2f} {name(of)} {os.getpid()} {began:.0f}\n")

    return timed


if TIMES:
    from django.test import SimpleTestCase
    from django.test import TestCase as DjangoTestCase

    run = _timed(SimpleTestCase.__call__, lambda test: test.id())
    SimpleTestCase.__call__ = run  # type: ignore[method-assign]
    prepare = _timed(DjangoTestCase.setUpClass.__func__, lambda cls: f"class {cls.__module__}.{cls.__qualname__}")  # type: ignore[attr-defined]
    DjangoTestCase.setUpClass = classmethod(prepare)  # type: ignore[assignment]
