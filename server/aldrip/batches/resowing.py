"""Sow again while it helps: how much, from which lot, and until which day."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import date, timedelta

from django.db import transaction

from aldrip.accounts.context import Ctx
from aldrip.base.errors import Conflict, refuse
from aldrip.batches.forecasting import Group, groups, refresh
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch
from aldrip.batches.planner import Plan, Request, plan_batch, rates_of, timed_stages
from aldrip.batches.saved import load_batch, request_of
from aldrip.batches.saving import write_plans
from aldrip_core.forecast import Resow, resow
from aldrip_core.quantities import overall_rate
from aldrip_core.refusal import Refused
from aldrip_core.schedule import last_useful_start


@dataclass(frozen=True)
class Offer:
    """A re-sowing that would bring the chance back."""

    batch_id: int
    trays: int
    cells: int
    grams: float | None
    lot_id: int | None
    lot_code: str
    sow_on: date
    last_day: date
    chance_before: float
    chance_after: float
    short: int
    plan: Plan
    amount: Resow


def offer_for(ctx: Ctx, batch_id: int, *, ground: Ground | None = None, group: Group | None = None) -> Offer | None:
    """The re-sowing that a batch's promises ask for, or None when none is needed or helps."""
    batch, stages = load_batch(ctx, batch_id)
    if group is None:
        group = next((g for g in groups(ctx, batches=[batch.pk]) if batch.pk in g.batches), None)
    if group is None or not group.lines or batch.container is None or batch.state != Batch.State.SOWN:
        return None
    wanted = ctx.organisation.chance_wanted
    deadline = group.deadline
    if group.result.chance >= wanted or deadline is None:
        return None
    ground = ground or Ground(ctx)
    request = _fresh_request(ground, batch, request_of(batch, stages), group)
    last_working = ground.working.on_or_before(deadline - timedelta(days=1))
    last = last_useful_start(deadline=last_working, stages=timed_stages(request, ground), calendar=ground.working,
                             not_before=ground.today)  # fmt: skip
    if last is None:
        return None
    fresh = overall_rate(rates_of(request, ground))
    found = resow(
        needed=group.needed, stocks=group.timely, fresh=fresh, cells_per_tray=batch.container.cells, chance=wanted
    )
    if found is None:
        return None
    sow_on = ground.sowing.on_or_after(ground.today)
    plan = plan_batch(replace(request, start=found.cells, sow=min(sow_on, last)), ground, working=False)
    lot = plan.request.lot
    return Offer(
        batch.pk, found.trays, found.cells, plan.quantities.seed_g, lot.pk if lot else None, lot.code if lot else "",
        plan.sow_on, last, group.result.chance, found.chance, group.result.short, plan, found,
    )  # fmt: skip


def _fresh_request(ground: Ground, batch: Batch, request: Request, group: Group) -> Request:
    """The batch's method once more, from today's lot and with the usual places."""
    lot = batch.lot
    if request.definition.by_seed and (lot is None or lot.balance <= 0):
        lot = ground.lot_for(batch.crop_id, batch.line_id)
    return replace(request, needed=max(1, group.result.short), lot=lot, dates=(), places={}, kept_rates={}, rates={},
                   start=None, ready=None)  # fmt: skip


def refresh_decision(ctx: Ctx, batch_ids: Iterable[int]) -> None:
    """Keep on each batch until when it asks for a decision, and in which words."""
    for pk in batch_ids:
        batch = ctx.get(Batch, pk)
        try:
            offer = offer_for(ctx, pk)
        except Refused:
            offer = None
        if offer is None:
            batch.decide_by, batch.decide_text = None, ""
        else:
            batch.decide_by = offer.last_day
            batch.decide_text = f"sow {offer.trays} trays again, short by {offer.short:,}"
        batch.save(update_fields=["decide_by", "decide_text"])


@transaction.atomic
def take_offer(ctx: Ctx, batch_id: int, *, version: int) -> int:
    """Sow again as offered: a new batch that tops this one up, with its tasks. Returns its id."""
    batch, _ = load_batch(ctx, batch_id, lock=True)
    if batch.version != version:
        raise Conflict(
            "This batch was changed meanwhile; the offer was made anew. Look at it again.", version=batch.version
        )
    ground = Ground(ctx)
    group = next((g for g in groups(ctx, batches=[batch.pk]) if batch.pk in g.batches), None)
    offer = offer_for(ctx, batch_id, ground=ground, group=group)
    if offer is None or group is None:
        raise refuse("batch", "no_offer", "Sowing again no longer helps, or is no longer needed.")
    ground.snapshots.setdefault(batch.method_id, batch.method_snapshot)  # by the method as it was
    line = min(group.lines, key=lambda one: (one.due.upper, one.pk))
    pk = write_plans(ctx, [offer.plan], ground, [{line.pk: max(1, offer.short)}], tops_up=batch.pk,
                     note=f"tops up {batch.code}")[0]  # fmt: skip
    new = Batch.objects.get(pk=pk)
    batch.decide_by, batch.decide_text, batch.version = None, "", batch.version + 1
    batch.save(update_fields=["decide_by", "decide_text", "version"])
    ctx.record("batch.resow", f"Sow {offer.trays} trays again as {new.code}, to top up {batch.code}.", new,
               after={"version": new.version, "tops_up": batch.pk})  # fmt: skip
    refresh(ctx, batches=[batch.pk, pk])
    return pk
