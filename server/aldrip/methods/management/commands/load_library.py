"""Load the library that ships."""

from typing import Any

from django.core.management.base import BaseCommand
from django.db import transaction

from aldrip.methods.library import load_library


class Command(BaseCommand):
    help = "Load or refresh the library that ships (crops, containers, mixes, standards, methods)."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--dry-run", action="store_true", help="load, report, and take it back")

    def handle(self, *args: Any, **options: Any) -> None:
        with transaction.atomic():
            counts = load_library()
            if options["dry_run"]:
                transaction.set_rollback(True)
        self.stdout.write(", ".join(f"{count} {name}" for name, count in counts.items()))
