"""The heads of batches: what lists, cards and the top of the ladder show of them. A fixed number of queries."""

from collections import defaultdict
from collections.abc import Mapping
from datetime import date
from typing import Any, NamedTuple
from uuid import UUID

from django.db.models import Exists, OuterRef, Q

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.saved import Saved, dates_of, know, light, saved_of, snapshot_of
from aldrip.lots.moving import shown_of
from aldrip.places.models import Place


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
