"""Take back what was kept, as a new edit from the audit's "before"; what has happened since stays."""

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.models import AuditEvent
from aldrip.base.errors import Conflict, refuse
from aldrip.batches.editing import apply_plan
from aldrip.batches.ending import abandon
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch
from aldrip.batches.saved import load_batch, request_from_state, snapshot_of, state_of
from aldrip.methods.models import Container
from aldrip_core.batch_plan import plan_batch

UNDOABLE = ("batch.keep", "batch.new", "batch.resow")


@act
def undo(ctx: Ctx, audit_id: Ref) -> AuditEvent:
    """Take back a kept edit as a new edit. Raises Conflict when something came after it."""
    event = ctx.get(AuditEvent, audit_id, lock=True)
    if event.undone_by_id is not None:
        raise refuse("id", "undone", "This was taken back already.")
    if event.action not in UNDOABLE or event.subject is None:
        raise refuse("id", "not_undoable", "Only edits to plans can be taken back; correct a record instead.")
    saved = load_batch(ctx, event.subject, lock=True)
    batch = saved.batch
    if batch.version != (event.after or {}).get("version"):
        raise Conflict("Something was saved after this; take that back first.", version=batch.version)
    before = state_of(saved)
    if event.action == "batch.keep":
        state = event.before or {}
        request = request_from_state(ctx, saved, state)
        plan = plan_batch(request, Ground(ctx, without=[batch.pk]), working=False)
        apply_plan(ctx, saved, plan, snapshot=_snapshot_before(ctx, batch, state.get("container")))
    else:
        abandon(ctx, batch)
    after = state_of(load_batch(ctx, batch.pk))
    done = ctx.record("batch.undo", f"Took back: {event.sentence}", batch, before=before, after=after)
    event.undone_by = done
    event.save(update_fields=["undone_by"])
    return done


def _snapshot_before(ctx: Ctx, batch: Batch, container: dict[str, object] | None) -> dict[str, object] | None:
    """The batch's snapshot with the container that it had before; None where that is the one it has."""
    now = snapshot_of(batch)
    slug = str(container["slug"]) if container else ""
    if now["container"] == slug:
        return None
    row = ctx.shared_rows(Container).filter(slug=slug).order_by("organisation_id").first()
    batch.container_id = row.pk if row else None
    known = {**now["containers"], slug: container} if container else now["containers"]
    return {**now, "containers": known, "container": slug}
