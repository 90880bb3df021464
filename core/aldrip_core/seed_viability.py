"""How seed ages in store: germination after some days, and days until it falls to a floor."""

import math
from dataclasses import dataclass
from statistics import NormalDist
from typing import ClassVar

from aldrip_core.refusal import Warn, refuse
from aldrip_core.tables.viability import CONSTANTS, SOURCE, ViabilityConstants
from aldrip_core.working import Given, Origin, Step, Working, computed

PROBIT = NormalDist()
FULL = 0.995  # 100 % has no probit; a test of 400 seeds without a failure shows no more than this


@dataclass(frozen=True, slots=True)
class SeedViability:
    """Germination [0-1] after the days asked, days until the floor is reached."""

    germination: float | None = None
    days_to_floor: float | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


def constants_for(crop: str) -> ViabilityConstants:
    """Constants of a crop by name. Raises Refused for a crop without any."""
    found = CONSTANTS.get(crop.strip().lower())
    if found is None:
        known = ", ".join(CONSTANTS)
        raise refuse("crop", "no_constants", f"There are no storage constants for “{crop}”. Known: {known}.")
    return found


def days_per_probit(*, constants: ViabilityConstants, moisture_percent: float, temperature_c: float) -> float:
    """Days in which viability falls by one probit: `10^(K_E - C_W·log10 m - C_H·t - C_Q·t²)`."""
    k = constants
    exponent = k.ke - k.cw * math.log10(moisture_percent) - k.ch * temperature_c - k.cq * temperature_c**2
    return float(10.0**exponent)


def seed_viability(
    *,
    initial_germination: float,
    moisture_percent: float,
    temperature_c: float,
    crop: str | None = None,
    constants: ViabilityConstants | None = None,
    days: float | None = None,
    floor: float | None = None,
    seed_form: str = "natural",
) -> SeedViability:
    """Seed in store by the viability equation `v = K_i - p ÷ 10^(K_E - C_W·log m - C_H·t - C_Q·t²)`.

    initial_germination, floor [0-1]; moisture [% wet basis]; temperature [°C]; days in store.
    `K_i` is the probit of the initial germination. Raises Refused for primed or pelleted seed and
    for a crop without constants. Source: Ellis & Roberts 1980 (from memory).

    >>> round(seed_viability(crop="barley", initial_germination=0.9, moisture_percent=12, temperature_c=15, days=0).germination, 6)
    0.9
    """
    if seed_form != "natural":
        raise refuse("seed_form", "not_natural", f"{seed_form.capitalize()} seed ages by other rules; test it instead.")
    if (crop is None) == (constants is None):
        raise refuse("crop", "one_of", "Give either a crop or its four constants.")
    if days is None and floor is None:
        raise refuse("days", "missing", "Ask for days in store, for a floor of germination, or for both.")
    if initial_germination <= 0:
        raise refuse("initial_germination", "out_of_range", "Seed of which nothing germinates has no storage life.")
    warnings: list[Warn] = []
    if initial_germination >= 1:
        initial_germination = FULL
        warnings.append(Warn("taken_as_less", "100 % cannot be told from a sample; 99.5 % is taken instead."))
    known = constants or constants_for(crop or "")
    sigma = days_per_probit(constants=known, moisture_percent=moisture_percent, temperature_c=temperature_c)
    start = PROBIT.inv_cdf(initial_germination)
    source = SOURCE if constants is None else None
    origin = Origin.LIBRARY if constants is None else Origin.ENTERED
    steps = [
        Step(
            "Probit at the start",
            "normal quantile of the initial germination",
            (Given("initial germination", initial_germination, "share"),),
            start,
        ),
        Step(
            "Days for one probit",
            "10 ^ (K_E - C_W × log10 moisture - C_H × t - C_Q × t²)",
            (
                *(
                    Given(name, value, "", origin, source)
                    for name, value in zip(("K_E", "C_W", "C_H", "C_Q"), known, strict=True)
                ),
                Given("moisture", moisture_percent, "% wet basis"),
                Given("temperature", temperature_c, "°C"),
            ),
            sigma,
            "d",
            source,
        ),
    ]
    germination = days_to_floor = None
    if days is not None:
        germination = PROBIT.cdf(start - days / sigma)
        steps.append(
            Step(
                "Germination",
                "normal distribution at probit - days ÷ days for one probit",
                (Given("days", days, "d"), computed("days for one probit", sigma, "d")),
                germination,
                "share",
            )
        )
    if floor is not None:
        days_to_floor = _days_to(floor, start, sigma)
        steps.append(
            Step(
                "Days to the floor",
                "(probit at the start - probit of the floor) × days for one probit",
                (Given("floor", floor, "share"),),
                days_to_floor,
                "d",
            )
        )
    return SeedViability(germination, days_to_floor, tuple(steps), tuple(warnings))


def _days_to(floor: float, start: float, sigma: float) -> float:
    if not 0 < floor < 1:
        raise refuse("floor", "out_of_range", "A floor lies above 0 and below 1; neither is ever reached for certain.")
    return max(0.0, (start - PROBIT.inv_cdf(floor)) * sigma)
