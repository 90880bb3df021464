"""Seed tubers in trays: how many stand where, which trays are looked at, how sprouts grow, what is planted where."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from aldrip_core.plants_per_area import M2_PER_HA
from aldrip_core.refusal import refuse
from aldrip_core.reject_number import Decision, reject_at
from aldrip_core.thermal_time import daily_heat
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, Working, computed

GRADES = range(1, 6)  # common practice, no source
SPROUT_BASE_C = 4.0  # below it sprouts of potato stand still; from memory
TURN_DAYS = 4  # stacks are moved twice a week; common practice, no source
TOLD = 4.0  # tubers over the limit that a sample would hold, below which it tells little
WANTED_MM = 20.0  # sprouts at planting; common practice, no source
LIMIT = 0.02  # of tubers below standard, where nobody says another; common practice, no source
MOST_KG = 10_000_000.0
MOST_TUBERS = 100_000_000


@dataclass(frozen=True, slots=True)
class StoreHabit:
    """How trays stand: so many a stack, its ground [m²], the part of the floor that is gangway [0-1], trays stood an hour by one person."""

    trays_a_stack: int = 40
    stack_m2: float = 1.2
    gangway: float = 0.25
    an_hour: float = 15.0

    def __post_init__(self) -> None:
        for name in ("trays_a_stack", "stack_m2", "an_hour"):
            if getattr(self, name) <= 0:
                raise refuse(name, "out_of_range", "More than nothing is needed.")
        if not 0 <= self.gangway < 1:
            raise refuse("gangway", "out_of_range", "The gangway is a part of the floor: from 0 to less than 100 %.")


@dataclass(frozen=True, slots=True)
class Stood:
    """One size grade, stood: tubers, trays and stacks [whole], the last stack's trays, floor [m²], hours of one person."""

    tubers: int
    trays: int
    stacks: int
    in_last: int
    floor_m2: float
    hours: float
    working: Working = ()


def stood(*, kg: float, tuber_g: float, a_tray: int, habit: StoreHabit) -> Stood:
    """What a load of one grade comes to once it is stood eyes up in trays. Raises Refused.

    kg: of that grade; tuber_g: what one weighs; a_tray: that stand in a tray. Source: arithmetic.

    >>> found = stood(kg=1000, tuber_g=50, a_tray=200, habit=StoreHabit(trays_a_stack=40))
    >>> found.tubers, found.trays, found.stacks, found.in_last
    (20000, 100, 3, 20)
    """
    if not 0 < kg <= MOST_KG:
        raise refuse("kg", "out_of_range", f"How many kilos of this grade? More than 0, up to {MOST_KG:,.0f}.")
    if tuber_g <= 0:
        raise refuse("tuber_g", "out_of_range", "What does one tuber of this grade weigh, in grams?")
    if a_tray < 1:
        raise refuse("a_tray", "out_of_range", "How many tubers of this grade stand in a tray?")
    tubers = int(kg * 1000 / tuber_g + 1e-9)
    if tubers < 1:
        raise refuse("kg", "out_of_range", f"{kg:g} kg is not one tuber of {tuber_g:g} g.")
    if tubers > MOST_TUBERS:
        raise refuse("kg", "too_large", f"{tubers:,} tubers are more than the {MOST_TUBERS:,} of one load. Split it.")
    trays = ceil_whole(tubers / a_tray)
    stacks = ceil_whole(trays / habit.trays_a_stack)
    floor = stacks * habit.stack_m2 / (1 - habit.gangway)
    hours = trays / habit.an_hour
    steps = (
        Step("Tubers", "kilos ÷ what one weighs", (Given("kilos", kg, "kg"), Given("one", tuber_g, "g")), tubers),
        Step("Trays", "tubers ÷ tubers a tray", (computed("tubers", tubers), Given("tubers a tray", a_tray)), trays),
        Step(
            "Stacks",
            "trays ÷ trays a stack",
            (computed("trays", trays), Given("trays a stack", habit.trays_a_stack)),
            stacks,
        ),
        Step(
            "Floor",
            "stacks × ground of a stack ÷ (1 − gangway)",
            (
                computed("stacks", stacks),
                Given("ground of a stack", habit.stack_m2, "m²"),
                Given("gangway", habit.gangway, "share"),
            ),
            floor,
            "m²",
        ),
        Step(
            "Hours to stand them",
            "trays ÷ trays an hour",
            (computed("trays", trays), Given("trays an hour", habit.an_hour)),
            hours,
            "h",
        ),
    )
    return Stood(tubers, trays, stacks, trays - (stacks - 1) * habit.trays_a_stack, floor, hours, steps)


@dataclass(frozen=True, slots=True)
class TrayRange:
    """Stacks numbered `first` to `last` of so many trays each, the last of `in_last`."""

    first: int
    last: int
    trays_a_stack: int
    in_last: int

    @property
    def trays(self) -> int:
        """All trays of the range."""
        return (self.last - self.first) * self.trays_a_stack + self.in_last


def trays_to_look_at(of: TrayRange, *, a_tray: int, limit: float, start: float = 0.5) -> tuple[tuple[int, int], ...]:
    """Which trays an inspector draws: (stack, tray from the top, counted from 1), as many as can tell whether `limit` is kept.

    Evenly through the range from `start` [0-1) of the first step on, which is drawn by lot. As many as hold `TOLD` over the
    limit on average, all where there are fewer. limit [0-1]: of tubers below standard. Source: systematic sampling, Cochran,
    Sampling Techniques (from memory).

    >>> trays_to_look_at(TrayRange(1, 10, 40, 40), a_tray=100, limit=0.02)
    ((3, 21), (8, 21))
    """
    if not 0 < limit < 1:
        raise refuse("limit", "out_of_range", "The limit is a part of the tubers: more than 0, less than 100 %.")
    many = min(of.trays, ceil_whole(TOLD / (limit * a_tray)))
    step = of.trays / many
    places = (min(of.trays - 1, int((n + start) * step)) for n in range(many))
    return tuple((of.first + at // of.trays_a_stack, at % of.trays_a_stack + 1) for at in places)


def bad_from(*, looked: int, limit: float) -> int:
    """How many tubers below standard among `looked` reject what they were drawn from, by the usual reject number."""
    return reject_at(plants=looked, limit=limit, decision=Decision.REJECT_NUMBER)


def sprout_rate(
    *, first_mm: float, last_mm: float, mean_c: Sequence[float], base_c: float = SPROUT_BASE_C
) -> float | None:
    """How fast sprouts grew between two readings [mm per °C·d above base]; None where no heat came. `mean_c`: of each day between."""
    heat = sum(daily_heat(mean_c=c, base_c=base_c) for c in mean_c)
    return max(0.0, last_mm - first_mm) / heat if heat > 0 else None


def sprout_days(
    *, now_mm: float, wanted_mm: float, mm_per_c_d: float, mean_c: Sequence[float], base_c: float = SPROUT_BASE_C
) -> int | None:
    """Days until sprouts are `wanted_mm` long at these daily means [°C], the last going on; None where they never are.

    At a constant temperature it is (wanted − now) ÷ (rate × (temperature − base)), rounded up.

    >>> sprout_days(now_mm=5, wanted_mm=20, mm_per_c_d=0.1, mean_c=[10.0])
    25
    """
    left, days = wanted_mm - now_mm, 0
    for c in mean_c:
        if left <= 1e-9:
            return days
        left -= mm_per_c_d * daily_heat(mean_c=c, base_c=base_c)
        days += 1
    if left <= 1e-9:
        return days
    a_day = mm_per_c_d * daily_heat(mean_c=mean_c[-1], base_c=base_c) if mean_c else 0.0
    return days + ceil_whole(left / a_day) if a_day > 0 else None


D2_OF_TWO = 2 / math.sqrt(math.pi)  # mean range of two standard normal values; tables print 1.128


@dataclass(frozen=True, slots=True)
class Sampled:
    """What a chart says of one sample: its share [0-1], the limits of what is usual for its size, whether it is outside."""

    share: float
    low: float
    high: float
    outside: bool


def damage_chart(samples: Sequence[tuple[int, int]]) -> tuple[float, tuple[Sampled, ...]]:
    """A chart of lifting damage: (the usual share, each sample against its limits), in the order they were drawn.

    samples: (tubers looked at, damaged). Limits are three standard deviations of a share, widened by how
    much samples that follow each other differ more than chance would make them, which crews and soils do. Fewer than two
    samples have no limits (0 to 1). Raises Refused for an impossible count. Source: p′ chart, Laney 2002; the constant d₂ of
    two is 2/√π, 1.128 in Montgomery, Introduction to Statistical Quality Control, app. VI (from memory).
    """
    for n, (size, damaged) in enumerate(samples):
        if size < 1 or not 0 <= damaged <= size:
            told = f"Sample {n + 1}: {damaged} of {size} cannot be. Damaged ones lie between 0 and those looked at."
            raise refuse(f"samples.{n}.damaged", "out_of_range", told)
    if not samples:
        return 0.0, ()
    looked = np.asarray([one[0] for one in samples], dtype=np.float64)
    shares = np.asarray([one[1] for one in samples], dtype=np.float64) / looked
    usual = float((shares * looked).sum() / looked.sum())
    by_chance = np.sqrt(usual * (1 - usual) / looked)
    if len(samples) < 2 or usual in (0.0, 1.0):
        return usual, tuple(Sampled(float(share), 0.0, 1.0, outside=False) for share in shares)
    z = (shares - usual) / by_chance
    # Never narrower than chance alone: of a few samples that happen to agree nothing can be told.
    wider = max(1.0, float(np.abs(np.diff(z)).mean()) / D2_OF_TWO)
    reach = 3 * by_chance * wider
    low, high = np.clip(usual - reach, 0, 1), np.clip(usual + reach, 0, 1)
    return usual, tuple(
        Sampled(float(s), float(a), float(b), outside=bool(s > b + 1e-12 or s < a - 1e-12))
        for s, a, b in zip(shares, low, high, strict=True)
    )


@dataclass(frozen=True, slots=True)
class Plot:
    """Where tubers are planted: its area [m²], the rows' distance and the distance in the row [cm]."""

    key: str
    area_m2: float
    row_cm: float
    in_row_cm: float

    @property
    def wants(self) -> int:
        """Tubers that plant it full."""
        return int(self.area_m2 * 10_000 / (self.row_cm * self.in_row_cm) + 1e-9)


@dataclass(frozen=True, slots=True)
class Held:
    """Tubers of one grade that stand in the store: how many, what one weighs [g], how many a tray."""

    key: str
    tubers: int
    tuber_g: float
    a_tray: int


@dataclass(frozen=True, slots=True)
class Planting:
    """So many tubers of a grade into a plot: whole trays that are carried out, kilos, and tonnes on a hectare."""

    plot: str
    held: str
    tubers: int
    trays: int
    kg: float
    t_per_ha: float


def plant_out(held: Sequence[Held], plots: Sequence[Plot]) -> tuple[tuple[Planting, ...], Mapping[str, int]]:
    """Which grade goes where: (plantings in the order of the plots, tubers that a plot lacks).

    Plots come earliest first, what is held largest first: the earliest ground gets the largest tubers, which have most to
    live on before their roots do (common practice, no source). What is left of a tray goes on into the next plot.
    """
    for plot in plots:
        if plot.area_m2 <= 0 or plot.row_cm <= 0 or plot.in_row_cm <= 0:
            raise refuse(f"plots.{plot.key}", "out_of_range", "Area and both distances are more than nothing.")
    left = {one.key: one.tubers for one in held}
    found: list[Planting] = []
    short: dict[str, int] = {}
    for plot in plots:
        wants = plot.wants
        for one in held:
            part = min(wants, left[one.key])
            if part <= 0:
                continue
            before = one.tubers - left[one.key]
            left[one.key] -= part
            wants -= part
            trays = ceil_whole((before + part) / one.a_tray) - ceil_whole(before / one.a_tray)
            t_per_ha = one.tuber_g * M2_PER_HA * 10_000 / (plot.row_cm * plot.in_row_cm) / 1e6
            found.append(Planting(plot.key, one.key, part, trays, part * one.tuber_g / 1000, t_per_ha))
        if wants > 0:
            short[plot.key] = wants
    return tuple(found), short


def cover_m(*, area_m2: float, sheet_m: float, overlap_m: float = 0.0) -> Working:
    """Metres of a sheet `sheet_m` wide that cover an area, each lying over its neighbour (or the ground) by `overlap_m`.

    >>> cover_m(area_m2=2600, sheet_m=13.5, overlap_m=0.5)[0].value
    200.0
    """
    if not 0 <= overlap_m < sheet_m:
        told = f"A sheet of {sheet_m:g} m lies over by less than its own width."
        raise refuse("overlap", "out_of_range", told)
    given = (
        Given("area", area_m2, "m²"),
        Given("sheet", sheet_m, "m"),
        Given("lies over by", overlap_m, "m"),
    )
    return (Step("Cover", "area ÷ (width − what lies over)", given, area_m2 / (sheet_m - overlap_m), "m"),)
