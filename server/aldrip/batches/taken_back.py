"""What follows when an act is taken back: balances, forecasts and decisions are reckoned from what stands now."""

from django.db.models import F

from aldrip.accounts.context import Ctx
from aldrip.accounts.taking_back import Put
from aldrip.batches.forecasting import refresh
from aldrip.batches.models import Allocation, Batch, BatchStage
from aldrip.batches.resowing import refresh_decision
from aldrip.lots.models import Lot
from aldrip.orders.models import OrderLine

#: Columns that `refresh` and its like reckon, by table.
RECKONED = {
    "batches_batch": frozenset(
        {"expected", "low", "high", "decide_by", "decide_text", "barred", "seed_class", "on_hold"}
    ),
    "batches_batchstage": frozenset({"multiply"}),
    "orders_orderline": frozenset({"chance", "forecast", "problems"}),
    "diary_task": frozenset({"waits"}),
    "lots_lot": frozenset({"balance", "on_hold"}),
}


def reckon_anew(ctx: Ctx, put: Put) -> None:
    """Bring up to date what rests on the rows that were put back."""
    batches = set(ctx.rows(Batch).filter(uuid__in=put.subjects).values_list("pk", flat=True))
    batches |= put.rows.get("batches_batch", set())
    stages = BatchStage.objects.filter(pk__in=put.rows.get("batches_batchstage", set()))
    batches |= set(stages.values_list("batch", flat=True))
    lots = put.rows.get("lots_lot", set())
    batches |= set(ctx.rows(Batch).filter(lot__in=lots, state=Batch.State.PLANNED).values_list("pk", flat=True))
    lines = set(ctx.rows(OrderLine).filter(pk__in=put.rows.get("orders_orderline", set())).values_list("pk", flat=True))
    there = list(ctx.rows(Batch).filter(pk__in=batches).values_list("pk", flat=True))
    lines |= set(Allocation.objects.filter(batch__in=there).values_list("order_line", flat=True))
    ctx.rows(Batch).filter(pk__in=there).update(version=F("version") + 1)
    if put.stale:
        refresh(ctx, batches=there, lines=lines)
        refresh_decision(ctx, there)


def weigh_anew(ctx: Ctx, put: Put) -> None:
    """What a lot holds is the sum of its movements."""
    for lot in ctx.rows(Lot).filter(pk__in=put.rows.get("lots_lot", set())):
        held = sum(lot.movements.values_list("quantity", flat=True))
        if lot.balance != held:
            ctx.rows(Lot).filter(pk=lot.pk).update(balance=held)
