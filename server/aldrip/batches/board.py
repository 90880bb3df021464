"""The season board: lanes with what stands in them, summed and judged on the server."""

from datetime import date, timedelta
from typing import Any

import numpy as np
from django.db.models import Sum
from numpy.typing import NDArray

from aldrip.accounts.context import Ctx
from aldrip.batches.containers import containers_used
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, Occupancy
from aldrip.diary.models import Task

#: What is shown of a body, and where it stands: rows without the frozen methods of their batches.
OF_A_BODY = {
    "batch_id": "stage__batch_id",
    "code": "stage__batch__code",
    "crop": "stage__batch__crop__name",
    "stage": "stage__key",
    "name": "stage__name",
    "amount": "amount",
    "state": "stage__batch__state",
    "version": "stage__batch__version",
    "decide_by": "stage__batch__decide_by",
}


def sums_of(ctx: Ctx, start: date, end: date) -> dict[str, Any]:
    """By week: hours of planned work, and the most trays and pots of each kind that are in use on a day of it.

    A tray is in use from its filling until the batch is pricked out or potted on, or leaves; so is what it is set into.
    """
    first = start - timedelta(days=start.weekday())
    count = max(1, -(-(end - first).days // 7))
    minutes = np.zeros(count)
    tasks = ctx.rows(Task).filter(due_from__gte=first, due_from__lt=first + timedelta(weeks=count))
    by_day = tasks.exclude(state=Task.State.NOT_DONE).order_by().values_list("due_from").annotate(n=Sum("minutes"))
    for day, total in by_day:
        minutes[(day - first).days // 7] += float(total or 0)
    trays: dict[str, NDArray[np.float64]] = {}
    for one in containers_used(ctx, first, end):
        if one.start < first + timedelta(weeks=count) and one.end > first:
            days = trays.setdefault(one.container or "trays", np.zeros(count * 7))
            days[max(0, (one.start - first).days) : (one.end - first).days] += one.many
    return {
        "first": first,
        "hours": [round(float(one) / 60, 1) for one in minutes],
        "hours_week": ctx.organisation.hours_week or None,
        "trays": [
            {"name": name, "by_week": [int(one) for one in days.reshape(count, 7).max(axis=1)]}
            for name, days in sorted(trays.items(), key=lambda one: (-one[1].max(), one[0]))
        ],
    }


def board_of(ctx: Ctx, start: date, end: date) -> dict[str, Any]:
    """Places with the bodies that stand there in `[start, end)`, the load by day, and what overflows."""
    # What stands outside the days that are shown, and today, is not asked for.
    ground = Ground(ctx, window=(min(start, ctx.today), max(end, ctx.today + timedelta(days=1))))
    rows = (
        Occupancy.objects.filter(place__organisation=ctx.organisation, during__overlap=(start, end))
        .exclude(stage__batch__state=Batch.State.ABANDONED)
        .order_by("during", "stage__batch_id", "stage__order")
    )
    bodies: dict[int, list[dict[str, Any]]] = {}
    for place, during, *row in rows.values_list("place_id", "during", *OF_A_BODY.values()):
        body = dict(zip(OF_A_BODY, row, strict=True))
        bodies.setdefault(place, []).append({**body, "start": during.lower, "end": during.upper})
    first, last = ground.index(start), ground.index(end)
    lanes = []
    for lane in ground.lanes.values():
        if lane.usable is None or (lane.place.closed and lane.place.key not in bodies):
            continue
        load = np.round(lane.load[first:last], 9)  # what the order of adding leaves in the last digits says nothing
        today = ground.index(ground.today)
        lanes.append(
            {
                "place_id": lane.place.key,
                "name": lane.place.name,
                "kind": lane.place.kind,
                "unit": lane.place.unit.words,
                "usable": lane.usable,
                "set_point_c": None
                if ground.places[lane.place.key].parts  # it would not say when
                else ground.places[lane.place.key].set_point_c,
                "now": round(float(lane.load[today]), 9),
                "peak": float(load.max()) if len(load) else 0.0,
                "peak_on": start + timedelta(days=int(load.argmax())) if len(load) else start,
                "load": [round(float(value), 3) for value in load],
                "over": [
                    {"start": r.start, "end": r.end, "amount": r.amount}
                    for r in ground.over(lane.place.key, start, end)
                ],
                "closings": [
                    {"start": limit.first, "end": limit.end, "holds": limit.usable}
                    for limit in lane.place.limits
                    if limit.first < end and limit.end > start
                ],
                "bodies": bodies.get(lane.place.key, []),
            }
        )
    return {"start": start, "end": end, "lanes": lanes}
