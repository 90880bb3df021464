"""End a batch without a delivery."""

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, Occupancy
from aldrip.diary.models import Task


def abandon(ctx: Ctx, batch: Batch) -> None:
    """End a batch without a delivery: its space, tasks and claims are let go; records stay."""
    batch.state = Batch.State.ABANDONED
    batch.version += 1
    batch.decide_by, batch.decide_text = None, ""
    batch.save()
    Occupancy.objects.filter(stage__batch=batch).delete()
    ctx.rows(Task).filter(subject_kind="batch", subject_id=batch.pk, state=Task.State.TODO).delete()
