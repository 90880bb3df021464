"""Whether it will be ready in time: what stages may take longer or shorter, together, against the last day promised."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from statistics import NormalDist

from aldrip_core.schedule import StageDates
from aldrip_core.stages import MethodSpec, Trait
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Origin, Step, Working, computed

WITHIN = 0.90  # of times a stage lasts no longer and no shorter than its give-or-take says
NORMAL = NormalDist()
NEVER_SURE = 0.9999  # however far away the day is
PER_SD = NORMAL.inv_cdf((1 + WITHIN) / 2)


@dataclass(frozen=True, slots=True)
class InTime:
    """When it is ready: within how many days of the planned day, nine times out of ten.

    `chance` [0-1] of being ready by the last day promised, and how many days before it the plan must end for the
    chance that is wanted; None where nothing is promised.
    """

    give_days: float
    chance: float | None
    days_wanted: int | None
    working: Working = ()


def gives_ahead(
    method: MethodSpec, dates: Mapping[str, StageDates], ended: frozenset[str] = frozenset()
) -> list[tuple[str, float]]:
    """Stages that are not over, up to the one it is named for, that may last longer or shorter: name and days [d].

    What has ended is known. What runs keeps its whole give-or-take, since it is the end that is uncertain.
    """
    return [
        (stage.name, stage.duration.give_days)
        for stage in method.spine
        if stage.key not in ended and stage.duration.give_days > 0 and dates[stage.key].end > dates[stage.key].start
    ]


def done_on(method: MethodSpec, dates: Mapping[str, StageDates], ended: frozenset[str] = frozenset()) -> date:
    """When it would be ready if nothing waited: what is stored until it is wanted has those days in hand."""
    ready = dates[method.last.key].end
    for stage in method.spine:
        if stage.does(Trait.WAITS) and stage.key not in ended:
            spare = (dates[stage.key].end - dates[stage.key].start).days - round(stage.duration.days or 0)
            ready -= timedelta(days=max(0, spare))
    return ready


def in_time(
    *, ready: date, last_day: date | None, gives: Sequence[tuple[str, float]], chance_wanted: float = 0.95
) -> InTime | None:
    """The chance that what is planned for `ready` is there on `last_day`; None where no stage has a give-or-take.

    gives: name and days [d] of each stage ahead, nine times in ten within them. The stages are taken as independent
    and normal, so their squares add; a day is a whole day, so half of one is granted.
    """
    if not gives:
        return None
    give = math.sqrt(sum(days * days for _, days in gives))
    sd = give / PER_SD
    step = Step(
        "Ready, give or take",
        "root of the sum of squares; nine times in ten within it",
        tuple(Given(name, days, "d", Origin.LIBRARY) for name, days in gives),
        give,
        "d",
    )
    if last_day is None:
        return InTime(give, None, None, (step,))
    hand = (last_day - ready).days
    chance = min(NEVER_SURE, NORMAL.cdf((hand + 0.5) / sd))
    wanted = max(0, ceil_whole(NORMAL.inv_cdf(chance_wanted) * sd - 0.5))
    told = (
        Given("days between planned and promised", hand, "d", Origin.COMPUTED),
        computed("one standard deviation", sd, "d"),
    )
    return InTime(
        give,
        chance,
        wanted,
        (
            step,
            Step("Chance to be in time", "normal tail up to the end of the last day promised", told, chance, "share"),
            Step(
                "Days in hand that are enough",
                f"so many that the chance is {chance_wanted:.0%}".replace("%", " %"),
                told[1:],
                wanted,
                "d",
            ),
        ),
    )
