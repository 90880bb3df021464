"""The quantities of a batch: how much to start for a need and a chance, rung by rung."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from aldrip_core.distributions import Spread, largest_needed, product, smallest_trials, tail_at_least
from aldrip_core.ladder import SeedNeed, cells_from_seed, filled_share, seed_need
from aldrip_core.refusal import refuse
from aldrip_core.whole import ceil_whole, round_up
from aldrip_core.working import Given, Origin, Step, Working, computed

MOST_INTO = 1e15  # pieces; no nursery begins with as many
MOST = 10_000_000


@dataclass(frozen=True, slots=True)
class Rate:
    """A stage's survival with where it came from: `spread` [0-1], its origin and source.

    `multiply`: how many come of one that is kept, with `multiply_sd` between batches. `whole`: what leaves
    the stage is counted, so its need is rounded up to whole ones.
    """

    name: str
    spread: Spread
    origin: Origin
    source: str
    multiply: float = 1.0
    multiply_sd: float = 0.0
    whole: bool = True

    @property
    def kept(self) -> float:
        """What leaves for one that enters, on average."""
        return self.spread.mean * self.multiply


@dataclass(frozen=True, slots=True)
class Limb:
    """Where a rung hangs in the tree: `after` the rung of that index, with a `share` of it [0-1].

    `product`: what a rung without further rungs ends in.
    """

    after: int | None
    share: float = 1.0
    product: str = ""


def chain(count: int) -> tuple[Limb, ...]:
    """Rungs one after the other."""
    return tuple(Limb(index - 1 if index else None) for index in range(count))


@dataclass(frozen=True, slots=True)
class Sowing:
    """How cells are sown: seeds a cell, cells a tray, thousand-grain weight [g]; None where not by seed."""

    seeds_per_cell: int = 1
    cells_per_tray: int | None = None
    tgw_g: float | None = None
    tgw_source: str | None = None
    by_seed: bool = True
    part_trays: bool = False  # whether the last tray may be sown in part

    @property
    def step(self) -> int:
        """Cells by which a start grows: whole trays, or one by one."""
        return 1 if self.part_trays else self.cells_per_tray or 1


@dataclass(frozen=True, slots=True)
class RungPlan:
    """One rung: what enters and leaves it on average, and what is needed out of it."""

    name: str
    into: float
    out: float
    needed: float


@dataclass(frozen=True, slots=True)
class Quantities:
    """What a batch starts with and what it gives. Counts; `seed_g` [g]; chance [0-1].

    `needed`, `expected` and `overall` are those of the first product; `gives` is what every product gives on average.
    """

    needed: float
    plain_start: int
    start: int
    trays: int | None
    seeds: float | None
    seed_g: float | None
    rungs: tuple[RungPlan, ...]
    expected: float
    chance: float
    overall: Spread
    multiply: float = 1.0
    gives: Mapping[str, float] = field(default_factory=dict)
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


@dataclass(frozen=True, slots=True)
class Course:
    """The way from one that is started to a product: the share that is kept, and how many come of each kept."""

    product: str
    spread: Spread
    multiply: float
    leaves: tuple[int, ...]

    @property
    def mean(self) -> float:
        """What one that is started gives on average."""
        return self.spread.mean * self.multiply


def _way(index: int, limbs: Sequence[Limb]) -> list[int]:
    way: list[int] = []
    now: int | None = index
    while now is not None:
        way.append(now)
        now = limbs[now].after
    return way[::-1]


def with_factors(kept: Spread, factors: Sequence[tuple[float, float]]) -> tuple[Spread, float]:
    """A kept share and positive factors (mean, sd), as one share and how many come of each kept.

    A factor's spread widens the share's: relative variances add. Where the two would pass 1 the unit is taken
    so much larger that they do not: three standard deviations stay below it.
    """
    multiply = math.prod(mean for mean, _ in factors)
    relative = math.sqrt(sum((sd / mean) ** 2 for mean, sd in factors))
    if relative == 0 or kept.mean <= 0:
        return kept, multiply
    wide = math.hypot(kept.sd / kept.mean, relative)
    scale = max(1.0, kept.mean * (1 + 3 * wide))
    mean = kept.mean / scale
    return Spread.from_mean_sd(mean, min(mean * wide, math.sqrt(mean * (1 - mean)) * 0.9)), multiply * scale


@lru_cache(maxsize=1024)  # the lines of a season share few methods and lots
def courses(rates: tuple[Rate, ...], limbs: tuple[Limb, ...]) -> tuple[Course, ...]:
    """Every product of a tree with the way to it; leaves of one product stand together, as one that varies alike."""
    taken = {limb.after for limb in limbs}
    by_product: dict[str, list[tuple[int, Spread, float]]] = {}
    for index, limb in enumerate(limbs):
        if index in taken:
            continue
        way = _way(index, limbs)
        # A share at a fork falls on each piece by chance, as a survival does: of ten, seven are big only on average.
        kept, multiply = with_factors(
            product([spread for at in way for spread in (rates[at].spread, Spread(limbs[at].share))]),
            [(rates[at].multiply, rates[at].multiply_sd) for at in way],
        )
        by_product.setdefault(limb.product, []).append((index, kept, multiply))
    return tuple(_together(name, ends) for name, ends in by_product.items())


def _together(name: str, ends: Sequence[tuple[int, Spread, float]]) -> Course:
    leaves = tuple(index for index, _, _ in ends)
    _, kept, multiply = ends[0]
    if len(ends) == 1:
        return Course(name, kept, multiply, leaves)
    total = sum(spread.mean * many for _, spread, many in ends)
    if total <= 0:
        return Course(name, Spread(0.0), 1.0, leaves)
    relative = sum(spread.sd * many for _, spread, many in ends) / total
    whole = max(max(many for _, _, many in ends), total)
    if whole > 1:  # as in `with_factors`: three standard deviations stay below what one may give at most
        whole = max(whole, total * (1 + 3 * relative))
    mean = total / whole
    return Course(
        name, Spread.from_mean_sd(mean, min(mean * relative, math.sqrt(mean * (1 - mean)) * 0.9)), whole, leaves
    )


def plan_quantities(
    *,
    needed: float | Mapping[str, float],
    chance: float,
    rates: Sequence[Rate],
    sowing: Sowing,
    start: int | None = None,
    limbs: Sequence[Limb] = (),
    working: bool = True,
) -> Quantities:
    """The smallest start, in whole trays where there are trays, that meets what is needed with `chance`.

    `needed` of the first product, or of several by name. `rates` with their `limbs` form a tree, a chain when none
    are given. With `start` typed in, the same figures are computed for that start. `chance` [0-1).
    Raises Refused when a need cannot be met at these rates, or nothing gives it.
    """
    limbs = limbs or chain(len(rates))
    ways = courses(tuple(rates), tuple(limbs))
    needs = dict(needed) if isinstance(needed, Mapping) else {ways[0].product: needed}
    strange = next((name for name in needs if all(way.product != name for way in ways)), None)
    if strange is not None:
        raise refuse("form", "not_given", f"Nothing of this gives “{strange}”.")
    wanted, plain = _wanted(needs, ways, rates, limbs)
    step = sowing.step
    if start is None:
        start = max(_smallest(needs.get(way.product, 0.0), way, chance, step) for way in ways)
    met = min((_chance(needs[way.product], way, start) for way in ways if needs.get(way.product)), default=1.0)
    seed, trays = _seed_for(start, sowing)
    rungs = _rungs(start, wanted, rates, limbs)
    main = ways[0]
    steps: Working = ()
    if working:
        main_rates = [rates[at] for at in _way(main.leaves[0], limbs)]
        steps = _working(needs.get(main.product, 0.0), chance, main_rates, main.spread, plain, start, met, sowing, seed)
    return Quantities(
        needed=needs.get(main.product, 0.0),
        plain_start=plain,
        start=start,
        trays=trays,
        seeds=seed.seeds if seed else None,
        seed_g=seed.seed_g if seed else None,
        rungs=rungs,
        expected=start * main.mean,
        chance=met,
        overall=main.spread,
        multiply=main.multiply,
        gives={way.product: start * way.mean for way in ways},
        working=steps,
    )


def _smallest(need: float, way: Course, chance: float, step: int) -> int:
    units = ceil_whole(need / way.multiply)
    found = smallest_trials(needed=units, chance=chance, spread=way.spread, most=MOST, step=step)
    if found is None:
        raise refuse(
            "quantity",
            "unreachable",
            f"No start up to {MOST:,} gives {need:,g} good ones at these rates. Check the rates or the quantity.",
        )
    return found


def _chance(need: float, way: Course, start: int) -> float:
    return tail_at_least(needed=ceil_whole(need / way.multiply), trials=start, spread=way.spread)


def _seed_for(start: int, sowing: Sowing) -> tuple[SeedNeed | None, int | None]:
    if sowing.by_seed:
        seed = seed_need(
            cells=start,
            seeds_per_cell=sowing.seeds_per_cell,
            cells_per_tray=sowing.cells_per_tray,
            tgw_g=sowing.tgw_g,
            origin=Origin.LIBRARY,
            tgw_source=sowing.tgw_source,
            # A start that is no whole number of trays was typed so: that many cells are sown, whatever the last tray holds.
            fill_last_tray=not sowing.part_trays and start % (sowing.cells_per_tray or 1) == 0,
        )
        return seed, seed.trays
    return None, ceil_whole(start / sowing.cells_per_tray) if sowing.cells_per_tray else None


def _wanted(
    needs: Mapping[str, float], ways: Sequence[Course], rates: Sequence[Rate], limbs: Sequence[Limb]
) -> tuple[list[float], int]:
    """What is needed out of every rung, and the plain start: rounded up rung by rung."""
    out = [0.0] * len(limbs)
    for way in ways:
        means = [math.prod(rates[at].kept * limbs[at].share for at in _way(leaf, limbs)) for leaf in way.leaves]
        for leaf, mean in zip(way.leaves, means, strict=True):
            out[leaf] = needs.get(way.product, 0.0) * (mean / sum(means) if sum(means) else 1.0)
    plain = 0.0
    for index in range(len(limbs) - 1, -1, -1):
        rate, limb = rates[index], limbs[index]
        if rate.kept <= 0:
            raise refuse("rates", "unreachable", f"“{rate.name}” keeps nothing, so nothing can be delivered.")
        into = out[index] / rate.kept
        if not max(into, into / limb.share) <= MOST_INTO:  # a rate may be as small as a number can be
            told = f"“{rate.name}” keeps next to nothing ({rate.kept:.1g} of one), so nothing can be delivered."
            raise refuse("rates", "unreachable", told)
        if limb.after is None:
            plain = max(plain, ceil_whole(into))
        else:
            above = into / limb.share
            out[limb.after] = max(out[limb.after], ceil_whole(above) if rates[limb.after].whole else above)
    return out, int(plain)


def _rungs(start: int, wanted: Sequence[float], rates: Sequence[Rate], limbs: Sequence[Limb]) -> tuple[RungPlan, ...]:
    rungs: list[RungPlan] = []
    for rate, limb, need in zip(rates, limbs, wanted, strict=True):
        into = float(start) if limb.after is None else rungs[limb.after].out * limb.share
        rungs.append(RungPlan(rate.name, into, into * rate.kept, need))
    return tuple(rungs)


def _working(
    needed: float,
    chance: float,
    rates: Sequence[Rate],
    overall: Spread,
    plain: int,
    start: int,
    met: float,
    sowing: Sowing,
    seed: SeedNeed | None,
) -> Working:
    kept = tuple(Given(r.name, r.spread.mean, "share", r.origin, r.source) for r in rates if r.spread.mean < 1)
    before_trays = f"whole trays of {sowing.cells_per_tray}" if sowing.step > 1 else "whole"
    return (
        Step("Good ones wanted", "as promised", (Given("promised", needed),), needed),
        Step("Kept from start to delivery", "product of the stages", kept, overall.mean, "share"),
        Step("Plain need", "wanted ÷ kept, rounded up rung by rung", (computed("wanted", needed),), plain),
        Step(
            "On top, because batches differ",
            f"fewest {before_trays} with the chance wanted",
            (Given("chance wanted", chance, "share"), computed("spread of the kept share", overall.sd, "share")),
            start - plain,
        ),
        Step("Start", "plain need + on top", (computed("plain need", plain),), start),
        Step(
            "Chance of the promise",
            "beta-binomial tail at the start",
            (computed("start", start),),
            met,
            "share",
            "Johnson, Kemp & Kotz (from memory)",
        ),
        *(seed.working if seed else ()),
    )


def start_from_rung(
    *, index: int, quantity: float, rates: Sequence[Rate], sowing: Sowing, limbs: Sequence[Limb] = ()
) -> int:
    """Start whose rung `index` gives `quantity` on average; whole trays where there are trays."""
    limbs = limbs or chain(len(rates))
    kept = math.prod(rates[at].kept * limbs[at].share for at in _way(index, limbs))
    if kept <= 0:
        raise refuse("rates", "unreachable", "The stages before this rung keep nothing.")
    start = ceil_whole(quantity / kept)
    return int(round_up(start, sowing.step))


def promise_from_seed(
    *, seed_g: float, chance: float, rates: Sequence[Rate], sowing: Sowing, limbs: Sequence[Limb] = ()
) -> tuple[int, int]:
    """What a weight of seed [g] lets you promise with `chance`: (start, good ones). Raises Refused."""
    if not sowing.tgw_g:
        raise refuse("tgw_g", "missing", "Grams become seeds only with a thousand-grain weight. Enter the lot's.")
    start = cells_from_seed(
        seed_g=seed_g,
        tgw_g=sowing.tgw_g,
        seeds_per_cell=sowing.seeds_per_cell,
        cells_per_tray=sowing.step if sowing.cells_per_tray else None,
    )
    if start > MOST:
        told = f"{seed_g:,.0f} g are {start:,} to begin with; at most {MOST:,} are begun at once. Enter less, or several batches."
        raise refuse("seed_g", "too_large", told)
    way = courses(tuple(rates), tuple(limbs or chain(len(rates))))[0]
    return start, int(largest_needed(trials=start, chance=chance, spread=way.spread) * way.multiply)
