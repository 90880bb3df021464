"""The steps of a batch that runs: what begins and ends on a day, and how the plan follows."""

import uuid
from collections.abc import Iterable, Sequence
from dataclasses import replace
from datetime import date, timedelta

from aldrip.accounts.context import Ctx
from aldrip.base.bulk import days
from aldrip.base.errors import Conflict, refuse
from aldrip.batches.editing import apply_plan
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchStage, Occupancy
from aldrip.batches.saved import Saved, request_of
from aldrip.diary.models import Count
from aldrip.diary.services import finish
from aldrip.places.models import Place
from aldrip_core.batch_plan import Happened, Stand, plan_batch
from aldrip_core.stage_dates import Anchor


def not_in_future(ctx: Ctx, on: date) -> None:
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Record it on the day.")


def not_before(stages: Sequence[BatchStage], on: date) -> None:
    """Nothing happens to a batch before its newest stage began."""
    begun = [stage for stage in stages if stage.actual_start is not None and stage.actual_start > on]
    if begun:
        raise refuse("on", "too_early", f"“{begun[-1].name}” began on {begun[-1].actual_start}; {on} lies before that.")


def still_open(batch: Batch) -> None:
    if batch.state in (Batch.State.DELIVERED, Batch.State.ABANDONED):
        raise refuse("state", "closed", f"Batch {batch.code} is {batch.state}; nothing more can be recorded.")


def is_begun(batch: Batch, words: str) -> None:
    if batch.state == Batch.State.PLANNED:
        raise refuse("state", "not_sown", f"Batch {batch.code} is not sown yet; {words}.")


def is_seed_crop(batch: Batch) -> bool:
    """Whether a batch is grown for its seed; its steps are recorded in Seed crops and Lots."""
    return str(batch.method_snapshot.get("way", "plants")) != "plants"


def plants_only(batch: Batch) -> None:
    if is_seed_crop(batch):
        raise refuse(
            "state",
            "seed_crop",
            f"{batch.code} is grown for seed: record its sowing, counts and harvest in Seed crops.",
        )


def same_version(batch: Batch, version: int | None) -> None:
    if version is not None and batch.version != version:
        raise Conflict("Somebody changed this batch meanwhile. Look again before you record.", version=batch.version)


def follow_on(ctx: Ctx, saved: Saved, just_begun: Iterable[str], place: Place | None = None) -> None:
    """Let what is still to come keep its plan, or move on as far as it must; what has just begun stands from its day."""
    batch = saved.batch
    ground = Ground(ctx, without=[batch.pk])
    request = request_of(saved, ground.stood)
    happened, places = dict(request.happened), dict(request.places)
    for key in just_begun:
        row = saved.stages[key]
        if row.actual_start is not None and row.actual_end is None:
            happened[key] = Happened(row.actual_start)
            if place is not None:
                places[key] = (Stand(place.pk),)
    request = replace(request, happened=happened, places=places, anchor=Anchor(follow=True), start=batch.start)
    apply_plan(ctx, saved, plan_batch(request, ground, working=False))


def begin(saved: Saved, keys: Iterable[str], on: date) -> list[str]:
    """Stages begin on a day, and those that they follow are over. What was over stays as it was."""
    begun = []
    for key in keys:
        row = saved.stages[key]
        if row.actual_start is not None:
            continue
        row.actual_start = on
        begun.append(key)
        before = saved.method.by_key[key].follows
        if before is not None:
            end(saved.stages[before], on)
    BatchStage.objects.bulk_update(saved.stages.values(), ["actual_start", "actual_end", "planned"])
    return begun


def end(row: BatchStage, on: date) -> None:
    """A stage is over: what it took of its place is what it stood there."""
    if row.actual_end is not None or row.actual_start is None:
        return
    row.actual_end = on
    row.planned = days(row.actual_start, max(on, row.actual_start + timedelta(days=1)))
    rows = list(Occupancy.objects.filter(stage=row).order_by("during"))
    newest = max((one.during.upper for one in rows), default=None)
    for one in rows:
        start = max(one.during.lower, row.actual_start)
        end = on if one.during.upper == newest else min(one.during.upper, on)
        if end <= start:
            one.delete()
        elif (start, end) != (one.during.lower, one.during.upper):
            one.during = days(start, end)
            one.save(update_fields=["during"])


def way_to(saved: Saved, key: str) -> list[str]:
    """The stages that come before one in time, and itself."""
    way: list[str] = []
    now: str | None = key
    while now is not None:
        way.append(now)
        now = saved.method.by_key[now].follows
    return way[::-1]


def began(ctx: Ctx, saved: Saved, *, start: int, on: date, whole: bool = True) -> None:
    """The first stage is done and what follows it runs. Call inside a transaction, with the batch locked.

    Not `whole`: more is still to be sown, so the work of the first stage stays to be done.
    """
    batch = saved.batch
    batch.start, batch.start_typed, batch.state = start, True, Batch.State.SOWN
    root = saved.method.root.key
    following = [
        spec.key
        for spec in saved.method.stages
        if spec.follows == root and spec.key in {s.key for s in saved.method.spine}
    ]
    begun = begin(saved, [root, *following], on)
    follow_on(ctx, saved, begun)
    finish(ctx, subject=batch.uuid, stages=begun if whole else following, at=("before", "start"))


def reached(ctx: Ctx, saved: Saved, key: str, on: date) -> None:
    """A stage has begun, and with it every one before it is over. Call inside a transaction, with the batch locked."""
    if saved.stages[key].actual_start is None:
        follow_on(ctx, saved, begin(saved, way_to(saved, key), on))


def stage_named(saved: Saved, key: str) -> BatchStage:
    if key not in saved.stages:
        raise refuse("stage", "out_of_range", "This batch has no such stage.")
    return saved.stages[key]


def first_answer(ctx: Ctx, client_uuid: uuid.UUID) -> Count | None:
    """The count that this entry made when it came first."""
    return ctx.rows(Count).filter(client_uuid=client_uuid).first()
