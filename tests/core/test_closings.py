"""A place that is shut or smaller for some days: plans go elsewhere, what stands there is over, other days are as ever."""

import unittest
from datetime import date, timedelta

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.ground import Ground, Limit, PlaceSpec, Standing, Takes
from aldrip_core.units import Unit
from aldrip_core.working_calendar import WorkingCalendar

TODAY = date(2027, 7, 6)
span = st.tuples(st.integers(-30, 120), st.integers(1, 60)).map(
    lambda one: (TODAY + timedelta(days=one[0]), TODAY + timedelta(days=one[0] + one[1]))
)


def ground(*places: PlaceSpec, standing: tuple[Standing, ...] = ()) -> Ground:
    return Ground(today=TODAY, working=WorkingCalendar(), sowing=WorkingCalendar(), places=places, standing=standing)


class Shut(unittest.TestCase):
    @given(
        limits=st.lists(st.tuples(span, st.floats(0, 150)), max_size=4),
        stay=span,
        amount=st.floats(1, 120),
        stands=st.floats(0, 100),
    )
    def test_room_and_overflow_are_what_a_recount_day_by_day_says(
        self, limits: list[tuple[tuple[date, date], float]], stay: tuple[date, date], amount: float, stands: float
    ) -> None:
        bench = PlaceSpec(
            1, "Bench", "bench", 100.0, Unit.SQUARE_METRE, limits=tuple(Limit(a, b, n) for (a, b), n in limits)
        )
        there = Standing(1, TODAY, TODAY + timedelta(days=50), stands)
        found = ground(bench, standing=(there,))
        days = [stay[0] + timedelta(days=n) for n in range((stay[1] - stay[0]).days)]
        holds = {day: min([100.0, *(n for (a, b), n in limits if a <= day < b)]) for day in days}
        free = {day: holds[day] - (stands if there.start <= day < there.end else 0.0) for day in days}
        lane = found.lanes[1]
        self.assertAlmostEqual(lane.room(found.index(stay[0]), found.index(stay[1])), max(0.0, min(free.values())))
        fits = amount <= min(free.values())
        self.assertEqual(
            lane.share(found.index(stay[0]), found.index(stay[1]), amount) <= 1 + 1e-9,
            fits or abs(amount - min(free.values())) < 1e-6,
        )
        over = {d for run in found.over(1, *stay) for d in days if run.start <= d < run.end}
        self.assertEqual(
            over, {day for day in days if free[day] < -1e-6} | (over & {day for day in days if abs(free[day]) < 1e-6})
        )

    @given(shut=span, stay=span)
    def test_a_place_that_takes_anything_takes_nothing_while_it_is_shut(
        self, shut: tuple[date, date], stay: tuple[date, date]
    ) -> None:
        places = (
            PlaceSpec(1, "Shed", "shed", None, Unit.SQUARE_METRE, limits=(Limit(*shut),)),
            PlaceSpec(2, "Barn", "shed", None, Unit.SQUARE_METRE),
        )
        chosen = ground(*places).choose("shed", *stay, Takes(3.0))
        assert chosen is not None
        meets = shut[0] < stay[1] and stay[0] < shut[1]
        self.assertEqual(chosen.place.name, "Barn" if meets else "Shed")

    def test_a_field_is_not_free_on_days_on_which_it_is_shut(self) -> None:
        limit = Limit(TODAY, TODAY + timedelta(days=10))
        places = [
            PlaceSpec(1, "Near", "field", 500.0, Unit.SQUARE_METRE, True, limits=(limit,)),
            PlaceSpec(2, "Far", "field", 900.0, Unit.SQUARE_METRE, True),
        ]
        found = ground(*places)
        first = found.choose("field", TODAY + timedelta(days=5), TODAY + timedelta(days=30), Takes(200.0))
        later = found.choose("field", TODAY + timedelta(days=10), TODAY + timedelta(days=30), Takes(200.0))
        assert first is not None and later is not None
        self.assertEqual((first.place.name, later.place.name), ("Far", "Near"))
