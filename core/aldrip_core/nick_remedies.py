"""Remedies for a flowering gap: which parent they are for, until when they work, and what they leave of the gap."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from enum import StrEnum

from aldrip_core.flowering import Phenology, Seen, day_of_share, newest_of
from aldrip_core.nick import Parent, RemedyClass, curve, overlap_of
from aldrip_core.schedule import Climate


class Kind(StrEnum):
    """What a remedy is: a move in the field, a strong means, or help for pollen and bees."""

    CULTURAL = "cultural"
    STRONG = "strong"
    POLLINATION = "pollination"


class For(StrEnum):
    """The parent that a remedy is applied to."""

    LAGGING = "lagging"
    LEADING = "leading"
    BOTH = "both"


@dataclass(frozen=True, slots=True)
class Remedy:
    """A remedy: the parent it is for, the days it moves the gap (`low` to `high`) [d], and until when it works.

    `until_share`: share of the heat to flowering behind at which it stops to work [0-1]. `at_sowing`:
    it must be decided before that parent is sown.
    """

    kind: Kind
    parent: For
    low_days: float = 0.0
    high_days: float = 0.0
    until_share: float = 1.0
    at_sowing: bool = False


def role_for(remedy: Remedy, gap_days: float) -> str:
    """“F” or “M”: the parent that a remedy is applied to; a gap above 0 means that the female is late.

    >>> [role_for(Remedy(Kind.CULTURAL, parent), 5) for parent in (For.LAGGING, For.LEADING)]
    ['F', 'M']
    """
    late, early = ("F", "M") if gap_days > 0 else ("M", "F")
    return {For.LAGGING: late, For.LEADING: early, For.BOTH: "F"}[remedy.parent]


def suits(remedy: Remedy, *, asked: RemedyClass, sown: bool) -> bool:
    """Whether a remedy answers a gap of the class `asked`, its parent being `sown` or not.

    Help for pollination always suits; moves in the field from a gap that asks for any; strong means
    only where the gap asks for them. Source: common practice, no source.
    """
    if remedy.at_sowing and sown:
        return False
    if remedy.kind is Kind.POLLINATION:
        return True
    return asked is RemedyClass.STRONG or (remedy.kind is Kind.CULTURAL and asked is RemedyClass.CULTURAL)


def works_until(
    remedy: Remedy, *, parent: Parent, first: date, phenology: Phenology, climate: Climate, seen: Sequence[Seen] = ()
) -> date:
    """Day until which a remedy still works on a parent that first flowers on `first`.

    Help for pollination works while the parent flowers; the others until its share of the heat sum is
    gathered at the site, counted from sowing or from the newest stage seen.
    """
    if remedy.kind is Kind.POLLINATION:
        return first + timedelta(days=round(phenology.lasts_days))
    newest = newest_of(seen)
    start, share = (parent.sow, 0.0) if newest is None else (newest.on, newest.share)
    left = max(0.0, remedy.until_share - share) * phenology.heat_sum_c_d
    return day_of_share(start=start, heat_c_d=left, phenology=phenology, climate=climate)


@dataclass(frozen=True, slots=True)
class Outlook:
    """The gap that remedies leave, at least and at most [d, its sign kept], and the overlap in the middle [0-1]."""

    gap_low_days: float
    gap_high_days: float
    overlap: float


def outlook(*, female: Parent, male: Parent, remedies: Sequence[Remedy]) -> Outlook | None:
    """What several remedies together leave of a gap; None where none of them moves it.

    Their days add up and never turn the gap round. The parent that is late is drawn nearer by the
    middle of what is won.

    >>> parent = Parent(date(2027, 4, 15), 90, 2, 7)
    >>> found = outlook(female=replace(parent, days_to_flower=95), male=parent, remedies=[Remedy(Kind.CULTURAL, For.LAGGING, 1, 2)])
    >>> found.gap_low_days, found.gap_high_days
    (3.0, 4.0)
    """
    low, high = sum(r.low_days for r in remedies), sum(r.high_days for r in remedies)
    if high <= 0:
        return None
    gap = float(female.first - male.first)
    size, sign = abs(gap), 1 if gap > 0 else -1
    won = min(size, (low + high) / 2)
    if sign > 0:
        female = replace(female, days_to_flower=female.days_to_flower - won)
    else:
        male = replace(male, days_to_flower=male.days_to_flower - won)
    return Outlook(sign * max(0.0, size - high), sign * max(0.0, size - low), overlap_of(female, male))


def bees_arrive(*, female: Parent, share: float) -> date:
    """First day on which at least `share` [0-1] of the female's plants flower: hives come then, not earlier.

    >>> bees_arrive(female=Parent(date(2027, 4, 15), 90, 0, 8), share=0.05)
    datetime.date(2027, 7, 14)
    """
    reach = round(6 * female.sd) + 1
    start = date.fromordinal(round(female.first)) - timedelta(days=reach)
    end = start + timedelta(days=2 * reach + round((female.sowings - 1) * female.sowing_gap_days))
    for day, flowering in enumerate(curve(female, start, end)):
        if flowering >= share:
            return start + timedelta(days=day)
    return end
