"""What must never change, whatever people do: read from the database after every step of a random season."""

import itertools
import json
from datetime import date, timedelta
from typing import Any

from django.db.models import Sum

from aldrip.accounts.context import Ctx
from aldrip.batches.holds import reach_of
from aldrip.batches.models import Batch, BatchInput, BatchStage, Occupancy, Yield
from aldrip.diary.models import Clock, ClockMark, Count, Task
from aldrip.lots.holds import open_holds
from aldrip.lots.models import Intake, Lot, MediumLot, MediumReading, MediumUse, Movement, TestResult, Verdict
from aldrip.seedcrops.models import BlockSowing, FlowerObservation, InspectionCount, MaleRemoval

Facts = dict[tuple[Any, ...], Any]
EVENTS = (
    Movement, Count, TestResult, Verdict, Intake, BlockSowing, FlowerObservation, InspectionCount, MaleRemoval,
    ClockMark, MediumReading, MediumUse,
)  # fmt: skip


def facts_of(ctx: Ctx) -> Facts:
    """Everything that has happened by today, as keys with values that must stay as they are."""
    found: Facts = {}
    today = ctx.today
    for batch in ctx.rows(Batch).exclude(state=Batch.State.PLANNED):
        if batch.stages.filter(actual_start__isnull=False).exists():
            found["planned with", batch.pk] = json.dumps(batch.method_snapshot, sort_keys=True)
            found["started", batch.pk] = (batch.start, batch.trays, batch.seed_g, batch.container_id, batch.lot_id)
    ended = ctx.rows(Batch).filter(state__in=("delivered", "abandoned")).values_list("pk", "state")
    found.update({("ended", pk): state for pk, state in ended})
    for stage in BatchStage.objects.filter(batch__organisation=ctx.organisation, actual_start__isnull=False):
        found["began", stage.pk] = stage.actual_start
        if stage.actual_end is not None:
            found["was over", stage.pk] = (stage.actual_end, stage.place_id, stage.planned)
    found.update(_stood(ctx, today))
    for one in BatchInput.objects.filter(stage__batch__organisation=ctx.organisation, taken_on__isnull=False):
        found["taken", one.pk] = (one.lot_id, one.quantity, one.taken_on)
    for given in Yield.objects.filter(stage__batch__organisation=ctx.organisation):
        found["given", given.pk] = (given.lot_id, given.quantity)
    for model in EVENTS:
        for row in ctx.rows(model).values():
            found[model.__name__, row["id"]] = tuple(sorted((k, str(v)) for k, v in row.items()))
    for task in ctx.rows(Task).exclude(state=Task.State.TODO):
        found["marked", task.pk] = (task.done_by_id, task.done_at) if task.state == Task.State.DONE else None
    return found


def _stood(ctx: Ctx, today: date) -> Facts:
    """For each stage and place: on which days until yesterday how much of it stood there."""
    found: Facts = {}
    rows = Occupancy.objects.filter(
        place__organisation=ctx.organisation, during__startswith__lt=today, stage__actual_start__isnull=False
    )
    days: dict[tuple[int, int], dict[date, float]] = {}
    for one in rows:
        here = days.setdefault((one.stage_id, one.place_id), {})
        day = one.during.lower
        while day < min(one.during.upper, today):
            here[day] = here.get(day, 0.0) + one.amount
            day += timedelta(days=1)
    for (stage, place), stood in days.items():
        for day, amount in stood.items():
            found["stood", stage, place, day] = round(amount, 6)
    return found


def broken(before: Facts, after: Facts) -> list[str]:
    """What was a fact and is another one now."""
    return [
        f"{key}: {value} became {after.get(key, 'nothing')}"
        for key, value in before.items()
        if after.get(key, "gone") != value and not _told_later(key, before, after)
    ]


def _told_later(key: tuple[Any, ...], before: Facts, after: Facts) -> bool:
    """Whether a stage was taken to stand there still and its end was told since, with a day before this one."""
    over = ("was over", key[1])
    return key[0] == "stood" and over not in before and over in after and key[3] >= after[over][0]


def wrong(ctx: Ctx) -> list[str]:
    """What must hold at any moment and does not."""
    said = []
    for lot in ctx.rows(Lot):
        total = lot.movements.aggregate(all=Sum("quantity"))["all"] or 0
        if lot.balance < 0 or total != lot.balance:
            said.append(f"lot {lot.code} holds {lot.balance}, its movements sum to {total}")
    for medium in ctx.rows(MediumLot):
        used = medium.uses.aggregate(all=Sum("litres"))["all"] or 0
        if medium.left != max(0, medium.litres - used):
            said.append(f"medium {medium.code} has {medium.left} L left of {medium.litres}, and {used} were used")
    busy = list(ctx.rows(Clock).filter(ended_at=None).exclude(subject=None).values_list("subject", flat=True))
    if len(busy) != len(set(busy)):
        said.append("two clocks run on one lot")
    whole = Occupancy.objects.filter(place__organisation=ctx.organisation, whole=True, firm=True)
    for one, other in itertools.pairwise(whole.order_by("place_id", "during")):
        if one.place_id == other.place_id and one.during.upper > other.during.lower:
            said.append(f"place {one.place_id} is taken twice: {one.during} and {other.during}")
    planned_tasks = ctx.rows(Task).exclude(key="").values_list("subject", "stage", "key")
    if len(planned_tasks) != len(set(planned_tasks)):
        said.append("a planned task is there twice")
    held = set[int]().union(*(reach_of(one).lots for one in open_holds(ctx)))
    told = set(ctx.rows(Lot).exclude(on_hold="").values_list("pk", flat=True))
    if held != told:
        said.append(f"lots {sorted(held)} are on hold, and {sorted(told)} say so")
    return said + [f"batch {batch.code}: {fault}" for batch in ctx.rows(Batch) for fault in _faults(batch)]


def _faults(batch: Batch) -> list[str]:
    """What cannot be so of one batch."""
    begun = [s for s in batch.stages.order_by("order") if s.actual_start is not None]
    said = [
        f"{s.name} ended before it began" for s in begun if s.actual_end is not None and s.actual_end < s.actual_start
    ]
    if not 0 <= batch.planned_chance <= 1 or batch.expected < -1e-6:
        said.append(f"chance {batch.planned_chance}, expected {batch.expected}")
    if batch.state == Batch.State.PLANNED and begun:
        said.append("planned, and has begun")
    return said
