"""The application's addresses and one more, for the bench only: a batch's rows by key."""

from typing import Any

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.urls import path

from aldrip.accounts.context import context_of
from aldrip.batches.models import Allocation, Batch, BatchStage, Occupancy
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place
from aldrip.urls import urlpatterns as application


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


urlpatterns = [path("bench/batches/<int:pk>/rows", rows), *application]
