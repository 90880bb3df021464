"""Sow again while it helps: how much, from which lot, and until which day."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import date, timedelta

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import Conflict, refuse
from aldrip.batches.forecasting import Group, groups
from aldrip.batches.ground import SOWABLE, Ground, lot_spec
from aldrip.batches.models import Batch
from aldrip.batches.saved import InHand, Saved, load_batch, request_of, snapshot_of
from aldrip.batches.saving import Draft, write_plans
from aldrip_core.batch_plan import Plan, Request, limbs_of, plan_batch, rates_of, timed_stages
from aldrip_core.forecast import Resow, resow
from aldrip_core.quantities import courses
from aldrip_core.refusal import Refused
from aldrip_core.schedule import last_useful_start
from aldrip_core.stage_dates import Anchor
from aldrip_core.units import exact


@dataclass(frozen=True)
class Offer:
    """A re-sowing that would bring the chance back."""

    batch_id: int
    trays: int
    cells: int
    grams: float | None
    lot_code: str
    sow_on: date
    last_day: date
    chance_before: float
    chance_after: float
    short: int
    plan: Plan
    amount: Resow


def group_of(ctx: Ctx, saved: Saved) -> Group | None:
    """The group of a batch for its main form."""
    pk, form = saved.batch.pk, saved.method.form
    return next((g for g in groups(ctx, batches=[pk], known=InHand([saved])) if pk in g.ids and g.form == form), None)


def offer_for(ctx: Ctx, saved: Saved, *, ground: Ground | None = None, group: Group | None = None) -> Offer | None:
    """The re-sowing that a batch's promises ask for, or None when none is needed or helps."""
    group = group or group_of(ctx, saved)
    batch = saved.batch
    if group is None or not group.lines or batch.state != Batch.State.SOWN:
        return None
    wanted, deadline = ctx.organisation.chance_wanted, group.deadline
    if group.result.chance >= wanted or deadline is None:
        return None
    ground = ground or Ground(ctx)
    request = _fresh_request(ground, saved, group)
    if request.container is None:
        return None
    last_working = ground.working.on_or_before(deadline - timedelta(days=1))
    timed = timed_stages(request, ground)
    last = last_useful_start(
        deadline=last_working,
        stages=[timed[s.key] for s in request.method.spine],
        calendar=ground.working,
        not_before=ground.today,
    )
    if last is None:
        return None
    fresh = courses(rates_of(request, ground), limbs_of(request.method))[0].spread
    found = resow(
        needed=group.needed, stocks=group.timely, fresh=fresh, cells_per_tray=request.container.cells, chance=wanted
    )
    if found is None:
        return None
    sow_on = min(ground.sowing.on_or_after(ground.today), last)
    plan = plan_batch(replace(request, start=found.cells, anchor=Anchor(sow=sow_on)), ground, working=False)
    lot = plan.request.lot
    return Offer(
        batch.pk,
        found.trays,
        found.cells,
        plan.quantities.seed_g,
        lot.code if lot else "",
        plan.sow_on,
        last,
        group.result.chance,
        found.chance,
        group.result.short,
        plan,
        found,
    )


def _fresh_request(ground: Ground, saved: Saved, group: Group) -> Request:
    """The batch's method once more, from today's lot and with the usual places."""
    batch = saved.batch
    request = request_of(saved, {})
    lot = (
        lot_spec(batch.lot)
        if batch.lot and batch.lot.status in SOWABLE and not batch.lot.on_hold and batch.lot.balance > 0
        else None
    )
    if request.method.by_seed and lot is None:
        lot = ground.lot_for(batch.crop.slug, batch.line.slug if batch.line else None)
    return replace(
        request,
        needs={request.method.form: max(1, group.result.short)},
        lots=((lot, 1.0),) if lot else (),
        dates={},
        places={},
        kept_rates={},
        rates={},
        start=None,
        anchor=Anchor(),
        happened={},
        seen={},
        lost=0,
    )


def refresh_decision(ctx: Ctx, batch_ids: Iterable[int]) -> None:
    """Keep on each batch until when it asks for a decision, and in which words."""
    for pk in batch_ids:
        saved = load_batch(ctx, pk)
        batch = saved.batch
        try:
            offer = offer_for(ctx, saved)
        except Refused:
            offer = None
        if offer is None:
            batch.decide_by, batch.decide_text = None, ""
        else:
            batch.decide_by = offer.last_day
            batch.decide_text = f"sow {offer.trays} trays again, short by {offer.short:,}"
        batch.save(update_fields=["decide_by", "decide_text"])


@act
def take_offer(ctx: Ctx, batch_id: Ref, *, version: int) -> int:
    """Sow again as offered: a new batch that tops this one up, with its tasks. Returns its id."""
    saved = load_batch(ctx, batch_id, lock=True)
    batch = saved.batch
    if batch.version != version:
        raise Conflict(
            "This batch was changed meanwhile; the offer was made anew. Look at it again.", version=batch.version
        )
    ground = Ground(ctx)
    group = group_of(ctx, saved)
    offer = offer_for(ctx, saved, ground=ground, group=group)
    if offer is None or group is None:
        raise refuse("batch", "no_offer", "Sowing again no longer helps, or is no longer needed.")
    line = min(group.lines, key=lambda one: (one.due.upper, one.pk))
    draft = Draft(
        offer.plan,
        batch.method,
        batch.crop_id,
        batch.line_id,
        {line.pk: exact(max(1, offer.short))},
        snapshot_of(batch),
        batch.container_id,
        batch.mix_id,  # by the method as it was
    )
    pk = write_plans(ctx, [draft], ground, tops_up=batch.pk, note=f"tops up {batch.code}")[0].batch.pk
    new = Batch.objects.get(pk=pk)
    batch.decide_by, batch.decide_text, batch.version = None, "", batch.version + 1
    batch.save(update_fields=["decide_by", "decide_text", "version"])
    ctx.record(
        "batch.resow",
        f"Sow {offer.trays} trays again as {new.code}, to top up {batch.code}.",
        new,
        after={"version": new.version, "tops_up": str(batch.uuid)},
    )
    return pk
