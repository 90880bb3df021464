"""Trays and pots that batches use, by the days on which they do."""

from collections.abc import Collection, Iterator
from datetime import date

from django.db.models import F, Func, JSONField, Max, Min, Value

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, BatchStage
from aldrip.methods.snapshot import CHANGES
from aldrip_core.containers_in_use import InUse, StageStands, in_use
from aldrip_core.distributions import Spread

LIVE = (Batch.State.PLANNED, Batch.State.SOWN, Batch.State.READY)

#: Of the frozen method of a batch, the stages that set plants into another container, and what is known of these.
CHANGING = Func(
    F("method_snapshot"),
    Value('$.stages[*] ? (@.container != "").key'),
    function="jsonb_path_query_array",
    output_field=JSONField(),
)


def containers_used(ctx: Ctx, start: date, end: date, states: Collection[str] = LIVE) -> Iterator[InUse]:
    """What batches in these states use of trays and pots, of those that stand in `[start, end)`. A fixed number of queries."""
    rows = (
        ctx.rows(Batch)
        .filter(state__in=states)
        .annotate(since=Min("stages__planned__startswith"), until=Max("stages__planned__endswith"), changing=CHANGING)
        .filter(since__lt=end, until__gt=start)
    )
    rows = rows.exclude(trays=None, changing=[])
    batches = {pk: rest for pk, *rest in rows.values_list("pk", "trays", "container__name", "changing")}
    # The frozen methods are heavy: only those that set plants over are read.
    changing = [pk for pk, (_, _, keys) in batches.items() if keys]
    snapshots = {
        pk: ({one["key"]: one for one in stages}, containers)
        for pk, stages, containers in Batch.objects.filter(pk__in=changing).values_list(
            "pk", "method_snapshot__stages", "method_snapshot__containers"
        )
    }
    by_batch: dict[int, list[StageStands]] = {pk: [] for pk in batches}
    before: dict[int, str] = {}
    stages = BatchStage.objects.filter(batch__in=batches).order_by("batch", "order")
    for pk, order, key, kind, planned, out, alpha, beta, multiply in stages.values_list(
        "batch", "order", "key", "kind", "planned", "out", "alpha", "beta", "multiply"
    ):
        own_stages, containers = snapshots.get(pk, ({}, {}))
        told = own_stages.get(key)
        after = (told["after"] if told else before.get(pk, "")) if order else ""
        before[pk] = key
        own = containers.get(told["container"]) if told else None
        kept = Spread(alpha, beta).mean * multiply
        by_batch[pk].append(
            StageStands(
                key,
                after or "",
                planned.lower,
                planned.upper,
                changes=bool(order) and (own is not None or kind in CHANGES),
                container=own["name"] if own else "",
                cells=own["cells"] if own else 0,
                into=out / kept if kept else 0.0,
            )
        )
    for pk, its_stages in by_batch.items():
        yield from in_use(its_stages, container=batches[pk][1] or "", many=batches[pk][0] or 0)
