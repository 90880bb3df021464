"""Whether a batch will be ready by the first day promised, from what its stages may take longer."""

from collections.abc import Mapping
from datetime import date, timedelta

from aldrip.batches.forecasting import LIVE
from aldrip.batches.overdue import overdue_days
from aldrip.batches.saved import Saved
from aldrip_core.in_time import InTime, done_on, gives_ahead, in_time
from aldrip_core.schedule import StageDates
from aldrip_core.working_calendar import WorkingCalendar


def last_day_of(saved: Saved, working: WorkingCalendar) -> date | None:
    """The last working day of the first promise that is still to be kept; None where there is none."""
    ends = ((due.lower, due.upper - timedelta(days=1)) for due in saved.windows)
    # A window without a working day in it is kept as it was promised.
    return min((end if (day := working.on_or_before(end)) < start else day for start, end in ends), default=None)


def ready_in_time(saved: Saved, dates: Mapping[str, StageDates], last_day: date | None, today: date) -> InTime | None:
    """How sure the days of a batch are; None where no stage ahead may last longer or shorter, or all of it is over.

    What has not been done in its time is reckoned from today.
    """
    if saved.batch.state not in LIVE:
        return None
    ended = frozenset(key for key, stage in saved.stages.items() if stage.actual_end is not None)
    return in_time(
        ready=done_on(saved.method, dates, ended) + overdue(saved, dates, today),
        last_day=last_day,
        gives=gives_ahead(saved.method, dates, ended),
        chance_wanted=saved.batch.chance_wanted,
    )


def overdue(saved: Saved, dates: Mapping[str, StageDates], today: date) -> timedelta:
    """By how much the next step of a plan with these days is overdue; a change that moves it takes that away."""
    following = saved.next
    if following is None or not overdue_days(saved, today):
        return timedelta(0)
    return max(timedelta(0), today - dates[following.key].start)
