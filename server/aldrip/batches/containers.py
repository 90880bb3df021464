"""Trays and pots that batches use, by the days on which they do."""

from collections.abc import Collection, Iterator
from datetime import date

from django.db.models import F, Func, JSONField, Max, Min, Q, Value

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, BatchStage
from aldrip.methods.snapshot import CHANGES
from aldrip_core.containers_in_use import InUse, StageStands, days_still, in_use
from aldrip_core.distributions import Spread

BEGUN = (Batch.State.SOWN, Batch.State.READY)
LIVE = (Batch.State.PLANNED, *BEGUN)

#: Of the frozen method of a batch, the stages that set plants into another container, and what is known of these.
CHANGING = Func(
    F("method_snapshot"),
    Value('$.stages[*] ? (@.container != "").key'),
    function="jsonb_path_query_array",
    output_field=JSONField(),
)


def containers_used(ctx: Ctx, start: date, end: date, states: Collection[str] = LIVE) -> Iterator[InUse]:
    """What batches in these states use of trays and pots, of those that stand in `[start, end)`. A fixed number of queries.

    What has begun and is not over stands through today, however late; what should have begun and has not begins tomorrow.
    """
    rows = (
        ctx.rows(Batch)
        .filter(state__in=states)
        .annotate(since=Min("stages__planned__startswith"), until=Max("stages__planned__endswith"), changing=CHANGING)
        .filter(Q(until__gt=start) | Q(state__in=BEGUN), since__lt=end)
    )
    rows = rows.exclude(trays=None, changing=[])
    batches = {pk: rest for pk, *rest in rows.values_list("pk", "trays", "container__name", "changing", "state")}
    # The frozen methods are heavy: only those that set plants over are read.
    changing = [pk for pk, (_, _, keys, _) in batches.items() if keys]
    snapshots = {
        pk: ({one["key"]: one for one in stages}, containers)
        for pk, stages, containers in Batch.objects.filter(pk__in=changing).values_list(
            "pk", "method_snapshot__stages", "method_snapshot__containers"
        )
    }
    by_batch: dict[int, list[StageStands]] = {pk: [] for pk in batches}
    before: dict[int, str] = {}
    stages = BatchStage.objects.filter(batch__in=batches).order_by("batch", "order")
    for pk, order, key, kind, planned, began, over, out, alpha, beta, multiply in stages.values_list(
        "batch", "order", "key", "kind", "planned", "actual_start", "actual_end", "out", "alpha", "beta", "multiply"
    ):
        own_stages, containers = snapshots.get(pk, ({}, {}))
        told = own_stages.get(key)
        after = (told["after"] if told else before.get(pk, "")) if order else ""
        before[pk] = key
        own = containers.get(told["container"]) if told else None
        kept = Spread(alpha, beta).mean * multiply
        first, last = planned.lower, planned.upper
        if batches[pk][3] in BEGUN and over is None:
            first, last = days_still(first, last, begun=began is not None, today=ctx.today)
        by_batch[pk].append(
            StageStands(
                key,
                after or "",
                first,
                last,
                changes=bool(order) and (own is not None or kind in CHANGES),
                container=own["name"] if own else "",
                cells=own["cells"] if own else 0,
                into=out / kept if kept else 0.0,
            )
        )
    for pk, its_stages in by_batch.items():
        yield from in_use(its_stages, container=batches[pk][1] or "", many=batches[pk][0] or 0)
