"""A part of a block that counts no more: a strip left for isolation, or a part that an inspection rejected."""

import uuid

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.batches.saved import losses_of
from aldrip.diary.services import finish_task, record_count
from aldrip.lots.models import Intake
from aldrip.places.ground import centre_of
from aldrip.seedcrops.inspecting import get_inspection, judgement_of, tally_of, visit_key
from aldrip.seedcrops.laying import left_m2, left_of, load_block, ring_m
from aldrip.seedcrops.models import Inspection, SeedBlock
from aldrip.seedcrops.signing import again_after, sentence_of
from aldrip_core.geometry import to_degrees
from aldrip_core.isolation import Parts, common_parts
from aldrip_core.side import SIDES, beyond_side

MIXED_IN = "Loads of the block were taken in already; the seed of that part is among them."
LEAST_M2 = 1.0


def taken_in(ctx: Ctx, block: SeedBlock) -> bool:
    """Whether a load of the block was taken in."""
    return ctx.rows(Intake).filter(subject=block.batch.uuid).exclude(lot=None).exists()


def leave(ctx: Ctx, block: SeedBlock, kept: Parts, kept_m2: float, cause: str) -> int:
    """Let only `kept` count of a block from now on; returns the square metres that are lost of its batch.

    What was lost before, by hail for one, lay in both parts alike: the part that goes takes its share of it.
    """
    east, north = centre_of(block.field.site)
    before, batch = left_m2(block), block.batch
    block.strip_left = {
        "type": "MultiPolygon",
        "coordinates": [
            [[list(p) for p in to_degrees(r, longitude=east, latitude=north)] for r in polygon] for polygon in kept
        ],
    }
    block.version += 1
    block.save(update_fields=["strip_left", "version"])
    lost_before = losses_of(ctx.organisation.pk, [batch]).get(batch.pk, 0)
    standing = max(0, batch.start - lost_before)
    lost = min(standing, round(max(0.0, before - kept_m2) / before * standing)) if before else 0
    record_count(
        ctx,
        subject_kind="batch",
        subject=batch.uuid,
        stage="",
        kind="loss",
        sampled=batch.start,
        found=lost,
        parts=[],
        cause=cause[:120],
        on=ctx.today,
        client_uuid=uuid.uuid4(),
    )
    return lost


@act
def reject_part(ctx: Ctx, inspection_id: Ref, *, side: str, metres: float, reason: str) -> SeedBlock:
    """Sign that a part along one side of a block is rejected; the rest stands and is inspected again."""
    inspection = get_inspection(ctx, inspection_id, lock=True)
    block = load_block(ctx, inspection.block_id, lock=True)
    if inspection.state != Inspection.State.OPEN:
        said = "is signed already" if inspection.state == Inspection.State.SIGNED else "has not begun"
        raise refuse("state", "closed", f"Inspection {inspection.number} of {block.batch.code} {said}.")
    if side not in SIDES:
        raise refuse("side", "not_a_choice", "The north, east, south or west side.")
    if not reason.strip():
        raise refuse("reason", "missing", "What is wrong with that part? It stands in the record of the inspection.")
    if taken_in(ctx, block):
        raise refuse("block", "taken_in", MIXED_IN + " Downgrade or reject the field, or reject the lots.")
    good = left_of(block) or [[ring_m(block)]]
    standing = left_m2(block)
    kept, kept_m2 = common_parts(good, [[beyond_side(good, side=side, metres=metres)]])
    if kept_m2 < LEAST_M2:
        raise refuse(
            "metres", "nothing_left", f"{metres:g} m from the {side} take all of it. Reject the field instead."
        )
    if standing - kept_m2 < LEAST_M2:
        raise refuse("metres", "nothing_taken", f"{metres:g} m from the {side} take nothing of it. Say more.")
    lost = leave(ctx, block, kept, kept_m2, f"rejected: {reason.strip()}")
    tally = tally_of(inspection)
    inspection.state, inspection.decision = Inspection.State.SIGNED, "part"
    inspection.signed_by, inspection.signed_role, inspection.signed_at = ctx.user, ctx.role, ctx.now
    inspection.counted = {"plants": tally.plants, "faults": tally.faults}
    told = f"{metres:g} m along the {side} side rejected, {(standing - kept_m2) / 10_000:.2f} ha: {reason.strip()}."
    inspection.sentence = f"{told} {sentence_of(judgement_of(inspection, tally))}"[:400]
    inspection.save()
    finish_task(ctx, block.batch, visit_key(inspection))
    again_after(ctx, inspection, "of what was kept")
    ctx.record(
        "inspection.part",
        f"{block.batch.code}, {inspection.words.lower()}: {told} {lost:,} m² fewer count.",
        block,
        after={"inspection": str(inspection.uuid), "decision": "part"},
    )
    return block
