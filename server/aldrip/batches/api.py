"""Batches: plan, propose, keep, do, count; the season board."""

from datetime import date
from typing import Any

from django.db.models import Prefetch

from aldrip.accounts.api import AuditOut, audit_row
from aldrip.accounts.context import Ctx
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.schemas import Done, steps
from aldrip.batches import doing, editing, resowing, starting, undoing
from aldrip.batches.board import board_of
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.reading import head_of, ladder_of
from aldrip.batches.schemas import (
    AskIn,
    AskOut,
    BatchOut,
    BoardOut,
    CancelIn,
    ChangeIn,
    CountIn,
    GradedIn,
    KeepIn,
    LadderOut,
    LineChange,
    LossIn,
    MovedIn,
    NewBatchIn,
    PlanLinesIn,
    PlanLinesOut,
    ProposalOut,
    ResowIn,
    SownIn,
)
from aldrip.methods.models import Crop, Line, Method
from aldrip_core.forecast import TrayCount
from aldrip_core.weeks import UnreadableDay, read_span

room = Room("batches")


@room.get("/batches", "see", response=list[BatchOut])
def batches(ctx: Ctx) -> Any:
    stages = Prefetch("stages", BatchStage.objects.select_related("place").order_by("order"))
    rows = ctx.rows(Batch).select_related("crop", "line", "container", "lot").prefetch_related(stages).order_by("id")
    return [head_of(batch, list(batch.stages.all())) for batch in rows]


@room.get("/batches/{int:batch_id}", "see", response=LadderOut)
def batch(ctx: Ctx, batch_id: int) -> Any:
    return ladder_of(ctx, batch_id)


@room.get("/board", "see", response=BoardOut)
def board(ctx: Ctx, start: date, end: date) -> Any:
    if not 1 <= (end - start).days <= 800:
        raise refuse("end", "out_of_range", "The board shows between a day and 800 days.")
    return board_of(ctx, start, end)


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


@room.post("/batches/{int:batch_id}/keep", "batches.plan", response=ProposalOut)
def keep(ctx: Ctx, batch_id: int, body: KeepIn) -> Any:
    """Save a change whose consequences were seen; 409 with both values when somebody saved first."""
    return _proposal(editing.keep(ctx, batch_id, body.change.change(), body.version))


@room.post("/audit/{int:audit_id}/undo", "batches.plan", response=AuditOut)
def undo(ctx: Ctx, audit_id: int) -> Any:
    return audit_row(ctx, undoing.undo(ctx, audit_id))


@room.post("/batches/plan-lines", "batches.plan", response=PlanLinesOut)
def plan_lines(ctx: Ctx, body: PlanLinesIn) -> Any:
    """Plan a batch for every open order line that has none."""
    return starting.plan_lines(ctx, body.lines)


@room.post("/orders/can-we-take-it", "see", response=AskOut)
def can_we_take_it(ctx: Ctx, body: AskIn) -> Any:
    """Whether a promise could be kept; nothing is saved."""
    quantity = starting.read_quantity(ctx, body.crop_id, body.form, body.quantity)
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
    if plan.request.definition.start_unit == "m²":
        amount = f"{plan.quantities.start / 10_000:,.2f} ha"
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


@room.patch("/order-lines/{int:line_id}", "orders.edit", response=Done)
def change_line(ctx: Ctx, line_id: int, body: LineChange) -> Any:
    """Change an open line; what its batches give it is reckoned anew."""
    given = {name: value for name, value in body.dict().items() if value is not None and name != "version"}
    line = starting.change(ctx, line_id, given, body.version)
    return {"id": line.pk, "message": "Saved."}


@room.post("/order-lines/{int:line_id}/cancel", "orders.edit", response=Done)
def cancel_line(ctx: Ctx, line_id: int, body: CancelIn) -> Any:
    """Cancel an open line; batches planned for it alone are let go."""
    line = starting.cancel(ctx, line_id, body.reason)
    return {"id": line.pk, "message": "Cancelled."}


@room.post("/batches/{int:batch_id}/sown", "batches.do", response=Done)
def sown(ctx: Ctx, batch_id: int, body: SownIn) -> Any:
    found = doing.sown(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.code} is sown."}


@room.post("/batches/{int:batch_id}/moved", "batches.do", response=Done)
def moved(ctx: Ctx, batch_id: int, body: MovedIn) -> Any:
    found = doing.moved(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.code} moved on."}


@room.post("/batches/{int:batch_id}/counts", "diary.count", response=Done)
def count(ctx: Ctx, batch_id: int, body: CountIn) -> Any:
    """Count emergence on sampled trays; a repeat with the same uuid changes nothing."""
    trays = [TrayCount(tray.sampled, tray.found) for tray in body.trays]
    found = doing.count_emergence(ctx, batch_id, trays=trays, on=body.on, client_uuid=body.client_uuid, stage=body.stage,
                                  replaces=body.replaces, reason=body.reason)  # fmt: skip
    return {"id": found.pk, "message": f"Counted {found.found} of {found.sampled}."}


@room.post("/batches/{int:batch_id}/losses", "diary.count", response=Done)
def loss(ctx: Ctx, batch_id: int, body: LossIn) -> Any:
    found = doing.count_loss(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.found} lost."}


@room.post("/batches/{int:batch_id}/graded", "batches.do", response=Done)
def graded(ctx: Ctx, batch_id: int, body: GradedIn) -> Any:
    lot = doing.graded(ctx, batch_id, good=body.good, out=[o.dict() for o in body.out], on=body.on,
                       client_uuid=body.client_uuid, version=body.version)  # fmt: skip
    return {"id": lot.pk, "message": f"{body.good:,} good ones are lot {lot.code}."}


@room.post("/batches/{int:batch_id}/resow", "batches.plan", response=Done)
def resow(ctx: Ctx, batch_id: int, body: ResowIn) -> Any:
    """Take the offer to sow again: a new batch with its tasks."""
    pk = resowing.take_offer(ctx, batch_id, version=body.version)
    return {"id": pk, "message": "Planned."}
