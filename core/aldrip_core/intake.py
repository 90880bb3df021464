"""What becomes of a load at the door: by its moisture, its purity at a glance, and what lives in it."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

LEAST_PURE = 90.0  # per cent of a sample at a glance; common practice, no source


class Taken(StrEnum):
    """How a load is taken in."""

    ACCEPT = "accept"
    DRY_NOW = "dry now"
    APART = "apart"  # stored and cleaned by itself, away from other seed
    REFUSE = "refuse"


@dataclass(frozen=True, slots=True)
class IntakeVerdict:
    """How a load may be taken in, and every reason against taking it in as it is."""

    taken: Taken
    reasons: tuple[str, ...] = ()


def judge_intake(
    *,
    moisture: float,
    moisture_max: float | None,
    purity: float | None = None,
    purity_min: float | None = LEAST_PURE,
    seen: Sequence[str] = (),
) -> IntakeVerdict:
    """The gentlest way in that a load allows: dirty or infested it is kept apart, wet it is dried at once.

    moisture, purity: per cent, wet basis, by mass. seen: pests, diseases or weeds in the sample, in words. Common
    practice, no source.

    >>> judge_intake(moisture=13.5, moisture_max=14, purity=72, seen=["weevils"]).taken
    <Taken.APART: 'apart'>
    """
    reasons = []
    if purity is not None and purity_min is not None and purity < purity_min:
        reasons.append(
            f"{purity:g} % pure in the sample, {purity_min - purity:g} % under the {purity_min:g} % asked at the door"
        )
    reasons += [f"{one.strip()} seen in the sample" for one in seen if one.strip()]
    wet = moisture_max is not None and moisture > moisture_max
    taken = Taken.APART if reasons else Taken.DRY_NOW if wet else Taken.ACCEPT
    return IntakeVerdict(taken, tuple(reasons))
