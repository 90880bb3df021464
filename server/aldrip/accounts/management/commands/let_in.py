"""A way in for whoever keeps the machine, when nobody is left who could give one."""

from typing import Any

from axes.utils import reset as unlock
from django.core.management.base import BaseCommand, CommandError

from aldrip.accounts import people
from aldrip.accounts.models import User


class Command(BaseCommand):
    help = "Print a link with which somebody sets a password; unlocks them, and does away with their second factor."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("name", help="the name that they sign in with")

    def handle(self, *args: Any, **options: Any) -> None:
        user = User.objects.filter(username=options["name"].strip().lower()).first()
        if user is None:
            known = ", ".join(User.objects.order_by("username").values_list("username", flat=True)[:20])
            raise CommandError(f"Nobody signs in as “{options['name']}”. Known: {known or 'nobody'}.")
        user.totp = ""
        user.save(update_fields=["totp"])
        unlock(username=user.username)
        self.stdout.write(f"Open this behind Aldrip's address, once and within a day: /password/{people.link_of(user)}")
