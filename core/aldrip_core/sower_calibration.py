"""Setting a sower: from what was caught at which setting, what to set next, what that will catch, and when it is settled."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Origin, Step, Working, computed

SETTLED_AFTER = 3  # trials inside the tolerance, one after the other; common practice, no source
PACE = 0.06  # of a catch: what an even walk leaves, until the trials say it themselves; common practice, no source
NEAR = 0.04  # of the dial, within which trays speak for each other; our own
APART = 0.1  # of the dial, from which on two settings say which way it goes; our own
BAND = 2.0  # standard deviations on either side


class MoreIs(StrEnum):
    """Which way the setting goes: a higher one sows more, or less."""

    INCREASING = "increasing"
    DECREASING = "decreasing"


@dataclass(frozen=True, slots=True)
class SowerTrial:
    """What one tray caught [g] at a setting."""

    setting: float
    grams: float


@dataclass(frozen=True, slots=True)
class SowerCalibration:
    """The next setting and what it will catch, with a band of two standard deviations [g]; None where it cannot be told."""

    next_setting: float | None
    predicted_g: float | None
    low_g: float | None
    high_g: float | None
    settled: bool
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ("next_setting", "predicted_g", "low_g", "high_g")


def isotonic(values: Sequence[float], weights: Sequence[float]) -> NDArray[np.float64]:
    """The never falling sequence nearest to `values` (n,) by weighted least squares: pool adjacent violators.

    Source: Barlow, Bartholomew, Bremner & Brunk 1972 (from memory).

    >>> isotonic([1, 3, 2, 4], [1, 1, 1, 1]).tolist()
    [1.0, 2.5, 2.5, 4.0]
    """
    blocks: list[tuple[float, float, int]] = []  # mean, weight, how many
    for value, weight in zip(values, weights, strict=True):
        mean, total, many = float(value), float(weight), 1
        while blocks and blocks[-1][0] > mean:
            before, more, count = blocks.pop()
            mean = (before * more + mean * total) / (more + total)
            total, many = total + more, many + count
        blocks.append((mean, total, many))
    return np.concatenate([np.full(many, mean) for mean, _, many in blocks]) if blocks else np.zeros(0)


def sower_calibration(
    *,
    trials: Sequence[SowerTrial],
    target_g: float,
    tolerance_g: float,
    setting_min: float,
    setting_max: float,
    more_is: MoreIs = MoreIs.INCREASING,
) -> SowerCalibration:
    """What to set next so that a tray catches `target_g` within `tolerance_g`, from the trials so far in their order.

    Before two settings were tried the catch is taken as growing evenly from nothing at the closed end; then a monotone
    fit is read between its points, and beyond them along its last slope, inside the machine's range. Raises Refused for a
    setting outside the range, and where more on the dial clearly caught less.
    """
    _check(trials, target_g, tolerance_g, setting_min, setting_max)
    up = more_is is MoreIs.INCREASING
    # Reckoned as opening: 0 at the closed end, the more the more it sows.
    span = setting_max - setting_min
    opened = np.array([(t.setting - setting_min) if up else (setting_max - t.setting) for t in trials])
    caught = np.array([t.grams for t in trials])
    settled = len(trials) >= SETTLED_AFTER and bool(np.all(np.abs(caught[-SETTLED_AFTER:] - target_g) <= tolerance_g))
    if not len(trials):
        middle = (setting_min + setting_max) / 2
        step = Step("Next setting", "the middle of its range: nothing was caught yet", (), middle)
        return SowerCalibration(middle, None, None, None, False, (step,))
    at, fitted = _fit(opened, caught, span)
    if float(np.ptp(opened)) >= APART * span:  # of trays caught side by side one was rather weighed wrongly
        _check_way(opened, caught, tolerance_g, up)
    spread = _spread(opened, caught, at, fitted, target_g)
    wanted = _read(at, fitted, target_g)
    warnings: tuple[Warn, ...] = ()
    opening = min(max(wanted, 0.0), span)
    if settled:
        opening = float(opened[-1])
    predicted = _at(at, fitted, opening)
    fit_steps = tuple(
        Step(
            "Fitted catch",
            "never falling",
            (Given("setting", _setting(one, setting_min, setting_max, up), "", Origin.RECORDS),),
            g,
            "g",
        )
        for one, g in zip(at.tolist(), fitted.tolist(), strict=True)
    )
    if not settled and abs(predicted - target_g) > tolerance_g and opening in (0.0, span) and opening in at:
        end = setting_max if (opening == span) == up else setting_min
        told = f"At {end:g}, the end of its range, a tray catches about {predicted:.3g} g; {target_g:g} g are out of reach."
        return SowerCalibration(None, None, None, None, False, fit_steps, (Warn("out_of_reach", told),))
    setting = setting_min + opening if up else setting_max - opening
    low, high = max(0.0, predicted - BAND * spread), predicted + BAND * spread
    own = _own_spread(opened, caught, at, fitted)
    if own is not None and BAND * own > tolerance_g:
        told = f"Trays at one setting differ by ± {BAND * own:.3g} g, more than the ± {tolerance_g:.3g} g wanted: walk evenly, and look at the seed."
        warnings = (Warn("uneven", told),)
    working = (
        *fit_steps,
        Step("Next setting", "where the fit meets the target", (Given("target", target_g, "g"),), setting),
        Step("Spread of one tray", "standard deviation about the fit", (computed("trials", len(trials)),), spread, "g"),
    )
    return SowerCalibration(setting, predicted, low, high, settled, working, warnings)


def _setting(opening: float, least: float, most: float, up: bool) -> float:
    return least + opening if up else most - opening


def _check(trials: Sequence[SowerTrial], target: float, tolerance: float, least: float, most: float) -> None:
    if not least < most:
        raise refuse(
            "setting_max", "out_of_range", f"The range of settings ends at {most:g}, not above its begin at {least:g}."
        )
    for name, value in (("target_g", target), ("tolerance_g", tolerance)):
        if value <= 0:
            raise refuse(name, "out_of_range", "More than nothing is needed.")
    for n, trial in enumerate(trials):
        if not least <= trial.setting <= most:
            told = f"A setting of {trial.setting:g} is outside the machine's {least:g} to {most:g}: it would be forced."
            raise refuse(f"trials.{n}.setting", "beyond_range", told)
        if trial.grams < 0:
            raise refuse(f"trials.{n}.grams", "out_of_range", "A tray cannot catch less than nothing.")


def _check_way(opened: NDArray[np.float64], caught: NDArray[np.float64], tolerance: float, up: bool) -> None:
    """More on the dial that clearly caught less: it is turned the other way round."""
    if len(np.unique(opened)) < 2:
        return
    slope = float(np.polyfit(opened, caught, 1)[0])
    falls = -slope * float(np.ptp(opened))
    if falls > max(2 * tolerance, 0.1 * float(caught.mean())):
        told = f"A {'higher' if up else 'lower'} setting caught less, not more: by {falls:.0f} g over what was tried. Which way does the dial go?"
        raise refuse("more_is", "wrong_way", told)


def _fit(
    opened: NDArray[np.float64], caught: NDArray[np.float64], width: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Openings that were tried, each once, with the monotone fit of what they catch.

    Trays caught close by speak for each other, as catch by opening, so that one that was weighed wrongly does not hold
    the whole fit: a median whose weights fall off with the distance.
    """
    at, which = np.unique(opened, return_inverse=True)
    many = np.bincount(which).astype(np.float64)
    mean = np.bincount(which, caught) / many
    open_ = at > 0
    if np.count_nonzero(open_) > 1:
        x, each = at[open_], mean[open_] / at[open_]
        near = np.exp(-0.5 * ((x[:, None] - x[None, :]) / (NEAR * width)) ** 2) * many[open_]
        mean = mean.copy()
        mean[open_] = x * np.array([_middle(each, weights) for weights in near])
    return at, isotonic(mean.tolist(), many.tolist())


def _middle(values: NDArray[np.float64], weights: NDArray[np.float64]) -> float:
    """The weighted median; between the two nearest values where it falls between them."""
    order = np.argsort(values)
    ranked, half = values[order], np.cumsum(weights[order]) - weights[order] / 2
    return float(np.interp(float(weights.sum()) / 2, half, ranked))


def _read(at: NDArray[np.float64], fitted: NDArray[np.float64], target: float) -> float:
    """The opening at which the fit meets the target; beyond it along the nearest slope, or from the closed end."""
    points = (
        [(0.0, 0.0), *zip(at.tolist(), fitted.tolist(), strict=True)]
        if at[0] > 0
        else list(zip(at.tolist(), fitted.tolist(), strict=True))
    )
    for (x0, y0), (x1, y1) in pairwise(points):
        if y0 <= target <= y1 and y1 > y0:
            return float(x0 + (x1 - x0) * (target - y0) / (y1 - y0))
    if target < points[0][1]:
        return float(points[0][0])
    rising = [(a, b) for a, b in pairwise(points) if b[1] > a[1]]
    last = points[-1]
    if not rising:  # nothing came out yet: open it as far again, or by half of what was opened
        return float(last[0] * 2) if last[0] > 0 else 1.0
    (x0, y0), (x1, y1) = rising[-1]
    return float(last[0] + (target - last[1]) * (x1 - x0) / (y1 - y0))


def _at(at: NDArray[np.float64], fitted: NDArray[np.float64], opening: float) -> float:
    """What the fit catches at an opening [g]."""
    if opening <= at[0]:
        return float(fitted[0] * opening / at[0]) if at[0] > 0 else float(fitted[0])
    if opening <= at[-1]:
        return float(np.interp(opening, at, fitted))
    before = (0.0, 0.0) if len(at) == 1 else (float(at[-2]), float(fitted[-2]))
    slope = (float(fitted[-1]) - before[1]) / max(1e-9, float(at[-1]) - before[0])
    return float(fitted[-1]) + slope * (opening - float(at[-1]))


def _spread(
    opened: NDArray[np.float64],
    caught: NDArray[np.float64],
    at: NDArray[np.float64],
    fitted: NDArray[np.float64],
    target: float,
) -> float:
    """Standard deviation of one tray about the fit [g]; what an even walk leaves until three trials say it."""
    free, usual = len(caught) - len(at), PACE * target
    if free < 1:
        return usual
    left = caught - np.interp(opened, at, fitted)
    # The usual one weighs as much as two trials: one lucky pair proves nothing.
    return float(np.sqrt((float(left @ left) + 2 * usual**2) / (free + 2)))


def _own_spread(
    opened: NDArray[np.float64], caught: NDArray[np.float64], at: NDArray[np.float64], fitted: NDArray[np.float64]
) -> float | None:
    """What the trials themselves say of one tray's standard deviation [g]; None before two of them repeat a setting."""
    free = len(caught) - len(at)
    if free < SETTLED_AFTER - 1:
        return None
    left = caught - np.interp(opened, at, fitted)
    return float(np.sqrt(float(left @ left) / free))


def fitted_catch(
    *, trials: Sequence[SowerTrial], settings: Sequence[float], setting_min: float, setting_max: float, more_is: MoreIs
) -> tuple[float, ...]:
    """What the fit catches at these settings [g], in their order: the curve as it is drawn. At least one trial."""
    up = more_is is MoreIs.INCREASING

    def opening(setting: float) -> float:
        return setting - setting_min if up else setting_max - setting

    at, fitted = _fit(
        np.array([opening(t.setting) for t in trials]), np.array([t.grams for t in trials]), setting_max - setting_min
    )
    return tuple(max(0.0, _at(at, fitted, opening(one))) for one in settings)
