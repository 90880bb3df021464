"""What is asked and not saved: can we take it, a succession, the ways to raise a crop, a method being written."""

from datetime import date
from typing import Any

from ninja import Field, Schema

from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.schemas import StepOut, steps
from aldrip.batches import risk, starting, successions, trying
from aldrip.batches.questions import sentence_of
from aldrip.batches.schemas import AskIn, AskOut
from aldrip.places.models import Place
from aldrip_core.can_we_take_it import Answer

room = Room("batches")


def _asked(ctx: Ctx, body: AskIn) -> Answer:
    """The answer to a question that was typed."""
    quantity = starting.read_promise(ctx, body.crop_id, body.form, body.quantity)
    due = starting.read_days(ctx, body.due, "due")
    if due.end <= ctx.today:
        raise refuse("due", "past", f"{body.due} is over. Ask for a day to come.")
    return starting.can_we_take_it(
        ctx,
        crop_id=body.crop_id,
        form=body.form,
        quantity=quantity,
        due_from=due.start,
        due_last=due.last,
        line_id=body.line_id,
    )


@room.post("/orders/can-we-take-it", "see", response=AskOut)
def can_we_take_it(ctx: Ctx, body: AskIn) -> Any:
    """Whether a promise could be kept; nothing is saved."""
    answer = starting.cures_of(ctx, body.for_line) if body.for_line is not None else _asked(ctx, body)
    return answer_out(answer)


def answer_out(answer: Answer) -> dict[str, Any]:
    """An answer as it is told."""
    plan = answer.plan
    return {
        "can": answer.can,
        "sentence": sentence_of(answer),
        "sow_on": plan.sow_on,
        "ready_on": plan.ready_on,
        "earliest": answer.earliest,
        "trays": plan.quantities.trays,
        "start": plan.quantities.start,
        "seed_g": plan.quantities.seed_g,
        "chance": plan.quantities.chance,
        "limits": [{"kind": x.kind, "sentence": x.sentence} for x in answer.limits],
        "remedies": [
            {"kind": r.kind, "sentence": r.sentence, "ready_on": r.ready_on, "quantity": r.quantity}
            for r in answer.remedies
        ],
        "working": steps(plan.quantities.working),
    }


class SuccessionIn(Schema):
    """The same again: so many of a form every so many weeks, from one day or week to another."""

    crop_id: int
    line_id: int | None = None
    form: str = Field(max_length=40)
    quantity: str = Field(max_length=40)
    first: str = Field(max_length=40)
    last: str = Field(max_length=40)
    every_weeks: str = Field(default="1", max_length=10)


class SownForOut(Schema):
    harvest: date
    sow_on: date
    ready_on: date
    start: int
    trays: int | None
    seed_g: float | None
    late_days: int
    problems: list[str]


class InWeekOut(Schema):
    """What is ready in a week: by the days that heat asks for, and by the same number of sowings at equal intervals."""

    monday: date
    even: float
    habit: float


class EvenOut(Schema):
    longest: int
    shortest: int
    spread_days: float


class SuccessionOut(Schema):
    sentence: str
    unit: str
    each: float
    every_weeks: int
    start_unit: str
    sowings: list[SownForOut]
    habit: list[date]
    weeks: list[InWeekOut]
    even: EvenOut | None
    by_habit: EvenOut | None
    seed_g: float | None
    working: list[StepOut]


@room.post("/orders/succession", "see", response=SuccessionOut)
def succession(ctx: Ctx, body: SuccessionIn) -> Any:
    """The sowings of a succession beside those of equal intervals; nothing is saved."""
    return successions.out(
        successions.tried(
            ctx,
            crop_id=body.crop_id,
            line_id=body.line_id,
            form=body.form,
            quantity=body.quantity,
            first=body.first,
            last=body.last,
            every_weeks=body.every_weeks,
        )
    )


class CustomerRiskOut(Schema):
    """Everything for one customer: the chance that all of it is kept, drawn together and if each failed by itself."""

    name: str
    lines: int
    all: float
    apart: float
    least: float
    least_line_id: int
    least_number: str


class WorseOut(Schema):
    line_id: int
    number: str
    customer: str
    then: float
    usual: float


class CauseOut(Schema):
    """A cause in its worst twentieth of futures: lines missed then, and usually."""

    words: str
    missed: float
    usual: float
    worse: list[WorseOut]


class RiskOut(Schema):
    """`missed`: how likely none, one, two … lines are missed; the last stands for all beyond."""

    sentence: str
    lines: int
    lost: list[WorseOut]  # as good as missed as they stand; counted in nothing else but their customers
    unserved: int
    futures: int
    all: float
    apart: float
    missed: list[float]
    expected: float
    customers: list[CustomerRiskOut]
    causes: list[CauseOut]


@room.get("/risk", "see", response=RiskOut)
def all_together(ctx: Ctx) -> Any:
    """How sure all open promises are together."""
    return risk.told(ctx)


class TryIn(Schema):
    slug: str = Field(default="", max_length=80)
    like: str = Field(default="", max_length=80)
    typed: dict[str, Any]
    quantity: str = Field(default="", max_length=40)
    begin: date | None = None


class SchoolOut(Schema):
    slug: str
    name: str
    form: str
    usual: bool
    own: bool
    note: str
    needed: float | None
    unit: str
    start: int | None
    start_unit: str
    seed_g: float | None
    trays: int | None
    days: int | None
    give_days: float
    problems: list[str]


@room.get("/methods/schools", "see", response=list[SchoolOut])
def schools(ctx: Ctx, crop: str = "", quantity: str = "") -> Any:
    """The ways in which a crop may be raised, side by side for one quantity."""
    return [
        {
            "slug": one.method.slug,
            "name": one.method.name,
            "form": one.method.form,
            "usual": one.method.default,
            "own": one.method.organisation_id is not None,
            "note": one.method.note,
            "unit": one.method.unit,
            "start_unit": one.method.start_unit,
            "problems": list(one.problems),
            "needed": one.plan.quantities.needed if one.plan else None,
            "start": one.plan.quantities.start if one.plan else None,
            "seed_g": one.plan.quantities.seed_g if one.plan else None,
            "trays": one.plan.quantities.trays if one.plan else None,
            "days": (one.plan.ready_on - one.plan.sow_on).days if one.plan else None,
            "give_days": trying.give_of(one.plan) if one.plan else 0.0,
        }
        for one in trying.schools(ctx, crop[:80], quantity[:40])
    ]


class TriedRungOut(Schema):
    key: str
    name: str
    after: str
    start: date
    end: date
    into: float
    out: float
    unit: str
    place: str
    place_kind: str
    amount: float
    amount_unit: str


class TriedOut(Schema):
    needed: float
    unit: str
    start: int
    start_unit: str
    trays: int | None
    container: str
    seed_g: float | None
    chance: float
    days: int
    give_days: float
    begin: date
    ready: date
    problems: list[str]
    rungs: list[TriedRungOut]


@room.post("/methods/try", "batches.plan", response=TriedOut)
def try_method(ctx: Ctx, body: TryIn) -> Any:
    """What a method that is still being written would give; nothing is saved."""
    tried = trying.try_method(
        ctx, body.slug or None, body.typed, like=body.like, quantity=body.quantity, begin=body.begin
    )
    return trying.tried_out(tried, dict(ctx.rows(Place).values_list("pk", "name")))
