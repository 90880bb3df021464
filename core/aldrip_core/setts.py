"""Setts cut from tubers: how many, from how many tubers, on how long a bed."""

import math
from dataclasses import dataclass

from aldrip_core.refusal import Warn, refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, Working, computed


@dataclass(frozen=True, slots=True)
class Setts:
    """Setts to lay, tubers to choose, the bed that they take."""

    setts: int
    setts_per_tuber: int
    tubers: int
    tuber_kg: float
    bed_length_m: float
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def setts(
    *, plants: float, sett_g: float, tuber_g: float, sprout_rate: float, footprint_cm2: float, bed_width_cm: float
) -> Setts:
    """Setts, tubers and bed for so many plants. Raises Refused where a tuber gives no sett, or none sprouts.

    Source: arithmetic.

    >>> found = setts(plants=800, sett_g=100, tuber_g=1100, sprout_rate=0.8, footprint_cm2=100, bed_width_cm=100)
    >>> found.setts, found.setts_per_tuber, found.tubers, found.bed_length_m
    (1000, 11, 91, 10.0)
    """
    for name, value in (
        ("sett_g", sett_g),
        ("tuber_g", tuber_g),
        ("footprint_cm2", footprint_cm2),
        ("bed_width_cm", bed_width_cm),
    ):
        if value <= 0:
            raise refuse(name, "out_of_range", "More than nothing is needed.")
    if not 0 < sprout_rate <= 1:
        raise refuse("sprout_rate", "out_of_range", "Of the setts a share above 0 and up to 1 sprouts.")
    each = math.floor(tuber_g / sett_g + 1e-9)
    if each < 1:
        told = f"A tuber of {tuber_g:g} g gives no sett of {sett_g:g} g. Choose larger tubers, or smaller setts."
        raise refuse("tuber_g", "too_small", told)
    laid = ceil_whole(plants / sprout_rate)
    tubers = ceil_whole(laid / each)
    length = laid * footprint_cm2 / bed_width_cm / 100
    working = (
        Step(
            "Setts",
            "plants ÷ share that sprouts",
            (Given("plants", plants), Given("sprout", sprout_rate, "share")),
            laid,
        ),
        Step("Setts a tuber", "tuber ÷ sett, whole", (Given("tuber", tuber_g, "g"), Given("sett", sett_g, "g")), each),
        Step("Tubers", "setts ÷ setts a tuber, whole", (computed("setts", laid), computed("a tuber", each)), tubers),
        Step(
            "Bed",
            "setts × footprint ÷ width",
            (Given("footprint", footprint_cm2, "cm²"), Given("width", bed_width_cm, "cm")),
            length,
            "m",
        ),
    )
    return Setts(laid, each, tubers, tubers * tuber_g / 1000, length, working)
