"""Bring a nursery in from a file that an Aldrip wrote."""

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from aldrip.archive.reading import read_archive
from aldrip_core.refusal import Refused


class Command(BaseCommand):
    help = "Bring everything of a nursery in, or nothing; its managers get new passwords."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("file", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        if not options["file"].is_file():
            raise CommandError(f"There is no file {options['file']}.")
        try:
            with options["file"].open("rb") as handle:
                found = read_archive(handle)
        except Refused as refused:
            raise CommandError(" ".join(error.message for error in refused.errors)) from None
        self.stdout.write(f"Brought in {found.organisation.name}, {sum(found.counts.values()):,} rows.")
        for name, password in found.passwords.items():
            self.stdout.write(f"Sign in as {name} with the password {password} (it is said once: write it down).")
