"""A saved batch read back as a request, and as plain state for audit, undo and conflicts."""

from dataclasses import replace
from datetime import date
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.base.errors import NotThere
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.planner import Request, TypedRate
from aldrip.batches.snapshot import read_snapshot
from aldrip.lots.models import Lot
from aldrip.methods.models import Container
from aldrip_core.distributions import Spread
from aldrip_core.quantities import Rate
from aldrip_core.schedule import StageDates
from aldrip_core.working import Origin


def load_batch(ctx: Ctx, pk: int, *, lock: bool = False) -> tuple[Batch, list[BatchStage]]:
    """A batch of the organisation with its stages. Raises NotThere."""
    rows = ctx.rows(Batch).select_related("crop", "line", "method", "container", "mix", "lot")
    if lock:
        rows = rows.select_for_update(of=("self",))
    batch = rows.filter(pk=pk).first() if 0 < pk < 2**63 else None
    stages = list(batch.stages.select_related("place").order_by("order")) if batch is not None else []
    if batch is None or not stages:
        raise NotThere("There is no such batch here.")
    return batch, stages


def dates_of(stages: list[BatchStage]) -> tuple[StageDates, ...]:
    """A stage ends where the next one starts; only the last knows its own end."""
    starts = [stage.actual_start or stage.planned.lower for stage in stages]
    ends = [*starts[1:], stages[-1].actual_end or stages[-1].planned.upper]
    return tuple(StageDates(start, end) for start, end in zip(starts, ends, strict=True))


def request_of(batch: Batch, stages: list[BatchStage]) -> Request:
    """The request that gives this batch as it stands."""
    kept, typed = {}, {}
    for stage in stages:
        spread = Spread(stage.alpha, stage.beta)
        if stage.origin == Origin.ENTERED:
            typed[stage.order] = TypedRate(spread.mean, spread.sd, stage.source.removeprefix("typed: "))
        else:
            kept[stage.order] = Rate(stage.name, spread, Origin(stage.origin), stage.source, stage.multiply)
    return Request(
        crop=batch.crop, method=batch.method, definition=read_snapshot(batch.method_snapshot), needed=batch.needed,
        chance=batch.chance_wanted, line_id=batch.line_id, container=batch.container, mix=batch.mix, lot=batch.lot,
        dates=dates_of(stages), start=batch.start if batch.start_typed or batch.state != Batch.State.PLANNED else None,
        rates=typed, kept_rates=kept, places={s.order: s.place_id for s in stages if s.place_id},
    )  # fmt: skip


def state_of(batch: Batch, stages: list[BatchStage]) -> dict[str, Any]:
    """What an edit can change, as plain data."""
    return {
        "version": batch.version, "needed": batch.needed, "start": batch.start, "start_typed": batch.start_typed,
        "chance": batch.chance_wanted, "container": batch.container_id, "lot": batch.lot_id,
        "rates": {
            str(s.order): [s.alpha, s.beta, s.origin, s.source] for s in stages
        },
        "places": {str(s.order): s.place_id for s in stages},
        "dates": [[d.start.isoformat(), d.end.isoformat()] for d in dates_of(stages)],
    }  # fmt: skip


def request_from_state(ctx: Ctx, batch: Batch, stages: list[BatchStage], state: dict[str, Any]) -> Request:
    """The request that brings back a state kept in the audit."""
    request = request_of(batch, stages)
    kept, typed = {}, {}
    for stage in stages:
        alpha, beta, origin, source = state["rates"][str(stage.order)]
        spread = Spread(alpha, beta)
        if origin == Origin.ENTERED:
            typed[stage.order] = TypedRate(spread.mean, spread.sd, source.removeprefix("typed: "))
        else:
            kept[stage.order] = Rate(stage.name, spread, Origin(origin), source, stage.multiply)
    return replace(
        request, needed=state["needed"], chance=state["chance"], start=state["start"] if state["start_typed"] else None,
        container=ctx.get(Container, state["container"], shared=True) if state["container"] else None,
        lot=ctx.get(Lot, state["lot"]) if state["lot"] else None, rates=typed, kept_rates=kept,
        places={int(order): place for order, place in state["places"].items() if place},
        dates=tuple(StageDates(date.fromisoformat(a), date.fromisoformat(b)) for a, b in state["dates"]),
    )  # fmt: skip
