"""Grafting: two plants become one, so scions and rootstocks are matched in number and in thickness before anybody cuts."""

from collections.abc import Sequence
from dataclasses import dataclass

from aldrip_core.refusal import refuse

#: How much two stems may differ and still be clipped together [mm]; common practice, no source.
WITHIN_MM = 0.3
#: Plants that are raised more than grafts are made: too thin, too thick, spoilt at the cut; common practice, no source.
MORE = 0.1
THICKEST_MM = 100.0
#: Fewer measured than this tell little of a whole tray; common practice, no source.
FEW = 10
NEARLY = 1e-9


@dataclass(frozen=True, slots=True)
class Pairs:
    """How many go together, how many of each find no mate, and the mean thickness of those [mm]; None where none is left."""

    pairs: float
    scions_left: float
    rootstocks_left: float
    scion_left_mm: float | None
    rootstock_left_mm: float | None


def pairs(
    scions_mm: Sequence[float],
    rootstocks_mm: Sequence[float],
    *,
    scions: float,
    rootstocks: float,
    within_mm: float = WITHIN_MM,
) -> Pairs:
    """How many grafts so many scions and rootstocks make, where a few of each were measured at the cut.

    Each measured stem stands for an equal share of its kind. From the thinnest upwards every stem takes the thinnest mate that is
    left within `within_mm` of it; where all may differ alike, no other way makes more pairs. scions_mm, rootstocks_mm: diameters [mm];
    scions, rootstocks: plants in all. Source: matching of points on a line, arithmetic. Raises Refused.

    >>> found = pairs([1.6, 2.0], [2.0, 2.4], scions=100, rootstocks=100, within_mm=0.2)
    >>> found.pairs, found.scion_left_mm, found.rootstock_left_mm
    (50.0, 1.6, 2.4)
    """
    _check("scions_mm", scions_mm, "scions", scions)
    _check("rootstocks_mm", rootstocks_mm, "rootstocks", rootstocks)
    if not 0 <= within_mm <= THICKEST_MM:
        raise refuse("within_mm", "out_of_range", f"They differ by 0 to {THICKEST_MM:g} mm, not {within_mm:g}.")
    top = [[one, scions / len(scions_mm)] for one in sorted(scions_mm)]
    foot = [[one, rootstocks / len(rootstocks_mm)] for one in sorted(rootstocks_mm)]
    made, i, j = 0.0, 0, 0
    while i < len(top) and j < len(foot):
        apart = top[i][0] - foot[j][0]
        if abs(apart) <= within_mm + NEARLY:
            both = min(top[i][1], foot[j][1])
            made += both
            top[i][1] -= both
            foot[j][1] -= both
        # Who is used up, or too thin for every mate that is left, is passed over.
        if top[i][1] <= NEARLY or apart < -within_mm - NEARLY:
            i += 1
        elif foot[j][1] <= NEARLY or apart > within_mm + NEARLY:
            j += 1
    return Pairs(made, scions - made, rootstocks - made, _mean(top), _mean(foot))


def _check(field: str, sample: Sequence[float], of_many: str, many: float) -> None:
    if not sample:
        raise refuse(field, "missing", "Measure some of them at the height of the cut: “1.8 2.0 2.1”.")
    odd = next((one for one in sample if not 0 < one <= THICKEST_MM), None)
    if odd is not None:
        raise refuse(field, "out_of_range", f"A stem of {odd:g} mm cannot be; 0 to {THICKEST_MM:g} mm can.")
    if many < 0:
        raise refuse(of_many, "out_of_range", "Fewer than none cannot be.")


def _mean(left: Sequence[Sequence[float]]) -> float | None:
    many = sum(one[1] for one in left)
    return sum(one[0] * one[1] for one in left) / many if many > NEARLY else None
