"""What follows when something happened: chances, forecasts and decisions of all that hangs on the touched rows."""

from collections.abc import Mapping

from django.db.models import Q

from aldrip.accounts.context import Ctx
from aldrip.accounts.events import Touched
from aldrip.batches.forecasting import LIVE, refresh, short_lots
from aldrip.batches.models import Allocation, Batch, BatchInput, BatchStage, SetAside, Yield
from aldrip.batches.resowing import refresh_decision
from aldrip.batches.saved import in_hand
from aldrip.diary.models import Count
from aldrip.orders.models import OrderLine

#: Columns from which something is reckoned, by table.
FOLLOWED = {
    "batches_batch": frozenset(
        {
            "state",
            "start",
            "needed",
            "chance_wanted",
            "lot_id",
            "method_snapshot",
            "problems",
            "seed_class",
            "barred",
            "all_in",
        }
    ),
    "batches_batchstage": frozenset(
        {
            "actual_start",
            "actual_end",
            "planned",
            "counted_share",
            "counted_sd",
            "alpha",
            "beta",
            "multiply",
            "multiply_sd",
        }
    ),
    "batches_allocation": frozenset({"quantity"}),
    "batches_setaside": frozenset({"quantity"}),
    "batches_batchinput": frozenset({"quantity", "lot_id", "upstream_id", "taken_on"}),
    "batches_yield": frozenset({"quantity"}),
    "orders_orderline": frozenset(
        {"quantity", "delivered", "due", "state", "form", "line_id", "crop_id", "unit", "seed_class"}
    ),
    "lots_lot": frozenset({"balance", "status", "form", "seed_class"}),
    "diary_count": frozenset({"found", "kind"}),
}
NONE = Touched()


def heard(ctx: Ctx, touched: Mapping[str, Touched]) -> None:
    """Reckon anew what the touched rows bear on. Batches that run may ask for a decision by it, or no longer."""
    inputs = touched.get("batches_batchinput", NONE).rows
    lots = touched.get("lots_lot", NONE).rows | _named(touched, "lot_id", "batches_batchinput")
    if inputs:
        lots |= set(BatchInput.objects.filter(pk__in=inputs).exclude(lot=None).values_list("lot", flat=True))
    batches = _batches(ctx, touched) | _made_of(touched.get("lots_lot", NONE).rows) | _short_now(ctx, lots)
    lines = _lines(touched)
    # Where a batch ended or began to stand, its promises are told even if nothing else of them is left.
    lines |= (
        set(Allocation.objects.filter(batch__in=batches).values_list("order_line", flat=True)) if batches else set()
    )
    if not batches and not lines:
        return
    found = refresh(ctx, batches=batches, lines=lines, known=in_hand())
    asking = {
        one.saved.batch.pk
        for group in found
        if group.lines and group.result.chance < ctx.organisation.chance_wanted
        for one in group.batches
        if one.saved.batch.state == Batch.State.SOWN
    }
    near = batches | {pk for group in found for pk in group.ids}
    settled = ctx.rows(Batch).filter(pk__in=near - asking).exclude(decide_by=None)
    settled.update(decide_by=None, decide_text="")
    refresh_decision(ctx, sorted(asking))


def _named(touched: Mapping[str, Touched], column: str, *tables: str) -> set[int]:
    """What rows that are gone named in a column."""
    return {row[column] for table in tables for row in touched.get(table, NONE).gone if row.get(column) is not None}


def _batches(ctx: Ctx, touched: Mapping[str, Touched]) -> set[int]:
    """Batches that were touched themselves, or by their stages, promises, inputs, yields and counts."""
    found = set(touched.get("batches_batch", NONE).rows) | _named(touched, "batch_id", "batches_allocation")
    stages = touched.get("batches_batchstage", NONE).rows | _named(
        touched, "stage_id", "batches_yield", "batches_batchinput"
    )
    stages = stages | _named(touched, "upstream_id", "batches_batchinput")
    given, yields = touched.get("batches_allocation", NONE).rows, touched.get("batches_yield", NONE).rows
    if given:
        found |= set(Allocation.objects.filter(pk__in=given).values_list("batch", flat=True))
    if yields:
        found |= set(Yield.objects.filter(pk__in=yields).values_list("stage__batch", flat=True))
    inputs = touched.get("batches_batchinput", NONE).rows
    if inputs:
        for own, upstream in BatchInput.objects.filter(pk__in=inputs).values_list("stage__batch", "upstream__batch"):
            found |= {own, upstream} - {None}
    if stages:
        found |= set(BatchStage.objects.filter(pk__in=stages).values_list("batch", flat=True))
    counts = touched.get("diary_count", NONE)
    subjects = {row["subject"] for row in counts.gone}
    if counts.rows:
        subjects |= set(Count.objects.filter(pk__in=counts.rows).values_list("subject", flat=True))
    if subjects:
        found |= set(ctx.rows(Batch).filter(uuid__in=subjects).values_list("pk", flat=True))
    return found


def _lines(touched: Mapping[str, Touched]) -> set[int]:
    """Order lines that were touched themselves, or by what is meant and set aside for them."""
    found = set(touched.get("orders_orderline", NONE).rows)
    found |= _named(touched, "order_line_id", "batches_allocation", "batches_setaside")
    given, aside = touched.get("batches_allocation", NONE).rows, touched.get("batches_setaside", NONE).rows
    if given:
        found |= set(Allocation.objects.filter(pk__in=given).values_list("order_line", flat=True))
    lots = touched.get("lots_lot", NONE).rows
    if aside or lots:
        rows = SetAside.objects.filter(Q(pk__in=aside) | Q(lot__in=lots))
        found |= set(rows.values_list("order_line", flat=True))
    return found


def _made_of(lots: set[int]) -> set[int]:
    """Batches that gave to these lots: what is there of them is in the lots."""
    if not lots:
        return set()
    return set(Yield.objects.filter(lot__in=lots, stage__batch__state__in=LIVE).values_list("stage__batch", flat=True))


def _short_now(ctx: Ctx, lots: set[int]) -> set[int]:
    """Planned batches of lots that became too little for what is planned of them, or are enough again."""
    if not lots:
        return set()
    told = ctx.rows(OrderLine).filter(problems__contains=[{"code": "short_seed"}]).values_list("problems", flat=True)
    named = {one["lot"] for problems in told for one in problems if one["code"] == "short_seed"}
    changed = Q(lot__in=list(short_lots(lots))) | Q(lot__in=lots, lot__code__in=named)
    return set(ctx.rows(Batch).filter(changed, state=Batch.State.PLANNED).values_list("pk", flat=True))
