"""Tails of counts: binomial where a rate is known, beta-binomial where it has a spread.

A rate is described by a `Spread`: exact, or a Beta distribution over possible rates. Tails are
summed outward from the count with the ratio of neighbouring terms, so that a count of ten million
costs a few array operations. Source of the formulas: Johnson, Kemp & Kotz, Univariate Discrete
Distributions, 3rd ed., sections 3.2 and 6.2.2 (from memory); checked against scipy in the tests.
"""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
CHUNK = 1 << 18
NEGLIGIBLE = 1e-18


NARROW = 1e-6  # a standard deviation below which a rate is known: fitting a Beta to it is rounding noise


@dataclass(frozen=True, slots=True)
class Spread:
    """A rate between 0 and 1: `alpha`, `beta` of a Beta distribution, or exact (`beta` None).

    With `beta` None, `alpha` is the rate itself.
    """

    alpha: float
    beta: float | None = None

    @property
    def mean(self) -> float:
        """Expected rate [0-1]."""
        return self.alpha if self.beta is None else self.alpha / (self.alpha + self.beta)

    @property
    def sd(self) -> float:
        """Standard deviation of the rate [0-1]; 0 when it is exact."""
        if self.beta is None:
            return 0.0
        total = self.alpha + self.beta
        return math.sqrt(self.alpha * self.beta / (total * total * (total + 1)))

    @staticmethod
    def from_mean_sd(mean: float, sd: float) -> "Spread":
        """The Beta with this mean and standard deviation; exact when `sd` is 0, or too narrow to tell from it.

        Raises ValueError when no Beta has them (`sd`² must stay below mean·(1-mean)).

        >>> round(Spread.from_mean_sd(0.8, 0.03).sd, 6)
        0.03
        """
        if sd < NARROW or mean in (0.0, 1.0):
            return Spread(mean)
        room = mean * (1 - mean) / (sd * sd) - 1
        if room <= 0:
            raise ValueError("the standard deviation is too wide for this rate")
        return Spread(mean * room, (1 - mean) * room)


def product(spreads: Sequence[Spread]) -> Spread:
    """The spread of a product of independent rates, matched by mean and variance."""
    mean = math.prod(s.mean for s in spreads)
    square = math.prod(s.mean**2 + s.sd**2 for s in spreads)
    variance = max(0.0, square - mean * mean)
    # A product this narrow is a known rate: matching it would only add rounding noise.
    return Spread(mean) if variance < NARROW * NARROW else Spread.from_mean_sd(mean, math.sqrt(variance))


def _log_beta(a: float, b: float) -> float:
    return math.lgamma(a) + math.lgamma(b) - math.lgamma(a + b)


def _log_term(k: int, n: int, spread: Spread) -> float:
    """Logarithm of P(X = k)."""
    choose = -_log_beta(k + 1, n - k + 1) - math.log(n + 1)
    if spread.beta is None:
        p = spread.alpha
        return choose + k * math.log(p) + (n - k) * math.log1p(-p)
    return choose + _log_beta(k + spread.alpha, n - k + spread.beta) - _log_beta(spread.alpha, spread.beta)


def _log_ratios(k: Floats, n: int, spread: Spread) -> Floats:
    """log P(X = k+1) - log P(X = k) for each k; shape as `k`."""
    base = np.log(n - k) - np.log(k + 1)
    if spread.beta is None:
        return np.asarray(base + math.log(spread.alpha) - math.log1p(-spread.alpha))
    return np.asarray(base + np.log(k + spread.alpha) - np.log(n - k - 1 + spread.beta))


def _run_sum(first: int, last: int, n: int, spread: Spread) -> float:
    """Sum of P(X = k) from `first` outward to `last` (either direction), stopping when negligible."""
    upward = last >= first
    # A U-shaped Beta rises again at the far end, so no early stop there.
    may_stop = spread.beta is None or (spread.alpha >= 1 and spread.beta >= 1)
    log_term = _log_term(first, n, spread)
    total, k = math.exp(log_term), first
    # A few standard deviations hold all that counts; more are taken only if they still do.
    chunk = min(CHUNK, 512 + int(6 * count_sd(n, spread))) if may_stop else CHUNK
    while k != last:
        if upward:
            edge = min(last, k + chunk)
            steps = _log_ratios(np.arange(k, edge, dtype=np.float64), n, spread)
        else:
            edge = max(last, k - chunk)
            steps = -_log_ratios(np.arange(k - 1, edge - 1, -1, dtype=np.float64), n, spread)
        logs = log_term + np.cumsum(steps)
        total += float(np.exp(logs).sum())
        log_term, k = float(logs[-1]), edge
        if may_stop and steps[-1] < 0 and math.exp(min(log_term, 0.0)) < NEGLIGIBLE * max(total, 1e-300):
            break
    return total


@lru_cache(maxsize=8192)
def tail_at_least(*, needed: int, trials: int, spread: Spread) -> float:
    """Chance of at least `needed` good ones among `trials` [0-1].

    >>> round(tail_at_least(needed=8, trials=10, spread=Spread(0.9)), 6)
    0.929809
    """
    if needed <= 0:
        return 1.0
    if needed > trials or spread.mean <= 0:
        return 0.0
    if spread.mean >= 1:
        return 1.0
    if needed > trials * spread.mean:
        return min(1.0, _run_sum(needed, trials, trials, spread))
    return max(0.0, 1.0 - _run_sum(needed - 1, 0, trials, spread))


def count_sd(trials: int, spread: Spread) -> float:
    """Standard deviation of the count of good ones."""
    mean = spread.mean
    within = trials * mean * (1 - mean) - trials * spread.sd**2
    return math.sqrt(max(0.0, within) + (trials * spread.sd) ** 2)


@lru_cache(maxsize=8192)
def smallest_trials(*, needed: int, chance: float, spread: Spread, most: int, step: int = 1) -> int | None:
    """Smallest count of trials with at least `chance` of `needed` good ones; None above `most`.

    With `step` only its multiples are looked at, as where cells come in whole trays.
    """
    if needed <= 0:
        return 0
    if spread.mean <= 0:
        return None

    def enough(steps: int) -> bool:
        return tail_at_least(needed=needed, trials=steps * step, spread=spread) >= chance

    # Start where the normal curve puts it, and close in from there.
    least, last = -(-needed // step), most // step
    plain = max(needed, math.ceil(needed / spread.mean))
    spare = _normal_quantile(chance) * count_sd(plain, spread) / spread.mean
    guess = min(last, max(least, math.ceil((plain + spare) / step)))
    stride = max(1, guess // 500)
    if enough(guess):
        high, low = guess, guess - stride
        while low >= least and enough(low):
            high, stride = low, stride * 2
            low = high - stride
        low = max(low, least - 1)
    else:
        low, high = guess, guess + stride
        while not enough(min(high, last)):
            if high >= last:
                return None
            low, stride = high, stride * 2
            high = low + stride
        high = min(high, last)
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if enough(middle) else (middle, high)
    return high * step


def largest_needed(*, trials: int, chance: float, spread: Spread) -> int:
    """Largest count that `trials` reach with at least `chance`: what may be promised."""
    low, high = 0, trials + 1
    while high - low > 1:
        middle = (low + high) // 2
        good = tail_at_least(needed=middle, trials=trials, spread=spread) >= chance
        low, high = (middle, high) if good else (low, middle)
    return low


def _window(trials: int, spread: Spread) -> tuple[int, int]:
    """First and last count that matter: ten standard deviations either way."""
    if spread.mean <= 0 or spread.mean >= 1 or trials == 0:
        return (0, 0) if spread.mean <= 0 else (trials, trials)
    reach = 10 * count_sd(trials, spread) + 10
    return (
        max(0, math.floor(trials * spread.mean - reach)),
        min(trials, math.ceil(trials * spread.mean + reach)),
    )


def probabilities(trials: int, spread: Spread) -> tuple[int, Floats]:
    """P(X = k) over the window that matters: (first k, probabilities from there on).

    Ten standard deviations either way; what a very lopsided Beta leaves outside is under 2e-6.
    """
    first, last = _window(trials, spread)
    if first == last:
        return first, np.ones(1)
    steps = _log_ratios(np.arange(first, last, dtype=np.float64), trials, spread)
    logs = _log_term(first, trials, spread) + np.concatenate(([0.0], np.cumsum(steps)))
    return first, np.asarray(np.exp(logs))


@dataclass(frozen=True, slots=True)
class Counts:
    """Chances of counts, in bins of `width` of them: the middle of the first, and a chance a bin."""

    first: float
    width: int
    chances: Floats

    def at_least(self, needed: float) -> float:
        """Chance of `needed` or more [0-1]; within a bin as if its counts were equally likely."""
        edges = self.first - self.width / 2 + self.width * np.arange(len(self.chances) + 1)
        above = np.concatenate((np.cumsum(self.chances[::-1])[::-1], [0.0]))
        return float(min(1.0, np.interp(needed - 0.5, edges, above)))

    def quantile(self, share: float) -> int:
        """Smallest count that is not passed with chance `share`; of a bin its middle."""
        below = np.cumsum(self.chances)
        index = int(np.searchsorted(below, share * self.chances.sum()))
        return math.floor(self.first + self.width * min(index, len(below) - 1))


FINEST = 1 << 13  # bins across the widest of several counts: a four-hundredth of its standard deviation each


def _binned(trials: int, spread: Spread, width: int) -> Counts:
    """The count in bins of `width`. In windows wider than `CHUNK` one step of the ratio leads from bin to bin."""
    first, last = _window(trials, spread)
    middle = first + (width - 1) / 2
    if last - first <= CHUNK:
        first, chances = probabilities(trials, spread)
        return Counts(middle, width, np.add.reduceat(chances, np.arange(0, len(chances), width)))
    between = first + width * np.arange(1, (last - first + 1) // width, dtype=np.float64)
    logs = np.zeros(len(between) + 1)
    logs[1:] = np.cumsum(width * _log_ratios(between - 1.0, trials, spread))
    chances = np.exp(logs - logs.max())
    return Counts(middle, width, np.asarray(chances / chances.sum()))


def sum_of_counts(parts: Sequence[tuple[int, Spread]]) -> Counts:
    """Distribution of the sum of independent counts: count by count, or in bins where they spread wide.

    What takes a second for two batches of a hundred thousand count by count takes milliseconds so.
    """
    windows = [_window(trials, spread) for trials, spread in parts]
    width = max([1, *(-(-(last - first) // FINEST) for first, last in windows)])
    middle, total = 0.0, np.ones(1)
    for trials, spread in parts:
        one = _binned(trials, spread, width)
        middle, total = middle + one.first, np.convolve(total, one.chances)
    return Counts(middle, width, total)


def chance_of_sum(*, needed: int, parts: Sequence[tuple[int, Spread]]) -> float:
    """Chance that several batches together give at least `needed` [0-1]."""
    if len(parts) == 1:
        return tail_at_least(needed=needed, trials=parts[0][0], spread=parts[0][1])
    return sum_of_counts(parts).at_least(needed)


def quantile_of_sum(*, share: float, parts: Sequence[tuple[int, Spread]]) -> int:
    """Smallest count that the sum stays at or below with chance `share`."""
    return sum_of_counts(parts).quantile(share)


def expected_shortage(*, needed: int, trials: int, spread: Spread) -> float:
    """Expected number missing to `needed`, E[max(needed - X, 0)]."""
    found = sum_of_counts([(trials, spread)])
    counts = found.first + found.width * np.arange(len(found.chances))
    return float((np.clip(needed - counts, 0, None) * found.chances).sum())


@lru_cache(maxsize=256)
def _normal_quantile(p: float) -> float:
    """Quantile of the standard normal by bisection of erf; a starting guess needs no more."""
    low, high = -9.0, 9.0
    for _ in range(50):
        middle = (low + high) / 2
        below = 0.5 * (1 + math.erf(middle / math.sqrt(2))) < p
        low, high = (middle, high) if below else (low, middle)
    return high


_STIRLING = (1 / 12, -1 / 360, 1 / 1260, -1 / 1680, 1 / 1188)


def log_gamma(x: Floats) -> Floats:
    """Logarithm of the gamma function for x > 0, any shape (Stirling's series after a shift of 8).

    Source: Abramowitz & Stegun 6.1.41.
    """
    shift = np.log(x)
    for k in range(1, 8):
        shift = shift + np.log(x + k)
    z = x + 8
    series = sum(c / z ** (2 * i + 1) for i, c in enumerate(_STIRLING))
    return np.asarray((z - 0.5) * np.log(z) - z + 0.5 * math.log(2 * math.pi) + series - shift)


def fit_beta_binomial(good: Sequence[int], trials: Sequence[int]) -> Spread:
    """The Beta whose beta-binomial makes these batches most likely (maximum likelihood).

    Batches that differ no more than chance would make them give a narrow Beta (precision 1e7).
    Shapes: `good` and `trials` (n_batches,).
    """
    k = np.asarray(good, dtype=np.float64)
    n = np.asarray(trials, dtype=np.float64)

    def likelihood(mean: float, precision: float) -> float:
        a, b = mean * precision, (1 - mean) * precision
        own = log_gamma(k + a) + log_gamma(n - k + b) - log_gamma(n + precision)
        return float(own.sum() - len(k) * (math.lgamma(a) + math.lgamma(b) - math.lgamma(a + b)))

    def best_mean(log_precision: float) -> float:
        return _golden(lambda m: likelihood(m, math.exp(log_precision)), 1e-7, 1 - 1e-7, 34)

    def profile(log_precision: float) -> float:
        return likelihood(best_mean(log_precision), math.exp(log_precision))

    log_precision = _golden(profile, math.log(0.2), math.log(1e7), 34)
    mean, precision = best_mean(log_precision), math.exp(log_precision)
    return Spread(mean * precision, (1 - mean) * precision)


def _golden(value: Callable[[float], float], low: float, high: float, rounds: int) -> float:
    """The place of the maximum of a function with one peak, by golden section."""
    ratio = (math.sqrt(5) - 1) / 2
    inner, outer = high - ratio * (high - low), low + ratio * (high - low)
    at_inner, at_outer = value(inner), value(outer)
    for _ in range(rounds):
        if at_inner > at_outer:
            high, outer, at_outer = outer, inner, at_inner
            inner = high - ratio * (high - low)
            at_inner = value(inner)
        else:
            low, inner, at_inner = inner, outer, at_outer
            outer = low + ratio * (high - low)
            at_outer = value(outer)
    return (low + high) / 2
