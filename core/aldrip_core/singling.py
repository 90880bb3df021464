"""Whether a sower or a drill sets one seed at a time: misses and doubles among cells, or among seeds in a row."""

from collections.abc import Sequence
from dataclasses import dataclass

from aldrip_core.off_type_interval import bounds
from aldrip_core.refusal import refuse
from aldrip_core.working import Given, Step, Working, computed

DOUBLE, MISS = 0.5, 1.5  # of the spacing wanted: nearer is a double, farther a miss; ISO 7256-1:1984, from memory
MOST_CM = 1000.0
LIMIT = 0.05  # of cells: more misses or doubles than that are worth stopping for; common practice, no source


def by_spacing(spacings_cm: Sequence[float], *, wanted_cm: float) -> tuple[int, int, int]:
    """Distances from seed to seed in a row as (places, misses, doubles).

    Up to half of the distance wanted it is a double, over one and a half a miss; a miss of two and a half is two places.
    Raises Refused. Source: ISO 7256-1:1984, single seed drills (from memory).

    >>> by_spacing([10, 9, 21, 4, 11, 26], wanted_cm=10)
    (8, 3, 1)
    """
    if wanted_cm <= 0:
        raise refuse("wanted", "out_of_range", "How far apart are seeds meant to lie? More than nothing.")
    if not spacings_cm:
        raise refuse("spacings", "missing", "Write the distances from seed to seed along a metre or two: “10 9 21 4”.")
    for one in spacings_cm:
        if not 0 <= one <= MOST_CM:
            raise refuse("spacings", "out_of_range", f"{one:g} cm from seed to seed cannot be; 0 to {MOST_CM:,.0f}.")
    doubles = sum(one <= DOUBLE * wanted_cm for one in spacings_cm)
    singles = sum(DOUBLE * wanted_cm < one <= MISS * wanted_cm for one in spacings_cm)
    misses = sum(int(one / wanted_cm - DOUBLE + 1e-9) for one in spacings_cm if one > MISS * wanted_cm)
    far = sum(one > MISS * wanted_cm for one in spacings_cm)
    return singles + far + misses, misses, doubles


@dataclass(frozen=True, slots=True)
class Singled:
    """Shares of misses and doubles [0-1] with their 95 % intervals; what they come to on `cells` (0 where not asked).

    `verdict`: `stop` where a share is surely over its limit, `watch` where it is over and may be chance, `well` else.
    """

    misses: float
    misses_low: float
    misses_high: float
    doubles: float
    doubles_low: float
    doubles_high: float
    empty_cells: float
    seeds_too_many: float
    verdict: str
    working: Working = ()


def singled(*, looked: int, misses: int, doubles: int, cells: int = 0, limit: float = LIMIT) -> Singled:
    """What a check of cells (or places in a row) says of the whole sowing.

    looked: cells looked at; misses: those with no seed; doubles: those with two and more. Raises Refused.
    Source: Clopper & Pearson intervals; arithmetic.

    >>> found = singled(looked=208, misses=6, doubles=5, cells=20_800)
    >>> round(found.misses, 3), round(found.empty_cells), found.verdict
    (0.029, 600, 'well')
    """
    if looked < 1:
        raise refuse("looked", "out_of_range", "How many cells were looked at? One at least.")
    if not 0 <= misses <= looked or not 0 <= doubles <= looked or misses + doubles > looked:
        field = "misses" if not 0 <= misses <= looked else "doubles"
        told = f"{misses:,} empty and {doubles:,} with two among {looked:,} cells cannot be."
        raise refuse(field, "out_of_range", told)
    (m_low, m_high), (d_low, d_high) = (
        bounds(plants=looked, found=one, confidence=0.95, sides=2) for one in (misses, doubles)
    )
    empty, many = misses / looked, doubles / looked
    over = [one > limit for one in (empty, many)]
    sure = [one > limit for one in (m_low, d_low)]
    given = Given("looked at", looked)
    working = (
        Step("Misses", "empty ÷ looked at", (Given("empty", misses), given), empty, "share"),
        Step("Doubles", "with two and more ÷ looked at", (Given("with two", doubles), given), many, "share"),
        Step(
            "Empty in all", "misses × cells", (computed("misses", empty, "share"), Given("cells", cells)), empty * cells
        ),
        Step(
            "Seeds too many",
            "doubles × cells",
            (computed("doubles", many, "share"), Given("cells", cells)),
            many * cells,
        ),
    )
    verdict = "stop" if any(sure) else "watch" if any(over) else "well"
    return Singled(empty, m_low, m_high, many, d_low, d_high, empty * cells, many * cells, verdict, working)
