"""Mother plants: how many plantlets to start when, so that every week has the cuttings that are wanted.

One mechanism: a mother gives shoots by her age; of each plantlet the first cuts may be rooted as mothers themselves
(sub-mothers), and theirs again, over as many generations as are asked; what is cut for delivery is stuck, rooted and hardened, some of it lost on the way.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import ceil
from typing import Any

import numpy as np
from numpy.typing import NDArray

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed

LONGEST = 520  # weeks
SOLVE_S = 1.5  # all three searches together: somebody waits for the answer
NEARLY = 1e-6
MOST_OF_ONE = 1e8  # cuttings of a plantlet and what came of it, in a week
MOST_GENERATIONS = 8
Matrix = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class MotherStart:
    """Plantlets that are planted as mothers in a week."""

    week: int
    plantlets: int


@dataclass(frozen=True, slots=True)
class MotherWeek:
    """A week of the stock: mothers that stand, what is cut, and where it goes; what is ready of what was stuck before."""

    week: int
    mothers: float
    cut: float
    to_submothers: float
    stuck: float
    ready: float
    surplus: float
    discarded: float


@dataclass(frozen=True, slots=True)
class MotherPlants:
    """Fewest plantlets that cover the demand, the weeks that follow from them, and what stays unmet in all."""

    starts: tuple[MotherStart, ...]
    weekly: tuple[MotherWeek, ...]
    unmet: float
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


@dataclass(frozen=True, slots=True)
class _Of:
    """What one plantlet gives by week, its sub-mothers among it: planted in week 0 (weeks,), or in each (weeks, weeks)."""

    mothers: NDArray[np.float64]
    cut: NDArray[np.float64]
    to_submothers: NDArray[np.float64]


def of_one(
    *,
    shoots_by_age_weeks: Sequence[float],
    first_cut_week: int,
    mother_life_weeks: int,
    submother_cuts: int,
    rooting_weeks: int,
    rooting_rate: float,
    weeks: int,
    generations: int = 1,
) -> _Of:
    """What follows from one plantlet, week by week (weeks,), over so many generations of sub-mothers. Raises Refused."""
    ages = np.arange(weeks)
    shoots = np.zeros(weeks)
    known = np.asarray(shoots_by_age_weeks, dtype=np.float64)[:weeks]
    shoots[: len(known)] = known
    shoots[(ages < first_cut_week) | (ages >= mother_life_weeks)] = 0.0
    stands = (ages < mother_life_weeks).astype(np.float64)
    to_sub = np.where((ages >= first_cut_week) & (ages < first_cut_week + submother_cuts), shoots, 0.0)
    born, mothers, cut, to_mothers = np.eye(1, weeks)[0], np.zeros(weeks), np.zeros(weeks), np.zeros(weeks)
    for generation in range(generations + 1):
        mothers += np.convolve(born, stands)[:weeks]
        cut += np.convolve(born, shoots)[:weeks]
        if generation == generations or not born.any():
            break
        taken = np.convolve(born, to_sub)[:weeks]
        to_mothers += taken
        born = np.zeros(weeks)
        born[rooting_weeks:] = taken[: max(0, weeks - rooting_weeks)] * rooting_rate
    if cut.max(initial=0.0) > MOST_OF_ONE:
        told = f"One plantlet would give more than {MOST_OF_ONE:,.0f} cuttings in a week so. Take fewer generations, or fewer first cuts."
        raise refuse("submother_generations", "too_large", told)
    return _Of(mothers, cut, to_mothers)


def of_each(
    *,
    shoots_by_age_weeks: Sequence[float],
    first_cut_week: int,
    mother_life_weeks: int,
    submother_cuts: int,
    rooting_weeks: int,
    rooting_rate: float,
    weeks: int,
    generations: int = 1,
    pace: Sequence[float] = (),
) -> _Of:
    """What follows from a plantlet of each week of planting, week by week: matrices (weeks planted, weeks). Raises Refused.

    pace: how fast mothers grow in each week [0-1], 1 where none is named. They go through the shoots of their life as they
    grow, and so do their sub-mothers; their life ends by the calendar, and rooting takes its weeks.
    """
    plain = of_one(
        shoots_by_age_weeks=shoots_by_age_weeks,
        first_cut_week=first_cut_week,
        mother_life_weeks=mother_life_weeks,
        submother_cuts=submother_cuts,
        rooting_weeks=rooting_weeks,
        rooting_rate=rooting_rate,
        weeks=weeks,
        generations=generations,
    )
    if not len(pace):
        return _Of(*(_shifted(one) for one in (plain.mothers, plain.cut, plain.to_submothers)))
    known = np.ones(weeks)
    known[: min(weeks, len(pace))] = np.asarray(pace, dtype=np.float64)[:weeks]
    grown = np.concatenate(([0.0], np.cumsum(known)))
    ages = np.arange(mother_life_weeks)
    shoots = np.zeros(mother_life_weeks)
    shoots[: len(shoots_by_age_weeks)] = np.asarray(shoots_by_age_weeks, dtype=np.float64)[:mother_life_weeks]
    shoots[ages < first_cut_week] = 0.0
    stands = _shifted((np.arange(weeks) < mother_life_weeks).astype(np.float64))
    gives = _grown_through(shoots, grown) * stands
    taken_of = _grown_through(np.where(ages < first_cut_week + submother_cuts, shoots, 0.0), grown) * stands
    born, mothers, cut, to_mothers = np.eye(weeks), *(np.zeros((weeks, weeks)) for _ in range(3))
    for generation in range(generations + 1):
        mothers += born @ stands
        cut += born @ gives
        if generation == generations or not born.any():
            break
        taken = born @ taken_of
        to_mothers += taken
        born = np.zeros((weeks, weeks))
        born[:, rooting_weeks:] = taken[:, : max(0, weeks - rooting_weeks)] * rooting_rate
    return _Of(mothers, cut, to_mothers)


def _shifted(row: Matrix) -> Matrix:
    """A row that begins in each week (weeks, weeks): nothing before it."""
    weeks = len(row)
    at = np.arange(weeks)[None, :] - np.arange(weeks)[:, None]
    return np.where(at >= 0, row[np.maximum(at, 0)], 0.0)


def _grown_through(shoots: Matrix, grown: Matrix) -> Matrix:
    """Shoots in each week of a mother planted in each (weeks, weeks), who grows from `grown[week]` to `grown[week + 1]`."""
    all_until = np.concatenate(([0.0], np.cumsum(shoots)))
    ages = np.arange(len(all_until))
    grew = grown[None, :] - grown[:-1, None]
    return np.diff(np.interp(np.maximum(grew, 0.0), ages, all_until), axis=1)


def mother_plants(
    *,
    weekly_demand: Sequence[float],
    shoots_by_age_weeks: Sequence[float],
    first_cut_week: int,
    mother_life_weeks: int,
    submother_cuts: int,
    rooting_rate: float,
    hardening_rate: float,
    rooting_weeks: int,
    hardening_weeks: int,
    hold_weeks: int = 0,
    reserve: float = 0.0,
    horizon_weeks: int,
    submother_generations: int = 1,
    pace: Sequence[float] = (),
) -> MotherPlants:
    """Fewest plantlets, started in weeks 0 to `horizon_weeks` - 1, that cover demand × (1 + reserve).

    A hardened cutting may wait `hold_weeks`. Where not all can be met, first as little as possible stays unmet, then as
    few plantlets as possible are started, and these as late as can be; `bound` is what no plan can do with less, and a warning says so where it was
    not reached in time. `pace`: see `of_each`. Raises Refused. Source: integer programming, the solver ships with OR-Tools.
    """
    if not 1 <= submother_generations <= MOST_GENERATIONS:
        told = f"{submother_generations} generations of sub-mothers cannot be; 1 to {MOST_GENERATIONS}."
        raise refuse("submother_generations", "out_of_range", told)
    _check(shoots_by_age_weeks, first_cut_week, mother_life_weeks, rooting_rate, hardening_rate, horizon_weeks)
    weeks = max(horizon_weeks, len(weekly_demand))
    if weeks > LONGEST:
        raise refuse("horizon_weeks", "too_large", f"{weeks} weeks are more than the {LONGEST} planned at once.")
    each = of_each(
        shoots_by_age_weeks=shoots_by_age_weeks,
        first_cut_week=first_cut_week,
        mother_life_weeks=mother_life_weeks,
        submother_cuts=submother_cuts,
        rooting_weeks=rooting_weeks,
        rooting_rate=rooting_rate,
        weeks=weeks,
        generations=submother_generations,
        pace=pace,
    )
    wanted = np.zeros(weeks)
    wanted[: len(weekly_demand)] = np.asarray(weekly_demand, dtype=np.float64) * (1 + reserve)
    later, kept = rooting_weeks + hardening_weeks, rooting_rate * hardening_rate
    gives = each.cut - each.to_submothers
    found = _solved(gives, wanted, later, kept, hold_weeks, horizon_weeks)
    starts, used = found.starts, found.used
    weekly = _weekly(each, starts, used_of(used, later, kept), used, later, kept)
    unmet = float(max(0.0, wanted.sum() - used.sum()))
    unmet = 0.0 if unmet < NEARLY * max(1.0, wanted.sum()) else unmet
    working = (
        Step(
            "Wanted",
            "demand × (1 + reserve)",
            (Given("demand", float(sum(weekly_demand))), Given("reserve", reserve, "share")),
            float(wanted.sum()),
            "cuttings",
        ),
        Step(
            "One plantlet",
            "shoots of its life and of its sub-mothers, less those that became mothers",
            (Given("sub-mothers from its first cuts", submother_cuts),),
            float(gives[0].sum()),
            "cuttings",
        ),
        Step(
            "Plantlets",
            "fewest that cover what is wanted",
            (computed("share that hardens", kept, "share"), Given("weeks from cut to ready", later)),
            int(starts.sum()),
        ),
    )
    warnings: tuple[Warn, ...] = ()
    if unmet:
        soonest = first_cut_week + later
        told = f"{unmet:,.0f} cannot be met: the first cutting is ready {soonest} weeks after the first plantlet is planted."
        warnings = (Warn("unmet", told),)
    if found.bound < starts.sum():
        told = f"Not proven the fewest in {SOLVE_S:g} s: {int(starts.sum())} plantlets, and no plan does with less than {found.bound}."
        warnings += (Warn("not_proven", told),)
    made = tuple(MotherStart(week, int(many)) for week, many in enumerate(starts.tolist()) if many)
    return MotherPlants(made, weekly, unmet, working, warnings)


def _check(shoots: Sequence[float], first: int, life: int, rooting: float, hardening: float, horizon: int) -> None:
    if horizon < 1:
        raise refuse("horizon_weeks", "out_of_range", "At least one week is planned.")
    if life < 1:
        raise refuse("mother_life_weeks", "out_of_range", "A mother stands for a week at least.")
    if any(one < 0 for one in shoots):
        raise refuse("shoots_by_age_weeks", "out_of_range", "A mother gives no fewer than no shoots.")
    if not any(shoots[first:life]):
        told = f"No shoots from week {first} to {life - 1} of her life: a mother would never be cut."
        raise refuse("shoots_by_age_weeks", "never_cut", told)
    for name, value in (("rooting_rate", rooting), ("hardening_rate", hardening)):
        if not 0 < value <= 1:
            raise refuse(name, "out_of_range", "A share above 0 and up to 1.")


@dataclass(frozen=True, slots=True)
class _Found:
    """Plantlets by week, what is used by the week in which it is ready (weeks,), and fewer than what no plan does with."""

    starts: NDArray[np.int64]
    used: NDArray[np.float64]
    bound: int


def _solved(gives: Matrix, wanted: NDArray[np.float64], later: int, kept: float, hold: int, horizon: int) -> _Found:
    from ortools.linear_solver import pywraplp  # heavy: only who plans mothers pays for it

    weeks = len(wanted)
    solver = pywraplp.Solver.CreateSolver("SCIP")
    solver.SetTimeLimit(int(SOLVE_S * 1000 / 3))
    far = solver.infinity()
    starts = [solver.IntVar(0, far, "") for _ in range(horizon)]
    stuck = [solver.NumVar(0, far, "") for _ in range(weeks)]
    unmet = [solver.NumVar(0, float(many), "") for many in wanted]
    taken: dict[tuple[int, int], Any] = {}
    _cut_at_most(solver, gives, starts, stuck)
    ready = {}
    for week in range(later, weeks):
        ready[week] = solver.Constraint(-far, 0)
        ready[week].SetCoefficient(stuck[week - later], -kept)
    for week in range(weeks):
        met = solver.Constraint(float(wanted[week]), float(wanted[week]))
        met.SetCoefficient(unmet[week], 1)
        for made in range(max(later, week - hold), week + 1):
            taken[made, week] = one = solver.NumVar(0, far, "")
            ready[made].SetCoefficient(one, 1)
            met.SetCoefficient(one, 1)
    objective = solver.Objective()
    for one in unmet:
        objective.SetCoefficient(one, 1)
    objective.SetMinimization()
    _searched(solver)
    least = objective.Value()
    bound = solver.Constraint(-far, least + NEARLY * max(1.0, float(wanted.sum())))
    for one in unmet:
        bound.SetCoefficient(one, 1)
        objective.SetCoefficient(one, 0)
    for one in starts:
        objective.SetCoefficient(one, 1)
    _searched(solver)
    fewest = ceil(objective.BestBound() - 1e-6)
    found = _read(starts, taken, weeks, fewest)
    if not _latest(solver, starts, int(found.starts.sum())):
        return found
    late = _read(starts, taken, weeks, fewest)
    # Later, and not in more plantings: nobody plants one plantlet apart from two hundred.
    as_few = late.starts.sum() <= found.starts.sum()
    return late if as_few and np.count_nonzero(late.starts) <= np.count_nonzero(found.starts) else found


def _latest(solver: Any, starts: Sequence[Any], many: int) -> bool:
    """Of plans with as few look for the one that plants latest: mothers that wait for a season are cut for nobody."""
    few = solver.Constraint(-solver.infinity(), float(many))
    for week, one in enumerate(starts):
        few.SetCoefficient(one, 1)
        solver.Objective().SetCoefficient(one, float(len(starts) - week))
    return solver.Solve() in (solver.OPTIMAL, solver.FEASIBLE)


def _read(starts: Sequence[Any], taken: Mapping[tuple[int, int], Any], weeks: int, fewest: int) -> _Found:
    """What the solver found last."""
    used = np.zeros(weeks)
    for (made, _), one in taken.items():
        used[made] += one.solution_value()
    return _Found(np.array([round(one.solution_value()) for one in starts], dtype=np.int64), used, fewest)


def _searched(solver: Any) -> None:
    """Let it search. Raises Refused where it found nothing in time."""
    if solver.Solve() not in (solver.OPTIMAL, solver.FEASIBLE):
        told = f"No plan was found in {SOLVE_S:g} s. Plan fewer weeks at once."
        raise refuse("horizon_weeks", "too_large", told)


def _cut_at_most(solver: Any, gives: Matrix, starts: Sequence[Any], stuck: Sequence[Any]) -> None:
    """No more is stuck in a week than the mothers that stand then give."""
    for week, own in enumerate(stuck):
        cut = solver.Constraint(-solver.infinity(), 0)
        cut.SetCoefficient(own, 1)
        for start in range(min(week, len(starts) - 1) + 1):
            if gives[start, week]:
                cut.SetCoefficient(starts[start], -float(gives[start, week]))


def used_of(used: NDArray[np.float64], later: int, kept: float) -> NDArray[np.float64]:
    """What must be stuck by week so that so much is ready `later` weeks on (weeks,)."""
    stuck = np.zeros(len(used))
    if later < len(used):
        stuck[: len(used) - later] = used[later:] / kept
    return stuck


def _weekly(
    each: _Of,
    starts: NDArray[np.int64],
    stuck: NDArray[np.float64],
    used: NDArray[np.float64],
    later: int,
    kept: float,
) -> tuple[MotherWeek, ...]:
    weeks = len(stuck)
    mothers, cut, sub = (starts @ part[: len(starts)] for part in (each.mothers, each.cut, each.to_submothers))
    ready = np.zeros(weeks)
    ready[later:] = stuck[: weeks - later] * kept if later < weeks else 0.0
    found = []
    for week in range(weeks):
        rest = max(0.0, float(cut[week] - sub[week] - stuck[week]))
        found.append(
            MotherWeek(
                week,
                float(mothers[week]),
                float(cut[week]),
                float(sub[week]),
                float(stuck[week]),
                float(ready[week]),
                float(max(0.0, ready[week] - used[week])),
                rest,
            )
        )
    return tuple(found)
