"""What can be done to an order line or a batch, a function each; proposals.py carries them out together."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import refuse
from aldrip.batches import editing
from aldrip.batches.aside import words_of
from aldrip.batches.models import Allocation, Batch, SetAside
from aldrip.batches.promises import Touched, give_batch, set_aside, take_off
from aldrip.orders.models import OrderLine
from aldrip.orders.services import cancel_line, change_line, join_lines, open_line, split_line


@dataclass(frozen=True)
class Command:
    """One thing to do: what, to which line or batch, and with what. `typed`: as a person wrote it."""

    do: str
    line: Ref | None = None
    batch: Ref | None = None
    lot: Ref | None = None
    other: Ref | None = None
    typed: Mapping[str, str] = field(default_factory=dict)
    change: editing.Change | None = None


def do(ctx: Ctx, one: Command, touched: Touched) -> str:
    """Carry a command out; what it touches is noted before. Returns it in words. Raises Refused. Call inside an act."""
    if one.do == "edit":
        return _edit(ctx, one, touched)
    if one.do not in TO_A_LINE:
        raise refuse("do", "unknown", f"“{one.do}” is nothing that can be done to an order line.")
    if one.line is None:
        raise refuse("line", "missing", "Which order line is meant?")
    line = open_line(ctx, one.line)
    touched.lines.add(line.pk)
    _note(touched, line)
    return TO_A_LINE[one.do](ctx, line, one, touched)


def _note(touched: Touched, line: OrderLine) -> None:
    touched.note(Batch.objects.filter(allocations__order_line=line).select_related("method"))


def name_of(line: OrderLine) -> str:
    """“order 123, line 1”."""
    return f"order {line.order.number}, line {line.number}"


def _edit(ctx: Ctx, one: Command, touched: Touched) -> str:
    if one.batch is None or one.change is None:
        raise refuse("batch", "missing", "Which batch is to be changed, and how?")
    batch = ctx.get(Batch, one.batch)
    touched.lines |= set(batch.allocations.values_list("order_line", flat=True))
    return editing.keep(ctx, batch.pk, one.change, batch.version).sentence


def _change(ctx: Ctx, line: OrderLine, one: Command, touched: Touched) -> str:
    told = change_line(ctx, line.pk, one.typed)
    return f"O{name_of(line)[1:]}: {told}."


def _split(ctx: Ctx, line: OrderLine, one: Command, touched: Touched) -> str:
    typed = one.typed
    _, other = split_line(
        ctx, line.pk, quantity=typed.get("quantity", ""), due=typed.get("due", ""), until=typed.get("until", "")
    )
    touched.lines.add(other.pk)
    return f"Split {words_of(other, other.quantity)} off {name_of(line)}."


def _join(ctx: Ctx, line: OrderLine, one: Command, touched: Touched) -> str:
    if one.other is None:
        raise refuse("other", "missing", "Which other line of the order is to be joined to it?")
    joined = open_line(ctx, one.other)
    touched.lines.add(joined.pk)
    _note(touched, joined)
    join_lines(ctx, line.pk, joined.pk)
    for row in joined.allocations.all():
        _carry_over(row, line.allocations.filter(batch=row.batch_id).first(), line)
    for kept in joined.set_aside.all():
        _carry_over(kept, line.set_aside.filter(lot=kept.lot_id).first(), line)
    return f"Join line {joined.number} to {name_of(line)}."


def _carry_over(row: Allocation | SetAside, own: Allocation | SetAside | None, line: OrderLine) -> None:
    """What was meant for a line that is joined is meant for the one that it was joined to."""
    if own is None:
        row.order_line = line
        row.save(update_fields=["order_line"])
        return
    own.quantity += row.quantity
    own.save(update_fields=["quantity"])
    row.delete()


def _cancel(ctx: Ctx, line: OrderLine, one: Command, touched: Touched) -> str:
    cancel_line(ctx, line.pk, one.typed.get("reason", ""))
    line.set_aside.all().delete()
    return f"Cancel {name_of(line)}."


def _give(ctx: Ctx, line: OrderLine, one: Command, touched: Touched) -> str:
    typed = one.typed.get("quantity", "")
    if one.batch is not None:
        told = give_batch(ctx, line, one.batch, typed, touched)
    elif one.lot is not None:
        told = set_aside(ctx, line, one.lot, typed)
    else:
        raise refuse("batch", "missing", "Of which batch or lot?")
    ctx.record("orders.give", f"Gave {told} to {name_of(line)}.", line)
    _saved(line)
    return f"Give {told} to {name_of(line)}."


def _take_off(ctx: Ctx, line: OrderLine, one: Command, touched: Touched) -> str:
    named = take_off(ctx, line, touched, batch=one.batch, lot=one.lot)
    ctx.record("orders.take_off", f"{named[0].upper()}{named[1:]} no longer serves {name_of(line)}.", line)
    _saved(line)
    return f"Take {named} off {name_of(line)}."


def _raise(ctx: Ctx, line: OrderLine, one: Command, touched: Touched) -> str:
    _saved(line)
    return f"Cover what {name_of(line)} is missing."


def _saved(line: OrderLine) -> None:
    line.version += 1
    line.save(update_fields=["version"])


TO_A_LINE: dict[str, Callable[[Ctx, OrderLine, Command, Touched], str]] = {
    "change": _change,
    "split": _split,
    "join": _join,
    "cancel": _cancel,
    "give": _give,
    "take_off": _take_off,
    "raise": _raise,
}
