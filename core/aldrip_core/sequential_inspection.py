"""Counting plants one by one until it is clear: accept, reject, or go on (Wald's sequential test)."""

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import ClassVar

from aldrip_core.refusal import Warn, refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, Working, computed


class Sequential(StrEnum):
    """What follows from what was counted so far."""

    ACCEPT = "accept"
    REJECT = "reject"
    CONTINUE = "continue"


@dataclass(frozen=True, slots=True)
class SequentialInspection:
    """The decision, and while it goes on: plants that would have to be clean for it to end in acceptance."""

    decision: Sequential
    more_plants: int | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


def sequential_inspection(
    *, limit: float, reject_level: float, alpha: float, beta: float, counted: int, found: int
) -> SequentialInspection:
    """Whether a field at `limit` [0-1] is accepted and one at `reject_level` rejected, from `found` of `counted` plants.

    `alpha`: risk to reject one at the limit; `beta`: risk to accept one at the reject level. Raises Refused.
    Source: Wald, Sequential Analysis, 1947.

    >>> sequential_inspection(limit=0.001, reject_level=0.01, alpha=0.05, beta=0.05, counted=400, found=0).decision.value
    'accept'
    """
    if not 0 < limit < reject_level < 1:
        raise refuse(
            "reject_level", "out_of_range", "The level to reject at lies above the limit, both between 0 and 1."
        )
    for name, risk in (("alpha", alpha), ("beta", beta)):
        if not 0 < risk < 0.5:
            raise refuse(name, "out_of_range", "A risk lies above 0 and below a half.")
    if not 0 <= found <= counted:
        raise refuse("found", "out_of_range", f"{found} of {counted} plants cannot be.")
    worse = math.log(reject_level / limit)
    better = math.log((1 - limit) / (1 - reject_level))
    ratio = found * worse - (counted - found) * better
    upper, lower = math.log((1 - beta) / alpha), math.log(beta / (1 - alpha))
    given = (Given("counted", counted), Given("found", found), Given("limit", limit, "share"))
    working = (
        Step(
            "Likelihood ratio",
            "found × ln(p1 ÷ p0) - clean × ln((1 - p0) ÷ (1 - p1))",
            given,
            ratio,
            source="Wald 1947",
        ),
        Step("Rejected from", "ln((1 - beta) ÷ alpha)", (Given("alpha", alpha), Given("beta", beta)), upper),
        Step("Accepted up to", "ln(beta ÷ (1 - alpha))", (computed("ratio", ratio),), lower),
    )
    if ratio >= upper:
        return SequentialInspection(Sequential.REJECT, None, working)
    if ratio <= lower:
        return SequentialInspection(Sequential.ACCEPT, None, working)
    return SequentialInspection(Sequential.CONTINUE, ceil_whole((ratio - lower) / better), working)
