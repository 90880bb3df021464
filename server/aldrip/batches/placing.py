"""Planned batches that found no place of a kind, and their planning anew once there is one."""

from dataclasses import dataclass

from django.db.models import QuerySet

from aldrip.accounts.context import Ctx, act
from aldrip.base.words import plural
from aldrip.batches.editing import apply_plan
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch
from aldrip.batches.saved import load_batch, request_of
from aldrip.places.models import Place
from aldrip_core.batch_plan import plan_batch

MOST_AT_ONCE = 60


@dataclass(frozen=True)
class Homeless:
    """How many planned batches ask for a kind of place, and whether there is one by now."""

    kind: str
    batches: int
    there: bool


def _without_place(ctx: Ctx) -> QuerySet[Batch]:
    return ctx.rows(Batch).filter(state=Batch.State.PLANNED, problems__contains=[{"code": "no_place"}])


def homeless(ctx: Ctx) -> list[Homeless]:
    """Kinds of place that planned batches asked for in vain, the most wanted first."""
    wanting: dict[str, int] = {}
    for problems in _without_place(ctx).values_list("problems", flat=True):
        for kind in {one["kind"] for one in problems if one["code"] == "no_place"}:
            wanting[kind] = wanting.get(kind, 0) + 1
    there = set(ctx.rows(Place).filter(active=True).values_list("kind", flat=True)) if wanting else set()
    return [Homeless(kind, many, kind in there) for kind, many in sorted(wanting.items(), key=lambda one: -one[1])]


@act
def plan_again(ctx: Ctx) -> list[str]:
    """Plan those for which there is a place by now once more, with the days and quantities that they have.

    Returns their codes; at most so many at once, the first to be sown first.
    """
    there = {one.kind for one in homeless(ctx) if one.there}
    placed: list[Batch] = []
    for batch in _without_place(ctx).order_by("id"):
        if not {one["kind"] for one in batch.problems if one["code"] == "no_place"} & there:
            continue
        if len(placed) == MOST_AT_ONCE:
            break
        saved = load_batch(ctx, batch.pk, lock=True)
        ground = Ground(ctx, without=[batch.pk])
        apply_plan(ctx, saved, plan_batch(request_of(saved), ground, working=False))
        placed.append(saved.batch)
    if placed:
        codes = [one.code for one in placed]
        told = f"Gave {plural(len(codes), 'batch', 'batches')} the places that are there now."
        ctx.record("batch.place_again", told, after={"batches": codes})
    return [one.code for one in placed]
