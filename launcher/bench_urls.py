"""The application's addresses and one more, for the bench only: a batch's rows by key."""

from datetime import date, timedelta
from typing import Any

from django.db.models import Exists, OuterRef, Q
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.urls import path
from pydantic_core import to_json

from aldrip.accounts.context import LATELY, context_of
from aldrip.batches.board import OF_A_BODY
from aldrip.batches.listing import ENDED, OF_A_ROW, OF_ITS_STAGES
from aldrip.batches.models import Allocation, Batch, BatchStage, Occupancy
from aldrip.orders.api import OF_A_LINE
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip.urls import urlpatterns as application
from aldrip_core.ground import AHEAD, BACK


def rows(request: HttpRequest, pk: int) -> HttpResponse:
    """The rows that a preview of this batch answers about, fetched by their keys and sent."""
    ctx = context_of(request, "see")
    batch = ctx.rows(Batch).filter(pk=pk).values().first()
    stages = list(BatchStage.objects.filter(batch=pk).values())
    occupied = list(Occupancy.objects.filter(stage__in=[stage["id"] for stage in stages]).values())
    meant = list(Allocation.objects.filter(batch=pk).values())
    lines = list(OrderLine.objects.filter(pk__in=[one["order_line_id"] for one in meant]).values())
    places = list(ctx.rows(Place).filter(pk__in={one["place_id"] for one in occupied}).values())
    body: dict[str, Any] = {
        "batch": batch,
        "stages": stages,
        "occupied": occupied,
        "meant": meant,
        "lines": lines,
        "places": places,
    }
    return JsonResponse(_plain(body))


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _plain(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_plain(item) for item in value]
    return value if isinstance(value, int | float | str | bool | None) else str(value)


def _sent(*queries: Any) -> HttpResponse:
    return HttpResponse(to_json([list(query) for query in queries], fallback=str), content_type="application/json")


def board(request: HttpRequest) -> HttpResponse:
    """The rows that a board of these days shows."""
    ctx = context_of(request, "see")
    days = (date.fromisoformat(request.GET["start"]), date.fromisoformat(request.GET["end"]))
    rows = Occupancy.objects.filter(place__organisation=ctx.organisation, during__overlap=days)
    return _sent(
        rows.order_by("during", "stage__batch_id", "stage__order").values_list(
            "place_id", "during", *OF_A_BODY.values()
        )
    )


def batches(request: HttpRequest) -> HttpResponse:
    """The rows that the list of batches shows."""
    ctx = context_of(request, "see")
    late = BatchStage.objects.filter(batch=OuterRef("pk"), planned__endswith__gt=ctx.since(LATELY))
    shown = ctx.rows(Batch).filter(~Q(state__in=ENDED) | Q(Exists(late)))
    stages = BatchStage.objects.filter(batch__in=shown).order_by("batch_id", "order")
    own = [name for name in OF_A_ROW if name != "mark"]
    return _sent(shown.order_by("id").values_list(*own), stages.values_list("batch_id", *OF_ITS_STAGES))


def lines(request: HttpRequest) -> HttpResponse:
    """The rows that the list of orders shows."""
    ctx = context_of(request, "see")
    lately = Q(state=OrderLine.State.OPEN) | Q(due__endswith__gt=ctx.since(LATELY))
    shown = ctx.rows(OrderLine).filter(lately)
    pairs = shown.filter(allocations__isnull=False).values_list(
        "id", "allocations__batch_id", "allocations__batch__code"
    )
    return _sent(shown.order_by("due", "order__number", "number").values_list(*OF_A_LINE), pairs)


def season(request: HttpRequest) -> HttpResponse:
    """The rows from which the season line is summed."""
    ctx = context_of(request, "see")
    days = (ctx.today - timedelta(days=BACK), ctx.today + timedelta(days=AHEAD))
    stands = Occupancy.objects.filter(place__organisation=ctx.organisation, during__overlap=days)
    due = ctx.rows(OrderLine).filter(due__overlap=days).values_list("due", flat=True)
    asks = ctx.rows(OrderLine).filter(state=OrderLine.State.OPEN, allocations=None).values_list(*OF_A_LINE)
    return _sent(stands.values_list("place_id", "during", "amount", "stage__batch_id", "stage__key"), due, asks)


urlpatterns = [
    path("bench/batches/<int:pk>/rows", rows),
    path("bench/board", board),
    path("bench/batches", batches),
    path("bench/orders", lines),
    path("bench/season-line", season),
    *application,
]
