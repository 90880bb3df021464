"""Levelling: for many batches at once, which of the ways each could stand lets the places overflow least, with few moves.

All is reckoned in whole numbers: each ten-thousandth of a place over for a day costs one, and three where more than a
twentieth is over, since a little can be squeezed in and much cannot (common practice, no source). Every way that a batch
could stand has a price of its own: days moved, other places. Source: integer programming; the bound is the solver's.
"""

import itertools
import time
from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

Key = Hashable
WHOLE = 10_000  # parts of a place
#: What is weighed against one ten-thousandth of a place over for one day: a batch moved by a day, one stage carried elsewhere.
OF_A_DAY, OF_A_PLACE = 20, 60
SQUEEZED, STEEP = WHOLE // 20, 3


@dataclass(frozen=True, slots=True)
class Stay:
    """An amount, in the unit of its place, over the days `[first, last)`, counted from any day."""

    place: Key
    first: int
    last: int
    amount: float


@dataclass(frozen=True, slots=True)
class Way:
    """One way in which a batch could stand, and its price."""

    stays: tuple[Stay, ...]
    price: int = 0


@dataclass(frozen=True, slots=True)
class Room:
    """What a place holds, and what stands there by day that nobody moves; shape (days,)."""

    usable: float
    fixed: NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Segment:
    """Days of a place on which the same ways stand: what is left of it, and who takes how much [1/10 000]."""

    place: Key
    days: int
    left: int
    takes: tuple[tuple[int, int, int], ...]  # (batch, way, amount)


@dataclass(frozen=True)
class Problem:
    """Batches with their ways, the first as each stands now, and the rooms they stand in."""

    batches: Sequence[Sequence[Way]]
    rooms: Mapping[Key, Room]

    @cached_property
    def segments(self) -> tuple[Segment, ...]:
        """Every run of days of every place on which something could be over."""
        found: list[Segment] = []
        for key, room in self.rooms.items():
            found += _segments(key, room, self.batches)
        return tuple(found)

    @cached_property
    def apart(self) -> tuple[tuple[int, ...], ...]:
        """Batches that hang together, since they could meet where something is over: each is of one part."""
        at = list(range(len(self.batches)))

        def first(b: int) -> int:
            while at[b] != b:
                at[b] = b = at[at[b]]
            return b

        for segment in self.segments:
            together = {first(b) for b, _, _ in segment.takes}
            for b in together:
                at[b] = min(together)
        found: dict[int, list[int]] = {}
        for b in range(len(self.batches)):
            found.setdefault(first(b), []).append(b)
        return tuple(map(tuple, found.values()))

    def of(self, part: Sequence[int]) -> "Problem":
        """Some of the batches, in the same rooms."""
        return Problem([self.batches[b] for b in part], self.rooms)

    def price(self, chosen: Sequence[int]) -> int:
        """What a choice costs, overflow and moves together."""
        moves = sum(ways[one].price for ways, one in zip(self.batches, chosen, strict=True))
        return moves + sum(segment.days * dear(self._over_in(segment, chosen)) for segment in self.segments)

    def over(self, chosen: Sequence[int]) -> int:
        """Ten-thousandths of places that are over, summed by day."""
        return sum(segment.days * max(0, self._over_in(segment, chosen)) for segment in self.segments)

    @staticmethod
    def _over_in(segment: Segment, chosen: Sequence[int]) -> int:
        return sum(n for b, w, n in segment.takes if chosen[b] == w) - segment.left


@dataclass(frozen=True, slots=True)
class Levelled:
    """What was found: of each batch the way it is to stand, what that costs, and below what nothing can be."""

    chosen: tuple[int, ...]
    price: int
    before: int
    bound: int

    @property
    def proven(self) -> bool:
        """Whether nothing better exists among these ways."""
        return self.price <= self.bound


def dear(over: int) -> int:
    """The price of a place over by so many ten-thousandths for a day."""
    return max(0, over) + (STEEP - 1) * max(0, over - SQUEEZED)


def parts(amount: float, usable: float) -> int:
    """An amount in ten-thousandths of a place."""
    return round(amount / usable * WHOLE)


def _segments(key: Key, room: Room, batches: Sequence[Sequence[Way]]) -> list[Segment]:
    stays = [
        (b, w, stay)
        for b, ways in enumerate(batches)
        for w, way in enumerate(ways)
        for stay in way.stays
        if stay.place == key and stay.last > stay.first
    ]
    if not stays:
        return []
    days = len(room.fixed)
    left = np.floor((room.usable - room.fixed) / room.usable * WHOLE + 1e-6).astype(np.int64)
    edges = {0, days, *(int(one) + 1 for one in np.flatnonzero(np.diff(left)))}
    edges |= {min(max(day, 0), days) for _, _, stay in stays for day in (stay.first, stay.last)}
    ordered = sorted(edges)
    found: dict[tuple[int, tuple[tuple[int, int, int], ...]], int] = {}
    for first, last in itertools.pairwise(ordered):
        taken: dict[tuple[int, int], float] = {}
        for b, w, stay in stays:
            if stay.first <= first and stay.last >= last:
                taken[b, w] = taken.get((b, w), 0.0) + stay.amount
        takes = tuple((b, w, parts(amount, room.usable)) for (b, w), amount in taken.items())
        most: dict[int, int] = {}
        for b, _, n in takes:
            most[b] = max(most.get(b, 0), n)
        own = int(left[first])
        if sum(most.values()) > own and takes:
            found[own, takes] = found.get((own, takes), 0) + last - first
    return [Segment(key, many, own, takes) for (own, takes), many in found.items()]


def as_it_stands(problem: Problem) -> tuple[int, ...]:
    """Nothing is moved."""
    return (0,) * len(problem.batches)


@dataclass
class _Running:
    """A choice with its loads, so that one batch after another is tried elsewhere quickly."""

    problem: Problem
    chosen: list[int | None]
    by_way: dict[tuple[int, int], list[tuple[int, int]]] = field(default_factory=dict)
    load: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.load = [0] * len(self.problem.segments)
        for at, segment in enumerate(self.problem.segments):
            for b, w, n in segment.takes:
                self.by_way.setdefault((b, w), []).append((at, n))
        for b, one in enumerate(self.chosen):
            if one is not None:
                self._stand(b, one, 1)

    def _stand(self, b: int, w: int, sign: int) -> None:
        for at, n in self.by_way.get((b, w), ()):
            self.load[at] += sign * n

    def settle(self, b: int) -> bool:
        """Let a batch stand where it adds least; whether that is another way than before."""
        was = self.chosen[b]
        if was is not None:
            self._stand(b, was, -1)
        best = min(range(len(self.problem.batches[b])), key=lambda w: (self._added(b, w), w != was, w))
        self.chosen[b] = best
        self._stand(b, best, 1)
        return best != was

    def _added(self, b: int, w: int) -> int:
        total = self.problem.batches[b][w].price
        for at, n in self.by_way.get((b, w), ()):
            segment = self.problem.segments[at]
            over = self.load[at] - segment.left
            total += segment.days * (dear(over + n) - dear(over))
        return total


def first_fit(problem: Problem) -> tuple[int, ...]:
    """One batch after another, the earliest first, where it adds least to what stands already."""
    order = sorted(
        range(len(problem.batches)),
        key=lambda b: (min((stay.first for stay in problem.batches[b][0].stays), default=0), b),
    )
    running = _Running(problem, [None] * len(problem.batches))
    for b in order:
        running.settle(b)
    return tuple(one or 0 for one in running.chosen)


def improved(problem: Problem, chosen: Sequence[int]) -> tuple[int, ...]:
    """A choice in which no single batch stands better elsewhere."""
    running = _Running(problem, list(chosen))
    better = True
    while better:
        better = False
        for b in range(len(problem.batches)):
            better = running.settle(b) or better
    return tuple(one or 0 for one in running.chosen)


def level(
    problem: Problem,
    *,
    seconds: float = 60.0,
    workers: int = 2,
    go_on: Callable[[int, int], None] = lambda best, bound: None,
) -> Levelled:
    """The cheapest choice that is found in so many seconds; never dearer than what stands or than first-fit.

    go_on: told the best price and the bound every half second; what it raises ends the search and goes to the caller.
    """
    begun = time.monotonic()
    before = problem.price(as_it_stands(problem))
    starts = [as_it_stands(problem), improved(problem, as_it_stands(problem)), improved(problem, first_fit(problem))]
    starts.append(first_fit(problem))
    best = min(starts, key=problem.price)
    if problem.price(best) == 0:
        return Levelled(best, 0, before, 0)
    from aldrip_core import levelling_solver  # heavy (2 s, 60 MB): only who levels pays for it

    left = max(0.1, seconds - (time.monotonic() - begun))
    found, bound = levelling_solver.search(problem, best, seconds=left, workers=workers, go_on=go_on)
    best = min(best, found, key=problem.price)
    return Levelled(best, problem.price(best), before, min(bound, problem.price(best)))
