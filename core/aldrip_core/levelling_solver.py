"""The search of levelling for the cheapest choice; a room of its own since its libraries are heavy.

Small seasons are solved whole. Large ones are made better step by step (`levelling_moves`), while a branch-and-cut solver
raises the bound beside it, and often proves the best. Both solvers come with OR-Tools.
"""

import time
from collections.abc import Callable, Sequence
from functools import partial
from threading import Thread
from typing import Any

import numpy as np
from ortools.linear_solver import pywraplp
from ortools.sat.python import cp_model

from aldrip_core.levelling import SQUEEZED, STEEP, Problem
from aldrip_core.levelling_moves import Moves

WHOLE_SHARE = 0.15  # of the time in which the whole is tried at first
TICK_S = 0.5
LEAST_S = 1.0  # for which another search is begun
STEPS = 20

Choice = tuple[int, ...]


def search(
    problem: Problem, hint: Sequence[int], *, seconds: float, workers: int, go_on: Callable[[int, int], None]
) -> tuple[Choice, int]:
    """The cheapest choice found in so many seconds, `hint` where none was; and the bound below which there is none.

    What never meets in a place is searched apart, the small parts first: what they leave of their time goes to the others,
    and what all leave to those that are not solved yet.
    go_on: told the best price and the bound about every second; what it raises ends the search and goes to the caller.
    """
    ends, found = time.monotonic() + seconds, list(hint)
    parts = sorted(((part, problem.of(part)) for part in problem.apart), key=lambda one: len(one[1].segments))
    bounds, tried = [0] * len(parts), False
    open_ = list(range(len(parts)))
    while open_ and not (tried and ends - time.monotonic() < LEAST_S):
        tried = True
        for at, n in enumerate(open_):
            part, own = parts[n]
            ways = [sum(map(len, parts[other][1].batches)) for other in open_[at:]]
            mine = tuple(found[b] for b in part)
            others = problem.price(found) - own.price(mine)  # what is over for good belongs to nobody
            best, least = _search(
                own,
                mine,
                seconds=max(0.1, (ends - time.monotonic()) * ways[0] / sum(ways)),
                workers=workers,
                go_on=partial(_beside, go_on, others, sum(bounds) - bounds[n]),
            )
            bounds[n] = max(bounds[n], least)
            for b, w in zip(part, best, strict=True):
                found[b] = w
        open_ = [n for n in open_ if bounds[n] < parts[n][1].price([found[b] for b in parts[n][0]])]
    return tuple(found), sum(bounds)


def _beside(go_on: Callable[[int, int], None], others: int, under: int, price: int, bound: int) -> None:
    """Tell what a part has come to, with what the others cost."""
    go_on(others + price, under + bound)


def _search(
    problem: Problem, hint: Sequence[int], *, seconds: float, workers: int, go_on: Callable[[int, int], None]
) -> tuple[Choice, int]:
    """The same of batches that all hang together."""
    begun = time.monotonic()
    best, bound = _whole(problem, tuple(hint), seconds=seconds * WHOLE_SHARE, workers=workers, go_on=go_on)
    price = problem.price(best)
    go_on(price, bound)
    if price <= bound:
        return best, bound
    beside = _Bound(problem, seconds - (time.monotonic() - begun))
    moves, since, told = Moves(problem, best), time.monotonic(), time.monotonic()
    try:
        while (
            (now := time.monotonic()) - begun < seconds and moves.price > max(bound, beside.bound) and not beside.proved
        ):
            for _ in range(STEPS):
                moves.step(min(1.0, (now - since) / (begun + seconds - since)))
            if now - told >= TICK_S:
                told = now
                go_on(moves.price, max(bound, beside.bound))
    finally:
        beside.end()
    best = min([moves.best, *([beside.found] if beside.found else [])], key=problem.price)
    return best, max(bound, beside.bound)


def _whole(
    problem: Problem, best: Choice, *, seconds: float, workers: int, go_on: Callable[[int, int], None]
) -> tuple[Choice, int]:
    """The cheapest choice that is found at once, `best` where none was, and its bound."""
    model, chosen = _model(problem, best)
    solver = cp_model.CpSolver()
    solver.parameters.max_time_in_seconds = seconds
    solver.parameters.num_workers = workers
    solver.parameters.random_seed = 1
    status: list[int] = []
    thread = Thread(target=lambda: status.append(int(solver.solve(model))), daemon=True)
    thread.start()
    try:
        while thread.is_alive():
            thread.join(TICK_S)
            go_on(problem.price(best), 0)
    finally:
        solver.stop_search()
        thread.join()
    bound = max(0, int(np.ceil(solver.best_objective_bound - 1e-6))) if status else 0
    if status and status[0] in (int(cp_model.OPTIMAL), int(cp_model.FEASIBLE)):
        found = tuple(next(w for w, one in enumerate(ways) if solver.value(one)) for ways in chosen)
        return min(best, found, key=problem.price), bound
    return best, bound


def _model(problem: Problem, hint: Choice) -> tuple[cp_model.CpModel, list[list[cp_model.IntVar]]]:
    model = cp_model.CpModel()
    chosen = [[model.new_bool_var("") for _ in ways] for ways in problem.batches]
    costs, amounts = list[cp_model.IntVar](), list[int]()
    for b, own in enumerate(chosen):
        model.add_exactly_one(own)
        for w, one in enumerate(own):
            model.add_hint(one, hint[b] == w)
            costs.append(one)
            amounts.append(problem.batches[b][w].price)
    for segment in problem.segments:
        most = sum(n for _, _, n in segment.takes) + max(0, -segment.left)
        over = model.new_int_var(max(0, -segment.left), most, "")
        taken = cp_model.LinearExpr.weighted_sum(
            [chosen[b][w] for b, w, _ in segment.takes], [n for _, _, n in segment.takes]
        )
        model.add(over >= taken - segment.left)
        costs.append(over)
        amounts.append(segment.days)
        if most > SQUEEZED:
            much = model.new_int_var(0, most - SQUEEZED, "")
            model.add(much >= over - SQUEEZED)
            costs.append(much)
            amounts.append((STEEP - 1) * segment.days)
    model.minimize(cp_model.LinearExpr.weighted_sum(costs, amounts))
    return model, chosen


class _Bound:
    """A branch-and-cut solver beside the search: what it proves is known at its end."""

    def __init__(self, problem: Problem, seconds: float) -> None:
        self.bound = 0
        self.found: Choice | None = None
        self.proved = False
        self._solver: Any = pywraplp.Solver.CreateSolver("SCIP")
        self._chosen = _linear(self._solver, problem)
        self._solver.SetTimeLimit(max(1, int(seconds * 1000)))
        self._thread = Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        status = self._solver.Solve()
        self.bound = max(0, int(np.ceil(self._solver.Objective().BestBound() - 1e-4)))
        if status in (pywraplp.Solver.OPTIMAL, pywraplp.Solver.FEASIBLE):
            self.found = tuple(max(range(len(ways)), key=lambda w: ways[w].solution_value()) for ways in self._chosen)
        self.proved = status == pywraplp.Solver.OPTIMAL

    def end(self) -> None:
        while self._thread.is_alive():  # asked before it has begun it would not hear
            self._solver.InterruptSolve()
            self._thread.join(0.2)


def _linear(solver: Any, problem: Problem) -> list[list[Any]]:
    """The same as a linear program in which ways are whole."""
    far, objective = solver.infinity(), solver.Objective()
    chosen = [[solver.BoolVar("") for _ in ways] for ways in problem.batches]
    for b, own in enumerate(chosen):
        one_of = solver.Constraint(1, 1)
        for w, one in enumerate(own):
            one_of.SetCoefficient(one, 1)
            objective.SetCoefficient(one, problem.batches[b][w].price)
    for segment in problem.segments:
        over = solver.NumVar(max(0, -segment.left), far, "")
        room = solver.Constraint(-far, segment.left)
        room.SetCoefficient(over, -1)
        for b, w, n in segment.takes:
            room.SetCoefficient(chosen[b][w], n)
        objective.SetCoefficient(over, segment.days)
        much = solver.NumVar(0, far, "")
        dear = solver.Constraint(-far, SQUEEZED)
        dear.SetCoefficient(over, 1)
        dear.SetCoefficient(much, -1)
        objective.SetCoefficient(much, (STEEP - 1) * segment.days)
    objective.SetMinimization()
    return chosen
