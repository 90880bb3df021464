"""The examples in the docstrings of core run."""

import doctest
import importlib
import pkgutil
from unittest import TestCase

import aldrip_core


class DocstringExamples(TestCase):
    def test_every_example_gives_what_it_says(self) -> None:
        tried = 0
        for found in pkgutil.iter_modules(aldrip_core.__path__):
            result = doctest.testmod(importlib.import_module(f"aldrip_core.{found.name}"), verbose=False)
            tried += result.attempted
            self.assertEqual(result.failed, 0, found.name)
        self.assertGreater(tried, 12)
