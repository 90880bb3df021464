"""Field inspection numbers: at how many faults a sample is rejected."""

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed

CHUNK = 1 << 16
SOURCE = "OECD Seed Schemes, guidelines on control plots and field inspection, from memory"


class Decision(StrEnum):
    """How a scheme judges: by a reject number, or by the plain percentage found."""

    REJECT_NUMBER = "reject_number"
    PLAIN_MAX = "plain_max"


@dataclass(frozen=True, slots=True)
class RejectNumber:
    """The number found at which the sample is rejected; the verdict where a count was given."""

    reject_at: int
    verdict: str | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


def _log_poisson(k: int, mean: float) -> float:
    return k * math.log(mean) - mean - math.lgamma(k + 1)


def poisson_at_least(k: int, mean: float) -> float:
    """P(X ≥ k) of a Poisson count [0-1], terms summed outward from k.

    Source: Johnson, Kemp & Kotz, Univariate Discrete Distributions, ch. 4 (from memory).

    >>> round(poisson_at_least(1, 1.0), 6)
    0.632121
    """
    if k <= 0:
        return 1.0
    if mean <= 0:
        return 0.0
    if k > mean:
        return min(1.0, _sum_out(k, mean, up=True))
    return max(0.0, 1.0 - _sum_out(k - 1, mean, up=False))


def _sum_out(first: int, mean: float, *, up: bool) -> float:
    log_term, total, at = _log_poisson(first, mean), 0.0, first
    total += math.exp(log_term)
    chunk = min(CHUNK, 128 + int(8 * math.sqrt(mean)))  # a few standard deviations hold all that counts
    while at > 0 or up:
        if up:
            counts: NDArray[np.float64] = np.arange(at + 1, at + chunk + 1, dtype=np.float64)
            steps = math.log(mean) - np.log(counts)
        else:
            counts = np.arange(at, max(0, at - chunk), -1, dtype=np.float64)
            steps = np.log(counts) - math.log(mean)
        logs = log_term + np.cumsum(steps)
        total += float(np.exp(logs).sum())
        log_term, at = float(logs[-1]), at + len(counts) * (1 if up else -1)
        if log_term < -700 or math.exp(log_term) < 1e-18 * max(total, 1e-300):
            break
    return total


def reject_at(*, plants: int, limit: float, alpha: float = 0.05, decision: Decision = Decision.REJECT_NUMBER) -> int:
    """Smallest number found at which a sample of `plants` fails a maximum of `limit` [0-1].

    >>> reject_at(plants=4000, limit=0.003), reject_at(plants=4000, limit=0.003, decision=Decision.PLAIN_MAX)
    (19, 13)
    """
    mean = plants * limit
    if decision is Decision.PLAIN_MAX:
        return math.floor(mean + 1e-9) + 1
    low, high = 0, max(1, math.ceil(mean))
    while poisson_at_least(high, mean) > alpha:
        low, high = high, high + max(1, math.ceil(math.sqrt(mean)))
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if poisson_at_least(middle, mean) <= alpha else (middle, high)
    return high


def reject_number(
    *,
    plants: int,
    limit: float,
    alpha: float = 0.05,
    decision: Decision = Decision.REJECT_NUMBER,
    found: int | None = None,
) -> RejectNumber:
    """The reject number of a sample, and the verdict on what was found.

    By reject number: the smallest k with `P(X ≥ k | plants × limit) ≤ alpha`, X Poisson. By plain
    maximum: the smallest k whose share of the plants passes the limit. Raises Refused when more is
    found than was looked at. Source: OECD guidelines (from memory).

    >>> reject_number(plants=4000, limit=0.001, found=8).verdict
    'accept'
    """
    if found is not None and found > plants:
        raise refuse("found", "out_of_range", f"{found:,} found among {plants:,} plants cannot be.")
    number = reject_at(plants=plants, limit=limit, alpha=alpha, decision=decision)
    mean = plants * limit
    given = (Given("plants", plants), Given("limit", limit, "share"))
    if decision is Decision.REJECT_NUMBER:
        formula = "smallest k whose Poisson tail at plants × limit is no more than alpha"
        step = Step("Reject number", formula, (*given, Given("alpha", alpha)), number, "", SOURCE)
    else:
        step = Step("Reject number", "smallest k with k ÷ plants above the limit", given, number)
    verdict, steps = None, [step]
    if found is not None:
        verdict = "reject" if found >= number else "accept"
        steps.append(
            Step(
                "Verdict",
                "reject from the reject number on",
                (Given("found", found), computed("reject number", number)),
                verdict,
            )
        )
    warnings: tuple[Warn, ...] = ()
    if mean < 4:
        more = math.ceil(4 / limit) if limit > 0 else None
        advice = f"Count about {more:,} plants." if more else "A limit of none needs every plant looked at."
        warnings = (
            Warn(
                "small_sample",
                f"At the limit only {mean:.3g} would be found in {plants:,} plants, too few to tell good from bad. {advice}",
            ),
        )
    return RejectNumber(number, verdict, tuple(steps), warnings)
