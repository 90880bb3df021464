"""Feed and water of a batch: its dressings by day, what is mixed into its medium, what it drinks stage by stage."""

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.schemas import steps
from aldrip.base.words import grams, number
from aldrip.batches.saved import Saved, dates_of, load_batch, snapshot_of
from aldrip.diary.models import Task
from aldrip.methods.models import Input
from aldrip.methods.resolver import Library
from aldrip.methods.snapshot import first_container
from aldrip.places.climate import climate_of
from aldrip_core.dressing import amended, dressing
from aldrip_core.stages import Allowed, ContainerSpec, Density, StageSpec, TaskSpec
from aldrip_core.units import Unit
from aldrip_core.water_need import water_need
from aldrip_core.whole import ceil_whole, floor_whole

LONGEST = timedelta(days=1000)
NEEDS = ("mm_a_day", "litres_a_day", "times_a_week", "litres_a_time", "litres")


def ground_of(saved: Saved, spec: StageSpec) -> float | None:
    """Ground that each takes in a stage [m²]: its own, its share of what it stands in, or itself where it is ground."""
    if spec.unit is Unit.SQUARE_METRE:
        return 1.0
    if spec.density is Density.UNIT_M2:
        return spec.unit_m2 or None
    container = holder_of(saved, spec) or first_container(snapshot_of(saved.batch))
    if spec.density is Density.TRAY_M2 and container is not None:
        return container.area_m2 / container.cells
    return None


def into(saved: Saved, spec: StageSpec) -> int:
    """How many come into a stage as it stands now, whole."""
    many = saved.stages[spec.after].out * spec.share if spec.after else float(saved.batch.start)
    return floor_whole(many)


def holder_of(saved: Saved, spec: StageSpec) -> ContainerSpec | None:
    """What plants were set into last, in a stage or before it; None where they stand in what they were sown in."""
    holder: StageSpec | None = spec
    while holder is not None and holder.container is None:
        holder = saved.method.by_key[holder.after] if holder.after else None
    return holder.container if holder else None


def mixed_in(ctx: Ctx, mix: Mapping[str, Any] | None, litres: float) -> list[dict[str, Any]]:
    """What is mixed into so much of a mix, as it is shown on cards."""
    rows = (mix or {}).get("amendments") or []
    if not rows or not litres:
        return []
    inputs = {one.slug: one for one in Library(ctx).rows(Input).filter(slug__in=[row["input"] for row in rows])}
    found = []
    for row in rows:
        product = inputs.get(row["input"])
        much = amended(
            litres=litres, kg_per_m3=row["kg_per_m3"], contains=product.contains if product is not None else {}
        )
        holds = ", ".join(f"{mg:.0f} mg {element}" for element, mg in much.mg_per_l.items())
        banned = product is not None and product.allowed == Allowed.BANNED.value
        found.append(
            {
                "name": f"{product.name if product else row['input']}, {row['kg_per_m3']:g} kg/m³",
                "words": grams(much.grams),
                "note": "banned in this house: leave it out" if banned else f"{holds} a litre" if holds else "",
            }
        )
    return found


def dressings_of(ctx: Ctx, batch_id: Ref) -> list[dict[str, Any]]:
    """Work of a batch that gives so much of a feed to each plant, pot or square metre, by day."""
    saved = load_batch(ctx, batch_id)
    specs = {
        (spec.key, task.key): (spec, task)
        for spec in saved.method.stages
        for task in spec.tasks
        if task.uses is not None and task.per == "unit" and task.amount is not None and task.amount.unit.is_mass
    }
    if not specs:
        return []
    wanted = [task.uses.slug for _, task in specs.values() if task.uses]
    inputs = {one.slug: one for one in Library(ctx).rows(Input).filter(slug__in=wanted, kind=Input.Kind.FEED)}
    found = []
    for row in ctx.rows(Task).filter(subject=saved.batch.uuid).order_by("due_from", "pk"):
        key = (row.stage, row.key.split(".")[0])  # what comes again is known by its number too
        spec, task = specs.get(key, (None, None))
        product = inputs.get(task.uses.slug) if task is not None and task.uses is not None else None
        if spec is None or task is None or product is None:
            continue
        many = into(saved, spec)
        if many:  # of what is lost nothing is fed
            found.append(_dressing(saved, row, spec, task, product, many))
    return found


def _dressing(saved: Saved, row: Task, spec: StageSpec, task: TaskSpec, product: Input, many: int) -> dict[str, Any]:
    assert task.amount is not None
    each = float(task.amount.shown) * float(task.amount.unit.value.factor / Unit.GRAM.value.factor)
    made = dressing(
        grams_each=each,
        many=float(many),
        ground_m2=ground_of(saved, spec),
        contains=product.contains,
    )
    nutrients = ", ".join(f"{number(kg, 1)} {name}" for name, kg in made.nutrients_kg_per_ha.items())
    return {
        "task_id": row.pk,
        "on": row.due_now,
        "words": row.title,
        "product": product.name,
        "each_words": f"{task.amount.words()} a {spec.unit.words.removesuffix('s')}",
        "kg": made.kg,
        "kg_per_ha": made.kg_per_ha,
        "nutrients_words": f"{nutrients} kg/ha" if nutrients else "",
        "done": row.state == Task.State.DONE,
        "working": steps(made.working),
    }


def water_of(ctx: Ctx, batch_id: Ref) -> list[dict[str, Any]]:
    """What a batch drinks, stage by stage where it stands in the light."""
    saved = load_batch(ctx, batch_id)
    dates, found = dates_of(saved), []
    for spec in saved.method.stages:
        stage, when, each = saved.stages[spec.key], dates[spec.key], ground_of(saved, spec)
        if stage.place is None or each is None:
            continue
        many = into(saved, spec)
        own = holder_of(saved, spec)
        cell = own or first_container(snapshot_of(saved.batch))
        m2 = many * each
        if cell is not None and spec.density is Density.TRAY_M2:  # the whole tray is wet, its empty cells too
            m2 = (ceil_whole(many / cell.cells) if own else saved.batch.trays or 0) * cell.area_m2
        need = water_need(
            climate=climate_of(stage.place),
            start=when.start,
            end=min(when.end, when.start + LONGEST),
            area_m2=m2,
            kind=spec.kind,
            each_ml=cell.cell_ml if cell is not None else None,
            each_m2=each if cell is not None else None,
        )
        if need is not None:
            found.append(
                {
                    "stage": spec.key,
                    "name": spec.name,
                    "place": stage.place.name,
                    "start": when.start,
                    "end": when.end,
                    "m2": m2,
                    **{name: getattr(need, name) for name in NEEDS},
                    "working": steps(need.working),
                }
            )
    return found
