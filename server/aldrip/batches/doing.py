"""What happens to a batch between its sowing and its grading: it is moved, potted, set out."""

from datetime import date

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.batches.models import Batch
from aldrip.batches.saved import load_batch
from aldrip.batches.steps import (
    begin,
    follow_on,
    not_in_future,
    plants_only,
    same_version,
    stage_named,
    still_open,
)
from aldrip.batches.where import check_place
from aldrip.diary.applications import ask_before_entering
from aldrip.diary.services import finish
from aldrip.places.models import Place


@act
def moved(
    ctx: Ctx, batch_id: Ref, *, stage: str, on: date, place_id: int | None = None, version: int | None = None
) -> Batch:
    """A batch went on to its next stage: moved, potted, pricked out or spaced."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    still_open(batch)
    plants_only(batch)
    same_version(batch, version)
    not_in_future(ctx, on)
    row = stage_named(saved, stage)
    if batch.state == Batch.State.PLANNED:
        raise refuse("stage", "not_sown", f"Batch {batch.code} is not sown yet; record that first.")
    spec = saved.method.by_key[stage]
    following = saved.next
    beside = (
        spec not in saved.method.spine
        and row.actual_start is None
        and saved.stages[spec.follows or stage].actual_start is not None
    )
    if not beside and (following is None or following.key != stage):
        raise refuse(
            "stage", "not_next", f"The next step of {batch.code} is “{following.name if following else 'nothing'}”."
        )
    before = saved.stages[spec.follows or stage]
    since = before.actual_start or on
    if on < since:
        raise refuse("on", "too_early", f"“{before.name}” began on {since}; it cannot move on before that.")
    place = None
    if place_id is not None:
        place = ctx.get(Place, place_id)
        check_place(place, spec)
        row.place = place
    for entered in (place or row.place, before.place):
        if entered is not None and on == ctx.today:
            ask_before_entering(ctx, entered, "place_id")
    begun = begin(saved, [stage], on)
    follow_on(ctx, saved, begun, place)
    finish(ctx, subject=batch.uuid, stages=begun, at=("before", "start"))
    where = f" to {row.place.name}" if row.place else ""
    ctx.record("batch.moved", f"{row.name}: {batch.code}{where} on {on.day} {on:%b}.", batch)
    return batch
