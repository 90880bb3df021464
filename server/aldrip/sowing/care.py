"""Care that a reading asks for: what was off is on the day sheet until it is read again and right."""

from collections.abc import Sequence
from datetime import date, timedelta

from aldrip.accounts.context import Ctx
from aldrip.diary.sheet import Beside
from aldrip.sowing.models import FeedReading

ASKED_FOR = timedelta(days=7)  # since it was read; nobody acts on what was read last month


def by_reading(ctx: Ctx, first: date, days: int) -> Sequence[Beside]:
    """Of each feed and place the newest reading, where it was outside its band. One query."""
    if not first <= ctx.today < first + timedelta(days=days):
        return []
    rows = ctx.rows(FeedReading).filter(replaced_by=None, happened_at__gte=ctx.now - ASKED_FOR)
    newest: dict[tuple[str, int | None], FeedReading] = {}
    for one in rows.select_related("place").order_by("happened_at", "pk"):
        newest[one.feed, one.place_id] = one
    return [
        Beside(
            ctx.today,
            "morning",
            f"{one.feed}{f' in {one.place.name}' if one.place else ''}: {one.said}. Mend it, and read it again.",
            "/sowing",
        )
        for one in newest.values()
        if one.said
    ]
