"""A choice of ways made better by taking some batches up and putting them down again, thousands of times.

Source: ruin and recreate (Schrimpf, Schneider, Stamm-Wilbrandt & Dueck 2000): what is taken up stands near one another,
each is put down where it adds least, and a little worse is taken at first, less and less of it as the time runs out.
"""

from collections.abc import Sequence
from random import Random

import numpy as np
from numpy.typing import NDArray

from aldrip_core.levelling import SQUEEZED, STEEP, Problem

LEAST_UP, MOST_UP = 2, 14  # batches that are taken up together
#: By how much a choice may be worse than the last, at first and at the end, of what the first of all cost; and at least.
WORSE_FIRST, WORSE_LAST, WORSE_LEAST = 1 / 40, 1 / 400, 5.0


class Moves:
    """A choice with its loads; `best` is the cheapest that was met."""

    def __init__(self, problem: Problem, chosen: Sequence[int], seed: int = 1) -> None:
        self._any, self._problem = Random(seed), problem
        many = len(problem.segments)
        self._load = np.zeros(many + 1, dtype=np.int64)  # the last is nowhere: for ways that no segment asks about
        self._left = np.array([one.left for one in problem.segments] + [0], dtype=np.int64)
        self._days = np.array([one.days for one in problem.segments] + [0], dtype=np.int64)
        takes: dict[tuple[int, int], list[tuple[int, int]]] = {}
        near: list[set[int]] = [set() for _ in problem.batches]
        for at, segment in enumerate(problem.segments):
            there = {b for b, _, _ in segment.takes}
            for b, w, n in segment.takes:
                takes.setdefault((b, w), []).append((at, n))
                near[b] |= there
        self._near = [sorted(one) for one in near]
        self._ways: list[list[tuple[NDArray[np.int64], NDArray[np.int64]]]] = []
        self._all: list[tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]] = []
        for b, ways in enumerate(problem.batches):
            own = [takes.get((b, w)) or [(many, 0)] for w in range(len(ways))]
            arrays = [np.array(one, dtype=np.int64).T for one in own]
            self._ways.append([(one[0], one[1]) for one in arrays])
            where, amounts = (np.concatenate([one[k] for one in arrays]) for k in (0, 1))
            first = np.cumsum([0, *(len(one) for one in own[:-1])])
            self._all.append((where, amounts, first, np.array([way.price for way in ways], dtype=np.int64)))
        self._chosen = list(chosen)
        for b, w in enumerate(self._chosen):
            self._stand(b, w, 1)
        self._price = problem.price(chosen)
        self.best, self.price = tuple(chosen), self._price
        self._worse = max(WORSE_LEAST, self._price * WORSE_FIRST), max(WORSE_LEAST, self._price * WORSE_LAST)

    def _stand(self, b: int, w: int, sign: int) -> None:
        at, n = self._ways[b][w]
        self._load[at] += sign * n

    def _taken_up(self, b: int, w: int) -> int:
        """Take a batch up; what its way had added as everything else stands."""
        self._stand(b, w, -1)
        at, n = self._ways[b][w]
        before = self._load[at] - self._left[at]
        return int(self._all[b][3][w] + self._days[at] @ (_dear(before + n) - _dear(before)))

    def _added(self, b: int) -> NDArray[np.int64]:
        """What each way of a batch would add, as everything else stands now."""
        at, n, first, prices = self._all[b]
        before = self._load[at] - self._left[at]
        more = self._days[at] * (_dear(before + n) - _dear(before))
        return np.asarray(prices + np.add.reduceat(more, first))

    def step(self, done: float) -> None:
        """Take some batches up and put them down; `done` [0-1]: the share of the time that is over."""
        up = self._some()
        was = [self._chosen[b] for b in up]
        price = self._price
        for b in up:
            price -= self._taken_up(b, self._chosen[b])
        self._any.shuffle(up_again := list(range(len(up))))
        now = list(was)
        for k in up_again:
            added = self._added(up[k])
            least = int(added.min())
            now[k] = self._any.choice(np.flatnonzero(added == least).tolist())
            self._stand(up[k], now[k], 1)
            price += least
        first, last = self._worse
        worse = first * (last / first) ** done
        if price <= self._price - worse * np.log(max(self._any.random(), 1e-12)):
            for b, w in zip(up, now, strict=True):
                self._chosen[b] = w
            self._price = price
            if price < self.price:
                self.best, self.price = tuple(self._chosen), price
            return
        for b, w, old in zip(up, now, was, strict=True):
            self._stand(b, w, -1)
            self._stand(b, old, 1)

    def _some(self) -> list[int]:
        """Batches near one another, oftener those that are moved already."""
        moved = [b for b, w in enumerate(self._chosen) if self._problem.batches[b][w].price]
        first = (
            self._any.choice(moved) if moved and self._any.random() < 0.7 else self._any.randrange(len(self._chosen))
        )
        many = self._any.randint(LEAST_UP, MOST_UP)
        around = self._near[first]
        return list({first, *(self._any.sample(around, min(many, len(around))))})


def _dear(over: NDArray[np.int64]) -> NDArray[np.int64]:
    return np.asarray(np.maximum(0, over) + (STEEP - 1) * np.maximum(0, over - SQUEEZED))
