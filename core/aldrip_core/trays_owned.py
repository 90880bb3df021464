"""Trays that a house owns: how many are clean, dirty or in use, how often each was filled and washed, and when they run short."""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum

from aldrip_core.containers_in_use import InUse

AHEAD_DAYS = 182
ONE = timedelta(days=1)


class TrayAct(StrEnum):
    """What is done with trays beside filling them."""

    COUNTED = "counted"
    BOUGHT = "bought"
    WASHED = "washed"
    THROWN = "thrown"


@dataclass(frozen=True, slots=True)
class TrayEntry:
    """So many trays counted (all that are owned, `clean` of them clean), bought, washed or thrown away on a day."""

    on: date
    act: TrayAct
    many: int
    clean: int = 0


@dataclass(frozen=True, slots=True)
class TrayStand:
    """How trays of a kind stand today, and what comes.

    fills_each, washes_each: on average since they were first counted. `short_on`: the first day on which more are in use
    than are owned, `short_by` at most on any day. `wash_on`: the day whose filling takes more clean ones than there are,
    and `wash` so many more by then.
    """

    owned: int
    clean: int
    in_use: int
    dirty: int
    fills_each: float
    washes_each: float
    short_on: date | None
    short_by: int
    wash_on: date | None
    wash: int

    @property
    def over(self) -> int:
        """How many more are clean or in use than are owned: then somebody should count again."""
        return max(0, self.clean + self.in_use - self.owned)


def tray_stand(
    entries: Sequence[TrayEntry], *, used: Iterable[InUse], planned: Iterable[InUse], today: date
) -> TrayStand:
    """Fold of what was written down and what batches filled; entries in the order in which they were written.

    used: of batches that were begun, planned: of those that are to come, whose filling is never before today. What was
    filled on the day of a count is in it. Source: arithmetic.

    >>> from datetime import date as d
    >>> counted = TrayEntry(d(2027, 3, 1), TrayAct.COUNTED, 100, 60)
    >>> stand = tray_stand([counted], used=[InUse("t", d(2027, 3, 4), d(2027, 4, 1), 20)],
    ...     planned=[InUse("t", d(2027, 3, 10), d(2027, 4, 9), 90)], today=d(2027, 3, 5))
    >>> (stand.clean, stand.in_use, stand.dirty), (stand.wash_on.day, stand.wash), (stand.short_on.day, stand.short_by)
    ((40, 20, 40), (10, 50), (10, 10))
    """
    used, planned = list(used), list(planned)
    by_day: dict[date, list[TrayEntry]] = defaultdict(list)
    for one in entries:
        by_day[one.on].append(one)
    filled: dict[date, int] = defaultdict(int)
    for span in used:
        if span.start <= today:
            filled[span.start] += span.many
    owned = clean = fills = washes = 0
    began = min(by_day, default=today)
    for day in sorted({*by_day, *(one for one in filled if one >= began)}):
        counted = False
        for entry in by_day.get(day, ()):
            counted = counted or entry.act is TrayAct.COUNTED
            if entry.act is TrayAct.COUNTED:
                owned, clean = entry.many, min(entry.clean, entry.many)
            elif entry.act is TrayAct.BOUGHT:
                owned, clean = owned + entry.many, clean + entry.many
            elif entry.act is TrayAct.WASHED:
                clean, washes = min(owned, clean + entry.many), washes + entry.many
            else:
                owned = max(0, owned - entry.many)
                clean = min(clean, owned)
        if not counted:
            clean, fills = max(0, clean - filled.get(day, 0)), fills + filled.get(day, 0)
    in_use = sum(one.many for one in used if one.start <= today < one.end)
    short_on, short_by = _short(owned, used, planned, today)
    wash_on, wash = _to_wash(clean, planned, today)
    return TrayStand(
        owned,
        clean,
        in_use,
        max(0, owned - clean - in_use),
        fills / owned if owned else 0.0,
        washes / owned if owned else 0.0,
        short_on,
        short_by,
        wash_on,
        wash,
    )


def _short(owned: int, used: Sequence[InUse], planned: Sequence[InUse], today: date) -> tuple[date | None, int]:
    change: dict[date, int] = defaultdict(int)
    for one in (*used, *planned):
        if one.end > today:
            change[max(one.start, today)] += one.many
            change[one.end] -= one.many
    first, most, now = None, 0, 0
    for day in sorted(change):
        if day >= today + timedelta(days=AHEAD_DAYS):
            break
        now += change[day]
        if now > owned:
            first, most = first or day, max(most, now - owned)
    return first, most


def _to_wash(clean: int, planned: Sequence[InUse], today: date) -> tuple[date | None, int]:
    need = 0
    for one in sorted(planned, key=lambda span: max(span.start, today)):
        need += one.many
        if need > clean:
            day = max(one.start, today)
            same = sum(span.many for span in planned if max(span.start, today) <= day)
            return (day, same - clean) if day < today + timedelta(days=AHEAD_DAYS) else (None, 0)
    return None, 0
