"""A plan of mothers week by week: what stands of each generation, and where every cutting goes, for any plantings."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from aldrip_core.mother_plants import LONGEST, MOST_GENERATIONS, NEARLY, Matrix, MotherPlants, mother_plants, of_each
from aldrip_core.mother_stock import Habit, grows
from aldrip_core.refusal import refuse

MOST_PLANTLETS = 1_000_000  # in a week


@dataclass(frozen=True, slots=True)
class Raising:
    """From a plantlet to a rooted cutting that may be sold: how its mother gives, and what becomes of what is cut.

    submother_cuts: of how many first cuts of a plantlet the shoots become mothers themselves;
    submother_generations: over how many generations, 1 where only those of plantlets do.
    hold_weeks: how long a ready cutting may wait. reserve: share grown above what is wanted.
    """

    habit: Habit
    submother_cuts: int = 0
    rooting_weeks: int = 0
    rooting_rate: float = 1.0
    hardening_weeks: int = 0
    hardening_rate: float = 1.0
    hold_weeks: int = 0
    reserve: float = 0.0
    submother_generations: int = 1

    def __post_init__(self) -> None:
        for name in ("submother_cuts", "rooting_weeks", "hardening_weeks", "hold_weeks"):
            if not 0 <= getattr(self, name) <= LONGEST:
                raise refuse(name, "out_of_range", f"Whole weeks or cuts, 0 to {LONGEST}.")
        if not 1 <= self.submother_generations <= MOST_GENERATIONS:
            told = f"Sub-mothers are made over 1 to {MOST_GENERATIONS} generations."
            raise refuse("submother_generations", "out_of_range", told)
        for name in ("rooting_rate", "hardening_rate"):
            if not 0 < getattr(self, name) <= 1:
                raise refuse(name, "out_of_range", "A share above 0 and up to 1.")
        if not 0 <= self.reserve <= 2:
            raise refuse("reserve", "out_of_range", "A reserve of 0 to 200 %.")

    @property
    def later(self) -> int:
        """Weeks from cut to ready."""
        return self.rooting_weeks + self.hardening_weeks

    @property
    def kept(self) -> float:
        """The share of what is stuck that comes to be ready."""
        return self.rooting_rate * self.hardening_rate

    def ready_of(self, to_stick: Sequence[float]) -> tuple[float, ...]:
        """Cuttings wanted to be stuck by week, as ready ones by week: the same number of cuts.

        >>> Raising(Habit((1.0,), 0, 1), rooting_weeks=2, rooting_rate=0.5).ready_of((10, 20))
        (0.0, 0.0, 5.0, 10.0)
        """
        return (*(0.0 for _ in range(self.later)), *(many * self.kept for many in to_stick))


#: Where nobody said otherwise: rooted in three weeks, hardened in two (common practice, no source; the shares invented).
USUAL = Raising(
    Habit(grows(first_cut_week=4, first=1, a_week=0.15, most=6, life_weeks=35), 4, 35),
    rooting_weeks=3,
    rooting_rate=0.9,
    hardening_weeks=2,
    hardening_rate=0.95,
    hold_weeks=1,
    reserve=0.1,
)


@dataclass(frozen=True, slots=True)
class PlanWeek:
    """A week of a plan. Mothers that stand: raised from plantlets, and rooted from their first cuts. Cuttings: those that
    become mothers, those that are stuck, those thrown away. `wanted` (with the reserve), `ready` and `short`: rooted ones.
    """

    week: int
    raised: float
    rooted: float
    to_mothers: float
    stuck: float
    wasted: float
    wanted: float
    ready: float
    short: float


def gives(raising: Raising, weeks: int, pace: Sequence[float] = ()) -> NDArray[np.float64]:
    """Cuttings to be stuck that follow from one plantlet, by week from its planting, its sub-mothers' among them (weeks,).

    pace: how fast mothers grow in each week from there [0-1].
    """
    cut, sub, _ = _of(raising, weeks, pace)
    return np.asarray(cut[0] - sub[0])


def _of(raising: Raising, weeks: int, pace: Sequence[float]) -> tuple[Matrix, Matrix, Matrix]:
    """Of one plantlet of each week, by week: cut, of it to become mothers, mothers of all generations."""
    one = of_each(
        shoots_by_age_weeks=raising.habit.shoots_by_age_weeks,
        first_cut_week=raising.habit.first_cut_week,
        mother_life_weeks=raising.habit.life_weeks,
        submother_cuts=raising.submother_cuts,
        rooting_weeks=raising.rooting_weeks,
        rooting_rate=raising.rooting_rate,
        weeks=weeks,
        generations=raising.submother_generations,
        pace=pace,
    )
    return one.cut, one.to_submothers, one.mothers


def replay(
    raising: Raising, demand: Sequence[float], starts: Mapping[int, float], pace: Sequence[float] = ()
) -> tuple[PlanWeek, ...]:
    """What plantings give, week by week; `starts`: plantlets by week, `demand`: ready cuttings by week, without reserve.

    pace: how fast mothers grow in each week [0-1], where they slow.

    Of what can be cut as much is stuck as is wanted, the oldest ready ones serve the first weeks: with one length of
    waiting for all, no other use serves more (matching of intervals). Source: arithmetic.

    >>> weeks = replay(Raising(Habit((0, 2), 1, 2)), (0, 6, 0), {0: 4})
    >>> [(one.stuck, one.wasted, one.short) for one in weeks]
    [(0.0, 0.0, 0.0), (6.0, 2.0, 0.0), (0.0, 0.0, 0.0)]
    """
    weeks = len(demand)
    _check(weeks, starts)
    planted = np.zeros(weeks)
    for week, many in starts.items():
        planted[week] += many
    cut, sub, mothers = (planted @ part for part in _of(raising, weeks, pace))
    raised = np.convolve(planted, (np.arange(weeks) < raising.habit.life_weeks).astype(float))[:weeks]
    ready_most = np.zeros(weeks)
    if raising.later < weeks:
        ready_most[raising.later :] = (cut - sub)[: weeks - raising.later] * raising.kept
    wanted = np.asarray(demand, dtype=np.float64) * (1 + raising.reserve)
    used, short = _served(ready_most, wanted, raising.hold_weeks)
    stuck = np.zeros(weeks)
    if raising.later < weeks:
        stuck[: weeks - raising.later] = used[raising.later :] / raising.kept
    return tuple(
        PlanWeek(
            week,
            float(raised[week]),
            float(max(0.0, mothers[week] - raised[week])),
            float(sub[week]),
            float(stuck[week]),
            float(max(0.0, cut[week] - sub[week] - stuck[week])),
            float(wanted[week]),
            float(used[week]),
            float(short[week]),
        )
        for week in range(weeks)
    )


def beside(
    raising: Raising, demand: Sequence[float], cuttings: Sequence[float]
) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """What is still wanted by week once cuttings that are there anyhow have served it, and how many ready ones they make.

    cuttings: to be stuck by week, of mothers that stand. Both without reserve. Source: arithmetic.

    >>> beside(Raising(Habit((1.0,), 0, 1), rooting_weeks=1, rooting_rate=0.5), (0, 10, 10), (30, 8, 4))
    ((0.0, 0.0, 6.0), (0.0, 10.0, 4.0))
    """
    weeks = len(demand)
    ready = np.zeros(weeks)
    known = np.asarray(cuttings, dtype=np.float64)[: max(0, weeks - raising.later)]
    ready[raising.later : raising.later + len(known)] = known * raising.kept
    used, short = _served(ready, np.asarray(demand, dtype=np.float64) * (1 + raising.reserve), raising.hold_weeks)
    return tuple((short / (1 + raising.reserve)).tolist()), tuple((used / (1 + raising.reserve)).tolist())


def _check(weeks: int, starts: Mapping[int, float]) -> None:
    if not 1 <= weeks <= LONGEST:
        raise refuse("weeks", "out_of_range", f"A plan goes over 1 to {LONGEST} weeks.")
    for week, many in starts.items():
        if not 0 <= week < weeks:
            raise refuse(
                "starts", "out_of_range", f"A planting in week {week + 1} of a plan of {weeks} weeks cannot be."
            )
        if not 0 <= many <= MOST_PLANTLETS:
            raise refuse("starts", "out_of_range", f"Plantlets in a week: 0 to {MOST_PLANTLETS:,}.")


def _served(
    most: NDArray[np.float64], wanted: NDArray[np.float64], hold: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Used of what is ready by week, and what stays short by week."""
    left, used, short = most.copy(), np.zeros(len(most)), np.zeros(len(most))
    for week, many in enumerate(wanted):
        need = float(many)
        for made in range(max(0, week - hold), week + 1):
            part = min(need, float(left[made]))
            left[made] -= part
            used[made] += part
            need -= part
        short[week] = need if need > NEARLY * max(1.0, float(many)) else 0.0
    return used, short


def planned(raising: Raising, demand: Sequence[float], pace: Sequence[float] = ()) -> MotherPlants:
    """Fewest plantlets for a demand of ready cuttings by week, where mothers grow at a pace [0-1] by week; see `mother_plants`. Raises Refused."""
    if not any(demand):
        raise refuse("demand", "missing", "Nothing is wanted yet: say how many rooted cuttings a week, and from when.")
    habit = raising.habit
    return mother_plants(
        weekly_demand=demand,
        shoots_by_age_weeks=habit.shoots_by_age_weeks,
        first_cut_week=habit.first_cut_week,
        mother_life_weeks=habit.life_weeks,
        submother_cuts=raising.submother_cuts,
        rooting_rate=raising.rooting_rate,
        hardening_rate=raising.hardening_rate,
        rooting_weeks=raising.rooting_weeks,
        hardening_weeks=raising.hardening_weeks,
        hold_weeks=raising.hold_weeks,
        reserve=raising.reserve,
        horizon_weeks=len(demand),
        submother_generations=raising.submother_generations,
        pace=pace,
    )
