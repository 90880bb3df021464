"""Where a stage of a batch stands, may stand, and how full that place would be."""

from dataclasses import dataclass, replace
from datetime import timedelta

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.errors import refuse
from aldrip.base.words import share
from aldrip.batches.ground import Ground
from aldrip.batches.saved import Saved, load_batch, request_of
from aldrip.places.models import Place
from aldrip_core.batch_plan import Request, Stand, plan_batch
from aldrip_core.ground import CouldStand, could_stand
from aldrip_core.stages import Density, StageSpec
from aldrip_core.units import Dimension, unit


def named_stage(request: Request, key: str | None, words: str) -> StageSpec:
    """A stage by its key. Raises Refused with these words where there is none."""
    if key is None or key not in request.method.by_key:
        raise refuse("stage", "missing", words)
    return request.method.by_key[key]


def stood_elsewhere(
    ctx: Ctx, saved: Saved, request: Request, stage: StageSpec, split: tuple[tuple[int, float], ...]
) -> Request:
    """A request with a stage in other places, each with its share. Raises Refused."""
    row = saved.stages[stage.key]
    if row.actual_end is not None:
        raise refuse("stage", "happened", f"“{stage.name}” of {saved.batch.code} is over; where it stood stays.")
    places = [ctx.get(Place, pk) for pk, _ in split]
    if len({place.pk for place in places}) != len(places) or any(not part > 0 for _, part in split):
        raise refuse("split", "out_of_range", "Name each place once, with a share above nothing.")
    for place in places:
        check_place(place, stage)
    stands = tuple(Stand(pk, part) for pk, part in split)
    if row.actual_start is not None:
        return replace(request, places={**request.places, stage.key: stands}, moves_today=stage.key)
    moved = {stage.key: stands}
    if any(place.sharing == "whole" for place in places):  # the crop cannot leave its field half-way
        moved = {s.key: stands for s in request.method.stages if s.place_kind == stage.place_kind}
    return replace(request, places={**request.places, **moved})


def check_place(place: Place, stage: StageSpec) -> None:
    """Refuse a place that is closed, or that measures something else than a stage takes up."""
    if not place.active:
        raise refuse("place_id", "closed", f"{place.name} is closed. Choose another place, or open it in Places.")
    if place.capacity is None or not stage.density or place.sharing == "whole":
        return
    if unit(place.unit).dimension is Dimension.TRAYS and stage.density is Density.UNIT_M2:
        raise refuse(
            "place_id",
            "other_unit",
            f"{place.name} is measured in trays, and what “{stage.name}” takes up is not in trays. Choose a place in m².",
        )


@dataclass(frozen=True)
class Offer:
    """A place for a stage: how full it would be at most over those days, and that in words."""

    place_id: int
    name: str
    kind: str
    of_kind: bool
    share: float
    words: str


def offers(ctx: Ctx, batch_id: Ref, stage_key: str, shift_days: int = 0) -> list[Offer]:
    """Every open place that can take a stage, with how full it would be if the stage stood there on these days.

    Another place may be warmer and the stage shorter there; the proposal reckons that.
    """
    saved = load_batch(ctx, batch_id, light=True)
    ground = Ground(ctx, without=[saved.batch.pk])
    plan = plan_batch(request_of(saved, ground.stood), ground, working=False)
    stage = next((one for one in plan.stages if one.spec.key == stage_key), None)
    if stage is None:
        raise refuse("stage", "missing", f"Batch {saved.batch.code} has no such stage.")
    start, end = (day + timedelta(days=shift_days) for day in (stage.dates.start, stage.dates.end))
    start = max(start, min(ground.today, end - timedelta(days=1)))  # what has stood where it stands stays
    found = could_stand(ground, stage.spec.place_kind, start, end, stage.takes, stage.spec.density)
    return [
        Offer(
            one.lane.place.key,
            one.lane.place.name,
            one.lane.place.kind,
            one.lane.place.kind == stage.spec.place_kind,
            round(one.share, 4),
            _words(one),
        )
        for one in found
    ]


def _words(one: CouldStand) -> str:
    """How full, as a label says it."""
    if one.taken:
        return "taken on these days"
    over = (one.share - 1) * (one.lane.usable or 0.0)
    if over > 0.5:
        return f"over by {over:,.0f} {one.lane.place.unit.words}"
    return f"would be {share(one.share)} full" if one.share >= 0.005 else "would be under 1 % full"
