"""Batches: plan, propose, keep, do, count; the season board."""

import uuid
from datetime import date, datetime
from typing import Any

from django.db.models import Prefetch
from ninja import Field, Schema

from aldrip.accounts.api import AuditOut, audit_row
from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_count
from aldrip.base.schemas import Done, Scalar, StepOut, steps
from aldrip.batches import doing, editing, resowing, starting, undoing
from aldrip.batches.board import board_of
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.planner import TypedRate
from aldrip.batches.reading import head_of, ladder_of
from aldrip.methods.models import Crop, Line, Method
from aldrip_core.forecast import TrayCount
from aldrip_core.weeks import UnreadableDay, read_span

room = Room("batches")


class BatchOut(Schema):
    id: int
    code: str
    version: int
    state: str
    crop: str
    crop_id: int
    cultivar: str
    method: str
    form: str
    unit: str
    start_unit: str
    by_seed: bool
    needed: int
    start: int
    start_typed: bool
    trays: int | None
    seeds: float | None
    seed_g: float | None
    container: str
    container_id: int | None
    lot_id: int | None
    lot: str
    lot_left: float | None
    expected: float
    low: float | None
    high: float | None
    chance_wanted: float
    planned_chance: float
    counted: float | None
    tops_up_id: int | None
    decide_by: date | None
    decide_text: str
    sow_on: date
    ready_on: date
    stage_now: str
    place_now: str
    note: str


@room.get("/batches", "see", response=list[BatchOut])
def batches(ctx: Ctx) -> Any:
    stages = Prefetch("stages", BatchStage.objects.select_related("place").order_by("order"))
    rows = ctx.rows(Batch).select_related("crop", "line", "container", "lot").prefetch_related(stages).order_by("id")
    return [head_of(batch, list(batch.stages.all())) for batch in rows]


class BandOut(Schema):
    middle: float
    low: float
    high: float


class RateOut(Schema):
    mean: float
    sd: float
    origin: str
    source: str
    words: str


class RungOut(Schema):
    key: str
    kind: str
    stage: int
    name: str
    unit: str
    date: date | None
    place: str
    place_id: int | None
    value: float
    needed: float | None
    band: BandOut | None
    counted_share: float | None
    counted: float | None
    rate: RateOut | None
    editable: bool


class StageTimeOut(Schema):
    order: int
    name: str
    kind: str
    start: date
    end: date
    place: str
    place_id: int | None
    unit: str
    happened: bool
    running: bool


class BatchOrderOut(Schema):
    line_id: int
    number: str
    customer: str
    quantity: int
    allocated: int
    unit: str
    due_from: date
    due_last: date
    chance: float | None
    state: str
    problem: str
    delivered: int


class ForecastOut(Schema):
    expected: float
    low: int
    high: int
    needed: int
    chance: float
    short: int
    batches: int


class OfferOut(Schema):
    trays: int
    cells: int
    grams: float | None
    lot: str
    sow_on: date
    last_day: date
    chance_before: float
    chance_after: float
    short: int
    space: float
    ready_on: date
    problems: list[str]


class OverOut(Schema):
    start: date
    end: date
    amount: float


class SpaceOut(Schema):
    place_id: int
    place: str
    unit: str
    peak: float
    over: list[OverOut]


class CountOut(Schema):
    id: int
    kind: str
    sampled: int
    found: int
    cause: str
    happened_at: datetime
    by: str
    parts: int


class BatchTaskOut(Schema):
    id: int
    kind: str
    title: str
    due: date
    state: str
    quantity: float | None
    unit: str
    place: str
    part_of_day: str


class LadderOut(BatchOut):
    orders: list[BatchOrderOut]
    rungs: list[RungOut]
    stages: list[StageTimeOut]
    forecast: ForecastOut | None
    offer: OfferOut | None
    space: list[SpaceOut]
    problems: list[str]
    workings: dict[str, list[StepOut]]
    counts: list[CountOut]
    tasks: list[BatchTaskOut]
    history: list[AuditOut]
    lost: int
    yield_lot: str | None
    yield_quantity: float | None
    next_stage: int | None


@room.get("/batches/{int:batch_id}", "see", response=LadderOut)
def batch(ctx: Ctx, batch_id: int) -> Any:
    return ladder_of(ctx, batch_id)


class BodyOut(Schema):
    batch_id: int
    code: str
    crop: str
    stage: int
    name: str
    start: date
    end: date
    amount: float
    state: str
    version: int
    decide_by: date | None


class LaneOut(Schema):
    place_id: int
    name: str
    kind: str
    unit: str
    usable: float
    set_point_c: float | None
    now: float
    peak: float
    peak_on: date
    load: list[float]
    over: list[OverOut]
    bodies: list[BodyOut]


class BoardOut(Schema):
    start: date
    end: date
    lanes: list[LaneOut]


@room.get("/board", "see", response=BoardOut)
def board(ctx: Ctx, start: date, end: date) -> Any:
    if not 1 <= (end - start).days <= 800:
        raise refuse("end", "out_of_range", "The board shows between a day and 800 days.")
    return board_of(ctx, start, end)


class RateIn(Schema):
    mean: float = Field(ge=0, le=1)
    sd: float = Field(default=0, ge=0, le=0.5)
    reason: str


class RungIn(Schema):
    stage: int = Field(ge=0, le=50)
    quantity: float = Field(gt=0, le=1e7)


class ChangeIn(Schema):
    needed: int | None = Field(default=None, ge=1, le=10_000_000)
    chance: float | None = Field(default=None, gt=0, lt=1)
    rung: RungIn | None = None
    start: int | None = Field(default=None, ge=1, le=10_000_000)
    trays: int | None = Field(default=None, ge=1, le=1_000_000)
    seed_g: float | None = Field(default=None, gt=0, le=1e9)
    sow_on: date | None = None
    ready_on: date | None = None
    shift_days: int | None = Field(default=None, ge=-400, le=400)
    stage: int | None = Field(default=None, ge=0, le=50)
    place_id: int | None = None
    container_id: int | None = None
    lot_id: int | None = None
    rate: RateIn | None = None
    back_to_planned: bool = False

    def change(self) -> editing.Change:
        given = self.dict(exclude={"rung", "rate"})
        rate = None
        if self.rate is not None:
            if not self.rate.reason.strip():
                raise refuse("rate.reason", "missing", "Say why this rate is another one; the reason stays beside it.")
            rate = TypedRate(self.rate.mean, self.rate.sd, self.rate.reason.strip()[:180])
        rung = (self.rung.stage, self.rung.quantity) if self.rung else None
        return editing.Change(rung=rung, rate=rate, **given)


class FigureOut(Schema):
    name: str
    before: Scalar
    after: Scalar
    unit: str
    note: str
    kind: str
    worse: bool


class OrderEffectOut(Schema):
    line_id: int
    number: str
    customer: str
    quantity: int
    due_last: date
    before: float | None
    after: float | None


class MovedStageOut(Schema):
    stage: int
    name: str
    start: date
    end: date
    place_id: int | None
    amount: float


class ProposalOut(Schema):
    sentence: str
    figures: list[FigureOut]
    orders: list[OrderEffectOut]
    problems: list[str]
    version: int
    stages: list[MovedStageOut]


def _proposal(proposal: editing.Proposal) -> dict[str, Any]:
    def plain(value: Any) -> Any:
        return value.isoformat() if isinstance(value, date) else value

    return {
        "sentence": proposal.sentence, "problems": list(proposal.problems), "version": proposal.version,
        "figures": [
            {"name": f.name, "before": plain(f.before), "after": plain(f.after), "unit": f.unit, "note": f.note, "kind": f.kind,
             "worse": f.worse}
            for f in proposal.figures
        ],
        "orders": [vars_of(effect) for effect in proposal.orders],
        "stages": [
            {"stage": s.definition.order, "name": s.definition.name, "start": s.dates.start, "end": s.dates.end, "place_id": s.place,
             "amount": s.amount}
            for s in proposal.plan.stages
        ],
    }  # fmt: skip


def vars_of(effect: editing.OrderEffect) -> dict[str, Any]:
    return {name: getattr(effect, name) for name in editing.OrderEffect.__dataclass_fields__}


@room.post("/batches/{int:batch_id}/preview", "batches.plan", response=ProposalOut)
def preview(ctx: Ctx, batch_id: int, body: ChangeIn) -> Any:
    """What a change would do; nothing is saved."""
    return _proposal(editing.propose(ctx, batch_id, body.change()))


class KeepIn(Schema):
    version: int
    change: ChangeIn


@room.post("/batches/{int:batch_id}/keep", "batches.plan", response=ProposalOut)
def keep(ctx: Ctx, batch_id: int, body: KeepIn) -> Any:
    """Save a change whose consequences were seen; 409 with both values when somebody saved first."""
    return _proposal(editing.keep(ctx, batch_id, body.change.change(), body.version))


@room.post("/audit/{int:audit_id}/undo", "batches.plan", response=AuditOut)
def undo(ctx: Ctx, audit_id: int) -> Any:
    return audit_row(ctx, undoing.undo(ctx, audit_id))


class PlanLinesIn(Schema):
    lines: list[int] | None = None


class UnplannedOut(Schema):
    line: int
    number: str
    reason: str


class PlanLinesOut(Schema):
    planned: int
    late: int
    batches: list[int]
    unplanned: list[UnplannedOut]


@room.post("/batches/plan-lines", "batches.plan", response=PlanLinesOut)
def plan_lines(ctx: Ctx, body: PlanLinesIn) -> Any:
    """Plan a batch for every open order line that has none."""
    return starting.plan_lines(ctx, body.lines)


class AskIn(Schema):
    crop_id: int
    line_id: int | None = None
    form: str
    quantity: str
    due: str


class AskLimitOut(Schema):
    kind: str
    sentence: str


class RemedyOut(Schema):
    kind: str
    sentence: str
    ready_on: date | None
    quantity: int | None


class AskOut(Schema):
    can: bool
    sentence: str
    sow_on: date
    ready_on: date
    earliest: date | None
    trays: int | None
    start: int
    seed_g: float | None
    chance: float
    limits: list[AskLimitOut]
    remedies: list[RemedyOut]
    working: list[StepOut]


@room.post("/orders/can-we-take-it", "see", response=AskOut)
def can_we_take_it(ctx: Ctx, body: AskIn) -> Any:
    """Whether a promise could be kept; nothing is saved."""
    quantity = read_count(body.quantity, "quantity")
    try:
        text = body.due.strip()
        due = read_span(f"week {text}" if text.isdigit() and len(text) <= 2 else text, today=ctx.today)
    except UnreadableDay as error:
        raise refuse("due", error.code, str(error)) from None
    if due.end <= ctx.today:
        raise refuse("due", "past", f"{body.due} is over. Ask for a day to come.")
    answer = starting.can_we_take_it(ctx, crop_id=body.crop_id, form=body.form, quantity=quantity, due_from=due.start,
                                     due_last=due.last, line_id=body.line_id)  # fmt: skip
    plan = answer.plan
    sow = plan.sow_on
    amount = f"{plan.quantities.trays:,} trays" if plan.quantities.trays else f"{plan.quantities.start:,}"
    day = f"{sow:%a} {sow.day} {sow:%b}, week {sow.isocalendar().week}"
    sentence = f"Yes: sow {amount} on {day}." if answer.can else "Not as asked."
    return {
        "can": answer.can, "sentence": sentence, "sow_on": sow, "ready_on": plan.ready_on, "earliest": answer.earliest,
        "trays": plan.quantities.trays, "start": plan.quantities.start, "seed_g": plan.quantities.seed_g,
        "chance": plan.quantities.chance, "limits": [{"kind": x.kind, "sentence": x.sentence} for x in answer.limits],
        "remedies": [
            {"kind": r.kind, "sentence": r.sentence, "ready_on": r.ready_on, "quantity": r.quantity} for r in answer.remedies
        ],
        "working": steps(plan.quantities.working),
    }  # fmt: skip


class NewBatchIn(Schema):
    crop_id: int
    method_id: int
    line_id: int | None = None
    needed: int = Field(ge=1, le=10_000_000)
    ready_on: date
    order_line_id: int | None = None


@room.post("/batches", "batches.plan", response=Done)
def new_batch(ctx: Ctx, body: NewBatchIn) -> Any:
    """Plan one batch, for an order line or on speculation."""
    ground = Ground(ctx)
    crop = ctx.get(Crop, body.crop_id, shared=True)
    method = ctx.get(Method, body.method_id, shared=True)
    if method.crop_id != crop.pk:
        raise refuse("method_id", "other_crop", f"{method.name} does not raise {crop.name.lower()}.")
    if body.line_id is not None and ctx.get(Line, body.line_id, shared=True).crop_id != crop.pk:
        raise refuse("line_id", "other_crop", "That cultivar belongs to another crop.")
    request = starting.request_for(
        ground, crop=crop, form=method.form, needed=body.needed, due_from=body.ready_on,
        due_last=body.ready_on, line_id=body.line_id, method=method,
    )  # fmt: skip
    pk = starting.new_batch(ctx, order_line_id=body.order_line_id, request=request, ground=ground)
    return {"id": pk, "message": "Planned."}


class LineChange(Schema):
    version: int
    quantity: str | None = None
    due: str | None = None
    until: str | None = None
    note: str | None = None


@room.patch("/order-lines/{int:line_id}", "orders.edit", response=Done)
def change_line(ctx: Ctx, line_id: int, body: LineChange) -> Any:
    """Change an open line; what its batches give it is reckoned anew."""
    given = {name: value for name, value in body.dict().items() if value is not None and name != "version"}
    line = starting.change(ctx, line_id, given, body.version)
    return {"id": line.pk, "message": "Saved."}


class CancelIn(Schema):
    reason: str = Field(max_length=300)


@room.post("/order-lines/{int:line_id}/cancel", "orders.edit", response=Done)
def cancel_line(ctx: Ctx, line_id: int, body: CancelIn) -> Any:
    """Cancel an open line; batches planned for it alone are let go."""
    line = starting.cancel(ctx, line_id, body.reason)
    return {"id": line.pk, "message": "Cancelled."}


class SownIn(Schema):
    on: date
    trays: int | None = Field(default=None, ge=1, le=1_000_000)
    start: int | None = Field(default=None, ge=1, le=10_000_000)
    grams: float | None = Field(default=None, gt=0, le=1e9)
    lot_id: int | None = None
    version: int | None = None
    note: str = ""


@room.post("/batches/{int:batch_id}/sown", "batches.do", response=Done)
def sown(ctx: Ctx, batch_id: int, body: SownIn) -> Any:
    found = doing.sown(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.code} is sown."}


class MovedIn(Schema):
    stage: int = Field(ge=0, le=50)
    on: date
    place_id: int | None = None
    version: int | None = None


@room.post("/batches/{int:batch_id}/moved", "batches.do", response=Done)
def moved(ctx: Ctx, batch_id: int, body: MovedIn) -> Any:
    found = doing.moved(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.code} moved on."}


class TrayIn(Schema):
    sampled: int = Field(ge=1, le=1_000_000)
    found: int = Field(ge=0, le=1_000_000)


class CountIn(Schema):
    trays: list[TrayIn] = Field(min_length=1, max_length=500)
    on: date
    client_uuid: uuid.UUID
    stage: int | None = None
    replaces: int | None = None
    reason: str = ""


@room.post("/batches/{int:batch_id}/counts", "diary.count", response=Done)
def count(ctx: Ctx, batch_id: int, body: CountIn) -> Any:
    """Count emergence on sampled trays; a repeat with the same uuid changes nothing."""
    trays = [TrayCount(tray.sampled, tray.found) for tray in body.trays]
    found = doing.count_emergence(ctx, batch_id, trays=trays, on=body.on, client_uuid=body.client_uuid, stage=body.stage,
                                  replaces=body.replaces, reason=body.reason)  # fmt: skip
    return {"id": found.pk, "message": f"Counted {found.found} of {found.sampled}."}


class LossIn(Schema):
    lost: int = Field(ge=1, le=10_000_000)
    cause: str
    on: date
    client_uuid: uuid.UUID


@room.post("/batches/{int:batch_id}/losses", "diary.count", response=Done)
def loss(ctx: Ctx, batch_id: int, body: LossIn) -> Any:
    found = doing.count_loss(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.found} lost."}


class GradedOutIn(Schema):
    cause: str
    count: int = Field(ge=0, le=10_000_000)


class GradedIn(Schema):
    good: int = Field(ge=0, le=10_000_000)
    out: list[GradedOutIn] = []
    on: date
    client_uuid: uuid.UUID
    version: int | None = None


@room.post("/batches/{int:batch_id}/graded", "batches.do", response=Done)
def graded(ctx: Ctx, batch_id: int, body: GradedIn) -> Any:
    lot = doing.graded(ctx, batch_id, good=body.good, out=[o.dict() for o in body.out], on=body.on,
                       client_uuid=body.client_uuid, version=body.version)  # fmt: skip
    return {"id": lot.pk, "message": f"{body.good:,} good ones are lot {lot.code}."}


class ResowIn(Schema):
    version: int


@room.post("/batches/{int:batch_id}/resow", "batches.plan", response=Done)
def resow(ctx: Ctx, batch_id: int, body: ResowIn) -> Any:
    """Take the offer to sow again: a new batch with its tasks."""
    pk = resowing.take_offer(ctx, batch_id, version=body.version)
    return {"id": pk, "message": "Planned."}
