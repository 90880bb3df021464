"""What the ladder view shows of a batch. A fixed number of queries."""

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import replace
from datetime import date, timedelta
from typing import Any, NamedTuple
from uuid import UUID

from django.db.models import Exists, OuterRef, Q

from aldrip.accounts.api import audit_row
from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.models import AuditEvent
from aldrip.base.schemas import steps
from aldrip.base.words import who
from aldrip.batches.forecasting import Group, losses, standing
from aldrip.batches.ground import Ground
from aldrip.batches.in_time import last_day_of, ready_in_time
from aldrip.batches.models import Batch, BatchInput, BatchStage, Yield
from aldrip.batches.overdue import overdue_days, ready_on
from aldrip.batches.resowing import Offer, group_of, offer_for
from aldrip.batches.saved import (
    Saved,
    dates_of,
    know,
    light,
    load_batch,
    rate_of,
    request_of,
    saved_of,
    snapshot_of,
)
from aldrip.diary.models import Count, Task, reckoned
from aldrip.lots.moving import shown_of
from aldrip.orders.promised import shown
from aldrip.places.models import Place
from aldrip_core.batch_plan import Plan, plan_batch, space_of, tgw_of
from aldrip_core.forecast import forecast, futures
from aldrip_core.problems import Problem, words
from aldrip_core.refusal import Refused
from aldrip_core.stages import StageSpec, Trait
from aldrip_core.standing_stock import bands
from aldrip_core.units import from_base, unit
from aldrip_core.working import Given, Origin, Step, computed


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
        "workings": {**_workings(plan, group, offer), **({"in_time": steps(ready.working)} if ready else {})},
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


def head_of(saved: Saved, places: Mapping[int, str] | None = None) -> dict[str, Any]:
    """The head of a batch, as lists show it too. `places`: their names by number, where many are shown."""
    batch, method = saved.batch, saved.method
    dates, now = dates_of(saved), saved.now

    def kept(value: Any) -> float | None:
        return None if value is None else float(value) / float(method.unit.value.factor)

    snapshot = snapshot_of(batch)
    container = snapshot["containers"].get(snapshot["container"]) if batch.container_id else None
    return {
        "id": batch.pk,
        "uuid": batch.uuid,
        "code": batch.code,
        "version": batch.version,
        "state": batch.state,
        "crop": batch.crop.name,
        "crop_id": batch.crop_id,
        "cultivar": batch.line.name if batch.line else "",
        "method": method.name,
        "form": method.form,
        "unit": method.unit.words,
        "start_unit": method.start_unit.words,
        "by_seed": method.by_seed,
        "takes": method.root.takes.value if method.root.takes else "",
        "joins": method.root.joins.value if method.root.joins else "",
        "needed": kept(batch.needed),
        "start": batch.start,
        "trays": batch.trays,
        "whole_trays": container is None or batch.start % container["cells"] == 0,
        "seeds": batch.seeds,
        "seed_g": batch.seed_g,
        "container": container["name"] if container else "",
        "container_id": batch.container_id,
        "lot_id": batch.lot_id,
        "lot": batch.lot.code if batch.lot else "",
        "lot_left": shown_of(batch.lot) if batch.lot else None,
        "lot_unit": batch.lot.unit if batch.lot else "",
        "pinned": batch.pinned,
        "expected": kept(batch.expected),
        "low": kept(batch.low),
        "high": kept(batch.high),
        "chance_wanted": batch.chance_wanted,
        "planned_chance": batch.planned_chance,
        "counted": batch.counted,
        "tops_up_id": batch.tops_up_id,
        "decide_by": batch.decide_by,
        "decide_text": batch.decide_text,
        "sow_on": dates[method.root.key].start,
        "ready_on": dates[method.last.key].end,
        "stage_now": now.name,
        "place_now": _place_of(now, places),
        "note": batch.note,
        "start_typed": batch.start_typed,
        "way": method.way,
    }


def _place_of(now: BatchStage, places: Mapping[int, str] | None) -> str:
    if now.place_id is None:
        return ""
    return places.get(now.place_id, "") if places is not None else now.place.name if now.place else ""


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


def _workings(plan: Plan, group: Group | None, offer: Offer | None) -> dict[str, list[dict[str, Any]]]:
    """The working of every figure on the ladder, by the key of its rung."""
    found = {"start": steps(plan.quantities.working)}
    for key, label in (("trays", "Trays"), ("seeds", "Seeds"), ("seed_g", "Seed by weight")):
        found[key] = [s for s in found["start"] if s["label"] in ("Start", label)]
    for stage in plan.stages:
        rate = stage.rate
        of = stage.spec.unit.words
        given = (
            computed("into", stage.into, of),
            Given("kept", rate.spread.mean, "share", rate.origin, rate.source),
            Given("spread", rate.spread.sd, "share", rate.origin, rate.source),
            *_multiplied(stage.spec, rate.multiply),
        )
        own = [
            Step(f"Out of “{stage.spec.name}”", "what enters × what is kept", given, stage.out, of),
            Step("Needed here", "what the next stage needs ÷ what it keeps, rounded up", (), stage.needed, of),
            _dates_step(stage.spec, stage.dates.start, stage.dates.end),
        ]
        found[f"stage:{stage.spec.key}"] = steps(tuple(own))
    if group is not None:
        found["chance"] = steps(group.result.working)
    if offer is not None:
        found["offer"] = steps(offer.amount.working)
    return found


def _multiplied(spec: StageSpec, multiply: float) -> tuple[Given, ...]:
    """How many come of one, and that its block gives more or less than the method reckons with."""
    usual = spec.factor.mean
    if multiply == usual:
        return () if usual == 1 else (Given("come of one", usual, spec.unit.words, Origin.LIBRARY),)
    share = f"{multiply / usual:.0%}".replace("%", " %")
    told = f"its block gives {share} of the method’s {usual:g}"
    return (Given("come of one", multiply, spec.unit.words, Origin.COMPUTED, told),)


def _dates_step(definition: Any, start: date, end: date) -> Step:
    duration = definition.duration
    given: tuple[Given, ...]
    if duration.heat_sum_c_d is not None:
        given = (
            Given("heat sum", duration.heat_sum_c_d, "°C·d", Origin.LIBRARY),
            Given("base", duration.base_c, "°C", Origin.LIBRARY),
        )
        words = "days until the heat sum is gathered at its place, then the next working day"
    elif duration.by_month:
        month = start.month - 1
        given = (Given(f"lasts in {start:%B}", duration.by_month[month], "d", Origin.LIBRARY),)
        words = "each day gives its share of what the stage lasts in that season, then the next working day"
    elif duration.paced:
        given = (Given("duration in warmth and light", duration.days, "d", Origin.LIBRARY),)
        if duration.full_c is not None:
            given += (
                Given("holds at", duration.full_c, "°C", Origin.LIBRARY),
                Given("base", duration.base_c, "°C", Origin.LIBRARY),
            )
        if duration.half_light_mol is not None:
            given += (Given("half its pace in", duration.half_light_mol, "mol/m² a day", Origin.LIBRARY),)
        words = "each day gives its share of the duration, less in the cold and in little light; a model"
    else:
        given = (Given("duration", duration.days, "d", Origin.LIBRARY),)
        words = "fixed days, then the next working day"
    return Step("Days it stands", words, given, (end - start).days, "d")


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


def heads(ctx: Ctx, *, to_sow_before: date, also: str = "") -> list[dict[str, Any]]:
    """The heads of plants that are planned to be sown before a day, and of the batch whose number or uuid is `also`."""
    first = BatchStage.objects.filter(batch=OuterRef("pk"), order=0, planned__startswith__lt=to_sow_before)
    wanted = Q(Exists(first), state=Batch.State.PLANNED, method__way="plants")
    rows = ctx.rows(Batch).filter(wanted | _named(also))
    named = rows.select_related("crop", "line", "lot").defer(*NOT_IN_A_LIST)
    batches = list(light(named).order_by("id"))
    know(batches)
    places = dict(ctx.rows(Place).values_list("pk", "name"))
    stages: dict[int, list[Any]] = defaultdict(list)
    of_these = BatchStage.objects.filter(batch__in=rows).order_by("batch_id", "order")
    for pk, *values in of_these.values_list("batch_id", *_OfACard._fields):
        stages[pk].append(_OfACard(*values))
    return [head_of(saved_of(batch, stages[batch.pk]), places) for batch in batches]


def _named(ref: str) -> Q:
    """The batch of a number or a uuid; none where it is neither."""
    if ref.isdecimal():
        return Q(pk=int(ref)) if len(ref) < MOST_DIGITS else Q(pk=None)
    try:
        return Q(uuid=UUID(ref))
    except ValueError:
        return Q(pk=None)


MOST_DIGITS = 18  # of a row's number


class _OfACard(NamedTuple):
    """What the head of a batch reads of a stage."""

    key: str
    name: str
    planned: Any
    actual_start: date | None
    actual_end: date | None
    place_id: int | None


#: Long values of what a batch names, which no list shows.
NOT_IN_A_LIST = (
    "problems",
    "crop__sources",
    "crop__other_names",
    "crop__cautions",
    "crop__stages_seen",
    "crop__watch_for",
    "line__sources",
)
