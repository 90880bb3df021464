"""Levelling against brute force on small seasons, and on large ones against first-fit, what stood, and its own bound."""

import itertools
import random
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.levelling import (
    OF_A_DAY,
    OF_A_PLACE,
    WHOLE,
    Problem,
    Room,
    Stay,
    Way,
    as_it_stands,
    first_fit,
    improved,
    level,
)
from aldrip_core.levelling_moves import Moves

DAYS = 30
stays = st.builds(
    lambda place, first, long, amount: Stay(place, first, min(first + long, DAYS), amount),
    st.integers(0, 2),
    st.integers(0, DAYS - 2),
    st.integers(1, 12),
    st.integers(1, 40).map(float),
)
ways = st.builds(Way, st.lists(stays, min_size=1, max_size=2).map(tuple), st.integers(0, 300))
batches = st.lists(st.lists(ways, min_size=1, max_size=3), min_size=1, max_size=5)
rooms = st.lists(st.tuples(st.integers(20, 60), st.integers(0, 70)), min_size=3, max_size=3)


def problem_of(many: list[list[Way]], sizes: list[tuple[int, int]]) -> Problem:
    """Three places, each with something fixed in the middle third of the days."""
    found = {}
    for key, (usable, fixed) in enumerate(sizes):
        load = np.zeros(DAYS)
        load[10:20] = fixed
        found[key] = Room(float(usable), load)
    return Problem([[Way(own[0].stays), *own[1:]] for own in many], found)


def by_hand(problem: Problem, chosen: tuple[int, ...]) -> float:
    """The price day after day and place after place, in parts of a place; whole numbers only in the end."""
    total = 0.0
    for key, room in problem.rooms.items():
        for day in range(len(room.fixed)):
            stands = sum(
                stay.amount
                for b, w in enumerate(chosen)
                for stay in problem.batches[b][w].stays
                if stay.place == key and stay.first <= day < stay.last
            )
            over = max(0.0, stands + room.fixed[day] - room.usable) / room.usable * WHOLE
            total += over if over <= 500 else 3 * over - 1000  # three times as dear from a twentieth on
    return total + sum(problem.batches[b][w].price for b, w in enumerate(chosen))


class Small(TestCase):
    @settings(max_examples=60, deadline=None)
    @given(batches, rooms)
    def test_as_good_as_every_choice_there_is_looked_through(
        self, many: list[list[Way]], sizes: list[tuple[int, int]]
    ) -> None:
        problem = problem_of(many, sizes)
        best = min(problem.price(one) for one in itertools.product(*(range(len(own)) for own in problem.batches)))
        found = level(problem, seconds=20, workers=1)
        self.assertEqual((found.price, found.bound, found.proven), (best, best, True))

    @settings(max_examples=150, deadline=None)
    @given(batches, rooms, st.randoms(use_true_random=False))
    def test_the_price_is_that_of_a_sum_day_by_day(
        self, many: list[list[Way]], sizes: list[tuple[int, int]], any_: random.Random
    ) -> None:
        """Days on which nothing movable stands are no part of it; each amount is rounded to a ten-thousandth."""
        problem = problem_of(many, sizes)
        one, other = (tuple(any_.randrange(len(own)) for own in problem.batches) for _ in range(2))
        exact = by_hand(problem, one) - by_hand(problem, other)
        rounded = problem.price(one) - problem.price(other)
        self.assertLess(abs(exact - rounded), DAYS * 3 * 3 * (2 * len(many) + 1))

    def test_less_than_a_second_is_enough_for_little(self) -> None:
        stays = [Way((Stay(0, 0, 5, 8.0),)), Way((Stay(0, 5, 9, 8.0),), 300)]
        found = level(Problem([stays, stays], {0: Room(10.0, np.zeros(DAYS))}), seconds=0.8, workers=1)
        self.assertEqual((found.price, found.proven), (300, True))

    def test_what_stops_it_is_told_to_whoever_asked_and_nothing_runs_on(self) -> None:
        class Stop(Exception):
            pass

        def stop(best: int, bound: int) -> None:
            raise Stop

        with self.assertRaises(Stop):
            level(season(1), seconds=60, go_on=stop)


def season(seed: int, many: int = 300, places: int = 12, weeks: int = 40) -> Problem:
    """Three germination rooms and nine benches of two kinds, sown twice a week, filled to the brim in the middle."""
    any_ = random.Random(seed)
    size = [any_.choice([60, 90, 120, 180]) for _ in range(places)]
    found: dict[int, Room] = {place: Room(float(size[place]), np.zeros(weeks * 7)) for place in range(places)}
    made = []
    for _ in range(many):
        sow = 7 * any_.randrange(0, weeks - 11) + any_.choice([1, 4])
        inside, grows, amount = any_.randint(2, 5), 7 * any_.randint(3, 7), any_.uniform(3, 22)
        room, benches = any_.randrange(3), any_.choice([range(3, 8), range(8, 12)])
        own = any_.choice(benches)
        ways_ = []
        for shift in (0, -21, -14, -7, 7, 14):
            for bench in (own, *(one for one in benches if one != own)):
                first = sow + shift
                if first >= 0 and first + inside + grows <= weeks * 7:
                    price = abs(shift) * OF_A_DAY + (bench != own) * OF_A_PLACE
                    there = Stay(bench, first + inside, first + inside + grows, amount)
                    ways_.append(Way((Stay(room, first, first + inside, amount / 15), there), price))
        made.append(ways_)
    return Problem(made, found)


class Apart(TestCase):
    @settings(max_examples=100, deadline=None)
    @given(batches, rooms, st.randoms(use_true_random=False))
    def test_parts_that_never_meet_cost_together_what_the_whole_costs(
        self, many: list[list[Way]], sizes: list[tuple[int, int]], any_: random.Random
    ) -> None:
        """Each batch is of one part, no segment of two; by how much a choice is dearer than another is the sum of its parts."""
        problem = problem_of(many, sizes)
        self.assertEqual(sorted(b for part in problem.apart for b in part), list(range(len(many))))
        of = {b: n for n, part in enumerate(problem.apart) for b in part}
        for segment in problem.segments:
            self.assertEqual(len({of[b] for b, _, _ in segment.takes}), 1)
        one, other = (tuple(any_.randrange(len(own)) for own in problem.batches) for _ in range(2))
        parts = 0
        for part in problem.apart:
            own = problem.of(part)
            parts += own.price([one[b] for b in part]) - own.price([other[b] for b in part])
        self.assertEqual(parts, problem.price(one) - problem.price(other))


class Large(TestCase):
    def test_what_the_moves_reckon_step_by_step_is_what_a_recount_says(self) -> None:
        """However often batches are taken up and put down: the price they carry along, and that of the best they met."""
        for seed in range(3):
            problem = season(seed, many=60)
            moves = Moves(problem, first_fit(problem), seed)
            for n in range(300):
                before = moves.price
                moves.step(n / 300)
                self.assertLessEqual(moves.price, before)
                self.assertEqual(moves._price, problem.price(moves._chosen))
            self.assertEqual(moves.price, problem.price(moves.best))

    def test_never_dearer_than_what_stood_or_than_one_batch_after_another(self) -> None:
        for seed in range(2):
            problem = season(seed, many=120)
            found = level(problem, seconds=2)
            least = min(problem.price(one) for one in (as_it_stands(problem), first_fit(problem)))
            self.assertLessEqual(found.price, least)
            self.assertEqual(found.price, problem.price(found.chosen))
            self.assertLessEqual(found.bound, found.price)
            self.assertLessEqual(
                problem.price(improved(problem, first_fit(problem))), problem.price(first_fit(problem))
            )
