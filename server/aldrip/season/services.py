"""The season line and what waits for a decision, read across rooms."""

from collections import Counter
from datetime import date, timedelta
from typing import Any

import numpy as np
from django.db.models import Max, QuerySet

from aldrip.accounts.context import Ctx
from aldrip.accounts.decisions import Decision, Look, waiting
from aldrip.accounts.models import AuditEvent
from aldrip.accounts.taking_back import may_be
from aldrip.base.words import plural
from aldrip.batches.forecasting import LIVE
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, BatchStage
from aldrip.diary.models import Task, reckoned
from aldrip.lots.models import Lot
from aldrip.methods.models import Method
from aldrip.methods.resolver import Library
from aldrip.orders.models import OrderLine
from aldrip.seedcrops.reading import WAYS
from aldrip.stockplants.models import MotherStock
from aldrip_core.ground import AHEAD


def _first_stages() -> QuerySet[BatchStage]:
    """Of each batch the stage with which it begins."""
    return BatchStage.objects.filter(order=0)


QUIET = {
    "orders": ("line open", "lines open"),
    "methods": ("method", "methods"),
    "places": ("place", "places"),
    "batches": ("batch standing", "batches standing"),
    "sowing": ("card this week", "cards this week"),
    "stockplants": ("stock of mothers", "stocks of mothers"),
    "seedcrops": ("seed crop", "seed crops"),
    "lots": ("lot in stock", "lots in stock"),
    "diary": ("task today", "tasks today"),
    "deliveries": ("due this week", "due this week"),
}


def quiet_counts(ctx: Ctx) -> dict[str, int]:
    """What each room holds, for the quiet line under its name."""
    week = ctx.today + timedelta(days=7)
    return {
        "orders": ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN).count(),
        "methods": Library(ctx).rows(Method).count(),
        "batches": ctx.rows(Batch).filter(state__in=(Batch.State.SOWN, Batch.State.READY)).count(),
        "sowing": ctx.rows(Batch)
        .filter(
            state=Batch.State.PLANNED,
            method__way="plants",
            stages__in=_first_stages(),
            stages__planned__startswith__lt=week,
        )
        .count(),
        "stockplants": ctx.rows(MotherStock).filter(retired_on=None).count(),
        "seedcrops": ctx.rows(Batch).filter(method__way__in=WAYS, state__in=LIVE).count(),
        "lots": ctx.rows(Lot).filter(balance__gt=0).count(),
        "diary": reckoned(ctx.rows(Task)).filter(begins__lte=ctx.today, ends__gt=ctx.today).count(),
        "deliveries": ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN, due__startswith__lt=week).count(),
    }


def _last_planned(ctx: Ctx, start: date) -> date:
    """The Monday after all that is planned: a seed crop of next year lies beyond the usual season and a half."""
    live = BatchStage.objects.filter(batch__organisation=ctx.organisation, batch__state__in=LIVE)
    newest = live.aggregate(last=Max("planned__endswith"))["last"] or start
    newest = min(newest, ctx.today + timedelta(days=AHEAD - 60))
    return date.fromordinal(newest.toordinal() + 7 - newest.weekday())


def season_line(ctx: Ctx) -> dict[str, Any]:
    """Fullness of the tightest place by day, deliveries by day, flags, and what waits in each room."""
    ground = Ground(ctx)
    start = ctx.today - timedelta(days=ctx.today.weekday() + 7 * 27)
    end = max(start + timedelta(days=7 * 78), _last_planned(ctx, start))
    first, last = ground.index(start), ground.index(end)
    shares = [
        lane.load[first:last] / lane.usable for lane in ground.lanes.values() if lane.usable and not lane.place.whole
    ]
    fullest = np.max(shares, axis=0) if shares else np.zeros(last - first)
    due = Counter(
        lower
        for lower in (
            d.lower
            for d in ctx.rows(OrderLine)
            .exclude(state=OrderLine.State.CANCELLED)
            .filter(due__overlap=(start, end))
            .values_list("due", flat=True)
        )
    )
    asked = waiting(Look(ctx, {"ground": ground}))
    by_room = Counter(d.room for d in asked)
    quiet = {**quiet_counts(ctx), "places": sum(not lane.place.closed for lane in ground.lanes.values())}
    first_said: dict[str, Decision] = {}
    for decision in asked:
        first_said.setdefault(decision.room, decision)
    kept = ctx.rows(AuditEvent).exclude(action__startswith="demo.").order_by("-id").first()
    return {
        "today": ctx.today,
        "start": start,
        "end": end,
        "fullness": [round(float(x), 4) for x in fullest],
        "ticks": [{"day": day, "count": count} for day, count in sorted(due.items()) if start <= day < end],
        "flags": [
            {"by": d.by, "title": d.words.title, "link": d.link, "room": d.room}
            for d in asked
            if d.by and d.room in ("batches", "places", "orders", "seedcrops")
        ][:12],
        "decisions": [d.plain() for d in asked[:60]],
        "rooms": [
            {
                "room": room,
                "waiting": by_room.get(room, 0),
                "line": first_said[room].words.title if room in first_said else plural(quiet.get(room, 0), *words),
            }
            for room, words in QUIET.items()
        ],
        "last": None
        if kept is None
        else {
            "id": kept.pk,
            "sentence": kept.sentence,
            "can_undo": kept.action in ("batch.keep", "batch.new", "batch.resow") and kept.undone_by_id is None,
            "can_take_back": may_be(ctx, kept),
        },
    }
