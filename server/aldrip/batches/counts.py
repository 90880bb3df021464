"""What was counted of a batch: what came up, and what was lost."""

import uuid
from collections.abc import Sequence
from datetime import date

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import share
from aldrip.batches.forecasting import losses
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.saved import Saved, load_batch, rate_of
from aldrip.batches.sowings import cells_of
from aldrip.batches.steps import (
    first_answer,
    follow_on,
    is_begun,
    is_seed_crop,
    not_before,
    plants_only,
    stage_named,
    still_open,
)
from aldrip.diary.models import Count
from aldrip.diary.services import finish, record_count
from aldrip_core.forecast import TrayCount, counted_rate
from aldrip_core.plausible import how_far
from aldrip_core.stages import Trait


@act
def count_emergence(
    ctx: Ctx,
    batch_id: Ref,
    *,
    trays: Sequence[TrayCount],
    on: date,
    client_uuid: uuid.UUID,
    stage: str | None = None,
    replaces: Ref | None = None,
    reason: str = "",
) -> Count:
    """Count sampled trays: the share found becomes the batch's own, and the forecast moves."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    first = first_answer(ctx, client_uuid)
    if first is not None:
        return first
    still_open(batch)
    plants_only(batch)
    is_begun(batch, "there is nothing to count")
    counted = (saved.with_trait(Trait.EMERGES) or saved.first) if stage is None else stage_named(saved, stage)
    if counted.actual_start is None or on < counted.actual_start:
        raise refuse("on", "too_early", f"“{counted.name}” had not begun on {on}.")
    counted_rate(trays=trays, of_trays=batch.trays)
    if batch.trays is not None and len(trays) > batch.trays:
        raise refuse("trays", "too_many", f"The batch has {batch.trays} trays; {len(trays)} were counted.")
    _doubt_count(ctx, saved, counted, trays)
    sampled, found = sum(t.sampled for t in trays), sum(t.found for t in trays)
    old = ctx.get(Count, replaces) if replaces else None
    if old is not None and (old.subject, old.stage, old.kind) != (batch.uuid, counted.key, "emergence"):
        raise refuse("replaces", "other_count", "Only a count of the same stage of this batch can be replaced.")
    if old is not None and ctx.rows(Count).filter(replaces=old).exists():
        raise refuse("replaces", "replaced", "That count was replaced already. Look at the newest one.")
    count, _ = record_count(
        ctx,
        subject_kind="batch",
        subject=batch.uuid,
        stage=counted.key,
        kind="emergence",
        sampled=sampled,
        found=found,
        parts=[{"sampled": t.sampled, "found": t.found} for t in trays],
        cause="",
        on=on,
        client_uuid=client_uuid,
        reason=reason,
        replaces=old,
    )
    take_newest_count(ctx, saved, counted)
    batch.version += 1
    batch.save(update_fields=["counted", "version"])
    follow_on(ctx, saved, ())  # pots, places, work and materials are for what came up
    finish(ctx, subject=batch.uuid, stages=[counted.key], at=("end", "start"), kinds=["count"])
    ctx.record(
        "batch.count",
        f"Counted {batch.code}: {found:,} of {sampled:,} cells, {share(found / sampled)}.",
        batch,
        after={"sampled": sampled, "found": found},
    )
    return count


def _doubt_count(ctx: Ctx, saved: Saved, row: BatchStage, trays: Sequence[TrayCount]) -> None:
    """More cells than a tray has, or far fewer seedlings than were to be expected, are asked about."""
    cells = cells_of(saved.batch)
    most = max(tray.sampled for tray in trays)
    over = f"{most:,} cells in one tray? A tray of this batch has {cells:,}." if cells and most > cells else None
    ctx.doubt("cells", "trays", over)
    share = sum(t.found for t in trays) / sum(t.sampled for t in trays)
    expected = rate_of(row).spread.mean
    far = how_far(share, expected) if share else "nothing of"
    ctx.doubt(
        "emerged",
        "trays",
        far and f"{share:.0%} came up: {far} the {expected:.0%} expected. Is it so?".replace("%", " %"),
    )


def take_newest_count(ctx: Ctx, saved: Saved, row: BatchStage) -> None:
    """What a stage kept is what the newest count saw, by the day on which it was made, not by when it was entered."""
    rows = ctx.rows(Count).filter(subject=saved.batch.uuid, stage=row.key, kind="emergence", replaced_by=None)
    newest = max(rows, key=lambda count: (ctx.local(count.happened_at).date(), count.pk), default=None)
    if newest is None:
        return
    trays = [TrayCount(part["sampled"], part["found"]) for part in newest.parts]
    spread = counted_rate(trays=trays, of_trays=saved.batch.trays)
    row.counted_share, row.counted_sd, row.counted_of = newest.found / newest.sampled, spread.sd, newest.sampled
    row.save(update_fields=["counted_share", "counted_sd", "counted_of"])
    saved.batch.counted = newest.found / newest.sampled


@act
def count_loss(ctx: Ctx, batch_id: Ref, *, lost: int, cause: str, on: date, client_uuid: uuid.UUID) -> Count:
    """Plants lost, with the cause."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    done = first_answer(ctx, client_uuid)
    if done is not None:
        return done
    still_open(batch)
    is_begun(batch, "nothing can be lost of it")
    not_before([saved.first], on)
    if not cause.strip():
        raise refuse(
            "cause", "missing", "What took them? Write it, such as damping-off, slugs, drying, rodents or a machine."
        )
    left = batch.start - losses(ctx, [batch]).get(batch.pk, 0)
    if not 0 < lost <= left:
        raise refuse("lost", "out_of_range", f"{lost:,} lost cannot be; {left:,} are left of {batch.start:,} started.")
    most = f"{lost:,} lost of {left:,}, more than half of the batch. Is it so?" if lost * 2 > left else None
    ctx.doubt("lost", "lost", most)
    count, _ = record_count(
        ctx,
        subject_kind="batch",
        subject=batch.uuid,
        stage=saved.now.key,
        kind="loss",
        sampled=left,
        found=lost,
        parts=[],
        cause=cause.strip()[:80],
        on=on,
        client_uuid=client_uuid,
    )
    batch.version += 1
    batch.save(update_fields=["version"])
    if batch.state == Batch.State.SOWN and not is_seed_crop(batch):
        follow_on(ctx, saved, ())
    ctx.record("batch.loss", f"Lost of {batch.code}: {lost:,}, {cause.strip()}.", batch)
    return count
