"""Orders: take them in whole, change them with care, export them."""

import csv
import io
from collections.abc import Mapping, Sequence
from datetime import timedelta

from psycopg.types.range import DateRange

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.bulk import copy_rows, days, json_value, take_ids
from aldrip.base.errors import Conflict, FieldError, Refused, refuse
from aldrip.base.importing import neutral
from aldrip.base.words import plural
from aldrip.orders.models import Order, OrderLine, WaitingRow
from aldrip.orders.promised import shown
from aldrip.orders.rows import COLUMNS, ReadRow, check
from aldrip_core.units import Unit, from_base, plain, unit

LINE = (
    "id", "organisation", "order", "number", "crop", "line", "form", "container", "quantity", "unit", "due", "standard", "note", "seed_class", "state",
    "under_percent", "delivered", "short_cause", "problems", "version",
)  # fmt: skip


@act
def take_in(ctx: Ctx, rows: Sequence[Mapping[str, str]]) -> list[int]:
    """Save order rows, all or none. Raises Refused with every fault as `rows.N.column`.

    Returns the ids of the new lines.
    """
    checked = check(ctx, rows)
    if checked.faults:
        raise Refused([FieldError(f"rows.{f.row}.{f.column}", f.code, f.message) for f in checked.faults])
    return _save(ctx, [row for row in checked.read if row is not None])


@act
def take_in_what_holds(
    ctx: Ctx, rows: Sequence[Mapping[str, str]], waited: Sequence[int] = ()
) -> tuple[list[int], int]:
    """Save the order rows that hold, and keep the others waiting as they are written.

    waited: rows that waited until now and are among these. Raises Conflict when one of them is waiting no more.
    Returns the ids of the new lines and how many rows wait.
    """
    here = ctx.rows(WaitingRow).select_for_update().filter(pk__in=waited)
    if len(here) != len(set(waited)):
        raise Conflict("Somebody else has gone on with rows that waited. Nothing of yours was saved.", version=0)
    here.delete()
    checked = check(ctx, rows)
    read = [row for row in checked.read if row is not None]
    made = _save(ctx, read) if read else []
    waiting = [row for row, held in zip(rows, checked.read, strict=True) if held is None]
    if not read and not waiting:
        raise refuse("rows", "empty", "There is nothing to take in.")
    kept = [dict(row) for row in waiting]
    WaitingRow.objects.bulk_create(
        WaitingRow(organisation=ctx.organisation, row=row, by=ctx.user, since=ctx.today) for row in kept
    )
    if kept:
        ctx.record("orders.keep_waiting", f"Kept {plural(len(kept), 'order row')} waiting.", after={"rows": len(kept)})
    return made, len(kept)


@act
def let_go(ctx: Ctx, waiting: Sequence[int]) -> int:
    """Leave waiting order rows out for good."""
    gone = list(ctx.rows(WaitingRow).select_for_update().filter(pk__in=waiting))
    if gone:
        told = f"Left {plural(len(gone), 'waiting order row')} out."
        ctx.record("orders.let_go", told, before={"rows": [one.row for one in gone][:100]})
    ctx.rows(WaitingRow).filter(pk__in=[one.pk for one in gone]).delete()
    return len(gone)


def _save(ctx: Ctx, read: Sequence[ReadRow]) -> list[int]:
    if not read:
        raise refuse("rows", "empty", "There is nothing to take in.")
    orders = _orders_for(ctx, read)
    counts: dict[int, int] = {}
    for order_pk, number in OrderLine.objects.filter(order__in={o.pk for o in orders}).values_list(
        "order_id", "number"
    ):
        counts[order_pk] = max(counts.get(order_pk, 0), number)
    made = take_ids(OrderLine, len(read))
    lines = []
    for pk, row, order in zip(made, read, orders, strict=True):
        counts[order.pk] = counts.get(order.pk, 0) + 1
        lines.append((
            pk, ctx.organisation.pk, order.pk, counts[order.pk], row.crop.pk, row.line.pk if row.line else None, row.form,
            row.container.pk if row.container else None, row.quantity.base, row.quantity.unit.words, days(row.due.start, row.due.end), row.standard_id, row.note, row.seed_class, OrderLine.State.OPEN.value, 0.0, 0, "", json_value([]), 1,
        ))  # fmt: skip
    copy_rows(OrderLine, LINE, lines)
    _raise(ctx, {row.crop.slug for row in read})
    names = sorted({order.number for order in orders})
    shown = ", ".join(names[:5]) + (" …" if len(names) > 5 else "")
    ctx.record(
        "orders.take_in",
        f"Took in {plural(len(made), 'order line')}: {shown}.",
        after={"lines": len(made), "orders": names[:500]},
    )
    return made


def _raise(ctx: Ctx, crops: set[str]) -> None:
    """What is promised is raised, where the house chose what it raises."""
    fresh = crops - set(ctx.organisation.raises)
    if ctx.organisation.raises and fresh:
        ctx.organisation.raises = sorted({*ctx.organisation.raises, *fresh})
        ctx.organisation.save(update_fields=["raises"])


def _orders_for(ctx: Ctx, read: Sequence[ReadRow]) -> list[Order]:
    """The order of each row: an existing one, a new one by its number, or one number a customer."""
    known = {o.number: o for o in ctx.rows(Order).filter(number__in={row.order for row in read if row.order})}
    unnumbered = sorted({row.customer.lower() for row in read if not row.order})
    given = dict(zip(unnumbered, ctx.next_code("order", len(unnumbered)) if unnumbered else [], strict=True))
    new: dict[str, Order] = {}
    numbers = []
    for row in read:
        number = row.order or given[row.customer.lower()]
        numbers.append(number)
        if number not in known and number not in new:
            new[number] = Order(
                organisation=ctx.organisation, number=number, customer=row.customer, received_on=ctx.today
            )
    known.update({order.number: order for order in Order.objects.bulk_create(new.values())})
    return [known[number] for number in numbers]


@act
def change_line(ctx: Ctx, line_id: Ref, row: Mapping[str, str], version: int) -> OrderLine:
    """Change quantity, days, note of an open line. Raises Conflict when somebody saved first."""
    line = ctx.get(OrderLine, line_id, lock=True)
    if line.version != version:
        raise Conflict(
            "Somebody saved this order line first. Nothing of yours was saved.", version=line.version,
            values=[{"name": "Quantity", "theirs": shown(line.quantity, line.unit), "yours": row.get("quantity", ""), "unit": line.unit, "kind": "number"}],
        )  # fmt: skip
    if line.state != OrderLine.State.OPEN:
        raise refuse("state", "closed", f"This line is {line.get_state_display()}; it cannot change any more.")
    current = as_row(line)
    checked = check(ctx, [{**current, **row, "order": ""}])
    faults = checked.faults
    if faults:
        raise Refused([FieldError(f.column, f.code, f.message) for f in faults])
    read = checked.read[0]
    assert read is not None
    before = {"quantity": str(line.quantity), "unit": line.unit, "due": [str(line.due.lower), str(line.due.upper)]}
    line.quantity, line.unit = read.quantity.base, read.quantity.unit.words
    line.due, line.note, line.container = DateRange(read.due.start, read.due.end), read.note, read.container
    line.version += 1
    line.save()
    ctx.record("orders.change", f"Changed order {line.order.number}, line {line.number}.", line, before=before,
               after={"quantity": str(line.quantity), "unit": line.unit, "due": [str(read.due.start), str(read.due.end)]})  # fmt: skip
    return line


@act
def cancel_line(ctx: Ctx, line_id: Ref, reason: str) -> OrderLine:
    """Cancel an open line; its batches are let go by the room that owns them."""
    line = ctx.get(OrderLine, line_id, lock=True)
    if line.state != OrderLine.State.OPEN:
        raise refuse("state", "closed", "Only an open line can be cancelled.")
    if not reason.strip():
        raise refuse("reason", "missing", "Say why it is cancelled.")
    line.state, line.note, line.version = OrderLine.State.CANCELLED, reason.strip()[:300], line.version + 1
    line.chance = line.forecast = None
    line.problems = []
    line.save()
    ctx.record("orders.cancel", f"Cancelled order {line.order.number}, line {line.number}: {reason.strip()}.", line)
    return line


def typed_quantity(line: OrderLine) -> str:
    """A promise as a person would write it: plants by their number, seed with its unit."""
    of = unit(line.unit)
    number = plain(from_base(line.quantity, of)).replace(",", "")
    return number if of.is_pieces and of is not Unit.SEED else f"{number} {of.words}"


def as_row(line: OrderLine) -> dict[str, str]:
    """An order line as the row that would make it."""
    last = line.due.upper - timedelta(days=1)
    return {
        "order": line.order.number, "customer": line.order.customer, "crop": line.crop.name,
        "cultivar": line.line.name if line.line else "", "form": line.form,
        "container": line.container.name if line.container else "", "seed_class": line.seed_class, "quantity": typed_quantity(line),
        "due": line.due.lower.isoformat(), "until": last.isoformat(), "note": line.note,
    }  # fmt: skip


def export(ctx: Ctx) -> str:
    """Every order line as CSV, in the columns that an import takes, with where it stands."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([*COLUMNS, "state", "chance", "delivered"])
    for line in ctx.rows(OrderLine).select_related("order", "crop", "line", "container").order_by("due", "id"):
        chance = "" if line.chance is None else f"{line.chance:.4f}"
        writer.writerow(
            [*(neutral(v) for v in as_row(line).values()), line.state, chance, shown(line.delivered, line.unit)]
        )
    return out.getvalue()
