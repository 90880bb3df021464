"""Before a field is drilled: what one row, and all of a drill, must let fall over a stretch, and what lies in a metre."""

from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.working import Given, Step, Working, computed

STRETCH_M = 50.0  # driven or turned for a catch; common practice, no source
EITHER_WAY = 0.05  # of the catch that may differ; common practice, no source


@dataclass(frozen=True, slots=True)
class DrillTest:
    """Grams caught of one row and of all rows over the stretch, between which, and seeds in a metre of row."""

    grams_a_row: float
    grams_in_all: float
    least_g: float
    most_g: float
    seeds_a_metre: float
    working: Working = ()


def drill_test(
    *, seed_kg: float, metres: float, tgw_g: float, rows: int = 1, stretch_m: float = STRETCH_M
) -> DrillTest:
    """What falls where `seed_kg` go on so many metres of row in all; `rows`: of the drill, caught at once.

    Raises Refused. Source: arithmetic.

    >>> found = drill_test(seed_kg=18, metres=10_000, tgw_g=450, rows=6)
    >>> found.grams_a_row, found.grams_in_all, found.seeds_a_metre
    (90.0, 540.0, 4.0)
    """
    if seed_kg <= 0 or metres <= 0 or tgw_g <= 0:
        raise refuse("seed_kg", "nothing", "No seed, no rows or no weight of a thousand seeds: nothing can be caught.")
    if not 1 <= rows <= 100:
        raise refuse("rows", "out_of_range", f"A drill of {rows} rows cannot be; 1 to 100.")
    a_row = seed_kg * 1000 / metres * stretch_m
    seeds = seed_kg * 1e6 / tgw_g / metres
    both = (Given("seed", seed_kg, "kg"), Given("rows in all", metres, "m"))
    working = (
        Step(
            "Caught of one row", "seed ÷ metres of row × stretch", (*both, Given("stretch", stretch_m, "m")), a_row, "g"
        ),
        Step(
            "Of all rows", "one row × rows", (computed("one row", a_row, "g"), Given("rows", rows)), a_row * rows, "g"
        ),
        Step(
            "Seeds a metre",
            "seed ÷ weight of a seed ÷ metres",
            (*both, Given("a thousand seeds", tgw_g, "g")),
            seeds,
        ),
    )
    in_all = a_row * rows
    return DrillTest(a_row, in_all, in_all * (1 - EITHER_WAY), in_all * (1 + EITHER_WAY), seeds, working)
