"""The forecast: what was counted moves what will be delivered, and says when sowing again helps."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from aldrip_core.distributions import Spread, chance_of_sum, product, quantile_of_sum, sum_of_counts
from aldrip_core.refusal import refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Origin, Step, Working, computed

LOW, HIGH = 0.05, 0.95
NOISE = 1e-6  # of a unit: what is weighed comes in thousandths of binary fractions


@dataclass(frozen=True, slots=True)
class TrayCount:
    """One sampled tray: cells looked at and cells with a good seedling."""

    sampled: int
    found: int


def counted_rate(*, trays: Sequence[TrayCount], of_trays: int | None = None) -> Spread:
    """The batch's own rate from sampled trays, with the spread that the sample leaves.

    The count stands on its own: what was planned is not mixed in, for the plants are there to be
    seen. Trays differ more than chance would make them, so with two or more the spread is the
    larger of the binomial one and the one between trays; the part of the batch that was counted
    (`of_trays` in all) is known and narrows it. Raises Refused for an impossible count.
    Source: cluster-sampling ratio estimate, Cochran, Sampling Techniques (from memory).
    """
    for index, tray in enumerate(trays):
        if not 0 <= tray.found <= tray.sampled or tray.sampled <= 0:
            raise refuse(
                f"trays.{index}.found",
                "out_of_range",
                f"Tray {index + 1}: {tray.found} of {tray.sampled} cells cannot be. Found must lie between 0 and the cells looked at.",
            )
    if not trays:
        raise refuse("trays", "missing", "Count at least one tray.")
    cells = sum(tray.sampled for tray in trays)
    found = sum(tray.found for tray in trays)
    # Half a cell added on either side keeps a full or an empty sample from looking certain.
    rate = (found + 0.5) / (cells + 1)
    variance = rate * (1 - rate) / cells
    count = len(trays)
    if count > 1:
        mean_cells = cells / count
        between = sum((tray.found - rate * tray.sampled) ** 2 for tray in trays) / (count - 1)
        variance = max(variance, between / (count * mean_cells**2))
    if of_trays:
        variance *= max(0.0, 1 - count / of_trays)
    if variance <= 0:
        return Spread(found / cells)
    limit = rate * (1 - rate)
    return Spread.from_mean_sd(rate, math.sqrt(min(variance, limit * 0.99)))


@dataclass(frozen=True, slots=True)
class Stock:
    """Units of one batch now, and the share of them that will be delivered."""

    units: int
    remaining: Spread
    multiply: float = 1.0


@dataclass(frozen=True, slots=True)
class Forecast:
    """Expected good ones with a 5-95 % band, chance [0-1] of the need, shortage on average."""

    expected: float
    low: int
    high: int
    needed: float
    chance: float
    short: int
    working: Working = ()


def forecast(*, needed: float, stocks: Sequence[Stock]) -> Forecast:
    """What the batches together will deliver against what is promised."""
    return _forecast(needed, tuple(stocks))


@lru_cache(maxsize=4096)  # the same is asked after every act that touches what hangs together
def _forecast(needed: float, stocks: tuple[Stock, ...]) -> Forecast:
    parts = [(stock.units, stock.remaining) for stock in stocks if stock.units > 0]
    multiply = stocks[0].multiply if stocks else 1.0
    if not parts:
        return Forecast(0.0, 0, 0, needed, 1.0 if needed <= 0 else 0.0, max(0, round(needed)))
    need = ceil_whole(needed / multiply - NOISE)
    expected = sum(units * spread.mean for units, spread in parts) * multiply
    low, high = (int(quantile_of_sum(share=share, parts=parts) * multiply) for share in (LOW, HIGH))
    chance = chance_of_sum(needed=need, parts=parts)
    working = (
        *(
            Step(
                "Will be delivered",
                "units × share still kept",
                (Given("units now", units, "", Origin.RECORDS), computed("share still kept", spread.mean, "share")),
                units * spread.mean * multiply,
            )
            for units, spread in parts
        ),
        Step("Band", "5 % and 95 % of the summed counts", (computed("expected", expected),), f"{low:,} to {high:,}"),
        Step("Chance of the promise", "tail of the summed counts", (Given("promised", needed),), chance, "share"),
    )
    return Forecast(expected, low, high, needed, chance, max(0, round(needed - expected)), working)


@dataclass(frozen=True, slots=True)
class Futures:
    """How likely each outcome is: `chances` [0-1] of bars of `width` units, the first from `first` on."""

    first: float
    width: float
    chances: tuple[float, ...]


def futures(stocks: Sequence[Stock], *, most_bars: int = 48, left_out: float = 2e-4) -> Futures | None:
    """The outcomes of `forecast` in at most `most_bars` bars, without the `left_out` share at either end.

    None where the outcome is certain, or nothing stands.
    """
    parts = [(stock.units, stock.remaining) for stock in stocks if stock.units > 0]
    if not parts:
        return None
    found = sum_of_counts(parts)
    chances = found.chances
    low, high = (int(np.searchsorted(np.cumsum(chances), share)) for share in (left_out, 1 - left_out))
    if high <= low:
        return None
    width = math.ceil((high - low + 1) / most_bars)
    starts = np.arange(low, high + 1, width)
    bars = np.add.reduceat(chances[: min(len(chances), int(starts[-1]) + width)], starts)
    start, multiply = found.first - (found.width - 1) / 2 + low * found.width, stocks[0].multiply
    return Futures(start * multiply, width * found.width * multiply, tuple(float(one) for one in bars))


@dataclass(frozen=True, slots=True)
class Resow:
    """How much to sow again: trays [whole], cells, and the chance that it gives [0-1]."""

    trays: int
    cells: int
    chance: float
    working: Working = ()


def resow(
    *, needed: float, stocks: Sequence[Stock], fresh: Spread, cells_per_tray: int, chance: float, most_trays: int = 5000
) -> Resow | None:
    """Fewest trays sown again that bring the chance of `needed` back to `chance`.

    fresh: share of newly sown cells that will be delivered. None when it is already met, or when
    even `most_trays` do not bring it back.
    """

    def met(trays: int) -> float:
        more = (Stock(trays * cells_per_tray, fresh),) if trays else ()
        return forecast(needed=needed, stocks=(*stocks, *more)).chance

    before = met(0)
    if before >= chance or fresh.mean <= 0:
        return None
    low, high = 0, 1
    while met(high) < chance:
        low, high = high, high * 2
        if high > most_trays:
            return None
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if met(middle) >= chance else (middle, high)
    after = met(high)
    given = (
        computed("chance now", before, "share"),
        Given("chance wanted", chance, "share"),
        computed("kept of a cell sown now", fresh.mean, "share"),
        Given("cells per tray", cells_per_tray, "", Origin.LIBRARY),
    )
    step = Step("Trays to sow again", "fewest whole trays that bring the chance back", given, high, "trays")
    return Resow(high, high * cells_per_tray, after, (step,))


def remaining_share(rates: Sequence[Spread]) -> Spread:
    """Share still to be kept by the stages that lie ahead."""
    return product(rates) if rates else Spread(1.0)


def stock_after_count(*, start: int, counted: Spread, ahead: Spread, multiply: float = 1.0) -> Stock:
    """A batch's units after a count, the count's own uncertainty carried into the share still kept.

    start: units that entered the counted stage. counted: share found. ahead: share that the later
    stages keep. Relative variances add.
    """
    units = round(start * counted.mean)
    if counted.mean <= 0 or ahead.mean <= 0:
        return Stock(units, ahead, multiply)
    relative = math.hypot(counted.sd / counted.mean, ahead.sd / ahead.mean)
    most = math.sqrt(ahead.mean * (1 - ahead.mean)) * 0.99
    return Stock(units, Spread.from_mean_sd(ahead.mean, min(relative * ahead.mean, most)), multiply)
