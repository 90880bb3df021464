"""The forecast: counts move what batches will give, the chance of every promise, and what to decide."""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

from django.db.models import OuterRef, Q, QuerySet, Subquery, Sum

from aldrip.accounts.context import Ctx
from aldrip.base.bulk import update_rows
from aldrip.batches.models import Allocation, Batch, BatchStage, Yield
from aldrip.diary.models import Count
from aldrip.orders.models import OrderLine
from aldrip_core.distributions import Spread, product
from aldrip_core.forecast import Forecast, Stock, forecast, stock_after_count

LIVE = (Batch.State.PLANNED, Batch.State.SOWN, Batch.State.READY)


@dataclass(frozen=True)
class Group:
    """Batches and order lines that hang together, with what is promised and what there is."""

    batches: tuple[int, ...]
    lines: tuple[OrderLine, ...]
    needed: int
    stocks: tuple[Stock, ...]
    ready: tuple[date, ...]
    lost: tuple[int, ...]
    result: Forecast

    @property
    def timely(self) -> tuple[Stock, ...]:
        """Stocks that are ready before the first window closes."""
        return tuple(s for s, day in zip(self.stocks, self.ready, strict=True) if in_time(self.lines, day))

    @property
    def deadline(self) -> date | None:
        """Last day of the window that closes first."""
        ends = [line.due.upper for line in self.lines]
        return min(ends) if ends else None


def in_time(lines: Sequence[OrderLine], ready: date) -> bool:
    """Whether a batch is ready before the first window of these lines closes."""
    return all(ready < line.due.upper for line in lines)


def stage_spread(stage: BatchStage) -> Spread:
    """The planned rate of a stage."""
    return Spread(stage.alpha, stage.beta)


def stock_of(batch: Batch, stages: Sequence[BatchStage], lost: int, in_stock: Mapping[int, float] | None) -> Stock:
    """What a batch stands at: its lots if there are any, else its last count, else its start.

    `in_stock`: quantity in stock by the stage that gave it; later stages still take their share of it.
    """
    multiply = 1.0
    for stage in stages:
        multiply *= stage.multiply
    if in_stock is not None:
        there = 0.0
        for order, quantity in in_stock.items():
            for stage in stages[order + 1 :]:
                quantity *= stage_spread(stage).mean * stage.multiply
            there += quantity
        return Stock(round(there / multiply), Spread(1.0), multiply)
    counted = [index for index, stage in enumerate(stages) if stage.counted_share is not None]
    if not counted:
        whole = product([stage_spread(stage) for stage in stages])
        return Stock(max(0, batch.start - lost), whole, multiply)
    last = counted[-1]
    into = float(batch.start)
    for stage in stages[:last]:
        kept = stage.counted_share if stage.counted_share is not None else stage_spread(stage).mean
        into *= kept * stage.multiply
    seen = stages[last]
    found = Spread.from_mean_sd(seen.counted_share or 0.0, seen.counted_sd or 0.0)
    ahead = [stage_spread(stage) for stage in stages[last + 1 :]]
    stock = stock_after_count(start=round(into), counted=found, ahead=product(ahead) if ahead else Spread(1.0))
    return Stock(max(0, stock.units - lost), stock.remaining, multiply)


def losses(ctx: Ctx, batches: Iterable[int]) -> dict[int, int]:
    """Plants counted as lost, by batch; a replaced count no longer counts."""
    rows = (
        ctx.rows(Count)
        .filter(subject_kind="batch", subject_id__in=list(batches), kind="loss", replaced_by=None)
        .values_list("subject_id")
        .annotate(total=Sum("found"))
    )
    return dict(rows)


def with_whole(rows: QuerySet[Yield]) -> QuerySet[Any]:
    """Yields with `whole`, all that any batch gave to their lot: quantity ÷ whole is a yield's share of what is left."""
    given = Yield.objects.filter(lot=OuterRef("lot")).values("lot").annotate(whole=Sum("quantity")).values("whole")
    return rows.annotate(whole=Subquery(given))


def in_stock(batches: Iterable[int]) -> dict[int, dict[int, float]]:
    """What batches gave to stock and is still there, by stage; batches without a lot are absent.

    A lot that several batches gave to counts for each with its share.
    """
    own = with_whole(Yield.objects.filter(stage__batch__in=list(batches)))
    rows = own.values_list("stage__batch", "stage__order", "quantity", "whole", "lot__balance")
    found: dict[int, dict[int, float]] = defaultdict(dict)
    for pk, order, quantity, whole, balance in rows:
        there = float(balance) * float(quantity / whole) if whole else 0.0
        found[pk][order] = found[pk].get(order, 0.0) + there
    return found


Known = tuple[Batch, list[BatchStage]]


def groups(
    ctx: Ctx,
    *,
    batches: Iterable[int] = (),
    lines: Iterable[int] = (),
    everything: bool = False,
    known: Known | None = None,
) -> list[Group]:
    """The groups that hold these batches or lines. A fixed number of queries; `known` is a batch that is loaded already."""
    allocations = Allocation.objects.filter(order_line__organisation=ctx.organisation, batch__state__in=LIVE)
    if not everything:
        near = allocations.filter(Q(batch__in=list(batches)) | Q(order_line__in=list(lines)))
        # One hop on: whatever shares a batch or a line with those.
        allocations = allocations.filter(
            Q(batch__in=near.values("batch")) | Q(order_line__in=near.values("order_line"))
        )
    pairs = list(allocations.values_list("batch_id", "order_line_id"))
    parts = _connected([(("b", b), ("l", line)) for b, line in pairs] + [(("b", b), ("b", b)) for b in batches]
                       + [(("l", line), ("l", line)) for line in lines])  # fmt: skip
    batch_ids = {pk for part in parts for kind, pk in part if kind == "b"}
    line_ids = {pk for part in parts for kind, pk in part if kind == "l"}
    stocks = stocks_of(ctx, batch_ids, known)
    order_lines = {
        line.pk: line
        for line in ctx.rows(OrderLine).filter(pk__in=line_ids, state=OrderLine.State.OPEN).select_related("order")
    }
    found = []
    for part in parts:
        own = tuple(sorted(pk for kind, pk in part if kind == "b" and pk in stocks))
        wanted = tuple(order_lines[pk] for kind, pk in sorted(part) if kind == "l" and pk in order_lines)
        needed = sum(max(0, line.quantity - line.delivered) for line in wanted)
        there = tuple(stocks[pk][0] for pk in own)
        ready = tuple(stocks[pk][1] for pk in own)
        lost = tuple(stocks[pk][2] for pk in own)
        # What comes after the window closes keeps no promise.
        counts = [stock for stock, day in zip(there, ready, strict=True) if in_time(wanted, day)]
        found.append(Group(own, wanted, needed, there, ready, lost, forecast(needed=needed, stocks=counts)))
    return found


def stocks_of(ctx: Ctx, batch_ids: Iterable[int], known: Known | None = None) -> dict[int, tuple[Stock, date, int]]:
    """What each live batch stands at, the day on which it is ready, and how many of it are lost."""
    batches: dict[int, Batch] = {}
    stages: dict[int, list[BatchStage]] = defaultdict(list)
    asked = set(batch_ids)
    if known is not None and known[0].pk in asked and known[0].state in LIVE:
        batches[known[0].pk], stages[known[0].pk] = known
    others = asked - set(batches)
    if others:
        more = {b.pk: b for b in ctx.rows(Batch).filter(pk__in=others, state__in=LIVE)}
        for stage in BatchStage.objects.filter(batch__in=more).order_by("batch_id", "order"):
            stages[stage.batch_id].append(stage)
        batches |= more
    # Only what was begun can have given something to stock.
    begun = [pk for pk, batch in batches.items() if batch.state != Batch.State.PLANNED]
    lost, graded = losses(ctx, batches), in_stock(begun) if begun else {}
    return {
        pk: (stock_of(batch, stages[pk], lost.get(pk, 0), graded.get(pk)), _ready(stages[pk]), lost.get(pk, 0))
        for pk, batch in batches.items()
    }


def _ready(stages: Sequence[BatchStage]) -> date:
    """The day on which a batch can be handed over: graded ones already can."""
    last = stages[-1]
    return last.actual_start or last.planned.upper


def _connected(edges: list[tuple[tuple[str, int], tuple[str, int]]]) -> list[set[tuple[str, int]]]:
    parent: dict[tuple[str, int], tuple[str, int]] = {}

    def root(node: tuple[str, int]) -> tuple[str, int]:
        parent.setdefault(node, node)
        while parent[node] != node:
            parent[node] = parent[parent[node]]
            node = parent[node]
        return node

    for a, b in edges:
        parent[root(a)] = root(b)
    parts: dict[tuple[str, int], set[tuple[str, int]]] = defaultdict(set)
    for node in list(parent):
        parts[root(node)].add(node)
    return list(parts.values())


def refresh(
    ctx: Ctx, *, batches: Iterable[int] = (), lines: Iterable[int] = (), everything: bool = False
) -> list[Group]:
    """Bring chance, forecast and band of the touched batches and lines up to date."""
    found = groups(ctx, batches=batches, lines=lines, everything=everything)
    changed_lines, changed_batches = [], []
    rows = {b.pk: b for b in ctx.rows(Batch).filter(pk__in=[pk for group in found for pk in group.batches])}
    for group in found:
        for line in group.lines:
            share = (line.quantity - line.delivered) / group.needed if group.needed else 1.0
            line.chance = group.result.chance if group.batches else None
            line.forecast = group.result.expected * share if group.batches else None
            changed_lines.append(line)
        for pk, stock in zip(group.batches, group.stocks, strict=True):
            alone = forecast(needed=0, stocks=(stock,))
            batch = rows[pk]
            batch.expected, batch.low, batch.high = alone.expected, alone.low, alone.high
            changed_batches.append(batch)
    update_rows(OrderLine, ("chance", "forecast"), [(one.pk, one.chance, one.forecast) for one in changed_lines])
    update_rows(
        Batch, ("expected", "low", "high"), [(one.pk, one.expected, one.low, one.high) for one in changed_batches]
    )
    return found
