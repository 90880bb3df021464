"""Taking in and planning many order lines, in steps that are whole each: others act between them."""

from collections.abc import Sequence
from typing import Any

from aldrip.accounts.context import Ctx, act
from aldrip.base.words import plural
from aldrip.batches.starting import plan_lines
from aldrip.jobs.services import Progress, job
from aldrip.orders import services as orders
from aldrip.orders.models import OrderLine

STEP = 40  # lines planned in one act: a few seconds at most, so that nobody waits long
INLINE = 150  # lines that are planned in the request itself


@job("orders.take_in")
def take_in(ctx: Ctx, progress: Progress, arguments: dict[str, Any]) -> str:
    """Save order rows, in one act, and plan their lines where that is asked."""
    rows, plan = arguments["rows"], bool(arguments.get("plan"))
    taken = progress.kept
    if taken is None:
        progress(0, len(rows), f"Reads {plural(len(rows), 'row')} and saves them.")
        taken = _saved(ctx, progress, rows, arguments)
    told = f"Took in {plural(len(taken['lines']), 'order line')}."
    if taken["waiting"]:
        told += f" {plural(taken['waiting'], 'row')} wait to be understood."
    return f"{told} {_plan(ctx, progress, taken['lines'], told)}" if plan else told


@act
def _saved(ctx: Ctx, progress: Progress, rows: list[dict[str, str]], arguments: dict[str, Any]) -> dict[str, Any]:
    if arguments.get("keep"):
        lines, waiting = orders.take_in_what_holds(ctx, rows, arguments.get("waited", ()))
    else:
        lines, waiting = orders.take_in(ctx, rows), 0
    taken = {"lines": lines, "waiting": waiting}
    progress.keep(taken)
    return taken


@job("batches.plan")
def plan(ctx: Ctx, progress: Progress, arguments: dict[str, Any]) -> str:
    """Plan for every open order line that nothing is meant for."""
    return _plan(ctx, progress, arguments.get("lines"))


def unplanned(ctx: Ctx, lines: Sequence[int] | None = None) -> list[int]:
    """Open order lines that nothing is meant for yet, the nearest first."""
    rows = ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN, allocations=None, set_aside=None)
    if lines is not None:
        rows = rows.filter(pk__in=lines)
    return list(rows.order_by("due", "id").values_list("pk", flat=True))


def _plan(ctx: Ctx, progress: Progress, lines: Sequence[int] | None, before: str = "") -> str:
    wanted = unplanned(ctx, lines)
    total = len(wanted) if lines is None else len(lines)  # what an earlier run of the job did counts as done
    done, late, refused = total - len(wanted), 0, 0
    for first in range(0, len(wanted), STEP):
        progress(done, total, f"{before} Planned {done:,} of {plural(total, 'line')}.".strip())
        ctx.organisation.refresh_from_db()
        step = wanted[first : first + STEP]
        found = plan_lines(ctx, step)
        late, refused = late + found["late"], refused + len(found["unplanned"])
        done += len(step)
    progress(done, total, f"{before} Planned {done:,} of {plural(total, 'line')}.".strip())
    told = f"Planned {plural(done - refused, 'line')}"
    told += f", {late:,} with something against {'it' if late == 1 else 'them'}" if late else ""
    return f"{told}; {plural(refused, 'line')} cannot be planned, and each says why." if refused else f"{told}."
