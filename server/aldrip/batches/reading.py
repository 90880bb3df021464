"""What the ladder view shows of a batch. A fixed number of queries."""

from dataclasses import replace
from datetime import date, timedelta
from typing import Any

from aldrip.accounts.api import audit_row
from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.models import AuditEvent
from aldrip.base.schemas import steps
from aldrip.base.words import who
from aldrip.batches.figures import workings
from aldrip.batches.forecasting import Group, losses, standing
from aldrip.batches.ground import Ground
from aldrip.batches.heads import head_of
from aldrip.batches.in_time import last_day_of, ready_in_time
from aldrip.batches.models import Batch, BatchInput, BatchStage, Yield
from aldrip.batches.overdue import overdue_days, ready_on
from aldrip.batches.resowing import Offer, group_of, offer_for
from aldrip.batches.saved import Saved, dates_of, load_batch, rate_of, request_of
from aldrip.diary.models import Count, Task, reckoned
from aldrip.orders.promised import shown
from aldrip_core.batch_plan import Plan, plan_batch, space_of, tgw_of
from aldrip_core.forecast import forecast, futures
from aldrip_core.problems import Problem, words
from aldrip_core.refusal import Refused
from aldrip_core.stages import Trait
from aldrip_core.standing_stock import bands
from aldrip_core.units import from_base, unit


def ladder_of(ctx: Ctx, batch_id: Ref) -> dict[str, Any]:
    """Everything the ladder view needs."""
    saved = load_batch(ctx, batch_id)
    batch = saved.batch
    ground = Ground(ctx, without=[batch.pk])
    request = replace(request_of(saved, ground.stood), start=batch.start)
    # The rungs say what was planned, with what was counted beside it; what stands where is for what came up.
    plan = plan_batch(replace(request, seen={}, lost=0), ground, working=True)
    stands = plan_batch(request, ground, working=False, put=batch.state != Batch.State.ABANDONED)
    group = group_of(ctx, saved)
    try:
        offer = offer_for(ctx, saved, ground=ground, group=group)
    except Refused:
        offer = None
    lost = losses(ctx, [batch]).get(batch.pk, 0)
    since = losses(ctx, [batch], since_count=True).get(batch.pk, 0)
    given = list(Yield.objects.filter(stage__batch=batch).select_related("lot", "stage").order_by("id"))
    following = saved.next
    last_day = last_day_of(saved, ground.working)
    ready = ready_in_time(saved, {stage.spec.key: stage.dates for stage in plan.stages}, last_day, ctx.today)
    return {
        **head_of(saved),
        "orders": _orders(batch),
        "rungs": _rungs(saved, plan, since, given),
        "stages": _timeline(saved),
        "forecast": _forecast(group),
        "offer": offer_out(offer),
        "space": _space(stands, ground),
        "problems": [words(problem) for problem in (*overdue_problems(saved, ctx.today), *plan.problems)],
        "workings": {**workings(plan, group, offer), **({"in_time": steps(ready.working)} if ready else {})},
        "counts": _counts(ctx, batch),
        "tasks": _tasks(ctx, batch),
        "history": [audit_row(ctx, e) for e in _history(ctx, batch)],
        "lost": lost,
        "yield_lot": given[0].lot.code if given else None,
        "yield_quantity": _given(given[0]) if given else None,
        "in_time": {
            "ready_on": ready_on(saved, ctx.today),
            "give_days": ready.give_days,
            "last_day": last_day,
            "chance": ready.chance,
            "days_wanted": ready.days_wanted,
        }
        if ready
        else None,
        "yields": [
            {
                "lot_id": y.lot_id,
                "lot": y.lot.code,
                "form": y.lot.form,
                "stage": y.stage.name,
                "quantity": _given(y),
                "unit": y.lot.unit,
            }
            for y in given
        ],
        "inputs": _inputs(saved),
        "next_stage": following.key if following else None,
    }


def overdue_problems(saved: Saved, today: date) -> list[Problem]:
    """What has not been done in its time, and what that makes of the day on which the batch is ready."""
    days, following = overdue_days(saved, today), saved.next
    if not days or following is None:
        return []
    data = {"stage": following.name, "due": following.planned.lower.isoformat(), "days": days}
    return [Problem("overdue", {**data, "ready_on": ready_on(saved, today).isoformat()})]


def _given(one: Yield) -> float:
    return float(from_base(one.quantity, unit(one.lot.unit)))


def _inputs(saved: Saved) -> list[dict[str, Any]]:
    """What it is started from: planned, or taken on a day."""
    rows = BatchInput.objects.filter(stage__batch=saved.batch).select_related("lot", "upstream__batch").order_by("id")
    return [
        {
            "lot_id": one.lot_id,
            "lot": one.lot.code if one.lot else "",
            "batch": one.upstream.batch.code if one.upstream else "",
            "part": one.part,
            "taken_on": one.taken_on,
            "unit": one.lot.unit if one.lot else one.upstream.unit if one.upstream else "",
            "quantity": float(from_base(one.quantity, unit(one.lot.unit))) if one.lot else float(one.quantity),
        }
        for one in rows
    ]


def _orders(batch: Batch) -> list[dict[str, Any]]:
    rows = batch.allocations.select_related("order_line__order").order_by("order_line__due", "id")
    return [
        {
            "line_id": a.order_line_id,
            "number": a.order_line.order.number,
            "customer": a.order_line.order.customer,
            "quantity": shown(a.order_line.quantity, a.order_line.unit),
            "allocated": shown(a.quantity, a.order_line.unit),
            "unit": a.order_line.unit,
            "form": a.order_line.form,
            "due_from": a.order_line.due.lower,
            "due_last": a.order_line.due.upper - timedelta(days=1),
            "chance": a.order_line.chance,
            "state": a.order_line.state,
            "problem": a.order_line.problem,
            "delivered": shown(a.order_line.delivered, a.order_line.unit),
        }
        for a in rows
    ]


def _timeline(saved: Saved) -> list[dict[str, Any]]:
    dates = dates_of(saved)
    yields = {stage.key for stage in saved.method.with_trait(Trait.YIELDS)}
    grades = {stage.key for stage in saved.method.with_trait(Trait.GRADES)}
    return [
        {
            "key": key,
            "order": stage.order,
            "name": stage.name,
            "kind": stage.kind,
            "start": dates[key].start,
            "end": dates[key].end,
            "place": stage.place.name if stage.place else "",
            "place_id": stage.place_id,
            "unit": stage.unit,
            "happened": stage.actual_end is not None,
            "running": stage.actual_start is not None and stage.actual_end is None,
            "starts": key == saved.method.root.key,
            "yields": key in yields,
            "grades": key in grades,
        }
        for key, stage in saved.stages.items()
    ]


def _bands(saved: Saved, lost: int, given: list[Yield]) -> dict[str, dict[str, float]]:
    """What is forecast out of each stage from the last count on: middle and band. What went to stock is known.

    `lost`: since the last count.
    """
    if saved.batch.state == Batch.State.PLANNED:
        return {}
    found = {}
    for key, stock in bands(standing(saved, lost, None)).items():
        result = forecast(needed=0, stocks=(stock,))
        found[key] = {"middle": result.expected, "low": float(result.low), "high": float(result.high)}
    kept: float | None = None
    for stage in saved.method.spine:
        own = [_given(y) for y in given if y.stage.key == stage.key]
        kept = sum(own) if own else None if kept is None else kept * rate_of(saved.stages[stage.key]).kept * stage.share
        if kept is not None:
            found[stage.key] = {"middle": kept, "low": kept, "high": kept}
    return found


def _rungs(saved: Saved, plan: Plan, lost: int, given: list[Yield]) -> list[dict[str, Any]]:
    """Rungs from what is delivered down to what is started."""
    batch, method = saved.batch, saved.method
    seen = _bands(saved, lost, given)
    editable = batch.state == Batch.State.PLANNED
    last = plan.stage(method.last.key)
    # A last stage that loses nothing is no rung of its own: what passes the grading is what is delivered.
    alone = len(method.children(last.spec.after or "")) == 1 and last.spec.share == 1
    folded = alone and last.rate.spread.mean >= 1 and last.spec.factor.mean == 1
    top = (last.spec.after if folded else last.spec.key) or last.spec.key
    rungs = []
    for stage in reversed(plan.stages):
        key, row = stage.spec.key, saved.stages[stage.spec.key]
        if stage.spec.after is None or (folded and key == last.spec.key):
            continue
        shown_as = last if key == top else stage
        rungs.append(
            {
                "key": f"stage:{key}",
                "kind": "stage",
                "stage": key,
                "name": shown_as.spec.name,
                "unit": stage.spec.unit.words,
                "date": shown_as.dates.end,
                "place": _place_name(saved.stages[shown_as.spec.key]),
                "until": shown_as.spec.duration.until,
                "place_id": row.place_id,
                "value": stage.out,
                "needed": stage.needed,
                "band": seen.get(key),
                "counted_share": row.counted_share,
                "counted": None if row.counted_share is None else row.counted_share * stage.into,
                "rate": None if stage.rate.spread.mean >= 1 else _rate(stage),
                "editable": editable,
            }
        )
    first = plan.stage(method.root.key)
    rungs.append(
        {
            "key": "start",
            "kind": "start",
            "stage": method.root.key,
            "name": first.spec.name,
            "unit": method.start_unit.words,
            "date": first.dates.start,
            "place": _place_name(saved.first),
            "place_id": saved.first.place_id,
            "value": batch.start,
            "needed": plan.quantities.plain_start,
            "band": None,
            "counted_share": None,
            "counted": None,
            "rate": None,
            "editable": editable,
        }
    )
    return [*rungs, *_unit_rungs(saved, plan, editable)]


def _unit_rungs(saved: Saved, plan: Plan, editable: bool) -> list[dict[str, Any]]:
    """The start in trays, seeds and grams; of a batch that is sown, as it was sown."""
    batch, per_cell = saved.batch, plan.request.method.seeds_per_cell
    cells = f"÷ {plan.request.container.cells} cells a tray" if plan.request.container else ""
    tgw, _ = tgw_of(plan.request)
    rungs = []
    for key, name, value, of, told in (
        ("trays", "Trays", plan.quantities.trays, "trays", cells),
        ("seeds", "Seeds", plan.quantities.seeds, "seeds", f"× {per_cell} seed{'s' if per_cell > 1 else ''} a cell"),
        ("seed_g", "Weight", plan.quantities.seed_g, "g", f"× {f'{tgw:g}' if tgw else '?'} g a thousand"),
    ):
        if value is not None:
            rungs.append(
                {
                    "key": key,
                    "kind": "unit",
                    "stage": saved.method.root.key,
                    "name": name,
                    "unit": of,
                    "date": None,
                    "place": told,
                    "place_id": None,
                    "value": batch.seed_g if key == "seed_g" and batch.seed_g else value,
                    "needed": None,
                    "band": None,
                    "counted_share": None,
                    "counted": None,
                    "rate": None,
                    "editable": editable,
                }
            )
    return rungs


def _place_name(stage: BatchStage) -> str:
    return stage.place.name if stage.place else ""


def _rate(stage: Any) -> dict[str, Any]:
    rate = stage.rate
    return {
        "mean": rate.spread.mean,
        "sd": rate.spread.sd,
        "origin": rate.origin.value,
        "source": rate.source,
        "words": stage.spec.name.lower(),
    }


def _forecast(group: Group | None) -> dict[str, Any] | None:
    if group is None:
        return None
    result = group.result
    drawn = futures(group.counts)
    return {
        "expected": result.expected,
        "low": result.low,
        "high": result.high,
        "needed": result.needed,
        "chance": result.chance,
        "short": result.short,
        "batches": len(group.batches),
        "futures": {"first": drawn.first, "width": drawn.width, "chances": drawn.chances} if drawn else None,
    }


def offer_out(offer: Offer | None) -> dict[str, Any] | None:
    """A re-sowing as the screens show it."""
    if offer is None:
        return None
    largest = max(
        (stage for stage in offer.plan.stages),
        key=lambda stage: stage.amount if stage.spec.density == "tray_m2" else 0.0,
    )
    return {
        "trays": offer.trays,
        "cells": offer.cells,
        "grams": offer.grams,
        "lot": offer.lot_code,
        "sow_on": offer.sow_on,
        "last_day": offer.last_day,
        "chance_before": offer.chance_before,
        "chance_after": offer.chance_after,
        "short": offer.short,
        "space": largest.amount,
        "ready_on": offer.plan.ready_on,
        "problems": [words(problem) for problem in offer.plan.problems],
    }


def _space(plan: Plan, ground: Ground) -> list[dict[str, Any]]:
    return [
        {
            "place_id": lane.place.key,
            "place": lane.place.name,
            "unit": lane.place.unit.words,
            # Sums of many amounts: what the order of adding leaves in the last digits says nothing.
            "peak": round(peak, 9),
            # The worst run says it; the board draws them all.
            "over": [
                {"start": r.start, "end": r.end, "amount": round(r.amount, 6)}
                for r in sorted(runs, key=lambda r: -r.amount)[:1]
            ],
        }
        for lane, peak, runs in space_of(plan, ground)
    ]


def _counts(ctx: Ctx, batch: Batch) -> list[dict[str, Any]]:
    rows = ctx.rows(Count).filter(subject=batch.uuid).select_related("by").order_by("-id")
    return [
        {
            "id": c.pk,
            "kind": c.kind,
            "sampled": c.sampled,
            "found": c.found,
            "cause": c.cause,
            "happened_at": ctx.local(c.happened_at),
            "by": who(c.by),
            "parts": len(c.parts),
        }
        for c in rows
    ]


def _tasks(ctx: Ctx, batch: Batch) -> list[dict[str, Any]]:
    rows = reckoned(ctx.rows(Task)).filter(subject=batch.uuid).select_related("place").order_by("begins", "id")
    return [
        {
            "id": t.pk,
            "kind": t.kind,
            "title": t.title,
            "due": t.due_now,
            "state": t.state,
            "quantity": t.quantity,
            "unit": t.unit,
            "place": t.place.name if t.place else "",
            "part_of_day": t.part_of_day,
        }
        for t in rows
    ]


def _history(ctx: Ctx, batch: Batch) -> list[AuditEvent]:
    rows = ctx.rows(AuditEvent).filter(subject=batch.uuid).select_related("actor", "undone_by__actor").order_by("-id")
    return list(rows[:20])
