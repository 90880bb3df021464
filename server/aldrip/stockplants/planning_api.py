"""Plans of mothers: reckoned, by hand beside it, kept, ordered, given up."""

import re
from datetime import date, timedelta
from typing import Any
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_found, read_measure
from aldrip.base.schemas import StepOut, steps
from aldrip.base.words import day, plural
from aldrip.methods.models import Crop
from aldrip.stockplants import planning
from aldrip.stockplants.models import MotherPlan, MotherStart
from aldrip.stockplants.planned_mothers import raising_of
from aldrip.stockplants.services import read_habit
from aldrip_core.mother_plan import USUAL, PlanWeek, Raising
from aldrip_core.mother_stock import Habit

room = Room("stockplants")
MOST_WEEKS = 520


class StartIn(Schema):
    on: date
    plantlets: str = Field(max_length=20)


#: What is a whole number of a raising.
WHOLE = ("submother_cuts", "submother_generations", "rooting_weeks", "hardening_weeks", "hold_weeks")


class MotherPlanIn(Schema):
    """As typed. `many`: one number for each of `weeks`, or a number for every week: “2000 4000 6000”."""

    crop_id: Ref
    line_id: Ref | None = None
    many: str = Field("", max_length=4000)
    from_on: date | None = None
    weeks: int = 1
    for_batches: bool = False
    count_standing: bool = True
    shoots: str = Field("1, 15 %, 6", max_length=4000)
    first_cut_week: int = 4
    life_weeks: int = 35
    submother_cuts: int = 0
    submother_generations: int = 1
    rooting_weeks: int = 3
    rooting_percent: str = Field("90", max_length=20)
    hardening_weeks: int = 2
    hardening_percent: str = Field("95", max_length=20)
    hold_weeks: int = 1
    reserve_percent: str = Field("10", max_length=20)
    place_id: Ref | None = None  # they slow in its cold and on its short days; nothing: they do not slow
    starts: list[StartIn] | None = Field(None, max_length=MOST_WEEKS)

    def asked(self) -> planning.Asked:
        """In the words of the services. Raises Refused."""
        raising = Raising(
            read_habit(self.shoots, self.first_cut_week, self.life_weeks),
            self.submother_cuts,
            self.rooting_weeks,
            _share(self.rooting_percent, "rooting_percent"),
            self.hardening_weeks,
            _share(self.hardening_percent, "hardening_percent"),
            0 if self.for_batches else self.hold_weeks,  # what a batch sticks cannot have waited
            _share(self.reserve_percent, "reserve_percent", least=0.0, most=2.0),
            self.submother_generations,
        )
        return planning.Asked(
            self.crop_id,
            raising,
            self.line_id,
            self._many(),
            self.from_on,
            self.for_batches,
            self.count_standing,
            self.place_id,
        )

    def _many(self) -> tuple[float, ...]:
        found = [float(read_found(one, "many")) for one in re.split(r"[\s;]+", self.many.strip()) if one]
        if not 1 <= self.weeks <= MOST_WEEKS:
            raise refuse("weeks", "out_of_range", f"For 1 to {MOST_WEEKS} weeks.")
        if len(found) > MOST_WEEKS:
            raise refuse("many", "too_many", f"{len(found)} weeks are more than the {MOST_WEEKS} planned at once.")
        return tuple(found * self.weeks if len(found) == 1 else found)

    def by_hand(self) -> dict[date, int] | None:
        """The plantings that somebody chose, where somebody did."""
        if self.starts is None:
            return None
        found: dict[date, int] = {}
        for n, one in enumerate(self.starts):
            found[one.on] = found.get(one.on, 0) + read_found(one.plantlets, f"starts.{n}.plantlets")
        return found


def _share(text: str, name: str, least: float = 1e-6, most: float = 1.0) -> float:
    """A percentage as typed, with or without its sign, as a share. Raises Refused."""
    found = read_measure(text.strip().rstrip("%") or "0", "", name) / 100
    if not least <= found <= most:
        raise refuse(name, "out_of_range", f"{max(0, round(least * 100))} to {most * 100:g} %.")
    return found


class PlanWeekOut(Schema):
    """`raised`, `rooted`: mothers from plantlets and from first cuts; cuttings: `to_mothers`, `stuck`, `wasted`; rooted ones: `wanted`, `ready`, `short`."""

    week: int
    raised: float
    rooted: float
    to_mothers: float
    stuck: float
    wasted: float
    wanted: float
    ready: float
    short: float


class DraftStartOut(Schema):
    on: date
    plantlets: int


class MotherDraftOut(Schema):
    first: date
    sentence: str
    starts: list[DraftStartOut]
    weeks: list[PlanWeekOut]
    warnings: list[str]
    working: list[StepOut]


class MotherStartOut(Schema):
    id: int
    on: date
    plantlets: int
    ordered_on: date | None
    ordered_from: str
    stock: str
    stock_uuid: UUID | None
    late: bool
    sentence: str


class MotherPlanOut(Schema):
    id: int
    uuid: UUID
    crop: str
    crop_id: int
    line: str
    line_id: int | None
    first: date
    note: str
    sentence: str
    raising: str
    shoots: str
    first_cut_week: int
    life_weeks: int
    place_id: int | None
    starts: list[MotherStartOut]
    weeks: list[PlanWeekOut]


class RaisingOut(Schema):
    """How mothers of a crop are raised where nobody says otherwise, as it is typed; and what batches lack of them."""

    shoots: str
    first_cut_week: int
    life_weeks: int
    submother_cuts: int
    submother_generations: int
    rooting_weeks: int
    rooting_percent: str
    hardening_weeks: int
    hardening_percent: str
    hold_weeks: int
    reserve_percent: str
    place_id: int | None


def _weeks(found: tuple[PlanWeek, ...]) -> list[dict[str, Any]]:
    return [{name: getattr(one, name) for name in PlanWeekOut.model_fields} for one in found]


def shoots_words(habit: Habit) -> str:
    """How a mother gives, as it is typed: week by week from the first cut."""
    own = habit.shoots_by_age_weeks[habit.first_cut_week :]
    return " ".join(f"{one:.4g}" for one in own)


def start_out(ctx: Ctx, one: MotherStart) -> dict[str, Any]:
    late = one.stock is None and one.on + timedelta(days=7) <= ctx.today
    whom = f" from {one.ordered_from}" if one.ordered_from else ""
    told = (
        f"Planted on {day(one.stock.planted_on)}, {plural(one.stock.planted, 'mother')}."
        if one.stock is not None
        else f"Ordered{whom} on {day(one.ordered_on)}."
        if one.ordered_on is not None
        else "Not ordered yet."
    )
    return {
        **{name: getattr(one, name) for name in ("id", "on", "plantlets", "ordered_on", "ordered_from")},
        "stock": one.stock.lot.code if one.stock else "",
        "stock_uuid": one.stock.uuid if one.stock else None,
        "late": late,
        "sentence": f"Late: {told[0].lower()}{told[1:]}" if late else told,
    }


def plan_out(ctx: Ctx, plan: MotherPlan) -> dict[str, Any]:
    starts = list(plan.starts.all())
    weeks, raising = planning.weeks_of(plan), raising_of(plan)
    made = planning.Draft(
        plan.first, tuple(plan.demand), {one.on: one.plantlets for one in starts}, weeks, served=tuple(plan.served)
    )
    told = [
        f"rooted in {plural(raising.rooting_weeks, 'week')} ({raising.rooting_rate:.0%})",
        f"hardened in {raising.hardening_weeks} ({raising.hardening_rate:.0%})",
        f"{raising.reserve:.0%} above what is wanted",
    ]
    if raising.submother_cuts:
        over = f", over {raising.submother_generations} generations" if raising.submother_generations > 1 else ""
        told.append(f"the first {plural(raising.submother_cuts, 'cut')} become mothers{over}")
    if plan.place is not None:
        told.append(f"slower in the cold and on the short days of {plan.place.name}")
    return {
        "id": plan.pk,
        "uuid": plan.uuid,
        "crop": plan.crop.name,
        "crop_id": plan.crop_id,
        "line": plan.line.name if plan.line else "",
        "line_id": plan.line_id,
        "first": plan.first,
        "note": plan.note,
        "sentence": planning.sentence_of(made),
        "raising": ", ".join(told),
        "shoots": shoots_words(raising.habit),
        "first_cut_week": raising.habit.first_cut_week,
        "life_weeks": raising.habit.life_weeks,
        "place_id": plan.place_id,
        "starts": [start_out(ctx, one) for one in starts],
        "weeks": _weeks(weeks),
    }


@room.get("/mothers/plans", "see", response=list[MotherPlanOut])
def list_plans(ctx: Ctx) -> Any:
    """Plans that were not given up, the newest on top."""
    return [plan_out(ctx, one) for one in planning.plans(ctx)]


@room.get("/mothers/raising", "see", response=RaisingOut)
def raising(ctx: Ctx, crop_id: int = 0) -> Any:
    """How mothers of a crop are raised, as the newest plan or planting says; else as usual."""
    crop = ctx.get(Crop, crop_id, shared=True) if crop_id else None
    found = planning.raising_like(ctx, crop, USUAL) if crop else USUAL
    usual = found.habit == USUAL.habit
    return {
        "shoots": "1, 15 %, 6" if usual else shoots_words(found.habit),
        "first_cut_week": found.habit.first_cut_week,
        "life_weeks": found.habit.life_weeks,
        **{name: getattr(found, name) for name in WHOLE},
        "rooting_percent": f"{found.rooting_rate * 100:g}",
        "hardening_percent": f"{found.hardening_rate * 100:g}",
        "reserve_percent": f"{found.reserve * 100:g}",
        "place_id": planning.place_like(ctx, crop) if crop else None,
    }


@room.post("/mothers/plan-draft", "mothers.plan", response=MotherDraftOut)
def draft(ctx: Ctx, body: MotherPlanIn) -> Any:
    """What a plan would be, or what follows from plantings that somebody chose; nothing is kept."""
    made = planning.draft(ctx, body.asked(), body.by_hand())
    return {
        "first": made.first,
        "sentence": planning.sentence_of(made),
        "starts": [{"on": on, "plantlets": many} for on, many in made.starts.items()],
        "weeks": _weeks(made.weeks),
        "warnings": list(made.warnings),
        "working": steps(made.working),
    }


class KeepMotherPlanIn(MotherPlanIn):
    note: str = Field("", max_length=300)
    client_uuid: UUID


def _one(ctx: Ctx, plan: MotherPlan) -> Any:
    return plan_out(ctx, planning.all_plans(ctx).get(pk=plan.pk))


@room.post("/mothers/plans", "mothers.plan", response=MotherPlanOut)
def keep(ctx: Ctx, body: KeepMotherPlanIn) -> Any:
    """Keep a plan, with the plantings that somebody chose or the fewest there are."""
    return _one(ctx, planning.keep(ctx, body.asked(), body.by_hand(), body.client_uuid, body.note))


@room.post("/mothers/plans/{ref:plan_id}/drop", "mothers.plan", response=MotherPlanOut)
def drop(ctx: Ctx, plan_id: Ref) -> Any:
    """Give a plan up; what was planted of it stands."""
    return _one(ctx, planning.drop(ctx, plan_id))


class OrderedIn(Schema):
    """`on`: the day on which they were ordered; none: they are not, after all."""

    from_whom: str = Field("", max_length=120)
    on: date | None = None


@room.post("/mothers/starts/{ref:start_id}/ordered", "mothers.plan", response=MotherPlanOut)
def ordered(ctx: Ctx, start_id: Ref, body: OrderedIn) -> Any:
    """The plantlets of a planting are ordered, or after all are not."""
    return _one(ctx, planning.ordered(ctx, start_id, from_whom=body.from_whom, on=body.on).plan)
