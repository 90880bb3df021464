"""Take back what was kept, as a new edit from the audit's "before"."""

from django.db import transaction

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import AuditEvent
from aldrip.base.errors import Conflict, refuse
from aldrip.batches.editing import apply_plan
from aldrip.batches.ending import abandon
from aldrip.batches.forecasting import refresh
from aldrip.batches.ground import Ground
from aldrip.batches.planner import plan_batch
from aldrip.batches.resowing import refresh_decision
from aldrip.batches.saved import load_batch, request_from_state, state_of


@transaction.atomic
def undo(ctx: Ctx, audit_id: int) -> AuditEvent:
    """Take back a kept edit as a new edit. Raises Conflict when something came after it."""
    event = ctx.get(AuditEvent, audit_id, lock=True)
    if event.undone_by_id is not None:
        raise refuse("id", "undone", "This was taken back already.")
    if event.action not in ("batch.keep", "batch.new", "batch.resow") or event.subject_id is None:
        raise refuse("id", "not_undoable", "Only edits to plans can be taken back; correct a record instead.")
    batch, stages = load_batch(ctx, event.subject_id, lock=True)
    if batch.version != (event.after or {}).get("version"):
        raise Conflict("Something was saved after this; take that back first.", version=batch.version)
    before = state_of(batch, stages)
    if event.action == "batch.keep":
        request = request_from_state(ctx, batch, stages, event.before or {})
        plan = plan_batch(request, Ground(ctx, without=[batch.pk]), working=False)
        apply_plan(ctx, batch, stages, plan)
    else:
        abandon(ctx, batch)
    after = state_of(*load_batch(ctx, batch.pk))
    done = ctx.record("batch.undo", f"Took back: {event.sentence}", batch, before=before, after=after)
    event.undone_by = done
    event.save(update_fields=["undone_by"])
    refresh(ctx, batches=[batch.pk], lines=batch.allocations.values_list("order_line_id", flat=True))
    helped = (event.after or {}).get("tops_up")  # a re-sowing taken back may be asked for again
    refresh_decision(ctx, [helped] if helped else [batch.pk])
    return done
