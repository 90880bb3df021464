"""Jobs: what runs, how far it is, and stopping it; everybody of a house sees the same."""

from datetime import datetime, timedelta
from typing import Any, Literal
from uuid import UUID

from django.db.models import Q
from django.utils import timezone
from ninja import Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.models import Role
from aldrip.accounts.routes import Room
from aldrip.base.schemas import Done
from aldrip.base.words import who
from aldrip.jobs import services
from aldrip.jobs.models import Job

room = Room("jobs")

SHOWN_FOR = timedelta(minutes=10)  # after a job has ended


class JobOut(Schema):
    id: int
    uuid: UUID
    kind: str
    title: str
    state: Literal["waiting", "running", "done", "failed", "cancelled"]
    words: str
    done: int
    total: int
    by: str
    made_at: datetime
    may_stop: bool
    result: dict[str, Any] | None


@room.get("/jobs", "see", response=list[JobOut])
def jobs(ctx: Ctx) -> Any:
    """What runs or waits, and what ended a little while ago; the newest first."""
    lately = Q(state__in=services.RUNS) | Q(ended_at__gte=timezone.now() - SHOWN_FOR)
    return [_out(ctx, one) for one in ctx.rows(Job).filter(lately).select_related("by").order_by("-id")[:20]]


@room.post("/jobs/{ref:job_id}/stop", "see", response=Done)
def stop(ctx: Ctx, job_id: Ref) -> Any:
    """Ask a job to stop; what it did so far stands whole."""
    found = services.cancel(ctx, job_id)
    return {"id": found.pk, "message": "It stops."}


def _out(ctx: Ctx, one: Job) -> dict[str, Any]:
    mine = ctx.user is not None and one.by_id == ctx.user.pk
    return {
        "id": one.pk,
        "uuid": one.uuid,
        "kind": one.kind,
        "title": one.title,
        "state": one.state,
        "words": "Stops after this step." if one.cancel_asked and one.state == Job.State.RUNNING else one.words,
        "done": one.done,
        "total": one.total,
        "by": who(one.by),
        "made_at": ctx.local(one.made_at),
        "result": one.result,
        "may_stop": one.state in services.RUNS and (mine or ctx.role == Role.MANAGER),
    }
