"""A block's own acts: laid out, changed with its consequences seen, sown line by line."""

import uuid
from collections.abc import Sequence
from dataclasses import replace
from datetime import date
from typing import Any

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.models import AuditEvent
from aldrip.base.errors import Conflict, refuse
from aldrip.batches.editing import Change, apply_plan, stands_alone
from aldrip.batches.forecasting import LIVE
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchInput, Occupancy
from aldrip.batches.saved import Saved, load_batch, request_of
from aldrip.batches.steps import began, is_seed_crop
from aldrip.diary.models import Task
from aldrip.diary.services import finish
from aldrip.lots.models import Lot
from aldrip.lots.taking import Wanted, take_from_stock
from aldrip.methods.models import ClassScheme, usual_class
from aldrip.methods.resolver import Library
from aldrip.methods.services import class_scheme
from aldrip.orders.models import OrderLine
from aldrip.places.ground import polygon_of, ring_of
from aldrip.places.models import Kind, Place
from aldrip.seedcrops.generations import sown_for
from aldrip.seedcrops.inspecting import move_visits, plan_visits
from aldrip.seedcrops.laying import (
    CLEARABLE,
    ROLES,
    Layout,
    LayoutChange,
    check_layout,
    history_objections,
    layout_of,
    load_block,
    longest_side_bearing,
    meeting_days,
    parent_lines,
    plan_rows,
    ring_m,
    state_of,
    step_of,
)
from aldrip.seedcrops.models import BlockParent, BlockSowing, FlowerObservation, Inspection, SeedBlock
from aldrip_core.batch_plan import Plan, Stand, plan_batch
from aldrip_core.geometry import Point, area_m2, open_ring
from aldrip_core.isolation import common_parts
from aldrip_core.stage_dates import Anchor
from aldrip_core.units import Quantity, Unit, exact

MARGIN = 0.01  # share of a block that may lie outside its field: outlines are walked, not surveyed


@act
def lay_out(
    ctx: Ctx,
    batch_id: Ref,
    *,
    field_id: int | None = None,
    outline: dict[str, Any] | None = None,
    corners_m: list[tuple[float, float]] | None = None,
    bearing_deg: float | None = None,
) -> SeedBlock:
    """Lay a batch of seed out on its field, with the method's pattern and the sowing days that let the parents meet."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    if not is_seed_crop(batch):
        raise refuse("batch_id", "no_seed_crop", f"Batch {batch.code} is not grown for seed.")
    if SeedBlock.objects.filter(batch=batch).exists():
        raise refuse("batch_id", "laid_out", f"Batch {batch.code} is laid out already. Open its block.")
    if batch.state != Batch.State.PLANNED:
        raise refuse(
            "batch_id", "closed", f"Batch {batch.code} is {batch.state}; a block is laid out before it is sown."
        )
    place = ctx.get(Place, field_id) if field_id else saved.first.place
    if place is None or place.kind != Kind.FIELD:
        raise refuse(
            "field_id",
            "missing",
            "On which field? Choose one in the batch, or enter a field with its outline in Places.",
        )
    if outline is None and corners_m is None and place.outline is None:
        raise refuse("outline", "missing", f"{place.name} has no outline yet. Enter its corners, or paste GeoJSON.")
    ring = open_ring(corners_m, "corners_m") if corners_m else ring_of(place.site, outline or place.outline, "outline")
    area_m2(ring)
    _lies_in(place, ring)
    _stand_on(ctx, saved, place, int(area_m2(ring)))
    stands_alone(batch, Occupancy.objects.filter(stage__batch__seed_block__isnull=False))
    given = batch.method_snapshot["layout"]
    lines = parent_lines(batch)
    block = SeedBlock.objects.create(
        organisation=ctx.organisation,
        batch=batch,
        field=place,
        outline=polygon_of(place.site, ring),
        seed_class=_class_asked(batch) or usual_class(given, ctx.organisation.class_scheme),
        step=step_of(batch),
        pattern=given.get("pattern", ""),
        bearing_deg=bearing_deg if bearing_deg is not None else longest_side_bearing(ring),
        row_spacing_m=given["row_spacing_m"],
        border_rows=given.get("border_rows", 0),
        headland_rows=given.get("headland_rows", 0),
        planter_rows=given.get("planter_rows"),
        in_row_cm=given.get("in_row_cm", {}),
        establishment=given.get("establishment", {}),
        target_per_m2=given.get("target_per_m2"),
    )
    sow = saved.first.planned.lower
    days = meeting_days(lines, sow, place)
    for role, line in lines.items():
        BlockParent.objects.create(block=block, role=role, line=line, sow_on=days[role])
    block = load_block(ctx, block.pk)
    _history_allows(ctx, block)
    plan_visits(ctx, block)
    ctx.record("block.lay_out", f"Laid out {batch.code} on {place.name}, {area_m2(ring) / 10_000:.2f} ha.", block)
    return block


def _lies_in(place: Place, ring: Sequence[Point]) -> None:
    """Refuse a block of which more than a margin lies outside its field."""
    if place.outline is None:
        return
    field = ring_of(place.site, place.outline, "outline", stored=True)
    area = area_m2(ring)
    outside = area - common_parts([[ring]], [[field]])[1]
    if outside > MARGIN * area:
        raise refuse(
            "outline",
            "outside_field",
            f"{outside:,.0f} of {area:,.0f} m² of the block lie outside {place.name}. Draw it inside, or correct the "
            "field’s outline in Places first.",
        )


def _stand_on(ctx: Ctx, saved: Saved, place: Place, area: int) -> None:
    """The batch stands on this field with all of its block, and its plan follows."""
    batch = saved.batch
    ground = Ground(ctx, without=[batch.pk])
    request = request_of(saved, ground.stood)
    kind = saved.first.place.kind if saved.first.place else Kind.FIELD
    places = {s.key: (Stand(place.pk),) for s in request.method.stages if s.place_kind == kind}
    plan = plan_batch(replace(request, places={**request.places, **places}, start=area), ground, working=False)
    apply_plan(ctx, saved, plan)


def plan_for(ctx: Ctx, saved: Saved, sow_on: date) -> Plan | None:
    """The plan of a batch whose block is first sown on a day; None where it stays, or is sown already."""
    batch = saved.batch
    if batch.state != Batch.State.PLANNED or saved.first.planned.lower == sow_on:
        return None
    ground = Ground(ctx, without=[batch.pk])
    request = replace(request_of(saved, ground.stood), anchor=Anchor(sow=sow_on), dates={})
    return plan_batch(request, ground, working=False)


def _plan_follows(ctx: Ctx, block: SeedBlock, sow_on: date) -> None:
    """The batch's own dates follow the first sowing day of its block."""
    saved = load_batch(ctx, block.batch_id, lock=True)
    plan = plan_for(ctx, saved, sow_on)
    if plan is not None:
        apply_plan(ctx, saved, plan)


def block_leads(batch: Batch, change: Change) -> None:
    """A laid-out batch takes its field, size and sowing days from its block. Raises Refused for a change past it."""
    moves = change.place_id is not None or change.back_to_planned
    root = next((s["key"] for s in batch.method_snapshot.get("stages", ()) if not s.get("after")), "")
    moves = moves or bool(change.split)
    moves = moves or (batch.state == Batch.State.PLANNED and (change.stage or root) == root and bool(change.shift_days))
    for name in ("sow_on", "ready_on", "start", "trays", "seed_g", "rung"):
        moves = moves or getattr(change, name) is not None
    if not moves or not is_seed_crop(batch):
        return
    block = SeedBlock.objects.filter(batch=batch).select_related("field").first()
    if block is not None:
        raise refuse(
            "batch_id",
            "laid_out",
            f"{batch.code} is laid out on {block.field.name}: change its sowing days and rows in its block, "
            "or take the layout up to plan it anew.",
        )


@act
def take_up(ctx: Ctx, block_id: Ref, *, version: int) -> Batch:
    """Take a layout up before anything was done on it; the batch may be laid out anew, on another field too."""
    ctx.get(SeedBlock, block_id, lock=True)
    block = load_block(ctx, block_id)
    if block.version != version:
        raise Conflict(
            "Somebody changed this block meanwhile. Look again before you take it up.", version=block.version
        )
    worked = (
        ("sown", BlockSowing.objects.filter(parent__block=block)),
        ("seen in the field", FlowerObservation.objects.filter(parent__block=block)),
        ("noted as a remedy", block.remedies.all()),
        ("inspected", block.inspections.exclude(state=Inspection.State.PLANNED)),
    )
    for words, rows in worked:
        if rows.exists():
            raise refuse("block", "begun", f"{block.batch.code} was {words} on {block.field.name}; its layout stays.")
    said = f"Took the layout of {block.batch.code} on {block.field.name} up."
    ctx.record("block.take_up", said, block, before=state_of(block))
    visits = ctx.rows(Task).filter(subject=block.batch.uuid, key__startswith="inspect:")
    visits.filter(state=Task.State.TODO).delete()
    batch = block.batch
    block.delete()
    return batch


def _class_asked(batch: Batch) -> str:
    line = batch.allocations.select_related("order_line").order_by("id").first()
    return line.order_line.seed_class if line else ""


def _history_allows(ctx: Ctx, block: SeedBlock) -> None:
    said = history_objections(block)
    if said:
        raise refuse(
            "field_id",
            "land_history",
            " ".join(said) + " Choose another field, or record that the crop was inspected clean.",
        )


@act
def keep(ctx: Ctx, block_id: Ref, change: LayoutChange, *, version: int) -> SeedBlock:
    """Save a change of the layout that was seen with its consequences. Raises Conflict when somebody saved first."""
    ctx.get(SeedBlock, block_id, lock=True)
    block = load_block(ctx, block_id)
    before = state_of(block)
    if block.version != version:
        raise Conflict(
            "Somebody saved this block first. Nothing of yours was saved; look at both and decide again.",
            version=block.version,
            values=_both(layout_of(block), change),
        )
    _may_change(block, change)
    layout = change.on(layout_of(block))
    check_layout(layout)
    if block.pattern:
        plan_rows(layout, ring_m(block), {})
    for name in (
        "pattern",
        "bearing_deg",
        "row_spacing_m",
        "border_rows",
        "headland_rows",
        "planter_rows",
        "in_row_cm",
        "establishment",
        "target_per_m2",
    ):
        setattr(block, name, getattr(layout, name))
    block.pattern = block.pattern.strip().upper()
    block.version += 1
    block.save()
    for parent in block.parents.all():
        parent.sow_on = layout.sow_on[parent.role]
        if parent.role == "M":
            parent.sowings, parent.sowing_gap_days = layout.male_sowings, layout.male_gap_days
        parent.save()
    if change.sow_on:
        _plan_follows(ctx, block, min(layout.sow_on.values()))
    block = load_block(ctx, block_id)
    move_visits(ctx, block)
    ctx.record(
        "block.keep",
        f"Changed the layout of {block.batch.code}: {_words(change)}.",
        block,
        before=before,
        after=state_of(block),
    )
    return block


def _words(change: LayoutChange) -> str:
    said = []
    for name in LayoutChange.__dataclass_fields__:
        value = getattr(change, name)
        if value is None or value == {} or name == "clears":
            continue
        shown = ", ".join(f"{k} {v}" for k, v in value.items()) if isinstance(value, dict) else value
        said.append(f"{name.replace('_', ' ').replace(' deg', '').replace(' m', '')} {shown}")
    return "; ".join(said) or "nothing"


def _both(layout: Layout, change: LayoutChange) -> list[dict[str, Any]]:
    rows = []
    for name in LayoutChange.__dataclass_fields__:
        if name == "clears":
            continue
        yours, theirs = getattr(change, name), getattr(layout, name)
        if yours not in (None, {}) and yours != theirs:
            rows.append(
                {"name": name.replace("_", " "), "theirs": str(theirs), "yours": str(yours), "unit": "", "kind": "text"}
            )
    return rows


def _may_change(block: SeedBlock, change: LayoutChange) -> None:
    sown = {parent.role for parent in block.parents.all() if parent.sown.all()}
    if not sown:
        return
    rows = ("pattern", "bearing_deg", "row_spacing_m", "border_rows", "headland_rows", "planter_rows", "target_per_m2")
    touched = [name for name in rows if getattr(change, name) is not None] + (["in_row_cm"] if change.in_row_cm else [])
    if touched:
        raise refuse(touched[0], "happened", "The block is being sown; its rows cannot change any more.")
    gone = sorted(set(change.sow_on) & sown)
    if gone:
        raise refuse(f"sow_on.{gone[0]}", "happened", f"The {ROLES[gone[0]]} is sown; its day cannot move.")


@act
def sow(
    ctx: Ctx,
    block_id: Ref,
    *,
    role: str,
    lot_id: int,
    kg: float,
    on: date,
    client_uuid: uuid.UUID,
    rows: int | None = None,
) -> BlockSowing:
    """One line was sown: its seed leaves stock; the first sowing sets the batch going."""
    ctx.get(SeedBlock, block_id, lock=True)
    done = ctx.rows(BlockSowing).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    block = load_block(ctx, block_id)
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Record it on the day.")
    parent = next((p for p in block.parents.all() if p.role == role), None)
    if parent is None:
        raise refuse("role", "not_a_choice", "This block has no such line.")
    if not 0 < kg <= 1e6:
        raise refuse("kg", "missing", "How many kilos were sown?")
    lot = _parent_seed(ctx, block, parent, lot_id)
    saved = load_batch(ctx, block.batch_id, lock=True)
    batch = saved.batch
    if batch.state not in (Batch.State.PLANNED, Batch.State.SOWN) or hasattr(block, "male_removal"):
        raise refuse("role", "closed", "Sowing is over in this block.")
    made = BlockSowing.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        parent=parent,
        lot=lot,
        sown_on=on,
        kg=exact(kg),
        rows=rows,
        happened_at=ctx.at(on),
        client_uuid=client_uuid,
    )
    wanted = Wanted(batch.crop, parent.line)
    taken = take_from_stock(
        ctx, lot, Quantity.of(kg, Unit.KILOGRAM), "sown", on=on, wanted=wanted, subject=batch, subject_code=batch.code
    )
    BatchInput.objects.create(stage=saved.first, lot=lot, quantity=-taken.quantity, taken_on=on)
    if batch.state == Batch.State.PLANNED:
        began(ctx, saved, start=int(area_m2(ring_m(block))), on=on, whole=False)
    if all(p.sown.exists() for p in block.parents.all()):
        finish(ctx, subject=batch.uuid, stages=[saved.first.key], at=("before", "start"))
    block.version += 1
    block.save(update_fields=["version"])
    move_visits(ctx, load_block(ctx, block_id))
    ctx.record(
        "block.sown",
        f"Sown {ROLES[role]} of {batch.code}: {kg:,.1f} kg from lot {lot.code} on {on.day} {on:%b}.",
        block,
    )
    return made


def _parent_seed(ctx: Ctx, block: SeedBlock, parent: BlockParent, lot_id: int) -> Lot:
    """The lot that a line is sown from: of this line, of a class that may be multiplied, with its label."""
    lot = ctx.get(Lot, lot_id)
    if lot.line is None or lot.line.slug != parent.line.slug:
        raise refuse("lot_id", "other_line", f"Lot {lot.code} is not {parent.line.name}.")
    scheme = class_scheme(ctx)
    allowed = sown_for(scheme, block.seed_class)
    names = scheme.names() if scheme else {}
    if lot.seed_class not in allowed:
        asked = " or ".join(names.get(c, c) for c in allowed)
        has = names.get(lot.seed_class, lot.seed_class) or "without a class"
        raise refuse(
            "lot_id",
            "wrong_class",
            f"Seed of class {names.get(block.seed_class, block.seed_class)} is grown from {asked}; lot {lot.code} is {has}.",
        )
    if not lot.status and not lot.label_number:
        raise refuse(
            "lot_id",
            "no_label",
            f"Lot {lot.code} has no official label number. Enter it with the receipt of the parent seed.",
        )
    return lot


@act
def undo(ctx: Ctx, block_id: Ref) -> SeedBlock:
    """Take back the last change of the layout: a new change from what the audit says stood before."""
    ctx.get(SeedBlock, block_id, lock=True)
    block = load_block(ctx, block_id)
    event = last_change(ctx, block)
    if event is None:
        raise refuse(
            "block", "nothing_to_undo", "Nothing of the layout was changed since, or something else was done after it."
        )
    before = event.before or {}
    given = {name: before[name] for name in LayoutChange.__dataclass_fields__ if name in before}
    given["clears"] = frozenset(name for name in CLEARABLE if name in before and before[name] is None)
    given["sow_on"] = {role: date.fromisoformat(day) for role, day in given["sow_on"].items()}
    made = keep(ctx, block_id, LayoutChange(**given), version=block.version)
    undoing = ctx.rows(AuditEvent).filter(action="block.keep", subject=block.uuid).order_by("-id")[0]
    event.undone_by = undoing
    event.save(update_fields=["undone_by"])
    undoing.action = "block.undo"
    undoing.sentence = f"Undone: {event.sentence}"[:400]
    undoing.save(update_fields=["action", "sentence"])
    return made


def last_change(ctx: Ctx, block: SeedBlock) -> AuditEvent | None:
    """The newest change of a block's layout, if nothing was done to the block since."""
    event = ctx.rows(AuditEvent).filter(subject=block.uuid).order_by("-id").first()
    if event is None or event.action != "block.keep" or (event.after or {}).get("version") != block.version:
        return None
    return event


@act
def choose_scheme(ctx: Ctx, slug: str) -> ClassScheme:
    """The classes of seed that the house goes by; what is promised or grown in other classes bars a change."""
    scheme = Library(ctx).rows(ClassScheme).filter(slug=slug).first()
    if scheme is None:
        raise refuse("slug", "not_a_choice", "There is no such scheme of classes.")
    names = set(scheme.names())
    promised = (
        ctx.rows(OrderLine)
        .filter(state=OrderLine.State.OPEN)
        .exclude(seed_class="")
        .exclude(seed_class__in=names)
        .first()
    )
    grown = (
        ctx.rows(SeedBlock).filter(batch__state__in=LIVE).exclude(seed_class__in=names).select_related("batch").first()
    )
    if promised or grown:
        what = (
            f"order {promised.order.number} promises {promised.seed_class}"
            if promised
            else f"batch {grown.batch.code} is grown as {grown.seed_class}"
            if grown
            else ""
        )
        raise refuse(
            "slug", "in_use", f"{what.capitalize()}, which {scheme.name.lower()} does not know. Finish it first."
        )
    ctx.organisation.class_scheme = slug
    ctx.organisation.save(update_fields=["class_scheme"])
    ctx.record("methods.scheme", f"Seed classes go by “{scheme.name}”.", scheme)
    return scheme
