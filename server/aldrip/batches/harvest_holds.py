"""What stood where something was applied: which batches, and that nothing of them leaves before the label's day."""

from collections.abc import Sequence
from datetime import date
from uuid import UUID

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, Occupancy, Yield
from aldrip.diary.applications import may_be_harvested
from aldrip.lots.taking import Leaving
from aldrip.places.models import Place


def stood_at(ctx: Ctx, place: Place, on: date) -> Sequence[tuple[UUID, str]]:
    """Batches that stand at a place on a day and have been begun."""
    rows = Occupancy.objects.filter(place=place, during__contains=on, stage__batch__organisation=ctx.organisation)
    rows = rows.exclude(stage__batch__state__in=(Batch.State.PLANNED, Batch.State.ABANDONED))
    found = rows.order_by("stage__batch").values_list("stage__batch__uuid", "stage__batch__code").distinct()
    return list(found)


def before_the_day(ctx: Ctx, leaving: Leaving) -> None:
    """Refuse to hand over what was raised where a label still says wait."""
    if not leaving.used or leaving.what != "delivered":
        return
    batches = Yield.objects.filter(lot=leaving.lot).values_list("stage__batch__uuid", flat=True)
    may_be_harvested(ctx, set(batches), leaving.on, leaving.field, leaving.what)
