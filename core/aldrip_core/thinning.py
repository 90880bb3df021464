"""Sown thick and thinned, or sown at stand and singled: the seed, the gaps and the hours of both for the same stand."""

import math
from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Origin, Step, Working, computed

PULLED_AN_HOUR = 1500.0  # plants that one person pulls out of a row; invented, so it is asked for
SINGLED_AN_HOUR = 900.0  # stands that one person singles; invented, so it is asked for
GAPS = 0.03  # of stands that may stay empty
MOST_A_STAND = 12


@dataclass(frozen=True, slots=True)
class Way:
    """One way to the same stand: seeds and their weight [g], the share of stands that stays empty, what is pulled, hours."""

    seeds: int
    seed_g: float | None
    gaps: float
    pulled: int
    hours: float
    working: Working = ()


@dataclass(frozen=True, slots=True)
class Ways:
    """Both ways; `stands`: places for a plant, as many as leave the plants wanted when the gaps are taken off; seeds at each."""

    stands: int
    a_stand: int
    a_metre: float
    thick: Way
    at_stand: Way


def gaps_when_thick(*, seeds: float, stands: int, emergence: float) -> float:
    """Share of stands that stays empty where so many seeds fall anywhere in the row [0-1]. Source: Poisson chance of none.

    >>> round(gaps_when_thick(seeds=58_443, stands=10_000, emergence=0.6), 3)
    0.03
    """
    return math.exp(-seeds * emergence / stands) if stands > 0 else 0.0


def ways_to_a_stand(
    *,
    plants: int,
    in_row_cm: float,
    emergence: float,
    gaps: float = GAPS,
    tgw_g: float | None = None,
    pulled_an_hour: float = PULLED_AN_HOUR,
    singled_an_hour: float = SINGLED_AN_HOUR,
) -> Ways:
    """Seed, gaps and hours for `plants` standing `in_row_cm` apart, of seed of which a share `emergence` [0-1] comes up.

    Thick: seeds fall anywhere in the row, so a stand is empty where none came up along its own length (Poisson); as thick as
    leaves `gaps`. At stand: so many seeds at one spot that no more than `gaps` are empty (binomial). Raises Refused.
    Source: Poisson and binomial chances of none; arithmetic.

    >>> found = ways_to_a_stand(plants=9700, in_row_cm=10, emergence=0.6)
    >>> found.stands, found.a_stand, round(found.a_metre, 1), found.at_stand.seeds, found.thick.seeds
    (10000, 4, 58.4, 40000, 58443)
    """
    if plants < 1:
        raise refuse("plants", "out_of_range", "A stand is of one plant at least.")
    if in_row_cm <= 0:
        raise refuse("in_row", "out_of_range", "How far from plant to plant? More than nothing.")
    if not 0 < emergence <= 1:
        raise refuse("emergence", "out_of_range", "Of the seed more than nothing comes up, and no more than all.")
    if not 0 < gaps < 1:
        raise refuse("gaps", "out_of_range", "Some stands may stay empty: more than 0, less than 100 %.")
    if pulled_an_hour <= 0 or singled_an_hour <= 0:
        field = "pulled_an_hour" if pulled_an_hour <= 0 else "singled_an_hour"
        raise refuse(field, "out_of_range", "How many does one person manage in an hour? More than nothing.")
    each = 1 if emergence == 1 else max(1, ceil_whole(math.log(gaps) / math.log1p(-emergence)))
    if each > MOST_A_STAND:
        told = f"With {emergence * 100:.0f} % coming up it takes {each} seeds at every stand. Sow thick, raise plants, or leave more gaps."
        raise refuse("emergence", "too_low", told)
    stands = ceil_whole(plants / (1 - gaps))
    along = -math.log(gaps) / emergence  # seeds along the length of one stand
    a_metre = along * 100 / in_row_cm

    def weight(seeds: float) -> float | None:
        return seeds * tgw_g / 1000 if tgw_g else None

    came = Given("come up", emergence, "share", Origin.RECORDS)
    empty = Given("may stay empty", gaps, "share")
    thick_seeds = ceil_whole(stands * along)
    pulled = max(0, round(thick_seeds * emergence - stands * (1 - gaps)))
    thick = Way(
        thick_seeds,
        weight(thick_seeds),
        gaps,
        pulled,
        pulled / pulled_an_hour,
        (
            Step("Stands", "plants ÷ (1 − gaps), whole", (Given("plants", plants), empty), stands),
            Step(
                "Seeds a metre",
                "−ln(gaps) ÷ share that comes up ÷ metres of a stand",
                (empty, came),
                a_metre,
                "seeds/m",
            ),
            Step(
                "Seeds",
                "seeds a metre × metres",
                (computed("stands", stands), Given("apart", in_row_cm, "cm")),
                thick_seeds,
            ),
            Step("Pulled", "come up − stands that are filled", (computed("seeds", thick_seeds), came), pulled),
            Step(
                "Hours",
                "pulled ÷ pulled an hour",
                (computed("pulled", pulled), Given("pulled an hour", pulled_an_hour)),
                pulled / pulled_an_hour,
                "h",
            ),
        ),
    )
    none = (1 - emergence) ** each
    one = each * emergence * (1 - emergence) ** (each - 1)
    many = stands * max(0.0, 1 - none - one)
    hours = many / singled_an_hour
    singled = max(0, round(stands * (each * emergence - (1 - none))))
    at_stand = Way(
        stands * each,
        weight(stands * each),
        none,
        singled,
        hours,
        (
            Step("Seeds a stand", "fewest with (1 − share that comes up)ⁿ ≤ gaps", (came, empty), each),
            Step(
                "Seeds",
                "stands × seeds a stand",
                (computed("stands", stands), computed("seeds a stand", each)),
                stands * each,
            ),
            Step(
                "Stands with more than one",
                "stands × chance of two and more",
                (computed("stands", stands), came),
                round(many),
            ),
            Step(
                "Hours",
                "stands with more than one ÷ singled an hour",
                (computed("stands with more than one", round(many)), Given("singled an hour", singled_an_hour)),
                hours,
                "h",
            ),
        ),
    )
    return Ways(stands, each, a_metre, thick, at_stand)
