"""When a parent line flowers: from its heat sum at the site, and anew from a stage that was seen."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from aldrip_core.nick import Parent
from aldrip_core.refusal import refuse
from aldrip_core.schedule import Climate, mean_on, peak_on
from aldrip_core.thermal_time import degree_day
from aldrip_core.words_for_dates import day_words
from aldrip_core.working import Given, Origin, Step, Working, computed

LONGEST_DAYS = 500
METHOD = "mean of cut extremes"


@dataclass(frozen=True, slots=True)
class Phenology:
    """What makes a line flower: heat sum [°C·d] over base, cut at upper [°C]; spread and length of flower [d].

    `unsure_share`: standard deviation of the date as a share of the days still to go.
    """

    heat_sum_c_d: float
    base_c: float
    upper_c: float
    spread_sd_days: float
    lasts_days: float
    unsure_share: float = 0.04


@dataclass(frozen=True, slots=True)
class Seen:
    """A stage seen in the field: on which day, and the share of the heat sum it stands for [0-1]."""

    on: date
    share: float
    words: str = ""


@dataclass(frozen=True, slots=True)
class FlowerDate:
    """First flowers on average, how unsure that day is [d], and how it came about."""

    first: date
    date_sd_days: float
    working: Working = ()


def newest_of(seen: Sequence[Seen]) -> Seen | None:
    """The stage that counts: the one seen last, of several on a day the most advanced."""
    return max(seen, key=lambda one: (one.on, one.share), default=None)


def sheds_from(first: date, phenology: Phenology) -> date:
    """First day on which pollen must be reckoned with: first flowers less twice the spread. Common practice, no source."""
    return first - timedelta(days=round(2 * phenology.spread_sd_days))


def flowers_until(first: date, phenology: Phenology) -> date:
    """Day on which nearly all plants are over: first flowers, how long they last, twice the spread."""
    return first + timedelta(days=round(phenology.lasts_days + 2 * phenology.spread_sd_days))


def may_flower(found: FlowerDate, phenology: Phenology) -> tuple[date, date]:
    """Days `[from, to)` on which a line may flower, twice the spread and twice the uncertainty of its date on either side."""
    wide = 2 * (phenology.spread_sd_days + found.date_sd_days)
    return found.first - timedelta(days=round(wide)), found.first + timedelta(days=round(phenology.lasts_days + wide))


def heat_of_day(climate: Climate, day: date, phenology: Phenology) -> float:
    """Heat that a day gives a line at the site [°C·d]."""
    mean = mean_on(climate, day)
    swing = peak_on(climate, day) - mean
    return degree_day(min_c=mean - swing, max_c=mean + swing, base_c=phenology.base_c, upper_c=phenology.upper_c)


def day_of_share(*, start: date, heat_c_d: float, phenology: Phenology, climate: Climate) -> date:
    """Day on which a heat [°C·d] is gathered from `start` on, the start day counting. Raises Refused."""
    total = 0.0
    for count in range(LONGEST_DAYS):
        if total >= heat_c_d - 1e-9:
            return start + timedelta(days=count)
        total += heat_of_day(climate, start + timedelta(days=count), phenology)
    raise refuse(
        "heat_sum_c_d",
        "never_reached",
        f"{heat_c_d:,.0f} °C·d over {phenology.base_c:g} °C are not gathered within {LONGEST_DAYS} days here. Check the line's heat sum.",
    )


def flower_date(
    *, sow: date, phenology: Phenology, climate: Climate, seen: Sequence[Seen] = (), today: date | None = None
) -> FlowerDate:
    """First flowers of a line, from its sowing or from the newest stage that was seen.

    A stage seen on a day says that its share of the heat sum is behind; what is left is gathered from
    that day on. The uncertainty grows with the days still to go from there. Raises Refused.
    """
    newest = newest_of(seen)
    start, share = (sow, 0.0) if newest is None else (newest.on, newest.share)
    if start < sow:
        raise refuse("on", "before_sowing", f"{start} is before the sowing of {sow}.")
    left = phenology.heat_sum_c_d * (1 - share)
    first = day_of_share(start=start, heat_c_d=left, phenology=phenology, climate=climate)
    ahead = (first - (max(start, min(today, first)) if today and newest is None else start)).days
    unsure = max(0.5, phenology.unsure_share * ahead) if share < 1 else 0.0
    told = (
        Given("counted from", f"{newest.words or 'a stage seen'} on {day_words(newest.on)}", "", Origin.RECORDS)
        if newest
        else Given("sown", day_words(sow))
    )
    steps = (
        Step(
            "Heat still to gather",
            "heat sum × (1 - share behind)",
            (
                Given("heat sum", phenology.heat_sum_c_d, "°C·d", Origin.LIBRARY),
                Given("share behind", share, "share", Origin.RECORDS if newest else Origin.COMPUTED),
            ),
            left,
            "°C·d",
        ),
        Step(
            "First flowers",
            f"day on which it is gathered at the site ({METHOD})",
            (
                told,
                computed("heat to gather", left, "°C·d"),
                Given("base", phenology.base_c, "°C", Origin.LIBRARY),
                Given("upper", phenology.upper_c, "°C", Origin.LIBRARY),
            ),
            day_words(first),
        ),
        Step(
            "Unsure by",
            "share of the days still to go",
            (Given("days to go", ahead, "d"), Given("share", phenology.unsure_share, "share", Origin.LIBRARY)),
            unsure,
            "d",
        ),
    )
    return FlowerDate(first, unsure, steps)


def as_parent(
    *, sow: date, found: FlowerDate, phenology: Phenology, sowings: int = 1, sowing_gap_days: float = 0
) -> Parent:
    """A flower date in the terms of the nick."""
    return Parent(
        sow=sow,
        days_to_flower=(found.first - sow).days,
        spread_sd_days=phenology.spread_sd_days,
        lasts_days=phenology.lasts_days,
        date_sd_days=found.date_sd_days,
        sowings=sowings,
        sowing_gap_days=sowing_gap_days,
    )


def sow_for(*, flower_on: date, phenology: Phenology, climate: Climate) -> date:
    """Latest sowing whose first flowers stand by `flower_on`: heat is counted backward. Raises Refused."""
    total = 0.0
    for count in range(1, LONGEST_DAYS):
        day = flower_on - timedelta(days=count)
        total += heat_of_day(climate, day, phenology)
        if total >= phenology.heat_sum_c_d - 1e-9:
            return day
    raise refuse(
        "heat_sum_c_d", "never_reached", f"{phenology.heat_sum_c_d:,.0f} °C·d are not gathered before {flower_on}."
    )


def sow_not_before(*, flower_on: date, phenology: Phenology, climate: Climate) -> date:
    """A sowing whose first flowers do not stand before `flower_on`, and hardly after it. Raises Refused."""
    day = sow_for(flower_on=flower_on, phenology=phenology, climate=climate)
    while flower_date(sow=day, phenology=phenology, climate=climate).first < flower_on:
        day += timedelta(days=1)
    return day
