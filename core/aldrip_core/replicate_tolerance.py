"""Whether the replicates of a germination test agree well enough to be one result."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from aldrip_core.refusal import Warn, refuse
from aldrip_core.tables.replicate_tolerance import SOURCE, TOLERATED
from aldrip_core.working import Given, Origin, Step, Working, computed


@dataclass(frozen=True, slots=True)
class ReplicateTolerance:
    """Mean [whole %], range and tolerated range among replicates of 100 [%], and whether they agree."""

    mean_percent: int
    range_percent: float
    tolerated_percent: int | None
    within: bool
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ("tolerated_percent",)


def half_up(value: float) -> int:
    """The nearest whole number, halves upward.

    >>> half_up(82.5), half_up(82.49)
    (83, 82)
    """
    return math.floor(value + 0.5)


def replicate_tolerance(*, normal: Sequence[int], seeds_per_replicate: int = 100) -> ReplicateTolerance:
    """Compare four replicates of 100 seeds, or eight of 50 merged in pairs, with the shipped table.

    normal: normal seedlings by replicate (4,) or (8,). A mean of 0, 1 or 100 % is not tabulated and
    counts as within. Raises Refused for other replicates or impossible counts.
    Source: see `tables.replicate_tolerance`.

    >>> replicate_tolerance(normal=[78, 82, 85, 95]).within
    False
    """
    expected = {100: 4, 50: 8}.get(seeds_per_replicate)
    if expected is None:
        raise refuse("seeds_per_replicate", "not_a_choice", "Replicates of 100 or of 50 seeds are compared here.")
    if len(normal) != expected:
        raise refuse(
            "normal",
            "length",
            f"{expected} replicates of {seeds_per_replicate} are compared; {len(normal)} were given.",
        )
    for index, count in enumerate(normal):
        if not 0 <= count <= seeds_per_replicate:
            raise refuse(
                f"normal.{index}",
                "out_of_range",
                f"{count} normal seedlings of {seeds_per_replicate} cannot be. Enter 0 to {seeds_per_replicate}.",
            )
    hundreds = list(normal)
    if seeds_per_replicate == 50:
        hundreds = [normal[i] + normal[i + 1] for i in range(0, 8, 2)]
    mean = half_up(sum(hundreds) / 4)
    spread = max(hundreds) - min(hundreds)
    tolerated = TOLERATED.get(mean)
    within = tolerated is None or spread <= tolerated
    replicates = tuple(Given(f"replicate {n}", count, "%") for n, count in enumerate(hundreds, start=1))
    steps = (
        Step("Mean", "mean of the replicates, whole, half upward", replicates, mean, "%"),
        Step("Range", "highest - lowest replicate", replicates, spread, "%"),
        Step("Tolerated range", "table by mean", (computed("mean", mean, "%"),), tolerated, "%", SOURCE),
        Step(
            "Agree",
            "range not above the tolerated one",
            (computed("range", spread, "%"), Given("tolerated", tolerated, "%", Origin.LIBRARY, SOURCE)),
            "yes" if within else "no",
        ),
    )
    warnings: tuple[Warn, ...] = ()
    if tolerated is None:
        warnings = (
            Warn("untabulated", f"The table ends before a mean of {mean} %; the replicates count as agreeing."),
        )
    elif not within:
        text = f"The replicates differ by {spread:g} %, {spread - tolerated:g} % more than the {tolerated} % tolerated at a mean of {mean} %: repeat the test."
        warnings = (Warn("repeat_test", text),)
    return ReplicateTolerance(mean, spread, tolerated, within, steps, warnings)
