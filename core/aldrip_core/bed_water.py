"""Water on beds: drip lines, what one watering brings, how long it runs; and sheets that cover them."""

import math
from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, Working, computed

NEARLY = 1e-9
MOST_HOURS = 24.0


@dataclass(frozen=True, slots=True)
class DripLines:
    """Lines along all beds: how many, their metres, emitters on them [whole], litres an hour of all."""

    lines: int
    metres: float
    emitters: int
    litres_an_hour: float
    working: Working = ()


def drip_lines(*, beds: int, bed_length_m: float, lines_a_bed: int, apart_m: float, emitter_l_h: float) -> DripLines:
    """Drip lines along beds, an emitter every `apart_m` from half of it on. Raises Refused. Source: arithmetic.

    >>> found = drip_lines(beds=6, bed_length_m=14.0, lines_a_bed=2, apart_m=0.3, emitter_l_h=1.6)
    >>> found.lines, found.metres, found.emitters, round(found.litres_an_hour)
    (12, 168.0, 552, 883)
    """
    if lines_a_bed < 1:
        raise refuse("lines", "out_of_range", "At least one line lies on a bed.")
    if apart_m <= 0:
        raise refuse("emitter_apart", "out_of_range", "How far from emitter to emitter? More than nothing.")
    if emitter_l_h <= 0:
        raise refuse("emitter_flow", "out_of_range", "How much does an emitter give, in litres an hour?")
    # As many as lie on the bed when they are centred on it.
    along = math.floor(bed_length_m / apart_m + NEARLY)
    if along < 1:
        told = f"A line of {bed_length_m:.2f} m has no emitter at {apart_m:.2f} m."
        raise refuse("emitter_apart", "does_not_fit", told)
    lines = beds * lines_a_bed
    emitters = lines * along
    flow = emitters * emitter_l_h
    working = (
        Step("Drip lines", "beds × lines a bed", (computed("beds", beds), Given("lines a bed", lines_a_bed)), lines),
        Step(
            "Line in all",
            "lines × bed length",
            (computed("lines", lines), computed("bed length", bed_length_m, "m")),
            lines * bed_length_m,
            "m",
        ),
        Step(
            "Emitters",
            "lines × (bed length ÷ apart, whole)",
            (computed("lines", lines), Given("apart", apart_m, "m")),
            emitters,
        ),
        Step(
            "Flow",
            "emitters × litres an hour of one",
            (computed("emitters", emitters), Given("one", emitter_l_h, "L/h")),
            flow,
            "L/h",
        ),
    )
    return DripLines(lines, lines * bed_length_m, emitters, flow, working)


@dataclass(frozen=True, slots=True)
class Watering:
    """One watering: litres, minutes that it runs where a flow is known, litres a plant where plants are."""

    litres: float
    minutes: float | None
    litres_a_plant: float | None
    working: Working = ()


def watering(*, area_m2: float, mm: float, litres_an_hour: float | None = None, plants: int | None = None) -> Watering:
    """What so many millimetres on an area come to; 1 mm on 1 m² is 1 L.

    Raises Refused; more than a day of running is no watering. Source: arithmetic.

    >>> found = watering(area_m2=4000, mm=1.25, litres_an_hour=2500)
    >>> found.litres, found.minutes
    (5000.0, 120.0)
    """
    if area_m2 <= 0:
        raise refuse("area", "out_of_range", "Water falls on some ground: more than nothing.")
    if mm <= 0:
        raise refuse("water", "out_of_range", "How much water at once, in millimetres? More than nothing.")
    litres = area_m2 * mm
    steps = [
        Step("Water", "ground × millimetres", (Given("ground", area_m2, "m²"), Given("water", mm, "mm")), litres, "L")
    ]
    minutes = a_plant = None
    if litres_an_hour:
        hours = litres / litres_an_hour
        if hours > MOST_HOURS:
            told = f"{mm:g} mm would run for {hours:.0f} hours, more than a day. More lines, emitters that give more, or less water."
            raise refuse("water", "too_long", told)
        minutes = hours * 60
        given = (computed("water", litres, "L"), computed("flow", litres_an_hour, "L/h"))
        steps.append(Step("Runs for", "water ÷ flow", given, minutes, "min"))
    if plants:
        a_plant = litres / plants
        given = (computed("water", litres, "L"), computed("plants", plants))
        steps.append(Step("A plant gets", "water ÷ plants", given, a_plant, "L"))
    return Watering(litres, minutes, a_plant, tuple(steps))


@dataclass(frozen=True, slots=True)
class Sheets:
    """Sheets side by side over beds: how many, of what length, metres in all."""

    sheets: int
    length_m: float
    metres: float
    working: Working = ()


def cover_sheets(
    *, across_m: float, along_m: float, sheet_m: float, overlap_m: float = 0.0, held_m: float = 0.0
) -> Sheets:
    """Sheets `sheet_m` wide that cover `across_m` by `along_m`, each over its neighbour by `overlap_m`, held down by `held_m` at every edge.

    Raises Refused. Source: arithmetic.

    >>> cover_sheets(across_m=26, along_m=100, sheet_m=13, held_m=0).sheets
    2
    """
    if min(across_m, along_m) <= 0:
        raise refuse("area", "out_of_range", "What is covered is longer and wider than nothing.")
    if overlap_m < 0 or held_m < 0:
        raise refuse("overlap", "out_of_range", "A sheet lies over by nothing or more.")
    if sheet_m <= overlap_m:
        told = f"A sheet of {sheet_m:g} m lies over its neighbour by less than its own width."
        raise refuse("sheet", "out_of_range", told)
    wide, long = across_m + 2 * held_m, along_m + 2 * held_m
    sheets = max(1, ceil_whole((wide - overlap_m) / (sheet_m - overlap_m)))
    given = (
        Given("across", wide, "m"),
        Given("sheet", sheet_m, "m"),
        Given("lies over by", overlap_m, "m"),
    )
    working = (
        Step("Sheets", "(across − lies over) ÷ (sheet − lies over), whole", given, sheets),
        Step(
            "Sheet in all",
            "sheets × length",
            (computed("sheets", sheets), Given("length", long, "m")),
            sheets * long,
            "m",
        ),
    )
    return Sheets(sheets, long, sheets * long, working)
