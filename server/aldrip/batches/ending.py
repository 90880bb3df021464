"""End a batch without a delivery."""

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, BatchInput, Occupancy
from aldrip.diary.models import Task


def abandon(ctx: Ctx, batch: Batch) -> None:
    """End a batch without a delivery: its claims and its work to come are let go; what happened stays.

    Space that it took until today was taken; what it would have taken from today on is free.
    """
    batch.state = Batch.State.ABANDONED
    batch.version += 1
    batch.decide_by, batch.decide_text = None, ""
    batch.save()
    leave_places(ctx, batch)
    BatchInput.objects.filter(stage__batch=batch, taken_on=None).delete()
    ctx.rows(Task).filter(subject=batch.uuid, state=Task.State.TODO, note="").delete()


def leave_places(ctx: Ctx, batch: Batch) -> None:
    """Let go of every place from today on. Of a stage that never began nothing was taken."""
    rows = Occupancy.objects.filter(stage__batch=batch)
    rows.filter(stage__actual_start=None).delete()
    rows.filter(during__startswith__gte=ctx.today).delete()
    for one in rows.filter(during__endswith__gt=ctx.today):
        one.during = type(one.during)(one.during.lower, ctx.today)
        one.save(update_fields=["during"])
