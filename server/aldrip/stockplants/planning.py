"""Plans of mothers: how many plantlets when for what is wanted; kept, ordered, planted or given up."""

import uuid
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import date, timedelta
from typing import Any

import numpy as np
from django.db.models import QuerySet

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import day, number, plural
from aldrip.methods.models import Crop, Line
from aldrip.places.climate import climate_of
from aldrip.places.models import Place
from aldrip.stockplants.models import MotherPlan, MotherStart
from aldrip.stockplants.outlook import outlooks, standing, wanted_by_week
from aldrip.stockplants.planned_mothers import raising_of, to_come, unplanted
from aldrip.stockplants.services import habit_of, stand_of
from aldrip_core.mother_plan import PlanWeek, Raising, beside, planned, replay
from aldrip_core.mother_plants import LONGEST
from aldrip_core.mother_stock import given_by_week
from aldrip_core.shoot_pace import pace_by_week
from aldrip_core.working import Working

MOST_A_WEEK = 10_000_000.0


@dataclass(frozen=True)
class Asked:
    """What a plan is asked for: ready cuttings by week from a day on, and whether what batches lack is among them."""

    crop_id: Ref
    raising: Raising
    line_id: Ref | None = None
    many: tuple[float, ...] = ()
    from_on: date | None = None
    for_batches: bool = False
    count_standing: bool = True  # what mothers that stand give beyond what batches stick serves first
    place_id: Ref | None = None  # where they will stand, when they slow in its cold and short days


@dataclass(frozen=True)
class Draft:
    """A plan that is not kept: its plantings by Monday, week by week what follows, and what there is to say."""

    first: date
    demand: tuple[float, ...]
    starts: dict[date, int]
    weeks: tuple[PlanWeek, ...]
    warnings: tuple[str, ...] = ()
    working: Working = ()
    served: tuple[float, ...] = ()  # rooted cuttings by week that mothers which stand, or are planned, serve
    place: Place | None = None
    pace: tuple[float, ...] = ()  # how fast mothers grow there by week


def monday_of(on: date) -> date:
    """The Monday of its week."""
    return on - timedelta(days=on.weekday())


def demand_of(ctx: Ctx, asked: Asked, crop: Crop) -> tuple[float, ...]:
    """Ready cuttings wanted by week from this Monday on, without reserve. Raises Refused."""
    first, found = monday_of(ctx.today), np.zeros(0)
    if any(not 0 <= one <= MOST_A_WEEK for one in asked.many):
        raise refuse("many", "out_of_range", f"Rooted cuttings a week: 0 to {MOST_A_WEEK:,.0f}.")
    if any(asked.many):
        if asked.from_on is None:
            raise refuse("from_on", "missing", "From which week are they wanted?")
        begins = (monday_of(asked.from_on) - first).days // 7
        if begins < 0:
            raise refuse("from_on", "past", f"{day(asked.from_on, year=True)} is over. Name a week that is to come.")
        found = _with(found, begins, asked.many)
    if asked.for_batches:
        own = [one.outlook.short for one in outlooks(ctx, list(standing(ctx))) if one.crop == crop.name]
        short = own[0] if own else wanted_by_week(ctx, crop.slug)  # nothing stands yet: they lack all of it
        if any(short):
            last = max(week for week, many in enumerate(short) if many > 0)
            found = _with(found, 0, asked.raising.ready_of(short[: last + 1]))
    if len(found) > LONGEST:
        raise refuse("from_on", "too_late", f"Wanted {len(found)} weeks from now; a plan goes over {LONGEST} at most.")
    if not found.any():
        told = "Nothing is wanted yet: say how many rooted cuttings a week, and from when."
        raise refuse("many", "missing", told)
    return tuple(found.tolist())


def _with(found: Any, begins: int, many: Sequence[float]) -> Any:
    long = np.zeros(max(len(found), begins + len(many)))
    long[: len(found)] = found
    long[begins : begins + len(many)] += many
    return long


def draft(ctx: Ctx, asked: Asked, starts: Mapping[date, int] | None = None) -> Draft:
    """The fewest plantlets for what is wanted, or what follows from plantings that somebody chose. Nothing is kept."""
    crop = ctx.get(Crop, asked.crop_id, shared=True)
    first, demand, served = monday_of(ctx.today), demand_of(ctx, asked, crop), tuple[float, ...]()
    if asked.count_standing and any(asked.many):
        demand, served = beside(asked.raising, demand, _left(ctx, asked, crop, len(demand)))
    place = ctx.get(Place, asked.place_id) if asked.place_id else None
    # Its mothers stand on when its last week is over.
    weeks_on = len(demand) + asked.raising.habit.life_weeks
    pace = () if place is None else pace_by_week(climate_of(place), first, weeks_on)
    if not any(demand):
        return Draft(first, demand, {}, replay(asked.raising, demand, {}), served=served)
    if starts is None:
        found = planned(asked.raising, demand, pace)
        chosen = {first + timedelta(weeks=one.week): one.plantlets for one in found.starts}
        weeks = replay(asked.raising, demand, {one.week: float(one.plantlets) for one in found.starts}, pace)
        short = round(sum(one.short for one in weeks))
        told = tuple(one.message for one in found.warnings if short or one.code != "unmet")
        return Draft(first, demand, chosen, weeks, told, found.working, served, place, pace)
    chosen = {}
    for on, many in starts.items():
        if many:
            chosen[monday_of(on)] = chosen.get(monday_of(on), 0) + many
    by_week = {(on - first).days // 7: float(many) for on, many in chosen.items()}
    weeks = replay(asked.raising, demand, by_week, pace)
    return Draft(first, demand, dict(sorted(chosen.items())), weeks, served=served, place=place, pace=pace)


def _left(ctx: Ctx, asked: Asked, crop: Crop, weeks: int) -> list[float]:
    """Cuttings by week that mothers of a crop give, or will give as planned, beyond what batches are begun with."""
    first = monday_of(ctx.today)
    stocks = standing(ctx).filter(lot__crop__slug=crop.slug)
    starts = unplanted(ctx).filter(plan__crop__slug=crop.slug)
    if asked.line_id:
        line = ctx.get(Line, asked.line_id, shared=True)
        stocks, starts = stocks.filter(lot__line__slug=line.slug), starts.filter(plan__line__slug=line.slug)
    given = np.array(given_by_week([stand_of(one) for one in stocks], first=first, weeks=weeks))
    given += np.array(to_come(starts, first, weeks).get(crop.slug, [0.0] * weeks))
    for one in outlooks(ctx, list(standing(ctx))):
        if one.crop == crop.name:
            known = min(weeks, len(one.outlook.wanted))
            given[:known] -= np.array(one.outlook.wanted[:known])
            given[0] = min(given[0], one.outlook.given[0] - one.outlook.wanted[0])  # some of this week is cut already
    for plan in plans(ctx, crop.slug):
        # What plans stick for is spoken for too, of their own mothers and of those that stand.
        raising, offset = raising_of(plan), (plan.first - first).days // 7
        stuck = [(one.week, one.stuck) for one in weeks_of(plan)]
        stuck += [
            (n - raising.later, many * (1 + raising.reserve) / raising.kept) for n, many in enumerate(plan.served)
        ]
        for week, many in stuck:
            if 0 <= week + offset < weeks:
                given[week + offset] -= many
    return [max(0.0, float(one)) for one in given]


def sentence_of(made: Draft) -> str:
    """What a draft comes to, in a sentence."""
    plantlets, short = sum(made.starts.values()), sum(one.short for one in made.weeks)
    stands = f"Mothers that stand or are planned serve {number(sum(made.served))}. " if round(sum(made.served)) else ""
    if not any(made.demand):
        return f"{stands}Nothing is left to plan for."
    return stands + _planted_words(made, plantlets, short)


def _planted_words(made: Draft, plantlets: int, short: float) -> str:
    if not plantlets:
        return "No planting helps: what is wanted is wanted sooner than a mother that is planted now gives."
    week = min(made.starts).isocalendar()
    many = f"{plural(plantlets, 'plantlet')} in {plural(len(made.starts), 'planting')}, the first in week {week.week} of {week.year}"
    wasted = sum(one.wasted for one in made.weeks)
    over = f" {number(wasted)} cuttings are for nobody." if round(wasted) else ""
    if short:
        told = plural(sum(one.short > 0 for one in made.weeks), "week")
        return f"{many}: {number(short)} of {number(sum(one.wanted for one in made.weeks))} are short, in {told}.{over}"
    return f"{many}: every week has what is wanted, {number(sum(one.wanted for one in made.weeks))} in all.{over}"


@act
def keep(
    ctx: Ctx, asked: Asked, starts: Mapping[date, int] | None, client_uuid: uuid.UUID, note: str = ""
) -> MotherPlan:
    """Keep a plan: the fewest plantlets, or the plantings that somebody chose."""
    done = ctx.rows(MotherPlan).filter(uuid=client_uuid).first()
    if done is not None:
        return done
    made = draft(ctx, asked, starts)
    if not made.starts:
        raise refuse("starts", "missing", sentence_of(made))
    crop = ctx.get(Crop, asked.crop_id, shared=True)
    line = ctx.get(Line, asked.line_id, shared=True) if asked.line_id else None
    if line is not None and line.crop.slug != crop.slug:
        raise refuse(
            "line_id", "other_crop", f"{line.name} is not {crop.name.lower()}. Choose a cultivar of that crop."
        )
    plan = MotherPlan.objects.create(
        uuid=client_uuid,
        organisation=ctx.organisation,
        crop=crop,
        line=line,
        first=made.first,
        demand=list(made.demand),
        served=list(made.served),
        raising=asdict(asked.raising),
        place=made.place,
        pace=list(made.pace),
        note=note.strip()[:300],
    )
    MotherStart.objects.bulk_create(
        MotherStart(organisation=ctx.organisation, plan=plan, on=on, plantlets=many) for on, many in made.starts.items()
    )
    told = f"Planned mothers of {crop.name.lower()}: {plural(sum(made.starts.values()), 'plantlet')} in {plural(len(made.starts), 'planting')}."
    ctx.record("mothers.plan", told, plan)
    return plan


@act
def ordered(ctx: Ctx, start_id: Ref, *, from_whom: str, on: date | None) -> MotherStart:
    """The plantlets of a planting are ordered; without a day they are not, after all."""
    start = ctx.get(MotherStart, start_id, lock=True)
    if on is not None and on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come.")
    if start.stock_id is not None:
        raise refuse("start_id", "planted", "This planting stands already.")
    start.ordered_on, start.ordered_from = on, from_whom.strip()[:120] if on else ""
    start.save(update_fields=["ordered_on", "ordered_from"])
    name = f"{plural(start.plantlets, 'plantlet')} of {start.plan.crop.name.lower()} for {day(start.on)}"
    whom = f" from {start.ordered_from}" if start.ordered_from else ""
    ctx.record("mothers.ordered", f"Ordered {name}{whom}." if on else f"Not ordered after all: {name}.", start.plan)
    return start


@act
def drop(ctx: Ctx, plan_id: Ref) -> MotherPlan:
    """A plan is given up: what was planted of it stands, the rest is asked for no more."""
    plan = ctx.get(MotherPlan, plan_id, lock=True)
    if plan.dropped_on is None:
        plan.dropped_on = ctx.today
        plan.save(update_fields=["dropped_on"])
        ctx.record("mothers.drop", f"Gave up the plan for mothers of {plan.crop.name.lower()}.", plan)
    return plan


def plans(ctx: Ctx, crop: str = "") -> list[MotherPlan]:
    """Plans of a crop, or all, that were not given up and are not over, the newest on top, with their plantings."""
    rows = all_plans(ctx).filter(dropped_on=None, **({"crop__slug": crop} if crop else {}))
    return [one for one in rows if not _over(ctx, one)]


def _over(ctx: Ctx, plan: MotherPlan) -> bool:
    """Whether its last week is past, and it asks for no planting any more."""
    ends = plan.first + timedelta(weeks=len(plan.demand))
    return ends <= ctx.today and all(one.stock_id is not None for one in plan.starts.all())


def all_plans(ctx: Ctx) -> "QuerySet[MotherPlan]":
    """Every plan there was, with its plantings."""
    rows = ctx.rows(MotherPlan).select_related("crop", "line", "place")
    return rows.prefetch_related("starts__stock__lot").order_by("-first", "-pk")


def weeks_of(plan: MotherPlan) -> tuple[PlanWeek, ...]:
    """A kept plan, week by week, as it was reckoned."""
    starts = {(one.on - plan.first).days // 7: float(one.plantlets) for one in _within(plan)}
    return replay(raising_of(plan), plan.demand, starts, plan.pace)


def _within(plan: MotherPlan) -> Iterable[MotherStart]:
    return [one for one in plan.starts.all() if 0 <= (one.on - plan.first).days // 7 < len(plan.demand)]


def place_like(ctx: Ctx, crop: Crop) -> int | None:
    """Where mothers of a crop slow, as the newest plan or planting of them says; nothing where they do not."""
    plan = ctx.rows(MotherPlan).filter(crop__slug=crop.slug).order_by("-pk").first()
    if plan is not None:
        return plan.place_id
    stock = standing(ctx).filter(lot__crop__slug=crop.slug).first()
    return stock.place_id if stock is not None and stock.slows else None


def raising_like(ctx: Ctx, crop: Crop, usual: Raising) -> Raising:
    """How mothers of a crop are raised, as the newest plan or planting of them says; else as usual."""
    plan = ctx.rows(MotherPlan).filter(crop__slug=crop.slug).order_by("-pk").first()
    if plan is not None:
        return raising_of(plan)
    stock = standing(ctx).filter(lot__crop__slug=crop.slug).first()
    if stock is None:
        return usual
    return replace(usual, habit=habit_of(stock))
