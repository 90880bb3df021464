"""The nursery's working days: when people are there to sow, move and pack."""

from dataclasses import dataclass, field
from datetime import date, timedelta

from aldrip_core.refusal import refuse

FAR = 60  # days looked ahead for a working day before the calendar is called empty


@dataclass(frozen=True)
class WorkingCalendar:
    """Weekdays worked (Monday 0 … Sunday 6) less closed days."""

    weekdays: frozenset[int] = frozenset(range(5))
    closed: frozenset[date] = field(default_factory=frozenset)

    def works(self, day: date) -> bool:
        """Whether people work on `day`."""
        return day.weekday() in self.weekdays and day not in self.closed

    def on_or_before(self, day: date) -> date:
        """Latest working day up to `day`. Raises Refused when none is near."""
        return self._seek(day, -1)

    def on_or_after(self, day: date) -> date:
        """Earliest working day from `day` on. Raises Refused when none is near."""
        return self._seek(day, 1)

    def _seek(self, day: date, step: int) -> date:
        for distance in range(FAR):
            found = day + timedelta(days=step * distance)
            if self.works(found):
                return found
        raise refuse("working_days", "none", f"There is no working day within {FAR} days of {day}.")
