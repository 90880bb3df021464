"""The library: crops, cultivars, containers, mixes, standards, methods with their stages.

Rows that ship belong to no organisation; an organisation's own rows stand beside them.
"""

from django.db import models

from aldrip.accounts.models import Organisation, User
from aldrip.base.models import Event, Known


class Shared(Known):
    """A library row as it is now: shipped (no organisation) or an organisation's own. What it was stands in its editions."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, null=True, blank=True, related_name="+")
    slug = models.SlugField(max_length=80)
    name = models.CharField(max_length=120)
    sources = models.JSONField(default=dict)  # field → source of its value
    edition = models.PositiveIntegerField(default=1)
    retired = models.BooleanField(default=False)  # not offered any more; what was made with it stays

    class Meta:
        abstract = True

    def __str__(self) -> str:
        return self.name


def once(name: str) -> list[models.BaseConstraint]:
    return [
        models.UniqueConstraint(fields=["organisation", "slug"], name=f"{name}_once", nulls_distinct=False),
    ]


class Edition(Event):
    """A library row as it stood from a moment on: written at every change, never changed itself."""

    organisation = models.ForeignKey(Organisation, on_delete=models.CASCADE, null=True, related_name="+")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True, related_name="+")
    kind = models.CharField(max_length=20)  # model name
    slug = models.SlugField(max_length=80)
    number = models.PositiveIntegerField()
    values = models.JSONField()

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["organisation", "kind", "slug", "number"], name="edition_once", nulls_distinct=False
            )
        ]


class Crop(Shared):
    """A crop, with what its seed needs."""

    botanical_name = models.CharField(max_length=120, blank=True)
    other_names = models.JSONField(default=list)
    tgw_g = models.FloatField(null=True)
    germination = models.FloatField(null=True)  # expected where no lot is chosen
    germination_sd = models.FloatField(default=0.03)
    minimum_germination = models.FloatField(null=True)
    cover = models.CharField(max_length=200, blank=True)
    depth_mm = models.FloatField(null=True)
    watch_for = models.JSONField(default=list)
    cautions = models.JSONField(default=list)
    family = models.CharField(max_length=60, blank=True)
    pollination = models.CharField(max_length=10, blank=True)  # insect, wind, self
    base_c = models.FloatField(null=True)  # of development towards flowering
    upper_c = models.FloatField(null=True)
    stages_seen = models.JSONField(default=list)  # [{slug, words, share of the heat to flowering}]
    pollinators = models.JSONField(default=dict)  # {kind, per_ha, flower_percent}

    class Meta:
        constraints = once("crop")


class Line(Shared):
    """A cultivar, or an inbred line with its role in hybrid seed."""

    crop = models.ForeignKey(Crop, on_delete=models.PROTECT, related_name="lines")
    role = models.CharField(max_length=1, blank=True)
    tgw_g = models.FloatField(null=True)
    female = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="mother_of")
    male = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="father_of")
    # An A line bears seed only with the pollen of this one, and its seed is the A line again.
    maintainer = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="maintains")
    earliness = models.CharField(max_length=5, blank=True)  # one of EARLINESS; what windows of a method go by
    to_flower_c_d = models.FloatField(null=True)
    flower_spread_days = models.FloatField(null=True)
    flower_lasts_days = models.FloatField(null=True)

    class Meta:
        constraints = [
            *once("line"),
            models.CheckConstraint(
                condition=models.Q(female__isnull=True, male__isnull=True)
                | models.Q(female__isnull=False, male__isnull=False),
                name="line_has_both_parents_or_none",
            ),
        ]


class Container(Shared):
    """What young plants are raised and delivered in."""

    class Kind(models.TextChoices):
        TRAY = "tray", "tray of cells"
        OPEN = "open", "open tray"
        BLOCKS = "blocks", "tray of blocks"
        POT = "pot", "pot"
        PACK = "pack", "pack"
        CRATE = "crate", "crate"
        BAG = "bag", "bag"

    kind = models.CharField(max_length=10, choices=Kind.choices, default=Kind.TRAY)
    cells = models.PositiveIntegerField()
    cell_ml = models.FloatField()
    length_cm = models.FloatField()
    width_cm = models.FloatField()
    depth_cm = models.FloatField()
    wet_kg = models.FloatField(null=True)
    has_holes = models.BooleanField(default=True)

    class Meta:
        constraints = [
            *once("container"),
            models.CheckConstraint(condition=models.Q(cells__gt=0, cell_ml__gt=0), name="container_holds_something"),
        ]

    @property
    def area_m2(self) -> float:
        return self.length_cm * self.width_cm / 10_000


class Mix(Shared):
    """A growing medium in parts by volume."""

    parts = models.JSONField()  # name → parts
    amendments = models.JSONField(default=list)  # what is mixed in: [{input, kg_per_m3}]
    settling = models.FloatField(default=0)
    spillage = models.FloatField(default=0)
    note = models.CharField(max_length=300, blank=True)
    cautions = models.JSONField(default=list)

    class Meta:
        constraints = once("mix")


class Input(Shared):
    """What is given to plants or used on them and their room: feeds, rooting aids, products with a label, packing."""

    class Kind(models.TextChoices):
        FEED = "feed", "feed"
        ROOTING = "rooting", "rooting aid"
        WETTER = "wetter", "wetter"
        LIVING = "living", "living helper"
        PROTECTION = "protection", "plant protection"
        CLEANER = "cleaner", "cleaner"
        PACKING = "packing", "packing"
        OTHER = "other", "other"

    kind = models.CharField(max_length=12, choices=Kind.choices, default=Kind.FEED)
    unit = models.CharField(max_length=30, default="kg")
    contains = models.JSONField(default=dict)  # name → per cent of its mass: N, P2O5, K2O …
    active = models.CharField(max_length=200, blank=True)  # of plant protection: what works in it
    registration = models.CharField(max_length=80, blank=True)
    allowed = models.CharField(max_length=10, blank=True)  # empty, old or banned
    note = models.CharField(max_length=300, blank=True)
    cautions = models.JSONField(default=list)

    class Meta:
        constraints = once("input")


class Treatment(Shared):
    """What is done by the clock to seed or planting material: its steps, what for, and how long it may lie afterwards."""

    class Kind(models.TextChoices):
        HOT_WATER = "hot_water", "hot water"
        DRY_HEAT = "dry_heat", "dry heat"
        SOAK = "soak", "soak"
        DIP = "dip", "dip"
        DUST = "dust", "dust or coat"
        PRIME = "prime", "prime"
        STRATIFY = "stratify", "stratify"
        CURE = "cure", "dry or cure"
        HARDEN = "harden", "acclimatise"

    kind = models.CharField(max_length=10, choices=Kind.choices)
    form = models.CharField(max_length=40, default="seed")  # of the lots it is for
    crops = models.JSONField(default=list)  # their names; empty for any
    raw_only = models.BooleanField(default=False)  # never of seed that was pelleted, primed or treated before
    steps = models.JSONField(default=list)  # [{name, minutes, at_c, give_c, over_minutes, caution}]
    use_within_h = models.FloatField(null=True)  # sown or planted so many hours after its end
    note = models.CharField(max_length=300, blank=True)
    cautions = models.JSONField(default=list)

    class Meta:
        constraints = once("treatment")

    @property
    def heats(self) -> bool:
        """Whether it may kill what it is to clean, so that a sample goes first."""
        return self.kind in (self.Kind.HOT_WATER, self.Kind.DRY_HEAT)


class Recipe(Shared):
    """A feed: salts and products for so many litres, and between which EC [mS/cm] and pH it is given."""

    litres = models.FloatField(default=100)
    salts = models.JSONField(default=list)  # [{formula or input, grams}]
    ec_low = models.FloatField(null=True)
    ec_high = models.FloatField(null=True)
    ph_low = models.FloatField(null=True)
    ph_high = models.FloatField(null=True)
    note = models.CharField(max_length=300, blank=True)
    cautions = models.JSONField(default=list)

    class Meta:
        constraints = [
            *once("recipe"),
            models.CheckConstraint(condition=models.Q(litres__gt=0), name="recipe_has_litres"),
        ]


class ClassScheme(Shared):
    """Seed classes in order, highest first: what may be multiplied into what."""

    classes = models.JSONField()  # [{slug, name, from: [slug]}]
    note = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = once("class_scheme")

    def names(self) -> dict[str, str]:
        return {one["slug"]: one["name"] for one in self.classes}

    def below(self, seed_class: str) -> list[str]:
        """Classes under this one, the highest first."""
        slugs = [one["slug"] for one in self.classes]
        return slugs[slugs.index(seed_class) + 1 :] if seed_class in slugs else []

    def filling(self, asked: str) -> tuple[str, ...]:
        """Classes that fill an order for one: itself first, then every higher one; none where no class is asked."""
        slugs = [one["slug"] for one in self.classes]
        above = slugs[: slugs.index(asked)] if asked in slugs else []
        return (asked, *reversed(above)) if asked else ()

    def unfit_for(self, step: str) -> set[str]:
        """Classes that a way of multiplying never gives, such as a second generation of a hybrid."""
        return {one["slug"] for one in self.classes if step in one.get("not_for", [])}


class IsolationRule(Shared):
    """How far a seed crop of a class must lie from a kind of neighbour, and whether time may stand for distance."""

    scheme = models.CharField(max_length=40)
    crop = models.ForeignKey(Crop, on_delete=models.CASCADE, related_name="isolation_rules")
    seed_class = models.CharField(max_length=40)
    step = models.CharField(max_length=10)  # hybrid, increase, open
    kind = models.CharField(max_length=40)
    metres = models.FloatField()
    time_allowed = models.BooleanField(default=False)
    time_margin_days = models.PositiveSmallIntegerField(default=14)
    statutory = models.BooleanField(default=False, db_default=False)  # of one that ships: no house goes below it

    class Meta:
        constraints = [
            *once("isolation_rule"),
            models.CheckConstraint(condition=models.Q(metres__gte=0), name="isolation_rule_metres"),
        ]


class Remedy(Shared):
    """What closes a gap between the parents' flowering, or carries pollen: for which parent, until when, by how much."""

    crops = models.JSONField(default=list)  # slugs; empty means any crop
    parent = models.CharField(max_length=10)  # lagging, leading, both
    remedy_class = models.CharField(max_length=12)  # cultural, strong, pollination
    shift_low_days = models.FloatField(default=0)
    shift_high_days = models.FloatField(default=0)
    until_share = models.FloatField(default=1)  # of the heat to flowering
    until_words = models.CharField(max_length=80)
    at_sowing = models.BooleanField(default=False)
    caution = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = once("remedy")


class Standard(Shared):
    """What a form must be like when it is handed over, a seed lot to be released, or a field to be accepted."""

    kind = models.CharField(max_length=10, default="plant")  # plant, seed, field
    crop = models.ForeignKey(Crop, on_delete=models.CASCADE, null=True, related_name="standards")
    seed_class = models.CharField(max_length=40, blank=True)
    sampling = models.JSONField(default=dict)  # of a field: {first_areas, first_ha, per_ha, plants_per_area}
    form = models.CharField(max_length=40)
    customer = models.CharField(max_length=120, blank=True)  # whose orders alone it is for
    scheme = models.CharField(max_length=80, blank=True)
    issue = models.CharField(max_length=40, blank=True)  # of the published text
    limits = models.JSONField(default=list)  # [{attribute, low?, high?, unit, words, source}]

    class Meta:
        constraints = once("standard")


class Method(Shared):
    """An ordered list of stages by which a form of a crop is raised."""

    crop = models.ForeignKey(Crop, on_delete=models.PROTECT, related_name="methods")
    form = models.CharField(max_length=40)
    unit = models.CharField(max_length=30, default="plants")
    start_unit = models.CharField(max_length=30, default="cells")
    by_seed = models.BooleanField(default=True)
    seeds_per_cell = models.PositiveSmallIntegerField(default=1)
    cell_factor = models.FloatField(default=1.0)
    cell_factor_sd = models.FloatField(default=0.0)
    container = models.ForeignKey(Container, on_delete=models.PROTECT, null=True)
    mix = models.ForeignKey(Mix, on_delete=models.PROTECT, null=True)
    standard = models.ForeignKey(Standard, on_delete=models.PROTECT, null=True)
    water_l_per_tray = models.FloatField(null=True)
    hold_days = models.FloatField(null=True)  # that ready ones may wait before they are too old
    hold_loss = models.FloatField(default=0.0)  # of the good ones, a week of waiting beyond the house's days in hand
    way = models.CharField(max_length=12, default="plants")  # plants, hybrid, drilled
    layout = models.JSONField(default=dict)  # of a seed crop: rows, borders, visits, intake limits
    default = models.BooleanField(default=True)
    note = models.CharField(max_length=400, blank=True)

    class Meta:
        constraints = once("method")


def usual_class(layout: dict[str, object], scheme: str) -> str:
    """The class that a method's seed usually gets in a scheme; empty where it says none."""
    classes = layout.get("classes", {})
    return str(classes.get(scheme, "")) if isinstance(classes, dict) else ""


class MethodStage(models.Model):
    """One step: how long, how much it keeps, where it stands, what is done."""

    method = models.ForeignKey(Method, on_delete=models.CASCADE, related_name="stages")
    order = models.PositiveSmallIntegerField()
    key = models.CharField(max_length=40)  # stable: rates, tasks, places and records hang on it
    after = models.CharField(max_length=40, blank=True)  # key of the stage whose output enters; empty where work begins
    follows = models.CharField(
        max_length=40, blank=True
    )  # key of the stage whose end is its start, where that is another
    share = models.FloatField(default=1.0)  # of what the stage before gives
    traits = models.JSONField(default=list)
    takes = models.CharField(max_length=12, blank=True)  # what goes in: seed, cutting, tuber, plant, stage …
    joins = models.CharField(max_length=12, blank=True)  # what meets it, one to one: the rootstock of a scion
    joins_crop = models.CharField(max_length=60, blank=True)  # of another crop, by its slug; empty for the same
    product = models.CharField(max_length=40, blank=True)  # form that it goes to stock as, where not the method's
    rounds = models.PositiveSmallIntegerField(default=1)
    round_days = models.FloatField(null=True)
    round_shares = models.JSONField(default=list)
    container = models.ForeignKey(Container, on_delete=models.PROTECT, null=True, related_name="+")
    name = models.CharField(max_length=60)
    kind = models.CharField(max_length=20)  # sow, germinate, grow, pot, space, harden, grade, dispatch
    days = models.FloatField(null=True)
    heat_sum_c_d = models.FloatField(null=True)
    base_c = models.FloatField(null=True)
    ceiling_c = models.FloatField(null=True)
    cool_days = models.FloatField(null=True)  # that seed lies under its ceiling first, where its place is too hot
    by_month = models.JSONField(
        default=list
    )  # days that it lasts in the middle of each month, where it goes by the season
    full_c = models.FloatField(null=True)  # warmth in which its days hold; colder it takes longer
    half_light_mol = models.FloatField(null=True)  # light a day in which it grows at half of its most
    begins = models.JSONField(default=list)  # parts of the year in which it may begin, as people write them
    floor_c = models.FloatField(null=True)  # mean of its place below which it stands still
    after_frost_days = models.SmallIntegerField(null=True)
    give_days = models.FloatField(default=0.0)  # longer or shorter, nine times in ten
    until = models.CharField(max_length=120, blank=True)  # the size or the sign that really ends it
    keeps = models.FloatField(default=1.0)
    keeps_sd = models.FloatField(default=0.0)
    multiply = models.FloatField(default=1.0)
    multiply_sd = models.FloatField(default=0.0)
    unit = models.CharField(max_length=30)
    place_kind = models.CharField(max_length=20, blank=True)
    density = models.CharField(max_length=20, blank=True)  # tray_m2, tray, unit_m2
    unit_m2 = models.FloatField(null=True)
    tasks = models.JSONField(default=list)
    sources = models.JSONField(default=dict)

    class Meta:
        ordering = ["order"]
        constraints = [
            models.UniqueConstraint(fields=["method", "order"], name="method_stage_once"),
            models.UniqueConstraint(fields=["method", "key"], name="method_stage_key_once"),
            models.CheckConstraint(condition=models.Q(share__gt=0, share__lte=1), name="method_stage_share"),
            models.CheckConstraint(
                condition=models.Q(days__isnull=False) | models.Q(heat_sum_c_d__isnull=False),
                name="method_stage_has_a_duration",
            ),
        ]
