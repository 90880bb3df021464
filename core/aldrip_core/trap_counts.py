"""Insect traps: what they catch in a week, and whether that is more than before or only chance."""

from dataclasses import dataclass

from aldrip_core.distributions import Spread, tail_at_least
from aldrip_core.refusal import refuse

#: How seldom chance alone is told as more or less than before.
SELDOM = 0.01
#: Days until traps are read again, and after which nobody is reminded of them; common practice, no source.
READ_EVERY, GIVEN_UP_AFTER = 7, 60
MOST_CAUGHT, MOST_TRAPS, LONGEST_DAYS = 1_000_000, 10_000, 366


@dataclass(frozen=True, slots=True)
class Catch:
    """So many caught by so many traps that hung for so many days."""

    found: int
    traps: int
    days: int

    def __post_init__(self) -> None:
        for field, value, least, most in (
            ("found", self.found, 0, MOST_CAUGHT),
            ("traps", self.traps, 1, MOST_TRAPS),
            ("days", self.days, 1, LONGEST_DAYS),
        ):
            if not least <= value <= most:
                raise refuse(field, "out_of_range", f"{value:,} cannot be; {least:,} to {most:,} can.")

    @property
    def trap_weeks(self) -> float:
        return self.traps * self.days / 7

    @property
    def a_week(self) -> float:
        """Caught by a trap in a week. Source: arithmetic.

        >>> Catch(30, 5, 14).a_week
        3.0
        """
        return self.found / self.trap_weeks


def against(now: Catch, before: Catch) -> int:
    """1 where more is caught than before, -1 where less, 0 where chance may have made the difference.

    Given all that was caught in both, what fell into the newer one is binomial where nothing has changed; told only where
    chance does as much in one of a hundred cases. Source: the conditional test of two Poisson rates (Przyborowski and
    Wilenski 1940, from memory). Insects come in swarms, so a single high count is looked at again before much is made of it.

    >>> against(Catch(30, 5, 7), Catch(6, 5, 7)), against(Catch(8, 5, 7), Catch(6, 5, 7)), against(Catch(2, 5, 7), Catch(40, 5, 14))
    (1, 0, -1)
    """
    both = now.found + before.found
    part = Spread.from_mean_sd(now.trap_weeks / (now.trap_weeks + before.trap_weeks), 0.0)
    if tail_at_least(needed=now.found, trials=both, spread=part) <= SELDOM:
        return 1
    return -1 if 1 - tail_at_least(needed=now.found + 1, trials=both, spread=part) <= SELDOM else 0
