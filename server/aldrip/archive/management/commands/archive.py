"""Write a nursery to a file that any Aldrip can read."""

import os
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from aldrip.accounts.models import Organisation
from aldrip.accounts.routes import one_snapshot
from aldrip.archive.writing import write_archive


class Command(BaseCommand):
    help = "Write everything of a nursery as a zip of JSON and CSV."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--nursery", help="its name, where there are several")

    def handle(self, *args: Any, **options: Any) -> None:
        file: Path = options["file"]
        rows = Organisation.objects.order_by("pk")
        if options["nursery"]:
            rows = rows.filter(name=options["nursery"])
        names = list(rows.values_list("name", flat=True))
        if len(names) != 1:
            raise CommandError(
                f"Name one nursery with --nursery: {', '.join(names)}." if names else "There is no such nursery here."
            )
        part = file.with_name(file.name + ".part")
        with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as handle, one_snapshot():
            counts = write_archive(rows.get(), handle)
        part.replace(file)  # the last good one stays until this one is whole
        self.stdout.write(f"Wrote {names[0]}, {sum(counts.values()):,} rows, to {file}.")
