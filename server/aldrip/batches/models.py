"""Batches: runs of a method, their stages, what they take up and whom they serve."""

from django.contrib.postgres.constraints import ExclusionConstraint
from django.contrib.postgres.fields import DateRangeField, RangeOperators
from django.contrib.postgres.indexes import GistIndex
from django.db import models
from django.db.models import Deferrable

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Known
from aldrip.lots.models import Lot
from aldrip.methods.models import Container, Crop, Line, Method, Mix
from aldrip.orders.models import OrderLine
from aldrip.places.models import Place


class Batch(Known):
    """One run of a method. The version covers the batch with its stages, inputs and allocations.

    `needed`, `expected`, `low` and `high` are in the base unit of what the method gives.
    """

    class State(models.TextChoices):
        PLANNED = "planned", "planned"
        SOWN = "sown", "sown"
        READY = "ready", "ready"
        DELIVERED = "delivered", "delivered"
        ABANDONED = "abandoned", "abandoned"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="batches")
    code = models.CharField(max_length=20)
    crop = models.ForeignKey(Crop, on_delete=models.PROTECT, related_name="+")
    line = models.ForeignKey(Line, on_delete=models.PROTECT, null=True, related_name="+")
    method = models.ForeignKey(Method, on_delete=models.PROTECT, related_name="+")
    method_snapshot = models.JSONField()
    container = models.ForeignKey(Container, on_delete=models.PROTECT, null=True, related_name="+")
    mix = models.ForeignKey(Mix, on_delete=models.PROTECT, null=True, related_name="+")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, null=True, related_name="batches")
    state = models.CharField(max_length=10, choices=State.choices, default=State.PLANNED)
    tops_up = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, related_name="topped_up_by")
    needed = models.DecimalField(max_digits=16, decimal_places=4)
    start = models.PositiveIntegerField()
    start_typed = models.BooleanField(default=False)
    trays = models.PositiveIntegerField(null=True)
    seeds = models.FloatField(null=True)
    seed_g = models.FloatField(null=True)
    chance_wanted = models.FloatField()
    planned_chance = models.FloatField()
    expected = models.FloatField()
    low = models.FloatField(null=True)
    high = models.FloatField(null=True)
    counted = models.FloatField(null=True)  # share found at the last emergence count
    decide_by = models.DateField(null=True)  # last day on which sowing again helps
    decide_text = models.CharField(max_length=300, blank=True)
    seed_class = models.CharField(
        max_length=40, blank=True, db_default=""
    )  # as which a field is grown; blank for plants
    barred = models.CharField(
        max_length=200, blank=True, db_default=""
    )  # why nothing of it may be delivered as it stands
    on_hold = models.CharField(max_length=300, blank=True, db_default="")  # by which hold it is held, in words
    all_in = models.DateField(null=True)  # day on which it was said that nothing more comes of what is taken in loads
    problems = models.JSONField(default=list)  # what stood against its plan when it was made: codes with data
    note = models.CharField(max_length=300, blank=True)
    pinned = models.BooleanField(default=False, db_default=False)  # levelling leaves it where it stands
    version = models.PositiveIntegerField(default=1)

    class Meta:
        indexes = [models.Index(fields=["organisation", "state"])]
        constraints = [
            models.UniqueConstraint(fields=["organisation", "code"], name="batch_code_once"),
            models.CheckConstraint(
                condition=models.Q(planned_chance__gte=0, planned_chance__lte=1), name="batch_chance_is_a_chance"
            ),
        ]

    def __str__(self) -> str:
        return self.code


class BatchStage(models.Model):
    """A stage of a batch: planned and actual days, place, rate with its origin, quantities."""

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="stages")
    order = models.PositiveSmallIntegerField()  # in which it is shown
    key = models.CharField(max_length=40)  # by which it is known, in its snapshot too
    name = models.CharField(max_length=60)
    kind = models.CharField(max_length=20)
    planned = DateRangeField()
    actual_start = models.DateField(null=True)
    actual_end = models.DateField(null=True)
    place = models.ForeignKey(Place, on_delete=models.PROTECT, null=True, related_name="+")
    alpha = models.FloatField()
    beta = models.FloatField(null=True)
    origin = models.CharField(max_length=10)
    source = models.CharField(max_length=200, blank=True)
    multiply = models.FloatField(default=1)
    multiply_sd = models.FloatField(default=0)
    unit = models.CharField(max_length=30)
    needed = models.FloatField()
    out = models.FloatField()
    counted_share = models.FloatField(null=True)  # share of what entered, as counted
    counted_sd = models.FloatField(null=True)
    counted_of = models.PositiveIntegerField(null=True)  # how many were looked at

    class Meta:
        ordering = ["order"]
        constraints = [
            models.UniqueConstraint(fields=["batch", "order"], name="batch_stage_once"),
            models.UniqueConstraint(fields=["batch", "key"], name="batch_stage_key_once"),
        ]


class BatchInput(models.Model):
    """What goes into a stage: of a lot, or what a stage of another batch gives. Planned, or taken on a day.

    Of a lot the quantity is in its base unit; of a stage in what the stage gives.
    """

    stage = models.ForeignKey(BatchStage, on_delete=models.CASCADE, related_name="inputs")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, null=True, related_name="used_in")
    upstream = models.ForeignKey(BatchStage, on_delete=models.PROTECT, null=True, related_name="feeds")
    quantity = models.DecimalField(max_digits=16, decimal_places=4)
    part = models.CharField(max_length=12, default="seed")  # seed, cutting, tuber, plant, stage …
    taken_on = models.DateField(null=True)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=models.Q(lot__isnull=True) ^ models.Q(upstream__isnull=True), name="input_from_one_source"
            )
        ]


class Allocation(models.Model):
    """How many of a batch are meant for an order line."""

    order_line = models.ForeignKey(OrderLine, on_delete=models.CASCADE, related_name="allocations")
    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="allocations")
    quantity = models.DecimalField(max_digits=16, decimal_places=4)  # in the line's base unit

    class Meta:
        constraints = [models.UniqueConstraint(fields=["order_line", "batch"], name="allocation_once")]


class SetAside(models.Model):
    """So much of a lot that is kept for an order line: released seed, or plants that stand in stock. In the lot's base unit."""

    order_line = models.ForeignKey(OrderLine, on_delete=models.CASCADE, related_name="set_aside")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="set_aside")
    quantity = models.DecimalField(max_digits=16, decimal_places=4)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["order_line", "lot"], name="set_aside_once"),
            models.CheckConstraint(condition=models.Q(quantity__gt=0), name="set_aside_is_something"),
        ]


class Question(Known):
    """What somebody asked for and nothing was promised of yet: rows as they were written, kept until it is ordered or let go."""

    class State(models.TextChoices):
        ASKED = "asked", "asked"
        ORDERED = "ordered", "ordered"
        DROPPED = "dropped", "let go"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="questions")
    customer = models.CharField(max_length=120)
    rows = models.JSONField()
    note = models.CharField(max_length=300, blank=True)
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    since = models.DateField()
    until = models.DateField(null=True)  # the last day on which what is held for it is held
    state = models.CharField(max_length=10, choices=State.choices, default=State.ASKED)
    version = models.PositiveIntegerField(default=1)

    class Meta:
        indexes = [models.Index(fields=["organisation", "state"])]

    def __str__(self) -> str:
        return f"question of {self.customer}"


class Held(models.Model):
    """So much of a batch or a lot that is held for a question until its day. In the base unit of what it is of."""

    question = models.ForeignKey(Question, on_delete=models.CASCADE, related_name="held")
    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, null=True, related_name="held")
    lot = models.ForeignKey(Lot, on_delete=models.CASCADE, null=True, related_name="held")
    quantity = models.DecimalField(max_digits=16, decimal_places=4)

    class Meta:
        constraints = [
            models.CheckConstraint(condition=models.Q(quantity__gt=0), name="held_is_something"),
            models.CheckConstraint(
                condition=models.Q(batch__isnull=True) ^ models.Q(lot__isnull=True), name="held_of_one_thing"
            ),
        ]


class Occupancy(models.Model):
    """What a stage takes up of a place over its days. Whole and firm uses exclude each other."""

    stage = models.ForeignKey(BatchStage, on_delete=models.CASCADE, related_name="occupancies")
    place = models.ForeignKey(Place, on_delete=models.PROTECT, related_name="occupancies")
    during = DateRangeField()
    amount = models.FloatField()
    whole = models.BooleanField(default=False)
    firm = models.BooleanField(default=False)

    class Meta:
        indexes = [GistIndex(fields=["place", "during"], name="occupancy_place_during")]
        constraints = [
            models.CheckConstraint(condition=models.Q(amount__gte=0), name="occupancy_takes_up"),
            ExclusionConstraint(
                name="whole_places_take_one_use",
                expressions=[("place", RangeOperators.EQUAL), ("during", RangeOperators.OVERLAPS)],
                condition=models.Q(whole=True, firm=True),
                deferrable=Deferrable.DEFERRED,
            ),
        ]


class Yield(models.Model):
    """What a stage gave to stock: the only way from plan to lot."""

    stage = models.ForeignKey(BatchStage, on_delete=models.PROTECT, related_name="yields")
    lot = models.ForeignKey(
        Lot, on_delete=models.PROTECT, related_name="from_stages"
    )  # several fields may be cleaned into one
    quantity = models.DecimalField(max_digits=16, decimal_places=4)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["stage", "lot"], name="yield_once")]
