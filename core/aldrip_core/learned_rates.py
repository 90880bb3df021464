"""Rates learned from own batches: a Beta fitted to what was counted, with how much stands behind it."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

from aldrip_core.distributions import Spread
from aldrip_core.oversow import Trial, spread_of

FEWEST_BATCHES = 3  # own batches before their rate stands in for the library's
MOST_BATCHES = 40  # the newest ones: a house changes


@dataclass(frozen=True, slots=True)
class Counted:
    """A finished batch's count of a stage: `found` of `sampled`; `germination` of its lot and seeds a cell where sown."""

    found: int
    sampled: int
    germination: float | None = None
    seeds_per_cell: int = 1


@dataclass(frozen=True, slots=True)
class Record:
    """A rate of the house's own: its spread over batches, how many batches and how many pieces were counted."""

    spread: Spread
    batches: int
    counted: int


def seeds_kept(count: Counted) -> Trial:
    """A count of cells as a count of seeds that would have come up: what the cell kept of the lot's germination.

    A cell of n seeds is filled with `1 - (1 - g·f)^n`; solved for f. More filled cells than the lot's germination
    allows count as all.

    >>> seeds_kept(Counted(171, 200, 0.9))
    Trial(good=171, trials=180)
    """
    if count.germination is None:
        return Trial(count.found, count.sampled)
    per_seed = 1 - (1 - count.found / count.sampled) ** (1 / count.seeds_per_cell)
    trials = max(1, round(count.sampled * count.seeds_per_cell * count.germination))
    return Trial(min(trials, round(per_seed / count.germination * trials)), trials)


def learned_rate(counts: Sequence[Counted]) -> Record | None:
    """The rate that a house's own counts make most likely; None where too few batches were counted.

    `counts`: newest first. Batches weigh by what was counted of them. Source: beta-binomial likelihood, see
    `distributions.fit_beta_binomial`.
    """
    return _fitted(tuple(counts[:MOST_BATCHES]))


@lru_cache(maxsize=4096)  # a fit takes a quarter of a second, and finished batches seldom change
def _fitted(counts: tuple[Counted, ...]) -> Record | None:
    used = [seeds_kept(count) for count in counts if count.sampled > 0]
    if len(used) < FEWEST_BATCHES:
        return None
    spread, _, _ = spread_of(batches=used)
    return Record(spread, len(used), sum(trial.trials for trial in used))


class Learned(Mapping[tuple[str, str], Record]):
    """Own rates by method and stage key, each fitted when it is asked for."""

    def __init__(self, counts: Mapping[tuple[str, str], Sequence[Counted]]) -> None:
        """`counts`: newest first."""
        self._counts = counts

    def __getitem__(self, key: tuple[str, str]) -> Record:
        found = learned_rate(self._counts[key])
        if found is None:
            raise KeyError(key)
        return found

    def __iter__(self) -> Iterator[tuple[str, str]]:
        return (key for key, rows in self._counts.items() if learned_rate(rows) is not None)

    def __len__(self) -> int:
        return sum(1 for _ in self)
