"""Mother plants: each planting is a lot that stands; what is cut of it are lots made of that, so whatever holds it holds them."""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event, Known
from aldrip.lots.models import Lot
from aldrip.methods.models import Crop, Line
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
    slows = models.BooleanField(default=False)  # its shoots hold in the warm and on long days; slower where it stands
    exhausted_on = models.DateField(null=True)  # gives nothing to stick from that day on
    retired_on = models.DateField(null=True)
    retired_as = models.CharField(max_length=120, blank=True)  # what became of it
    note = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [models.CheckConstraint(condition=models.Q(planted__gt=0), name="mothers_are_some")]

    def __str__(self) -> str:
        return f"mothers {self.lot.code}"


class MotherPlan(Known):
    """Plantings of mothers for a demand of ready cuttings week by week, and what the plan was reckoned with."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="mother_plans")
    crop = models.ForeignKey(Crop, on_delete=models.PROTECT, related_name="+")
    line = models.ForeignKey(Line, on_delete=models.PROTECT, null=True, related_name="+")
    first = models.DateField()  # the Monday from which its weeks count
    demand = models.JSONField()  # ready cuttings by week, without reserve
    served = models.JSONField(default=list)  # of what was wanted beyond it, by week: what mothers that stand serve
    raising = models.JSONField()  # how mothers give and what becomes of what is cut, in core's words
    #: Where they will stand, when they slow in its cold and short days; and how fast they grow there by week, as reckoned.
    place = models.ForeignKey(Place, on_delete=models.SET_NULL, null=True, related_name="+")
    pace = models.JSONField(default=list)
    note = models.CharField(max_length=300, blank=True)
    dropped_on = models.DateField(null=True)

    def __str__(self) -> str:
        return f"mothers of {self.crop} from {self.first}"


class MotherStart(Known):
    """A planting that a plan asks for: in the week of its Monday; ordered, and in the end planted."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="+")
    plan = models.ForeignKey(MotherPlan, on_delete=models.CASCADE, related_name="starts")
    on = models.DateField()
    plantlets = models.PositiveIntegerField()
    ordered_on = models.DateField(null=True)
    ordered_from = models.CharField(max_length=120, blank=True)
    stock = models.OneToOneField(MotherStock, on_delete=models.SET_NULL, null=True, related_name="start")

    class Meta:
        ordering = ["on", "pk"]
        constraints = [models.UniqueConstraint(fields=["plan", "on"], name="one_start_of_a_plan_a_week")]


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


class TuberStack(Known):
    """Stacks of trays, numbered from one to another, of tubers of one grade that stand in them; a row however many there are."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="tuber_stacks")
    lot = models.ForeignKey(Lot, on_delete=models.PROTECT, related_name="tuber_stacks")
    place = models.ForeignKey(Place, on_delete=models.SET_NULL, null=True, related_name="+")
    grade = models.PositiveSmallIntegerField()
    tuber_g = models.FloatField()
    a_tray = models.PositiveIntegerField()  # tubers
    first = models.PositiveIntegerField()  # number of its first stack
    last = models.PositiveIntegerField()
    trays_a_stack = models.PositiveIntegerField()
    trays = models.PositiveIntegerField()  # that were stood
    tubers = models.PositiveIntegerField()  # that were stood
    left = models.PositiveIntegerField()  # of the trays, still there
    left_tubers = models.PositiveIntegerField()
    stood_on = models.DateField()
    turned_on = models.DateField()  # the day from which the next turn counts
    turn_every = models.PositiveSmallIntegerField()  # days; 0: never
    start = models.FloatField()  # drawn by lot, 0 to 1: where in its first step the inspection begins

    class Meta:
        ordering = ["first"]
        constraints = [
            models.UniqueConstraint(fields=["organisation", "first"], name="stack_numbers_once"),
            models.CheckConstraint(condition=models.Q(left__lte=models.F("trays")), name="no_more_trays_than_stood"),
        ]

    def __str__(self) -> str:
        return f"stacks {self.first} to {self.last}"


class TuberCheck(Event):
    """Trays drawn out of stacks and looked through: so many below standard, sprouts so long, and the verdict by the reject number."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="tuber_checks")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    stack = models.ForeignKey(TuberStack, on_delete=models.PROTECT, related_name="checks")
    trays = models.PositiveIntegerField()
    looked = models.PositiveIntegerField()  # tubers
    bad = models.PositiveIntegerField()
    limit = models.FloatField()
    reject_at = models.PositiveIntegerField()
    sprout_mm = models.FloatField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="tuber_check_uuid_once"),
            models.CheckConstraint(condition=models.Q(bad__lte=models.F("looked")), name="no_more_bad_than_looked_at"),
        ]

    @property
    def rejected(self) -> bool:
        """Whether it rejects what it was drawn from."""
        return self.bad >= self.reject_at


class LiftingSample(Event):
    """Tubers that a digging crew looked through while it lifts, and how many of them were damaged."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="lifting_samples")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    crew = models.CharField(max_length=60)
    looked = models.PositiveIntegerField()
    damaged = models.PositiveIntegerField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["organisation", "client_uuid"], name="lifting_sample_uuid_once"),
            models.CheckConstraint(
                condition=models.Q(damaged__lte=models.F("looked")), name="no_more_damaged_than_looked_at"
            ),
        ]


class TrapCount(Event):
    """Insect traps of a place were read: what they caught while they hung for so many days."""

    class Colour(models.TextChoices):
        YELLOW = "yellow", "yellow"
        BLUE = "blue", "blue"
        OTHER = "other", "other"

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, related_name="trap_counts")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    place = models.ForeignKey(Place, on_delete=models.PROTECT, related_name="+")
    colour = models.CharField(max_length=10, choices=Colour.choices)
    insect = models.CharField(max_length=60)
    found = models.PositiveIntegerField()
    traps = models.PositiveIntegerField()
    days = models.PositiveSmallIntegerField()
    act_from = models.FloatField(null=True)  # a trap and week; what the house acts on, where it was said

    class Meta:
        indexes = [models.Index(fields=["organisation", "-happened_at"], name="trap_counts_newest")]
        constraints = [models.UniqueConstraint(fields=["organisation", "client_uuid"], name="trap_count_uuid_once")]
