"""Tasks and counts: what is to be done, and what was seen. A subject is a kind and an id."""

from datetime import date, timedelta
from typing import Any

from django.db import models
from django.db.models import ExpressionWrapper, F

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event, Known
from aldrip.places.models import Place


class Task(Known):
    """Something to do at a place within some days, and what was done. Planned ones are known by subject, stage and key."""

    class State(models.TextChoices):
        TODO = "todo", "to do"
        PARTLY = "partly", "partly done"
        DONE = "done", "done"
        NOT_DONE = "not_done", "not done"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="tasks")
    subject_kind = models.CharField(max_length=20, blank=True)
    subject = models.UUIDField(null=True)
    subject_code = models.CharField(max_length=20, blank=True)
    stage = models.CharField(max_length=40, blank=True)  # key of the subject's stage
    key = models.CharField(max_length=60, blank=True)  # which of the stage's tasks; empty for one's own
    at = models.CharField(max_length=10, blank=True)  # before, start, during or end of its stage
    kind = models.CharField(max_length=20)
    title = models.CharField(max_length=200)
    place = models.ForeignKey(Place, on_delete=models.SET_NULL, null=True, related_name="tasks")
    due_from = models.DateField()
    due_to = models.DateField()  # first day after
    #: Days by which it is later than planned because a step before it was not done in its time; reckoned, not recorded.
    waits = models.PositiveSmallIntegerField(default=0, db_default=0)
    #: Why it is held just now; the sheet says it, nothing keeps it.
    held: str = ""
    part_of_day = models.CharField(max_length=10, default="morning")
    #: Days after which it comes again; 0: it is done once. What was left of it is asked until the next one is, no longer.
    every = models.PositiveSmallIntegerField(default=0, db_default=0)
    quantity = models.FloatField(null=True)
    unit = models.CharField(max_length=30, blank=True)
    minutes = models.PositiveIntegerField(null=True)  # as planned
    minutes_spent = models.PositiveIntegerField(null=True)
    quantity_done = models.FloatField(null=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.TODO)
    caution = models.CharField(max_length=300, blank=True)
    input = models.CharField(max_length=80, blank=True)  # slug of what is used, in the library
    uses = models.CharField(max_length=200, blank=True)  # its name, and how much of it
    note = models.CharField(max_length=300, blank=True)
    done_at = models.DateTimeField(null=True)
    done_by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")

    @property
    def due_now(self) -> date:
        """The day on which it is due, reckoned from today."""
        return self.due_from + timedelta(days=self.waits)

    @property
    def late_from(self) -> date:
        """From this day on it is late where it is not done."""
        return self.due_to + timedelta(days=self.waits)

    class Meta:
        # The day sheet asks by day; a batch asks for its own tasks through planned_task_once.
        indexes = [
            models.Index(
                "organisation", F("due_from") + F("waits"), F("due_to") + F("waits"), name="task_by_the_day_it_is_due"
            ),
            models.Index(fields=["subject"], condition=models.Q(waits__gt=0), name="task_that_waits"),
        ]
        constraints = [
            models.UniqueConstraint(
                fields=["subject", "stage", "key"], condition=~models.Q(key=""), name="planned_task_once"
            ),
            models.CheckConstraint(condition=models.Q(due_to__gt=models.F("due_from")), name="task_has_a_day"),
        ]


#: What is still to do of earlier days. Care that comes again is asked anew by the next one.
OVERDUE = models.Q(state=Task.State.TODO, every=0)


def reckoned(rows: models.QuerySet[Task]) -> models.QuerySet[Any]:
    """Tasks with `begins` and `ends` (first day after): the planned days, later by what they wait for."""
    later = {"begins": F("due_from") + F("waits"), "ends": F("due_to") + F("waits")}
    return rows.annotate(
        **{name: ExpressionWrapper(day, output_field=models.DateField()) for name, day in later.items()}
    )


class Clock(Known):
    """Something that runs by the clock: its steps as they were when it was begun, and how it ended. Real time.

    Where it stands follows from its marks; nothing has to be kept running for it.
    """

    class Outcome(models.TextChoices):
        HELD = "held", "as it should be"
        STRAYED = "strayed", "not as it should be"
        BROKEN_OFF = "broken_off", "broken off"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="clocks")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    name = models.CharField(max_length=120)
    subject_kind = models.CharField(max_length=20, blank=True)
    subject = models.UUIDField(null=True)
    subject_code = models.CharField(max_length=20, blank=True)
    treatment = models.CharField(max_length=80, blank=True)  # slug of it in the library
    of = models.CharField(max_length=80, blank=True)  # how much of what, in words
    uses = models.CharField(max_length=200, blank=True)  # product, the label's rate, and what it comes to
    steps = models.JSONField()  # [{name, minutes, at_c, give_c, over_minutes, caution}]
    use_within_h = models.FloatField(null=True)
    begun_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)
    outcome = models.CharField(max_length=10, blank=True, choices=Outcome.choices)
    note = models.CharField(max_length=300, blank=True)

    class Meta:
        indexes = [
            models.Index(fields=["organisation"], condition=models.Q(ended_at=None), name="clocks_that_run"),
            models.Index(fields=["subject"]),
        ]

    def __str__(self) -> str:
        return self.name


class ClockMark(Event):
    """What happened to a clock, at a moment of real time: a step was begun, a warmth was read [°C], all of it ended."""

    class Kind(models.TextChoices):
        BEGUN = "begun", "begun"
        READ = "read", "read"
        ENDED = "ended", "ended"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="clock_marks")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    clock = models.ForeignKey(Clock, on_delete=models.CASCADE, related_name="marks")
    kind = models.CharField(max_length=5, choices=Kind.choices)
    at = models.DateTimeField()
    step = models.PositiveSmallIntegerField(default=0)
    temp_c = models.FloatField(null=True)
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="clock_mark_uuid_once"),
            models.CheckConstraint(
                condition=models.Q(kind="read", temp_c__isnull=False) | ~models.Q(kind="read"),
                name="clock_mark_says_it",
            ),
        ]


class Application(Event):
    """What was applied at a place, as its label and whoever did it have it: no dose is known here.

    `entry_from` is real time, since somebody may walk in; `harvest_from` is a day of the house.
    """

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="applications")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    place = models.ForeignKey(Place, on_delete=models.PROTECT, related_name="applications")
    product = models.CharField(max_length=120)
    active = models.CharField(max_length=200, blank=True)
    registration = models.CharField(max_length=80, blank=True)
    rate = models.CharField(max_length=60)  # as the label has it
    amount = models.CharField(max_length=60)  # that was used
    area = models.CharField(max_length=60, blank=True)
    why = models.CharField(max_length=200)
    weather = models.CharField(max_length=120, blank=True)
    operator = models.CharField(max_length=120)
    licence = models.CharField(max_length=80, blank=True)
    applied_at = models.DateTimeField()  # real time
    entry_from = models.DateTimeField(null=True)
    harvest_from = models.DateField(null=True)
    stood = models.JSONField(default=list)  # batches that stood there: [{uuid, code}]
    void = models.BooleanField(default=False)  # a correction that says it never was
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["organisation", "harvest_from"]), models.Index(fields=["place", "entry_from"])]
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="application_uuid_once")]


class Count(Event):
    """What was seen of a subject: `found` of `sampled`, tray by tray in `parts`; losses name a cause."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="counts")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    subject_kind = models.CharField(max_length=20)
    subject = models.UUIDField()
    stage = models.CharField(max_length=40, blank=True)
    kind = models.CharField(max_length=20)  # emergence, loss, graded
    sampled = models.PositiveIntegerField()
    found = models.PositiveIntegerField()
    parts = models.JSONField(default=list)
    cause = models.CharField(max_length=80, blank=True)
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["organisation", "subject", "id"])]
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="count_uuid_once"),
            models.CheckConstraint(condition=models.Q(found__lte=models.F("sampled")), name="count_found_in_sampled"),
        ]
