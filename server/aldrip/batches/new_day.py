"""A new day: what was not done in its time is reckoned from it, once, whoever comes first."""

from django.db import transaction

from aldrip.accounts.context import Ctx
from aldrip.accounts.models import Organisation
from aldrip.batches.forecasting import refresh
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.resowing import refresh_decision


def new_day(ctx: Ctx) -> int:
    """Bring promises and decisions of overdue batches up to today; how many there are. A second call does nothing.

    No act of anybody: nothing is recorded and nothing of it is taken back, since only what is reckoned changes.
    """
    with transaction.atomic():
        ctx.lock()
        house = Organisation.objects.get(pk=ctx.organisation.pk)
        if house.reckoned_on is not None and house.reckoned_on >= ctx.today:
            return 0
        waiting = BatchStage.objects.filter(
            batch__organisation=house,
            batch__state__in=(Batch.State.PLANNED, Batch.State.SOWN),
            actual_start=None,
            planned__startswith__lt=ctx.today,
        )
        overdue = sorted(set(waiting.values_list("batch", flat=True)))
        refresh(ctx, batches=overdue)
        refresh_decision(ctx, overdue)
        Organisation.objects.filter(pk=house.pk).update(reckoned_on=ctx.today)
    return len(overdue)
