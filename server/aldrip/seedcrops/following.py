"""What follows in the batches when something of a field or round it changed: its class, and what bars its seed."""

from collections.abc import Mapping

from aldrip.accounts.context import Ctx
from aldrip.accounts.events import Touched
from aldrip.base.bulk import update_rows
from aldrip.batches.forecasting import LIVE, refresh
from aldrip.batches.models import Batch
from aldrip.seedcrops.isolation import Surroundings, too_near
from aldrip.seedcrops.kilos import RESTS_ON, blocks_touched, follow_kilos
from aldrip.seedcrops.models import SeedBlock
from aldrip.seedcrops.signing import rejections

#: Columns on which a field's class and its isolation rest, by table.
WEIGHED = RESTS_ON
FOLLOWED = {
    "seedcrops_seedblock": frozenset({"outline", "seed_class", "strip_left", "step"}),
    "seedcrops_blockparent": frozenset({"line_id", "sow_on", "sowings", "sowing_gap_days"}),
    "seedcrops_blocksowing": frozenset({"sown_on"}),
    "seedcrops_flowerobservation": frozenset({"stage", "share", "seen_on"}),
    "seedcrops_neighbour": frozenset({"outline", "kind", "crop_id", "flowers_from", "flowers_to", "year", "active"}),
    "seedcrops_inspection": frozenset({"state", "decision"}),
    "methods_isolationrule": frozenset({"metres", "time_allowed", "time_margin_days", "kind", "seed_class", "retired"}),
    "accounts_organisation": frozenset({"class_scheme"}),
}


def barred_by(around: Surroundings, block: SeedBlock) -> str:
    """Why nothing of a block may be delivered as it stands; empty where it may."""
    return "; ".join([*rejections(block), *too_near(around, block)])[:200]


def heard(ctx: Ctx, touched: Mapping[str, Touched]) -> None:
    """Tell the batches of all fields that run as what they are grown and what bars them."""
    around = Surroundings(ctx, "inspections")
    changed = []
    for block in around.blocks:
        batch = block.batch
        if batch.state in LIVE:
            now = (block.seed_class, barred_by(around, block))
            if now != (batch.seed_class, batch.barred):
                changed.append((batch.pk, *now))
    update_rows(Batch, ("seed_class", "barred"), changed)
    touched_by = {pk for pk, *_ in changed}
    if touched_by:
        refresh(ctx, batches=touched_by)


def weighed(ctx: Ctx, touched: Mapping[str, Touched]) -> None:
    """Let the batches of blocks whose rows, sowings or flowering changed reckon with the kilos that they now give."""
    batches = follow_kilos(ctx, blocks_touched(ctx, touched))
    if batches:
        refresh(ctx, batches=batches)
