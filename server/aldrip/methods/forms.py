"""What a library row can say, field by field: how it is asked for, read as it was typed, and shown again.

One description serves every screen: the form of a row, its faults by field, and what stands beside a changed value.
"""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from enum import StrEnum
from typing import Any

from aldrip.base.quantity import read_measure, split_number
from aldrip.methods.models import Container, Input, Treatment
from aldrip_core.place_kinds import PLACE_KINDS
from aldrip_core.refusal import FieldError, Refused
from aldrip_core.seasons import EARLINESS
from aldrip_core.stages import Allowed, Density, Part, Trait
from aldrip_core.units import Unit


class Sort(StrEnum):
    """How a value is typed and what it is kept as."""

    TEXT = "text"
    LINES = "lines"  # a text a line, kept as a list
    NUMBER = "number"
    WHOLE = "whole"
    SHARE = "share"  # typed in per cent, kept as 0 to 1
    CHOICE = "choice"
    SEVERAL = "several"  # any number of choices
    CHECK = "check"
    ROW = "row"  # another library row, by slug
    TABLE = "table"  # rows of fields of their own
    PARTS = "parts"  # names with numbers: “peat 3, sand 1”
    NUMBERS = "numbers"  # numbers with spaces, kept as a list
    AMOUNT = "amount"  # a number with its unit: “4 g”
    NAMES = "names"  # names with commas, kept as a list


@dataclass(frozen=True)
class Asked:
    """One field of a form. `low` and `high` bound a number in its unit; `of` names the kind of a library row."""

    name: str
    words: str
    sort: Sort = Sort.TEXT
    unit: str = ""
    hint: str = ""
    needed: bool = False
    low: float | None = None
    high: float | None = None
    choices: tuple[tuple[str, str], ...] = ()
    of: str = ""
    fields: tuple["Asked", ...] = ()
    start: Any = None  # what a new row has
    more: bool = False  # seldom wanted: folded away at first


def _units(*, pieces: bool = False) -> tuple[tuple[str, str], ...]:
    wanted = (one for one in Unit if one.is_pieces or (not pieces and (one.is_mass or one is Unit.SQUARE_METRE)))
    return tuple((one.words, one.words) for one in wanted)


SUPPLIED = (Unit.KILOGRAM, Unit.GRAM, Unit.LITRE, Unit.MILLILITRE, Unit.PIECE)


def _weighs(typed: str) -> bool:
    return typed.lower().rstrip(".s") in ("oz", "ounce", "lb", "pound", "mg", "t")


def _supplied() -> tuple[tuple[str, str], ...]:
    """Units in which something is bought and measured out."""
    return tuple((one.words, one.words) for one in SUPPLIED)


def _number(name: str, words: str, unit: str = "", low: float = 0, high: float = 1e6, **more: Any) -> Asked:
    return Asked(name, words, Sort.NUMBER, unit, low=low, high=high, **more)


def _share(name: str, words: str, **more: Any) -> Asked:
    return Asked(name, words, Sort.SHARE, "%", low=0, high=1, **more)


NAME = Asked("name", "Name", needed=True)
CAUTIONS = Asked(
    "cautions", "Cautions", Sort.LINES, hint="one a line; shown where the work is done", start=[], more=True
)
CONTAINER_KINDS = tuple((str(value), str(words)) for value, words in Container.Kind.choices)
POLLINATION = (("insect", "by insects"), ("wind", "by wind"), ("self", "by itself"))
PARTS_OF_DAY = tuple((one, one) for one in ("early", "morning", "afternoon", "evening"))
TASK_AT = (("before", "the day before"), ("start", "when it begins"), ("end", "when it ends"))
TASK_KINDS = (
    "sow",
    "stack",
    "count",
    "move",
    "pot",
    "space",
    "prick",
    "thin",
    "water",
    "feed",
    "scout",
    "vent",
    "turn",
    "wash",
    "rogue",
    "cut",
    "grade",
    "deliver",
    "other",
)
STAGE_KINDS = (
    "sow",
    "germinate",
    "grow",
    "prick",
    "thin",
    "pot",
    "space",
    "harden",
    "chill",
    "store",
    "lift",
    "cut",
    "pick",
    "flower",
    "ripen",
    "harvest",
    "dry",
    "clean",
    "test",
    "grade",
    "dispatch",
)
DENSITIES = (
    (Density.NONE.value, "nothing"),
    (Density.TRAY.value, "its trays, counted"),
    (Density.TRAY_M2.value, "the area of its trays"),
    (Density.UNIT_M2.value, "so much ground each"),
)
TRAIT_WORDS = {
    Trait.STARTS: "begins with what goes in",
    Trait.EMERGES: "comes up or roots, and is counted",
    Trait.YIELDS: "goes to stock",
    Trait.GRADES: "is graded",
    Trait.WAITS: "may wait",
    Trait.LEAVES: "is handed over",
    Trait.FLOWERS: "flowers",
    Trait.LOADS: "is harvested in loads",
    Trait.DRIES: "is dried",
    Trait.CLEANS: "is cleaned",
    Trait.TESTS: "is tested",
}
PER = (("", "all of it"), ("tray", "each tray"), ("unit", "each piece"))
ALLOWED = (
    (Allowed.FREE.value, "may be used"),
    (Allowed.OLD.value, "old: there are better ways"),
    (Allowed.BANNED.value, "banned"),
)
TREATMENT_KINDS = tuple((str(value), str(words)) for value, words in Treatment.Kind.choices)
INPUT_KINDS = tuple((str(value), str(words)) for value, words in Input.Kind.choices)
TASK = (
    Asked("kind", "Kind", Sort.CHOICE, choices=tuple((one, one) for one in TASK_KINDS), needed=True, start="other"),
    Asked("words", "What is done", needed=True, hint="{crop} stands for the crop's name"),
    Asked("at", "When", Sort.CHOICE, choices=TASK_AT, start="start"),
    Asked("part", "Part of the day", Sort.CHOICE, choices=PARTS_OF_DAY, start="morning"),
    Asked(
        "every_days",
        "Again every so many days",
        Sort.WHOLE,
        low=0,
        high=90,
        start=0,
        hint="as long as the stage lasts; 0: once",
        more=True,
    ),
    Asked(
        "after_days",
        "so many days after its start",
        Sort.WHOLE,
        low=0,
        high=400,
        start=0,
        hint="of work that is done when it begins; left out where the stage is over by then",
        more=True,
    ),
    _number("minutes", "Minutes in all", "min", high=10_000),
    _number("minutes_per_tray", "Minutes a tray", "min", high=1000),
    _number("minutes_per_unit", "Minutes a piece", "min", high=1000),
    Asked("caution", "Caution", hint="short; printed on the card"),
    Asked("input", "Uses", Sort.ROW, of="input", more=True),
    Asked(
        "amount",
        "so much of it",
        Sort.AMOUNT,
        hint="“4 g”, “20 ml”; of a product with a label, what the label says",
        more=True,
    ),
    Asked("per", "for", Sort.CHOICE, choices=PER, start="", more=True),
)
STAGE = (
    Asked("name", "Stage", needed=True),
    Asked("kind", "Kind", Sort.CHOICE, choices=tuple((one, one) for one in STAGE_KINDS), needed=True, start="grow"),
    Asked("key", "Known as", hint="stays, whatever the stage is called; made from its kind when empty", more=True),
    Asked("after", "Comes after", hint="a stage before it, by its “known as”; empty for the one above", more=True),
    _number("days", "Lasts", "days", high=3000, start=0),
    _number("give_days", "give or take", "days", high=365, start=0.0, hint="nine times in ten"),
    Asked(
        "by_month",
        "or days by the season",
        Sort.NUMBERS,
        hint="twelve numbers, January first: how long it lasts in each month",
        start=[],
        more=True,
    ),
    Asked(
        "begins",
        "Begins",
        Sort.LINES,
        hint="“20 Sep to 10 Nov”, one part of the year a line, as north of the equator; “early: 16 Aug to 31 Aug” for early cultivars; empty for any day",
        start=[],
        more=True,
    ),
    Asked(
        "after_frost_days",
        "days after the last frost",
        Sort.WHOLE,
        unit="days",
        low=-60,
        high=90,
        hint="at the soonest; with a minus sign before it",
        more=True,
    ),
    _number("floor_c", "stands still below", "°C", low=-10, high=30, hint="mean of a day where it stands", more=True),
    _number(
        "full_c", "its days hold at", "°C", low=0, high=35, hint="colder it takes longer, down to the base", more=True
    ),
    _number("half_light_mol", "half its pace in light of", "mol/m² a day", low=0.1, high=40, more=True),
    Asked("until", "Over when", start="", hint="the size or the sign that really ends it: “8 cm of shoot”", more=True),
    _number("heat_sum_c_d", "or a heat sum of", "°C·d", high=20_000, more=True),
    _number("base_c", "over a base of", "°C", low=-5, high=20, more=True),
    _number("ceiling_c", "rests above", "°C", low=15, high=45, more=True),
    _number("cool_days", "and comes up after so many days in the cool", "days", low=0.5, high=30, more=True),
    _share("keeps", "Keeps", start=1.0),
    _share("keeps_sd", "give or take", start=0.0),
    _number("multiply", "Of one come", high=1e6, start=1.0, more=True),
    _number("multiply_sd", "give or take", high=1e6, start=0.0, more=True),
    _share("share", "Takes of what came before", start=1.0, more=True),
    Asked("unit", "Counted in", Sort.CHOICE, choices=_units(), needed=True, start="plants"),
    Asked("place_kind", "Stands in", Sort.CHOICE, choices=(("", "no place"), *PLACE_KINDS.items()), start=""),
    Asked("density", "Takes up", Sort.CHOICE, choices=DENSITIES, start=""),
    _number("unit_m2", "Ground each", "m²", high=10_000, hint="of what goes in"),
    Asked(
        "container",
        "Other container",
        Sort.ROW,
        of="container",
        hint="where it is pricked out or potted into another",
        more=True,
    ),
    Asked(
        "takes",
        "What goes in",
        Sort.CHOICE,
        choices=(("", "nothing new"), *((one.value, one.value) for one in Part)),
        start="",
        more=True,
    ),
    Asked(
        "joins",
        "Joined with",
        Sort.CHOICE,
        choices=(("", "nothing"), *((one.value, one.value) for one in Part if one is not Part.SEED)),
        start="",
        hint="one to one, as a scion with its rootstock",
        more=True,
    ),
    Asked("joins_crop", "which is of", Sort.ROW, of="crop", hint="empty: the same crop", more=True),
    Asked("product", "Goes to stock as", hint="a form of its own, where not the method's", start="", more=True),
    Asked("rounds", "Rounds", Sort.WHOLE, low=1, high=60, start=1, more=True),
    _number("round_days", "days between rounds", "days", high=365, more=True),
    Asked(
        "traits",
        "What happens",
        Sort.SEVERAL,
        choices=tuple((one.value, TRAIT_WORDS[one]) for one in Trait),
        start=[],
        more=True,
    ),
    Asked("tasks", "Work", Sort.TABLE, fields=TASK, start=[]),
)
TIMED_STEP = (
    Asked("name", "Step", needed=True, hint="“hot water”, “cool at once”, “dry in shade”"),
    _number("minutes", "Lasts", "min", low=0.1, high=172_800, needed=True, hint="“25”, “24 h”"),
    _number("at_c", "at", "°C", low=-30, high=100, hint="empty where the warmth does not matter"),
    _number("give_c", "within", "°C", low=0.1, high=20, start=0.5, more=True),
    _number(
        "over_minutes", "may last longer by", "min", high=10_000, hint="empty where longer does no harm", more=True
    ),
    Asked("caution", "Caution", hint="short; shown while it runs"),
)
SALT = (
    Asked("formula", "Salt", start="", hint="its formula: “KNO3”, “Ca(NO3)2·4H2O”"),
    Asked("input", "or a product", Sort.ROW, of="input"),
    _number("grams", "Grams", "g", low=0.001, high=1e6, needed=True),
)
AMENDMENT = (
    Asked("input", "Product", Sort.ROW, of="input", needed=True),
    _number("kg_per_m3", "Kilograms in a cubic metre", "kg/m³", low=0.001, high=200, needed=True),
)
LIMIT = (
    Asked("words", "What is judged", needed=True),
    Asked("attribute", "Known as", hint="made from the words when left empty"),
    _number("low", "At least", high=1e6, low=-100),
    _number("high", "At most", high=1e6, low=-100),
    Asked("unit", "Unit", start=""),
    Asked("required", "must be tested", Sort.CHECK, start=True),
    Asked("source", "Where it comes from", start=""),
)
SEED_CLASS = (
    Asked("name", "Class", needed=True),
    Asked("slug", "Known as", hint="stays, whatever the class is called; made from its name when empty", more=True),
    Asked("from", "Grown from", Sort.NAMES, hint="classes above it, with commas; empty for the first", start=[]),
    Asked("not_for", "Not for", Sort.NAMES, hint="hybrid, increase or open", start=[], more=True),
)
FORMS: dict[str, tuple[Asked, ...]] = {
    "crop": (
        NAME,
        Asked("botanical_name", "Botanical name", start=""),
        Asked("other_names", "Other names", Sort.LINES, hint="one a line; orders may call it by any of them", start=[]),
        _number("tgw_g", "Weight of a thousand seeds", "g", low=0.001, high=3000),
        _share("germination", "Germination to reckon with", hint="where no lot is chosen"),
        _share("germination_sd", "give or take", start=0.03),
        _share("minimum_germination", "Least germination allowed"),
        _number("depth_mm", "Sown at a depth of", "mm", high=300),
        Asked("cover", "Cover", start=""),
        Asked("watch_for", "Watch for", Sort.LINES, hint="one a line", start=[]),
        CAUTIONS,
        Asked("family", "Family", start="", more=True),
        Asked("pollination", "Pollinated", Sort.CHOICE, choices=(("", "not known"), *POLLINATION), start="", more=True),
        _number("base_c", "Grows above", "°C", low=-5, high=20, more=True),
        _number("upper_c", "and no faster above", "°C", low=10, high=45, more=True),
    ),
    "line": (
        NAME,
        Asked("crop", "Crop", Sort.ROW, of="crop", needed=True),
        Asked(
            "role",
            "Role",
            Sort.CHOICE,
            choices=(("", "none, or a hybrid"), ("A", "A, male-sterile"), ("B", "B, maintainer"), ("R", "R, restorer")),
            start="",
        ),
        Asked(
            "earliness",
            "Earliness",
            Sort.CHOICE,
            choices=(("", "not said"), *((one, one) for one in EARLINESS)),
            start="",
            hint="which windows of a method hold for it",
        ),
        _number("tgw_g", "Weight of a thousand seeds", "g", low=0.001, high=3000),
        Asked("female", "Female of the hybrid", Sort.ROW, of="line"),
        Asked("male", "Male of the hybrid", Sort.ROW, of="line"),
        Asked(
            "maintainer", "Kept going with", Sort.ROW, of="line", hint="of an A line: the B line that gives its pollen"
        ),
        _number("to_flower_c_d", "Heat to first flowers", "°C·d", high=10_000),
        _number("flower_spread_days", "Plants differ by", "days", high=120),
        _number("flower_lasts_days", "A plant flowers for", "days", high=200),
    ),
    "container": (
        NAME,
        Asked("kind", "Kind", Sort.CHOICE, choices=CONTAINER_KINDS, start="tray", needed=True),
        Asked("cells", "Cells", Sort.WHOLE, needed=True, low=1, high=20_000, hint="1 for a pot, a bag or a bed"),
        _number("cell_ml", "A cell holds", "ml", low=0.1, high=1e6, needed=True),
        _number("length_cm", "Length", "cm", low=1, high=10_000, needed=True),
        _number("width_cm", "Width", "cm", low=1, high=10_000, needed=True),
        _number("depth_cm", "Depth", "cm", low=0.5, high=500, needed=True),
        _number("wet_kg", "Weighs, watered", "kg", high=1000),
        Asked("has_holes", "water runs out below", Sort.CHECK, start=True),
    ),
    "mix": (
        NAME,
        Asked("parts", "Parts by volume", Sort.PARTS, needed=True, hint="“peat 3, perlite 1”"),
        Asked("amendments", "Mixed in", Sort.TABLE, fields=AMENDMENT, start=[], hint="controlled release, lime"),
        _share("settling", "Settles by", start=0.1),
        _share("spillage", "Spilled", start=0.05),
        Asked("note", "Note", start=""),
        CAUTIONS,
    ),
    "input": (
        NAME,
        Asked("kind", "Kind", Sort.CHOICE, choices=INPUT_KINDS, start="feed", needed=True),
        Asked("unit", "Counted in", Sort.CHOICE, choices=_supplied(), needed=True, start="kg"),
        Asked(
            "contains",
            "Contains, % of its weight",
            Sort.PARTS,
            hint="“N 15.5, Ca 19”; as the bag says, oxides as oxides",
        ),
        Asked("active", "Active substance", start="", hint="of plant protection"),
        Asked("registration", "Registered as", start="", more=True),
        Asked("allowed", "In this house", Sort.CHOICE, choices=ALLOWED, start=""),
        Asked("note", "Note", start=""),
        CAUTIONS,
    ),
    "treatment": (
        NAME,
        Asked("kind", "Kind", Sort.CHOICE, choices=TREATMENT_KINDS, start="soak", needed=True),
        Asked("form", "Of what", start="seed", needed=True, hint="as lots are kept: seed, tubers, cuttings"),
        Asked("crops", "For", Sort.NAMES, start=[], hint="names of crops, with commas; empty for any"),
        Asked("steps", "Steps", Sort.TABLE, fields=TIMED_STEP, start=[], needed=True),
        Asked("raw_only", "never of what was pelleted, primed or treated before", Sort.CHECK, start=False),
        _number("use_within_h", "Sown or planted within", "h", low=0.5, high=20_000, hint="of its end"),
        Asked("note", "Note", start=""),
        CAUTIONS,
    ),
    "recipe": (
        NAME,
        _number("litres", "For", "L", low=0.1, high=1e6, start=100.0, needed=True),
        Asked("salts", "Salts and products", Sort.TABLE, fields=SALT, start=[], needed=True),
        _number("ec_low", "EC at least", "mS/cm", high=20),
        _number("ec_high", "and at most", "mS/cm", high=20),
        _number("ph_low", "pH at least", "", high=14),
        _number("ph_high", "and at most", "", high=14),
        Asked("note", "Note", start=""),
        CAUTIONS,
    ),
    "standard": (
        NAME,
        Asked(
            "kind",
            "Of",
            Sort.CHOICE,
            choices=(("plant", "plants"), ("seed", "seed"), ("field", "a field")),
            start="plant",
            needed=True,
        ),
        Asked("form", "Form", needed=True, hint="as an order calls it: plug, pot, rooted cutting, seed"),
        Asked("crop", "Crop", Sort.ROW, of="crop", hint="empty for any crop"),
        Asked("customer", "Only for", start="", hint="a customer whose orders it is for; empty for everybody's"),
        Asked("seed_class", "Class of seed", start=""),
        Asked("limits", "Limits", Sort.TABLE, fields=LIMIT, start=[], needed=True),
    ),
    "class_scheme": (
        NAME,
        Asked("classes", "Classes, the highest first", Sort.TABLE, fields=SEED_CLASS, start=[], needed=True),
        Asked("note", "Note", start=""),
    ),
    "isolation_rule": (
        Asked("crop", "Crop", Sort.ROW, of="crop", needed=True),
        Asked("scheme", "Scheme", needed=True, start="own"),
        Asked("seed_class", "Class", needed=True),
        Asked(
            "step",
            "Of",
            Sort.CHOICE,
            choices=(("open", "open-pollinated seed"), ("increase", "increase of parents"), ("hybrid", "hybrid seed")),
            needed=True,
            start="open",
        ),
        Asked("kind", "From", needed=True, hint="what grows there: “same species”, “wild relative”"),
        _number("metres", "Least distance", "m", high=20_000, needed=True),
        Asked("time_allowed", "flowering at another time will do", Sort.CHECK, start=False),
        Asked("time_margin_days", "Days between", Sort.WHOLE, low=0, high=120, start=14),
    ),
    "method": (
        NAME,
        Asked("crop", "Crop", Sort.ROW, of="crop", needed=True),
        Asked("form", "Form", needed=True, hint="as an order calls it: plug, pot, bare root, rooted cutting"),
        Asked("unit", "Promised in", Sort.CHOICE, choices=_units(), needed=True, start="plants"),
        Asked("start_unit", "Begun with", Sort.CHOICE, choices=_units(), needed=True, start="cells"),
        Asked("by_seed", "begun from seed", Sort.CHECK, start=True),
        Asked("seeds_per_cell", "Seeds a cell", Sort.WHOLE, low=1, high=20_000, start=1, hint="of a mat, all its seed"),
        _share("cell_factor", "Comes up of what can germinate", start=0.95),
        _share("cell_factor_sd", "give or take", start=0.025),
        Asked("container", "Container", Sort.ROW, of="container"),
        Asked("mix", "Mix", Sort.ROW, of="mix"),
        Asked("standard", "Standard", Sort.ROW, of="standard"),
        _number("water_l_per_tray", "Water a tray", "L", high=200, more=True),
        _number("hold_days", "Ready ones may wait", "days", high=1000, hint="before they are too old to hand over"),
        _share("hold_loss", "Lost a week of waiting", start=0.0),
        Asked("default", "the usual way for this crop and form", Sort.CHECK, start=True),
        Asked("note", "Note", start="", hint="why this way and not another"),
        Asked("stages", "Stages", Sort.TABLE, fields=STAGE, start=[], needed=True),
    ),
}


@dataclass
class _Reading:
    """What is read so far, and what could not be."""

    faults: list[FieldError] = field(default_factory=list)

    def fault(self, at: str, code: str, message: str) -> None:
        self.faults.append(FieldError(at, code, message))

    def table(self, fields: tuple[Asked, ...], typed: Mapping[str, Any], at: str = "") -> dict[str, Any]:
        """Every field that was typed; one that is needed and neither typed nor known before is a fault."""
        values: dict[str, Any] = {}
        for one in fields:
            if one.name in typed:
                values[one.name] = self.value(one, typed[one.name], f"{at}{one.name}")
        for name in typed:
            if all(one.name != name for one in fields):
                self.fault(f"{at}{name}", "unknown", f"There is no “{name}” here.")
        return values

    def value(self, one: Asked, typed: Any, at: str) -> Any:
        if one.sort is Sort.TABLE:
            return self._rows(one, typed, at)
        if one.sort is Sort.CHECK:
            return typed in (True, "yes", "true", "on")
        if one.sort is Sort.SEVERAL:
            return self._several(one, typed, at)
        text = "" if typed is None else str(typed).strip()
        if not text:
            if one.needed:
                self.fault(at, "missing", f"{one.words}: say it; nothing can stand here without.")
            return _empty(one)
        return READERS[one.sort](self, one, text, at)

    def _rows(self, one: Asked, typed: Any, at: str) -> Any:
        if not isinstance(typed, list) or not all(isinstance(row, Mapping) for row in typed):
            self.fault(at, "no_rows", f"{one.words} are rows; these are none.")
            return []
        if one.needed and not typed:
            self.fault(at, "missing", f"{one.words}: at least one is needed.")
        return [self.table(one.fields, row, f"{at}.{index}.") for index, row in enumerate(typed)]

    def _several(self, one: Asked, typed: Any, at: str) -> list[str]:
        named = [str(name) for name in typed] if isinstance(typed, list) else []
        for name in named:
            if name not in dict(one.choices):
                self.fault(at, "not_a_choice", f"“{name}” is none of these.")
        return named

    def number(self, one: Asked, text: str, at: str) -> float | None:
        try:
            value = read_measure(text, "" if one.unit in ("days", "°C·d") else one.unit, at)
        except Refused as refused:
            self.faults.extend(refused.errors)
            return None
        return self._within(one, value, at)

    def whole(self, one: Asked, text: str, at: str) -> int | None:
        value = self.number(one, text, at)
        if value is not None and value != int(value):
            self.fault(at, "not_whole", f"{one.words}: a whole number, not {value:g}.")
            return None
        return None if value is None else int(value)

    def share(self, one: Asked, text: str, at: str) -> float | None:
        """Per cent; a bare number below 1 is meant as a share of 1."""
        plain = text.removesuffix("%").strip()
        try:
            value = read_measure(plain, "", at)
        except Refused as refused:
            self.faults.extend(refused.errors)
            return None
        value = value if "%" not in text and 0 < value < 1 else value / 100
        if not 0 <= value <= 1:
            self.fault(at, "out_of_range", f"{one.words}: {value * 100:g} % cannot be; 0 to 100 %.")
            return None
        return value

    def _within(self, one: Asked, value: float, at: str) -> float | None:
        unit = f" {one.unit}" if one.unit else ""
        if one.low is not None and value < one.low:
            self.fault(at, "out_of_range", f"{one.words}: {value:g}{unit} is too little; at least {one.low:g}{unit}.")
            return None
        if one.high is not None and value > one.high:
            self.fault(at, "out_of_range", f"{one.words}: {value:,g}{unit} is too much; at most {one.high:,g}{unit}.")
            return None
        return value

    def amount(self, one: Asked, text: str, at: str) -> str | None:
        """So much by weight, volume or number, as it was typed where it is metric."""
        try:
            value, typed = split_number(text, at)
            known = next((unit for unit in SUPPLIED if unit.words.lower() == typed.lower()), None)
            if known is None:
                known = Unit.GRAM if _weighs(typed) else Unit.MILLILITRE
                value = read_measure(text, known.words, at) if typed else 0.0
        except Refused as refused:
            self.faults.extend(refused.errors)
            return None
        if not typed or value <= 0:
            self.fault(at, "no_unit", f"{one.words}: say how much and of what, as “4 g”, “20 ml” or “2 pieces”.")
            return None
        return f"{_figure(float(f'{value:.6g}'))} {known.words}" if self._within(one, value, at) is not None else None

    def choice(self, one: Asked, text: str, at: str) -> str:
        if text not in dict(one.choices):
            self.fault(at, "not_a_choice", f"“{text}” is none of {', '.join(words for _, words in one.choices)}.")
        return text

    def text(self, one: Asked, text: str, at: str) -> str:
        if "\x00" in text:
            self.fault(at, "unreadable", "There is a character in this that nobody can read.")
        return text

    def lines(self, one: Asked, text: str, at: str) -> list[str]:
        return [line.strip() for line in self.text(one, text, at).splitlines() if line.strip()]

    def numbers(self, one: Asked, text: str, at: str) -> list[float]:
        found: list[float] = []
        for part in text.replace(";", " ").replace(", ", " ").split():
            try:
                found.append(read_measure(part, "", at))
            except Refused as refused:
                self.faults.extend(refused.errors)
        return found

    def names(self, one: Asked, text: str, at: str) -> list[str]:
        return [name.strip() for name in self.text(one, text, at).split(",") if name.strip()]

    def parts(self, one: Asked, text: str, at: str) -> dict[str, float]:
        found: dict[str, float] = {}
        for part in text.replace("\n", ",").split(","):
            name, _, many = part.strip().rpartition(" ")
            try:
                found[name.strip()] = read_measure(many, "", at)
            except Refused:
                name = ""
            if not name.strip() or not found.get(name.strip(), 0) > 0:
                self.fault(
                    at, "no_part", f"“{part.strip()}” is no part with a number. Write it like “peat 3, perlite 1”."
                )
        return found


READERS: dict[Sort, Callable[[_Reading, Asked, str, str], Any]] = {
    Sort.TEXT: _Reading.text,
    Sort.LINES: _Reading.lines,
    Sort.NUMBER: _Reading.number,
    Sort.WHOLE: _Reading.whole,
    Sort.SHARE: _Reading.share,
    Sort.CHOICE: _Reading.choice,
    Sort.ROW: _Reading.text,
    Sort.PARTS: _Reading.parts,
    Sort.NAMES: _Reading.names,
    Sort.NUMBERS: _Reading.numbers,
    Sort.AMOUNT: _Reading.amount,
}


def _empty(one: Asked) -> Any:
    """What a field is when nothing stands in it."""
    if one.sort in (Sort.TEXT, Sort.CHOICE):
        return ""
    return {Sort.LINES: [], Sort.NAMES: [], Sort.NUMBERS: [], Sort.PARTS: {}}.get(
        one.sort, one.start if one.sort is Sort.WHOLE else None
    )


def read_form(kind: str, typed: Mapping[str, Any]) -> dict[str, Any]:
    """What was typed in a form of a kind, as values of a library row. Raises Refused with every fault by field."""
    reading = _Reading()
    values = reading.table(FORMS[kind], typed)
    if reading.faults:
        raise Refused(reading.faults)
    return values


def blank(fields: tuple[Asked, ...]) -> dict[str, Any]:
    """The values of a row that nobody has filled in."""
    return {one.name: one.start if one.start is not None else _empty(one) for one in fields}


def typed_of(fields: tuple[Asked, ...], values: Mapping[str, Any]) -> dict[str, Any]:
    """Values as they would be typed: the text of each field, so that what is read again is what stands there."""
    return {one.name: _typed(one, values.get(one.name, one.start)) for one in fields}


def _typed(one: Asked, value: Any) -> Any:
    if one.sort is Sort.TABLE:
        return [typed_of(one.fields, row) for row in value or []]
    if one.sort is Sort.CHECK:
        return bool(value)
    if one.sort is Sort.SEVERAL:
        return list(value or [])
    if value is None or value == "":
        return ""
    if one.sort is Sort.SHARE:  # a bare number under 1 would be read as a share of 1
        return _figure(float(f"{value * 100:.12g}")) + (" %" if 0 < value < 0.01 else "")
    if one.sort is Sort.LINES:
        return "\n".join(value)
    if one.sort is Sort.NUMBERS:
        return " ".join(_figure(float(number)) for number in value)
    if one.sort is Sort.NAMES:
        return ", ".join(value)
    if one.sort is Sort.PARTS:
        return ", ".join(f"{name} {_figure(many)}" for name, many in value.items())
    return _figure(value) if isinstance(value, float) else str(value)


def _figure(value: float) -> str:
    """A number as short as it can be said without losing what counts."""
    return format(Decimal(repr(value)).normalize(), "f") if value else "0"


def named_fields(fields: tuple[Asked, ...], at: str = "") -> Iterator[str]:
    """The path of every field of a form, with those of its tables once."""
    for one in fields:
        yield f"{at}{one.name}"
        yield from named_fields(one.fields, f"{at}{one.name}.")
