"""Tests. The property tests draw the same examples in every run, so that a failure can be met again."""

from hypothesis import settings

settings.register_profile("same", derandomize=True)
settings.load_profile("same")
