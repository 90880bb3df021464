"""A batch that is started from another one: what a stage gives is what the next batch begins with."""

from dataclasses import dataclass
from decimal import Decimal

from django.db.models import Sum

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.batches.models import Batch, BatchInput, BatchStage
from aldrip.batches.saved import dates_of, load_batch
from aldrip.methods.models import Crop, Line
from aldrip_core.batch_plan import Plan
from aldrip_core.stages import Trait
from aldrip_core.units import exact


@dataclass(frozen=True)
class Feed:
    """A stage of another batch, and how much of what it gives is wanted."""

    stage: BatchStage
    quantity: Decimal


def check_feed(ctx: Ctx, source: tuple[int, str], *, plan: Plan, crop: Crop, line: Line | None) -> Feed:
    """Refuse another batch's stage that does not give what this plan starts with, or not in time."""
    saved = load_batch(ctx, source[0])
    batch = saved.batch
    stage = saved.stages.get(source[1])
    if stage is None:
        raise refuse("from_stage", "not_a_choice", f"Batch {batch.code} has no such stage.")
    if batch.state in (Batch.State.DELIVERED, Batch.State.ABANDONED):
        raise refuse("from_batch", "closed", f"Batch {batch.code} is {batch.state}; nothing more comes of it.")
    if batch.crop.slug != crop.slug or (line is not None and batch.line is not None and batch.line.slug != line.slug):
        raise refuse("from_batch", "does_not_fit", f"Batch {batch.code} is not what this one is raised from.")
    if not saved.method.by_key[stage.key].does(Trait.YIELDS):
        raise refuse("from_stage", "no_stock", f"“{stage.name}” of {batch.code} gives nothing to stock.")
    root = plan.request.method.root
    takes = root.takes.value if root.takes else ""
    if takes not in ("plant", "stage", "cutting", "tuber", "division", "scion", "rootstock"):
        raise refuse("method_id", "takes_seed", f"“{root.name}” is started from seed, not from another batch.")
    ready = dates_of(saved)[stage.key].end
    if ready > plan.sow_on:
        raise refuse(
            "ready_on",
            "too_early",
            f"Batch {batch.code} gives its first on {ready}; this one would begin on {plan.sow_on}, "
            f"{(ready - plan.sow_on).days} days too early. Choose a later day.",
        )
    wanted = exact(plan.quantities.start)
    spoken = BatchInput.objects.filter(upstream=stage, taken_on=None).aggregate(all=Sum("quantity"))["all"] or Decimal(
        0
    )
    left = exact(stage.out) - spoken
    if wanted > left:
        raise refuse(
            "needed",
            "not_enough",
            f"Batch {batch.code} is expected to give {left:,.0f} more; {wanted:,.0f} are wanted, {wanted - left:,.0f} too many.",
        )
    return Feed(stage, wanted)
