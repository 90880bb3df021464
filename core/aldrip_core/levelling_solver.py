"""The search of levelling for the cheapest choice, by integer programming; a room of its own since its library is heavy.

Source: integer programming; the bound is the solver's.
"""

from collections.abc import Callable, Sequence
from threading import Thread

import numpy as np
from ortools.sat.python import cp_model

from aldrip_core.levelling import SQUEEZED, STEEP, Problem

TICK_S = 0.5


def search(
    problem: Problem, hint: Sequence[int], *, seconds: float, workers: int, go_on: Callable[[int, int], None]
) -> tuple[tuple[int, ...], int]:
    """The cheapest choice found in so many seconds, `hint` where none was; and the bound below which there is none.

    go_on: told the best price and the bound every half second; what it raises ends the search and goes to the caller.
    """
    model, chosen = _model(problem, hint)
    watch = _Watch(problem.price(hint))
    solver = cp_model.CpSolver()
    solver.parameters.max_time_in_seconds = seconds
    solver.parameters.num_workers = workers
    solver.parameters.random_seed = 1
    solver.best_bound_callback = watch.bounded
    status: list[int] = []
    thread = Thread(target=lambda: status.append(int(solver.solve(model, watch))), daemon=True)
    thread.start()
    try:
        while thread.is_alive():
            thread.join(TICK_S)
            go_on(watch.price, watch.bound)
    finally:
        solver.stop_search()
        thread.join()
    bound = max(0, int(np.ceil(solver.best_objective_bound - 1e-6))) if status else 0
    if status and status[0] in (int(cp_model.OPTIMAL), int(cp_model.FEASIBLE)):
        return tuple(next(w for w, one in enumerate(ways) if solver.value(one)) for ways in chosen), bound
    return tuple(hint), bound


class _Watch(cp_model.CpSolverSolutionCallback):
    """The best that was found so far, and the bound."""

    def __init__(self, price: int) -> None:
        super().__init__()
        self.price, self.bound = price, 0

    def on_solution_callback(self) -> None:
        self.price = min(self.price, round(self.objective_value))

    def bounded(self, bound: float) -> None:
        """Called when a better bound is known."""
        self.bound = max(0, int(np.ceil(bound - 1e-6)))


def _model(problem: Problem, hint: Sequence[int]) -> tuple[cp_model.CpModel, list[list[cp_model.IntVar]]]:
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
