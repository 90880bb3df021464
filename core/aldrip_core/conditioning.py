"""Washing a medium until it may be sown into: readings after each wash, what they lack, and how many more it will take."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from aldrip_core.refusal import Warn, refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Origin, Step, Working, computed

MOST_EC = 20.0  # mS/cm; sea water has about 50, and no medium is washed from there
FALLS = 0.98  # of the reading before, above which a wash is taken to have done nothing; our own


@dataclass(frozen=True, slots=True)
class MediumLimits:
    """Between which pH and under which EC [mS/cm] a medium may be sown into.

    Washed coir: pH 6.0 to 6.5, EC below 0.5 (common practice, no source).
    """

    ph_low: float = 6.0
    ph_high: float = 6.5
    ec_below: float = 0.5


@dataclass(frozen=True, slots=True)
class Wash:
    """What was read of the water that ran off after a wash: pH, and EC [mS/cm]."""

    ph: float
    ec: float


@dataclass(frozen=True, slots=True)
class Conditioning:
    """Whether the newest reading is inside the limits; what it lacks, in words; washes more [whole], where they help."""

    fit: bool
    lacks: tuple[str, ...]
    more_washes: int | None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def read_wash(ph: float, ec: float) -> Wash:
    """A reading. Raises Refused for what cannot be, at `ph` or `ec`."""
    if not 0 <= ph <= 14:
        raise refuse("ph", "out_of_range", f"A pH of {ph:g} cannot be; 0 to 14.")
    if not 0 <= ec <= MOST_EC:
        told = f"{ec:g} mS/cm cannot be; up to {MOST_EC:g}. Is it in µS/cm? 1,000 µS/cm are 1 mS/cm."
        raise refuse("ec", "out_of_range", told)
    return Wash(ph, ec)


def conditioning(washes: Sequence[Wash], limits: MediumLimits) -> Conditioning:
    """Where a medium stands after these washes, in their order.

    Each wash takes the same share of the salt away: EC falls as a geometric series (a dilution), whose factor is fitted
    to the readings by least squares on their logarithms. pH is not foretold. Raises Refused for limits that nothing meets.

    >>> conditioning([Wash(6.2, 2.0), Wash(6.2, 1.0)], MediumLimits()).more_washes
    2
    """
    if not 0 <= limits.ph_low < limits.ph_high <= 14 or limits.ec_below <= 0:
        raise refuse("limits", "out_of_range", "The limits leave nothing: a lower and a higher pH, and an EC above 0.")
    if not washes:
        return Conditioning(False, ("nothing was read yet",), None)
    now, lacks = washes[-1], []
    if now.ph < limits.ph_low:
        lacks.append(f"pH {now.ph:g} is below {limits.ph_low:g}")
    if now.ph > limits.ph_high:
        lacks.append(f"pH {now.ph:g} is above {limits.ph_high:g}")
    salty = now.ec >= limits.ec_below
    if salty:
        lacks.append(f"EC {now.ec:g} mS/cm is not below {limits.ec_below:g}")
    if not salty:
        return Conditioning(not lacks, tuple(lacks), 0 if not lacks else None)
    factor = _factor([one.ec for one in washes])
    if factor is None:
        return Conditioning(False, tuple(lacks), None)
    if factor > FALLS:
        told = "The last washes took no salt away. Look at the water itself, or change it: soft water is needed."
        return Conditioning(False, tuple(lacks), None, (), (Warn("no_fall", told),))
    # So many times the factor until it is below the limit, not only at it.
    more = max(1, ceil_whole(math.log(limits.ec_below / now.ec) / math.log(factor)))
    if now.ec * factor**more >= limits.ec_below * (1 - 1e-12):
        more += 1
    working = (
        Step(
            "Left by a wash",
            "fitted to the readings, on their logarithms",
            tuple(Given("EC", one.ec, "mS/cm", Origin.RECORDS) for one in washes),
            factor,
            "share",
        ),
        Step(
            "Washes more",
            "until EC × share is below the limit",
            (Given("limit", limits.ec_below, "mS/cm"), computed("now", now.ec, "mS/cm")),
            more,
        ),
    )
    return Conditioning(False, tuple(lacks), more, working)


def _factor(readings: Sequence[float]) -> float | None:
    """What a wash leaves of the salt, from readings above nothing; None before there are two."""
    known = [(n, math.log(ec)) for n, ec in enumerate(readings) if ec > 0]
    if len(known) < 2:
        return None
    slope = float(np.polyfit([n for n, _ in known], [log for _, log in known], 1)[0])
    return math.exp(slope)
