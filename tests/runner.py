"""Django's runner, closing with one plain line: how many passed, how many failed."""

from typing import Any
from unittest import TestResult, TestSuite

from django.conf import settings
from django.test.runner import DiscoverRunner


class Runner(DiscoverRunner):
    def setup_test_environment(self, **kwargs: Any) -> None:
        super().setup_test_environment(**kwargs)
        # People of the tests sign in hundreds of times; a slow hash would guard nobody here.
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]

    def suite_result(self, suite: TestSuite, result: TestResult, **kwargs: Any) -> int:
        failed = len(result.failures) + len(result.errors) + len(getattr(result, "unexpectedSuccesses", []))
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
