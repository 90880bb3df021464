"""Lots: identified quantities, their movements and tests."""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event
from aldrip.methods.models import Crop, Line
from aldrip.places.models import Place


class Lot(models.Model):
    """An identified quantity of one origin. `balance` is kept with its movements, under a lock."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="lots")
    code = models.CharField(max_length=20)
    crop = models.ForeignKey(Crop, on_delete=models.PROTECT, related_name="lots")
    line = models.ForeignKey(Line, on_delete=models.PROTECT, null=True, related_name="lots")
    form = models.CharField(max_length=40, default="seed")
    seed_class = models.CharField(max_length=40, blank=True)
    unit = models.CharField(max_length=10, default="g")
    supplier = models.CharField(max_length=120, blank=True)
    supplier_ref = models.CharField(max_length=60, blank=True)
    received_on = models.DateField()
    packets = models.PositiveIntegerField(null=True)
    packet_size = models.DecimalField(max_digits=14, decimal_places=4, null=True)
    tgw_g = models.FloatField(null=True)
    germination = models.FloatField(null=True)
    tested_on = models.DateField(null=True)
    treatment = models.CharField(max_length=120, blank=True)
    balance = models.DecimalField(max_digits=16, decimal_places=4, default=0)
    note = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "code"], name="lot_code_once"),
            models.CheckConstraint(condition=models.Q(balance__gte=0), name="lot_never_below_nothing"),
            models.CheckConstraint(
                condition=models.Q(germination__isnull=True) | models.Q(germination__gte=0, germination__lte=1),
                name="lot_germination_is_a_share",
            ),
        ]

    def __str__(self) -> str:
        return self.code


class Movement(Event):
    """A signed quantity of a lot: received, sown, delivered, corrected."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="movements")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="movements")
    quantity = models.DecimalField(max_digits=16, decimal_places=4)
    kind = models.CharField(max_length=20)
    place = models.ForeignKey(Place, on_delete=models.SET_NULL, null=True, related_name="+")
    subject_kind = models.CharField(max_length=20, blank=True)
    subject_id = models.BigIntegerField(null=True)
    subject_code = models.CharField(max_length=20, blank=True)
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["lot", "id"])]
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="movement_uuid_once")]


class TestResult(Event):
    """A result of a test of a lot; the newest germination is the one sown by."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="test_results")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="test_results")
    kind = models.CharField(max_length=20)  # germination, tgw
    value = models.FloatField()
    seeds = models.PositiveIntegerField(null=True)
    tested_on = models.DateField()
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["lot", "id"])]
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="test_uuid_once")]
