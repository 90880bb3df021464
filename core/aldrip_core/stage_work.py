"""What it takes to pot, prick out or space so many plants: pots, mix, ground and hours, each from the one before."""

from aldrip_core.refusal import refuse
from aldrip_core.sowing_chain import Link
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, computed

#: Stages that are work at the bench with a card of their own, beside every one that sets plants into something new.
AT_THE_BENCH = frozenset({"prick", "thin", "pot", "space"})
BAG_L = 70.0  # of mix, as it is mostly sold; common practice, no source


def stage_work(
    *,
    plants: float,
    cells: int | None = None,
    cell_ml: float = 0.0,
    extra: float = 0.0,
    ground_m2: float | None = None,
    minutes: float = 0.0,
) -> tuple[Link, ...]:
    """Figures of a stage in which `plants` are set; what is not known is left out.

    cells: plants each new container takes, None where they stay in what they stand in; cell_ml: mix a plant; extra: share
    of it that settles and is spilt [0-1]; ground_m2: each takes; minutes: of all its planned work. Raises Refused.
    Source: arithmetic.

    >>> [(one.key, round(one.value, 2)) for one in stage_work(plants=1000, cells=1, cell_ml=500, extra=0.1, minutes=250)]
    [('plants', 1000), ('pieces', 1000), ('litres', 550.0), ('bags', 8), ('hours', 4.17), ('an_hour', 240.0)]
    """
    if plants <= 0:
        raise refuse("plants", "nothing", "Nothing comes into this stage.")
    found = [Link("plants", "Plants", plants, "", (Step("Plants", "what the stage before it gives", (), plants),))]
    if cells:
        pieces = ceil_whole(plants / cells)
        given = (computed("plants", plants), Given("in each", cells))
        found.append(
            Link("pieces", "Pots or trays", pieces, "", (Step("Pots or trays", "plants ÷ in each, up", given, pieces),))
        )
    if cells and cell_ml:
        litres = plants * cell_ml / 1000 * (1 + extra)
        mix = (
            computed("plants", plants),
            Given("mix each", cell_ml, "ml"),
            Given("settles and is spilt", extra, "share"),
        )
        found.append(
            Link(
                "litres",
                "Mix",
                litres,
                "L",
                (Step("Mix", "plants × mix × (1 + settles and is spilt)", mix, litres, "L"),),
            )
        )
        bags = ceil_whole(litres / BAG_L)
        step = Step("Bags", "mix ÷ litres of a bag, up", (computed("mix", litres, "L"), Given("bag", BAG_L, "L")), bags)
        found.append(Link("bags", f"Bags of {BAG_L:g} L", bags, "", (step,)))
    if ground_m2:
        ground = plants * ground_m2
        both = (computed("plants", plants), Given("ground each", ground_m2, "m²"))
        found.append(Link("m2", "Ground", ground, "m²", (Step("Ground", "plants × ground each", both, ground, "m²"),)))
        step = Step(
            "A square metre", "1 ÷ ground each", (Given("ground each", ground_m2, "m²"),), 1 / ground_m2, "a m²"
        )
        found.append(Link("a_m2", "A square metre holds", 1 / ground_m2, "plants", (step,)))
    if minutes:
        hours = minutes / 60
        found.append(Link("hours", "Work", hours, "h", (Step("Work", "planned minutes ÷ 60", (), hours, "h"),)))
        step = Step("An hour", "plants ÷ hours", (computed("hours", hours, "h"),), plants / hours)
        found.append(Link("an_hour", "Planned an hour", plants / hours, "", (step,)))
    return tuple(found)
