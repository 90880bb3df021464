"""The work that setts make, from the mother tubers to the ridge: choosing, cutting, dipping, drying, the bed, the ridges."""

from dataclasses import dataclass

from aldrip_core.refusal import refuse
from aldrip_core.setts import setts
from aldrip_core.sowing_chain import Link
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, computed

DIP_MIN = 15.0  # in a protectant dip, by its label; common practice, no source
DIPS_A_CHANGE = 5  # after which the dip is made anew, where its label does not say otherwise; invented
DRY_CM2 = 60.0  # of shade a sett lies on while its cuts dry; invented
APART_CM = 45.72  # on the ridge: 18 in; common practice, no source
SPROUT_RATE = 1.0  # what does not sprout is in the batch's own numbers


@dataclass(frozen=True, slots=True)
class SettHabit:
    """How setts are made in a house: what they weigh, how fast they are cut, in how much they are dipped.

    tuber_g, sett_g [g]; footprint_cm2 of a sett on the bed, bed_width_cm; an_hour: setts that one person cuts; dip_kg
    and dip_l: kilos that one dip takes, and its litres.
    """

    tuber_g: float = 1100.0
    sett_g: float = 100.0
    footprint_cm2: float = 40.0
    bed_width_cm: float = 60.0
    an_hour: float = 120.0
    dip_kg: float = 10.0
    dip_l: float = 20.0

    def __post_init__(self) -> None:
        for name in self.__slots__:
            if getattr(self, name) <= 0:
                raise refuse(name, "out_of_range", "More than nothing is needed.")


def sett_work(*, laid: float, sprouted: float, habit: SettHabit) -> tuple[Link, ...]:
    """Every figure of a batch of setts: `laid` are cut and laid, `sprouted` are reckoned to be planted. Raises Refused.

    Source: arithmetic; a tuber of 2 to 3 lb gives 8 to 12 setts of 4 oz (common practice, no source).

    >>> [(one.key, round(one.value, 2)) for one in sett_work(laid=1000, sprouted=800, habit=SettHabit())][:4]
    [('tubers', 91), ('tuber_kg', 100.1), ('knife', 8.33), ('dips', 10)]
    """
    found = setts(
        plants=laid,
        sett_g=habit.sett_g,
        tuber_g=habit.tuber_g,
        sprout_rate=SPROUT_RATE,
        footprint_cm2=habit.footprint_cm2,
        bed_width_cm=habit.bed_width_cm,
    )
    kg = found.setts * habit.sett_g / 1000
    dips = ceil_whole(kg / habit.dip_kg)
    changes = ceil_whole(dips / DIPS_A_CHANGE)
    each, tubers, bed = found.working[1:4]

    def one(key: str, label: str, value: float, unit: str, rule: str, *given: Given) -> Link:
        return Link(key, label, value, unit, (Step(label, rule, given, value, unit),))

    return (
        Link("tubers", "Tubers to choose", found.tubers, "tubers", (each, tubers)),
        one("tuber_kg", "They weigh", found.tuber_kg, "kg", "tubers × tuber", Given("tuber", habit.tuber_g, "g")),
        one(
            "knife",
            "Cutting",
            found.setts / habit.an_hour,
            "h",
            "setts ÷ setts an hour",
            computed("setts", found.setts),
            Given("an hour", habit.an_hour),
        ),
        one(
            "dips",
            "Dips",
            dips,
            "dips",
            "setts × sett ÷ kilos a dip, whole",
            computed("kilos", kg, "kg"),
            Given("a dip", habit.dip_kg, "kg"),
        ),
        one(
            "dip_l",
            "Dip, all changes",
            changes * habit.dip_l,
            "L",
            f"litres × dips ÷ {DIPS_A_CHANGE}, whole",
            Given("litres", habit.dip_l, "L"),
        ),
        one(
            "dip_h",
            "In the dip",
            dips * DIP_MIN / 60,
            "h",
            f"dips × {DIP_MIN:g} min, unless the label says otherwise",
            computed("dips", dips),
        ),
        one(
            "dry",
            "Shade to dry in for 24 h",
            found.setts * DRY_CM2 / 10_000,
            "m²",
            f"setts × {DRY_CM2:g} cm²",
            computed("setts", found.setts),
        ),
        Link("bed", "Bed", found.bed_length_m, "m", (bed,)),
        one(
            "lost",
            "Do not sprout",
            max(0.0, found.setts - sprouted),
            "setts",
            "laid - sprouted",
            computed("laid", found.setts),
            computed("sprouted", sprouted),
        ),
        one(
            "ridge",
            "Ridge for those that do",
            sprouted * APART_CM / 100,
            "m",
            f"setts × {APART_CM:g} cm",
            computed("sprouted", sprouted),
        ),
    )
