"""The medium under a batch: how much of it its trays take, and from which lot of it they were filled."""

from collections.abc import Mapping
from datetime import date
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.batches.models import Batch
from aldrip.batches.saved import load_batch, snapshot_of
from aldrip.batches.steps import is_begun, not_in_future
from aldrip.lots.media import use_medium
from aldrip.lots.models import MediumUse
from aldrip_core.media import Media, media


def medium_of(batch: Batch, snapshot: Mapping[str, Any]) -> Media | None:
    """Litres of the mix that the batch's trays take; None without trays or mix."""
    mix, container = snapshot["mix"], snapshot["containers"].get(snapshot["container"])
    if mix is None or container is None or not batch.trays:
        return None
    return media(
        parts=mix["parts"],
        trays=filled(batch, container),
        cells_per_tray=container["cells"],
        cell_ml=container["cell_ml"],
        settling=mix["settling"],
        spillage=mix["spillage"],
    )


def filled(batch: Batch, container: Mapping[str, Any]) -> float:
    """Trays as far as they are filled: the last one may be sown in part."""
    whole, rest = divmod(batch.start, container["cells"])
    return whole + rest / container["cells"] if rest else float(batch.trays or 0)


def fill_from(ctx: Ctx, batch: Batch, medium_id: Ref, litres: float | None, *, on: date) -> MediumUse:
    """The trays of a batch were filled from a lot of medium; without a volume with what they take. Raises Refused."""
    found = medium_of(batch, snapshot_of(batch)) if litres is None else None
    much = litres if litres is not None else found.litres if found is not None else None
    if much is None:
        told = f"How many litres went under {batch.code}? Its container and mix are not known."
        raise refuse("medium_litres", "missing", told)
    return use_medium(ctx, medium_id, much, subject=batch, subject_code=batch.code, on=on)


@act
def filled_from(
    ctx: Ctx, batch_id: Ref, medium_id: Ref, *, litres: float | None = None, on: date | None = None
) -> Batch:
    """Say afterwards, or of pots, from which lot of medium a batch was filled."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    is_begun(batch, "record its sowing first")
    day = on or saved.first.actual_start or ctx.today
    not_in_future(ctx, day)
    used = fill_from(ctx, batch, medium_id, litres, on=day)
    ctx.record("batch.medium", f"{batch.code} stands in {used.medium}: {used.litres:g} L.", batch)
    return batch
