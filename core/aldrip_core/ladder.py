"""The ladder: from what is delivered back to what is started, and forward again."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from aldrip_core.refusal import Refused, Warn, refuse
from aldrip_core.whole import ceil_whole, round_up
from aldrip_core.working import Given, Origin, Step, Working, computed


@dataclass(frozen=True, slots=True)
class LadderStage:
    """One step of the work: keeps `survival` [0-1] of what enters and makes `multiply` of each."""

    name: str
    survival: float
    multiply: float = 1.0
    round_to: float = 1.0
    kind: str | None = None
    origin: Origin = Origin.ENTERED
    source: str | None = None


@dataclass(frozen=True, slots=True)
class Rung:
    """What enters a stage, what leaves it, and how much of that is beyond the need."""

    name: str
    into: float | None
    out: float | None
    surplus: float | None

    nullable: ClassVar = ("into", "out", "surplus")


@dataclass(frozen=True, slots=True)
class Ladder:
    """The quantities of one run, rungs in order of work."""

    start: float | None
    rungs: tuple[Rung, ...]
    trays: int | None = None
    seeds: float | None = None
    seed_g: float | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ("start",)


def filled_share(*, germination: float, cell_factor: float, seeds_per_cell: int) -> float:
    """Share of cells with at least one seedling [0-1]: `1 - (1 - germination·cell_factor)^n`.

    >>> round(filled_share(germination=0.8, cell_factor=1, seeds_per_cell=3), 3)
    0.992
    """
    return 1.0 - (1.0 - germination * cell_factor) ** seeds_per_cell


def cells_stage(*, germination: float, cell_factor: float, seeds_per_cell: int) -> LadderStage:
    """The first rung of a sowing in cells."""
    share = filled_share(germination=germination, cell_factor=cell_factor, seeds_per_cell=seeds_per_cell)
    return LadderStage("filled cells", share, origin=Origin.COMPUTED)


def ladder(
    *,
    deliver: float,
    stages: Sequence[LadderStage],
    germination: float | None = None,
    cell_factor: float = 1.0,
    seeds_per_cell: int = 1,
    cells_per_tray: int | None = None,
    fill_last_tray: bool = True,
    tgw_g: float | None = None,
) -> Ladder:
    """Work back from what is delivered to what is started.

    Backwards each stage takes `into = round_up(need / (survival · multiply), round_to)`; forward it
    gives `out = into · survival · multiply`, and what goes beyond the need is the surplus.

    deliver: good units at the end. stages: in order of work. germination, cell_factor [0-1].
    tgw_g: thousand-grain weight [g]. Result: counts in the unit of each rung, `seed_g` [g].
    Raises Refused when a stage of kind `emergence` stands beside a germination (it would be
    multiplied twice). Source: arithmetic.

    >>> ladder(deliver=95, stages=[LadderStage("graded", 0.95)]).start
    100.0
    """
    rungs_of = list(stages)
    working: list[Step] = []
    if germination is not None:
        if any(stage.kind == "emergence" for stage in stages):
            raise refuse(
                "germination",
                "counted_twice",
                "Emergence stands among the stages already; leave out the germination or that stage.",
            )
        first = cells_stage(germination=germination, cell_factor=cell_factor, seeds_per_cell=seeds_per_cell)
        rungs_of.insert(0, first)
        working.append(
            Step(
                "Filled cells",
                "1 - (1 - germination × cell factor) ^ seeds per cell",
                (
                    Given("germination", germination),
                    Given("cell factor", cell_factor),
                    Given("seeds per cell", seeds_per_cell),
                ),
                first.survival,
                "share",
            )
        )
    dead = next((stage for stage in rungs_of if stage.survival * stage.multiply <= 0), None)
    if dead is not None:
        none_left = tuple(Rung(stage.name, None, None, None) for stage in rungs_of)
        text = f"“{dead.name}” keeps nothing, so {deliver:g} can never be delivered. Check its rate."
        return Ladder(None, none_left, working=tuple(working), warnings=(Warn("unreachable", text),))

    need, backwards = deliver, []
    for stage in reversed(rungs_of):
        into = round_up(need / (stage.survival * stage.multiply), stage.round_to)
        out = into * stage.survival * stage.multiply
        backwards.append(Rung(stage.name, into, out, out - need))
        working.append(_rung_step(stage, need, into))
        need = into
    tail = seed_need(
        cells=need,
        seeds_per_cell=seeds_per_cell,
        cells_per_tray=cells_per_tray,
        tgw_g=tgw_g,
        fill_last_tray=fill_last_tray,
    )
    return Ladder(
        start=need,
        rungs=tuple(reversed(backwards)),
        trays=tail.trays,
        seeds=tail.seeds,
        seed_g=tail.seed_g,
        working=(*working, *tail.working),
    )


def _rung_step(stage: LadderStage, need: float, into: float) -> Step:
    return Step(
        f"Into {stage.name}",
        "needed ÷ (survival × multiply), rounded up",
        (
            computed("needed", need),
            Given("survival", stage.survival, "share", stage.origin, stage.source),
            Given("multiply", stage.multiply),
            Given("round to", stage.round_to),
        ),
        into,
    )


@dataclass(frozen=True, slots=True)
class SeedNeed:
    """Trays [whole], seeds [count] and grams for a number of cells."""

    trays: int | None
    seeds: float
    seed_g: float | None
    working: Working


def seed_need(
    *,
    cells: float,
    seeds_per_cell: int,
    cells_per_tray: int | None,
    tgw_g: float | None,
    fill_last_tray: bool = True,
    origin: Origin = Origin.ENTERED,
    tgw_source: str | None = None,
) -> SeedNeed:
    """Trays, seeds and grams that a number of cells takes. Units as in `ladder`.

    `origin` says where tray and seeds a cell come from; `tgw_source` names the thousand-grain weight's.
    """
    trays = None if cells_per_tray is None else ceil_whole(cells / cells_per_tray)
    steps: list[Step] = []
    given: tuple[Given, ...]
    if trays is not None and cells_per_tray is not None:
        given = (computed("cells", cells), Given("cells per tray", cells_per_tray, "", origin))
        steps.append(Step("Trays", "cells ÷ cells per tray, whole", given, trays, "trays"))
        if fill_last_tray:
            cells = trays * cells_per_tray
    seeds = cells * seeds_per_cell
    given = (computed("cells sown", cells), Given("seeds per cell", seeds_per_cell, "", origin))
    steps.append(Step("Seeds", "cells sown × seeds per cell", given, seeds, "seeds"))
    seed_g = None
    if tgw_g is not None:
        seed_g = seeds * tgw_g / 1000
        tested = Origin.RECORDS if tgw_source and tgw_source.startswith("lot ") else origin
        given = (computed("seeds", seeds), Given("thousand-grain weight", tgw_g, "g", tested, tgw_source))
        steps.append(Step("Seed by weight", "seeds × thousand-grain weight ÷ 1000", given, seed_g, "g"))
    return SeedNeed(trays, seeds, seed_g, tuple(steps))


def cells_from_seed(*, seed_g: float, tgw_g: float, seeds_per_cell: int, cells_per_tray: int | None) -> int:
    """Whole cells (whole trays where there are trays) that a weight of seed [g] can fill.

    >>> cells_from_seed(seed_g=90, tgw_g=2.0, seeds_per_cell=1, cells_per_tray=240)
    44880
    """
    cells = int(seed_g / tgw_g * 1000 / seeds_per_cell + 1e-9)
    return cells if cells_per_tray is None else cells // cells_per_tray * cells_per_tray


__all__ = ["Ladder", "LadderStage", "Refused", "Rung", "cells_from_seed", "filled_share", "ladder", "seed_need"]
