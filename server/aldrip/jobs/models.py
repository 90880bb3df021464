"""Long work: what runs outside of a request, how far it is, and how it ended."""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Known


class Job(Known):
    """One piece of long work. Its queue is the library's; this row is what people see and what survives a crash.

    `result` is written in the transaction of the work itself, so a job that has one has done it, whatever happened next.
    """

    class State(models.TextChoices):
        WAITING = "waiting", "waits its turn"
        RUNNING = "running", "runs"
        DONE = "done", "done"
        FAILED = "failed", "failed"
        CANCELLED = "cancelled", "cancelled"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="jobs")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    role = models.CharField(max_length=12)
    under = models.CharField(max_length=40, blank=True)  # the permission by which it was started
    kind = models.CharField(max_length=40)
    arguments = models.JSONField(default=dict)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    title = models.CharField(max_length=200)
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    words = models.CharField(max_length=300, blank=True)  # what it does now, or how it ended
    result = models.JSONField(null=True)
    cancel_asked = models.BooleanField(default=False)
    tries = models.PositiveSmallIntegerField(default=0)
    made_at = models.DateTimeField(auto_now_add=True)
    beat_at = models.DateTimeField(null=True)  # when it last said that it lives
    ended_at = models.DateTimeField(null=True)

    class Meta:
        # What runs in a house is asked for every few seconds.
        indexes = [models.Index(fields=["organisation", "state"], name="job_of_house_by_state")]

    def __str__(self) -> str:
        return self.title
