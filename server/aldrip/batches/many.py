"""Many saved batches read at once."""

from collections import defaultdict

from django.db.models import QuerySet

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.saved import Saved, know, light, saved_of


def saved_many(ctx: Ctx, batches: QuerySet[Batch]) -> dict[int, Saved]:
    """Batches with their stages, by id; each frozen method is read once. A fixed number of queries."""
    rows = {one.pk: one for one in light(batches.select_related("crop", "container", "mix"))}
    know(rows.values())
    stages: dict[int, list[BatchStage]] = defaultdict(list)
    for batch in rows.values():
        batch.organisation = ctx.organisation
    for stage in BatchStage.objects.filter(batch__in=rows).order_by("batch_id", "order"):
        stages[stage.batch_id].append(stage)
    return {pk: saved_of(batch, stages[pk]) for pk, batch in rows.items()}
