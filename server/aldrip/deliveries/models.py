"""Deliveries: what was handed over, from which lot, with which papers."""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Known
from aldrip.lots.models import Movement
from aldrip.orders.models import Order, OrderLine


class Delivery(Known):
    """One handing-over against an order."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="deliveries")
    order = models.ForeignKey(Order, on_delete=models.PROTECT, related_name="deliveries")
    code = models.CharField(max_length=20)
    delivered_on = models.DateField()
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    client_uuid = models.UUIDField()
    note = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "code"], name="delivery_code_once"),
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="delivery_uuid_once"),
        ]


class DeliveryItem(models.Model):
    """A quantity of a lot handed over for an order line."""

    delivery = models.ForeignKey(Delivery, on_delete=models.CASCADE, related_name="items")
    order_line = models.ForeignKey(OrderLine, on_delete=models.PROTECT, related_name="delivered_items")
    movement = models.OneToOneField(Movement, on_delete=models.PROTECT, related_name="+")
    quantity = models.DecimalField(max_digits=16, decimal_places=4)  # in the line's base unit
    trays = models.PositiveIntegerField(null=True)
    batch_code = models.CharField(max_length=20)
    label = models.CharField(max_length=30)


class Document(Known):
    """A paper as it was issued: its facts, and the digest of them."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="documents")
    # None where the delivery was taken back: the paper is out, so it stays, withdrawn.
    delivery = models.ForeignKey(Delivery, on_delete=models.PROTECT, null=True, related_name="documents")
    kind = models.CharField(max_length=30)
    payload = models.JSONField()
    sha256 = models.CharField(max_length=64)
    issued_at = models.DateTimeField()
    withdrawn_at = models.DateTimeField(null=True)
    withdrawn_because = models.CharField(max_length=300, blank=True)

    def __str__(self) -> str:
        code = self.payload.get("code", "")
        return f"{self.kind.replace('_', ' ')} {code}".strip()
