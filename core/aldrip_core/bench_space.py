"""Bench space by day: what stands where, and by how much it overflows."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
from numpy.typing import NDArray

from aldrip_core.refusal import refuse
from aldrip_core.working import Given, Step, Working, computed

LONGEST_DAYS = 5000
TOLERANCE = 1e-9


@dataclass(frozen=True, slots=True)
class Standing:
    """An amount (m², trays, pots: the unit of the place) that stands over `[start, end)`."""

    amount: float
    start: date
    end: date


@dataclass(frozen=True, slots=True)
class Over:
    """A run of days `[start, end)` above capacity, and the most by which it is over."""

    start: date
    end: date
    amount: float


@dataclass(frozen=True, slots=True)
class Load:
    """Amounts by day from `first`, the peak, and the runs above capacity."""

    first: date
    by_day: NDArray[np.float64]
    peak: float
    usable: float
    over: tuple[Over, ...]


def load_from(
    *, starts: NDArray[np.int64], ends: NDArray[np.int64], amounts: NDArray[np.float64], days: int
) -> NDArray[np.float64]:
    """Sum of amounts that stand over the day indexes `[start, end)`; shapes (n,), result (days,)."""
    steps = np.zeros(days + 1)
    np.add.at(steps, np.clip(starts, 0, days), amounts)
    np.subtract.at(steps, np.clip(ends, 0, days), amounts)
    total = np.cumsum(steps)[:-1]
    total[np.abs(total) < TOLERANCE] = 0.0
    return np.asarray(total)


def load_by_day(*, standing: Sequence[Standing], first: date, days: int) -> NDArray[np.float64]:
    """Sum of what stands on each of `days` days from `first`; shape (days,). Ends are exclusive."""
    origin = first.toordinal()
    return load_from(
        starts=np.array([one.start.toordinal() - origin for one in standing], dtype=np.int64),
        ends=np.array([one.end.toordinal() - origin for one in standing], dtype=np.int64),
        amounts=np.array([one.amount for one in standing], dtype=np.float64),
        days=days,
    )


def overflow(*, by_day: NDArray[np.float64], first: date, usable: float) -> tuple[Over, ...]:
    """Runs of days on which more stands than is `usable`."""
    over = by_day > usable + TOLERANCE
    edges = np.flatnonzero(np.diff(np.concatenate(([0], over.astype(np.int8), [0]))))
    return tuple(
        Over(
            first + timedelta(days=int(start)),
            first + timedelta(days=int(end)),
            float(by_day[start:end].max() - usable),
        )
        for start, end in zip(edges[::2], edges[1::2], strict=True)
    )


def load(*, standing: Sequence[Standing], capacity: float, gangway: float = 0.0) -> Load:
    """Load of a place whose `gangway` share [0-1) cannot be used.

    Raises Refused when a standing ends before it starts or the span is too long.
    Source: arithmetic; interval sums.
    """
    for index, one in enumerate(standing):
        if one.end <= one.start:
            raise refuse(
                f"batches.{index}.to",
                "out_of_range",
                f"It ends on {one.end} but starts on {one.start}; the end is the first day after.",
            )
    usable = capacity * (1 - gangway)
    if not standing:
        return Load(date(2000, 1, 1), np.zeros(0), 0.0, usable, ())
    first, last = min(one.start for one in standing), max(one.end for one in standing)
    if (last - first).days > LONGEST_DAYS:
        raise refuse(
            "batches", "too_large", f"The batches span {(last - first).days} days; at most {LONGEST_DAYS} are answered."
        )
    by_day = load_by_day(standing=standing, first=first, days=(last - first).days)
    return Load(first, by_day, float(by_day.max()), usable, overflow(by_day=by_day, first=first, usable=usable))


def load_working(result: Load, *, capacity: float, gangway: float) -> Working:
    """How peak and overflow came about."""
    given = (Given("capacity", capacity, "m²"), Given("gangway", gangway, "share"))
    worst = max((over.amount for over in result.over), default=0.0)
    return (
        Step("Usable", "capacity × (1 - gangway)", given, result.usable, "m²"),
        Step("Peak", "largest sum of trays × tray area on one day", (), result.peak, "m²"),
        Step(
            "Over",
            "peak - usable, where positive",
            (computed("peak", result.peak, "m²"), computed("usable", result.usable, "m²")),
            worst,
            "m²",
        ),
    )
