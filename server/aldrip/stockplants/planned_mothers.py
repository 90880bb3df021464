"""Mothers that a plan asks for and that are not planted yet: they are reckoned with, and somebody is told of them."""

from collections.abc import Iterable
from datetime import date, timedelta
from typing import Any

from django.db.models import QuerySet

from aldrip.accounts.context import Ctx
from aldrip.batches.buying import Use, Wanted
from aldrip.stockplants.models import MotherPlan, MotherStart
from aldrip_core.mother_plan import Raising, gives
from aldrip_core.mother_stock import Habit
from aldrip_core.units import Unit


def raising_of(plan: MotherPlan) -> Raising:
    """What a plan was reckoned with, in core's terms."""
    told: dict[str, Any] = dict(plan.raising)
    habit = told.pop("habit")
    return Raising(
        Habit(tuple(habit["shoots_by_age_weeks"]), habit["first_cut_week"], habit["life_weeks"]),
        **told,
    )


def pace_since(plan: MotherPlan, monday: date) -> tuple[float, ...]:
    """How fast its mothers grow by week from a Monday on, as it was reckoned; nothing where they do not slow."""
    since = (monday - plan.first) // timedelta(weeks=1)
    known = tuple(plan.pace)
    return (*(1.0 for _ in range(-since)), *known) if since < 0 else known[since:]


def unplanted(ctx: Ctx) -> "QuerySet[MotherStart]":
    """Plantings that plans ask for and that do not stand yet, the first on top."""
    rows = ctx.rows(MotherStart).filter(stock=None, plan__dropped_on=None)
    return rows.select_related("plan__crop").order_by("on", "pk")


def to_come(starts: Iterable[MotherStart], first: date, weeks: int) -> dict[str, list[float]]:
    """By crop what planned mothers will give, week by week from the Monday `first`; what is late is planted in that week."""
    found: dict[str, list[float]] = {}
    for one in starts:
        begins = max(0, (one.on - first) // timedelta(weeks=1))
        if begins >= weeks:
            continue
        given = found.setdefault(one.plan.crop.slug, [0.0] * weeks)
        for n, many in enumerate(gives(raising_of(one.plan), weeks - begins, _pace(one, first, begins))):
            given[begins + n] += one.plantlets * float(many)
    return found


def _pace(start: MotherStart, first: date, begins: int) -> tuple[float, ...]:
    return pace_since(start.plan, first + timedelta(weeks=begins))


def to_buy(ctx: Ctx, lead_days: int) -> Iterable[Wanted]:
    """Plantlets of plans that are neither ordered nor planted, for the buying list."""
    found: dict[tuple[str, str, date], float] = {}
    for one in unplanted(ctx).filter(ordered_on=None).select_related("plan__line"):
        key = (one.plan.crop.name, one.plan.line.name if one.plan.line else "", one.on)
        found[key] = found.get(key, 0.0) + one.plantlets
    for (crop, line, on), many in found.items():
        by, use = on - timedelta(days=lead_days), Use(None, many, on, f"mothers of {crop.lower()}")
        yield Wanted(crop, line, "plantlets", many, Unit.PLANT.words, (use,), by, late=by < ctx.today)
