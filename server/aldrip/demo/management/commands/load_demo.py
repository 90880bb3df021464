"""Load the invented season that ships, unless it is there already."""

from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError

from aldrip.accounts.models import Organisation
from aldrip.demo.loader import is_whole, load
from aldrip.methods.library import load_library

NOTHING = "Nothing was changed. The demo has a database of its own: ./aldrip demo, or ./aldrip manage --demo load_demo."


class Command(BaseCommand):
    help = "Load the invented season that ships. Does nothing when it is there; one that was cut short is loaded anew."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--dry-run", action="store_true", help="say what would be done")

    def handle(self, *args: Any, **options: Any) -> None:
        own = Organisation.objects.filter(demo=False).first()
        if own is not None:
            raise CommandError(f"This database holds {own.name}, which is not the demo. {NOTHING}")
        if not settings.IS_DEMO:
            raise CommandError(f"This is not the demo's database. {NOTHING}")
        if is_whole():
            return
        cut_short = Organisation.objects.exists()
        self.stdout.write(
            "Living through the demo's season" + (", anew: the last time was cut short" if cut_short else "")
        )
        if options["dry_run"]:
            return
        if cut_short:
            call_command("flush", interactive=False, verbosity=0)
            load_library()
        counts = load()
        self.stdout.write(", ".join(f"{count:,} {name}" for name, count in counts.items()))
