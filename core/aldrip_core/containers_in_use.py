"""Trays and pots in use: which kind, how many, from which day to which, as plants go from one into another."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from aldrip_core.whole import ceil_whole


@dataclass(frozen=True, slots=True)
class StageStands:
    """A stage of a batch: after which it comes, its days `[start, end)`, and, where it sets plants into another container, its cells.

    `changes`: plants go out of what they stood in; `cells` with it: into containers of so many, `into` plants in all.
    """

    key: str
    after: str
    start: date
    end: date
    changes: bool = False
    container: str = ""
    cells: int = 0
    into: float = 0.0


@dataclass(frozen=True, slots=True)
class InUse:
    """So many containers of a kind, on the days `[start, end)`."""

    container: str
    start: date
    end: date
    many: int


def days_still(start: date, end: date, *, begun: bool, today: date) -> tuple[date, date]:
    """The days `[start, end)` of a stage that is not over, as they can still be, however late it is.

    One that has begun stands through today; one that has not begins tomorrow at the soonest, and lasts as long.

    >>> from datetime import date as d
    >>> days_still(d(2027, 3, 1), d(2027, 4, 1), begun=True, today=d(2027, 4, 9))[1].day
    10
    >>> [one.day for one in days_still(d(2027, 4, 1), d(2027, 4, 11), begun=False, today=d(2027, 4, 9))]
    [10, 20]
    """
    tomorrow = today + timedelta(days=1)
    late = timedelta(0) if begun else max(timedelta(0), tomorrow - start)
    return start + late, max(end + late, tomorrow)


def in_use(stages: Sequence[StageStands], *, container: str, many: int) -> tuple[InUse, ...]:
    """What a batch uses, its first containers and those that plants are set into later, each until the next change on its way.

    `many` of `container` are filled to begin with; stages come after what they follow. Of plants set into something of
    which no cells are known nothing is told. Source: arithmetic.

    >>> from datetime import date as d
    >>> sown = StageStands("grow", "", d(2027, 3, 1), d(2027, 4, 1))
    >>> potted = StageStands("pot", "grow", d(2027, 4, 1), d(2027, 5, 1), True, "pot 10", 1, 300)
    >>> [(one.container, one.many, one.start.month) for one in in_use([sown, potted], container="tray", many=4)]
    [('tray', 4, 3), ('pot 10', 300, 4)]
    """
    holder: dict[str, str] = {}
    spans: dict[str, tuple[date, date]] = {}
    by_key: Mapping[str, StageStands] = {one.key: one for one in stages}
    for one in stages:
        own = one.key if one.changes or one.after not in holder else holder[one.after]
        holder[one.key] = own
        start, end = spans.get(own, (one.start, one.end))
        spans[own] = (min(start, one.start), max(end, one.end))
    found = []
    for key, (start, end) in spans.items():
        stage = by_key[key]
        if not stage.changes:
            name, count = container, many
        else:
            name, count = stage.container, ceil_whole(stage.into / stage.cells) if stage.cells else 0
        if count and end > start:
            found.append(InUse(name, start, end, count))
    return tuple(found)
