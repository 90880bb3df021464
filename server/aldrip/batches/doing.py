"""What actually happened to a batch: sown, moved, potted, counted, graded. The plan follows."""

import uuid
from collections.abc import Sequence
from dataclasses import replace
from datetime import date, timedelta
from typing import Any

from django.db import transaction

from aldrip.accounts.context import Ctx
from aldrip.base.bulk import days
from aldrip.base.errors import Conflict, refuse
from aldrip.base.words import share
from aldrip.batches.editing import apply_plan, running_stage
from aldrip.batches.forecasting import losses, refresh
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchInput, BatchStage, Yield
from aldrip.batches.planner import plan_batch, timed_stages
from aldrip.batches.resowing import refresh_decision
from aldrip.batches.saved import dates_of, load_batch, request_of
from aldrip.diary.models import Count
from aldrip.diary.services import finish, record_count
from aldrip.lots.models import Lot
from aldrip.lots.services import amount, move
from aldrip.places.models import Place
from aldrip_core.forecast import TrayCount, counted_rate
from aldrip_core.schedule import StageDates, follow


def _not_in_future(ctx: Ctx, on: date) -> None:
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Record it on the day.")


def _not_before(stages: Sequence[BatchStage], on: date) -> None:
    """Nothing happens to a batch before its newest stage began."""
    begun = [stage for stage in stages if stage.actual_start is not None and stage.actual_start > on]
    if begun:
        raise refuse("on", "too_early", f"“{begun[-1].name}” began on {begun[-1].actual_start}; {on} lies before that.")


def _open(batch: Batch) -> None:
    if batch.state in (Batch.State.DELIVERED, Batch.State.ABANDONED):
        raise refuse("state", "closed", f"Batch {batch.code} is {batch.state}; nothing more can be recorded.")


def is_seed_crop(batch: Batch) -> bool:
    """Whether a batch is grown for its seed; its steps are recorded in Seed crops and Lots."""
    return str(batch.method_snapshot.get("way", "plants")) != "plants"


def _plants_only(batch: Batch) -> None:
    if is_seed_crop(batch):
        raise refuse(
            "state",
            "seed_crop",
            f"{batch.code} is grown for seed: record its sowing, counts and harvest in Seed crops.",
        )


def _same_version(batch: Batch, version: int | None) -> None:
    if version is not None and batch.version != version:
        raise Conflict("Somebody changed this batch meanwhile. Look again before you record.", version=batch.version)


def _follow_on(ctx: Ctx, batch: Batch, stages: list[BatchStage], begun: int) -> None:
    """Let the stages after one that has begun keep their plan, or move on as far as they must."""
    ground = Ground(ctx, without=[batch.pk])
    request = request_of(batch, stages)
    timed, planned = timed_stages(request, ground), dates_of(stages)
    later = follow(begun=stages[begun].actual_start or planned[begun].start, stages=timed[begun:],
                   planned=planned[begun:], calendar=ground.working)  # fmt: skip
    dates = [*planned[:begun], *later]
    if begun:
        dates[begun - 1] = StageDates(dates[begun - 1].start, later[0].start)
    plan = plan_batch(replace(request, dates=tuple(dates), start=batch.start), ground, working=False)
    apply_plan(ctx, batch, stages, plan)
    _tell_lines(batch, plan.ready_on)


def _tell_lines(batch: Batch, ready: date) -> None:
    """An order line says when its batch will be too late for it."""
    for allocation in batch.allocations.select_related("order_line"):
        line = allocation.order_line
        late = (ready - line.due.upper).days + 1
        problem = f"Batch {batch.code} will be ready {late} days after the window closes." if late > 0 else ""
        if line.problem != problem:
            line.problem = problem
            line.save(update_fields=["problem"])


def _stage(stages: Sequence[BatchStage], order: int) -> BatchStage:
    if not 0 <= order < len(stages):
        raise refuse("stage", "out_of_range", "This batch has no such stage.")
    return stages[order]


@transaction.atomic
def sown(
    ctx: Ctx, batch_id: int, *, on: date, trays: int | None = None, start: int | None = None, grams: float | None = None,
    lot_id: int | None = None, version: int | None = None, note: str = "",
) -> Batch:  # fmt: skip
    """A batch was sown (or stuck): the stock moves, the stages run, the forecast follows."""
    batch, stages = load_batch(ctx, batch_id, lock=True)
    _open(batch)
    _same_version(batch, version)
    _not_in_future(ctx, on)
    if batch.state != Batch.State.PLANNED:
        raise refuse("state", "sown", f"Batch {batch.code} was sown on {stages[0].actual_start}.")
    _plants_only(batch)
    by_seed = batch.method_snapshot["by_seed"]
    cells = batch.container.cells if batch.container else 1
    if trays is not None:
        start = trays * cells
    start = batch.start if start is None else start
    if start <= 0:
        raise refuse("trays", "missing", "How many trays were sown? At least one.")
    if by_seed:
        _take_seed(ctx, batch, stages[0], on=on, grams=grams, lot_id=lot_id)
    batch.trays = -(-start // cells) if batch.container else None
    if note:
        batch.note = note
    began(ctx, batch, stages, start=start, on=on)
    finish(ctx, subject_kind="batch", subject_id=batch.pk, stage=0, kinds=["sow", "water"])
    finish(ctx, subject_kind="batch", subject_id=batch.pk, stage=1, kinds=["stack"])
    what = f"{batch.trays} trays" if batch.trays else f"{start:,}"
    ctx.record(
        "batch.sown", f"Sown {batch.code}: {what} on {on.day} {on:%b}.", batch, after={"start": start, "grams": grams}
    )
    refresh(ctx, batches=[batch.pk])
    return batch


def began(ctx: Ctx, batch: Batch, stages: list[BatchStage], *, start: int, on: date) -> None:
    """The first stage is done and the second runs. Call inside a transaction, with the batch locked."""
    batch.start, batch.start_typed, batch.state = start, True, Batch.State.SOWN
    stages[0].actual_start = stages[0].actual_end = on
    stages[0].planned = days(on, on + timedelta(days=1))
    stages[1].actual_start = on
    BatchStage.objects.bulk_update(stages[:2], ["actual_start", "actual_end", "planned"])
    _follow_on(ctx, batch, stages, 1)


def reached(ctx: Ctx, batch: Batch, stages: list[BatchStage], row: BatchStage, on: date) -> None:
    """A stage has begun, and with it every one before it is over. Call inside a transaction, with the batch locked."""
    if row.actual_start is None:
        _begin_through(stages, row, on)
        _follow_on(ctx, batch, stages, row.order)


def _take_seed(ctx: Ctx, batch: Batch, stage: BatchStage, *, on: date, grams: float | None, lot_id: int | None) -> None:
    lot = ctx.get(Lot, lot_id) if lot_id else batch.lot
    if lot is None:
        raise refuse("lot_id", "missing", "From which lot was it sown? Receive the lot first if it is not in stock.")
    if lot.crop_id != batch.crop_id:
        raise refuse("lot_id", "other_crop", f"Lot {lot.code} is not {batch.crop.name.lower()}.")
    taken = batch.seed_g if grams is None else grams
    if taken is None or taken <= 0:
        raise refuse("grams", "missing", "How many grams were sown?")
    move(ctx, lot, -amount(taken), "sown", on=on, subject=batch, subject_code=batch.code)
    batch.lot, batch.seed_g = lot, taken
    BatchInput.objects.create(stage=stage, lot=lot, quantity=amount(taken))


@transaction.atomic
def moved(
    ctx: Ctx, batch_id: int, *, stage: int, on: date, place_id: int | None = None, version: int | None = None
) -> Batch:
    """A batch went on to its next stage: moved, potted or spaced."""
    batch, stages = load_batch(ctx, batch_id, lock=True)
    _open(batch)
    _plants_only(batch)
    _same_version(batch, version)
    _not_in_future(ctx, on)
    row = _stage(stages, stage)
    begun = running_stage(stages)
    if batch.state == Batch.State.PLANNED:
        raise refuse("stage", "not_sown", f"Batch {batch.code} is not sown yet; record that first.")
    if stage != begun:
        ahead = stages[begun].name if begun < len(stages) else "nothing"
        raise refuse("stage", "not_next", f"The next step of {batch.code} is “{ahead}”.")
    before = stages[stage - 1]
    since = before.actual_start or on
    if on < since:
        raise refuse("on", "too_early", f"“{before.name}” began on {since}; it cannot move on before that.")
    if place_id is not None:
        row.place = ctx.get(Place, place_id)
    before.actual_end, row.actual_start = on, on
    before.planned = days(since, max(on, since + timedelta(days=1)))
    BatchStage.objects.bulk_update([before, row], ["actual_start", "actual_end", "place", "planned"])
    _follow_on(ctx, batch, stages, stage)
    finish(ctx, subject_kind="batch", subject_id=batch.pk, stage=stage, kinds=["move", "pot", "space", "stack"])
    where = f" to {row.place.name}" if row.place else ""
    ctx.record("batch.moved", f"{row.name}: {batch.code}{where} on {on.day} {on:%b}.", batch)
    refresh(ctx, batches=[batch.pk])
    return batch


@transaction.atomic
def count_emergence(
    ctx: Ctx, batch_id: int, *, trays: Sequence[TrayCount], on: date, client_uuid: uuid.UUID, stage: int | None = None,
    replaces: int | None = None, reason: str = "",
) -> Count:  # fmt: skip
    """Count sampled trays: the share found becomes the batch's own, and the forecast moves."""
    batch, stages = load_batch(ctx, batch_id, lock=True)
    _open(batch)
    _plants_only(batch)
    if batch.state == Batch.State.PLANNED:
        raise refuse("state", "not_sown", f"Batch {batch.code} is not sown yet; there is nothing to count.")
    counted = next((s for s in stages if s.kind == "germinate"), stages[0]) if stage is None else _stage(stages, stage)
    if counted.actual_start is None or on < counted.actual_start:
        raise refuse("on", "too_early", f"“{counted.name}” had not begun on {on}.")
    spread = counted_rate(trays=trays, of_trays=batch.trays)
    if batch.trays is not None and len(trays) > batch.trays:
        raise refuse("trays", "too_many", f"The batch has {batch.trays} trays; {len(trays)} were counted.")
    sampled, found = sum(t.sampled for t in trays), sum(t.found for t in trays)
    old = ctx.get(Count, replaces) if replaces else None
    count, new = record_count(
        ctx, subject_kind="batch", subject_id=batch.pk, stage=counted.order, kind="emergence", sampled=sampled, found=found,
        parts=[{"sampled": t.sampled, "found": t.found} for t in trays], cause="", on=on, client_uuid=client_uuid,
        reason=reason, replaces=old,
    )  # fmt: skip
    if not new:
        return count
    counted.counted_share, counted.counted_sd = found / sampled, spread.sd
    counted.save(update_fields=["counted_share", "counted_sd"])
    batch.counted = found / sampled
    batch.version += 1
    batch.save(update_fields=["counted", "version"])
    finish(ctx, subject_kind="batch", subject_id=batch.pk, stage=counted.order, kinds=["count"])
    ctx.record("batch.count", f"Counted {batch.code}: {found:,} of {sampled:,} cells, {share(found / sampled)}.", batch,
               after={"sampled": sampled, "found": found})  # fmt: skip
    refresh(ctx, batches=[batch.pk])
    refresh_decision(ctx, [batch.pk])
    return count


@transaction.atomic
def count_loss(ctx: Ctx, batch_id: int, *, lost: int, cause: str, on: date, client_uuid: uuid.UUID) -> Count:
    """Plants lost, with the cause."""
    batch, stages = load_batch(ctx, batch_id, lock=True)
    done = ctx.rows(Count).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    _open(batch)
    if batch.state == Batch.State.PLANNED:
        raise refuse("state", "not_sown", f"Batch {batch.code} is not sown yet; nothing can be lost of it.")
    _not_before(stages[:1], on)
    if not cause.strip():
        raise refuse(
            "cause", "missing", "What took them? Write it, such as damping-off, slugs, drying, rodents or a machine."
        )
    left = batch.start - losses(ctx, [batch.pk]).get(batch.pk, 0)
    if not 0 < lost <= left:
        raise refuse("lost", "out_of_range", f"{lost:,} lost cannot be; {left:,} are left of {batch.start:,} started.")
    stage = max(0, running_stage(stages) - 1)
    count, new = record_count(
        ctx, subject_kind="batch", subject_id=batch.pk, stage=stage, kind="loss", sampled=left, found=lost, parts=[],
        cause=cause.strip(), on=on, client_uuid=client_uuid,
    )  # fmt: skip
    if new:
        batch.version += 1
        batch.save(update_fields=["version"])
        ctx.record("batch.loss", f"Lost of {batch.code}: {lost:,}, {cause.strip()}.", batch)
        refresh(ctx, batches=[batch.pk])
        refresh_decision(ctx, [batch.pk])
    return count


@transaction.atomic
def graded(
    ctx: Ctx, batch_id: int, *, good: int, out: Sequence[dict[str, Any]], on: date, client_uuid: uuid.UUID,
    version: int | None = None,
) -> Lot:  # fmt: skip
    """Grade a batch against its standard: the good ones become a lot, the rest is counted by cause."""
    batch, stages = load_batch(ctx, batch_id, lock=True)
    done = ctx.rows(Lot).filter(from_stages__stage__batch=batch, movements__client_uuid=client_uuid).first()
    if done is not None:
        return done
    _open(batch)
    _plants_only(batch)
    _same_version(batch, version)
    _not_in_future(ctx, on)
    rejected = sum(int(entry["count"]) for entry in out)
    left = batch.start - losses(ctx, [batch.pk]).get(batch.pk, 0)
    before = sum(int(y.quantity) for y in Yield.objects.filter(stage__batch=batch))
    if batch.state == Batch.State.PLANNED:
        raise refuse("state", "not_sown", f"Batch {batch.code} is not sown yet; there is nothing to grade.")
    _not_before(stages, on)
    if good < 0 or rejected < 0 or good + rejected == 0:
        raise refuse("good", "missing", "How many were good, and how many were graded out?")
    if good + rejected + before > left:
        raise refuse(
            "good",
            "too_many",
            f"{good + rejected + before:,} graded is more than the {left:,} that were started and not lost.",
        )
    row = next((s for s in stages if s.kind == "grade"), stages[-1])
    _begin_through(stages, row, on)
    lot = Lot.objects.create(
        organisation=ctx.organisation, code=ctx.next_code("lot")[0], crop=batch.crop, line=batch.line,
        form=batch.method_snapshot["form"], unit=batch.method_snapshot["unit"], received_on=on, note=f"from batch {batch.code}",
    )  # fmt: skip
    Yield.objects.create(stage=row, lot=lot, quantity=good)
    move(ctx, lot, amount(good), "graded", on=on, subject=batch, subject_code=batch.code, client_uuid=client_uuid)
    for entry in out:
        if int(entry["count"]):
            record_count(ctx, subject_kind="batch", subject_id=batch.pk, stage=row.order, kind="graded out",
                         sampled=good + rejected, found=int(entry["count"]), parts=[], cause=entry["cause"], on=on,
                         client_uuid=uuid.uuid4())  # fmt: skip
    row.counted_share, row.counted_sd = good / (good + rejected), 0.0
    row.save(update_fields=["counted_share", "counted_sd"])
    batch.state, batch.decide_by, batch.decide_text = Batch.State.READY, None, ""
    _follow_on(ctx, batch, stages, row.order)
    finish(ctx, subject_kind="batch", subject_id=batch.pk, stage=row.order, kinds=["grade"])
    ctx.record("batch.graded", f"Graded {batch.code}: {good:,} good, {rejected:,} out.", batch)
    refresh(ctx, batches=[batch.pk])
    return lot


def _begin_through(stages: list[BatchStage], row: BatchStage, on: date) -> None:
    """Grading implies that every stage before it is over."""
    for index, stage in enumerate(stages[: row.order + 1]):
        if stage.actual_start is None:
            stage.actual_start = on
            before = stages[index - 1]
            before.actual_end = on
        if stage.order < row.order and stage.actual_end is None:
            stage.actual_end = on
        if stage.actual_end is not None:
            stage.planned = days(stage.actual_start, max(stage.actual_end, stage.actual_start + timedelta(days=1)))
    BatchStage.objects.bulk_update(stages[: row.order + 1], ["actual_start", "actual_end", "planned"])
