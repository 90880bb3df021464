"""The days of a batch's stages: back from the day it must be ready, forward from its start, or on from what has happened."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date

from aldrip_core.in_season import asks, back_in_season, next_in_season, stretched, waiting
from aldrip_core.refusal import refuse
from aldrip_core.schedule import StageDates, TimedStage, backward, end_of, follow, forward
from aldrip_core.stages import MethodSpec, StageSpec
from aldrip_core.working_calendar import WorkingCalendar

Dates = Mapping[str, StageDates]


@dataclass(frozen=True, slots=True)
class Anchor:
    """What fixes the days: a day to be ready, a day to start, a stage's new start, or what has just begun."""

    ready: date | None = None
    sow: date | None = None
    move: tuple[str, date] | None = None
    follow: bool = False


@dataclass(frozen=True, slots=True)
class Begun:
    """A stage that has begun on a day; `end` is the first day after it, None while it runs.

    `stood`: the first day of which it is not known that something of it stood somewhere; while it runs, today at the latest.
    """

    start: date
    end: date | None = None
    stood: date | None = None


def stage_dates(
    *,
    method: MethodSpec,
    timed: Mapping[str, TimedStage],
    calendar: WorkingCalendar,
    today: date,
    anchor: Anchor,
    planned: Dates | None = None,
    begun: Mapping[str, Begun] | None = None,
) -> tuple[dict[str, StageDates], int]:
    """Days of every stage, and by how many the day to be ready is missed.

    What has begun keeps its start, what is over keeps both days; `planned` are the days as they stood.
    Raises Refused when a stage would start before the one ahead of it.
    """
    planned, begun = planned or {}, begun or {}
    spine = method.spine
    over = sum(1 for stage in spine if stage.key in begun)
    ahead = spine[over:]
    found = {stage.key: StageDates(b.start, b.end or b.start) for stage in spine[:over] if (b := begun[stage.key])}
    running = spine[over - 1] if over else None
    late = 0
    if running is not None and begun[running.key].end is not None:
        running = None
    if not ahead:
        if running is not None:
            alone = _alone(running, begun[running.key].start, timed, calendar, planned, anchor)
            found[running.key] = StageDates(alone.start, max(alone.end, begun[running.key].stood or alone.end))
    elif over == 0:
        dates, late = _fresh(ahead, timed, calendar, today, anchor, planned, int(method.hold_days or 0))
        found.update(dates)
    else:
        dates, end, late = _onward(spine[over - 1], ahead, timed, calendar, today, anchor, planned, begun)
        found.update(dates)
        if running is not None:
            found[running.key] = StageDates(begun[running.key].start, end)
    for stage in method.stages:
        if stage.key not in found:
            found[stage.key] = _branch(stage, found, timed, calendar, planned, begun)
    return {stage.key: found[stage.key] for stage in method.stages}, late


def _named(stages: Sequence[StageSpec], dates: Sequence[StageDates]) -> dict[str, StageDates]:
    return {stage.key: one for stage, one in zip(stages, dates, strict=True)}


def _fresh(
    stages: Sequence[StageSpec],
    timed: Mapping[str, TimedStage],
    calendar: WorkingCalendar,
    today: date,
    anchor: Anchor,
    planned: Dates,
    may_wait: int,
) -> tuple[dict[str, StageDates], int]:
    """Days of a batch of which nothing has begun: in season, and stored until wanted where it can be."""
    times = [timed[stage.key] for stage in stages]
    if anchor.sow is not None:
        return _named(stages, forward(start=anchor.sow, stages=times, calendar=calendar)), 0
    if anchor.move is not None:
        return _moved(stages, times, calendar, anchor.move, planned), 0
    if anchor.ready is None:
        return {stage.key: planned[stage.key] for stage in stages}, 0
    back = back_in_season(ready=anchor.ready, stages=times, calendar=calendar, not_before=today, may_wait=may_wait)
    if back is not None:
        return _named(stages, back), 0
    if asks(times):
        found = next_in_season(start=today, stages=times, calendar=calendar, ready=anchor.ready, may_wait=may_wait)
        if found is None:
            raise _never_in_season(times)
        dates = found
    else:
        dates = forward(start=today, stages=times, calendar=calendar)
    return _named(stages, dates), max(0, (dates[-1].end - anchor.ready).days)


def _never_in_season(times: Sequence[TimedStage]) -> Exception:
    asked = "; ".join(f"“{one.name}” {one.season.words()}" for one in times if one.season.asks)
    return refuse(
        "stages",
        "never_in_season",
        f"There is no season for it where it stands: {asked}. Choose another place or method, or type the day it begins.",
    )


def _moved(
    stages: Sequence[StageSpec],
    times: Sequence[TimedStage],
    calendar: WorkingCalendar,
    move: tuple[str, date],
    planned: Dates,
) -> dict[str, StageDates]:
    """A stage starts on another day, the later ones follow; the one before it stands until then."""
    index = next((n for n, stage in enumerate(stages) if stage.key == move[0]), None)
    if index is None:
        raise refuse("stage", "not_a_choice", "There is no such stage still to come.")
    later = forward(start=move[1], stages=times[index:], calendar=calendar)
    wanted = planned.get(next(reversed(stages)).key)
    if wanted is not None:  # what may wait is still stored until the day it is for
        later = stretched(later, ready=wanted.end, stages=times[index:], calendar=calendar)
    found = {stage.key: planned[stage.key] for stage in stages[:index]}
    if index:
        before = stages[index - 1]
        if later[0].start < planned[before.key].start:
            raise refuse("move", "too_early", f"“{stages[index].name}” cannot start before “{before.name}” does.")
        found[before.key] = StageDates(planned[before.key].start, later[0].start)
    return {**found, **_named(stages[index:], later)}


def _onward(
    last: StageSpec,
    ahead: Sequence[StageSpec],
    timed: Mapping[str, TimedStage],
    calendar: WorkingCalendar,
    today: date,
    anchor: Anchor,
    planned: Dates,
    begun: Mapping[str, Begun],
) -> tuple[dict[str, StageDates], date, int]:
    """Days of what is still to come, the end of what runs, and by how many days the day to be ready is missed."""
    times = [timed[stage.key] for stage in ahead]
    since, late = begun[last.key], 0
    soonest = since.end or calendar.on_or_after(end_of(timed[last.key], since.start))
    if anchor.follow:
        dates = (
            follow(
                begun=since.start,
                stages=[timed[last.key], *times],
                planned=[
                    StageDates(since.start, planned[ahead[0].key].start),
                    *(planned[stage.key] for stage in ahead),
                ],
                calendar=calendar,
            )[1:]
            if since.end is None
            else follow(
                begun=since.end, stages=times, planned=[planned[stage.key] for stage in ahead], calendar=calendar
            )
        )
    elif anchor.move is not None:
        if anchor.move[1] < since.start:
            raise refuse(
                "move", "too_early", f"“{last.name}” began on {since.start}; nothing later can start before that."
            )
        moved = _moved(ahead, times, calendar, anchor.move, planned)
        dates = tuple(moved[stage.key] for stage in ahead)
    elif anchor.ready is not None:
        dates = backward(ready=anchor.ready, stages=times, calendar=calendar)
        if dates[0].start >= soonest and waiting(times) is not None:
            # A crop in the field goes on when its time comes; it is stored afterwards.
            dates = forward(start=soonest, stages=times, calendar=calendar)
            dates = stretched(dates, ready=anchor.ready, stages=times, calendar=calendar)
        elif dates[0].start < soonest:
            dates = forward(start=soonest, stages=times, calendar=calendar)
            late = max(0, (dates[-1].end - anchor.ready).days)
    else:
        dates = tuple(planned[stage.key] for stage in ahead)
    if since.end is None and since.stood is not None and dates[0].start < since.stood:
        # What stood until today is not taken away: the next stage begins now at the soonest.
        dates = forward(start=calendar.on_or_after(today), stages=times, calendar=calendar)
        late = max(0, (dates[-1].end - anchor.ready).days) if anchor.ready is not None else late
    return _named(ahead, dates), dates[0].start, late


def _alone(
    stage: StageSpec,
    start: date,
    timed: Mapping[str, TimedStage],
    calendar: WorkingCalendar,
    planned: Dates,
    anchor: Anchor,
) -> StageDates:
    """The last stage runs: it ends when it is over, or on the day it is asked for."""
    soonest = calendar.on_or_after(end_of(timed[stage.key], start))
    if anchor.ready is not None:
        return StageDates(start, max(soonest, calendar.on_or_after(anchor.ready)))
    kept = planned.get(stage.key)
    return StageDates(start, max(soonest, kept.end) if kept else soonest)


def _branch(
    stage: StageSpec,
    found: Mapping[str, StageDates],
    timed: Mapping[str, TimedStage],
    calendar: WorkingCalendar,
    planned: Dates,
    begun: Mapping[str, Begun],
) -> StageDates:
    """A stage beside the main way: it starts when the one it follows is over."""
    own = begun.get(stage.key)
    start = own.start if own else found[stage.follows or ""].end
    if own is not None and own.end is not None:
        return StageDates(start, own.end)
    kept = planned.get(stage.key)
    if kept is not None and kept.start == start:
        return kept
    return StageDates(start, max(start, calendar.on_or_after(end_of(timed[stage.key], start))))
