"""A succession tried out: when to sow for an even harvest, and what sowing at equal intervals would give."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from itertools import pairwise
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_count
from aldrip.base.schemas import steps
from aldrip.base.words import day, plural
from aldrip.batches.ground import Ground
from aldrip.batches.starting import asked_in_words, read_days, read_promise, request_for, take_place
from aldrip_core.batch_plan import Plan, Request, plan_batch
from aldrip_core.problems import words
from aldrip_core.refusal import Refused
from aldrip_core.stage_dates import Anchor
from aldrip_core.succession import Evenness, at_equal_intervals, evenness, harvest_days
from aldrip_core.working import Given, Origin, Step, computed

MOST_WEEKS = 26
MOST_SOWINGS = 60  # planned one after the other, each on the ground that the others leave


@dataclass(frozen=True)
class Tried:
    """Harvest days with the plan of each, and the days on which as many sowings at equal intervals would be ready."""

    plans: tuple[tuple[date, Plan], ...]
    habit: tuple[tuple[date, date], ...]  # sown, ready
    each: float
    every_weeks: int
    window_days: int  # from the first to the last day on which a harvest may be handed over
    unit: str

    def late_days(self, wanted: date, plan: Plan) -> int:
        """By how many days a plan is ready after its harvest could last be handed over."""
        return max(0, (plan.ready_on - wanted).days - self.window_days)

    @property
    def even(self) -> Evenness | None:
        return evenness(plan.ready_on for _, plan in self.plans)

    @property
    def by_habit(self) -> Evenness | None:
        return evenness(ready for _, ready in self.habit)


def tried(
    ctx: Ctx, *, crop_id: int, line_id: int | None, form: str, quantity: str, first: str, last: str, every_weeks: str
) -> Tried:
    """Plan every harvest of a succession backwards, and as many equal intervals forwards. Raises Refused; saves nothing."""
    each = read_promise(ctx, crop_id, form, quantity)
    weeks = _weeks(every_weeks)
    window, until = (read_days(ctx, text, name) for text, name in ((first, "first"), (last, "last")))
    begins, wide = window.start, window.last - window.start
    if begins <= ctx.today:
        raise refuse("first", "past", f"{day(begins, year=True)} is over. Begin with a day to come.")
    if until.last < begins:
        told = f"The last harvest, {day(until.last)}, lies before the first, {day(begins)}."
        raise refuse("last", "out_of_range", told)
    days = harvest_days(begins, until.last, 7 * weeks)
    if len(days) > MOST_SOWINGS:
        raise refuse(
            "every_weeks",
            "too_many",
            f"{len(days)} harvests are more than the {MOST_SOWINGS} planned at once. Ask for a shorter season or rarer harvests.",
        )
    ground = Ground(ctx)
    _, asked = asked_in_words(ctx, ground, crop_id, line_id, form, each, begins, window.last)
    request = request_for(ground, asked)
    plans = []
    for one in days:
        anchor = Anchor(ready=ground.ready_day(one, one + wide))  # with the days in hand that its order would get
        plan = plan_batch(replace(request, anchor=anchor, leaves=(one, one)), ground, working=False)
        take_place(ground, plan)
        plans.append((one, plan))
    sown = at_equal_intervals(plans[0][1].sow_on, plans[-1][1].sow_on, len(plans))
    habit = _forwards(Ground(ctx), request, sown)
    return Tried(tuple(plans), habit, asked.needs[form], weeks, wide.days, asked.method.unit)


def _weeks(text: str) -> int:
    weeks = read_count(text, "every_weeks", "weeks")
    if not 1 <= weeks <= MOST_WEEKS:
        told = f"Every {weeks:,} weeks cannot be; every 1 to {MOST_WEEKS} whole weeks."
        raise refuse("every_weeks", "out_of_range", told)
    return weeks


def _forwards(ground: Ground, request: Request, sown: Sequence[date]) -> tuple[tuple[date, date], ...]:
    found = []
    for one in sown:
        try:
            plan = plan_batch(replace(request, anchor=Anchor(sow=one), leaves=None), ground, working=False)
        except Refused:  # a day on which this cannot be begun: the habit loses it
            continue
        found.append((plan.sow_on, plan.ready_on))
    return tuple(found)


def out(found: Tried) -> dict[str, Any]:
    """A succession as the screen shows it."""
    method = found.plans[0][1].request.method
    even, habit = (
        Counter(_monday(one) for one in ready)
        for ready in (
            [plan.ready_on for _, plan in found.plans],
            [ready for _, ready in found.habit],
        )
    )
    begin, end = min((*even, *habit)), max((*even, *habit))
    mondays = [begin + timedelta(days=7 * n) for n in range((end - begin).days // 7 + 1)]
    seed = [plan.quantities.seed_g for _, plan in found.plans]
    return {
        "sentence": _sentence(found),
        "unit": found.unit,
        "each": found.each,
        "every_weeks": found.every_weeks,
        "start_unit": method.start_unit.words,
        "sowings": [
            {
                "harvest": wanted,
                "sow_on": plan.sow_on,
                "ready_on": plan.ready_on,
                "start": plan.quantities.start,
                "trays": plan.quantities.trays,
                "seed_g": plan.quantities.seed_g,
                "late_days": found.late_days(wanted, plan),
                "problems": [words(one) for one in plan.problems],
            }
            for wanted, plan in found.plans
        ],
        "habit": [sown for sown, _ in found.habit],
        "weeks": [{"monday": one, "even": even[one] * found.each, "habit": habit[one] * found.each} for one in mondays],
        "even": found.even,
        "by_habit": found.by_habit,
        "seed_g": sum(one for one in seed if one is not None) if any(one is not None for one in seed) else None,
        "working": steps(_working(found)),
    }


def _monday(day: date) -> date:
    return day - timedelta(days=day.weekday())


def _sentence(found: Tried) -> str:
    first, last = found.plans[0][1].sow_on, found.plans[-1][1].sow_on
    many = plural(len(found.plans), "sowing")
    told = f"{many} from {day(first)} to {day(last)}." if len(found.plans) > 1 else f"One sowing, on {day(first)}."
    late = sum(1 for wanted, plan in found.plans if found.late_days(wanted, plan))
    if late:
        told += f" {late} of them {'is' if late == 1 else 'are'} ready too late: it is too late to sow for {'it' if late == 1 else 'them'}."
    if found.even and found.by_habit:
        told += (
            f" Between two harvests lie {_between(found.even)}; sown at equal intervals, {_between(found.by_habit)}."
        )
    return told


def _between(one: Evenness) -> str:
    longest = plural(one.longest, "day")
    return longest if one.shortest == one.longest else f"{one.shortest} to {longest}"


def _working(found: Tried) -> tuple[Step, ...]:
    sown = [plan.sow_on for _, plan in found.plans]
    gaps = [(b - a).days for a, b in pairwise(sown)]
    given = (
        Given("harvests", len(found.plans)),
        Given("weeks between two", found.every_weeks),
        Given("of each", found.each, found.unit),
    )
    steps_ = [
        Step(
            "Sowings",
            "each harvest planned backwards through its stages, in the warmth of its places",
            given,
            len(sown),
            "sowings",
        )
    ]
    if gaps:
        between = (computed("shortest", min(gaps), "d"), computed("longest", max(gaps), "d"))
        steps_.append(
            Step(
                "Days between two sowings",
                "they shrink where growth slows down",
                between,
                f"{min(gaps)} to {max(gaps)}",
                "d",
            )
        )
    if found.habit:
        spread = found.by_habit.spread_days if found.by_habit else None
        sowings = (Given("sowings", len(found.habit), "", Origin.COMPUTED),)
        steps_.append(
            Step(
                "At equal intervals",
                "as many, from the first to the last, planned forwards",
                sowings,
                spread,
                "days of spread",
            )
        )
    return tuple(steps_)
