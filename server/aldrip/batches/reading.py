"""What the ladder view shows of a batch. A fixed number of queries."""

from dataclasses import replace
from datetime import date, timedelta
from typing import Any

from aldrip.accounts.api import audit_row
from aldrip.accounts.context import Ctx
from aldrip.accounts.models import AuditEvent
from aldrip.base.schemas import steps
from aldrip.batches.editing import running_stage
from aldrip.batches.forecasting import Group, groups, losses, stage_spread
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchStage, Yield
from aldrip.batches.planner import Plan, plan_batch, space_of
from aldrip.batches.resowing import Offer, offer_for
from aldrip.batches.saved import dates_of, load_batch, request_of
from aldrip.diary.models import Count, Task
from aldrip_core.distributions import Spread, product
from aldrip_core.forecast import Stock, forecast, stock_after_count
from aldrip_core.refusal import Refused
from aldrip_core.working import Given, Origin, Step, computed


def ladder_of(ctx: Ctx, batch_id: int) -> dict[str, Any]:
    """Everything the ladder view needs."""
    batch, stages = load_batch(ctx, batch_id)
    ground = Ground(ctx, without=[batch.pk])
    request = replace(request_of(batch, stages), start=batch.start)
    plan = plan_batch(request, ground, working=True, put=batch.state != Batch.State.ABANDONED)
    group = next((g for g in groups(ctx, batches=[batch.pk]) if batch.pk in g.batches), None)
    try:
        offer = offer_for(ctx, batch.pk, ground=ground, group=group)
    except Refused:
        offer = None
    lost = losses(ctx, [batch.pk]).get(batch.pk, 0)
    graded = Yield.objects.filter(stage__batch=batch).select_related("lot").first()
    return {
        **head_of(batch, stages),
        "orders": _orders(batch), "rungs": _rungs(batch, stages, plan, lost), "stages": _timeline(stages, batch),
        "forecast": _forecast(group), "offer": offer_out(offer), "space": _space(plan, ground), "problems": list(plan.problems),
        "workings": _workings(batch, stages, plan, group, offer), "counts": _counts(ctx, batch), "tasks": _tasks(ctx, batch),
        "history": [audit_row(ctx, e) for e in _history(ctx, batch)], "lost": lost,
        "yield_lot": graded.lot.code if graded else None, "yield_quantity": float(graded.quantity) if graded else None,
        "next_stage": running_stage(stages) if running_stage(stages) < len(stages) else None,
    }  # fmt: skip


def head_of(batch: Batch, stages: list[BatchStage]) -> dict[str, Any]:
    """The head of a batch, as lists show it too."""
    dates = dates_of(stages)
    now = next((s for s in reversed(stages) if s.actual_start is not None), stages[0])
    return {
        "id": batch.pk, "code": batch.code, "version": batch.version, "state": batch.state, "crop": batch.crop.name,
        "crop_id": batch.crop_id, "cultivar": batch.line.name if batch.line else "", "method": batch.method_snapshot["name"],
        "form": batch.method_snapshot["form"], "unit": batch.method_snapshot["unit"],
        "start_unit": batch.method_snapshot["start_unit"], "by_seed": batch.method_snapshot["by_seed"],
        "needed": batch.needed, "start": batch.start, "trays": batch.trays, "seeds": batch.seeds, "seed_g": batch.seed_g,
        "container": batch.container.name if batch.container else "", "container_id": batch.container_id,
        "lot_id": batch.lot_id, "lot": batch.lot.code if batch.lot else "", "lot_left": float(batch.lot.balance) if batch.lot else None,
        "expected": batch.expected, "low": batch.low, "high": batch.high, "chance_wanted": batch.chance_wanted,
        "planned_chance": batch.planned_chance, "counted": batch.counted, "tops_up_id": batch.tops_up_id,
        "decide_by": batch.decide_by, "decide_text": batch.decide_text, "sow_on": dates[0].start, "ready_on": dates[-1].end,
        "stage_now": now.name, "place_now": now.place.name if now.place else "", "note": batch.note,
        "start_typed": batch.start_typed, "way": batch.method_snapshot.get("way", "plants"),
    }  # fmt: skip


def _orders(batch: Batch) -> list[dict[str, Any]]:
    rows = batch.allocations.select_related("order_line__order").order_by("order_line__due", "id")
    return [
        {
            "line_id": a.order_line_id, "number": a.order_line.order.number, "customer": a.order_line.order.customer,
            "quantity": a.order_line.quantity, "allocated": a.quantity, "unit": a.order_line.unit,
            "due_from": a.order_line.due.lower, "due_last": a.order_line.due.upper - timedelta(days=1),
            "chance": a.order_line.chance, "state": a.order_line.state, "problem": a.order_line.problem,
            "delivered": a.order_line.delivered,
        }
        for a in rows
    ]  # fmt: skip


def _timeline(stages: list[BatchStage], batch: Batch) -> list[dict[str, Any]]:
    running = running_stage(stages)
    return [
        {
            "order": stage.order, "name": stage.name, "kind": stage.kind, "start": dates.start, "end": dates.end,
            "place": stage.place.name if stage.place else "", "place_id": stage.place_id, "unit": stage.unit,
            "happened": stage.actual_end is not None, "running": stage.order == running - 1 and stage.actual_end is None,
        }
        for stage, dates in zip(stages, dates_of(stages), strict=True)
    ]  # fmt: skip


def _bands(batch: Batch, stages: list[BatchStage], lost: int) -> dict[int, dict[str, float]]:
    """What is forecast out of each stage from the last count on: middle and band."""
    if batch.state == Batch.State.PLANNED:
        return {}
    counted = max((i for i, s in enumerate(stages) if s.counted_share is not None), default=-1)
    into, found = float(batch.start), Spread(1.0)
    for stage in stages[: counted + 1]:
        if stage.order == counted:
            found = Spread.from_mean_sd(stage.counted_share or 0.0, stage.counted_sd or 0.0)
        else:
            into *= (
                stage.counted_share if stage.counted_share is not None else stage_spread(stage).mean
            ) * stage.multiply
    bands, multiply = {}, 1.0
    for index in range(max(0, counted), len(stages)):
        ahead = [stage_spread(s) for s in stages[counted + 1 : index + 1]]
        stock = stock_after_count(start=round(into), counted=found, ahead=product(ahead) if ahead else Spread(1.0))
        stock = Stock(max(0, stock.units - lost), stock.remaining)
        result = forecast(needed=0, stocks=(stock,))
        multiply *= stages[index].multiply
        bands[index] = {
            "middle": result.expected * multiply,
            "low": result.low * multiply,
            "high": result.high * multiply,
        }
    return bands


def _rungs(batch: Batch, stages: list[BatchStage], plan: Plan, lost: int) -> list[dict[str, Any]]:
    """Rungs from what is delivered down to what is sown."""
    bands = _bands(batch, stages, lost)
    planned = plan.stages
    rungs = []
    last = len(stages) - 1
    # Delivery that loses nothing is no rung of its own: what passes the grading is what is delivered.
    folded = last if planned[last].rate.spread.mean >= 1 and planned[last].definition.multiply == 1 else None
    for stage, row in reversed(list(zip(planned, stages, strict=True))):
        index = row.order
        if row.kind == "sow" or index == folded:
            continue
        top = index == last or (folded is not None and index == last - 1)
        rungs.append({
            "key": f"stage:{index}", "kind": "stage", "stage": index,
            "name": planned[last].definition.name if top else stage.definition.name, "unit": stage.definition.unit,
            "date": planned[last].dates.end if top else stage.dates.end,
            "place": _place_name(stages[last] if top else row),
            "place_id": row.place_id, "value": stage.out, "needed": stage.needed, "band": bands.get(index),
            "counted_share": row.counted_share,
            "counted": None if row.counted_share is None else row.counted_share * stage.into,
            "rate": None if stage.rate.spread.mean >= 1 else _rate(stage), "editable": batch.state == Batch.State.PLANNED,
        })  # fmt: skip
    first = planned[0]
    rungs.append({
        "key": "start", "kind": "start", "stage": 0, "name": first.definition.name, "unit": plan.request.definition.start_unit,
        "date": first.dates.start, "place": _place_name(stages[0]), "place_id": stages[0].place_id,
        "value": batch.start, "needed": plan.quantities.plain_start, "band": None, "counted_share": None, "counted": None,
        "rate": None, "editable": batch.state == Batch.State.PLANNED,
    })  # fmt: skip
    per_cell = plan.request.definition.seeds_per_cell
    for key, name, value, unit, words in (
        (
            "trays",
            "Trays",
            plan.quantities.trays,
            "trays",
            f"÷ {batch.container.cells} cells a tray" if batch.container else "",
        ),
        ("seeds", "Seeds", plan.quantities.seeds, "seeds", f"× {per_cell} seed{'s' if per_cell > 1 else ''} a cell"),
        ("seed_g", "Weight", plan.quantities.seed_g, "g", f"× {tgw_words(batch)} g a thousand"),
    ):
        if value is not None:
            rungs.append({
                "key": key, "kind": "unit", "stage": 0, "name": name, "unit": unit, "date": None, "place": words, "place_id": None,
                "value": batch.seed_g if key == "seed_g" and batch.seed_g else value, "needed": None, "band": None,
                "counted_share": None, "counted": None, "rate": None,
                "editable": batch.state == Batch.State.PLANNED,
            })  # fmt: skip
    return rungs


def _place_name(stage: BatchStage) -> str:
    return stage.place.name if stage.place else ""


def tgw_words(batch: Batch) -> str:
    value = (batch.lot.tgw_g if batch.lot else None) or batch.crop.tgw_g
    return f"{value:g}" if value else "?"


def _rate(stage: Any) -> dict[str, Any]:
    rate = stage.rate
    return {"mean": rate.spread.mean, "sd": rate.spread.sd, "origin": rate.origin.value, "source": rate.source,
            "words": stage.definition.name.lower()}  # fmt: skip


def _forecast(group: Group | None) -> dict[str, Any] | None:
    if group is None:
        return None
    result = group.result
    return {"expected": result.expected, "low": result.low, "high": result.high, "needed": result.needed,
            "chance": result.chance, "short": result.short, "batches": len(group.batches)}  # fmt: skip


def offer_out(offer: Offer | None) -> dict[str, Any] | None:
    """A re-sowing as the screens show it."""
    if offer is None:
        return None
    stage = next((s for s in offer.plan.stages if s.definition.kind == "grow"), offer.plan.stages[-1])
    return {
        "trays": offer.trays, "cells": offer.cells, "grams": offer.grams, "lot": offer.lot_code, "sow_on": offer.sow_on,
        "last_day": offer.last_day, "chance_before": offer.chance_before, "chance_after": offer.chance_after,
        "short": offer.short, "space": stage.amount, "ready_on": offer.plan.ready_on, "problems": list(offer.plan.problems),
    }  # fmt: skip


def _space(plan: Plan, ground: Ground) -> list[dict[str, Any]]:
    found = []
    for place, peak, runs in space_of(plan, ground):
        lane = ground.lanes[place]
        found.append({
            "place_id": place, "place": lane.place.name, "unit": lane.place.unit, "peak": peak,
            # The worst run says it; the board draws them all.
            "over": [{"start": r.start, "end": r.end, "amount": r.amount} for r in sorted(runs, key=lambda r: -r.amount)[:1]],
        })  # fmt: skip
    return found


def _workings(
    batch: Batch, stages: list[BatchStage], plan: Plan, group: Group | None, offer: Offer | None
) -> dict[str, list[dict[str, Any]]]:
    """The working of every figure on the ladder, by the key of its rung."""
    found = {"start": steps(plan.quantities.working)}
    for key, label in (("trays", "Trays"), ("seeds", "Seeds"), ("seed_g", "Seed by weight")):
        found[key] = [s for s in found["start"] if s["label"] in ("Start", label)]
    for stage in plan.stages:
        rate = stage.rate
        given = (computed("into", stage.into, stage.definition.unit),
                 Given("kept", rate.spread.mean, "share", rate.origin, rate.source),
                 Given("spread", rate.spread.sd, "share", rate.origin, rate.source))  # fmt: skip
        own = [Step(f"Out of “{stage.definition.name}”", "what enters × what is kept", given, stage.out, stage.definition.unit),
               Step("Needed here", "what the next stage needs ÷ what it keeps, rounded up", (), stage.needed, stage.definition.unit),
               _dates_step(stage.definition, stage.dates.start, stage.dates.end)]  # fmt: skip
        found[f"stage:{stage.definition.order}"] = steps(tuple(own))
    if group is not None:
        found["chance"] = steps(group.result.working)
    if offer is not None:
        found["offer"] = steps(offer.amount.working)
    return found


def _dates_step(definition: Any, start: date, end: date) -> Step:
    duration = definition.duration
    given: tuple[Given, ...]
    if duration.heat_sum_c_d is not None:
        given = (
            Given("heat sum", duration.heat_sum_c_d, "°C·d", Origin.LIBRARY),
            Given("base", duration.base_c, "°C", Origin.LIBRARY),
        )
        words = "days until the heat sum is gathered at its place, then the next working day"
    else:
        given = (Given("duration", duration.days, "d", Origin.LIBRARY),)
        words = "fixed days, then the next working day"
    return Step("Days it stands", words, given, (end - start).days, "d")


def _counts(ctx: Ctx, batch: Batch) -> list[dict[str, Any]]:
    rows = ctx.rows(Count).filter(subject_kind="batch", subject_id=batch.pk).select_related("by").order_by("-id")
    return [
        {"id": c.pk, "kind": c.kind, "sampled": c.sampled, "found": c.found, "cause": c.cause, "happened_at": ctx.local(c.happened_at),
         "by": (c.by.get_full_name() or c.by.username) if c.by else "", "parts": len(c.parts)}
        for c in rows
    ]  # fmt: skip


def _tasks(ctx: Ctx, batch: Batch) -> list[dict[str, Any]]:
    rows = (
        ctx.rows(Task)
        .filter(subject_kind="batch", subject_id=batch.pk)
        .select_related("place")
        .order_by("due_from", "id")
    )
    return [
        {"id": t.pk, "kind": t.kind, "title": t.title, "due": t.due_from, "state": t.state, "quantity": t.quantity, "unit": t.unit,
         "place": t.place.name if t.place else "", "part_of_day": t.part_of_day}
        for t in rows
    ]  # fmt: skip


def _history(ctx: Ctx, batch: Batch) -> list[AuditEvent]:
    rows = (
        ctx.rows(AuditEvent).filter(subject_kind="batch", subject_id=batch.pk).select_related("actor").order_by("-id")
    )
    return list(rows[:20])
