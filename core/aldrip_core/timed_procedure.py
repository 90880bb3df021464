"""A treatment by the clock: steps that last so many minutes at so many degrees, where it stands now, and whether it held.

Where it stands follows from when it was started and nothing else, so that no clock has to be kept running.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from aldrip_core.refusal import refuse

LONGEST_MINUTES = 60 * 24 * 60  # a stratification lasts weeks
GIVE_C = 0.5  # a water bath for seed; common practice, no source


@dataclass(frozen=True, slots=True)
class TimedStep:
    """One step: its name, how long [min], and how warm [°C] within `give_c`, where that matters."""

    name: str
    minutes: float
    at_c: float | None = None
    give_c: float = GIVE_C


@dataclass(frozen=True, slots=True)
class AtStep:
    """Where a procedure stands: the step (its index), since when, until when; `over`: all of it is done, since `until`."""

    index: int
    since: datetime
    until: datetime
    over: bool


@dataclass(frozen=True, slots=True)
class TempRead:
    """A temperature that was read [°C]."""

    at: datetime
    temp_c: float


@dataclass(frozen=True, slots=True)
class Strayed:
    """A reading outside what its step bears: by how much [°C], above or (negative) below."""

    step: str
    at: datetime
    temp_c: float
    off_c: float


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


def stands(steps: Sequence[TimedStep], *, started: datetime, now: datetime) -> AtStep:
    """Where it stands at `now`, each step beginning as the one before it ends. Before its start it stands at the first.

    >>> from datetime import UTC
    >>> start = datetime(2027, 3, 1, 9, 0, tzinfo=UTC)
    >>> stands([TimedStep("hot water", 25, 50), TimedStep("cool", 5)], started=start, now=start + timedelta(minutes=26)).index
    1
    """
    since = started
    for index, step in enumerate(steps):
        until = since + timedelta(minutes=step.minutes)
        if now < until or index == len(steps) - 1:
            return AtStep(index, since, until, now >= until)
        since = until
    raise refuse("steps", "missing", "A treatment has at least one step.")


def strayed(steps: Sequence[TimedStep], *, started: datetime, readings: Sequence[TempRead]) -> tuple[Strayed, ...]:
    """Readings outside what their step bears, in their order; those before the start and after the end are nobody's."""
    ends = started + timedelta(minutes=sum(step.minutes for step in steps))
    found = []
    for one in readings:
        if not started <= one.at < ends:
            continue
        step = steps[stands(steps, started=started, now=one.at).index]
        if step.at_c is None:
            continue
        off = one.temp_c - step.at_c
        if abs(off) > step.give_c + 1e-9:
            found.append(Strayed(step.name, one.at, one.temp_c, off))
    return tuple(found)
