"""Seed crops: blocks with their parents, what was sown and seen, neighbours, inspections."""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event, Known
from aldrip.batches.models import Batch
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop, Line, Remedy, Standard
from aldrip.places.models import Place


class SeedBlock(Known):
    """A batch of seed laid out on a field. The version covers layout, parents and pollinators."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="seed_blocks")
    batch = models.OneToOneField(Batch, on_delete=models.CASCADE, related_name="seed_block")
    field = models.ForeignKey(Place, on_delete=models.PROTECT, related_name="seed_blocks")
    outline = models.JSONField()  # GeoJSON Polygon as it was laid out; the field's own may change later
    seed_class = models.CharField(max_length=40)
    step = models.CharField(max_length=10)  # hybrid, increase, open
    pattern = models.CharField(max_length=40, blank=True)  # empty where one line is drilled
    bearing_deg = models.FloatField(default=0)
    row_spacing_m = models.FloatField()
    border_rows = models.PositiveSmallIntegerField(default=0)
    headland_rows = models.PositiveSmallIntegerField(default=0)
    planter_rows = models.PositiveSmallIntegerField(null=True)
    in_row_cm = models.JSONField(default=dict)  # {F, M}
    establishment = models.JSONField(default=dict)  # {F, M} or {S}
    target_per_m2 = models.FloatField(null=True)  # of a drilled crop
    strip_left = models.JSONField(null=True)  # what may still be planted, when a strip was left: GeoJSON MultiPolygon
    hives = models.PositiveIntegerField(null=True)
    hives_on = models.DateField(null=True)
    version = models.PositiveIntegerField(default=1)

    class Meta:
        constraints = [
            models.CheckConstraint(condition=models.Q(row_spacing_m__gt=0), name="block_rows_stand_apart"),
        ]


class BlockParent(models.Model):
    """A line of a block by its role: F female, M male, S the one that is drilled; sowings planned on days."""

    block = models.ForeignKey(SeedBlock, on_delete=models.CASCADE, related_name="parents")
    role = models.CharField(max_length=1)
    line = models.ForeignKey(Line, on_delete=models.PROTECT, related_name="+")
    sow_on = models.DateField()
    sowings = models.PositiveSmallIntegerField(default=1)
    sowing_gap_days = models.PositiveSmallIntegerField(default=0)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["block", "role"], name="block_role_once"),
            models.CheckConstraint(condition=models.Q(sowings__gte=1, sowings__lte=6), name="block_parent_sowings"),
        ]


class BlockSowing(Event):
    """A line as it was sown: from which lot, how much, on which day."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="block_sowings")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    parent = models.ForeignKey(BlockParent, on_delete=models.PROTECT, related_name="sown")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="+")
    sown_on = models.DateField()
    kg = models.DecimalField(max_digits=12, decimal_places=4)
    rows = models.PositiveIntegerField(null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="block_sowing_uuid_once")]


class FlowerObservation(Event):
    """A stage of a parent that was seen on a day; it moves the predicted flowering."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="flower_observations")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    parent = models.ForeignKey(BlockParent, on_delete=models.PROTECT, related_name="seen")
    stage = models.CharField(max_length=40)
    words = models.CharField(max_length=80)
    share = models.FloatField()
    seen_on = models.DateField()
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="flower_seen_uuid_once"),
            models.CheckConstraint(condition=models.Q(share__gte=0, share__lte=1), name="flower_seen_share"),
        ]


class RemedyUse(Event):
    """A remedy that was chosen or dropped for a block."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="remedy_uses")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    block = models.ForeignKey(SeedBlock, on_delete=models.CASCADE, related_name="remedies")
    remedy = models.ForeignKey(Remedy, on_delete=models.PROTECT, related_name="+")
    role = models.CharField(max_length=1)
    chosen = models.BooleanField()
    gap_days = models.FloatField(null=True)  # the gap when it was chosen, to read its effect later

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="remedy_uuid_once")]


class Neighbour(Known):
    """Somebody else's crop nearby: its outline, what it is to which crop of ours, and who saw it when."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="neighbours")
    name = models.CharField(max_length=80)
    crop = models.ForeignKey(Crop, on_delete=models.PROTECT, related_name="+")
    kind = models.CharField(max_length=40)
    outline = models.JSONField()  # GeoJSON Polygon, WGS84
    flowers_from = models.DateField(null=True)
    flowers_to = models.DateField(null=True)
    seen_on = models.DateField()
    seen_by = models.CharField(max_length=120, blank=True)
    year = models.PositiveSmallIntegerField()
    active = models.BooleanField(default=True)

    class Meta:
        indexes = [models.Index(fields=["organisation", "crop", "year"])]
        constraints = [
            models.UniqueConstraint(
                fields=["organisation", "name", "crop", "year"], condition=models.Q(active=True), name="neighbour_once"
            )
        ]


class Inspection(Known):
    """A visit to a block at a stage: its plan, and what was signed. A rogued field gets a new visit; both counts stay."""

    class State(models.TextChoices):
        PLANNED = "planned", "planned"
        OPEN = "open", "being counted"
        SIGNED = "signed", "signed"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="inspections")
    block = models.ForeignKey(SeedBlock, on_delete=models.CASCADE, related_name="inspections")
    number = models.PositiveSmallIntegerField()
    stage = models.CharField(max_length=20)  # before, flowering, maturity
    words = models.CharField(max_length=80)
    share = models.FloatField(null=True)  # of the heat to flowering, by which its day moves
    days_after = models.IntegerField(default=0)
    planned_on = models.DateField()
    standard = models.ForeignKey(Standard, on_delete=models.PROTECT, null=True, related_name="+")
    limits = models.JSONField(default=list)  # as they stood when the count began
    areas = models.PositiveSmallIntegerField(default=0)
    plants_per_area = models.PositiveIntegerField(default=0)
    points = models.JSONField(default=list)  # [lon, lat] of the counting areas, in walking order
    state = models.CharField(max_length=10, choices=State.choices, default=State.PLANNED)
    follows = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="followed_by")
    decision = models.CharField(max_length=10, blank=True)
    sentence = models.CharField(max_length=400, blank=True)
    signed_by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    signed_role = models.CharField(max_length=20, blank=True)
    signed_at = models.DateTimeField(null=True)
    counted = models.JSONField(default=dict)  # totals as signed

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["block", "number"], name="inspection_number_once"),
            models.CheckConstraint(
                condition=~models.Q(state="signed") | ~models.Q(decision=""), name="signed_inspection_has_a_decision"
            ),
        ]


class InspectionCount(Event):
    """One tap of a count: so many plants, so many faults by kind, in an area; a tap back replaces it."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="inspection_counts")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    inspection = models.ForeignKey(Inspection, on_delete=models.PROTECT, related_name="counts")
    area = models.PositiveSmallIntegerField()
    plants = models.PositiveIntegerField(default=0)
    faults = models.JSONField(default=dict)  # attribute → number
    note = models.CharField(max_length=300, blank=True)
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["inspection", "area"])]
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="inspection_count_uuid_once")
        ]


class InspectionPhoto(models.Model):
    """What was photographed with an entry of a count: JPEG in base64, apart from the entries that are read all day."""

    count = models.OneToOneField(InspectionCount, on_delete=models.CASCADE, related_name="photo")
    jpeg = models.TextField()


class MaleRemoval(Event):
    """The male rows and borders are out: cut and destroyed, or harvested first. One a block."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="male_removals")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    block = models.OneToOneField(SeedBlock, on_delete=models.PROTECT, related_name="male_removal")
    removed_on = models.DateField()
    how = models.CharField(max_length=40)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="male_removal_uuid_once")]
