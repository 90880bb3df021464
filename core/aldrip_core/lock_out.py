"""After something was applied: until when nobody enters, from which day on it may be harvested. Both are the label's figures."""

from datetime import date, datetime, timedelta

from aldrip_core.refusal import refuse

LONGEST_ENTRY_H = 24 * 60
LONGEST_HARVEST_DAYS = 400


def entry_from(applied: datetime, hours: float | None) -> datetime | None:
    """When a place may be entered again; None where the label says nothing. Raises Refused.

    >>> from datetime import UTC
    >>> entry_from(datetime(2027, 7, 6, 8, 0, tzinfo=UTC), 6).hour
    14
    """
    if hours is None:
        return None
    if not 0 <= hours <= LONGEST_ENTRY_H:
        told = f"{hours:g} hours until somebody may enter? 0 to {LONGEST_ENTRY_H}, as the label says."
        raise refuse("entry_hours", "out_of_range", told)
    return applied + timedelta(hours=hours)


def harvest_from(applied: date, days: int | None) -> date | None:
    """The first day on which what stood there may be harvested or handed over; None where the label says nothing."""
    if days is None:
        return None
    if not 0 <= days <= LONGEST_HARVEST_DAYS:
        told = f"{days} days until the harvest? 0 to {LONGEST_HARVEST_DAYS}, as the label says."
        raise refuse("harvest_days", "out_of_range", told)
    return applied + timedelta(days=days)
