"""Beds in a house: how many fit side by side, how long they are, what of the house they use."""

import math
from dataclasses import dataclass
from typing import ClassVar

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed

NEARLY = 1e-9


@dataclass(frozen=True, slots=True)
class BedLayout:
    """Beds along the house; net is the beds alone, without paths and clearances."""

    beds: int
    bed_length_m: float
    net_area_m2: float
    share_used: float
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


def bed_layout(
    *,
    house_length_m: float,
    house_width_m: float,
    end_clearance_m: float,
    bed_width_m: float,
    path_width_m: float,
    outer_paths: bool = True,
    wanted_beds: int | None = None,
    wanted_length_m: float | None = None,
) -> BedLayout:
    """Beds that lie along a house, with a path between them and, with `outer_paths`, along both walls [m].

    `wanted_beds` and `wanted_length_m`: what somebody means to lay out. Raises Refused where none, or not as many or as
    long, fit, with what would and the smallest house that would do. Source: arithmetic.

    >>> bed_layout(house_length_m=50, house_width_m=20, end_clearance_m=2, bed_width_m=2.5, path_width_m=0.5).beds
    6
    """
    paths = 1 if outer_paths else -1  # more, or fewer, than there are beds
    step = bed_width_m + path_width_m
    beds = max(0, math.floor((house_width_m - paths * path_width_m) / step + NEARLY)) if step > 0 else 0
    length = house_length_m - 2 * end_clearance_m
    asked, long = wanted_beds or 1, wanted_length_m or 0.0
    if beds < asked or length <= 0 or length < long - NEARLY:
        raise _too_small(beds, length, asked, long, asked * step + paths * path_width_m, 2 * end_clearance_m)
    beds = wanted_beds or beds
    length = wanted_length_m or length
    net = beds * length * bed_width_m
    given = (Given("house", house_width_m, "m wide"), Given("bed", bed_width_m, "m"), Given("path", path_width_m, "m"))
    working = (
        Step("Beds", f"(width {'-' if outer_paths else '+'} path) ÷ (bed + path), whole", given, beds),
        Step(
            "Bed length",
            "house - 2 × clearance",
            (Given("house", house_length_m, "m long"), Given("clearance", end_clearance_m, "m")),
            length,
            "m",
        ),
        Step("Net area", "beds × length × width", (computed("beds", beds), computed("length", length, "m")), net, "m²"),
    )
    return BedLayout(beds, length, net, net / (house_length_m * house_width_m), working)


def _too_small(beds: int, length: float, asked: int, long: float, width: float, ends: float) -> Exception:
    """What would fit, and the smallest house for what was asked."""
    fits = f"{beds} of {length:.2f} m would fit" if beds and length > 0 else "none fits"
    least = f"{max(long, 0) + ends:.2f}" if long else f"more than {ends:.2f}"
    field = "house_width_m" if beds < asked else "house_length_m"
    what = f"{asked} beds" if asked > 1 else "A bed"
    of = f" of {long:.2f} m" if long else ""
    verb = "do" if asked > 1 else "does"
    told = (
        f"{what}{of} {verb} not fit: {fits}. The smallest house that would do is {least} m long and {width:.2f} m wide."
    )
    return refuse(field, "does_not_fit", told)


@dataclass(frozen=True, slots=True)
class BedPlants:
    """Plants on the beds of a house, whole; by the ground of the beds alone (net), and by that of the house (gross)."""

    plants: int
    net_per_m2: float
    gross_per_m2: float
    working: Working = ()


def bed_edges_m(beds: int, *, house_width_m: float, bed_width_m: float, path_width_m: float) -> tuple[float, ...]:
    """Where each bed begins across the house, from one wall [m]: what is left over lies along both walls alike."""
    used = beds * bed_width_m + (beds - 1) * path_width_m
    first = (house_width_m - used) / 2
    return tuple(first + n * (bed_width_m + path_width_m) for n in range(beds))


def bed_plants(
    layout: BedLayout, *, rows: int, in_row_m: float, bed_width_m: float, house_length_m: float, house_width_m: float
) -> BedPlants:
    """Whole plants in `rows` along every bed, `in_row_m` apart. Raises Refused where a bed does not hold one.

    >>> layout = bed_layout(
    ...     house_length_m=15, house_width_m=6, end_clearance_m=0.6, bed_width_m=0.75, path_width_m=0.3)
    >>> bed_plants(layout, rows=4, in_row_m=0.2, bed_width_m=0.75, house_length_m=15, house_width_m=6).plants
    1380
    """
    if rows < 1:
        raise refuse("rows", "out_of_range", "At least one row stands on a bed.")
    if in_row_m <= 0:
        raise refuse("in_row_m", "out_of_range", "How far from plant to plant? More than nothing.")
    along = math.floor(layout.bed_length_m / in_row_m + NEARLY)
    if along < 1:
        told = f"A bed of {layout.bed_length_m:.2f} m holds no plant at {in_row_m:.2f} m."
        raise refuse("in_row_m", "does_not_fit", told)
    plants = layout.beds * rows * along
    net, gross = layout.beds * layout.bed_length_m * bed_width_m, house_length_m * house_width_m
    working = (
        Step(
            "Plants along a bed", "bed length ÷ in-row, whole", (computed("length", layout.bed_length_m, "m"),), along
        ),
        Step(
            "Plants",
            "beds × rows × plants along a bed",
            (computed("beds", layout.beds), Given("rows", rows), computed("along", along)),
            plants,
        ),
        Step("Net", "plants ÷ ground of the beds", (computed("net area", net, "m²"),), plants / net, "a m²"),
        Step("Gross", "plants ÷ ground of the house", (computed("house", gross, "m²"),), plants / gross, "a m²"),
    )
    return BedPlants(plants, plants / net, plants / gross, working)
