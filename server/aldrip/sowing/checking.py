"""Whether one seed lies in a cell: misses and doubles, counted or measured along a row, kept with the batch."""

import uuid
from collections.abc import Sequence
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_measures
from aldrip.base.words import number, share, who
from aldrip.batches.models import Batch
from aldrip.batches.saved import load_batch, snapshot_of
from aldrip.sowing.models import SowCheck
from aldrip_core.singling import by_spacing, singled

MOST_LOOKED = 1_000_000
SHOWN = 20


def read_spacings(text: str) -> list[float]:
    """Distances in cm as typed, one after another: “10 9 21 4”, “10; 9,5; 21”. Raises Refused."""
    return read_measures(text, "cm", "spacings")


def one_by_one(ctx: Ctx, batch: Batch) -> bool:
    """Whether a batch is sown one seed to a cell, or seed by seed along a row; not in clumps, nor thrown over a tray."""
    saved = load_batch(ctx, batch.pk)
    snapshot = snapshot_of(saved.batch)
    container = snapshot["containers"].get(snapshot["container"])
    in_cells = not batch.trays or (container is not None and container["cells"] > 1)
    return batch.seeds is not None and saved.method.seeds_per_cell == 1 and in_cells


@act
def check(
    ctx: Ctx,
    batch_id: Ref,
    *,
    client_uuid: uuid.UUID,
    looked: int = 0,
    misses: int = 0,
    doubles: int = 0,
    spacings: str = "",
    wanted_cm: float = 0.0,
    note: str = "",
) -> SowCheck:
    """Somebody looked whether one seed lies in each cell, or measured along a row."""
    batch = ctx.get(Batch, batch_id)
    done = ctx.rows(SowCheck).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    if spacings.strip():
        looked, misses, doubles = by_spacing(read_spacings(spacings), wanted_cm=wanted_cm)
    if looked > MOST_LOOKED:
        raise refuse("looked", "out_of_range", f"Nobody looks at more than {MOST_LOOKED:,} cells.")
    found = singled(looked=looked, misses=misses, doubles=doubles)
    if not one_by_one(ctx, batch):
        told = f"{batch.code} is not sown one seed to a cell: there is nothing to single."
        raise refuse("batch_id", "not_singled", told)
    made = SowCheck.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        client_uuid=client_uuid,
        happened_at=ctx.now,
        reason=note.strip()[:300],
        batch=batch,
        looked=looked,
        misses=misses,
        doubles=doubles,
        spacings=spacings.strip()[:1000],
    )
    told = f"{batch.code}, of {looked:,} looked at: {share(found.misses, 1)} without a seed, {share(found.doubles, 1)} with two and more."
    ctx.record("sowing.check", told, batch)
    return made


def checks_of(ctx: Ctx, batch: Batch) -> Sequence[dict[str, Any]]:
    """What was found while a batch was sown, newest first, each with what it comes to on the whole batch."""
    rows = ctx.rows(SowCheck).filter(batch=batch).select_related("by").order_by("-happened_at", "-pk")[:SHOWN]
    cells = batch.start if batch.trays else 0
    found = []
    for one in rows:
        says = singled(looked=one.looked, misses=one.misses, doubles=one.doubles, cells=cells)
        all_of_it = (
            f" On all {number(cells)} cells: {number(says.empty_cells)} empty, {number(says.seeds_too_many)} seeds too many."
            if cells
            else ""
        )
        end = {
            "stop": " That is no chance: stop and set it anew.",
            "watch": " It may be chance: look at more.",
            "well": "",
        }[says.verdict]
        found.append(
            {
                "id": one.pk,
                "on": ctx.local(one.happened_at).date(),
                "verdict": says.verdict,
                "sentence": f"Of {one.looked:,}: {one.misses:,} without a seed ({share(says.misses, 1)}, {_band(says.misses_low, says.misses_high)}), "
                f"{one.doubles:,} with two and more ({share(says.doubles, 1)}, {_band(says.doubles_low, says.doubles_high)}).{all_of_it}{end}",
                "by": who(one.by),
                "note": one.reason,
            }
        )
    return found


def _band(low: float, high: float) -> str:
    return f"likely {low * 100:.1f} to {high * 100:.1f}"
