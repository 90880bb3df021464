"""Organisations, people, roles, audit."""

from django.contrib.auth.models import AbstractUser
from django.contrib.postgres.fields import ArrayField
from django.contrib.postgres.indexes import GinIndex
from django.db import models
from django.utils.crypto import salted_hmac
from django.utils.timezone import now

from aldrip.base.models import Known


class Role(models.TextChoices):
    """What a person may do; see permissions.py."""

    MANAGER = "manager", "Manager"
    SUPERVISOR = "supervisor", "Supervisor"
    INSPECTOR = "inspector", "Inspector"
    LABORATORY = "laboratory", "Laboratory"
    DISPATCH = "dispatch", "Dispatch"
    VIEWER = "viewer", "Viewer"


class User(AbstractUser):
    """A person who signs in."""

    totp = models.CharField(max_length=32, blank=True)  # secret of the second factor; empty where there is none
    totp_step = models.BigIntegerField(default=0)  # of the last code that was taken: none counts twice
    session_mark = models.PositiveIntegerField(default=0)  # raised, every session of before has ended

    def _get_session_auth_hash(self, secret: str | None = None) -> str:
        key_salt = f"aldrip.accounts.User.session.{self.session_mark}"
        return salted_hmac(key_salt, self.password, secret=secret, algorithm="sha256").hexdigest()


class Organisation(Known):
    """A nursery or seed producer; every top-level row belongs to one."""

    name = models.CharField(max_length=120)
    timezone = models.CharField(max_length=60, default="UTC")
    practice_date = models.DateField(null=True, blank=True)
    working_days = models.JSONField(default=list)  # weekdays, Monday 0
    sowing_days = models.JSONField(default=list)
    chance_wanted = models.FloatField(default=0.95)
    safety_days = models.PositiveSmallIntegerField(default=0)
    hours_week = models.PositiveSmallIntegerField(null=True)  # of work that its people have in a week
    class_scheme = models.CharField(max_length=40, default="oecd-like")
    raises = models.JSONField(default=list)  # slugs of the crops that it took; none: whatever ships
    two_pairs = models.BooleanField(default=False)  # whoever entered a result of a lot does not release it
    part_trays = models.BooleanField(default=False)  # whether a tray may be sown in part
    reckoned_on = models.DateField(null=True)  # the newest day from which what is overdue was reckoned
    demo = models.BooleanField(default=False)  # the invented one: it alone may ever be loaded anew
    created_at = models.DateTimeField(default=now)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=models.Q(chance_wanted__gt=0, chance_wanted__lt=1), name="organisation_chance_is_a_chance"
            )
        ]

    def __str__(self) -> str:
        return self.name


class ClosedDay(models.Model):
    """A day on which nobody works."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="closed_days")
    day = models.DateField()
    name = models.CharField(max_length=80, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "day"], name="closed_day_once")]


class Member(Known):
    """A person's place in an organisation."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="memberships")
    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="members")
    role = models.CharField(max_length=20, choices=Role.choices)
    active = models.BooleanField(default=True)
    calendar = models.CharField(max_length=16, blank=True, default="", db_default="")  # of which its address is made

    class Meta:
        constraints = [models.UniqueConstraint(fields=["user", "organisation"], name="member_once")]


class CodeCounter(models.Model):
    """Last number given for a kind of code in a year."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE)
    kind = models.CharField(max_length=20)
    year = models.PositiveSmallIntegerField()
    last = models.PositiveIntegerField(default=0)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "kind", "year"], name="counter_once")]


class AuditEvent(Known):
    """One service action: who did what to which thing, with the values before and after."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="audit")
    actor = models.ForeignKey(User, on_delete=models.SET_NULL, null=True)
    action = models.CharField(max_length=60)
    subject_kind = models.CharField(max_length=40)
    subject = models.UUIDField(null=True)
    sentence = models.CharField(max_length=400)
    before = models.JSONField(null=True)
    after = models.JSONField(null=True)
    act = models.UUIDField(null=True)  # with which the changes of this action are kept
    under = models.CharField(
        max_length=40, blank=True
    )  # the permission it was done under; taking it back asks for the same
    undone_by = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, related_name="undoes")
    happened_at = models.DateTimeField()
    recorded_at = models.DateTimeField(default=now)

    class Meta:
        # The newest events of an organisation, and the history of one thing.
        indexes = [
            models.Index(fields=["organisation", "-id"]),
            models.Index(fields=["organisation", "subject", "-id"]),
            # What an act did is looked up when it is taken back.
            models.Index(fields=["act"]),
        ]


class Answered(models.Model):
    """A change that was made under a key, and what was answered: asked again, it is answered so again and not made twice."""

    user = models.ForeignKey(User, on_delete=models.CASCADE, null=True, related_name="+")
    key = models.UUIDField()
    asked = models.CharField(max_length=64)  # of what was asked for, so that a key is never taken for something else
    status = models.PositiveSmallIntegerField()
    kind = models.CharField(max_length=80)
    body = models.BinaryField()
    rooms = models.CharField(max_length=200)
    made_at = models.DateTimeField(default=now, db_index=True)  # swept by age

    class Meta:
        constraints = [models.UniqueConstraint(fields=["user", "key"], name="answered_once", nulls_distinct=False)]


class Change(models.Model):
    """What one statement of an act did to the rows of a table, as the database saw it; written by triggers alone.

    Inserted rows by their numbers; an updated row with the values before and after of what changed; a deleted row whole.
    """

    act = models.UUIDField(db_index=True)
    table = models.CharField(max_length=63)
    kind = models.CharField(max_length=1)  # I, U or D
    rows = ArrayField(models.BigIntegerField())
    before = models.JSONField(null=True)
    after = models.JSONField(null=True)

    class Meta:
        # Which later acts touched the same rows.
        indexes = [GinIndex(fields=["rows"], name="change_rows")]
