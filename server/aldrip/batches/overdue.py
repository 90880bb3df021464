"""What has not been done in its time is reckoned from today."""

from datetime import date, timedelta

from aldrip.batches.models import Batch
from aldrip.batches.saved import Saved


def ready_on(saved: Saved, today: date) -> date:
    """The day on which a batch can be handed over: graded ones already can; what has not been done is reckoned from today."""
    if saved.last.actual_start is not None:
        return saved.last.actual_start
    planned: date = saved.last.planned.upper
    return planned + timedelta(days=overdue_days(saved, today))


def overdue_days(saved: Saved, today: date) -> int:
    """By how many days the next step of a batch is overdue: all that follows cannot come sooner than as many days later.

    A seed crop flowers and ripens by itself, so once it is sown nothing of it waits to be recorded; plants that are
    graded wait for their delivery.
    """
    following = saved.next
    waits = saved.batch.state == Batch.State.PLANNED or (
        saved.batch.state == Batch.State.SOWN and saved.method.way == "plants"
    )
    return max(0, (today - following.planned.lower).days) if waits and following is not None else 0
