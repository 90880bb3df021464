"""A method tried out before it is kept: what a quantity of it would need, on which days and where, on the house's own ground."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from django.db import transaction

from aldrip.accounts.context import Ctx
from aldrip.base.errors import Refused
from aldrip.base.quantity import read_quantity
from aldrip.batches.ground import Ground
from aldrip.batches.starting import Asked, request_for
from aldrip.methods.models import Crop, Method
from aldrip.methods.resolver import Library
from aldrip.methods.writing import save_form
from aldrip_core.batch_plan import Plan, plan_batch
from aldrip_core.in_time import gives_ahead, in_time
from aldrip_core.problems import sentence, words
from aldrip_core.stage_dates import Anchor
from aldrip_core.stages import Density
from aldrip_core.units import Unit, from_base

USUAL = 1000  # pieces, where nobody says how many
LONGEST_DAYS = 1200


@dataclass(frozen=True)
class Tried:
    """A draft of a method with the plan that it gives."""

    plan: Plan
    problems: tuple[str, ...]


def try_method(
    ctx: Ctx,
    slug: str | None,
    typed: Mapping[str, Any],
    *,
    like: str = "",
    quantity: str = "",
    begin: date | None = None,
) -> Tried:
    """The plan of so much by a method as it is typed, begun on a day; nothing of it is kept. Raises Refused by field."""
    with transaction.atomic():
        made = save_form(ctx, "method", slug, typed, like=like)
        method = Library(ctx).rows(Method).select_related("crop", "container", "mix", "standard").get(slug=made.slug)
        ground = Ground(ctx)
        ground.know_methods([method])
        spec = ground.method(method.pk)
        needed = float(from_base(read_quantity(quantity or str(USUAL), spec.unit, "quantity").base, spec.unit))
        due = ctx.today + timedelta(days=LONGEST_DAYS)
        request = request_for(ground, Asked(method.crop, method, {spec.form: needed}, due, due))
        plan = plan_batch(replace(request, anchor=Anchor(sow=begin or ctx.today)), ground)
        transaction.set_rollback(True)
    return Tried(plan, tuple(words(problem) for problem in plan.problems))


@dataclass(frozen=True)
class School:
    """One of the ways to raise a crop, with the plan of a quantity by it; why not, where it cannot be planned."""

    method: Method
    plan: Plan | None
    problems: tuple[str, ...]


def schools(ctx: Ctx, crop_slug: str, quantity: str = "") -> list[School]:
    """Every way in which the house may raise a crop, begun today, the usual ones first. Raises NotThere, Refused."""
    ground = Ground(ctx)
    Library(ctx).get(Crop, crop_slug)
    due = ctx.today + timedelta(days=LONGEST_DAYS)
    found = []
    for method in ground.methods_of(crop_slug):
        spec = ground.method(method.pk)
        try:
            needed = float(
                from_base(read_quantity(quantity or _usual(spec.unit), spec.unit, "quantity").base, spec.unit)
            )
            request = request_for(ground, Asked(method.crop, method, {spec.form: needed}, due, due))
            plan = plan_batch(replace(request, anchor=Anchor(sow=ctx.today)), ground, working=False)
        except Refused as refused:
            found.append(School(method, None, tuple(one.message for one in refused.errors)))
            continue
        found.append(School(method, plan, (sentence(plan.problems),) if plan.problems else ()))
    return found


def give_of(plan: Plan) -> float:
    """Within how many days of its day a plan is ready, nine times in ten; 0 where its method does not say."""
    method = plan.request.method
    dates = {stage.spec.key: stage.dates for stage in plan.stages}
    sure = in_time(ready=plan.ready_on, last_day=None, gives=gives_ahead(method, dates))
    return sure.give_days if sure else 0.0


def _usual(of: Unit) -> str:
    return str(USUAL) if of.is_pieces else f"100 {of.words}"


def tried_out(tried: Tried, names: Mapping[int, str]) -> dict[str, Any]:
    """A draft's plan as its ladder shows it."""
    plan = tried.plan
    method, found = plan.request.method, plan.quantities
    return {
        "needed": found.needed,
        "unit": method.unit.words,
        "start": found.start,
        "start_unit": method.start_unit.words,
        "trays": found.trays,
        "container": plan.request.container.name if plan.request.container else "",
        "seed_g": found.seed_g,
        "chance": found.chance,
        "days": (plan.ready_on - plan.sow_on).days,
        "give_days": give_of(plan),
        "begin": plan.sow_on,
        "ready": plan.ready_on,
        "problems": list(tried.problems),
        "rungs": [
            {
                "key": stage.spec.key,
                "name": stage.spec.name,
                "after": stage.spec.after or "",
                "start": stage.dates.start,
                "end": stage.dates.end,
                "into": stage.into,
                "out": stage.out,
                "unit": stage.spec.unit.words,
                "place": names.get(stage.place or 0, "") if isinstance(stage.place, int) else "",
                "place_kind": stage.spec.place_kind,
                "amount": stage.amount,
                "amount_unit": "trays" if stage.spec.density is Density.TRAY else "m²",
            }
            for stage in plan.stages
        ],
    }
