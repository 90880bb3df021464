"""A treatment by the clock: steps that last so many minutes at so many degrees, where it stands now, and whether it held.

Where it stands follows from when its steps were begun and nothing else, so that no clock has to be kept running. A step
is over when whoever stands there begins the next one or ends it all: seed stays in the hot water until somebody lifts it.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import pairwise

from aldrip_core.refusal import refuse

LONGEST_MINUTES = 60 * 24 * 120  # a stratification lasts months
GIVE_C = 0.5  # a water bath for seed; common practice, no source
SHORT_MINUTES = 0.5  # that a step may be too short by, for the hand that lifts it out; our own


@dataclass(frozen=True, slots=True)
class TimedStep:
    """One step: its name, how long [min], and how warm [°C] within `give_c`, where that matters.

    `over_minutes`: by how much it may last too long; None where longer does no harm.
    """

    name: str
    minutes: float
    at_c: float | None = None
    give_c: float = GIVE_C
    over_minutes: float | None = None


@dataclass(frozen=True, slots=True)
class AtStep:
    """Where a procedure stands: the step (its index), since when, until when; `over_minutes`: by how much that is past."""

    index: int
    since: datetime
    until: datetime
    over_minutes: float

    @property
    def over(self) -> bool:
        return self.over_minutes >= 0


@dataclass(frozen=True, slots=True)
class TempRead:
    """A temperature that was read [°C]."""

    at: datetime
    temp_c: float


@dataclass(frozen=True, slots=True)
class Strayed:
    """What a step does not bear: a reading off by so many degrees, or an end off by so many minutes (negative: too soon)."""

    step: str
    at: datetime
    off_c: float | None = None
    off_minutes: float | None = None

    def words(self) -> str:
        """As a person says it."""
        if self.off_c is not None:
            return f"{self.step}: {abs(self.off_c):.2g} °C too {'warm' if self.off_c > 0 else 'cold'}"
        off = self.off_minutes or 0.0
        return f"{self.step}: {minutes_words(abs(off))} too {'long' if off > 0 else 'short'}"


def minutes_words(minutes: float) -> str:
    """So many minutes as people say them.

    >>> [minutes_words(one) for one in (0.5, 4, 90, 1500, 40320)]
    ['30 s', '4 min', '1.5 h', '25 h', '28 days']
    """
    if minutes < 1:
        return f"{minutes * 60:.0f} s"
    if minutes < 90:
        return f"{minutes:.3g} min"
    return f"{minutes / 60:.3g} h" if minutes < 48 * 60 else f"{minutes / 1440:.3g} days"


def check_steps(steps: Sequence[TimedStep]) -> None:
    """Raise Refused for a procedure that cannot be followed."""
    if not steps:
        raise refuse("steps", "missing", "A treatment has at least one step.")
    for n, step in enumerate(steps):
        if not 0 < step.minutes <= LONGEST_MINUTES:
            told = f"“{step.name}” lasts {step.minutes:g} minutes? Above 0, and at most {LONGEST_MINUTES // 1440} days."
            raise refuse(f"steps.{n}.minutes", "out_of_range", told)
        if step.give_c <= 0:
            raise refuse(f"steps.{n}.give_c", "out_of_range", "No bath holds its degrees without any give.")
        if step.over_minutes is not None and step.over_minutes < 0:
            raise refuse(f"steps.{n}.over_minutes", "out_of_range", "How much longer does it bear? Nothing or more.")


def stands(steps: Sequence[TimedStep], *, begun: Sequence[datetime], now: datetime) -> AtStep:
    """Where it stands at `now`: the last step that was begun runs, and is over its time from `until` on.

    >>> from datetime import UTC
    >>> start = datetime(2027, 3, 1, 9, 0, tzinfo=UTC)
    >>> stands([TimedStep("hot water", 25, 50), TimedStep("cool", 5)], begun=[start], now=start + timedelta(minutes=26)).over_minutes
    1.0
    """
    check_begun(steps, begun)
    index, since = len(begun) - 1, begun[-1]
    until = since + timedelta(minutes=steps[index].minutes)
    return AtStep(index, since, until, (now - until).total_seconds() / 60)


def check_begun(steps: Sequence[TimedStep], begun: Sequence[datetime]) -> None:
    """Raise Refused where steps were begun that there are not, or one before the one before it."""
    if not begun or len(begun) > len(steps):
        raise refuse("step", "no_step", f"There {'is 1 step' if len(steps) == 1 else f'are {len(steps)} steps'} in it.")
    if any(later < earlier for earlier, later in pairwise(begun)):
        raise refuse("at", "out_of_order", "A step begins after the one before it.")


def strayed(
    steps: Sequence[TimedStep],
    *,
    begun: Sequence[datetime],
    ended: datetime | None,
    readings: Sequence[TempRead],
) -> tuple[Strayed, ...]:
    """What was not as it should be: readings in the order in which they were read, then the lengths of steps.

    Readings before the first step and after the end are nobody's. While it runs (`ended` is None) the last step is not
    judged by its length. A procedure that ended before its last steps were begun is too short by all of them.
    """
    check_begun(steps, begun)
    found = []
    for one in sorted(readings, key=lambda read: read.at):
        index = sum(start <= one.at for start in begun) - 1
        if index < 0 or (ended is not None and one.at > ended):
            continue
        wanted = steps[index].at_c
        if wanted is not None and abs(one.temp_c - wanted) > steps[index].give_c + 1e-9:
            found.append(Strayed(steps[index].name, one.at, off_c=one.temp_c - wanted))
    ends = [*begun[1:], *([ended] if ended is not None else [])]
    for step, start, end in zip(steps, begun, ends, strict=False):
        off = (end - start).total_seconds() / 60 - step.minutes
        if off < -SHORT_MINUTES or (step.over_minutes is not None and off > step.over_minutes):
            found.append(Strayed(step.name, end, off_minutes=off))
    if ended is not None:
        found += [Strayed(step.name, ended, off_minutes=-step.minutes) for step in steps[len(begun) :]]
    return tuple(found)


def product_amount(*, rate: float, of: float) -> float:
    """How much of a product a label's rate comes to: so much for each kilogram, litre, piece of what is treated.

    The rate is the label's, typed by whoever reads it. Source: arithmetic.

    >>> product_amount(rate=10, of=2.5)  # 10 g/kg on 2.5 kg
    25.0
    """
    if not (0 < rate <= 1000):
        raise refuse(
            "rate", "out_of_range", "What does the label say for each kilogram or litre? Above 0, at most 1,000."
        )
    return rate * of
