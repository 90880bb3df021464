"""The nick: how the female's receptive days and the male's shedding days meet."""

import math
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum
from functools import lru_cache
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed

SEARCH_DAYS = 90
CULTURAL_BELOW_DAYS = 7.0


class RemedyClass(StrEnum):
    """What a gap asks for: nothing, moves in the field, or the strong means."""

    NONE = "none"
    CULTURAL = "cultural"
    STRONG = "strong"


@dataclass(frozen=True, slots=True)
class Parent:
    """When a parent flowers: sown on, days to the middle of its first flowers, spreads, how long each plant lasts.

    `date_sd_days` is how unsure the date itself is; it widens the curve. `sowings` in equal parts,
    `sowing_gap_days` apart.
    """

    sow: date
    days_to_flower: float
    spread_sd_days: float
    lasts_days: float
    date_sd_days: float = 0.0
    sowings: int = 1
    sowing_gap_days: float = 0.0

    @property
    def first(self) -> float:
        """Day (ordinal) on which its plants begin, on average, from the first sowing."""
        return self.sow.toordinal() + self.days_to_flower

    @property
    def sd(self) -> float:
        return math.hypot(self.spread_sd_days, self.date_sd_days)


@dataclass(frozen=True, slots=True)
class Nick:
    """Gap [d, positive: female late], share of receptive female days with pollen [0-1], best male sowing."""

    gap_days: float
    overlap: float
    best_male_sow: date
    remedy_class: RemedyClass
    gap_sd_days: float = 0.0
    best_overlap: float = 0.0
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


Floats = NDArray[np.float64]


def _normal_cdf(x: Floats) -> Floats:
    return np.array([0.5 * math.erfc(-float(v) / math.sqrt(2)) for v in x.ravel()]).reshape(x.shape)


def _begun(days: Floats, first: float, sd: float) -> Floats:
    """Share of plants that have begun by each day."""
    if sd <= 0:
        return np.asarray((days >= first - 1e-9).astype(np.float64))
    return _normal_cdf((days - first) / sd)


def in_flower(parent: Parent, days: Floats) -> Floats:
    """Share of a parent's plants receptive or shedding on each day (ordinals), shape as `days`."""
    total = np.zeros_like(days)
    for number in range(parent.sowings):
        first = parent.first + number * parent.sowing_gap_days
        total += _begun(days, first, parent.sd) - _begun(days, first + parent.lasts_days, parent.sd)
    return np.asarray(total / parent.sowings)


def _window(female: Parent) -> Floats:
    reach = math.ceil(6 * female.sd) + 1
    start = math.floor(female.first) - reach
    end = math.ceil(female.first + (female.sowings - 1) * female.sowing_gap_days + female.lasts_days) + reach
    return np.arange(start, end + 1, dtype=np.float64)


def _covered(receptive: Floats, shedding: Floats, enough: float) -> float:
    total = float(receptive.sum())
    return float((receptive * np.minimum(1.0, shedding / enough)).sum()) / total if total > 0 else 0.0


def overlap_of(female: Parent, male: Parent, enough_pollen: float = 0.2) -> float:
    """Share of receptive female days covered by pollen: `ΣF·min(1, M ÷ enough) ÷ ΣF` over whole days."""
    days = _window(female)
    return _covered(in_flower(female, days), in_flower(male, days), enough_pollen)


def nick(*, female: Parent, male: Parent, enough_pollen: float = 0.2) -> Nick:
    """Gap, overlap, the male sowing day that meets the female best, and the class of remedy.

    Each plant begins on a normally distributed day and lasts; F and M are the shares of plants in
    flower on a day. A plant's spread and the uncertainty of the date are added as variances. The best
    sowing is the one with the highest overlap within 90 days; among equals the one with the smallest
    gap. Raises Refused for parents more than 400 days apart. Source: common practice, no source.

    >>> parent = Parent(date(2027, 4, 15), 90, 2, 7)
    >>> nick(female=parent, male=parent).gap_days
    0.0
    """
    return _nick(female, male, enough_pollen)


@lru_cache(maxsize=512)  # the same two parents are asked for by every view of a block
def _nick(female: Parent, male: Parent, enough_pollen: float) -> Nick:
    gap = float(female.first - male.first)
    if abs(gap) > 400:
        raise refuse(
            "male.sow", "out_of_range", f"The parents would flower {abs(gap):.0f} days apart; check the sowing days."
        )
    days = _window(female)
    receptive = in_flower(female, days)
    overlap = _covered(receptive, in_flower(male, days), enough_pollen)
    around = np.arange(days[0] - SEARCH_DAYS, days[-1] + SEARCH_DAYS + 1)
    shedding = in_flower(male, around)
    best, best_overlap = _best_shift(receptive, shedding, enough_pollen, gap)
    best_sow = male.sow + timedelta(days=best)
    size = abs(gap)
    remedy = (
        RemedyClass.NONE if size <= 1 else RemedyClass.CULTURAL if size < CULTURAL_BELOW_DAYS else RemedyClass.STRONG
    )
    gap_sd = math.hypot(female.date_sd_days, male.date_sd_days)
    late = "female" if gap > 0 else "male"
    working = (
        Step(
            "First receptive female",
            "sowing + days to receptive",
            (Given("sown", female.sow.isoformat()), Given("days", female.days_to_flower, "d")),
            _words(female.first),
        ),
        Step(
            "First shedding male",
            "sowing + days to shedding",
            (Given("sown", male.sow.isoformat()), Given("days", male.days_to_flower, "d")),
            _words(male.first),
        ),
        Step("Gap", f"female - male; {late} late" if size > 1 else "female - male", (), gap, "d"),
        Step(
            "Covered by pollen",
            "sum of F × min(1, M ÷ enough) ÷ sum of F, over days",
            (Given("enough pollen", enough_pollen, "share of male plants"),),
            overlap,
            "share",
        ),
        Step(
            "Best male sowing",
            "day with the most receptive days covered",
            (computed("covered then", best_overlap, "share"),),
            best_sow.isoformat(),
        ),
    )
    return Nick(gap, overlap, best_sow, remedy, gap_sd, best_overlap, working)


def _best_shift(receptive: Floats, shedding: Floats, enough: float, gap: float) -> tuple[int, float]:
    """Days by which the male should be sown later, and the overlap that gives."""
    best, best_key, best_covered = 0, (-1.0, 0.0), 0.0
    for shift in range(-SEARCH_DAYS, SEARCH_DAYS + 1):
        start = SEARCH_DAYS - shift
        covered = _covered(receptive, shedding[start : start + len(receptive)], enough)
        key = (round(covered, 9), -abs(gap - shift))
        if key > best_key:
            best, best_key, best_covered = shift, key, covered
    return best, best_covered


def _words(ordinal: float) -> str:
    return date.fromordinal(round(ordinal)).isoformat()


def curve(parent: Parent, first: date, last: date) -> list[float]:
    """Share in flower for each day of `[first, last]`."""
    days = np.arange(first.toordinal(), last.toordinal() + 1, dtype=np.float64)
    return [float(x) for x in in_flower(parent, days)]
