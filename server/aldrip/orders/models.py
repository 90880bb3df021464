"""Orders: what must be delivered."""

from django.contrib.postgres.fields import DateRangeField
from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Known
from aldrip.methods.models import Container, Crop, Line, Standard
from aldrip_core.problems import read, sentence


class Order(Known):
    """A customer's order; its lines carry the promises."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="orders")
    number = models.CharField(max_length=30)
    customer = models.CharField(max_length=120)
    received_on = models.DateField()
    note = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "number"], name="order_number_once")]

    def __str__(self) -> str:
        return self.number


class OrderLine(Known):
    """One promise: so many of a form, within some days, to a standard.

    Quantities are exact, in the base unit of `unit`, which is the one people read.
    `chance`, `forecast` and `problems` (codes with data) mirror what the batches of the line say; batches keeps them.
    """

    class State(models.TextChoices):
        OPEN = "open", "open"
        DELIVERED = "delivered", "delivered"
        SHORT = "short", "delivered short"
        CANCELLED = "cancelled", "cancelled"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="order_lines")
    order = models.ForeignKey(Order, on_delete=models.CASCADE, related_name="lines")
    number = models.PositiveSmallIntegerField()
    crop = models.ForeignKey(Crop, on_delete=models.PROTECT, related_name="+")
    line = models.ForeignKey(Line, on_delete=models.PROTECT, null=True, related_name="+")
    form = models.CharField(max_length=40)
    container = models.ForeignKey(
        Container, on_delete=models.PROTECT, null=True, related_name="+"
    )  # asked to be delivered in
    quantity = models.DecimalField(max_digits=16, decimal_places=4)
    unit = models.CharField(max_length=30, default="plants")
    due = DateRangeField()
    seed_class = models.CharField(max_length=40, blank=True)
    under_percent = models.FloatField(default=0)
    standard = models.ForeignKey(Standard, on_delete=models.PROTECT, null=True, related_name="+")
    state = models.CharField(max_length=10, choices=State.choices, default=State.OPEN)
    chance = models.FloatField(null=True)
    forecast = models.FloatField(null=True)
    delivered = models.DecimalField(max_digits=16, decimal_places=4, default=0)
    short_cause = models.CharField(max_length=200, blank=True)
    problems = models.JSONField(default=list)
    note = models.CharField(max_length=300, blank=True)
    version = models.PositiveIntegerField(default=1)

    class Meta:
        indexes = [models.Index(fields=["organisation", "state"])]
        constraints = [
            models.UniqueConstraint(fields=["order", "number"], name="order_line_once"),
            models.CheckConstraint(condition=models.Q(quantity__gt=0), name="order_line_promises_something"),
            models.CheckConstraint(condition=models.Q(due__isempty=False), name="order_line_has_days"),
        ]

    @property
    def problem(self) -> str:
        """What stands against the promise, in a sentence."""
        return sentence(read(self.problems))


class OwnWord(Known):
    """What a house means by words that its orders use: “iceberg lettuce” is lettuce, “module” is a plug.

    `means` is a crop's slug, a form, or a cultivar's name; `crop` the slug of the crop that it is said of, where it hangs on one.
    """

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="+")
    column = models.CharField(max_length=12)
    said = models.CharField(max_length=120)
    crop = models.CharField(max_length=80, blank=True)
    means = models.CharField(max_length=120)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "column", "said", "crop"], name="own_word_once")]

    def __str__(self) -> str:
        return f"{self.said}: {self.means}"


class WaitingRow(Known):
    """An order row that could not be taken in yet, as it was written: an unknown crop, a form that no method gives."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="+")
    row = models.JSONField()
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    since = models.DateField()

    def __str__(self) -> str:
        return f"{self.row.get('quantity', '')} {self.row.get('crop', '')}"
