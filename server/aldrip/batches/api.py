"""Batches: plan, propose, keep, do, count; the season board."""

from datetime import date, timedelta
from typing import Any

from ninja import Schema

from aldrip.accounts.api import AuditOut, audit_row
from aldrip.accounts.context import LATELY, Ctx, Ref
from aldrip.accounts.permissions import may
from aldrip.accounts.routes import Room
from aldrip.base.errors import Forbidden, refuse
from aldrip.base.fast import fast_json
from aldrip.base.quantity import MOST, read_found, read_measure, read_quantity
from aldrip.base.schemas import Done
from aldrip.base.words import plural
from aldrip.batches import (
    correcting,
    counts,
    doing,
    editing,
    grading,
    long_work,
    medium,
    new_day,
    placing,
    proposals,
    resowing,
    sowings,
    starting,
    undoing,
    where,
)
from aldrip.batches.board import board_of, sums_of
from aldrip.batches.commands import Command
from aldrip.batches.heads import heads
from aldrip.batches.listing import rows_in_sight
from aldrip.batches.reading import ladder_of
from aldrip.batches.saved import load_batch
from aldrip.batches.schemas import (
    BatchOut,
    BatchRow,
    BoardOut,
    CancelIn,
    ChangeIn,
    ConsequencesOut,
    CorrectSowingIn,
    CountIn,
    FilledFromIn,
    GradedIn,
    KeepIn,
    KeepProposalIn,
    KeptProposalOut,
    LadderOut,
    LineChange,
    LossIn,
    MovedIn,
    NewBatchIn,
    PickedIn,
    PlaceOfferOut,
    PlanLinesIn,
    PlanLinesOut,
    ProposalOut,
    ProposeIn,
    ResowIn,
    SownFromIn,
    SownIn,
    StandingForOut,
    SumsOut,
)
from aldrip.jobs import services as jobs
from aldrip.lots.models import Lot
from aldrip.methods.models import Method
from aldrip_core.forecast import TrayCount
from aldrip_core.place_kinds import PLACE_KINDS
from aldrip_core.units import from_base, unit

room = Room("batches")


@room.get("/batches", "see", response=list[BatchRow])
def batches(ctx: Ctx, back: int = LATELY) -> Any:
    """Every batch that runs, and those that ended within so many weeks, as light rows."""
    return fast_json(rows_in_sight(ctx, ctx.since(back)))


@room.get("/sowing/cards", "see", response=list[BatchOut])
def to_sow(ctx: Ctx, before: date | None = None, also: str = "") -> Any:
    """Planned batches of plants that are to be sown before a day, as light rows; `also`: one more, whatever it is."""
    return fast_json(heads(ctx, to_sow_before=before or ctx.today + timedelta(weeks=16), also=also[:40]))


@room.get("/batches/{ref:batch_id}", "see", response=LadderOut)
def batch(ctx: Ctx, batch_id: Ref) -> Any:
    return ladder_of(ctx, batch_id)


@room.get("/board", "see", response=BoardOut)
def board(ctx: Ctx, start: date, end: date) -> Any:
    if not 1 <= (end - start).days <= 800:
        raise refuse("end", "out_of_range", "The board shows between a day and 800 days.")
    return fast_json(board_of(ctx, start, end))


@room.get("/board/sums", "see", response=SumsOut)
def sums(ctx: Ctx, start: date | None = None, end: date | None = None) -> Any:
    """Hours of work and trays in use by week; from four weeks back for sixteen weeks where nobody says."""
    start = start or ctx.today - timedelta(weeks=4)
    end = end or start + timedelta(weeks=16)
    if not 1 <= (end - start).days <= 800:
        raise refuse("end", "out_of_range", "The board shows between a day and 800 days.")
    return fast_json(sums_of(ctx, start, end))


def _proposal(proposal: editing.Proposal) -> dict[str, Any]:
    def plain(value: Any) -> Any:
        return value.isoformat() if isinstance(value, date) else value

    return {
        "sentence": proposal.sentence,
        "problems": list(proposal.problems),
        "version": proposal.version,
        "event": proposal.event,
        "figures": [
            {
                "name": f.name,
                "before": plain(f.before),
                "after": plain(f.after),
                "unit": f.unit,
                "note": f.note,
                "kind": f.kind,
                "worse": f.worse,
            }
            for f in proposal.figures
        ],
        "orders": [vars_of(effect) for effect in proposal.orders],
        "stages": [
            {
                "stage": s.spec.key,
                "name": s.spec.name,
                "start": one.start,
                "end": one.end,
                "place_id": one.place,
                "amount": one.amount,
            }
            for s in proposal.plan.stages
            for one in s.standing
        ],
        "shift_days": proposal.shift_days,
        "loads": [{"place_id": one.place, "start": one.start, "load": list(one.load)} for one in proposal.loads],
    }


def vars_of(effect: editing.OrderEffect) -> dict[str, Any]:
    return {name: getattr(effect, name) for name in editing.OrderEffect.__dataclass_fields__}


@room.get("/batches/{ref:batch_id}/places", "see", response=list[PlaceOfferOut])
def places_for(ctx: Ctx, batch_id: Ref, stage: str = "", shift_days: int = 0) -> Any:
    """Every open place that can take a stage, with how full it would be; `shift_days`: on so many days later."""
    if abs(shift_days) > 400:
        raise refuse("shift_days", "out_of_range", "A batch moves by 400 days at most.")
    return [vars(one) for one in where.offers(ctx, batch_id, stage, shift_days)]


@room.post("/batches/{ref:batch_id}/preview", "batches.plan", response=ProposalOut)
def preview(ctx: Ctx, batch_id: Ref, body: ChangeIn) -> Any:
    """What a change would do; nothing is saved."""
    return _proposal(editing.propose(ctx, batch_id, body.change()))


@room.post("/batches/{ref:batch_id}/keep", "batches.plan", response=ProposalOut)
def keep(ctx: Ctx, batch_id: Ref, body: KeepIn) -> Any:
    """Save a change whose consequences were seen; 409 with both values when somebody saved first."""
    return _proposal(editing.keep(ctx, batch_id, body.change.change(), body.version))


#: What takes a right of its own; giving what stands to an order is anybody's who may propose.
RIGHTS = {**dict.fromkeys(("change", "split", "join", "cancel"), "orders.edit"), "edit": "batches.plan"}


def _may_do(ctx: Ctx, body: ProposeIn) -> list[Command]:
    for one in body.commands:
        needed = RIGHTS.get(one.do)
        if needed is not None and not may(ctx.role, needed):
            raise Forbidden("Your role may not do this. Ask a manager.", role=ctx.role, action=needed)
    return [one.command() for one in body.commands]


@room.post("/proposals/preview", "proposals", response=ConsequencesOut)
def preview_all(ctx: Ctx, body: ProposeIn) -> Any:
    """What commands on order lines and batches would do, all together; nothing is saved."""
    found = proposals.propose(ctx, _may_do(ctx, body), raise_missing=body.cover)

    def plain(value: Any) -> Any:
        return value.isoformat() if isinstance(value, date) else value

    return {
        "sentence": found.sentence,
        "problems": list(found.problems),
        "versions": dict(found.versions),
        "figures": [
            {
                "name": f.name,
                "before": plain(f.before),
                "after": plain(f.after),
                "unit": f.unit,
                "note": f.note,
                "kind": f.kind,
                "worse": f.worse,
            }
            for f in found.figures
        ],
        "orders": [vars_of(effect) for effect in found.orders],
    }


@room.post("/proposals/keep", "proposals", response=KeptProposalOut)
def keep_all(ctx: Ctx, body: KeepProposalIn) -> Any:
    """Do what was proposed; 409 when anything it touches was saved since."""
    commands = _may_do(ctx, body)
    versions = {str(uuid): version for uuid, version in body.versions.items()}
    return proposals.told_of(proposals.keep(ctx, commands, versions, raise_missing=body.cover))


@room.post("/proposals/{ref:event_id}/undo", "acts.take_back", response=KeptProposalOut)
def undo_kept(ctx: Ctx, event_id: Ref) -> Any:
    """Take what was just kept back, as long as nothing rests on it."""
    return proposals.told_of(proposals.undo(ctx, event_id))


@room.get("/order-lines/{ref:line_id}/standing", "see", response=list[StandingForOut])
def standing_for(ctx: Ctx, line_id: Ref) -> Any:
    """What stands, or is planned, that is promised to nobody and could serve a line."""
    return [
        {
            "batch_id": one.batch.pk if one.batch else None,
            "lot_id": one.lot.pk if one.lot else None,
            "code": one.code,
            "quantity": float(from_base(one.free, one.unit)),
            "unit": one.unit.words,
            "ready_on": one.ready,
            "state": one.batch.get_state_display() if one.batch else "in stock",
        }
        for one in proposals.standing_for(ctx, line_id)
    ]


@room.post("/audit/{ref:audit_id}/undo", "batches.plan", response=AuditOut)
def undo(ctx: Ctx, audit_id: Ref) -> Any:
    return audit_row(ctx, undoing.undo(ctx, audit_id))


@room.post("/new-day", "see", response=Done)
def begin_day(ctx: Ctx) -> Any:
    """Reckon what is overdue from today; whoever opens Aldrip first on a day does it for all."""
    many = new_day.new_day(ctx)
    return {"message": f"{plural(many, 'batch', 'batches')} reckoned from today."}


@room.post("/batches/plan-lines", "batches.plan", response=PlanLinesOut)
def plan_lines(ctx: Ctx, body: PlanLinesIn) -> Any:
    """Plan a batch for every open order line that has none."""
    wanted = long_work.unplanned(ctx, body.lines)
    if len(wanted) > long_work.INLINE:
        started = jobs.start(
            ctx, "batches.plan", f"Plan {plural(len(wanted), 'order line')}", {"lines": body.lines}, total=len(wanted)
        )
        return {"planned": 0, "late": 0, "unplanned": [], "batches": [], "given": 0, "job": started.pk}
    return starting.plan_lines(ctx, body.lines)


@room.post("/batches", "batches.plan", response=Done)
def new_batch(ctx: Ctx, body: NewBatchIn) -> Any:
    """Plan one batch, for order lines or on speculation, from lots or from another batch."""
    needed = body.needed
    of = unit(ctx.get(Method, body.method_id, shared=True).unit)
    if isinstance(needed, str):
        needed = float(from_base(read_quantity(needed, of, "needed").base, of)) if needed.strip() else None
    elif needed is not None and not 0 < needed <= MOST:
        raise refuse("needed", "out_of_range", f"{needed:g} cannot be needed; above 0 and up to {MOST:,}.")
    pk = starting.new_batch(ctx, body.asked(needed))
    return {"id": pk, "message": "Planned."}


@room.patch("/order-lines/{ref:line_id}", "orders.edit", response=Done)
def change_line(ctx: Ctx, line_id: Ref, body: LineChange) -> Any:
    """Change an open line; what its batches give it is reckoned anew."""
    given = {name: value for name, value in body.dict().items() if value is not None and name != "version"}
    line = proposals.change(ctx, line_id, given, body.version)
    return {"id": line.pk, "message": "Saved."}


@room.post("/order-lines/{ref:line_id}/cancel", "orders.edit", response=Done)
def cancel_line(ctx: Ctx, line_id: Ref, body: CancelIn) -> Any:
    """Cancel an open line; batches planned for it alone are let go."""
    line = proposals.cancel(ctx, line_id, body.reason)
    return {"id": line.pk, "message": "Cancelled."}


@room.post("/batches/{ref:batch_id}/sown", "batches.do", response=Done)
def sown(ctx: Ctx, batch_id: Ref, body: SownIn) -> Any:
    given = body.dict(exclude={"lots", "medium_litres"})
    lots = [_taken(ctx, index, one) for index, one in enumerate(body.lots)]
    found = sowings.sown(ctx, batch_id, lots=lots, medium_litres=_litres(body.medium_litres), **given)
    return {"id": found.pk, "message": f"{found.code} is sown."}


@room.post("/batches/{ref:batch_id}/correct-sowing", "batches.do", response=Done)
def correct_sowing(ctx: Ctx, batch_id: Ref, body: CorrectSowingIn) -> Any:
    """Put right how much was sown, when, and from which lot; what was recorded since stays."""
    lots = [_taken(ctx, index, one) for index, one in enumerate(body.lots)]
    found = correcting.correct_sowing(ctx, batch_id, taken=lots, **body.dict(exclude={"lots"}))
    return {"id": found.pk, "message": f"The sowing of {found.code} is corrected."}


def _litres(text: str) -> float | None:
    return read_measure(text, "L", "medium_litres") if text.strip() else None


@room.post("/batches/{ref:batch_id}/medium", "batches.do", response=Done)
def filled_from(ctx: Ctx, batch_id: Ref, body: FilledFromIn) -> Any:
    """Say from which lot of medium a batch was filled, where it was not said as it was sown."""
    litres = _litres(body.medium_litres)
    found = medium.filled_from(ctx, batch_id, body.medium_id, litres=litres, on=body.on)
    return {"id": found.pk, "message": f"The medium of {found.code} is written down."}


def _taken(ctx: Ctx, index: int, one: SownFromIn) -> sowings.Taken:
    """So much of a lot, in whatever unit it was typed."""
    if not one.quantity.strip():
        return sowings.Taken(one.lot_id, part=one.part)
    lot = ctx.get(Lot, one.lot_id)
    amount = read_quantity(one.quantity, unit(lot.unit), f"lots.{index}.quantity")
    return sowings.Taken(one.lot_id, amount, one.part)


@room.post("/batches/{ref:batch_id}/moved", "batches.do", response=Done)
def moved(ctx: Ctx, batch_id: Ref, body: MovedIn) -> Any:
    found = doing.moved(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.code} moved on."}


@room.post("/batches/{ref:batch_id}/counts", "diary.count", response=Done)
def count(ctx: Ctx, batch_id: Ref, body: CountIn) -> Any:
    """Count emergence on sampled trays; a repeat with the same uuid changes nothing."""
    trays = [TrayCount(tray.sampled, tray.found) for tray in body.trays]
    found = counts.count_emergence(
        ctx,
        batch_id,
        trays=trays,
        on=body.on,
        client_uuid=body.client_uuid,
        stage=body.stage,
        replaces=body.replaces,
        reason=body.reason,
    )
    return {"id": found.pk, "message": f"Counted {found.found} of {found.sampled}."}


@room.post("/batches/{ref:batch_id}/losses", "diary.count", response=Done)
def loss(ctx: Ctx, batch_id: Ref, body: LossIn) -> Any:
    found = counts.count_loss(ctx, batch_id, **body.dict())
    return {"id": found.pk, "message": f"{found.found} lost."}


@room.post("/batches/{ref:batch_id}/graded", "batches.do", response=Done)
def graded(ctx: Ctx, batch_id: Ref, body: GradedIn) -> Any:
    good = read_found(body.good, "good")
    out = [{"cause": one.cause, "count": read_found(one.count, f"out.{at}.count")} for at, one in enumerate(body.out)]
    seconds = [(one.stage, read_found(one.count, f"seconds.{at}.count")) for at, one in enumerate(body.seconds)]
    lot = grading.graded(
        ctx,
        batch_id,
        good=good,
        out=out,
        on=body.on,
        client_uuid=body.client_uuid,
        version=body.version,
        seconds=seconds,
        rest=body.rest,
    )
    rest = " The rest stands on." if body.rest else ""
    return {"id": lot.pk, "message": f"{good:,} good ones are lot {lot.code}.{rest}"}


@room.post("/batches/{ref:batch_id}/picked", "batches.do", response=Done)
def picked(ctx: Ctx, batch_id: Ref, body: PickedIn) -> Any:
    """A round of picking, taken to stock; a repeat with the same uuid changes nothing."""
    saved = load_batch(ctx, batch_id)
    if body.stage not in saved.stages:
        raise refuse("stage", "out_of_range", "This batch has no such stage.")
    quantity = read_quantity(body.quantity, unit(saved.stages[body.stage].unit), "quantity")
    lot = grading.picked(ctx, batch_id, stage=body.stage, quantity=quantity, on=body.on, client_uuid=body.client_uuid)
    return {"id": lot.pk, "message": f"{quantity.words()} are lot {lot.code}."}


@room.post("/batches/{ref:batch_id}/resow", "batches.plan", response=Done)
def resow(ctx: Ctx, batch_id: Ref, body: ResowIn) -> Any:
    """Take the offer to sow again: a new batch with its tasks."""
    pk = resowing.take_offer(ctx, batch_id, version=body.version)
    return {"id": pk, "message": "Planned."}


class HomelessOut(Schema):
    kind: str
    words: str
    batches: int
    there: bool


@room.get("/batches/homeless", "see", response=list[HomelessOut])
def homeless(ctx: Ctx) -> Any:
    """Kinds of place that planned batches asked for in vain."""
    return [
        {
            "kind": one.kind,
            "words": PLACE_KINDS.get(one.kind, one.kind).lower(),
            "batches": one.batches,
            "there": one.there,
        }
        for one in placing.homeless(ctx)
    ]


@room.post("/batches/plan-again", "batches.plan", response=Done)
def plan_again(ctx: Ctx) -> Any:
    """Plan the batches once more that asked for a place which is there by now."""
    codes = placing.plan_again(ctx)
    return {"message": f"Planned again: {', '.join(codes)}." if codes else "None of them found a place."}
