"""Dates that lie in their season: the last harvest before a day with storage until then, or the next one there is."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from aldrip_core.schedule import Climate, StageDates, TimedStage, backward, cold_days, forward, year_of_means
from aldrip_core.seasons import MonthDay, Season, may_begin
from aldrip_core.working_calendar import WorkingCalendar

LOOK_DAYS = 800  # back from a day for a harvest to store from, and on from today for the next


@dataclass(frozen=True, slots=True)
class OutOfSeason:
    """A stage that does not stand in its season: it begins on a wrong day, or so many of its days are too cold."""

    stage: str
    season: Season
    start: date
    cold: int  # days below its floor; 0 where it is its first day that is wrong
    of: int


def out_of_season(stage: TimedStage, dates: StageDates) -> OutOfSeason | None:
    """What is wrong with the days of a stage; None where nothing is, or nothing is asked."""
    season, of = stage.season, max(1, (dates.end - dates.start).days)
    if not season.asks:
        return None
    if not _may_start(stage, dates.start):
        return OutOfSeason(stage.name, season, dates.start, 0, of)
    cold = cold_days(stage, dates)
    return OutOfSeason(stage.name, season, dates.start, cold, of) if cold else None


def waiting(stages: Sequence[TimedStage]) -> int | None:
    """Which stage may last longer than it must: the last of them; None where none may."""
    return next((n for n in reversed(range(len(stages))) if stages[n].waits), None)


def asks(stages: Sequence[TimedStage]) -> bool:
    """Whether any stage asks something of the year."""
    return any(stage.season.asks for stage in stages)


def back_in_season(
    *, ready: date, stages: Sequence[TimedStage], calendar: WorkingCalendar, not_before: date, may_wait: int = 0
) -> tuple[StageDates, ...] | None:
    """Dates in season from which everything is done by `ready`, the latest there are; None where there are none.

    Nothing starts before `not_before`. Where a stage may wait, what is done sooner is stored in it until it is wanted,
    up to `LOOK_DAYS`, and is begun in the middle of its season, with as much time to slip as to hurry. Where none may,
    it is ready up to `may_wait` days sooner. Raises Refused where a stage never ends.
    """
    store = waiting(stages)
    wanted = backward(ready=ready, stages=stages, calendar=calendar)
    fit: list[tuple[StageDates, ...]] = []
    for sooner in range((LOOK_DAYS if store is not None else may_wait) + 1):
        day = ready - timedelta(days=sooner)
        if sooner and not calendar.works(day):
            continue
        dates = wanted if not sooner else backward(ready=day, stages=stages, calendar=calendar)
        if dates[0].start < not_before:
            break
        if not _in_season(stages, dates):
            if fit:  # before this season began
                break
            continue
        if not sooner or store is None:
            return dates
        if not fit or fit[-1][0].start != dates[0].start:
            fit.append(dates)
    return _stored(fit[len(fit) // 2], wanted, store) if fit and store is not None else None


def next_in_season(
    *,
    start: date,
    stages: Sequence[TimedStage],
    calendar: WorkingCalendar,
    ready: date | None = None,
    may_wait: int = 0,
) -> tuple[StageDates, ...] | None:
    """The first dates from `start` on that lie in season; None where there are none in two years.

    What may wait is stored until `ready`; where nothing may, it is done no more than `may_wait` days before it.
    """
    store, last, first = waiting(stages), None, next(iter(stages))
    for later in range(LOOK_DAYS):
        day = start + timedelta(days=later)
        if later and not (first.starts_on or calendar).works(day):
            continue
        if not _may_start(first, day):
            continue
        dates = forward(start=day, stages=stages, calendar=calendar)
        if dates[0].start == last or not _in_season(stages, dates):
            last = dates[0].start
            continue
        if store is None and ready is not None and (ready - dates[-1].end).days > may_wait:
            continue
        if store is None or ready is None or dates[-1].end >= ready:
            return dates
        return stretched(dates, ready=ready, stages=stages, calendar=calendar)
    return None


def stored_days(stages: Sequence[TimedStage], dates: Sequence[StageDates], calendar: WorkingCalendar) -> int:
    """Days by which the stage that may wait is longer than it must be."""
    store = waiting(stages)
    if store is None:
        return 0
    must = forward(start=dates[store].start, stages=stages[store:], calendar=calendar)[0]
    return max(0, (dates[store].end - must.end).days)


def _stored(dates: Sequence[StageDates], wanted: Sequence[StageDates], store: int) -> tuple[StageDates, ...]:
    """What is done sooner waits in a stage; what follows it has its days as wanted."""
    later = tuple(wanted[store + 1 :])
    end = later[0].start if later else wanted[store].end
    return (*dates[:store], StageDates(dates[store].start, end), *later)


def _stretched(
    dates: Sequence[StageDates], wanted: Sequence[StageDates], store: int, end: date
) -> tuple[StageDates, ...]:
    until = wanted[0].start if wanted else end
    if until < dates[store].end:
        return tuple(dates)
    return (*dates[:store], StageDates(dates[store].start, until), *wanted)


def stretched(
    dates: Sequence[StageDates], *, ready: date, stages: Sequence[TimedStage], calendar: WorkingCalendar
) -> tuple[StageDates, ...]:
    """Dates with what is done sooner than `ready` waiting in the stage that may; the same where none may."""
    store = waiting(stages)
    if store is None:
        return tuple(dates)
    later = stages[store + 1 :]
    wanted = backward(ready=ready, stages=later, calendar=calendar) if later else ()
    return _stretched(dates, wanted, store, calendar.on_or_before(ready))


def _may_start(stage: TimedStage, day: date) -> bool:
    return stage.climate is None or (day.month, day.day) in _begins(stage.season, stage.climate)


def _in_season(stages: Sequence[TimedStage], dates: Sequence[StageDates]) -> bool:
    for stage, span in zip(stages, dates, strict=True):
        if not stage.season.asks or stage.climate is None:
            continue
        if not _may_start(stage, span.start):
            return False
        if stage.season.floor_c is None:
            continue
        sums = _cold_sums(stage.climate, stage.season.floor_c)
        first = span.start.timetuple().tm_yday - 1
        if sums[first + max(1, (span.end - span.start).days)] > sums[first]:
            return False
    return True


@lru_cache(maxsize=512)
def _begins(season: Season, climate: Climate) -> frozenset[MonthDay]:
    return may_begin(season, south=climate.south, last_frost=climate.last_frost)


@lru_cache(maxsize=512)
def _cold_sums(climate: Climate, floor_c: float) -> NDArray[np.int64]:
    """Days below a floor up to each day from 1 January on, over four years of 366 days."""
    cold = year_of_means(climate) < floor_c - 1e-9
    return np.concatenate(([0], np.cumsum(np.tile(cold, 4))))
