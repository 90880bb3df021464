"""Cards of what is done at the bench after sowing: pricking out, potting, spacing, thinning."""

import math
from collections.abc import Iterator, Mapping
from datetime import date
from typing import Any

from django.db.models import Q

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import NotThere
from aldrip.base.schemas import steps
from aldrip.base.words import day, number
from aldrip.batches.containers import CHANGING
from aldrip.batches.many import saved_many
from aldrip.batches.models import Batch, BatchStage
from aldrip.batches.saved import Saved, dates_of, load_batch, snapshot_of
from aldrip.diary.models import Task
from aldrip.sowing.dressings import ground_of, into, mixed_in
from aldrip_core.media import media
from aldrip_core.sowing_chain import Link
from aldrip_core.stage_work import AT_THE_BENCH, stage_work
from aldrip_core.stages import Density, StageSpec

PLANTS = "plants"  # of the ways that a method may go


def has_card(spec: StageSpec) -> bool:
    """Whether what is done in a stage has a card of its own."""
    kinds = {spec.kind, *(task.kind for task in spec.tasks)}
    return spec.after is not None and (spec.container is not None or bool(kinds & AT_THE_BENCH))


def coming(ctx: Ctx, before: date) -> Iterator[dict[str, Any]]:
    """Work at the bench that begins before a day and has not begun, by day. A fixed number of queries."""
    stages = BatchStage.objects.filter(actual_start=None, planned__startswith__lt=before).exclude(order=0)
    tasks = ctx.rows(Task).filter(kind__in=AT_THE_BENCH, state=Task.State.TODO)
    # Only batches that may have a card are read whole.
    may = Q(pk__in=stages.filter(kind__in=AT_THE_BENCH).values("batch")) | Q(uuid__in=tasks.values("subject"))
    live = ctx.rows(Batch).filter(state__in=(Batch.State.PLANNED, Batch.State.SOWN), pk__in=stages.values("batch"))
    rows = live.annotate(changing=CHANGING).filter(may | ~Q(changing=[]))
    found = []
    for pk, saved in saved_many(ctx, rows).items():
        if saved.method.way != PLANTS:
            continue
        for spec in saved.method.stages:
            stage = saved.stages[spec.key]
            if not has_card(spec) or stage.actual_start is not None or stage.planned.lower >= before:
                continue
            batch, many = saved.batch, into(saved, spec)
            found.append((stage.planned.lower, pk, spec.key, batch.uuid, batch.code, batch.crop.name, spec.name, many))
    for on, pk, key, uuid, code, crop, name, many in sorted(found):
        yield {
            "batch_id": pk,
            "batch_uuid": uuid,
            "code": code,
            "crop": crop,
            "stage": key,
            "name": name,
            "on": on,
            "many": many,
        }


def card_of(ctx: Ctx, batch_id: Ref, key: str) -> dict[str, Any]:
    """The facts of a stage's card, figures and words. Raises NotThere."""
    saved = load_batch(ctx, batch_id)
    spec = saved.method.by_key.get(key)
    if spec is None or not has_card(spec) or spec.after is None:
        raise NotThere("That stage has no card: nothing is set or spaced in it.")
    batch, snapshot = saved.batch, snapshot_of(saved.batch)
    stage, before, dates, mix = saved.stages[key], saved.stages[spec.after], dates_of(saved), snapshot["mix"]
    tasks = list(ctx.rows(Task).filter(subject=batch.uuid, stage=key, every=0).order_by("pk"))
    links = _figures(saved, spec, mix, sum(task.minutes or 0 for task in tasks))
    litres = next((one.value for one in links if one.key == "litres"), 0.0)
    parts = media(parts=mix["parts"], litres=litres).by_part if mix and litres else {}
    amended = mixed_in(ctx, mix, litres)
    return {
        "batch_id": batch.pk,
        "code": batch.code,
        "organisation": ctx.organisation.name,
        "stage": key,
        "name": spec.name,
        "title": tasks[0].title if tasks else f"{batch.crop.name}: {spec.name.lower()}",
        "crop": batch.crop.name,
        "cultivar": batch.line.name if batch.line else "",
        "on": dates[key].start,
        "day_words": day(dates[key].start),
        "done": stage.actual_start is not None,
        "from_place": before.place.name if before.place else "",
        "place": stage.place.name if stage.place else "",
        "container": spec.container.name if spec.container else "",
        "apart_words": _apart(spec),
        "mix": mix["name"] if parts else "",
        "litres_words": number(litres, 1) if parts else "",
        "parts": [{"name": name, "litres": much} for name, much in parts.items()],
        "mixed_in": amended,
        "figures": [
            {
                **{name: getattr(one, name) for name in ("key", "label", "value", "unit", "note")},
                "working": steps(one.working),
            }
            for one in links
        ],
        "work": [
            {
                "words": task.title,
                "minutes": task.minutes,
                "uses": task.uses,
                "part": task.part_of_day,
            }
            for task in tasks
        ],
        "next": [
            {
                "words": f"{saved.stages[one.key].place or 'no place yet'}: {one.name.lower()}",
                "day_words": day(dates[one.key].start),
                "start": dates[one.key].start,
            }
            for one in saved.method.stages
            if one.after == key
        ],
        "watch_for": snapshot["crop"]["watch_for"],
        "cautions": _cautions(snapshot, tasks, bool(parts)),
    }


def _figures(saved: Saved, spec: StageSpec, mix: Mapping[str, Any] | None, minutes: float) -> tuple[Link, ...]:
    many = into(saved, spec)
    if not many:
        return ()
    return stage_work(
        plants=float(many),
        cells=spec.container.cells if spec.container else None,
        cell_ml=spec.container.cell_ml if spec.container and mix else 0.0,
        extra=mix["settling"] + mix["spillage"] if mix else 0.0,
        ground_m2=ground_of(saved, spec),
        minutes=minutes,
    )


def _apart(spec: StageSpec) -> str:
    """How far apart in a square, where each takes ground of its own."""
    if spec.density is not Density.UNIT_M2 or not spec.unit_m2:
        return ""
    return f"{math.sqrt(spec.unit_m2) * 100:.0f} cm from middle to middle"


def _cautions(snapshot: Mapping[str, Any], tasks: list[Task], mixed: bool) -> list[str]:
    found = [task.caution for task in tasks if task.caution]
    found += snapshot["crop"]["cautions"]
    if mixed:
        found += snapshot["mix"]["cautions"]
    return list(dict.fromkeys(found))
