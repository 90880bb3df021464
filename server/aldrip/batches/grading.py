"""What a batch gives to stock: graded, in one go or in parts, or picked in rounds."""

import math
import uuid
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.batches.forecasting import losses
from aldrip.batches.models import Batch, BatchStage, Yield
from aldrip.batches.saved import Saved, load_batch
from aldrip.batches.steps import (
    begin,
    follow_on,
    is_begun,
    not_before,
    not_in_future,
    plants_only,
    same_version,
    stage_named,
    still_open,
    way_to,
)
from aldrip.diary.applications import may_be_harvested
from aldrip.diary.models import Count
from aldrip.diary.services import finish, record_count
from aldrip.lots.models import Lot
from aldrip.lots.moving import move
from aldrip_core.plausible import MUCH_MORE
from aldrip_core.stages import Trait
from aldrip_core.units import Quantity, unit
from aldrip_core.whole import ceil_whole


@act
def graded(
    ctx: Ctx,
    batch_id: Ref,
    *,
    good: int,
    out: Sequence[Mapping[str, Any]],
    on: date,
    client_uuid: uuid.UUID,
    version: int | None = None,
    seconds: Sequence[tuple[str, int]] = (),
    rest: bool = False,
) -> Lot:
    """Grade a batch against its standard: the good ones become a lot, other grades lots of theirs, what fails is counted by cause.

    rest: this was a part of it; the others stand on and are graded later.
    """
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    done = ctx.rows(Lot).filter(from_stages__stage__batch=batch, movements__client_uuid=client_uuid).first()
    if done is not None:
        return done
    still_open(batch)
    plants_only(batch)
    same_version(batch, version)
    not_in_future(ctx, on)
    is_begun(batch, "there is nothing to grade")
    not_before(list(saved.stages.values()), on)
    row = saved.with_trait(Trait.GRADES) or saved.last
    main = _yielding(saved, row)
    rejected, others = sum(int(entry["count"]) for entry in out), sum(number for _, number in seconds)
    before = graded_before(ctx, saved)
    _check_grading(ctx, saved, good, others, rejected, sum(before))
    # Less may be one part of it; more than was forecast is plants that nobody saw.
    expected = float(batch.expected or 0) / float(saved.method.unit.value.factor) - in_stock_of(batch)
    over = (
        f"{good:,} good ones is more than was forecast, {expected:,.0f}. Is it so?"
        if good > expected * MUCH_MORE
        else None
    )
    ctx.doubt("good", "good", over if expected else None)
    begun = [] if rest else begin(saved, way_to(saved, main.key), on)
    lot = to_stock(ctx, saved, main, Quantity.of(good, unit(main.unit)), "graded", on, client_uuid)
    for key, number in seconds:
        second = stage_named(saved, key)
        if saved.method.by_key[key].after not in (row.key, main.key) or not saved.method.by_key[key].does(Trait.YIELDS):
            raise refuse("seconds", "not_a_choice", f"“{second.name}” is no grade of {batch.code}.")
        begun += [] if rest else begin(saved, [key], on)
        to_stock(ctx, saved, second, Quantity.of(number, unit(second.unit)), "graded", on, None)
    graded_in_all = good + others + rejected
    for entry in out:
        if int(entry["count"]):
            record_count(
                ctx,
                subject_kind="batch",
                subject=batch.uuid,
                stage=row.key,
                kind="graded out",
                sampled=graded_in_all,
                found=int(entry["count"]),
                parts=[],
                cause=str(entry["cause"])[:80],
                on=on,
                client_uuid=uuid.uuid4(),
            )
    if rest:
        batch.version += 1
        batch.save(update_fields=["version"])
    else:
        whole = graded_in_all + sum(before)
        row.counted_share, row.counted_sd, row.counted_of = (good + others + before[0]) / whole, 0.0, whole
        row.save(update_fields=["counted_share", "counted_sd", "counted_of"])
        batch.state, batch.decide_by, batch.decide_text = Batch.State.READY, None, ""
        follow_on(ctx, saved, begun)
        finish(ctx, subject=batch.uuid, stages=[row.key, *begun], at=("before", "start"), kinds=["grade"])
    part = "A part of " if rest else ""
    ctx.record(
        "batch.graded",
        f"{part or 'Graded '}{batch.code}{' graded' if rest else ''}: {good:,} good, {rejected:,} out.",
        batch,
    )
    return lot


def _yielding(saved: Saved, row: BatchStage) -> BatchStage:
    """The stage that gives the good ones to stock: the grading itself, or its first branch."""
    if saved.method.by_key[row.key].does(Trait.YIELDS):
        return row
    found = next((s for s in saved.method.children(row.key) if s.does(Trait.YIELDS)), None)
    return saved.stages[found.key] if found else row


def graded_before(ctx: Ctx, saved: Saved) -> tuple[int, int]:
    """What went through grading in earlier parts: good ones of every grade, and those that failed."""
    good = sum(int(one.quantity) for one in Yield.objects.filter(stage__batch=saved.batch))
    out = ctx.rows(Count).filter(subject=saved.batch.uuid, kind="graded out", replaced_by=None)
    return good, sum(out.values_list("found", flat=True))


def in_stock_of(batch: Batch) -> float:
    """What a batch gave to stock in earlier parts and is still there: its forecast counts it."""
    rows = Yield.objects.filter(stage__batch=batch).values_list("lot__balance", flat=True)
    return float(sum(rows))


def _check_grading(ctx: Ctx, saved: Saved, good: int, others: int, rejected: int, before: int) -> None:
    batch = saved.batch
    # Where one gives several, as a mother plant gives cuttings, more may be graded than was started.
    of_one = math.prod(max(1.0, stage.factor.mean + 3 * stage.factor.sd) for stage in saved.method.spine)
    left = ceil_whole((batch.start - losses(ctx, [batch]).get(batch.pk, 0)) * of_one)
    if good < 0 or rejected < 0 or others < 0 or good + rejected + others == 0:
        raise refuse("good", "missing", "How many were good, and how many were graded out?")
    if good + rejected + others + before > left:
        raise refuse(
            "good",
            "too_many",
            f"{good + rejected + others + before:,} graded is more than the {left:,} that were started and not lost.",
        )


def to_stock(
    ctx: Ctx, saved: Saved, row: BatchStage, quantity: Quantity, kind: str, on: date, client_uuid: uuid.UUID | None
) -> Lot:
    """A lot of what a stage gave, in the form that the stage ends in."""
    batch = saved.batch
    leaf = next(
        (leaf for leaf in saved.method.leaves if any(s.key == row.key for s in saved.method.path(leaf.key))), None
    )
    lot = Lot.objects.create(
        organisation=ctx.organisation,
        code=ctx.next_code("lot")[0],
        crop=batch.crop,
        line=batch.line,
        form=saved.method.product_of(leaf) if leaf else saved.method.form,
        unit=row.unit,
        received_on=on,
        note=f"from batch {batch.code}",
    )
    Yield.objects.create(stage=row, lot=lot, quantity=quantity.base)
    move(ctx, lot, quantity.base, kind, on=on, subject=batch, subject_code=batch.code, client_uuid=client_uuid)
    return lot


@act
def picked(ctx: Ctx, batch_id: Ref, *, stage: str, quantity: Quantity, on: date, client_uuid: uuid.UUID) -> Lot:
    """A round of picking, or another stage that gives to stock without grading: what came is a lot."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    done = ctx.rows(Lot).filter(from_stages__stage__batch=batch, movements__client_uuid=client_uuid).first()
    if done is not None:
        return done
    still_open(batch)
    plants_only(batch)
    not_in_future(ctx, on)
    is_begun(batch, "nothing can be picked of it")
    may_be_harvested(ctx, [batch.uuid], on, "on", "picked")
    row = stage_named(saved, stage)
    spec = saved.method.by_key[stage]
    if not spec.does(Trait.YIELDS) or spec.does(Trait.GRADES):
        raise refuse("stage", "no_stock", f"“{row.name}” is not picked to stock.")
    if not quantity.unit.same_measure(unit(row.unit)) or quantity.base <= 0:
        raise refuse("quantity", "other_unit", f"“{row.name}” is taken in {row.unit}; write how many.")
    following = next((saved.stages[s.key] for s in saved.method.stages if s.follows == stage), None)
    if following is not None and following.actual_start is not None and on > following.actual_start:
        raise refuse(
            "on", "too_late", f"“{following.name}” began on {following.actual_start}; “{row.name}” was over then."
        )
    if row.actual_start is not None and on < row.actual_start:
        raise refuse("on", "too_early", f"“{row.name}” began on {row.actual_start}; {on} lies before that.")
    if row.actual_start is None:
        not_before(list(saved.stages.values()), on)
    begun = begin(saved, way_to(saved, stage), on)
    lot = to_stock(ctx, saved, row, quantity, "picked", on, client_uuid)
    yields = [one.key for one in saved.method.with_trait(Trait.YIELDS)]
    if all(saved.stages[key].actual_start is not None for key in yields):
        batch.state, batch.decide_by, batch.decide_text = Batch.State.READY, None, ""
    follow_on(ctx, saved, begun)
    finish(ctx, subject=batch.uuid, stages=begun, at=("before", "start"))
    ctx.record("batch.picked", f"{row.name} of {batch.code}: {quantity.words()} on {on.day} {on:%b}.", batch)
    return lot
