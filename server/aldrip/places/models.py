"""Sites, houses, benches, beds, stores: the climate of each and what each can hold."""

from django.db import models

from aldrip.accounts.models import Organisation
from aldrip.base.models import Known
from aldrip_core.place_kinds import PLACE_KINDS


class Site(Known):
    """A piece of ground with a latitude and a climate."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="sites")
    name = models.CharField(max_length=80)
    latitude = models.FloatField()
    longitude = models.FloatField(null=True)
    monthly_c = models.JSONField()  # twelve means, January first
    daily_swing_c = models.FloatField(default=5.0)
    last_frost = models.CharField(max_length=5, blank=True)  # MM-DD
    #: Another one whenever a day of its weather is another; none while only its climate is known.
    weather_as = models.UUIDField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "name"], name="site_once"),
            models.CheckConstraint(condition=models.Q(latitude__gte=-66, latitude__lte=66), name="site_latitude"),
        ]

    def __str__(self) -> str:
        return self.name


class WeatherDay(models.Model):
    """Temperatures outside on a day at a site, read or forecast [°C]."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="weather")
    site = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="weather")
    day = models.DateField()
    low_c = models.FloatField()
    mean_c = models.FloatField()
    high_c = models.FloatField()
    forecast = models.BooleanField(default=False)

    class Meta:
        ordering = ["day"]
        constraints = [models.UniqueConstraint(fields=["site", "day"], name="weather_once")]


class Kind(models.TextChoices):
    """What a place is used as; stages ask for a kind."""

    SHED = "shed", PLACE_KINDS["shed"]
    GERMINATION = "germination", PLACE_KINDS["germination"]
    BENCH = "bench", PLACE_KINDS["bench"]
    TUNNEL = "tunnel", PLACE_KINDS["tunnel"]
    HOTBED = "hotbed", PLACE_KINDS["hotbed"]
    STANDING = "standing", PLACE_KINDS["standing"]
    STORE = "store", PLACE_KINDS["store"]
    BED = "bed", PLACE_KINDS["bed"]
    FIELD = "field", PLACE_KINDS["field"]


class Place(Known):
    """Somewhere plants stand. `shared` capacity is summed; `whole` places take one use at a time."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="places")
    site = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="places")
    name = models.CharField(max_length=80)
    kind = models.CharField(max_length=20, choices=Kind.choices)
    sharing = models.CharField(max_length=6, choices=[("shared", "shared"), ("whole", "whole")], default="shared")
    capacity = models.FloatField(null=True)
    unit = models.CharField(max_length=10, default="m²")
    gangway = models.FloatField(default=0)
    set_point_c = models.FloatField(null=True)
    cooled_to_c = models.FloatField(null=True)
    excess_c = models.FloatField(default=0)
    lets_in = models.FloatField(null=True)  # share of daylight that comes through; usual for its kind where nobody said
    lamps_mol = models.FloatField(default=0, db_default=0)  # light that lamps add, mol/m² a day
    #: How it is kept in parts of every year, where that is otherwise: first and last day (MM-DD), and the same three.
    parts = models.JSONField(default=list)
    #: Days on which it is shut or holds less: first and last (ISO), what it holds then (0: shut), and why.
    closings = models.JSONField(default=list)
    #: Names of those who may go in, where not everybody may.
    enters = models.JSONField(default=list)
    outline = models.JSONField(null=True)  # GeoJSON Polygon, WGS84, of a field
    order = models.PositiveSmallIntegerField(default=0)
    active = models.BooleanField(default=True)

    class Meta:
        ordering = ["order", "id"]
        constraints = [
            models.UniqueConstraint(fields=["organisation", "name"], name="place_once"),
            models.CheckConstraint(
                condition=models.Q(capacity__isnull=True) | models.Q(capacity__gte=0), name="place_capacity"
            ),
            models.CheckConstraint(condition=models.Q(gangway__gte=0, gangway__lt=1), name="place_gangway"),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def usable(self) -> float | None:
        return None if self.capacity is None else self.capacity * (1 - self.gangway)


class LandUse(models.Model):
    """What grew on a field in a year; `inspected_clean`: inspected itself and free of designated disease."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="land_uses")
    place = models.ForeignKey(Place, on_delete=models.CASCADE, related_name="land_uses")
    year = models.PositiveSmallIntegerField()
    crop = models.CharField(max_length=120)
    family = models.CharField(max_length=60, blank=True)
    inspected_clean = models.BooleanField(default=False)

    class Meta:
        ordering = ["-year", "id"]
        constraints = [models.UniqueConstraint(fields=["place", "year", "crop"], name="land_use_once")]
