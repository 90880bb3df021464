"""Start, run and cancel long work. Rooms say by `job` what can be run; nothing here knows what it is."""

import logging
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.models import Role
from aldrip.base.errors import Forbidden, Refused, ServiceError, refuse
from aldrip.jobs.models import Job

log = logging.getLogger("aldrip.jobs")

MOST_TRIES = 3  # a job that ends its worker so often is not tried again
SILENT = timedelta(seconds=30)  # after which a job whose worker died is taken up again
FORGOTTEN = timedelta(minutes=5)  # after which one that waits is put into the queue once more; twice there it runs once
RUNS = (Job.State.WAITING, Job.State.RUNNING)


class Cancelled(Exception):
    """Somebody asked it to stop; what it did until then is whole."""


@dataclass
class Progress:
    """How a job says how far it is, between its acts; raises Cancelled once somebody asked it to stop."""

    job_id: int

    def __call__(self, done: int, total: int, words: str) -> None:
        Job.objects.filter(pk=self.job_id).update(done=done, total=total, words=words[:300], beat_at=timezone.now())
        if Job.objects.filter(pk=self.job_id, cancel_asked=True).exists():
            raise Cancelled

    def keep(self, result: Mapping[str, Any]) -> None:
        """Write what the work gave. Call inside the transaction of the work, so that it is done once or not at all."""
        Job.objects.filter(pk=self.job_id).update(result=dict(result))

    @property
    def kept(self) -> dict[str, Any] | None:
        """What the work gave when it ran before its worker died."""
        return Job.objects.values_list("result", flat=True).get(pk=self.job_id)


Work = Callable[[Ctx, Progress, dict[str, Any]], str]
KINDS: dict[str, Work] = {}


def job(kind: str) -> Callable[[Work], Work]:
    """Let a function be run as a job of this kind; it returns how it ended, in words."""

    def known(work: Work) -> Work:
        KINDS[kind] = work
        return work

    return known


def start(ctx: Ctx, kind: str, title: str, arguments: Mapping[str, Any], *, total: int = 0) -> Job:
    """Put work into the queue. It is there once the caller's transaction is."""
    from aldrip.jobs.tasks import run_job

    with transaction.atomic():
        made = Job.objects.create(
            organisation=ctx.organisation,
            by=ctx.user,
            role=ctx.role,
            under=ctx.under,
            kind=kind,
            arguments=dict(arguments),
            title=title[:200],
            total=total,
            words="Waits its turn.",
            beat_at=timezone.now(),
        )
        run_job.defer(job_id=made.pk)
    return made


def cancel(ctx: Ctx, job_id: Ref) -> Job:
    """Ask a job to stop. What it did so far stands whole; the person who started it or a manager may. Raises Refused."""
    with transaction.atomic():
        found = ctx.get(Job, job_id, lock=True)
        if ctx.role != Role.MANAGER and (ctx.user is None or found.by_id != ctx.user.pk):
            raise Forbidden("Somebody else started this. Ask a manager to stop it.")
        if found.state not in RUNS:
            raise refuse("state", "ended", f"“{found.title}” has ended already: {found.get_state_display()}.")
        found.cancel_asked = True
        if found.state == Job.State.WAITING:
            _end(found, Job.State.CANCELLED, "Stopped before it began; nothing was changed.")
        found.save()
    return found


def run(job_id: int) -> None:
    """Run a job to its end, in the worker. Never raises for what the work refuses: how it ended is in the row."""
    with transaction.atomic():
        found = (
            Job.objects.select_for_update(of=("self",)).select_related("organisation", "by").filter(pk=job_id).first()
        )
        if found is None or found.state not in RUNS:
            return
        if found.tries >= MOST_TRIES:
            _end(
                found,
                Job.State.FAILED,
                f"Its worker ended {found.tries} times. What it had done until then is whole; start it again.",
            )
            return
        found.state, found.tries, found.beat_at = Job.State.RUNNING, found.tries + 1, timezone.now()
        found.save(update_fields=["state", "tries", "beat_at"])
    ctx = Ctx(found.organisation, found.by, found.role, under=found.under)
    try:
        words = KINDS[found.kind](ctx, Progress(found.pk), found.arguments)
    except Cancelled:
        found.refresh_from_db()
        _end(found, Job.State.CANCELLED, f"Stopped. {found.words}")
    except (Refused, ServiceError) as error:
        found.refresh_from_db()
        told = error.errors[0].message if isinstance(error, Refused) else error.message
        _end(found, Job.State.FAILED, told)
    except Exception:
        log.exception("job %s of kind %s failed", found.pk, found.kind)
        found.refresh_from_db()
        _end(found, Job.State.FAILED, "Something failed here. What it had done until then is whole; start it again.")
    else:
        found.refresh_from_db()
        _end(found, Job.State.DONE, words)


def _end(found: Job, state: Job.State, words: str) -> None:
    found.state, found.words, found.ended_at, found.arguments = state, words[:300], timezone.now(), {}
    if state == Job.State.DONE:
        found.done = found.total
    found.save()


def take_up_again() -> int:
    """Put jobs back into the queue whose worker died in the middle; how many there were."""
    from aldrip.jobs.tasks import run_job

    now = timezone.now()
    silent = Job.objects.filter(
        Q(state=Job.State.RUNNING, beat_at__lt=now - SILENT) | Q(state=Job.State.WAITING, beat_at__lt=now - FORGOTTEN)
    )
    waiting = list(silent.values_list("pk", flat=True))
    for pk in waiting:
        with transaction.atomic():
            if silent.filter(pk=pk).update(beat_at=timezone.now()):
                run_job.defer(job_id=pk)
    return len(waiting)
