"""The quantities of a batch: how much to start for a need and a chance, rung by rung."""

from collections.abc import Sequence
from dataclasses import dataclass

from aldrip_core.distributions import Spread, largest_needed, product, smallest_trials, tail_at_least
from aldrip_core.ladder import SeedNeed, cells_from_seed, filled_share, seed_need
from aldrip_core.refusal import refuse
from aldrip_core.whole import ceil_whole, round_up
from aldrip_core.working import Given, Origin, Step, Working, computed

MOST = 10_000_000


@dataclass(frozen=True, slots=True)
class Rate:
    """A stage's survival with where it came from: `spread` [0-1], its origin and source."""

    name: str
    spread: Spread
    origin: Origin
    source: str
    multiply: float = 1.0


@dataclass(frozen=True, slots=True)
class Sowing:
    """How cells are sown: seeds a cell, cells a tray, thousand-grain weight [g]; None where not by seed."""

    seeds_per_cell: int = 1
    cells_per_tray: int | None = None
    tgw_g: float | None = None
    tgw_source: str | None = None
    by_seed: bool = True


@dataclass(frozen=True, slots=True)
class RungPlan:
    """One rung: what is needed out of it and what the start will give on average."""

    name: str
    needed: float
    out: float


@dataclass(frozen=True, slots=True)
class Quantities:
    """What a batch starts with and what it gives. Counts; `seed_g` [g]; chance [0-1]."""

    needed: int
    plain_start: int
    start: int
    trays: int | None
    seeds: float | None
    seed_g: float | None
    rungs: tuple[RungPlan, ...]
    expected: float
    chance: float
    overall: Spread
    working: Working = ()


def emergence(*, germination: Spread, cell_factor: Spread, seeds_per_cell: int) -> Spread:
    """Share of cells that hold a seedling, from a lot's germination and what the cell keeps of it.

    The spread is carried through `1 - (1 - g·f)^n` by its values one standard deviation away.
    """
    per_seed = product([germination, cell_factor])
    if seeds_per_cell == 1:
        return per_seed

    def share(rate: float) -> float:
        return filled_share(germination=min(1.0, max(0.0, rate)), cell_factor=1.0, seeds_per_cell=seeds_per_cell)

    mean = share(per_seed.mean)
    sd = (share(per_seed.mean + per_seed.sd) - share(per_seed.mean - per_seed.sd)) / 2
    return Spread.from_mean_sd(mean, sd) if sd > 0 and sd * sd < mean * (1 - mean) else Spread(mean)


def overall_rate(rates: Sequence[Rate]) -> Spread:
    """Survival from start to delivery, all stages together."""
    return product([rate.spread for rate in rates])


def _units_per_start(rates: Sequence[Rate]) -> float:
    total = 1.0
    for rate in rates:
        total *= rate.multiply
    return total


def plan_quantities(
    *, needed: int, chance: float, rates: Sequence[Rate], sowing: Sowing, start: int | None = None, working: bool = True
) -> Quantities:
    """The smallest start, in whole trays where there are trays, that meets `needed` with `chance`.

    With `start` typed in, the same figures are computed for that start. `chance` [0-1).
    Raises Refused when the need cannot be met at these rates.
    """
    overall = overall_rate(rates)
    multiply = _units_per_start(rates)
    need_units = ceil_whole(needed / multiply)
    plain = _plain_need(needed, rates)
    if start is None:
        found = smallest_trials(
            needed=need_units, chance=chance, spread=overall, most=MOST, step=sowing.cells_per_tray or 1
        )
        if found is None:
            raise refuse(
                "quantity", "unreachable",
                f"No start up to {MOST:,} gives {needed:,} good ones at these rates. Check the rates or the quantity.",
            )  # fmt: skip
        start = found
    met = tail_at_least(needed=need_units, trials=start, spread=overall)
    seed: SeedNeed | None = None
    trays = None
    if sowing.by_seed:
        seed = seed_need(cells=start, seeds_per_cell=sowing.seeds_per_cell, cells_per_tray=sowing.cells_per_tray,
                         tgw_g=sowing.tgw_g, origin=Origin.LIBRARY, tgw_source=sowing.tgw_source)  # fmt: skip
        trays = seed.trays
    elif sowing.cells_per_tray:
        trays = ceil_whole(start / sowing.cells_per_tray)
    rungs = _rungs(needed, start, rates)
    steps: Working = ()
    if working:
        steps = _working(needed, chance, rates, overall, plain, start, met, sowing, seed)
    return Quantities(
        needed=needed, plain_start=plain, start=start, trays=trays,
        seeds=seed.seeds if seed else None, seed_g=seed.seed_g if seed else None,
        rungs=rungs, expected=start * overall.mean * multiply, chance=met, overall=overall, working=steps,
    )  # fmt: skip


def _plain_need(needed: float, rates: Sequence[Rate]) -> int:
    value: float = needed
    for rate in reversed(rates):
        kept = rate.spread.mean * rate.multiply
        if kept <= 0:
            raise refuse("rates", "unreachable", f"“{rate.name}” keeps nothing, so nothing can be delivered.")
        value = ceil_whole(value / kept)
    return int(value)


def _rungs(needed: int, start: int, rates: Sequence[Rate]) -> tuple[RungPlan, ...]:
    wanted: list[float] = [needed]
    for rate in reversed(rates[1:]):
        wanted.append(ceil_whole(wanted[-1] / (rate.spread.mean * rate.multiply)))
    wanted.reverse()
    rungs, units = [], float(start)
    for rate, need in zip(rates, wanted, strict=True):
        units *= rate.spread.mean * rate.multiply
        rungs.append(RungPlan(rate.name, need, units))
    return tuple(rungs)


def _working(
    needed: int, chance: float, rates: Sequence[Rate], overall: Spread, plain: int, start: int, met: float,
    sowing: Sowing, seed: SeedNeed | None,
) -> Working:  # fmt: skip
    kept = tuple(Given(r.name, r.spread.mean, "share", r.origin, r.source) for r in rates if r.spread.mean < 1)
    before_trays = f"whole trays of {sowing.cells_per_tray}" if sowing.cells_per_tray else "whole"
    return (
        Step("Good ones wanted", "as promised", (Given("promised", needed),), needed),
        Step("Kept from start to delivery", "product of the stages", kept, overall.mean, "share"),
        Step("Plain need", "wanted ÷ kept, rounded up rung by rung", (computed("wanted", needed),), plain),
        Step(
            "On top, because batches differ", f"fewest {before_trays} with the chance wanted",
            (Given("chance wanted", chance, "share"), computed("spread of the kept share", overall.sd, "share")), start - plain,
        ),
        Step("Start", "plain need + on top", (computed("plain need", plain),), start),
        Step("Chance of the promise", "beta-binomial tail at the start", (computed("start", start),), met, "share",
             "Johnson, Kemp & Kotz (from memory)"),
        *(seed.working if seed else ()),
    )  # fmt: skip


def start_from_rung(*, index: int, quantity: float, rates: Sequence[Rate], sowing: Sowing) -> int:
    """Start whose rung `index` gives `quantity` on average; whole trays where there are trays."""
    kept = 1.0
    for rate in rates[: index + 1]:
        kept *= rate.spread.mean * rate.multiply
    if kept <= 0:
        raise refuse("rates", "unreachable", "The stages before this rung keep nothing.")
    start = ceil_whole(quantity / kept)
    return int(round_up(start, sowing.cells_per_tray)) if sowing.cells_per_tray else start


def promise_from_seed(*, seed_g: float, chance: float, rates: Sequence[Rate], sowing: Sowing) -> tuple[int, int]:
    """What a weight of seed [g] lets you promise with `chance`: (start, good ones). Raises Refused."""
    if not sowing.tgw_g:
        raise refuse("tgw_g", "missing", "Grams become seeds only with a thousand-grain weight. Enter the lot's.")
    start = cells_from_seed(seed_g=seed_g, tgw_g=sowing.tgw_g, seeds_per_cell=sowing.seeds_per_cell,
                            cells_per_tray=sowing.cells_per_tray)  # fmt: skip
    good = largest_needed(trials=start, chance=chance, spread=overall_rate(rates))
    return start, int(good * _units_per_start(rates))
