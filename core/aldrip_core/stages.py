"""A method as core knows it: stages that form a tree, each with a stable key and traits that say what it does."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import cached_property
from typing import Any

from aldrip_core.distributions import Spread
from aldrip_core.refusal import FieldError, Refused
from aldrip_core.schedule import Duration
from aldrip_core.seasons import ANY_TIME, Season
from aldrip_core.units import Quantity, Unit


class Trait(StrEnum):
    """What a stage does, whatever it is called."""

    STARTS = "starts"  # what the batch is begun with goes in: seed, cuttings, tubers, plants
    EMERGES = "emerges"  # what was put in comes up or roots, and is counted
    YIELDS = "yields"  # something of it goes to stock as a lot
    GRADES = "grades"  # judged against a standard; what passes goes on
    WAITS = "waits"  # may last longer than it must
    LEAVES = "leaves"  # handed over
    FLOWERS = "flowers"
    LOADS = "loads"  # harvested in loads that are weighed at the door
    DRIES = "dries"
    CLEANS = "cleans"
    TESTS = "tests"


class Part(StrEnum):
    """The sorts of input that a stage may take."""

    SEED = "seed"
    CUTTING = "cutting"
    SCION = "scion"
    ROOTSTOCK = "rootstock"
    TUBER = "tuber"
    DIVISION = "division"
    PLANT = "plant"
    STAGE = "stage"  # what a stage of another batch gives


class Density(StrEnum):
    """How a stage takes up its place."""

    NONE = ""
    TRAY = "tray"  # counted in trays
    TRAY_M2 = "tray_m2"  # by the footprint of its trays
    UNIT_M2 = "unit_m2"  # by what stands there


@dataclass(frozen=True, slots=True)
class ContainerSpec:
    """A tray or pot as a batch was planned in: cells each, millilitres a cell, footprint [m²]."""

    slug: str
    name: str
    cells: int
    area_m2: float
    cell_ml: float = 0.0
    wet_kg: float | None = None


@dataclass(frozen=True, slots=True)
class Factor:
    """How many come of one, with a spread between batches: cuttings a mother, kilos a square metre."""

    mean: float = 1.0
    sd: float = 0.0


class Allowed(StrEnum):
    """Whether something may still be used."""

    FREE = ""
    OLD = "old"  # still allowed, and there are better ways
    BANNED = "banned"


@dataclass(frozen=True, slots=True)
class InputSpec:
    """What is given to plants or used on them: a feed, a rooting aid, a product with a label."""

    slug: str
    name: str
    unit: Unit
    cautions: tuple[str, ...] = ()
    allowed: Allowed = Allowed.FREE


@dataclass(frozen=True, slots=True)
class TaskSpec:
    """Work that hangs on a stage. `at`: before, start or end; minutes in all, a tray or a unit.

    `every_days`: care that comes again as long as the stage lasts; 0: once. `after_days`: what is at its start is done so
    many days after it. `uses` so much of an input: `amount`, `per` tray, unit or, when empty, in all.
    """

    key: str
    kind: str
    words: str
    at: str = "start"
    part: str = "morning"
    minutes: float | None = None
    minutes_per_tray: float | None = None
    minutes_per_unit: float | None = None
    caution: str = ""
    uses: InputSpec | None = None
    amount: Quantity | None = None
    per: str = ""
    every_days: int = 0
    after_days: int = 0


@dataclass(frozen=True, slots=True)
class StageSpec:
    """One stage. `after`: the stage whose output enters here; `share` of it [0-1]; `follows`: whose end is its start.

    `joins`: what meets what it `takes`, one to one, as the rootstock meets the scion; of crop `joins_crop`, or its own where that is empty.
    """

    key: str
    name: str
    kind: str
    after: str | None
    follows: str | None
    duration: Duration
    keeps: Spread
    source: str
    unit: Unit
    share: float = 1.0
    factor: Factor = Factor()
    traits: frozenset[Trait] = frozenset()
    takes: Part | None = None
    joins: Part | None = None
    joins_crop: str = ""
    place_kind: str = ""
    density: Density = Density.NONE
    unit_m2: float = 0.0
    container: ContainerSpec | None = None
    product: str = ""
    round_of: str = ""
    tasks: tuple[TaskSpec, ...] = ()
    season: Season = ANY_TIME

    def does(self, trait: Trait) -> bool:
        """Whether it has a trait."""
        return trait in self.traits


@dataclass(frozen=True)
class MethodSpec:
    """A method with its stages in order of work; a stage never stands before the one it comes after."""

    slug: str
    name: str
    form: str
    unit: Unit
    start_unit: Unit
    by_seed: bool
    stages: tuple[StageSpec, ...]
    seeds_per_cell: int = 1
    cell_factor: Spread = field(default_factory=lambda: Spread(1.0))
    cell_factor_source: str = ""
    water_l_per_tray: float | None = None
    hold_days: float | None = None  # that what is ready may wait before it is too old; None where nobody said
    hold_loss: float = 0.0  # of the good ones, a week of waiting [0-1]
    way: str = "plants"
    layout: Mapping[str, Any] = field(default_factory=dict)
    edition: int = 1

    @cached_property
    def by_key(self) -> dict[str, StageSpec]:
        return {stage.key: stage for stage in self.stages}

    @cached_property
    def root(self) -> StageSpec:
        """The stage with which a batch begins."""
        return next(stage for stage in self.stages if stage.after is None)

    @cached_property
    def spine(self) -> tuple[StageSpec, ...]:
        """From the start to what the method is named for: the first branch at every fork."""
        found, now = [self.root], self.root
        while True:
            onward = next((s for s in self.stages if s.follows == now.key), None)
            if onward is None:
                return tuple(found)
            found.append(onward)
            now = onward

    @cached_property
    def last(self) -> StageSpec:
        """The stage whose end is the day on which the batch is ready."""
        return self.spine[-1]

    def with_trait(self, trait: Trait) -> tuple[StageSpec, ...]:
        return tuple(stage for stage in self.stages if trait in stage.traits)

    def first_with(self, trait: Trait) -> StageSpec | None:
        """The first stage that does something; None where none does."""
        return next(iter(self.with_trait(trait)), None)

    def children(self, key: str) -> tuple[StageSpec, ...]:
        """Stages that take what a stage gives."""
        return tuple(stage for stage in self.stages if stage.after == key)

    def path(self, key: str) -> tuple[StageSpec, ...]:
        """From the start down to a stage, as quantities run."""
        found: list[StageSpec] = []
        now: str | None = key
        while now is not None:
            stage = self.by_key[now]
            found.append(stage)
            now = stage.after
        return tuple(reversed(found))

    @cached_property
    def leaves(self) -> tuple[StageSpec, ...]:
        """Stages of which nothing goes on."""
        taken = {stage.after for stage in self.stages}
        return tuple(stage for stage in self.stages if stage.key not in taken)

    def product_of(self, leaf: StageSpec) -> str:
        """The form that a leaf ends in: of its nearest stage that names one, else the method's."""
        return next((stage.product for stage in reversed(self.path(leaf.key)) if stage.product), self.form)

    @cached_property
    def products(self) -> dict[str, tuple[StageSpec, ...]]:
        """Leaves by the form they end in, that of the method first."""
        found: dict[str, list[StageSpec]] = {}
        for leaf in sorted(self.leaves, key=lambda one: self.product_of(one) != self.form):
            found.setdefault(self.product_of(leaf), []).append(leaf)
        return {form: tuple(leaves) for form, leaves in found.items()}

    def container_of(self, key: str, first: ContainerSpec | None) -> ContainerSpec | None:
        """What a stage stands in: its own container, else that of the stage it came from, else the batch's."""
        return next((s.container for s in reversed(self.path(key)) if s.container is not None), first)


def rounds_of(
    stage: StageSpec, *, rounds: int, every_days: float, shares: Sequence[float] = ()
) -> tuple[StageSpec, ...]:
    """A stage that repeats, as one stage a round: each takes its share of what comes in, `every_days` apart.

    shares: of what enters, one a round [0-1], equal when none are given; their sum is at most 1.
    """
    each = tuple(shares) or tuple(stage.share / rounds for _ in range(rounds))
    found: list[StageSpec] = []
    for number in range(rounds):
        last = number == rounds - 1
        found.append(
            replace(
                stage,
                key=f"{stage.key}-{number + 1}",
                name=f"{stage.name} {number + 1}",
                share=each[number],
                follows=stage.follows if number == 0 else f"{stage.key}-{number}",
                round_of=stage.key,
                duration=stage.duration if last else Duration(days=every_days),
            )
        )
    return tuple(found)


def faults_of(stages: Sequence[StageSpec]) -> Iterator[FieldError]:
    """What keeps stages from being a tree that can be planned, by the field that says it."""
    if not stages:
        yield FieldError("stages", "missing", "A method has at least one stage.")
        return
    roots = [index for index, stage in enumerate(stages) if stage.after is None]
    if roots != [0]:
        yield FieldError(
            "stages", "no_start", f"One stage begins the work and stands first; {len(roots)} come after nothing."
        )
    for index, stage in enumerate(stages):
        yield from _order_faults(stage, f"stages.{index}", stages[:index], stages[index:])
        yield from _value_faults(stage, f"stages.{index}")
        yield from _join_faults(stage, f"stages.{index}")
    for parent in stages:
        taken = sum(stage.share for stage in stages if stage.after == parent.key)
        if taken > 1 + 1e-9:
            yield FieldError(
                "stages", "too_much", f"The stages after “{parent.name}” take {taken:.0%} of what it gives."
            )


def _order_faults(
    stage: StageSpec, at: str, before: Sequence[StageSpec], later: Sequence[StageSpec]
) -> Iterator[FieldError]:
    seen, coming = {one.key: one for one in before}, {one.key for one in later}
    if not stage.key or stage.key in seen:
        yield FieldError(f"{at}.key", "twice", f"Each stage has a key of its own; “{stage.key}” is not one.")
    for name in ("after", "follows"):
        other = getattr(stage, name)
        if other is None or other in seen:
            continue
        known = "comes later" if other in coming else "is no stage of this method"
        yield FieldError(f"{at}.{name}", "not_before", f"“{stage.name}” comes after “{other}”, which {known}.")
    came = seen.get(stage.after or "")
    if came is not None and came.round_of and stage.round_of != came.round_of:
        yield FieldError(
            f"{at}.after", "after_rounds", f"“{came.name}” is a round that goes to stock; nothing comes after it."
        )


def _join_faults(stage: StageSpec, at: str) -> Iterator[FieldError]:
    if stage.joins is None:
        return
    if stage.after is not None or Part.SEED in (stage.takes, stage.joins):
        told = "Two plants are joined where a batch begins, and neither of them is seed."
        yield FieldError(f"{at}.joins", "does_not_follow", told)
    elif stage.joins is stage.takes:
        told = f"“{stage.name}” takes {stage.takes.value}s already; what they are joined with is another part."
        yield FieldError(f"{at}.joins", "twice", told)


MOST_BY_MONTH = 400


def _value_faults(stage: StageSpec, at: str) -> Iterator[FieldError]:
    if not 0 < stage.share <= 1:
        yield FieldError(
            f"{at}.share", "out_of_range", f"“{stage.name}” takes a share above 0 and up to 1, not {stage.share:g}."
        )
    if stage.factor.mean <= 0 or stage.factor.sd < 0:
        yield FieldError(
            f"{at}.multiply", "out_of_range", f"Of one that enters “{stage.name}” more than nothing must come."
        )
    yield from _duration_faults(stage, at)
    for number, task in enumerate(stage.tasks):
        if task.amount is not None and task.uses is not None and not task.amount.unit.same_measure(task.uses.unit):
            told = (
                f"“{task.uses.name}” is counted in {task.uses.unit.words}; {task.amount.words()} of it does not follow."
            )
            yield FieldError(f"{at}.tasks.{number}.amount", "does_not_follow", told)
        if task.uses is not None and task.uses.allowed is Allowed.BANNED:
            told = f"“{task.uses.name}” is banned in this house. Take another, or none."
            yield FieldError(f"{at}.tasks.{number}.input", "banned", told)
    if stage.density is Density.UNIT_M2 and stage.unit_m2 <= 0:
        yield FieldError(f"{at}.unit_m2", "missing", f"How many m² does one take in “{stage.name}”?")


def _duration_faults(stage: StageSpec, at: str) -> Iterator[FieldError]:
    months = stage.duration.by_month
    if months and (len(months) != 12 or not all(0 < days <= MOST_BY_MONTH for days in months)):
        told = f"“{stage.name}” lasts by the season: twelve numbers of days, January first, each above 0 and up to {MOST_BY_MONTH}."
        yield FieldError(f"{at}.by_month", "not_twelve", told)
    if stage.duration.days is None and stage.duration.heat_sum_c_d is None:
        yield FieldError(f"{at}.days", "missing", f"How long does “{stage.name}” last?")
    if stage.duration.days and not months and stage.duration.give_days > stage.duration.days:
        told = f"“{stage.name}” lasts {stage.duration.days:g} days and cannot be over {stage.duration.give_days:g} days sooner."
        yield FieldError(f"{at}.give_days", "too_wide", told)
    full, base = stage.duration.full_c, stage.duration.base_c
    if full is not None and full <= base:
        told = f"“{stage.name}” takes its days at {full:g} °C, which must lie over its base of {base:g} °C."
        yield FieldError(f"{at}.full_c", "out_of_range", told)


def check(stages: Sequence[StageSpec]) -> None:
    """Raise Refused with every fault of a tree of stages."""
    found = tuple(faults_of(stages))
    if found:
        raise Refused(found)
