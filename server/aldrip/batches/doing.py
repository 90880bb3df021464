"""What actually happened to a batch: sown, moved, potted, counted, graded, picked. The plan follows."""

import math
import uuid
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.bulk import days
from aldrip.base.errors import Conflict, refuse
from aldrip.base.words import share
from aldrip.batches.editing import apply_plan, check_place
from aldrip.batches.forecasting import losses
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchInput, BatchStage, Occupancy, Yield
from aldrip.batches.saved import Saved, load_batch, rate_of, request_of, snapshot_of
from aldrip.diary.models import Count
from aldrip.diary.services import finish, record_count
from aldrip.lots.models import Lot
from aldrip.lots.moving import move
from aldrip.lots.taking import Wanted, balance_words, take_from_stock
from aldrip.places.models import Place
from aldrip_core.batch_plan import Happened, Stand, plan_batch
from aldrip_core.forecast import TrayCount, counted_rate
from aldrip_core.plausible import MUCH_MORE, how_far
from aldrip_core.stage_dates import Anchor
from aldrip_core.stages import Part, Trait
from aldrip_core.units import Quantity, Unit, unit
from aldrip_core.whole import ceil_whole


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


def _begun(batch: Batch, words: str) -> None:
    if batch.state == Batch.State.PLANNED:
        raise refuse("state", "not_sown", f"Batch {batch.code} is not sown yet; {words}.")


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


def _follow_on(ctx: Ctx, saved: Saved, just_begun: Iterable[str], place: Place | None = None) -> None:
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


def _begin(saved: Saved, keys: Iterable[str], on: date) -> list[str]:
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
            _end(saved.stages[before], on)
    BatchStage.objects.bulk_update(saved.stages.values(), ["actual_start", "actual_end", "planned"])
    return begun


def _end(row: BatchStage, on: date) -> None:
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


def _way_to(saved: Saved, key: str) -> list[str]:
    """The stages that come before one in time, and itself."""
    way: list[str] = []
    now: str | None = key
    while now is not None:
        way.append(now)
        now = saved.method.by_key[now].follows
    return way[::-1]


@dataclass(frozen=True)
class Taken:
    """So much of a lot that was sown, in the unit that was said; without an amount what was planned."""

    lot_id: int
    quantity: Quantity | None = None


@act
def sown(
    ctx: Ctx,
    batch_id: Ref,
    *,
    on: date,
    trays: int | None = None,
    start: int | None = None,
    grams: float | None = None,
    lot_id: int | None = None,
    lots: Sequence[Taken] = (),
    version: int | None = None,
    note: str = "",
) -> Batch:
    """A batch was sown, stuck or planted: the stock moves, the stages run, the forecast follows."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    _open(batch)
    _same_version(batch, version)
    _not_in_future(ctx, on)
    if batch.state != Batch.State.PLANNED:
        raise refuse("state", "sown", f"Batch {batch.code} was sown on {saved.first.actual_start}.")
    _plants_only(batch)
    cells = _cells(batch)
    if trays is not None:
        start = trays * (cells or 1)
    start = batch.start if start is None else start
    if start <= 0:
        raise refuse("trays", "missing", "How many trays were sown? At least one.")
    planned = (batch.start, batch.seed_g)
    taken = list(lots) or ([Taken(lot_id, Quantity.of(grams, Unit.GRAM) if grams else None)] if lot_id else [])
    _take_inputs(ctx, saved, on=on, start=start, taken=taken, grams=grams)
    _doubt_sowing(ctx, batch, start, cells, grams, planned)
    batch.trays = ceil_whole(start / cells) if cells else None
    if note:
        batch.note = note[:300]
    began(ctx, saved, start=start, on=on)
    what = f"{batch.trays} trays" if batch.trays else f"{start:,}"
    ctx.record(
        "batch.sown",
        f"Sown {batch.code}: {what} on {on.day} {on:%b}.",
        batch,
        after={"start": start, "grams": batch.seed_g},
    )
    return batch


def _doubt_sowing(
    ctx: Ctx, batch: Batch, start: int, cells: int | None, grams: float | None, planned: tuple[int, float | None]
) -> None:
    """Far more or less than was planned, or seed of another weight than it has, is asked about."""
    of_start, of_grams = planned
    far = how_far(start, of_start)
    what, of = (ceil_whole(start / cells), ceil_whole(of_start / cells)) if cells else (start, of_start)
    name = "trays" if cells else snapshot_of(batch)["start_unit"]
    ctx.doubt("sown", "trays", far and f"{what:,} {name} is {far} what the plan says, {of:,}. Is it so?")
    if grams and of_grams and of_start:
        expected = of_grams * start / of_start
        far = how_far(grams, expected)
        ctx.doubt(
            "grams", "grams", far and f"{grams:g} g is {far} what so many seeds weigh, {expected:.3g} g. Is it so?"
        )


def _cells(batch: Batch) -> int | None:
    """Cells of the container in which a batch was planned."""
    snapshot = snapshot_of(batch)
    values = snapshot["containers"].get(snapshot["container"])
    return int(values["cells"]) if values else None


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
    begun = _begin(saved, [root, *following], on)
    _follow_on(ctx, saved, begun)
    finish(ctx, subject=batch.uuid, stages=begun if whole else following, at=("before", "start"))


def reached(ctx: Ctx, saved: Saved, key: str, on: date) -> None:
    """A stage has begun, and with it every one before it is over. Call inside a transaction, with the batch locked."""
    if saved.stages[key].actual_start is None:
        _follow_on(ctx, saved, _begin(saved, _way_to(saved, key), on))


def _take_inputs(ctx: Ctx, saved: Saved, *, on: date, start: int, taken: Sequence[Taken], grams: float | None) -> None:
    """What was started from leaves the stock: of the lots that were named, else of those that were planned."""
    batch, root = saved.batch, saved.method.root
    planned = list(BatchInput.objects.filter(stage=saved.first, taken_on=None).select_related("lot"))
    upstream = [one for one in planned if one.upstream_id is not None]
    if not taken:
        taken = _planned_lots(saved, planned, upstream, grams)
    if not taken and saved.method.by_seed:
        raise refuse("lot_id", "missing", "From which lot was it sown? Receive the lot first if it is not in stock.")
    form = "seed" if saved.method.by_seed else None
    weighed = 0.0
    made: list[tuple[Lot, Quantity]] = []
    for index, one in enumerate(taken):
        field = "lot_id" if len(taken) == 1 else f"lots.{index}.lot_id"
        lot = ctx.get(Lot, one.lot_id)
        quantity = one.quantity or _usual(saved, lot, start, grams, len(taken))
        wanted = Wanted(batch.crop, batch.line, form or lot.form)
        movement = take_from_stock(
            ctx, lot, quantity, "sown", on=on, wanted=wanted, subject=batch, subject_code=batch.code, field=field
        )
        part = root.takes.value if root.takes else Part.SEED.value
        BatchInput.objects.create(stage=saved.first, lot=lot, quantity=-movement.quantity, part=part, taken_on=on)
        made.append((lot, quantity))
        weighed += _grams(lot, float(-movement.quantity))
    BatchInput.objects.filter(pk__in=[one.pk for one in planned]).delete()
    if made:
        first = made[0][0]
        changed = [lot.pk for lot, _ in made] != ([batch.lot_id] if batch.lot_id else [])
        batch.lot = Lot.objects.select_related("crop", "line").get(pk=first.pk)
        if saved.method.by_seed:
            batch.seed_g = weighed or batch.seed_g
        if changed:
            _reckon_emergence(ctx, saved)


def _grams(lot: Lot, amount: float) -> float:
    """Grams of seed in an amount of a lot; counted seed by its thousand-grain weight, 0 where that is not known."""
    if unit(lot.unit).is_mass:
        return amount
    tgw = lot.tgw_g or lot.crop.tgw_g
    return amount * tgw / 1000 if unit(lot.unit) is Unit.SEED and tgw else 0.0


def _planned_lots(
    saved: Saved, planned: Sequence[BatchInput], upstream: Sequence[BatchInput], grams: float | None
) -> list[Taken]:
    """The lots that a plan named; what another batch was to give is taken from the lots it gave."""
    batch = saved.batch
    found = []
    for one in planned:
        if one.lot is not None:
            only = grams is not None and sum(p.lot_id is not None for p in planned) == 1
            found.append(Taken(one.lot.pk, Quantity.of(grams or 0, Unit.GRAM) if only else None))
    if not found and not upstream and batch.lot_id and saved.method.by_seed:
        found.append(Taken(batch.lot_id, Quantity.of(grams, Unit.GRAM) if grams else None))
    for one in upstream:
        left = one.quantity
        rows = Yield.objects.filter(stage=one.upstream, lot__balance__gt=0).select_related("lot").order_by("id")
        for given in rows:
            part = min(left, given.lot.balance)
            if part > 0:
                found.append(Taken(given.lot.pk, Quantity(part, unit(given.lot.unit).base)))
                left -= part
        if left > 0 and one.upstream is not None:
            raise refuse(
                "lot_id",
                "not_given",
                f"Batch {one.upstream.batch.code} has given {one.quantity - left:,.0f} of the {one.quantity:,.0f} wanted, "
                f"{left:,.0f} are missing. Grade it first, or start with less.",
            )
    return found


def _usual(saved: Saved, lot: Lot, start: int, grams: float | None, parts: int) -> Quantity:
    """What is taken of a lot when nobody said: what the plan says of it, a share where there are several."""
    batch = saved.batch
    if not saved.method.by_seed:
        return Quantity.of(start / parts, unit(lot.unit))
    if grams is not None:
        return Quantity.of(grams / parts, Unit.GRAM)
    planned = BatchInput.objects.filter(stage=saved.first, lot=lot, taken_on=None).first()
    if planned is not None:
        return Quantity(planned.quantity, unit(lot.unit).base)
    if unit(lot.unit) is Unit.SEED and batch.seeds:
        return Quantity.of(round(batch.seeds / parts), Unit.SEED)
    if batch.seed_g is None or batch.seed_g <= 0:
        raise refuse("grams", "missing", f"How many grams were sown? Lot {lot.code} holds {balance_words(lot)}.")
    return Quantity.of(batch.seed_g / parts, Unit.GRAM)


def _reckon_emergence(ctx: Ctx, saved: Saved) -> None:
    """Sown from another lot than was planned: what comes up is reckoned from the one that was sown."""
    if not saved.method.by_seed:
        return
    ground = Ground(ctx, without=[saved.batch.pk])
    request = request_of(saved, ground.stood)
    emerging = {spec.key for spec in saved.method.with_trait(Trait.EMERGES)}
    kept = {key: rate for key, rate in request.kept_rates.items() if key not in emerging}
    plan = plan_batch(replace(request, kept_rates=kept, start=saved.batch.start), ground, working=False)
    for key in emerging - set(request.rates):
        rate, row = plan.stage(key).rate, saved.stages[key]
        row.alpha, row.beta, row.origin, row.source = (
            rate.spread.alpha,
            rate.spread.beta,
            rate.origin.value,
            rate.source[:200],
        )
    BatchStage.objects.bulk_update(saved.stages.values(), ["alpha", "beta", "origin", "source"])


@act
def moved(
    ctx: Ctx, batch_id: Ref, *, stage: str, on: date, place_id: int | None = None, version: int | None = None
) -> Batch:
    """A batch went on to its next stage: moved, potted, pricked out or spaced."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    _open(batch)
    _plants_only(batch)
    _same_version(batch, version)
    _not_in_future(ctx, on)
    row = _stage(saved, stage)
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
    begun = _begin(saved, [stage], on)
    _follow_on(ctx, saved, begun, place)
    finish(ctx, subject=batch.uuid, stages=begun, at=("before", "start"))
    where = f" to {row.place.name}" if row.place else ""
    ctx.record("batch.moved", f"{row.name}: {batch.code}{where} on {on.day} {on:%b}.", batch)
    return batch


def _stage(saved: Saved, key: str) -> BatchStage:
    if key not in saved.stages:
        raise refuse("stage", "out_of_range", "This batch has no such stage.")
    return saved.stages[key]


def _first_answer(ctx: Ctx, client_uuid: uuid.UUID) -> Count | None:
    """The count that this entry made when it came first."""
    return ctx.rows(Count).filter(client_uuid=client_uuid).first()


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
    first = _first_answer(ctx, client_uuid)
    if first is not None:
        return first
    _open(batch)
    _plants_only(batch)
    _begun(batch, "there is nothing to count")
    counted = (saved.with_trait(Trait.EMERGES) or saved.first) if stage is None else _stage(saved, stage)
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
    _take_newest_count(ctx, saved, counted)
    batch.version += 1
    batch.save(update_fields=["counted", "version"])
    _follow_on(ctx, saved, ())  # pots, places, work and materials are for what came up
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
    cells = _cells(saved.batch)
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


def _take_newest_count(ctx: Ctx, saved: Saved, row: BatchStage) -> None:
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
    done = _first_answer(ctx, client_uuid)
    if done is not None:
        return done
    _open(batch)
    _begun(batch, "nothing can be lost of it")
    _not_before([saved.first], on)
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
        _follow_on(ctx, saved, ())
    ctx.record("batch.loss", f"Lost of {batch.code}: {lost:,}, {cause.strip()}.", batch)
    return count


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
    _open(batch)
    _plants_only(batch)
    _same_version(batch, version)
    _not_in_future(ctx, on)
    _begun(batch, "there is nothing to grade")
    _not_before(list(saved.stages.values()), on)
    row = saved.with_trait(Trait.GRADES) or saved.last
    main = _yielding(saved, row)
    rejected, others = sum(int(entry["count"]) for entry in out), sum(number for _, number in seconds)
    before = _graded_before(ctx, saved)
    _check_grading(ctx, saved, good, others, rejected, sum(before))
    # Less may be one part of it; more than was forecast is plants that nobody saw.
    expected = float(batch.expected or 0) / float(saved.method.unit.value.factor) - in_stock_of(batch)
    over = (
        f"{good:,} good ones is more than was forecast, {expected:,.0f}. Is it so?"
        if good > expected * MUCH_MORE
        else None
    )
    ctx.doubt("good", "good", over if expected else None)
    begun = [] if rest else _begin(saved, _way_to(saved, main.key), on)
    lot = _to_stock(ctx, saved, main, Quantity.of(good, unit(main.unit)), "graded", on, client_uuid)
    for key, number in seconds:
        second = _stage(saved, key)
        if saved.method.by_key[key].after not in (row.key, main.key) or not saved.method.by_key[key].does(Trait.YIELDS):
            raise refuse("seconds", "not_a_choice", f"“{second.name}” is no grade of {batch.code}.")
        begun += [] if rest else _begin(saved, [key], on)
        _to_stock(ctx, saved, second, Quantity.of(number, unit(second.unit)), "graded", on, None)
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
        _follow_on(ctx, saved, begun)
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


def _graded_before(ctx: Ctx, saved: Saved) -> tuple[int, int]:
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


def _to_stock(
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
    _open(batch)
    _plants_only(batch)
    _not_in_future(ctx, on)
    _begun(batch, "nothing can be picked of it")
    row = _stage(saved, stage)
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
        _not_before(list(saved.stages.values()), on)
    begun = _begin(saved, _way_to(saved, stage), on)
    lot = _to_stock(ctx, saved, row, quantity, "picked", on, client_uuid)
    yields = [one.key for one in saved.method.with_trait(Trait.YIELDS)]
    if all(saved.stages[key].actual_start is not None for key in yields):
        batch.state, batch.decide_by, batch.decide_text = Batch.State.READY, None, ""
    _follow_on(ctx, saved, begun)
    finish(ctx, subject=batch.uuid, stages=begun, at=("before", "start"))
    ctx.record("batch.picked", f"{row.name} of {batch.code}: {quantity.words()} on {on.day} {on:%b}.", batch)
    return lot
