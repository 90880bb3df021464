"""Mother plants: each planting is a lot that stands; what is cut of it are lots made of that, so whatever holds it holds them."""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event, Known
from aldrip.lots.models import Lot
from aldrip.places.models import Place


class MotherStock(Known):
    """Mothers of one planting: how they give, and when they stop. How many stand is the balance of their lot."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="mother_stocks")
    lot = models.OneToOneField(Lot, on_delete=models.PROTECT, related_name="mother_stock")
    place = models.ForeignKey(Place, on_delete=models.SET_NULL, null=True, related_name="+")
    planted_on = models.DateField()
    planted = models.PositiveIntegerField()  # mothers
    generation = models.PositiveSmallIntegerField(
        default=0
    )  # 0: raised from elsewhere; 1: rooted from the first cuts of those
    shoots = models.JSONField()  # of a mother, by week of her life
    first_cut_week = models.PositiveSmallIntegerField()
    life_weeks = models.PositiveSmallIntegerField()
    exhausted_on = models.DateField(null=True)  # gives nothing to stick from that day on
    retired_on = models.DateField(null=True)
    retired_as = models.CharField(max_length=120, blank=True)  # what became of it
    note = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(planted__gt=0), name="mothers_are_some")]

    def __str__(self) -> str:
        return f"mothers {self.lot.code}"


class CutLog(Event):
    """What was cut of a stock at once, and where it went: to stock, to become mothers, or thrown away."""

    class Into(models.TextChoices):
        STOCK = "stock", "to be stuck"
        MOTHERS = "mothers", "to become mothers"
        DISCARDED = "discarded", "thrown away"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="cut_logs")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    stock = models.ForeignKey(MotherStock, on_delete=models.PROTECT, related_name="cuts")
    cuttings = models.PositiveIntegerField()
    into = models.CharField(max_length=10, choices=Into.choices)
    lot = models.OneToOneField(Lot, on_delete=models.PROTECT, null=True, related_name="cut")
    leaves = models.CharField(max_length=20, blank=True)  # juvenile, compound

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="cut_log_uuid_once"),
            models.CheckConstraint(condition=models.Q(cuttings__gt=0), name="cut_is_something"),
        ]


class IndexTest(Event):
    """A stock was tested for what must not be in it; one that is not clean holds it with everything made of it."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="index_tests")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    stock = models.ForeignKey(MotherStock, on_delete=models.PROTECT, related_name="index_tests")
    what = models.CharField(max_length=120)  # for which it was tested
    sound = models.BooleanField()
    tested_on = models.DateField()
    valid_until = models.DateField(null=True)
    laboratory = models.CharField(max_length=120, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="index_test_uuid_once")]
