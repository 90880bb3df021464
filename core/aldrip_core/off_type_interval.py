"""Between which rates the true share of off-types lies, exactly."""

import math
from dataclasses import dataclass

from aldrip_core.distributions import Spread, tail_at_least
from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working

SOURCE = "Clopper & Pearson 1934"
HALVINGS = 120
COARSE = 10  # halvings before the chords
FEW = 60  # so few terms are summed one by one, which is quicker than an array


@dataclass(frozen=True, slots=True)
class OffTypeInterval:
    """The rate found and the exact bounds of the true one [0-1]."""

    rate: float
    low: float
    high: float
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def bounds(*, plants: int, found: int, confidence: float = 0.95, sides: int = 2) -> tuple[float, float]:
    """Clopper-Pearson bounds (low, high) of a share [0-1], from the binomial tails."""
    tail = (1 - confidence) / sides
    low = 0.0 if found == 0 else _rate_for(found, plants, tail)
    high = 1.0 if found == plants else _rate_for(found + 1, plants, 1 - tail)
    return low, high


def _rate_for(needed: int, plants: int, wanted: float) -> float:
    """The rate at which `needed` or more are found with chance `wanted`: halved to find it, then closed in by chords."""
    low, high = 0.0, 1.0
    at_low, at_high = -wanted, 1.0 - wanted
    for step in range(HALVINGS):
        chord = step >= COARSE and at_high != at_low
        middle = low - at_low * (high - low) / (at_high - at_low) if chord else (low + high) / 2
        if not low < middle < high:
            break
        value = _at_least(needed, plants, middle) - wanted
        if value < 0:
            low, at_low = middle, value
            at_high = at_high / 2 if chord else at_high  # Illinois: an end that stays is let go
        else:
            high, at_high = middle, value
            at_low = at_low / 2 if chord else at_low
        if high - low <= 1e-15 * high or abs(value) < 1e-16:
            return middle
    return (low + high) / 2


def _at_least(needed: int, plants: int, rate: float) -> float:
    if needed > FEW or not 0 < rate < 1:
        return tail_at_least(needed=needed, trials=plants, spread=Spread(rate))
    log_odds, log_term = math.log(rate) - math.log1p(-rate), plants * math.log1p(-rate)
    below = math.exp(log_term)
    for k in range(1, needed):
        log_term += math.log((plants - k + 1) / k) + log_odds
        below += math.exp(log_term)
    return 1.0 - below


def off_type_interval(*, plants: int, found: int, confidence: float = 0.95, sides: int = 2) -> OffTypeInterval:
    """The share found and its exact confidence interval (Clopper & Pearson).

    `sides` 2: what lies outside is shared by both ends, also when none is found. `sides` 1: each bound
    alone holds with the whole confidence. Raises Refused without plants or with more found than looked
    at. Source: Clopper & Pearson 1934.

    >>> off_type_interval(plants=2996, found=0, sides=1).high < 0.001
    True
    """
    if plants <= 0:
        raise refuse("plants", "out_of_range", "Nothing was counted, so nothing can be said. Count some plants.")
    if found > plants:
        raise refuse("found", "out_of_range", f"{found:,} found among {plants:,} plants cannot be.")
    low, high = bounds(plants=plants, found=found, confidence=confidence, sides=sides)
    given = (
        Given("plants", plants),
        Given("found", found),
        Given("confidence", confidence, "share"),
        Given("sides", sides),
    )
    steps = (
        Step("Rate found", "found ÷ plants", given[:2], found / plants, "share"),
        Step("Lowest true rate", "rate at which as many or more would still be found", given, low, "share", SOURCE),
        Step("Highest true rate", "rate at which as few or fewer would still be found", given, high, "share", SOURCE),
    )
    return OffTypeInterval(found / plants, low, high, steps)
