"""What the weeks ahead take: seed, trays and pots, mixes and their parts, labels, what is used on plants, benches, hours."""

import csv
import io
import math
from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from typing import Any

from aldrip.accounts.context import Ctx
from aldrip.base.errors import refuse
from aldrip.base.importing import neutral
from aldrip.base.workbook import workbook
from aldrip.batches.forecasting import load_many
from aldrip.batches.models import Batch, BatchStage, Occupancy
from aldrip.batches.saved import Saved
from aldrip.diary.models import Task
from aldrip.methods.models import Input, Mix
from aldrip.methods.resolver import Library
from aldrip.places.climate import climate_of
from aldrip.places.models import Kind, Place
from aldrip_core.media import media
from aldrip_core.place_kinds import PLACE_KINDS
from aldrip_core.requirements import WEEK, ByWeek, Need, by_week, monday, weeks_from
from aldrip_core.units import Unit, unit
from aldrip_core.water_need import FULL, mm_between

MOST_WEEKS = 52
LONGEST_DAYS = 1000
TO_COME = (Batch.State.PLANNED, Batch.State.SOWN, Batch.State.READY)


def ahead(ctx: Ctx, weeks: int) -> tuple[date, tuple[ByWeek, ...]]:
    """The first Monday, and every thing by week. What should have begun already counts in the first week.

    A fixed number of queries. Raises Refused.
    """
    if not 1 <= weeks <= MOST_WEEKS:
        raise refuse("weeks", "out_of_range", f"{weeks} weeks cannot be shown; 1 to {MOST_WEEKS}.")
    first = monday(ctx.today)
    needs = [*_of_batches(ctx, first, weeks), *_of_tasks(ctx), *_of_places(ctx, first, weeks)]
    order = (
        "Seed",
        "Begun with",
        "Trays and pots",
        "Mix",
        "Parts of mixes",
        "Labels",
        "Used",
        "Water",
        "Benches",
        "Work",
    )
    return first, by_week(sorted(needs, key=lambda one: order.index(one.kind)), first=first, weeks=weeks)


def _of_batches(ctx: Ctx, first: date, weeks: int) -> Iterator[Need]:
    """What is begun or moved into other containers, of all stages that have not begun."""
    until = first + weeks * WEEK
    coming = BatchStage.objects.filter(actual_start=None, planned__startswith__lt=until)
    rows = ctx.rows(Batch).filter(state__in=TO_COME, pk__in=coming.values("batch"))
    loaded = load_many(ctx, rows.values_list("pk", flat=True))
    names = dict(Library(ctx).rows(Input).values_list("slug", "name"))
    lines = dict(rows.values_list("pk", "line__name"))
    for pk, one in loaded.items():
        saved = one.saved
        if saved.batch.state == Batch.State.PLANNED:
            yield from _begun(saved, lines[pk] or "", names)
        yield from _moved(saved, names)


def _begun(saved: Saved, cultivar: str, names: Mapping[str, str]) -> Iterator[Need]:
    batch, root = saved.batch, saved.method.root
    on = saved.first.planned.lower
    name = f"{batch.crop.name} {cultivar}".strip()
    if batch.seed_g is not None:
        yield Need("Seed", name, "g", batch.seed_g, on)
    elif saved.method.by_seed and batch.seeds is not None:
        yield Need("Seed", name, "seeds", batch.seeds, on)
    elif (
        not saved.method.by_seed and saved.method.start_unit is not Unit.SQUARE_METRE
    ):  # land is neither bought nor filled
        counted = f"{root.takes.value}s" if root.joins and root.takes else saved.method.start_unit.words
        yield Need("Begun with", name, counted, float(batch.start), on)
        if root.joins is not None:
            of = root.joins_crop.replace("-", " ").capitalize() or batch.crop.name
            yield Need("Begun with", f"{of} to graft on", f"{root.joins.value}s", float(batch.start), on)
    container = batch.container
    if container is None or not batch.trays:
        return
    yield Need("Trays and pots", container.name, "pieces", float(batch.trays), on)
    yield Need("Labels", "A label a tray", "pieces", float(batch.trays), on)
    if batch.mix is None or root.kind == "lay":
        return
    filled = batch.start / container.cells if container.cells > 1 else float(batch.trays)
    mix = media(
        parts=batch.mix.parts,
        trays=min(filled, float(batch.trays)),
        cells_per_tray=container.cells,
        cell_ml=container.cell_ml,
        settling=batch.mix.settling,
        spillage=batch.mix.spillage,
    )
    yield Need("Mix", batch.mix.name, "L", mix.litres, on)
    for part, litres in mix.by_part.items():
        yield Need("Parts of mixes", part, "L", litres, on)
    yield from _mixed_in(batch.mix, mix.litres, on, names)


def _mixed_in(mix: Mix, litres: float, on: date, names: Mapping[str, str]) -> Iterator[Need]:
    for one in mix.amendments:
        yield Need("Parts of mixes", names.get(one["input"], one["input"]), "kg", litres * one["kg_per_m3"] / 1000, on)


def _moved(saved: Saved, names: Mapping[str, str]) -> Iterator[Need]:
    """What is pricked on or potted later: the new containers, and the mix in them by the mix the batch begins in."""
    mix = saved.batch.mix
    for spec in saved.method.stages:
        stage = saved.stages[spec.key]
        if spec.after is None or spec.container is None or stage.actual_start is not None:
            continue
        into, on = saved.stages[spec.after].out * spec.share, stage.planned.lower
        pieces = math.ceil(into / spec.container.cells)
        yield Need("Trays and pots", spec.container.name, "pieces", pieces, on)
        if mix is None or not spec.container.cell_ml:
            continue
        litres = into * spec.container.cell_ml / 1000 * (1 + mix.settling + mix.spillage)
        yield Need("Mix", mix.name, "L", litres, on)
        for part, share in media(parts=mix.parts, litres=litres).by_part.items():
            yield Need("Parts of mixes", part, "L", share, on)
        yield from _mixed_in(mix, litres, on, names)


def _of_tasks(ctx: Ctx) -> Iterator[Need]:
    undone = ctx.rows(Task).filter(state__in=(Task.State.TODO, Task.State.PARTLY))
    undone = undone.exclude(every__gt=0, due_to__lte=ctx.today)  # the next one of it is planned already
    for task in undone.only("due_from", "waits", "minutes", "input", "uses", "organisation_id"):
        if task.minutes:
            yield Need("Work", "Tasks that are planned", "h", task.minutes / 60, task.due_now)
        if task.input:
            yield Need("Used", task.uses.split(",")[0].split(":")[0], "times", 1.0, task.due_now)


def _of_places(ctx: Ctx, first: date, weeks: int) -> Iterator[Need]:
    """Square metres, beds or trays that stand for a week, by kind of place."""
    places = {place.pk: place for place in ctx.rows(Place).select_related("site")}
    rows = Occupancy.objects.filter(place__in=list(places), during__overlap=(first, first + weeks * WEEK))
    for pk, during, amount in rows.values_list("place_id", "during", "amount"):
        place, days = places[pk], (during.upper - during.lower).days
        kind = PLACE_KINDS.get(place.kind, place.kind)
        if unit(place.unit) is Unit.SQUARE_METRE and days <= LONGEST_DAYS and place.kind != Kind.FIELD:
            # Fields are rained on: what is given there is for whoever looks at the sky.
            litres = amount * FULL * mm_between(climate_of(place), during.lower, during.upper)
            if litres > 0:
                yield Need("Water", kind, "L", litres, during.lower, during.upper)
        what = f"{kind}, mean of the week"
        yield Need("Benches", what, unit(place.unit).words, amount * days / 7, during.lower, during.upper)


HEADINGS = ("kind", "what", "unit")


def cells(first: date, rows: Sequence[ByWeek]) -> list[list[Any]]:
    """The table with its headings: a column a week, headed by its Monday."""
    mondays = weeks_from(first, len(rows[0].amounts) if rows else 0)
    table: list[list[Any]] = [[*HEADINGS, *mondays, "in all"]]
    for row in rows:
        table.append(
            [row.kind, neutral(row.what), row.unit, *(round(one, 1) for one in row.amounts), round(row.total, 1)]
        )
    return table


def exported(first: date, rows: Sequence[ByWeek]) -> str:
    """The table as CSV."""
    out = io.StringIO()
    csv.writer(out).writerows(cells(first, rows))
    return out.getvalue()


def as_workbook(first: date, rows: Sequence[ByWeek]) -> bytes:
    """The table as a workbook."""
    return workbook("By week", cells(first, rows), widths=(16, 34, 10), freeze="D2")
