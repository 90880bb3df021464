"""Lots: identified quantities, their movements and tests."""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event, Known
from aldrip.methods.models import Crop, Line, Standard
from aldrip.places.models import Place


class Status(models.TextChoices):
    """How far own seed has come."""

    RAW = "raw", "as harvested"
    CLEAN = "clean", "cleaned, not judged"
    HELD = "held", "held"
    RELEASED = "released", "released"
    REJECTED = "rejected", "rejected"


class Lot(Known):
    """An identified quantity of one origin. `balance` is kept with its movements, under a lock.

    Quantities are exact, in the base unit of `unit`, which is the one people read.
    """

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
    # Own seed goes raw → clean → released; what was bought in has no status.
    status = models.CharField(max_length=10, blank=True, choices=Status.choices)
    label_number = models.CharField(max_length=60, blank=True)  # official label it came with
    moisture_percent = models.FloatField(null=True)  # newest reading of the store's own meter, wet basis
    note = models.CharField(max_length=300, blank=True)
    use_by = models.DateTimeField(null=True)  # after a treatment, on the house's clock
    on_hold = models.CharField(max_length=300, blank=True, db_default="")  # by which hold it is held, in words

    class Meta:
        indexes = [
            models.Index(fields=["organisation"], condition=~models.Q(on_hold=""), name="lots_on_hold")
        ]  # few are; asked for after every act that makes a lot
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
    subject = models.UUIDField(null=True)
    subject_code = models.CharField(max_length=20, blank=True)
    group = models.UUIDField(null=True)  # movements of one process; what goes over from lot to lot sums to nothing
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["lot", "id"])]
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="movement_uuid_once")]


class TestResult(Event):
    """A result of a test of a lot; the newest germination is the one sown by."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="test_results")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="test_results")
    kind = models.CharField(max_length=20)  # germination, tgw, purity, moisture, other_seeds
    value = models.FloatField()
    seeds = models.PositiveIntegerField(null=True)
    tested_on = models.DateField()
    expires_on = models.DateField(null=True)
    detail = models.JSONField(default=dict)  # replicates, masses, counts as they were read
    repeat = models.CharField(max_length=300, blank=True)  # why it must be tested again; then it counts for nothing
    certificate = models.CharField(max_length=60, blank=True)
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        indexes = [models.Index(fields=["lot", "id"])]
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="test_uuid_once")]


class LotParent(models.Model):
    """What a lot was made from: sown, cleaned or blended, with the quantity that went in (in the parent's base unit)."""

    child = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="made_from")
    parent = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="made_into")
    quantity = models.DecimalField(max_digits=16, decimal_places=4)
    how = models.CharField(max_length=20)  # sown, cleaned, blended, treated

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["child", "parent", "how"], name="lot_parent_once"),
            models.CheckConstraint(condition=~models.Q(child=models.F("parent")), name="lot_is_not_its_own_parent"),
        ]


class Hold(Event):
    """A lot and everything made of it is held; the reason is that of the event."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="holds")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="holds")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="hold_uuid_once")]


class HoldLift(Event):
    """A hold was lifted; with a lot only that one, and what is made of it, was cleared."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="hold_lifts")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    hold = models.ForeignKey(Hold, on_delete=models.PROTECT, related_name="lifts")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, null=True, related_name="+")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="hold_lift_uuid_once"),
            models.UniqueConstraint(fields=["hold", "lot"], name="hold_lifted_once", nulls_distinct=False),
        ]


class Intake(Event):
    """A load at the door: weighed, sampled, taken in, taken in to dry now, or refused."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="intakes")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    lot = models.OneToOneField(Lot, on_delete=models.PROTECT, null=True, related_name="intake")
    subject_kind = models.CharField(max_length=20)
    subject = models.UUIDField()
    subject_code = models.CharField(max_length=20)
    gross_kg = models.DecimalField(max_digits=12, decimal_places=2)
    tare_kg = models.DecimalField(max_digits=12, decimal_places=2)
    moisture_percent = models.FloatField()
    limit_percent = models.FloatField(null=True)
    purity_percent = models.FloatField(null=True)
    pests = models.CharField(max_length=120, blank=True)
    decision = models.CharField(max_length=10)  # accept, dry now, apart, refuse

    class Meta:
        indexes = [models.Index(fields=["organisation", "subject"])]
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="intake_uuid_once"),
            models.CheckConstraint(condition=models.Q(gross_kg__gt=models.F("tare_kg")), name="intake_weighs"),
        ]


class Verdict(Event):
    """A decision on a lot, as signed: the standard, every result against it, and who decided."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="verdicts")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    role = models.CharField(max_length=20)
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="verdicts")
    standard = models.ForeignKey(Standard, on_delete=models.PROTECT, related_name="+")
    decision = models.CharField(max_length=10)  # release, hold, downgrade, reject
    seed_class = models.CharField(max_length=40)
    results = models.JSONField()
    sentence = models.CharField(max_length=600)

    class Meta:
        indexes = [models.Index(fields=["lot", "-id"])]
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="verdict_uuid_once")]


class Seal(Known):
    """An official seal or label number that the authority issued for a lot: recorded, used once, never printed as ours."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="seals")
    number = models.CharField(max_length=40)
    kind = models.CharField(max_length=10, default="label")  # label, seal
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="seals")
    recorded_at = models.DateTimeField()
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "number"], name="seal_number_once")]


class MediumLot(Known):
    """A medium that was bought, mixed or washed at once: under which limits it may be sown into, and whether it passed."""

    class State(models.TextChoices):
        WAITS = "waits", "has not passed"
        PASSED = "passed", "passed"
        REJECTED = "rejected", "not to be used"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="media")
    code = models.CharField(max_length=20)
    name = models.CharField(max_length=120)  # what it is: coir, or the name of a mix
    since = models.DateField()
    litres = models.DecimalField(max_digits=12, decimal_places=1)
    left = models.DecimalField(max_digits=12, decimal_places=1)  # kept with its uses, under the act's lock
    ph_low = models.FloatField(null=True)  # no limits: it needs no washing
    ph_high = models.FloatField(null=True)
    ec_below = models.FloatField(null=True)  # mS/cm
    place = models.ForeignKey(Place, on_delete=models.SET_NULL, null=True, related_name="+")
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITS)
    decided_at = models.DateTimeField(null=True)  # on the house's clock
    decided_by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    decided_why = models.CharField(max_length=300, blank=True)  # where it was let through against its readings
    note = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "code"], name="medium_code_once"),
            models.CheckConstraint(condition=models.Q(left__gte=0, litres__gt=0), name="medium_never_below_nothing"),
        ]

    def __str__(self) -> str:
        return f"{self.name} {self.code}"


class MediumReading(Event):
    """pH and EC [mS/cm] of what ran off after a wash."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="medium_readings")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    medium = models.ForeignKey(MediumLot, on_delete=models.CASCADE, related_name="readings")
    ph = models.FloatField()
    ec = models.FloatField()
    replaces = models.OneToOneField("self", on_delete=models.PROTECT, null=True, related_name="replaced_by")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="medium_reading_uuid_once")]


class MediumUse(Event):
    """So many litres of a medium went under a batch."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="medium_uses")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    medium = models.ForeignKey(MediumLot, on_delete=models.PROTECT, related_name="uses")
    subject_kind = models.CharField(max_length=20)
    subject = models.UUIDField()
    subject_code = models.CharField(max_length=20)
    litres = models.DecimalField(max_digits=12, decimal_places=1)
    # What was said of the medium then; it stays, whatever is read or decided of it later.
    said = models.CharField(max_length=200)

    class Meta:
        indexes = [models.Index(fields=["subject"])]
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="medium_use_uuid_once")]
