"""Harvest to lot: the male out first, loads at the door, drying, cleaning, and the verdict with its field behind it."""

import uuid
from collections import defaultdict
from datetime import date
from decimal import Decimal

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.batches.models import Batch, Yield
from aldrip.batches.saved import Saved, load_batch
from aldrip.batches.steps import reached
from aldrip.diary.services import Work, finish_task, put_task
from aldrip.lots import processing, releasing
from aldrip.lots.descent import batches_behind
from aldrip.lots.models import Intake, Lot, LotParent, Status, Verdict
from aldrip.lots.moving import of_lot
from aldrip.lots.processing import Cleaned, Dried, Load
from aldrip.lots.taking import in_lots_unit
from aldrip.methods.services import class_scheme
from aldrip.seedcrops.flowering import match_of, sown_on
from aldrip.seedcrops.inspecting import field_standard
from aldrip.seedcrops.isolation import Surroundings, isolation_wanting
from aldrip.seedcrops.laying import load_block
from aldrip.seedcrops.models import BlockSowing, Inspection, MaleRemoval, SeedBlock
from aldrip.seedcrops.signing import wanting
from aldrip_core.flowering import flowers_until
from aldrip_core.intake import LEAST_PURE
from aldrip_core.plausible import WEEKS_OFF, how_early, how_far
from aldrip_core.refusal import Refused
from aldrip_core.stages import Trait
from aldrip_core.units import Quantity, Unit

HOW = ("cut and destroyed", "harvested first")


def _day(ctx: Ctx, on: date) -> None:
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Record it on the day.")


@act
def male_out(ctx: Ctx, block_id: Ref, *, on: date, how: str, client_uuid: uuid.UUID) -> MaleRemoval:
    """The male rows and borders are out of the block; only then the female may be cut."""
    ctx.get(SeedBlock, block_id, lock=True)
    done = ctx.rows(MaleRemoval).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    block = load_block(ctx, block_id)
    _day(ctx, on)
    parents = {p.role: p for p in block.parents.all()}
    if "M" not in parents:
        raise refuse("block", "no_male", f"{block.batch.code} has no male rows.")
    if hasattr(block, "male_removal"):
        raise refuse("block", "out_already", f"The male has been out since {block.male_removal.removed_on}.")
    first = sown_on(parents["M"])
    if first is None or on <= first:
        raise refuse("on", "too_early", "The male is not sown yet, so it cannot be taken out.")
    _doubt_male_out(ctx, block, on)
    if how not in HOW:
        raise refuse("how", "not_a_choice", f"The male is {' or '.join(HOW)}.")
    made = MaleRemoval.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        block=block,
        removed_on=on,
        how=how,
        happened_at=ctx.at(on),
        client_uuid=client_uuid,
    )
    ctx.record("block.male_out", f"{block.batch.code}: male rows and borders {how} on {on.day} {on:%b}.", block)
    return made


@act
def harvest(ctx: Ctx, block_id: Ref, load: Load, *, on: date, equipment_clean: bool, client_uuid: uuid.UUID) -> Intake:
    """A load of the block at the door: refused, or a raw lot with its passport. The female only after the male is out."""
    ctx.get(SeedBlock, block_id, lock=True)
    done = ctx.rows(Intake).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    block = load_block(ctx, block_id)
    saved = load_batch(ctx, block.batch_id, lock=True)
    batch = saved.batch
    _day(ctx, on)
    _may_harvest(block, batch, on)
    if not equipment_clean:
        raise refuse(
            "equipment_clean", "not_clean", "Clean the combine and trailers down first, and record that they are."
        )
    processing.check_load(load)
    _doubt_harvest_day(ctx, block, saved, on)
    expected_kg = float(batch.expected or 0) / 1000
    over = how_far(load.net_kg, expected_kg) if load.net_kg > expected_kg else None
    done_on = batch.all_in
    ctx.doubt(
        "after_the_end",
        "on",
        None
        if done_on is None
        else f"The harvest of {batch.code} was finished on {done_on.day} {done_on:%b}. Is this load of it?",
    )
    ctx.doubt(
        "load",
        "gross",
        over and f"{load.net_kg:,.0f} kg is {over} what the whole block is to give, {expected_kg:,.0f} kg. Is it so?",
    )
    limit = batch.method_snapshot["layout"].get("intake", {}).get("moisture_max")
    lot = None
    if not load.refused:
        lot = Lot.objects.create(
            organisation=ctx.organisation,
            code=ctx.next_code("lot")[0],
            crop=batch.crop,
            line=batch.line,
            form="seed",
            unit="kg",
            seed_class=block.seed_class,
            received_on=on,
            status=Status.RAW,
            note=f"{block.field.name}, batch {batch.code}",
        )
    intake = processing.take_in_load(
        ctx,
        load,
        lot,
        subject=batch,
        subject_code=batch.code,
        limit_percent=limit,
        on=on,
        client_uuid=client_uuid,
        purity_min=batch.method_snapshot["layout"].get("intake", {}).get("purity_min", LEAST_PURE),
    )
    if lot is not None:
        row = saved.with_trait(Trait.LOADS) or saved.last
        Yield.objects.create(stage=row, lot=lot, quantity=of_lot(lot, load.net_kg))
        _parents(block, lot)
        reached(ctx, saved, row.key, on)
        if limit is not None and load.moisture_percent > limit:
            _dry_task(ctx, block, lot, load, limit)
    words = {
        "accept": "taken in",
        "dry now": "taken in to be dried now",
        "apart": "taken in apart",
        "refuse": "refused",
    }[intake.decision]
    code = f" as lot {lot.code}" if lot else ""
    ctx.record(
        "block.harvest", f"{batch.code}: {load.net_kg:,.0f} kg at {load.moisture_percent:g} % {words}{code}.", block
    )
    return intake


@act
def all_in(ctx: Ctx, block_id: Ref, *, on: date) -> Batch:
    """The harvest of a block is finished: nothing more is expected of it than what came in. Said again it moves the day."""
    ctx.get(SeedBlock, block_id, lock=True)
    block = load_block(ctx, block_id)
    saved = load_batch(ctx, block.batch_id, lock=True)
    batch = saved.batch
    _day(ctx, on)
    loads = ctx.rows(Intake).filter(subject=batch.uuid)
    newest = max((ctx.local(one.happened_at).date() for one in loads), default=None)
    if batch.state != Batch.State.SOWN:
        raise refuse(
            "state", "closed", f"{batch.code} is {batch.state}; its harvest is neither under way nor to be ended."
        )
    if newest is not None and on < newest:
        raise refuse(
            "on", "too_early", f"A load came in on {newest.day} {newest:%b}; the harvest was not finished before."
        )
    came = sum(float(one.gross_kg - one.tare_kg) for one in loads if one.lot_id)
    expected = float(batch.expected or 0) / 1000
    ctx.doubt(
        "all_in",
        "on",
        None if came else f"Nothing of {batch.code} came in, and {expected:,.0f} kg are expected. Is nothing to come?",
    )
    batch.all_in = on
    batch.version += 1
    batch.save(update_fields=["all_in", "version"])
    ctx.record("block.all_in", f"{batch.code}: harvest finished on {on.day} {on:%b}, {came:,.0f} kg in all.", block)
    return batch


def _doubt_male_out(ctx: Ctx, block: SeedBlock, on: date) -> None:
    """Males that are taken out before they have flowered leave the female without pollen."""
    try:
        male = match_of(block, today=ctx.today).parents["M"]
    except Refused:  # nobody knows when it flowers
        return
    over = flowers_until(male.found.first, male.phenology)
    sooner = (over - on).days
    ctx.doubt(
        "male_out",
        "on",
        f"The male flowers until about {over.day} {over:%b}; taken out on {on.day} {on:%b}, {sooner} days before, it leaves the female "
        "without pollen. Is it so?"
        if sooner > WEEKS_OFF
        else None,
    )


def _doubt_harvest_day(ctx: Ctx, block: SeedBlock, saved: Saved, on: date) -> None:
    """Seed that is cut long before it can be ripe is asked about."""
    row = saved.with_trait(Trait.LOADS)
    since = min((day for p in block.parents.all() if (day := sown_on(p))), default=None)
    if row is None or since is None or row.actual_start is not None:
        return
    early = how_early(since=since, on=on, foreseen=row.planned.lower)
    ctx.doubt("harvest_day", "on", early and f"Sown on {since.day} {since:%b} and cut {early}. Is it so?")


def _may_harvest(block: SeedBlock, batch: Batch, on: date) -> None:
    parents = {p.role: p for p in block.parents.all()}
    first = min((day for p in parents.values() if (day := sown_on(p))), default=None)
    if first is None or on <= first:
        raise refuse("on", "too_early", f"{batch.code} is not sown yet, so nothing can be harvested.")
    if "M" in parents:
        removal = getattr(block, "male_removal", None)
        if removal is None:
            raise refuse(
                "male",
                "male_stands",
                "The male still stands. Take the male rows and borders out first, and record it; then cut the female.",
            )
        if on < removal.removed_on:
            raise refuse(
                "on",
                "male_stands",
                f"The male was taken out on {removal.removed_on}; the female cannot have been cut before.",
            )
    if batch.state in (Batch.State.DELIVERED, Batch.State.ABANDONED):
        raise refuse("state", "closed", f"Batch {batch.code} is {batch.state}.")
    rejected = block.inspections.filter(state=Inspection.State.SIGNED, decision="reject").first()
    if rejected is not None:
        raise refuse(
            "state", "field_rejected", f"Inspection {rejected.number} rejected this field; its crop is no seed."
        )


def _parents(block: SeedBlock, lot: Lot) -> None:
    """The lots that were sown are the parents of what was harvested."""
    sown: dict[int, tuple[Lot, Decimal]] = {}
    for one in BlockSowing.objects.filter(parent__block=block).select_related("lot__crop"):
        before = sown.get(one.lot_id, (one.lot, Decimal(0)))[1]
        taken = in_lots_unit(one.lot, Quantity.of(one.kg, Unit.KILOGRAM), "lot_id")
        sown[one.lot_id] = (one.lot, before + taken)
    for parent, quantity in sown.values():
        LotParent.objects.create(child=lot, parent=parent, quantity=quantity, how="sown")


def _dry_task(ctx: Ctx, block: SeedBlock, lot: Lot, load: Load, limit: float | None) -> None:
    store = block.batch.method_snapshot["layout"].get("intake", {}).get("store_moisture")
    title = (
        f"Dry at once from {load.moisture_percent:g} to {store:g} %"
        if store
        else f"Dry at once from {load.moisture_percent:g} %"
    )
    put_task(
        ctx,
        lot,
        Work("dry", "dry", title),
        place=block.field,
        due=ctx.today,
        part="early",
        quantity=load.net_kg,
        unit=lot.unit,
        minutes=60,
        caution="Dust and fire at the dryer; nobody enters a bin while it runs. Warm air damages wet seed: start low",
    )


def block_ids_of(ctx: Ctx, lot: Lot) -> set[int]:
    """Batches whose loads went into a lot, through cleaning and blending."""
    return set(ctx.rows(Batch).filter(uuid__in=batches_behind(ctx, lot.pk)).values_list("pk", flat=True))


def _stage_reached(ctx: Ctx, lot: Lot, does: Trait, on: date, *, state: str | None = None) -> None:
    """Let the batch behind a lot reach a stage, and its forecast follow."""
    for pk in block_ids_of(ctx, lot):
        saved = load_batch(ctx, pk, lock=True)
        row, batch = saved.with_trait(does), saved.batch
        if row is not None and batch.state in (Batch.State.SOWN, Batch.State.READY):
            if state:
                batch.state = state
                batch.save(update_fields=["state"])
            reached(ctx, saved, row.key, on)


@act
def dry(ctx: Ctx, lot_id: Ref, dried: Dried) -> Lot:
    """A lot was dried; the batch behind it has come that far."""
    lot = processing.dry(ctx, lot_id, dried)
    finish_task(ctx, lot, "dry")
    _stage_reached(ctx, lot, Trait.DRIES, dried.on)
    return lot


@act
def clean(ctx: Ctx, run: Cleaned) -> Lot:
    """Lots were cleaned into one; it counts for the batches behind it from now on, each with its share."""
    used = [part.lot_id for part in run.parts]
    first_time = ctx.rows(Lot).filter(pk__in=used, status=Status.RAW).exists()
    lot = processing.clean(ctx, run)
    if not Yield.objects.filter(lot=lot).exists():  # a repeat finds it there
        given: dict[int, list[tuple[int, Decimal]]] = defaultdict(list)
        for lot_pk, batch, quantity in Yield.objects.filter(lot__in=used).values_list(
            "lot", "stage__batch", "quantity"
        ):
            given[lot_pk].append((batch, quantity))
        taken: dict[int, float] = defaultdict(float)
        for part in run.parts:
            whole = sum(quantity for _, quantity in given[part.lot_id])
            for batch, quantity in given[part.lot_id]:
                taken[batch] += part.kg * float(quantity / whole)
        for pk, kilos in sorted(taken.items()):
            saved = load_batch(ctx, pk, lock=True)
            share = run.clean_kg * kilos / sum(taken.values())
            Yield.objects.create(
                stage=saved.with_trait(Trait.CLEANS) or saved.last, lot=lot, quantity=of_lot(lot, share)
            )
    if first_time:
        _stage_reached(ctx, lot, Trait.CLEANS, run.on)
    return lot


@act
def sign_verdict(
    ctx: Ctx, lot_id: Ref, *, decision: str, client_uuid: uuid.UUID, reason: str = "", seed_class: str = ""
) -> Verdict:
    """Sign a decision on a lot of own seed: its field's inspections count as well as the laboratory's results."""
    lot = ctx.get(Lot, lot_id)
    if decision in ("release", "downgrade"):
        said = field_wanting(ctx, lot)
        if said:
            raise refuse("decision", "inspection_wanting", f"Cannot be released: {'; '.join(said)}.")
    made = releasing.sign(ctx, lot_id, decision=decision, client_uuid=client_uuid, reason=reason, seed_class=seed_class)
    if made.decision in ("release", "downgrade"):
        _not_above_its_field(ctx, made)
        _stage_reached(ctx, made.lot, Trait.TESTS, ctx.today, state=Batch.State.READY)
    return made


def _not_above_its_field(ctx: Ctx, made: Verdict) -> None:
    """A field taken down to a lower class, after its harvest too, takes its lots with it."""
    scheme = class_scheme(ctx)
    if scheme is None:
        return
    names, lower = scheme.names(), scheme.below(made.seed_class)
    for block in ctx.rows(SeedBlock).filter(batch__in=block_ids_of(ctx, made.lot)).select_related("batch"):
        if block.seed_class in lower:
            raise refuse(
                "decision",
                "field_class",
                f"The field of {block.batch.code} stands at {names[block.seed_class]}; its seed cannot be released as "
                f"{names[made.seed_class]}. Downgrade the lot to {names[block.seed_class]} or lower.",
            )


def field_wanting(ctx: Ctx, lot: Lot) -> list[str]:
    """What the fields behind a lot still leave open, in sentences."""
    said: list[str] = []
    around = Surroundings(ctx)
    for pk in ctx.rows(SeedBlock).filter(batch__in=block_ids_of(ctx, lot)).values_list("pk", flat=True):
        block = load_block(ctx, pk)
        if not block.inspections.exists() and field_standard(ctx, block) is not None:
            said.append("no field inspection was made, which its class asks for")
        said.extend([*wanting(block), *isolation_wanting(around, block)])
    return list(dict.fromkeys(said))
