"""Bring a database up to date in one go: tables, library, and the demo where it is asked for."""

from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand


class Command(BaseCommand):
    help = "Migrate, load the library that ships, and with --demo the invented season."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--demo", action="store_true", help="load the invented season too")
        parser.add_argument(
            "--dry-run", action="store_true", help="say which migrations are missing, and change nothing"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        if options["dry_run"]:
            call_command("migrate", plan=True)
            return
        call_command("migrate", verbosity=0)
        call_command("load_library")
        if options["demo"]:
            call_command("load_demo")
