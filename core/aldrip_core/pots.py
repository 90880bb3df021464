"""Pots on beds and benches: how many stand there whole, at each distance to which they are spaced as they grow."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, Working, computed

NEARLY = 1e-9
ROW = math.sqrt(3) / 2  # of the distance, from row to row where pots of one row stand in the gaps of the next
MOST_SPACINGS = 8
SMALLEST_M = 0.01


@dataclass(frozen=True, slots=True)
class PotStand:
    """Pots at one distance from middle to middle [m]: on a bed and on all, a m² of bed (net) and of house (gross).

    `beds_for`: beds that so many pots as were asked for take, whole; None where nobody asked.
    """

    apart_m: float
    rows: int
    a_bed: int
    pots: int
    net_per_m2: float
    gross_per_m2: float
    beds_for: int | None
    working: Working = ()


def pot_middles(
    *, long_m: float, wide_m: float, pot_m: float, apart_m: float, staggered: bool
) -> tuple[tuple[float, float], ...]:
    """Where the middles of pots stand on a bed, along and across it [m]: all of every pot on the bed, the first in a corner.

    Staggered, every other row stands in the gaps of the one before. Raises Refused. Source: arithmetic.

    >>> len(pot_middles(long_m=1.0, wide_m=0.5, pot_m=0.1, apart_m=0.2, staggered=False))
    15
    """
    _check(long_m, wide_m, pot_m, apart_m)
    step = apart_m * ROW if staggered else apart_m
    found = []
    for row in range(_fit(wide_m - pot_m, step)):
        shift = apart_m / 2 if staggered and row % 2 else 0.0
        along = _fit(long_m - pot_m - shift, apart_m)
        found += [(pot_m / 2 + shift + n * apart_m, pot_m / 2 + row * step) for n in range(along)]
    return tuple(found)


def _fit(room_m: float, step_m: float) -> int:
    """Middles that lie in a room, the first at its beginning."""
    return max(0, math.floor(room_m / step_m + NEARLY) + 1)


def _check(long_m: float, wide_m: float, pot_m: float, apart_m: float) -> None:
    if pot_m < SMALLEST_M:
        raise refuse("pot", "out_of_range", f"How wide is a pot? {SMALLEST_M * 100:g} cm at least.")
    if apart_m < pot_m - NEARLY:
        told = f"Pots of {pot_m * 100:g} cm do not stand {apart_m * 100:g} cm from middle to middle; that far apart at least."
        raise refuse("apart", "too_close", told)
    if min(long_m, wide_m) < pot_m - NEARLY:
        told = f"A pot of {pot_m * 100:g} cm does not stand on a bed of {long_m:.2f} by {wide_m:.2f} m."
        raise refuse("pot", "does_not_fit", told)


def pot_stands(
    *,
    beds: int,
    bed_length_m: float,
    bed_width_m: float,
    gross_m2: float,
    pot_m: float,
    apart_m: Sequence[float],
    staggered: bool = False,
    wanted: int | None = None,
) -> tuple[PotStand, ...]:
    """Pots on all beds at each distance to which they are spaced, in that order. Raises Refused. Source: arithmetic.

    >>> one, two = pot_stands(
    ...     beds=6, bed_length_m=14, bed_width_m=0.76, gross_m2=100, pot_m=0.1, apart_m=(0.1, 0.18), wanted=1000)
    >>> (one.a_bed, one.beds_for), (two.a_bed, two.beds_for)
    ((980, 2), (312, 4))
    """
    if not apart_m:
        raise refuse("apart", "missing", "How far from middle to middle? “10, 18” where they are spaced once.")
    if len(apart_m) > MOST_SPACINGS:
        raise refuse("apart", "too_many", f"{len(apart_m)} distances are more than {MOST_SPACINGS}.")
    return tuple(_stand(beds, bed_length_m, bed_width_m, gross_m2, pot_m, one, staggered, wanted) for one in apart_m)


def _stand(
    beds: int,
    long_m: float,
    wide_m: float,
    gross: float,
    pot_m: float,
    apart: float,
    staggered: bool,
    wanted: int | None,
) -> PotStand:
    _check(long_m, wide_m, pot_m, apart)
    # Rows are alike, or alike two by two: a bed is reckoned, not gone through pot by pot.
    rows = _fit(wide_m - pot_m, apart * ROW if staggered else apart)
    full = _fit(long_m - pot_m, apart)
    gaps = _fit(long_m - pot_m - apart / 2, apart) if staggered else full
    a_bed = ceil_whole(rows / 2) * full + rows // 2 * gaps
    net = beds * long_m * wide_m
    words = f"{apart * 100:g} cm apart"
    given = (Given("bed", wide_m, "m wide"), Given("pot", pot_m, "m"), Given("apart", apart, "m"))
    row_formula = "(bed − pot) ÷ (apart × √3 ÷ 2) + 1, whole" if staggered else "(bed − pot) ÷ apart + 1, whole"
    working = [
        Step(f"Rows, {words}", row_formula, given, rows),
        Step(
            f"Pots on a bed, {words}",
            "rows × ((length − pot) ÷ apart + 1, whole)" + (", every other row half a step on" if staggered else ""),
            (computed("rows", rows), computed("length", long_m, "m")),
            a_bed,
        ),
        Step(f"Pots, {words}", "beds × pots on a bed", (computed("beds", beds),), beds * a_bed),
    ]
    beds_for = None
    if wanted is not None:
        beds_for = ceil_whole(wanted / a_bed)
        working.append(Step(f"Beds, {words}", "pots wanted ÷ pots on a bed, up", (Given("wanted", wanted),), beds_for))
    return PotStand(
        apart, rows, a_bed, beds * a_bed, beds * a_bed / net, beds * a_bed / gross, beds_for, tuple(working)
    )
