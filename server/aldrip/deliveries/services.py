"""Deliveries: pick from graded lots, hand over, say what is missing and why, print the papers."""

import hashlib
import json
import uuid
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from django.db.models import Prefetch, Q

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import day as day_words
from aldrip.base.words import who
from aldrip.batches.aside import for_line, of_lot
from aldrip.batches.ending import abandon
from aldrip.batches.forecasting import with_whole
from aldrip.batches.models import Allocation, Batch, BatchStage, Occupancy, SetAside, Yield
from aldrip.batches.saved import snapshot_of
from aldrip.deliveries.models import Delivery, DeliveryItem, Document
from aldrip.diary.models import Task
from aldrip.lots.descent import descent
from aldrip.lots.laboratory import tests_told
from aldrip.lots.models import Lot, Status
from aldrip.lots.releasing import barred, class_names, signed_for
from aldrip.lots.taking import READY, Wanted, take_from_stock
from aldrip.methods.models import Standard
from aldrip.methods.services import classes_filling
from aldrip.orders.models import Order, OrderLine
from aldrip.seedcrops.harvesting import block_ids_of, field_wanting
from aldrip.seedcrops.models import SeedBlock
from aldrip_core.check_character import with_check
from aldrip_core.units import Dimension, Quantity, Unit, exact, from_base, unit
from aldrip_core.verdict import Limit, cause_of
from aldrip_core.whole import ceil_whole

SIGNED = {
    "accept": "accepted",
    "rogue": "rogued and inspected again",
    "downgrade": "downgraded",
    "reject": "rejected",
    "part": "rejected in part, the rest inspected again",
    "dispense": "dispensed with",
}


@dataclass(frozen=True)
class Pick:
    """So many of a graded lot for an order line, in the unit that the line is promised in."""

    line_id: int
    lot_id: int
    quantity: float


@dataclass(frozen=True)
class Short:
    """A line that is closed with less than was promised, and why."""

    line_id: int
    cause: str


#: Of what batch a lot was given: its code alone.
GIVEN_BY = Yield.objects.select_related("stage__batch").only(
    "lot_id", "stage__id", "stage__batch__id", "stage__batch__code", "stage__batch__barred"
)
NEWEST_NOTES = 60


def stock_for(ctx: Ctx, lines: Sequence[OrderLine]) -> dict[int, list[Lot]]:
    """Graded lots, or released seed, that fit each line, oldest first: of its crop, form, class and cultivar."""
    lots = (
        ctx.rows(Lot)
        .filter(crop__slug__in={line.crop.slug for line in lines}, balance__gt=0)
        .filter(~Q(form="seed") | Q(status=Status.RELEASED))
        .select_related("line", "crop")
        .prefetch_related(Prefetch("from_stages", GIVEN_BY))
        .order_by("received_on", "id")
    )
    found: dict[int, list[Lot]] = defaultdict(list)
    by_kind: dict[tuple[str, str], list[Lot]] = defaultdict(list)
    for lot in lots:
        by_kind[lot.crop.slug, lot.form].append(lot)
    filling = classes_filling(ctx)
    for line in lines:
        for lot in by_kind[line.crop.slug, line.form]:
            if fits(lot, line, filling(line.seed_class)):
                found[line.pk].append(lot)
        # Seed of the very class goes first; a higher one fills the order as well.
        found[line.pk].sort(key=lambda lot: lot.seed_class != line.seed_class)
    return found


def proposed_picks(
    lines: Sequence[OrderLine], stock: Mapping[int, Sequence[Lot]], barred: Mapping[int, str]
) -> dict[tuple[int, int], Decimal]:
    """How much of each lot would be handed over for each line, in the line's base unit: first what is set aside for it.

    Lines in the order of their days; what one takes the next has not. What is set aside for others stays, and what is
    barred is not proposed.
    """
    left: dict[int, Decimal] = {
        lot.pk: Decimal(0) if lot.pk in barred else lot.balance for lots in stock.values() for lot in lots
    }
    aside: dict[int, dict[int, Decimal]] = defaultdict(dict)
    rows = SetAside.objects.filter(lot__in=list(left), order_line__state=OrderLine.State.OPEN)
    for line_id, lot_id, quantity in rows.values_list("order_line", "lot", "quantity"):
        aside[lot_id][line_id] = quantity
    found: dict[tuple[int, int], Decimal] = {}
    for line in sorted(lines, key=lambda one: (one.due.lower, one.pk)):
        wanted = line.quantity - line.delivered
        for lot in sorted(stock.get(line.pk, ()), key=lambda one: line.pk not in aside[one.pk]):
            kept = sum((q for other, q in aside[lot.pk].items() if other != line.pk), Decimal(0))
            part = min(of_lot(line, lot, wanted), max(Decimal(0), left[lot.pk] - kept))
            if part <= 0:
                continue
            given = min(wanted, for_line(line, lot, part))
            left[lot.pk] -= part
            aside[lot.pk].pop(line.pk, None)
            found[line.pk, lot.pk] = given
            wanted -= given
    return found


def fits(lot: Lot, line: OrderLine, classes: Sequence[str]) -> bool:
    """Whether a lot is what a line asks for: crop, form, class, cultivar, and something that its unit can be taken of."""
    same = lot.crop.slug == line.crop.slug and lot.form == line.form and (not classes or lot.seed_class in classes)
    own, asked = unit(lot.unit), unit(line.unit)
    weighed = {own.dimension, asked.dimension} <= {Dimension.MASS, Dimension.PIECES} and Unit.SEED in (own, asked)
    return (
        same
        and (own.same_measure(asked) or weighed)
        and (line.line is None or lot.line is None or lot.line.slug == line.line.slug)
    )


@act
def deliver(
    ctx: Ctx,
    *,
    order_id: Ref,
    on: date,
    picks: Sequence[Pick],
    short: Sequence[Short],
    client_uuid: uuid.UUID,
    note: str = "",
) -> Delivery:
    """Hand over against an order; the stock moves, the promise is kept or recorded as short."""
    done = ctx.rows(Delivery).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    order = ctx.get(Order, order_id, lock=True)
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Record the delivery on its day.")
    lines = {
        line.pk: line
        for line in order.lines.select_for_update(of=("self",))
        .select_related("crop", "line")
        .filter(state=OrderLine.State.OPEN)
    }
    wanted = [pick for pick in picks if pick.quantity > 0]
    if not wanted and not short:
        raise refuse("picks", "missing", "Nothing is picked. Grade a batch first, or record the line as short.")
    delivery = Delivery.objects.create(
        organisation=ctx.organisation,
        order=order,
        code=ctx.next_code("delivery")[0],
        delivered_on=on,
        by=ctx.user,
        client_uuid=client_uuid,
        note=note[:300],
    )
    for index, pick in enumerate(wanted):
        _hand_over(ctx, delivery, lines, pick, index)
    causes = {one.line_id: one.cause.strip() for one in short}
    for line in lines.values():
        _close(ctx, line, causes.get(line.pk))
    _close_batches(ctx, delivery)
    _issue(ctx, delivery, "delivery note", note_facts(delivery))
    declared = declaration_facts(ctx, delivery)
    if declared["lots"]:
        _issue(ctx, delivery, "quality declaration", declared)
    total = " and ".join(_given_words(lines, wanted)) or "nothing"
    ctx.record("delivery.hand_over", f"Delivered {total} against order {order.number}, note {delivery.code}.", delivery)
    return delivery


def _given_words(lines: Mapping[int, OrderLine], picks: Sequence[Pick]) -> list[str]:
    """“12,000 plants”, “250 g”: what was handed over, by unit."""
    by_unit: dict[str, Decimal] = defaultdict(Decimal)
    for pick in picks:
        by_unit[lines[pick.line_id].unit] += Quantity.of(pick.quantity, unit(lines[pick.line_id].unit)).base
    return [Quantity(base, unit(name)).words() for name, base in by_unit.items()]


def _hand_over(ctx: Ctx, delivery: Delivery, lines: dict[int, OrderLine], pick: Pick, index: int) -> None:
    at = f"picks.{index}"
    line = lines.get(pick.line_id)
    if line is None:
        raise refuse(f"{at}.line_id", "not_open", "This order has no such open line.")
    lot = ctx.get(Lot, pick.lot_id, lock=True)
    if lot.crop.slug != line.crop.slug or lot.form != line.form:
        raise refuse(f"{at}.lot_id", "does_not_fit", f"Lot {lot.code} is not what line {line.number} asks for.")
    states = (Status.RELEASED.value,) if lot.form == "seed" else READY
    wanted = Wanted(line.crop, line.line, line.form, classes_filling(ctx)(line.seed_class), states, "delivered")
    released = signed_for(lot)
    if (
        lot.status == Status.RELEASED
        and released is not None
        and ctx.local(released.happened_at).date() > delivery.delivered_on
    ):
        raise refuse(
            "on",
            "too_early",
            f"Lot {lot.code} was released on {ctx.local(released.happened_at).date()}; it cannot have left on {delivery.delivered_on}.",
        )
    if lot.on_hold:
        raise refuse(
            f"{at}.lot_id",
            "on_hold",
            f"Lot {lot.code} is {lot.on_hold}. Nothing of it leaves until the laboratory or a manager lifts that, or clears this lot.",
        )
    field = field_wanting(ctx, lot) if lot.form == "seed" else []
    if field and lot.status == Status.RELEASED:
        raise refuse(
            f"{at}.lot_id",
            "field_wanting",
            f"Lot {lot.code} may not leave: {'; '.join(field)}. Settle it in its field, or hand over another lot.",
        )
    said = barred(ctx, [lot], delivery.delivered_on).get(lot.pk)
    if said:
        raise refuse(
            f"{at}.lot_id",
            "results_wanting",
            f"Lot {lot.code} may not leave on {delivery.delivered_on}: {said}. Enter the new result at the lot and "
            "release it again, or hand over another lot.",
        )
    quantity = Quantity.of(pick.quantity, unit(line.unit))
    after = line.delivered + quantity.base
    if after > line.quantity:
        over = Quantity(after - line.quantity, quantity.unit).words()
        raise refuse(
            f"{at}.quantity",
            "too_many",
            f"Line {line.number} asks for {Quantity(line.quantity, quantity.unit).words()}; {Quantity(after, quantity.unit).words()} would be {over} too many.",
        )
    movement = take_from_stock(
        ctx,
        lot,
        quantity,
        "delivered",
        on=delivery.delivered_on,
        wanted=wanted,
        subject=delivery,
        subject_code=delivery.code,
        field=f"{at}.lot_id",
    )
    batch = Batch.objects.filter(stages__yields__lot=lot).first()
    if batch is None and lot.form == "seed":
        batch = Batch.objects.filter(pk__in=block_ids_of(ctx, lot)).order_by("pk").first()
    number = delivery.items.count() + 1
    DeliveryItem.objects.create(
        delivery=delivery,
        order_line=line,
        movement=movement,
        quantity=quantity.base,
        trays=_trays(batch, lot, quantity),
        batch_code=batch.code if batch else "",
        label=with_check(f"{delivery.code}-{number}"),
    )
    line.delivered = after
    _use_what_is_set_aside(ctx, line, lot, -movement.quantity, at)


def _use_what_is_set_aside(ctx: Ctx, line: OrderLine, lot: Lot, taken: Decimal, at: str) -> None:
    """What leaves a lot is what was set aside for the line; taking what is kept for others is asked about."""
    own = line.set_aside.filter(lot=lot).first()
    if own is not None:
        if own.quantity > taken:
            own.quantity -= taken
            own.save(update_fields=["quantity"])
        else:
            own.delete()
    others = SetAside.objects.filter(lot=lot, order_line__state=OrderLine.State.OPEN).exclude(order_line=line)
    kept = sum(others.values_list("quantity", flat=True), Decimal(0))
    left = Lot.objects.get(pk=lot.pk).balance
    if kept > left:
        named = ", ".join(others.values_list("order_line__order__number", flat=True).order_by("order_line__due"))
        of = unit(lot.unit)
        ctx.doubt(
            "set_aside",
            f"{at}.quantity",
            f"Of lot {lot.code} {Quantity(kept, of).words()} are set aside for order {named}, and {Quantity(left, of).words()} would be left. Take it all the same?",
        )


def _trays(batch: Batch | None, lot: Lot, quantity: Quantity) -> int | None:
    """Trays of plants that are handed over in the trays they were raised in; None for anything else."""
    if batch is None or unit(lot.unit) is not Unit.PLANT:
        return None
    snapshot = snapshot_of(batch)
    container = snapshot["containers"].get(snapshot["container"])
    return ceil_whole(float(quantity.base) / container["cells"]) if container else None


def _close(ctx: Ctx, line: OrderLine, cause: str | None) -> None:
    missing = line.quantity - line.delivered
    if missing <= 0:
        line.state, line.problems = OrderLine.State.DELIVERED, []
    elif cause is not None:
        if not cause:
            raise refuse(
                "short",
                "missing",
                f"Line {line.number} is short by {Quantity(missing, unit(line.unit)).words()}. Say why.",
            )
        line.state, line.short_cause, line.problems = OrderLine.State.SHORT, cause[:200], []
    if line.state != OrderLine.State.OPEN:
        line.set_aside.all().delete()
    line.version += 1
    line.save()


def _close_batches(ctx: Ctx, delivery: Delivery) -> None:
    """A graded batch with no open promise and nothing left in stock is delivered."""
    touched = Batch.objects.filter(allocations__order_line__order=delivery.order).distinct()
    for batch in touched.exclude(state__in=(Batch.State.DELIVERED, Batch.State.ABANDONED)):
        still_promised = Allocation.objects.filter(batch=batch, order_line__state=OrderLine.State.OPEN).exists()
        if still_promised:
            continue
        if batch.state == Batch.State.PLANNED:
            abandon(ctx, batch)
            continue
        yields = Yield.objects.filter(stage__batch=batch)
        if batch.state != Batch.State.READY or not yields.exists():  # the rest of it still stands
            continue
        if not yields.filter(lot__balance__gt=0).exists():
            _end(ctx, batch, delivery.delivered_on)


def _end(ctx: Ctx, batch: Batch, on: date) -> None:
    batch.state = Batch.State.DELIVERED
    batch.decide_by, batch.decide_text = None, ""
    batch.version += 1
    batch.save()
    stages = list(batch.stages.order_by("order"))
    for stage in stages:
        stage.actual_start = stage.actual_start or on
        stage.actual_end = stage.actual_end or max(on, stage.actual_start)
    BatchStage.objects.bulk_update(stages, ["actual_start", "actual_end"])
    # Nothing stands after it has left; the last day still counts.
    tomorrow = on + timedelta(days=1)
    for occupancy in Occupancy.objects.filter(stage__batch=batch, during__endswith__gt=tomorrow):
        if occupancy.during.lower >= tomorrow:
            occupancy.delete()
        else:
            occupancy.during = type(occupancy.during)(occupancy.during.lower, tomorrow)
            occupancy.save(update_fields=["during"])
    ctx.rows(Task).filter(subject=batch.uuid, state=Task.State.TODO).update(
        state=Task.State.DONE, done_at=ctx.now, done_by=ctx.user
    )


@act
def end_batch(ctx: Ctx, batch_id: Ref, cause: str) -> Batch:
    """End a batch that serves nobody any more: what is left of its stock is discarded, with the cause."""
    batch = ctx.get(Batch, batch_id, lock=True)
    if not cause.strip():
        raise refuse("cause", "missing", "Say why it ends, such as “surplus, composted”.")
    if batch.state in (Batch.State.DELIVERED, Batch.State.ABANDONED):
        raise refuse("state", "closed", f"Batch {batch.code} has ended already.")
    for given in with_whole(Yield.objects.filter(stage__batch=batch, lot__balance__gt=0)).select_related("lot"):
        # Of a lot that other fields gave to as well, theirs stays.
        own = min(exact(given.lot.balance * given.quantity / given.whole), given.lot.balance)
        if own > 0:
            take_from_stock(
                ctx,
                given.lot,
                Quantity(own, unit(given.lot.unit)),
                "discarded",
                on=ctx.today,
                subject=batch,
                subject_code=batch.code,
                reason=cause.strip()[:300],
            )
    if batch.state == Batch.State.READY:
        _end(ctx, batch, ctx.today)
    else:
        abandon(ctx, batch)
    ctx.record("batch.end", f"Ended {batch.code}: {cause.strip()}.", batch)
    return batch


def shown_number(value: Decimal, of: str) -> int | float:
    """A quantity as a paper prints it: whole where it is whole."""
    number = from_base(value, unit(of))
    return int(number) if number == number.to_integral_value() else float(number)


def note_facts(delivery: Delivery) -> dict[str, Any]:
    """What the delivery note says, as plain data."""
    items = delivery.items.select_related(
        "order_line__crop", "order_line__line", "order_line__standard", "movement__lot"
    ).order_by("id")
    lines = delivery.order.lines.select_related("crop", "line").order_by("number")
    return {
        "code": delivery.code,
        "supplier": delivery.organisation.name,
        "customer": delivery.order.customer,
        "order": delivery.order.number,
        "delivered_on": delivery.delivered_on.isoformat(),
        "note": delivery.note,
        "items": [
            {
                "line": item.order_line.number,
                "crop": item.order_line.crop.name,
                "botanical_name": item.order_line.crop.botanical_name,
                "cultivar": item.order_line.line.name if item.order_line.line else "",
                "form": item.order_line.form,
                "quantity": shown_number(item.quantity, item.order_line.unit),
                "unit": item.order_line.unit,
                "trays": item.trays,
                "batch": item.batch_code,
                "lot": item.movement.lot.code,
                "label": item.label,
                "standard": item.order_line.standard.name if item.order_line.standard else "",
            }
            for item in items
        ],
        "lines": [
            {
                "line": line.number,
                "crop": line.crop.name,
                "ordered": shown_number(line.quantity, line.unit),
                "delivered": shown_number(line.delivered, line.unit),
                "missing": shown_number(max(Decimal(0), line.quantity - line.delivered), line.unit),
                "cause": line.short_cause,
                "unit": line.unit,
            }
            for line in lines
        ],
    }


def declaration_facts(ctx: Ctx, delivery: Delivery) -> dict[str, Any]:
    """What the quality declaration says of every seed lot in a delivery, as plain data."""
    items = [
        item
        for item in delivery.items.select_related("movement__lot__crop", "movement__lot__line", "order_line").order_by(
            "id"
        )
        if item.movement.lot.form == "seed"
    ]
    names = class_names(ctx)
    return {
        "code": delivery.code,
        "supplier": delivery.organisation.name,
        "customer": delivery.order.customer,
        "order": delivery.order.number,
        "delivered_on": delivery.delivered_on.isoformat(),
        "lots": [_declared(ctx, item, names) for item in items],
    }


def _declared(ctx: Ctx, item: DeliveryItem, names: dict[str, str]) -> dict[str, Any]:
    lot = item.movement.lot
    signed = signed_for(lot)
    family = [row for row in descent(ctx, lot.pk) if row["level"] < 0]
    blocks = (
        SeedBlock.objects.filter(batch__in=block_ids_of(ctx, lot))
        .select_related("field")
        .prefetch_related("inspections")
    )
    return {
        "code": lot.code,
        "crop": lot.crop.name,
        "cultivar": lot.line.name if lot.line else "",
        "class_name": names.get(lot.seed_class, lot.seed_class),
        "quantity": shown_number(item.quantity, item.order_line.unit),
        "unit": item.order_line.unit,
        "label": item.label,
        "results": signed.results if signed else [],
        "verdict": signed.sentence if signed else "",
        "reason": signed.reason if signed else "",
        "standard": signed.standard.name if signed else "",
        "signed": f"{day_words(ctx.local(signed.happened_at).date(), year=True)} by {who(signed.by, 'somebody who has left')}, {signed.role}"
        if signed
        else "",
        "tests": tests_told(lot),
        "fields": ", ".join(b.field.name for b in blocks),
        "inspections": "; ".join(
            f"{i.words.lower()} {SIGNED.get(i.decision, 'open')}" for b in blocks for i in b.inspections.all()
        ),
        "made_from": ", ".join(
            f"{row['code']}{' ' + row['label_number'] if row['label_number'] else ''}" for row in family
        )
        or "nothing recorded",
        "seals": ", ".join(lot.seals.order_by("id").values_list("number", flat=True)[:200]),
    }


def _issue(ctx: Ctx, delivery: Delivery, kind: str, facts: dict[str, Any]) -> Document:
    digest = hashlib.sha256(json.dumps(facts, sort_keys=True, ensure_ascii=False).encode()).hexdigest()
    return Document.objects.create(
        organisation=ctx.organisation,
        delivery=delivery,
        kind=kind,
        payload=facts,
        sha256=digest,
        issued_at=ctx.now,
    )


def grade_causes(standard: Standard | None) -> list[str]:
    """Causes by which plants are graded out: what the standard asks, and the usual damage."""
    limits = standard.limits if standard else []
    asked = [
        cause_of(Limit(one["attribute"], one["words"], one.get("unit") or "", one.get("low"), one.get("high")))
        for one in limits
    ]
    return [*asked, "damaged", "missing cell"]
