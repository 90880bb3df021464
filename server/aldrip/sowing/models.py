"""Sowers of the house and what their trays caught while they were set."""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event, Known
from aldrip.batches.models import Batch
from aldrip.lots.models import Lot
from aldrip.places.models import Place


class Machine(Known):
    """A sower: from where to where its dial goes, which way, how near a tray must come, and where its scale is asked."""

    class MoreIs(models.TextChoices):
        INCREASING = "increasing", "a higher setting sows more"
        DECREASING = "decreasing", "a higher setting sows less"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="machines")
    name = models.CharField(max_length=80)
    setting_min = models.FloatField()
    setting_max = models.FloatField()
    more_is = models.CharField(max_length=10, choices=MoreIs.choices, default=MoreIs.INCREASING)
    tolerance = models.FloatField(default=0.05)  # of what a tray is to catch
    scale_at = models.CharField(max_length=80, blank=True)  # an address on this computer
    simulated = models.BooleanField(default=False)  # the one for practice, which sows when it is asked to
    note = models.CharField(max_length=300, blank=True)
    retired = models.BooleanField(default=False)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "name"], name="machine_name_once"),
            models.CheckConstraint(
                condition=models.Q(setting_max__gt=models.F("setting_min")), name="machine_has_a_range"
            ),
            models.CheckConstraint(condition=models.Q(tolerance__gt=0, tolerance__lte=0.5), name="machine_tolerance"),
        ]

    def __str__(self) -> str:
        return self.name


class Trial(Event):
    """What one tray caught [g] at a setting, with which seed; `even`: whether the walk was."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="sower_trials")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    machine = models.ForeignKey(Machine, on_delete=models.PROTECT, related_name="trials")
    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="sower_trials")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, null=True, related_name="sower_trials")
    target_g = models.FloatField()  # that was aimed at
    setting = models.FloatField()
    grams = models.FloatField()
    even = models.BooleanField(default=True)
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["machine", "lot", "id"])]  # a batch is set by what its lot caught before
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="trial_uuid_once"),
            models.CheckConstraint(condition=models.Q(grams__gte=0, target_g__gt=0), name="trial_is_a_catch"),
        ]


class FeedReading(Event):
    """EC [mS/cm] and pH of a feed, or of what runs off under the plants, as they were read."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="feed_readings")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    recipe = models.CharField(max_length=80, blank=True)  # slug of it in the library
    feed = models.CharField(max_length=120)  # its name, as it was then
    place = models.ForeignKey(Place, on_delete=models.SET_NULL, null=True, related_name="+")
    ec = models.FloatField(null=True)
    ph = models.FloatField(null=True)
    said = models.CharField(max_length=200, blank=True)  # what was off; empty where it was inside its band
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["organisation", "-id"])]
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="feed_reading_uuid_once"),
            models.CheckConstraint(
                condition=models.Q(ec__isnull=False) | models.Q(ph__isnull=False), name="feed_reading_says_it"
            ),
        ]


class TrayEvent(Event):
    """Trays of a kind were counted (all that the house has), bought, washed or thrown away."""

    class What(models.TextChoices):
        COUNTED = "counted", "counted"
        BOUGHT = "bought", "bought"
        WASHED = "washed", "washed"
        THROWN = "thrown", "thrown away"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="tray_events")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    container = models.CharField(max_length=120)  # its name in the library
    what = models.CharField(max_length=10, choices=What.choices)
    many = models.PositiveIntegerField()
    clean_ones = models.PositiveIntegerField(default=0)  # of those that were counted
    lasts = models.PositiveIntegerField(null=True)  # fillings of one, where it was said

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="tray_event_uuid_once"),
            models.CheckConstraint(
                condition=models.Q(clean_ones__lte=models.F("many")), name="no_more_clean_than_counted"
            ),
        ]


class SowCheck(Event):
    """Cells, or places in a row, that were looked at while a batch was sown: those without a seed, those with two and more."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="sow_checks")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="sow_checks")
    looked = models.PositiveIntegerField()
    misses = models.PositiveIntegerField()
    doubles = models.PositiveIntegerField()
    spacings = models.CharField(
        max_length=1000, blank=True
    )  # from seed to seed, as typed; empty where cells were counted

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="sow_check_uuid_once")]
