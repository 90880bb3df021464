"""How much on top: the smallest start that meets a need with a chosen chance."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from aldrip_core.distributions import (
    Spread,
    expected_shortage,
    fit_beta_binomial,
    smallest_trials,
    tail_at_least,
)
from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Origin, Step, Working, computed

MOST = 10_000_000


@dataclass(frozen=True, slots=True)
class Trial:
    """A past batch: `good` of `trials`."""

    good: int
    trials: int


@dataclass(frozen=True, slots=True)
class Oversow:
    """Start quantity [whole units], what is expected of it, and the chance it gives [0-1]."""

    start: int | None
    expected_good: float | None
    chance_met: float | None
    cheapest_start: int | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ("start", "expected_good", "chance_met")


def spread_of(
    *,
    rate: float | None = None,
    rate_sd: float | None = None,
    good: int | None = None,
    trials: int | None = None,
    batches: Sequence[Trial] | None = None,
) -> tuple[Spread, tuple[Step, ...], tuple[Warn, ...]]:
    """The rate's distribution from whichever evidence was given, with its working.

    Raises Refused when none or more than one kind of evidence is there, or it contradicts itself.
    """
    kinds = [rate is not None, good is not None or trials is not None, batches is not None]
    if sum(kinds) != 1 or (rate_sd is not None and rate is None):
        raise refuse(
            "rate", "one_of", "Give exactly one of: rate (with or without rate_sd), good and trials, or batches."
        )
    if batches is not None:
        return _from_batches(batches)
    if rate is not None:
        try:
            spread = Spread.from_mean_sd(rate, rate_sd or 0.0)
        except ValueError:
            limit = math.sqrt(rate * (1 - rate))
            raise refuse(
                "rate_sd",
                "too_wide",
                f"A rate of {rate:g} cannot spread by {rate_sd:g}; it must stay below {limit:.3g}.",
            ) from None
        given = (Given("rate", rate, "share"), Given("standard deviation", rate_sd or 0.0, "share"))
        label = "Rate" if not rate_sd else "Rate that differs from batch to batch"
        return spread, (Step(label, "as given", given, rate, "share"),), ()
    if good is None or trials is None:
        raise refuse("trials" if trials is None else "good", "missing", "Give both good and trials.")
    if good > trials:
        raise refuse("good", "out_of_range", f"{good} good of {trials} is more than there were.")
    spread = Spread(good + 1.0, trials - good + 1.0)
    given = (Given("good", good, "", Origin.RECORDS), Given("trials", trials, "", Origin.RECORDS))
    step = Step("Rate from one record", "(good + 1) ÷ (trials + 2)", given, spread.mean, "share")
    text = "One pooled record cannot show how much batches differ; the chance is too hopeful if they do."
    return spread, (step,), (Warn("one_record", text),)


def _from_batches(batches: Sequence[Trial]) -> tuple[Spread, tuple[Step, ...], tuple[Warn, ...]]:
    for index, batch in enumerate(batches):
        if batch.good > batch.trials:
            raise refuse(
                f"batches.{index}.good", "out_of_range", f"{batch.good} good of {batch.trials} is more than there were."
            )
    used = [batch for batch in batches if batch.trials > 0]
    if not used:
        raise refuse("batches", "empty", "No batch with any trial in it; give at least two.")
    if len(used) == 1:
        return spread_of(good=used[0].good, trials=used[0].trials)
    good, trials = sum(b.good for b in used), sum(b.trials for b in used)
    if good in (0, trials):  # no batch shows any variation; the likelihood has no peak inside
        spread, steps, _ = spread_of(good=good, trials=trials)
        return spread, steps, (Warn("no_variation", "Every trial ended alike; a uniform prior was added."),)
    spread = fit_beta_binomial([b.good for b in used], [b.trials for b in used])
    given = (
        Given("batches", len(used), "", Origin.RECORDS),
        Given("good", good, "", Origin.RECORDS),
        Given("trials", trials, "", Origin.RECORDS),
    )
    steps = (
        Step("Rate over batches", "mean of the fitted Beta", given, spread.mean, "share"),
        Step("Spread between batches", "standard deviation of the fitted Beta", given, spread.sd, "share"),
    )
    few = (
        (Warn("few_batches", f"Only {len(used)} batches: their spread is itself uncertain."),) if len(used) < 5 else ()
    )
    return spread, steps, few


def oversow(
    *,
    needed: int,
    chance: float,
    rate: float | None = None,
    rate_sd: float | None = None,
    good: int | None = None,
    trials: int | None = None,
    batches: Sequence[Trial] | None = None,
    cost_surplus: float | None = None,
    cost_short: float | None = None,
) -> Oversow:
    """Smallest start whose chance of at least `needed` good ones is at least `chance` [0-1).

    Counts are binomial for a rate known exactly, else beta-binomial: batches differ, and pooled
    counts are not independent trials. With `cost_surplus` (of one beyond the need) and `cost_short`
    (of one missing) the start of least expected cost stands beside it.
    Source: beta-binomial, see `distributions`.

    >>> oversow(needed=8, chance=0.95, rate=0.9).start
    11
    """
    spread, steps, warnings = spread_of(rate=rate, rate_sd=rate_sd, good=good, trials=trials, batches=batches)
    if (cost_surplus is None) != (cost_short is None):
        missing = "cost_short" if cost_short is None else "cost_surplus"
        raise refuse(missing, "missing", "The cheapest start needs both costs.")
    start = smallest_trials(needed=needed, chance=chance, spread=spread, most=MOST)
    if start is None:
        text = f"No start up to {MOST:,} gives {needed:,} good ones with a chance of {chance:.3g} at this rate."
        return Oversow(None, None, None, working=steps, warnings=(*warnings, Warn("unreachable", text)))
    met = tail_at_least(needed=needed, trials=start, spread=spread)
    given: tuple[Given, ...] = (
        Given("needed", needed),
        Given("chance wanted", chance, "share"),
        computed("rate", spread.mean, "share"),
    )
    steps = (
        *steps,
        Step("Start", "smallest start whose chance of the need is enough", given, start),
        Step("Expected good ones", "start × rate", (computed("start", start),), start * spread.mean),
        Step(
            "Chance that the need is met", "tail of the count of good ones", (computed("start", start),), met, "share"
        ),
    )
    cheapest = None
    if cost_surplus is not None and cost_short is not None:
        cheapest = _cheapest(needed, spread, cost_surplus, cost_short)
        given = (Given("cost of one too many", cost_surplus), Given("cost of one short", cost_short))
        steps = (*steps, Step("Cheapest start", "least expected cost of surplus and shortage", given, cheapest))
    return Oversow(start, start * spread.mean, met, cheapest, steps, warnings)


def chance_worth(*, cost_surplus: float, cost_short: float) -> float:
    """The chance of meeting a need [0-1) that costs least, for what one too many and one missing cost (same money).

    The critical ratio of the newsvendor, short ÷ (short + surplus) (Arrow, Harris & Marschak 1951, from memory). It holds
    where one more is had for sure; where its rate is uncertain the cheapest chance is a little lower. Raises Refused.

    >>> chance_worth(cost_surplus=0.03, cost_short=0.57)
    0.95
    """
    for name, value in (("cost_surplus", cost_surplus), ("cost_short", cost_short)):
        if value <= 0:
            raise refuse(name, "out_of_range", "What one costs is more than nothing.")
    share = cost_short / (cost_short + cost_surplus)
    if not 0.5 <= share <= 0.999:
        dear = (
            "one too many costs more than one missing" if share < 0.5 else "one missing costs a thousand times as much"
        )
        told = f"With these costs the chance would be {share:.1%}: {dear}. Type the chance itself."
        raise refuse("cost_short", "out_of_range", told.replace("%", " %"))
    return round(share, 4)


def _cheapest(needed: int, spread: Spread, cost_surplus: float, cost_short: float) -> int | None:
    """Start of least expected cost; the cost is convex in the start, so bisect its difference."""
    if spread.mean <= 0:
        return None

    def cost(start: int) -> float:
        short = expected_shortage(needed=needed, trials=start, spread=spread)
        return cost_surplus * (start * spread.mean - needed + short) + cost_short * short

    low, high = -1, max(1, needed)
    while high < MOST and cost(high + 1) < cost(high):
        low, high = high, min(MOST, high * 2)
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if cost(middle + 1) < cost(middle) else (low, middle)
    return high
