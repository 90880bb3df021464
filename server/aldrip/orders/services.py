"""Orders: take them in whole, change them with care, export them."""

import csv
import io
from collections.abc import Mapping, Sequence
from datetime import timedelta

from psycopg.types.range import DateRange

from aldrip.accounts.context import Ctx, Ref, act, one_of
from aldrip.base.bulk import copy_rows, days, json_value, take_ids
from aldrip.base.errors import Conflict, FieldError, NotThere, Refused, refuse
from aldrip.base.importing import neutral
from aldrip.base.words import plural
from aldrip.orders.models import Order, OrderLine, WaitingRow
from aldrip.orders.promised import shown
from aldrip.orders.rows import COLUMNS, ReadRow, check
from aldrip_core.units import Quantity, Unit, from_base, plain, unit

LINE = (
    "id",
    "organisation",
    "order",
    "number",
    "crop",
    "line",
    "form",
    "container",
    "quantity",
    "unit",
    "due",
    "standard",
    "note",
    "seed_class",
    "state",
    "under_percent",
    "delivered",
    "short_cause",
    "problems",
    "version",
)


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
        lines.append(
            (
                pk,
                ctx.organisation.pk,
                order.pk,
                counts[order.pk],
                row.crop.pk,
                row.line.pk if row.line else None,
                row.form,
                row.container.pk if row.container else None,
                row.quantity.base,
                row.quantity.unit.words,
                days(row.due.start, row.due.end),
                row.standard_id,
                row.note,
                row.seed_class,
                OrderLine.State.OPEN.value,
                0.0,
                0,
                "",
                json_value([]),
                1,
            )
        )
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


#: What a row says of a line that can change; the customer and the order stay.
CHANGEABLE = ("crop", "cultivar", "form", "container", "seed_class", "quantity", "due", "until", "note")


def open_line(ctx: Ctx, line_id: Ref) -> OrderLine:
    """A line that can still change, locked. Raises Refused."""
    line = one_of(
        ctx.rows(OrderLine).select_for_update(of=("self",)).select_related("order", "crop", "line", "container"),
        line_id,
    )
    if line is None:
        raise NotThere("There is no such order line here.")
    if line.state != OrderLine.State.OPEN:
        raise refuse("state", "closed", f"This line is {line.get_state_display()}; it cannot change any more.")
    return line


def change_line(ctx: Ctx, line_id: Ref, row: Mapping[str, str]) -> str:
    """Change what an open line asks; returns what is another now, in words.

    Call inside an act; what is planned for it follows in Batches. Raises Refused.
    """
    line = open_line(ctx, line_id)
    typed = {name: value for name, value in row.items() if name in CHANGEABLE}
    if "due" in typed and "until" not in typed:
        typed["until"] = ""  # one day or week was written for both
    read = _read_one(ctx, {**as_row(line), **typed})
    if read.quantity.base < line.delivered:
        raise refuse(
            "quantity",
            "delivered",
            f"{Quantity(line.delivered, read.quantity.unit).words()} of it are delivered already; it cannot be less.",
        )
    before = {"quantity": str(line.quantity), "unit": line.unit, "due": [str(line.due.lower), str(line.due.upper)]}
    was = _told(line)
    line.crop, line.line, line.form, line.seed_class = read.crop, read.line, read.form, read.seed_class
    line.quantity, line.unit = read.quantity.base, read.quantity.unit.words
    line.due, line.note, line.container = DateRange(read.due.start, read.due.end), read.note, read.container
    line.standard_id = read.standard_id
    line.version += 1
    line.save()
    told = _changed_words(was, _told(line)) or "its note"
    ctx.record(
        "orders.change",
        f"Changed order {line.order.number}, line {line.number}: {told}.",
        line,
        before=before,
        after={"quantity": str(line.quantity), "unit": line.unit, "due": [str(read.due.start), str(read.due.end)]},
    )
    return told


def _read_one(ctx: Ctx, row: Mapping[str, str]) -> ReadRow:
    checked = check(ctx, [{**row, "order": ""}])
    if checked.faults:
        raise Refused([FieldError(f.column, f.code, f.message) for f in checked.faults])
    read = checked.read[0]
    assert read is not None
    return read


def _told(line: OrderLine) -> list[str]:
    """What a line asks, a word for each part of it."""
    of = unit(line.unit)
    last = line.due.upper - timedelta(days=1)
    days = f"{line.due.lower.day} {line.due.lower:%b}" + (f" to {last.day} {last:%b}" if last != line.due.lower else "")
    return [
        Quantity(line.quantity, of).words(),
        f"{line.crop.name.lower()} {line.line.name if line.line else ''}".strip(),
        line.form,
        line.container.name if line.container else "no container named",
        line.seed_class.replace("-", " ") or "no class named",
        days,
    ]


def _changed_words(before: list[str], after: list[str]) -> str:
    changed = [f"{new} instead of {old}" for old, new in zip(before, after, strict=True) if old != new]
    return ", ".join(changed)


def split_line(ctx: Ctx, line_id: Ref, *, quantity: str, due: str, until: str) -> tuple[OrderLine, OrderLine]:
    """Make two lines of one: so much of it on another day. Call inside an act. Raises Refused."""
    line = open_line(ctx, line_id)
    row = as_row(line)
    read = _read_one(
        ctx, {**row, "quantity": quantity, "due": due or row["due"], "until": until if due else row["until"]}
    )
    left = line.quantity - line.delivered
    if not read.quantity.unit.same_measure(unit(line.unit)) or read.quantity.base >= left:
        raise refuse(
            "quantity",
            "too_many",
            f"{read.quantity.words()} cannot be split off: {Quantity(left, unit(line.unit)).words()} of this line are still to come, and something must stay.",
        )
    line.quantity -= read.quantity.base
    line.version += 1
    line.save()
    number = max(line.order.lines.values_list("number", flat=True)) + 1
    other = OrderLine.objects.create(
        organisation=ctx.organisation,
        order=line.order,
        number=number,
        crop=line.crop,
        line=line.line,
        form=line.form,
        container=line.container,
        quantity=read.quantity.base,
        unit=line.unit,
        due=DateRange(read.due.start, read.due.end),
        seed_class=line.seed_class,
        under_percent=line.under_percent,
        standard=line.standard,
        note=line.note,
    )
    ctx.record(
        "orders.split",
        f"Split {read.quantity.words()} off order {line.order.number}, line {line.number}, as line {number}.",
        line,
    )
    return line, other


def join_lines(ctx: Ctx, line_id: Ref, other_id: Ref) -> tuple[OrderLine, OrderLine]:
    """Put what another line of the same order asks into a line; the other is cancelled. Call inside an act. Raises Refused."""
    line, other = open_line(ctx, line_id), open_line(ctx, other_id)
    if line.pk == other.pk or line.order_id != other.order_id:
        raise refuse("other", "other_order", "Only two lines of one order can be joined.")
    same = ("crop_id", "line_id", "form", "container_id", "seed_class", "unit")
    if any(getattr(line, name) != getattr(other, name) for name in same):
        raise refuse(
            "other",
            "does_not_fit",
            f"Line {other.number} asks for something else than line {line.number}; change it first.",
        )
    if other.delivered:
        raise refuse(
            "other",
            "delivered",
            f"Of line {other.number} something is delivered already; join line {line.number} to it instead.",
        )
    line.quantity += other.quantity
    line.version += 1
    line.save()
    _close(other, f"joined to line {line.number}")
    ctx.record("orders.join", f"Joined line {other.number} of order {line.order.number} to line {line.number}.", line)
    return line, other


def cancel_line(ctx: Ctx, line_id: Ref, reason: str) -> OrderLine:
    """Cancel an open line. Call inside an act; what was planned for it is let go in Batches. Raises Refused."""
    line = open_line(ctx, line_id)
    if not reason.strip():
        raise refuse("reason", "missing", "Say why it is cancelled.")
    _close(line, reason.strip()[:300])
    ctx.record("orders.cancel", f"Cancelled order {line.order.number}, line {line.number}: {reason.strip()}.", line)
    return line


def _close(line: OrderLine, note: str) -> None:
    line.state, line.note, line.version = OrderLine.State.CANCELLED, note, line.version + 1
    line.chance = line.forecast = None
    line.problems = []
    line.save()


def typed_quantity(line: OrderLine) -> str:
    """A promise as a person would write it: plants by their number, seed with its unit."""
    of = unit(line.unit)
    number = plain(from_base(line.quantity, of)).replace(",", "")
    return number if of.is_pieces and of is not Unit.SEED else f"{number} {of.words}"


def as_row(line: OrderLine) -> dict[str, str]:
    """An order line as the row that would make it."""
    last = line.due.upper - timedelta(days=1)
    return {
        "order": line.order.number,
        "customer": line.order.customer,
        "crop": line.crop.name,
        "cultivar": line.line.name if line.line else "",
        "form": line.form,
        "container": line.container.name if line.container else "",
        "seed_class": line.seed_class,
        "quantity": typed_quantity(line),
        "due": line.due.lower.isoformat(),
        "until": last.isoformat(),
        "note": line.note,
    }


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
