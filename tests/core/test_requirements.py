"""Requirements by week against a recount day by day. Source: arithmetic."""

import random
from datetime import date, timedelta
from unittest import TestCase

from aldrip_core.refusal import Refused
from aldrip_core.requirements import Need, by_week, monday

FIRST = date(2027, 7, 5)


def recount(needs: list[Need], weeks: int) -> dict[tuple[str, str], list[float]]:
    """Each need laid down day by day; what is due earlier counts on the first day, what stood earlier does not."""
    found: dict[tuple[str, str], list[float]] = {}
    for need in needs:
        if need.until is None:
            days = [(max(need.on, FIRST), need.amount)]
        else:
            length = (need.until - need.on).days
            each = need.amount / length if length else 0.0
            days = [(need.on + timedelta(days=n), each) for n in range(length)]
        for day, amount in days:
            for week in range(weeks):
                if FIRST + timedelta(days=7 * week) <= day < FIRST + timedelta(days=7 * week + 7):
                    found.setdefault((need.kind, need.what), [0.0] * weeks)[week] += amount
    return found


class Requirements(TestCase):
    def test_random_needs_as_counted_day_by_day(self) -> None:
        luck = random.Random(7)
        for _ in range(200):
            weeks, needs = luck.randint(1, 9), []
            for _ in range(luck.randint(0, 12)):
                on = FIRST + timedelta(days=luck.randint(-40, 80))
                until = on + timedelta(days=luck.randint(0, 60)) if luck.random() < 0.5 else None
                needs.append(Need(luck.choice("ab"), luck.choice("xyz"), "L", luck.uniform(0, 500), on, until))
            told = {(row.kind, row.what): row.amounts for row in by_week(needs, first=FIRST, weeks=weeks)}
            wanted = {key: row for key, row in recount(needs, weeks).items() if any(row) or key in told}
            self.assertEqual(told.keys(), wanted.keys())
            for key, row in wanted.items():
                for one, other in zip(row, told[key], strict=True):
                    self.assertAlmostEqual(one, other, places=6)

    def test_weeks_begin_on_mondays_as_the_standard_library_counts_them(self) -> None:
        for n in range(0, 4000, 3):
            day = date(2024, 1, 1) + timedelta(days=n)
            self.assertEqual(monday(day), date.fromisocalendar(*day.isocalendar()[:2], 1))

    def test_refusals(self) -> None:
        for first, weeks in ((date(2027, 7, 6), 3), (FIRST, 0)):
            with self.assertRaises(Refused):
                by_week([], first=first, weeks=weeks)
