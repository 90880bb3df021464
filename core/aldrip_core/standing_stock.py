"""What a batch stands at for one of its products: its lots, its last count, or its start, and what is still to be kept."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from aldrip_core.distributions import Spread, product
from aldrip_core.forecast import Stock, stock_after_count
from aldrip_core.quantities import Rate, with_factors
from aldrip_core.stages import MethodSpec, StageSpec

FINE = 1000  # what is weighed is summed in thousandths, so that grams in a store of kilos count


@dataclass(frozen=True, slots=True)
class Seen:
    """A stage as it was counted: the share found of what entered, and its standard deviation [0-1]."""

    share: float
    sd: float

    @property
    def spread(self) -> Spread:
        return Spread.from_mean_sd(self.share, self.sd)


@dataclass(frozen=True)
class Standing:
    """A batch as it stands: what was started, the planned rates, what was counted, lost, and gave to stock.

    `in_stock`: by stage, in the unit of what the stage gives; a stage that gave something is done with, but for one that
    is `passed` in part.
    """

    method: MethodSpec
    rates: Mapping[str, Rate]
    start: int
    counted: Mapping[str, Seen]
    lost: int = 0
    in_stock: Mapping[str, float] | None = None
    passed: tuple[str, int] | None = None  # a stage that has done a part of what stands, and how many; the rest goes on


def ahead_of(rates: Sequence[Rate], shares: Sequence[float]) -> tuple[Spread, float]:
    """What later stages keep of one, and how many come of each kept."""
    kept = product([*(r.spread for r in rates), *map(Spread, shares)]) if rates else Spread(1.0)
    return with_factors(kept, [(r.multiply, r.multiply_sd) for r in rates])


def stocks_of(batch: Standing, form: str) -> tuple[Stock, ...]:
    """What a batch stands at for a form, in the unit of the stages that end in it; empty where it gives none.

    What is in stock and what is still to come are stocks of their own.
    """
    leaves = batch.method.products.get(form, ())
    if not leaves:
        return ()
    done = batch.in_stock or {}
    there, coming = 0.0, []
    given: set[str] = set()
    for leaf in leaves:
        path = batch.method.path(leaf.key)
        gave = [index for index, stage in enumerate(path) if stage.key in done]
        if not gave:
            coming.append(path)
            continue
        for index in gave:
            if path[index].key not in given:
                given.add(path[index].key)
                there += done[path[index].key] * _mean(batch, path[index + 1 :])
        if batch.passed is not None and any(stage.key == batch.passed[0] for stage in path):
            coming.append(path)
    fine = 1 if leaves[0].unit.is_pieces else FINE
    found = [Stock(round(there * fine), Spread(1.0), 1 / fine)] if there or not coming else []
    if coming:
        found.append(_to_come(batch, coming))
    return _one_multiply(found)


def _mean(batch: Standing, stages: Sequence[StageSpec]) -> float:
    kept = 1.0
    for stage in stages:
        kept *= batch.rates[stage.key].kept * stage.share
    return kept


def _to_come(batch: Standing, paths: Sequence[Sequence[StageSpec]]) -> Stock:
    """What the stages that have given nothing yet will give: the first way's stock, widened by what the others take."""
    path = paths[0]
    if batch.passed is not None:
        batch = _rest(batch, path)
    stock = _along(batch, path)
    if len(paths) == 1:
        return stock
    own = _mean(batch, path)
    whole = sum(_mean(batch, other) for other in paths)
    wider = whole / own if own else 1.0
    kept = stock.remaining
    wide = 1 + 3 * kept.sd / kept.mean if stock.multiply != 1 and kept.mean else 1.0
    if kept.mean * wider * wide < 1:  # what falls to one of several ways falls to none of the others
        sd = min(kept.sd * wider, 0.9 * (kept.mean * wider * (1 - kept.mean * wider)) ** 0.5)
        return Stock(stock.units, Spread.from_mean_sd(kept.mean * wider, sd), stock.multiply)
    return Stock(stock.units, kept, stock.multiply * wider)


def _rest(batch: Standing, path: Sequence[StageSpec]) -> Standing:
    """What has not passed yet: as many as passed are gone from where they were last counted."""
    key, passed = batch.passed or ("", 0)
    counted = {name: seen for name, seen in batch.counted.items() if name != key}
    last = max((index for index, stage in enumerate(path) if stage.key in counted), default=-1)
    at = next((index for index, stage in enumerate(path) if stage.key == key), len(path))
    kept = 1.0
    for stage in path[last + 1 : at]:
        kept *= batch.rates[stage.key].kept * stage.share
    return replace(batch, counted=counted, lost=batch.lost + round(passed / kept if kept else passed), passed=None)


def _along(batch: Standing, path: Sequence[StageSpec]) -> Stock:
    last = max((index for index, stage in enumerate(path) if stage.key in batch.counted), default=-1)
    ahead, multiply = ahead_of([batch.rates[s.key] for s in path[last + 1 :]], [s.share for s in path[last + 1 :]])
    if last < 0:
        return Stock(max(0, batch.start - batch.lost), ahead, multiply)
    into = float(batch.start)
    for stage in path[:last]:
        seen = batch.counted.get(stage.key)
        rate = batch.rates[stage.key]
        into *= (seen.share if seen else rate.spread.mean) * rate.multiply * stage.share
    seen, rate = batch.counted[path[last].key], batch.rates[path[last].key]
    stock = stock_after_count(start=round(into * path[last].share), counted=seen.spread, ahead=ahead)
    return Stock(max(0, stock.units - batch.lost), stock.remaining, multiply * rate.multiply)


def _one_multiply(stocks: Sequence[Stock]) -> tuple[Stock, ...]:
    """Stocks that can be summed: what lies in stock is written in the units of what is to come."""
    if len(stocks) < 2:
        return tuple(stocks)
    multiply = stocks[-1].multiply or 1.0
    return tuple(Stock(round(s.units * s.multiply / multiply), s.remaining, multiply) for s in stocks)


def bands(batch: Standing) -> dict[str, Stock]:
    """What will leave each stage of the main way from its last count on, as stocks by stage."""
    path = batch.method.path(batch.method.last.key)
    last = max((index for index, stage in enumerate(path) if stage.key in batch.counted), default=-1)
    return {path[index].key: _along(batch, path[: index + 1]) for index in range(max(0, last), len(path))}
