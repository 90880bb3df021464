"""Levelling a span of the season: started as a job, read when it is done, taken through the bar like any change."""

from datetime import date
from typing import Any, Literal

from ninja import Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import NotThere
from aldrip.base.schemas import Done
from aldrip.base.words import day
from aldrip.batches import levelling
from aldrip.batches.models import Batch
from aldrip.batches.schemas import PlaceShareIn
from aldrip.jobs import services as jobs
from aldrip.jobs.models import Job

room = Room("batches")


class LevelIn(Schema):
    start: date
    end: date


class MoveOut(Schema):
    """A batch that would be moved. `stale`: it was saved since, so that this says nothing about it any more."""

    batch_id: int
    code: str
    crop: str
    sow_on: date | None
    stage: str | None
    place_id: int | None
    split: list[PlaceShareIn] = []
    days: int
    words: str
    why: str
    stale: bool


class OverOfOut(Schema):
    """By how much a place is over at most and on how many days, and would be; `why` where it stays over."""

    place_id: int
    place: str
    unit: str
    was: float
    was_days: int
    now: float
    now_days: int
    now_from: date | None
    why: str


class LevelledOut(Schema):
    """`price` of what was found and of leaving everything (`before`), and the `bound` below which none can be."""

    id: int
    state: Literal["waiting", "running", "done", "failed", "cancelled"]
    words: str
    done: int
    total: int
    may_stop: bool
    sentence: str = ""
    start: date | None = None
    end: date | None = None
    looked_at: int = 0
    moves: list[MoveOut] = []
    places: list[OverOfOut] = []
    price: int = 0
    before: int = 0
    bound: int = 0
    proven: bool = False


@room.post("/levelling", "batches.plan", response=Done)
def start(ctx: Ctx, body: LevelIn) -> Any:
    """Start to look for better days and places over a span; nothing is moved."""
    first, last = levelling.read_span(ctx, body.start, body.end)
    title = f"Level {day(first)} to {day(last)}"
    made = jobs.start(ctx, "batches.level", title, {"start": first.isoformat(), "end": last.isoformat()})
    return {"id": made.pk, "message": f"{title}: it is looked for now. Nothing is moved before you say so."}


@room.get("/levelling/{ref:job_id}", "see", response=LevelledOut)
def levelled(ctx: Ctx, job_id: Ref) -> Any:
    """How far it is, and what was found."""
    found = ctx.get(Job, job_id)
    if found.kind != "batches.level":
        raise NotThere("There is no such levelling here.")
    told: dict[str, Any] = found.result or {}
    now = dict(
        ctx.rows(Batch).filter(pk__in=[m["batch_id"] for m in told.get("moves", [])]).values_list("pk", "version")
    )
    return {
        "id": found.pk,
        "state": found.state,
        "words": found.words,
        "done": found.done,
        "total": found.total,
        "may_stop": found.state in jobs.RUNS,
        **told,
        "moves": [{**move, "stale": now.get(move["batch_id"]) != move["version"]} for move in told.get("moves", [])],
    }


class PinIn(Schema):
    pinned: bool


@room.post("/batches/{ref:batch_id}/pin", "batches.plan", response=Done)
def pin(ctx: Ctx, batch_id: Ref, body: PinIn) -> Any:
    """Let levelling leave a batch where it stands, or move it again."""
    batch = levelling.pin(ctx, batch_id, body.pinned)
    return {"id": batch.pk, "message": f"{batch.code} is pinned." if batch.pinned else f"{batch.code} may be moved."}
