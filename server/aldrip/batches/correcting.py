"""A sowing that was recorded wrongly is put right where it stands: what was counted, moved and graded since stays."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from decimal import Decimal
from functools import partial
from typing import Any

from django.db.models import Sum

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.bulk import days
from aldrip.base.errors import refuse
from aldrip.base.words import day as day_words
from aldrip.batches.counts import take_newest_count
from aldrip.batches.grading import graded_before
from aldrip.batches.models import Batch, BatchInput, BatchStage, Occupancy, Yield
from aldrip.batches.saved import Saved, load_batch, losses_of
from aldrip.batches.sowings import (
    Taken,
    both_are_there,
    cells_of,
    enough_of_both,
    grams_of,
    joined,
    reckon_emergence,
    wanted_of,
)
from aldrip.batches.steps import follow_on, is_begun, not_in_future, plants_only, same_version, still_open
from aldrip.diary.models import Count, Task
from aldrip.lots.models import Lot, Movement
from aldrip.lots.moving import move
from aldrip.lots.taking import check, in_lots_unit
from aldrip_core.plausible import how_far
from aldrip_core.units import from_base, unit
from aldrip_core.whole import ceil_whole
from aldrip_core.work import LEAST_MINUTES

MOVED = "sowing corrected"


@act
def correct_sowing(
    ctx: Ctx,
    batch_id: Ref,
    *,
    reason: str,
    on: date | None = None,
    trays: int | None = None,
    start: int | None = None,
    taken: Sequence[Taken] = (),
    version: int | None = None,
) -> Batch:
    """How much was sown, when, and from which lot, as it really was; what is not said stays.

    Counts are shares of what was sown, so they hold for the right number; stock, forecast, places and work follow.
    Raises Refused where what was recorded since cannot be true with it.
    """
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    still_open(batch)
    same_version(batch, version)
    plants_only(batch)
    is_begun(batch, "record its sowing first")
    if not reason.strip():
        raise refuse("reason", "missing", "Say why it is corrected; the reason stays with the record.")
    cells, before = cells_of(batch), _facts(saved)
    start = trays * (cells or 1) if trays is not None else start
    start = batch.start if start is None else start
    _can_be(ctx, saved, start, cells)
    if on is not None and on != saved.first.actual_start:
        _on_another_day(ctx, saved, on)
    was, batch.start = (batch.start, batch.trays), start
    batch.trays = ceil_whole(start / cells) if cells else None
    if saved.method.by_seed:
        batch.seeds = float(start * saved.method.seeds_per_cell)
    if taken or joined(saved):
        _from_these(ctx, saved, taken, reason)
        _doubt_weight(ctx, saved)
    _work_done(ctx, saved, was, start / was[0])
    _stood(saved, batch.trays / was[1] if batch.trays and was[1] else start / was[0])
    counted = newest_of(ctx, batch)
    if counted is not None and batch.state == Batch.State.SOWN:
        take_newest_count(ctx, saved, saved.stages[counted.stage])  # how much a count of some trays says of so many
    if batch.state == Batch.State.SOWN:
        follow_on(ctx, saved, ())
    else:
        batch.version += 1
        batch.save()
    after = _facts(saved)
    changes = [f"{name} {before[name]} → {after[name]}" for name in after if before[name] != after[name]]
    if not changes:
        raise refuse("trays", "nothing", "Nothing of it is another than was recorded.")
    ctx.record(
        "batch.correct_sowing",
        f"Corrected the sowing of {batch.code}: {', '.join(changes)}. {reason.strip()}",
        batch,
        before=before,
        after=after,
    )
    return batch


def _facts(saved: Saved) -> dict[str, Any]:
    """What was sown, in words that stand in the record."""
    batch = saved.batch
    rows = BatchInput.objects.filter(stage=saved.first, lot__isnull=False).select_related("lot").order_by("id")
    lots = [
        f"{from_base(one.quantity, unit(one.lot.unit)):g} {one.lot.unit} of {one.lot.code}" for one in rows if one.lot
    ]
    on = saved.first.actual_start
    return {
        "sown": f"{batch.start:,}",
        "on": day_words(on) if on else "",
        "from": " and ".join(lots),
    }


def _work_done(ctx: Ctx, saved: Saved, was: tuple[int, int | None], factor: float) -> None:
    """The work that was done with the sowing was done to the right number; minutes that somebody wrote down stay."""
    with_it = [row.key for row in saved.begun if row.actual_start == saved.first.actual_start]
    for task in ctx.rows(Task).filter(subject=saved.batch.uuid, stage__in=with_it, state=Task.State.DONE):
        if task.quantity not in was or factor == 1:  # what was planned otherwise was never done to the wrong number
            continue
        done_as_planned = task.quantity_done == task.quantity
        task.quantity = float(round((task.quantity or 0) * factor))
        task.minutes = max(LEAST_MINUTES, round((task.minutes or 0) * factor)) if task.minutes else task.minutes
        task.quantity_done = task.quantity if done_as_planned else task.quantity_done
        task.save(update_fields=["quantity", "minutes", "quantity_done"])


def _stood(saved: Saved, factor: float) -> None:
    """What stood on benches was as much less, or more."""
    if factor == 1:
        return
    rows = list(Occupancy.objects.filter(stage__in=saved.begun))
    for one in rows:
        one.amount = round(one.amount * factor, 6)
    Occupancy.objects.bulk_update(rows, ["amount"])


def newest_of(ctx: Ctx, batch: Batch) -> Count | None:
    """The newest count of what came up of a batch."""
    rows = ctx.rows(Count).filter(subject=batch.uuid, kind="emergence", replaced_by=None)
    return rows.order_by("-happened_at", "-id").first()


def _can_be(ctx: Ctx, saved: Saved, start: int, cells: int | None) -> None:
    """Refuse a number that what was counted, lost and graded since cannot have come from."""
    batch = saved.batch
    if start <= 0:
        raise refuse("trays", "missing", "How many were sown? At least one; if none were, take the sowing back.")
    newest = newest_of(ctx, batch)
    trays = ceil_whole(start / cells) if cells else None
    if newest is not None and trays is not None and len(newest.parts) > trays:
        raise refuse(
            "trays",
            "too_few",
            f"{len(newest.parts)} trays were counted on {day_words(ctx.local(newest.happened_at).date())}; "
            f"{trays} cannot be all. Correct the count first.",
        )
    most = start
    for stage in saved.method.stages:
        most = ceil_whole(most * max(1.0, stage.factor.mean))
    gone = losses_of(ctx.organisation.pk, [batch]).get(batch.pk, 0) + sum(graded_before(ctx, saved))
    if gone > most:
        raise refuse(
            "trays",
            "too_few",
            f"{gone:,} were lost or graded since, more than can come of {start:,}. Correct those first.",
        )


def _on_another_day(ctx: Ctx, saved: Saved, on: date) -> None:
    """The first stage, and what began with it, began on another day."""
    not_in_future(ctx, on)
    was = saved.first.actual_start
    with_it = [row for row in saved.begun if row.actual_start == was]
    later = [row.actual_start for row in saved.begun if row.actual_start and row.actual_start != was]
    seen = ctx.rows(Count).filter(subject=saved.batch.uuid, replaced_by=None).order_by("happened_at").first()
    bound = min([*later, *([ctx.local(seen.happened_at).date()] if seen else [])], default=None)
    if bound is not None and on > bound:
        raise refuse(
            "on", "too_late", f"Something of it was recorded on {day_words(bound)} already. Correct that first."
        )
    for row in with_it:
        row.actual_start = on
        if row.actual_end is not None and row.actual_end in (was, on):
            row.actual_end = on
        end = row.actual_end or row.planned.upper
        row.planned = days(on, max(end, date.fromordinal(on.toordinal() + 1)))
        for one in Occupancy.objects.filter(stage=row, during__startswith=was):
            if one.during.upper > on:
                one.during = days(on, one.during.upper)
                one.save(update_fields=["during"])
            else:
                one.delete()
    BatchStage.objects.bulk_update(with_it, ["actual_start", "actual_end", "planned"])
    BatchInput.objects.filter(stage=saved.first, taken_on=was).update(taken_on=on)


def _from_these(ctx: Ctx, saved: Saved, taken: Sequence[Taken], reason: str) -> None:
    """What was taken from stock becomes what is said: the difference goes back, or is taken as well."""
    batch, on = saved.batch, saved.first.actual_start or ctx.today
    rows = list(BatchInput.objects.filter(stage=saved.first, lot__isnull=False).select_related("lot__crop"))
    taken = _with_the_other(saved, rows, taken)
    parts = _parts(saved, rows, taken)
    had: dict[int, Decimal] = {}
    for row in rows:
        had[row.lot_id or 0] = had.get(row.lot_id or 0, Decimal(0)) + row.quantity
    wanted = _said(ctx, taken, had)
    if set(wanted) != set(had):
        _doubt_papers(ctx, saved)
    moved = partial(move, ctx, kind=MOVED, on=on, subject=batch, subject_code=batch.code, reason=reason.strip()[:300])
    for pk in had.keys() - wanted.keys():
        moved(ctx.get(Lot, pk, lock=True), had[pk])
    for lot, amount in wanted.values():
        more = amount - had.get(lot.pk, Decimal(0))
        if lot.pk not in had:  # a lot that was sown already need not be one that may be sown today
            check(lot, wanted_of(saved, lot, parts[lot.pk]), "lot_id")
        if more:
            moved(lot, -more)
    amounts: dict[str, Decimal] = defaultdict(Decimal)
    for lot, amount in wanted.values():
        amounts[parts[lot.pk]] += amount
    enough_of_both(saved, amounts, batch.start)
    BatchInput.objects.filter(pk__in=[row.pk for row in rows]).delete()
    BatchInput.objects.bulk_create(
        BatchInput(stage=saved.first, lot=lot, quantity=amount, part=parts[lot.pk], taken_on=on)
        for lot, amount in wanted.values()
    )
    named = joined(saved)
    first = next(lot for lot, _ in wanted.values() if named is None or parts[lot.pk] == named[0])
    batch.lot = Lot.objects.select_related("crop", "line").get(pk=first.pk)
    if saved.method.by_seed:
        batch.seed_g = sum(grams_of(lot, float(amount)) for lot, amount in wanted.values()) or batch.seed_g
    if set(wanted) != set(had):
        reckon_emergence(ctx, saved)


def _with_the_other(saved: Saved, rows: Sequence[BatchInput], taken: Sequence[Taken]) -> Sequence[Taken]:
    """Where two were joined and nothing is said of one of them, that one stays as it was recorded."""
    both = joined(saved)
    if both is None:
        return taken
    was = {row.lot_id: row.part for row in rows}
    said = {one.part or was.get(one.lot_id, both[0]) for one in taken}
    return [*taken, *(Taken(row.lot_id, None, row.part) for row in rows if row.lot_id and row.part not in said)]


def _parts(saved: Saved, rows: Sequence[BatchInput], taken: Sequence[Taken]) -> dict[int, str]:
    """What each lot is used as: as is said now, else as was recorded, else what the batch takes first. Raises Refused."""
    was = {row.lot_id: row.part for row in rows}
    usual = rows[0].part if rows and joined(saved) is None else (joined(saved) or ("seed",))[0]
    said = [replace(one, part=one.part or was.get(one.lot_id, usual)) for one in taken]
    if joined(saved) is not None:
        both_are_there(saved, said)
    return {one.lot_id: one.part for one in said}


def _said(ctx: Ctx, taken: Sequence[Taken], had: Mapping[int, Decimal]) -> dict[int, tuple[Lot, Decimal]]:
    """So much of each lot as is said now, in its base unit; of a lot that is only named, as much as was recorded."""
    wanted: dict[int, tuple[Lot, Decimal]] = {}
    for index, one in enumerate(taken):
        lot = ctx.get(Lot, one.lot_id, lock=True)
        field = f"lots.{index}.quantity"
        amount = had.get(lot.pk) if one.quantity is None else in_lots_unit(lot, one.quantity, field)
        if not amount or amount < 0:
            raise refuse(field, "nothing", f"How much of lot {lot.code} was sown? More than nothing.")
        wanted[lot.pk] = (lot, wanted[lot.pk][1] + amount if lot.pk in wanted else amount)
    return wanted


def _doubt_weight(ctx: Ctx, saved: Saved) -> None:
    """Far more or less seed than so many weigh is asked about."""
    batch, lot = saved.batch, saved.batch.lot
    tgw = (lot.tgw_g or lot.crop.tgw_g) if lot else None
    if batch.seeds and batch.seed_g and tgw:
        expected = batch.seeds * tgw / 1000
        far = how_far(batch.seed_g, expected)
        told = f"{batch.seed_g:g} g is {far} what {batch.seeds:,.0f} seeds weigh, {expected:.3g} g. Is it so?"
        ctx.doubt("grams", "lots.0.quantity", told if far else None)


def _doubt_papers(ctx: Ctx, saved: Saved) -> None:
    """Papers that left with plants of it name the lot that was recorded; whoever changes it is told which."""
    lots = Yield.objects.filter(stage__batch=saved.batch).values("lot")
    gone = Movement.objects.filter(lot__in=lots, kind="delivered").values_list("subject_code").annotate(Sum("quantity"))
    papers = sorted({code for code, _ in gone if code})
    told = f"Papers of {', '.join(papers)} left with what was recorded. Is the lot another all the same?"
    ctx.doubt("papers", "lot_id", told if papers else None)
