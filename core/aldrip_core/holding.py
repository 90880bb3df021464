"""What is ready before it is wanted has to wait: for how long it may, and what the waiting costs."""

from dataclasses import dataclass
from datetime import date

from aldrip_core.refusal import refuse

DAYS_A_WEEK = 7
SLACK = 4  # days by which closed days may lengthen the days in hand
LONG = 14  # days of waiting that are worth a word where nobody said how long it may


@dataclass(frozen=True, slots=True)
class Held:
    """So many days of waiting [d], the share of the good ones that is still good then [0-1], and whether they are too old."""

    days: int
    kept: float
    too_old: bool


def held(
    *, ready: date, wanted: date, hold_days: float | None = None, loss_a_week: float = 0.0, in_hand: int = 0
) -> Held:
    """What is left on the first day on which it is wanted of what is ready on `ready`.

    hold_days: that it may wait [d], None where nobody said. loss_a_week: share of the good ones lost in each week [0-1),
    a part of a week loses its part. in_hand: days that the house plans between ready and wanted [d]; with the closed
    days among them they cost nothing and are never too long. Raises Refused for a share that is none. Common practice,
    no source.

    >>> held(ready=date(2027, 7, 28), wanted=date(2027, 8, 15), hold_days=10, loss_a_week=0.1)
    Held(days=18, kept=0.81, too_old=True)
    """
    if not 0 <= loss_a_week < 1:
        raise refuse("loss_a_week", "out_of_range", f"{loss_a_week:g} lost a week cannot be; 0 to below 1.")
    days, free = max(0, (wanted - ready).days), in_hand + SLACK
    kept = round((1 - loss_a_week) ** (max(0, days - free) / DAYS_A_WEEK), 12)
    return Held(days, kept, hold_days is not None and days > max(hold_days, free))
