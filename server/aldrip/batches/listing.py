"""The list of batches: light rows, read in a few queries without a model or a frozen method for each."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any, NamedTuple

from django.db.models import Exists, OuterRef, Q

from aldrip.accounts.context import Ctx
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.saved import KNOWN, SHOWN_WITH, know, marked, method_of
from aldrip.places.models import Place
from aldrip_core.stages import MethodSpec

ENDED = (Batch.State.DELIVERED, Batch.State.ABANDONED)


def rows_in_sight(ctx: Ctx, since: date) -> list[dict[str, Any]]:
    """Every batch that runs, and those whose last day was after `since`, as the list shows them. A fixed number of queries."""
    late = BatchStage.objects.filter(batch=OuterRef("pk"), planned__endswith__gt=since)
    rows = ctx.rows(Batch).filter(~Q(state__in=ENDED) | Q(Exists(late)))
    batches = [_Lean(*values) for values in marked(rows).order_by("id").values_list(*OF_A_ROW)]
    know(batches)
    old = [batch.pk for batch in batches if batch.mark not in KNOWN]  # frozen before marks told all that is in them
    methods = {batch.pk: method_of(batch) for batch in Batch.objects.filter(pk__in=old).select_related(*SHOWN_WITH)}
    places = dict(ctx.rows(Place).values_list("pk", "name"))
    stages: dict[int, list[_Stage]] = defaultdict(list)
    asked = BatchStage.objects.filter(batch__in=rows).order_by("batch_id", "order")
    for pk, *values in asked.values_list("batch_id", *OF_ITS_STAGES):
        stages[pk].append(_Stage(*values))
    told: dict[str, _Told] = {}
    found = []
    for batch in batches:
        of = told.get(batch.mark)
        if of is None:
            known = KNOWN.get(batch.mark)
            of = told[batch.mark] = _told(known.method if known is not None else methods[batch.pk])
        found.append(_row(batch, stages[batch.pk], of, places))
    return found


class _Lean(NamedTuple):
    """What a list reads of a batch."""

    pk: int
    mark: str
    code: str
    state: str
    crop__name: str
    line__name: str | None
    start: int
    trays: int | None
    needed: Any
    expected: Any
    counted: float | None
    lot_id: int | None
    lot__code: str | None
    decide_by: date | None


class _Stage(NamedTuple):
    """What a list reads of a stage."""

    key: str
    name: str
    planned__startswith: date
    planned__endswith: date
    actual_start: date | None
    actual_end: date | None
    place_id: int | None


#: What is asked of the database for each row.
OF_A_ROW, OF_ITS_STAGES = _Lean._fields, _Stage._fields


class _Told(NamedTuple):
    """What a list reads of a frozen method. `after_last`: what follows the last stage beside the way, if anything does."""

    form: str
    way: str
    factor: float
    first: str
    last: str
    after_last: str | None


def _told(method: MethodSpec) -> _Told:
    last = method.last.key
    after = next((one.key for one in method.stages if one.follows == last), None)
    return _Told(method.form, method.way, float(method.unit.value.factor), method.root.key, last, after)


def _row(batch: _Lean, stages: Sequence[_Stage], told: _Told, places: Mapping[int, str]) -> dict[str, Any]:
    own = {stage.key: stage for stage in stages}
    first, last = own[told.first], own[told.last]
    after = own[told.after_last] if told.after_last else None
    begun = [stage for stage in stages if stage.actual_start is not None]
    now = begun[-1] if begun else first
    ends = (after.actual_start or after.planned__startswith) if after else (last.actual_end or last.planned__endswith)
    return {
        "id": batch.pk,
        "code": batch.code,
        "state": batch.state,
        "crop": batch.crop__name,
        "cultivar": batch.line__name or "",
        "form": told.form,
        "way": told.way,
        "start": batch.start,
        "trays": batch.trays,
        "needed": float(batch.needed) / told.factor,
        "expected": float(batch.expected) / told.factor,
        "counted": batch.counted,
        "lot_id": batch.lot_id,
        "lot": batch.lot__code or "",
        "decide_by": batch.decide_by,
        "sow_on": first.actual_start or first.planned__startswith,
        "ready_on": ends,
        "stage_now": now.name,
        "place_now": places.get(now.place_id, "") if now.place_id is not None else "",
    }
