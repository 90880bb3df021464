"""Thermal time: how long a stage lasts at the temperatures it gets."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import ClassVar

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed


class AboveCeiling(StrEnum):
    """What heat above the ceiling does: nothing grows (dormancy), or no more than at the ceiling."""

    STOP = "stop"
    CAP = "cap"


@dataclass(frozen=True, slots=True)
class ThermalTime:
    """Days to the heat sum; None when it is not reached."""

    days: float | None
    stopped_days: int | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ("days",)


def daily_heat(
    *,
    mean_c: float,
    base_c: float,
    ceiling_c: float | None = None,
    above_ceiling: AboveCeiling = AboveCeiling.STOP,
    max_c: float | None = None,
) -> float:
    """Heat of one day [°C·d]: mean above base; above the ceiling it stops or is capped.

    With `max_c` the day's peak decides whether it is above the ceiling (dormancy follows peaks).

    >>> daily_heat(mean_c=20, base_c=4, ceiling_c=24, max_c=25)
    0.0
    """
    if ceiling_c is not None:
        peak = mean_c if max_c is None else max_c
        if above_ceiling is AboveCeiling.STOP and peak > ceiling_c:
            return 0.0
        mean_c = min(mean_c, ceiling_c)
    return max(0.0, mean_c - base_c)


def degree_day(*, min_c: float, max_c: float, base_c: float, upper_c: float) -> float:
    """Heat of a day for development [°C·d], from its extremes.

    The maximum is cut to [base, upper], the minimum at upper only; the mean of the two, not below
    base, counts above base. Methods differ, so this one is named: “mean of cut extremes”. Source:
    McMaster & Wilhelm 1997 compare the variants (from memory).

    >>> degree_day(min_c=12, max_c=34, base_c=4, upper_c=30)
    17.0
    """
    highest = min(max(max_c, base_c), upper_c)
    lowest = min(min_c, upper_c)
    return max((highest + lowest) / 2, base_c) - base_c


def thermal_time(
    *,
    heat_sum_c_d: float,
    base_c: float,
    ceiling_c: float | None = None,
    above_ceiling: AboveCeiling = AboveCeiling.STOP,
    temperature_c: float | None = None,
    daily_mean_c: Sequence[float] | None = None,
    daily_max_c: Sequence[float] | None = None,
) -> ThermalTime:
    """Days until the heat sum [°C·d] over `base_c` is reached.

    At a constant `temperature_c` the result is a fraction: `S ÷ (T - T_base)`. For a series of
    daily means (n_days,) it is the number of days until the sum is reached, the first day being 1,
    with the days above the ceiling counted. Raises Refused for contradictory input.
    Source: Bierhuizen & Wagenvoort 1974 (from memory).

    >>> round(thermal_time(heat_sum_c_d=170, base_c=1.3, temperature_c=18).days, 2)
    10.18
    """
    if (temperature_c is None) == (daily_mean_c is None):
        raise refuse("temperature_c", "one_of", "Give either temperature_c or daily_mean_c.")
    if daily_max_c is not None and (daily_mean_c is None or len(daily_max_c) != len(daily_mean_c)):
        raise refuse("daily_max_c", "length", "daily_max_c needs daily_mean_c of the same length.")
    if ceiling_c is not None and ceiling_c <= base_c:
        raise refuse(
            "ceiling_c", "out_of_range", f"The ceiling {ceiling_c:g} °C must lie above the base {base_c:g} °C."
        )
    given = (Given("heat sum", heat_sum_c_d, "°C·d"), Given("base", base_c, "°C"), Given("ceiling", ceiling_c, "°C"))
    if temperature_c is not None:
        heat = daily_heat(mean_c=temperature_c, base_c=base_c, ceiling_c=ceiling_c, above_ceiling=above_ceiling)
        if heat <= 0:
            why = (
                f"above the ceiling of {ceiling_c:g} °C"
                if temperature_c > base_c
                else f"not above the base of {base_c:g} °C"
            )
            return ThermalTime(
                None, warnings=(Warn("never_reached", f"{temperature_c:g} °C is {why}: no heat counts."),)
            )
        step = Step(
            "Days",
            "heat sum ÷ (temperature - base)",
            (*given, Given("temperature", temperature_c, "°C")),
            heat_sum_c_d / heat,
            "d",
        )
        return ThermalTime(heat_sum_c_d / heat, working=(step,))
    return _over_series(heat_sum_c_d, base_c, ceiling_c, above_ceiling, daily_mean_c or (), daily_max_c, given)


def _over_series(
    heat_sum: float,
    base: float,
    ceiling: float | None,
    above: AboveCeiling,
    means: Sequence[float],
    peaks: Sequence[float] | None,
    given: tuple[Given, ...],
) -> ThermalTime:
    total, stopped, reached = 0.0, 0, None
    for day, mean in enumerate(means, start=1):
        peak = mean if peaks is None else peaks[day - 1]
        total += daily_heat(mean_c=mean, base_c=base, ceiling_c=ceiling, above_ceiling=above, max_c=peak)
        if ceiling is not None and peak > ceiling:
            stopped += 1
        if total >= heat_sum - 1e-9:
            reached = day
            break
    working = (
        Step("Heat gathered", "sum of daily mean above base", given, total, "°C·d"),
        Step(
            "Days", "first day on which the sum is reached", (computed("heat gathered", total, "°C·d"),), reached, "d"
        ),
    )
    warnings: tuple[Warn, ...] = ()
    if reached is None:
        text = f"After {len(means)} days {total:.4g} of {heat_sum:g} °C·d are gathered; give a longer series."
        warnings = (Warn("never_reached", text),)
    return ThermalTime(reached, stopped, working, warnings)
