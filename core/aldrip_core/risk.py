"""Risk: many futures of a whole season drawn together, in which batches share causes and so do not fail one by one.

Each batch keeps the spread of its own rates, so the chance of a promise that rests on one batch is that of its forecast;
what causes in common change is how promises fail together. Source: a Gaussian copula over Beta rates with binomial counts
(Nelsen, An Introduction to Copulas, from memory); the weights of the causes are assumptions and common practice, no source.
"""

import math
from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.random import Generator, default_rng
from numpy.typing import NDArray

from aldrip_core.distributions import Spread

Key = Hashable
Floats = NDArray[np.float64]
FUTURES, SEED = 10_000, 27
#: Share of a batch's spread [0-1] that it has in common with others: of its seed lot, its house and week, the season.
OF_A_LOT, OF_A_HOUSE_WEEK, OF_THE_SEASON = 0.3, 0.25, 0.1
EDGE, STEPS = 5.0, 4001  # standard deviations, and points, at which a rate is looked up
PER_SD = (STEPS - 1) / (2 * EDGE)
TAIL = 14.0
NOISE = 0.02  # of a chance read off the bad futures alone
BAD = 0.05  # share of futures that count as the bad ones of a cause


@dataclass(frozen=True, slots=True)
class Cause:
    """Something that several batches have in common, and the share of their spread that comes of it [0-1]."""

    key: Key
    weight: float


@dataclass(frozen=True, slots=True)
class Drawn:
    """Units of a batch, the share of them that will be there, and what that hangs on together with other batches."""

    units: int
    remaining: Spread
    causes: tuple[Cause, ...] = ()
    multiply: float = 1.0


@dataclass(frozen=True, slots=True)
class Promise:
    """What is needed of some stocks together, in the unit of what they give, for so many lines."""

    key: Key
    needed: float
    stocks: tuple[Drawn, ...]
    lines: int = 1


@dataclass(frozen=True, slots=True)
class Effect:
    """A cause in its bad futures: lines missed then on average, beside the usual, and the promises it makes less sure."""

    key: Key
    missed: float
    usual: float
    worse: tuple[tuple[Key, float, float], ...]  # (promise, chance then, chance)


@dataclass(frozen=True)
class Drawing:
    """Whether each promise is kept in each future; shape (promises, futures). `causes`: how each cause fell."""

    promises: tuple[Promise, ...]
    met: NDArray[np.bool_]
    causes: dict[Key, Floats]

    def chance(self, at: int) -> float:
        """Of one promise [0-1]."""
        return float(self.met[at].mean())

    def only(self, which: Sequence[int]) -> "Drawing":
        """The same futures of these promises alone."""
        return Drawing(tuple(self.promises[one] for one in which), self.met[list(which)], self.causes)

    def of_all(self, which: Sequence[int] | None = None) -> float:
        """That all of these are kept [0-1]; of none it is certain."""
        chosen = self.met if which is None else self.met[list(which)]
        return float(chosen.all(axis=0).mean())

    def apart(self, which: Sequence[int] | None = None) -> float:
        """As `of_all`, if each failed by itself."""
        chosen = range(len(self.promises)) if which is None else which
        return math.prod(self.chance(one) for one in chosen)

    def missed(self) -> tuple[float, ...]:
        """How likely it is that none, one, two … lines are missed [0-1]."""
        many = self._lines @ ~self.met
        return tuple(float(one) for one in np.bincount(many, minlength=1) / self.met.shape[1])

    @property
    def _lines(self) -> NDArray[np.int64]:
        return np.array([one.lines for one in self.promises], dtype=np.int64)

    def effect(self, key: Key) -> Effect:
        """What the bad futures of a cause do to the promises that hang on it."""
        fell = self.causes[key]
        bad = fell <= np.quantile(fell, BAD)
        hang = [any(cause.key == key for stock in one.stocks for cause in stock.causes) for one in self.promises]
        usual = self.met.mean(axis=1)
        then = np.where(hang, self.met[:, bad].mean(axis=1), usual)
        worse = tuple(
            (self.promises[at].key, float(then[at]), float(usual[at]))
            for at in np.argsort(then - usual)
            if usual[at] - then[at] > NOISE
        )
        return Effect(key, float(self._lines @ (1 - then)), float(self._lines @ (1 - usual)), worse)


def _normal(z: Floats) -> Floats:
    """The share of a normal distribution below each of these; shape as `z`."""
    return np.array([0.5 * math.erfc(-one / math.sqrt(2)) for one in z.tolist()])


GRID: Floats = np.linspace(-EDGE, EDGE, STEPS)
BELOW: Floats = _normal(GRID)


@lru_cache(maxsize=1024)
def quantiles(spread: Spread) -> Floats:
    """The rate at each standard deviation of `GRID`; shape (STEPS,). Within 2e-3 of the true one.

    Summed in the logit of the rate, in which a Beta has no poles.
    """
    if spread.beta is None:
        return np.full(STEPS, spread.alpha)
    a, b = spread.alpha, spread.beta
    middle = math.log(a / b)
    wide = 9 * math.sqrt(1 / a + 1 / b)
    x = np.linspace(middle - wide - TAIL / a, middle + wide + TAIL / b, 32_001)  # the tails fall off as e^ax and e^-bx
    logs = -a * np.logaddexp(0.0, -x) - b * np.logaddexp(0.0, x)
    weights = np.exp(logs - logs.max())
    below = np.concatenate(([0.0], np.cumsum((weights[1:] + weights[:-1]) / 2)))
    at = np.interp(BELOW, below / below[-1], x)
    return np.asarray(1 / (1 + np.exp(-at)))


def draw(promises: Sequence[Promise], *, futures: int = FUTURES, seed: int = SEED) -> Drawing:
    """Draw futures of all promises together; the same seed gives the same ones.

    A batch takes what it shares with others from each of its causes, and the rest by itself; its rate is looked up there,
    and of so many units so many are good.
    """
    rng = default_rng(seed)
    causes: dict[Key, Floats] = {}
    for promise in promises:
        for stock in promise.stocks:
            for cause in stock.causes:
                if cause.key not in causes:
                    causes[cause.key] = rng.standard_normal(futures)
    met = np.zeros((len(promises), futures), dtype=np.bool_)
    for at, promise in enumerate(promises):
        total = np.zeros(futures)
        for stock in promise.stocks:
            total += _good(stock, rng, causes, futures) * stock.multiply
        met[at] = total >= promise.needed - 1e-6
    return Drawing(tuple(promises), met, causes)


def _good(stock: Drawn, rng: Generator, causes: dict[Key, Floats], futures: int) -> Floats:
    if stock.units <= 0:
        return np.zeros(futures)
    if stock.remaining.beta is None:
        return np.asarray(rng.binomial(stock.units, stock.remaining.alpha, futures), dtype=np.float64)
    shared = sum(cause.weight for cause in stock.causes)
    fell = math.sqrt(max(0.0, 1 - shared)) * rng.standard_normal(futures)
    for cause in stock.causes:
        fell += math.sqrt(cause.weight) * causes[cause.key]
    at = np.clip(fell * PER_SD + STEPS // 2 + 0.5, 0, STEPS - 1).astype(np.intp)
    rate = quantiles(stock.remaining)[at]
    return np.asarray(rng.binomial(stock.units, rate), dtype=np.float64)
