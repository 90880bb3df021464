"""Every act of the demo's season, taken back one by one in reverse, leaves the database as it was before it."""

import json
from collections.abc import Iterator
from datetime import date
from io import StringIO
from typing import Any
from unittest.mock import patch

from django.core.management import call_command
from django.db import connection
from django.test import TransactionTestCase, override_settings

from aldrip.accounts.context import Ctx
from aldrip.accounts.journal import COUNTERS, kept_models
from aldrip.accounts.models import AuditEvent, Change, Organisation, User
from aldrip.accounts.taking_back import OTHERWISE, TAKEN_BACK, rests_on, take_back
from aldrip.demo.loader import Season
from aldrip.methods.library import load_library

Rows = dict[str, dict[int, dict[str, Any]]]
LOOKED_AT = ("2027-02-01", "2027-04-12", "2027-05-31", "2027-06-21", "2027-07-05")
#: The clock of the demo is set beside its acts; papers that are out stay.
BESIDE = {"accounts_organisation": {"practice_date"}}


def steady(value: Any) -> Any:
    """What was reckoned anew may differ in its last bit."""
    return float(f"{value:.9g}") if isinstance(value, float) else value


def rows_now() -> Rows:
    """Everything of which changes are kept, but for counters."""
    found: Rows = {}
    with connection.cursor() as cursor:
        for model in kept_models():
            table = model._meta.db_table
            where = "where withdrawn_at is null" if table == "deliveries_document" else ""
            cursor.execute(f'select id, to_jsonb(t)::text from "{table}" t {where}')
            left_out = {*COUNTERS, *BESIDE.get(table, ())}
            found[table] = {
                pk: {name: steady(value) for name, value in json.loads(row).items() if name not in left_out}
                for pk, row in cursor.fetchall()
            }
    return found


def differences(one: Rows, other: Rows) -> Iterator[str]:
    for table in one:
        for pk in sorted({*one[table], *other[table]}):
            was, now = one[table].get(pk), other[table].get(pk)
            if was is None or now is None:
                yield f"{table} {pk}: {'is new' if was is None else 'is gone'}"
            elif was != now:
                yield f"{table} {pk}: " + "; ".join(f"{k} {was[k]} -> {now[k]}" for k in was if was[k] != now[k])


@override_settings(IS_DEMO=True)
class TakenBack(TransactionTestCase):
    def test_the_whole_season_goes_back_step_by_step(self) -> None:
        seen: dict[str, tuple[int, Rows]] = {}
        stood_on = Season._stand_on

        def stand_on(season: Season, day: date) -> None:
            if day.isoformat() in LOOKED_AT and day.isoformat() not in seen and season.house["begins"] <= day:
                newest = AuditEvent.objects.order_by("-id").values_list("id", flat=True).first() or 0
                seen[day.isoformat()] = (newest, rows_now())
            stood_on(season, day)

        load_library()
        with patch.object(Season, "_stand_on", stand_on):
            call_command("load_demo", verbosity=0, stdout=StringIO())
        self.assertEqual(len(seen), len(LOOKED_AT))
        house = Organisation.objects.get()
        ctx = Ctx(house, User.objects.get(username="manager"), "manager")
        told = set(AuditEvent.objects.exclude(act=None).values_list("act", flat=True))
        silent = Change.objects.exclude(act__in=told).values_list("act", flat=True).distinct().count()
        self.assertEqual(silent, 0, "an act that changed something tells nobody")
        for day, (newest, before) in sorted(seen.items(), reverse=True):
            for event in (
                AuditEvent.objects.filter(pk__gt=newest, undone_by=None).exclude(action=TAKEN_BACK).order_by("-id")
            ):
                event.refresh_from_db()
                if event.undone_by_id or event.act is None or any(event.action.startswith(one) for one in OTHERWISE):
                    continue
                if not Change.objects.filter(act=event.act).exists():
                    continue
                house.practice_date = event.happened_at.date()
                house.save(update_fields=["practice_date"])
                back = rests_on(ctx, event.pk)
                self.assertEqual([one.sentence for one in back.rests], [], f"rests on {event.sentence}")
                take_back(ctx, event.pk, reason="tried", known=[one.pk for one in back.events])
            found = list(differences(before, rows_now()))
            self.assertEqual(found[:12], [], f"{day}: {len(found)} rows differ")
