"""The working of every figure on the ladder of a batch, step by step."""

from datetime import date
from typing import Any

from aldrip.base.schemas import steps
from aldrip.batches.forecasting import Group
from aldrip.batches.resowing import Offer
from aldrip_core.batch_plan import Plan
from aldrip_core.stages import StageSpec
from aldrip_core.working import Given, Origin, Step, computed


def workings(plan: Plan, group: Group | None, offer: Offer | None) -> dict[str, list[dict[str, Any]]]:
    """The working of every figure on the ladder, by the key of its rung."""
    found = {"start": steps(plan.quantities.working)}
    for key, label in (("trays", "Trays"), ("seeds", "Seeds"), ("seed_g", "Seed by weight")):
        found[key] = [s for s in found["start"] if s["label"] in ("Start", label)]
    for stage in plan.stages:
        rate = stage.rate
        of = stage.spec.unit.words
        given = (
            computed("into", stage.into, of),
            Given("kept", rate.spread.mean, "share", rate.origin, rate.source),
            Given("spread", rate.spread.sd, "share", rate.origin, rate.source),
            *_multiplied(stage.spec, rate.multiply),
        )
        own = [
            Step(f"Out of “{stage.spec.name}”", "what enters × what is kept", given, stage.out, of),
            Step("Needed here", "what the next stage needs ÷ what it keeps, rounded up", (), stage.needed, of),
            _dates_step(stage.spec, stage.dates.start, stage.dates.end),
        ]
        found[f"stage:{stage.spec.key}"] = steps(tuple(own))
    if group is not None:
        found["chance"] = steps(group.result.working)
    if offer is not None:
        found["offer"] = steps(offer.amount.working)
    return found


def _multiplied(spec: StageSpec, multiply: float) -> tuple[Given, ...]:
    """How many come of one, and that its block gives more or less than the method reckons with."""
    usual = spec.factor.mean
    if multiply == usual:
        return () if usual == 1 else (Given("come of one", usual, spec.unit.words, Origin.LIBRARY),)
    share = f"{multiply / usual:.0%}".replace("%", " %")
    told = f"its block gives {share} of the method’s {usual:g}"
    return (Given("come of one", multiply, spec.unit.words, Origin.COMPUTED, told),)


def _dates_step(definition: Any, start: date, end: date) -> Step:
    duration = definition.duration
    given: tuple[Given, ...]
    if duration.heat_sum_c_d is not None:
        given = (
            Given("heat sum", duration.heat_sum_c_d, "°C·d", Origin.LIBRARY),
            Given("base", duration.base_c, "°C", Origin.LIBRARY),
        )
        words = "days until the heat sum is gathered at its place, then the next working day"
    elif duration.by_month:
        month = start.month - 1
        given = (Given(f"lasts in {start:%B}", duration.by_month[month], "d", Origin.LIBRARY),)
        words = "each day gives its share of what the stage lasts in that season, then the next working day"
    elif duration.paced:
        given = (Given("duration in warmth and light", duration.days, "d", Origin.LIBRARY),)
        if duration.full_c is not None:
            given += (
                Given("holds at", duration.full_c, "°C", Origin.LIBRARY),
                Given("base", duration.base_c, "°C", Origin.LIBRARY),
            )
        if duration.half_light_mol is not None:
            given += (Given("half its pace in", duration.half_light_mol, "mol/m² a day", Origin.LIBRARY),)
        words = "each day gives its share of the duration, less in the cold and in little light; a model"
    else:
        given = (Given("duration", duration.days, "d", Origin.LIBRARY),)
        words = "fixed days, then the next working day"
    return Step("Days it stands", words, given, (end - start).days, "d")
