"""Occupancy adds up; weeks and days are read as growers write them; codes catch misreadings."""

from datetime import date, timedelta
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.bench_space import Standing, load
from aldrip_core.check_character import ALPHABET, is_valid, with_check
from aldrip_core.refusal import Refused
from aldrip_core.weeks import UnreadableDay, read_span, week_span

TODAY = date(2027, 7, 6)
START = date(2027, 1, 1)
standing = st.lists(
    st.builds(
        lambda a, s, n: Standing(float(a), START + timedelta(days=s), START + timedelta(days=s + n)),
        st.integers(0, 100),
        st.integers(0, 60),
        st.integers(1, 30),
    ),
    max_size=25,
)


class Space(TestCase):
    @given(standing, st.floats(0, 400), st.floats(0, 0.5))
    @settings(max_examples=100, deadline=None)
    def test_each_day_is_the_sum_of_what_stands_and_overflow_is_exact(
        self, found: list[Standing], capacity: float, gangway: float
    ) -> None:
        result = load(standing=found, capacity=capacity, gangway=gangway)
        over = set()
        for run in result.over:
            self.assertLess(run.start, run.end)
            over.update(run.start + timedelta(days=n) for n in range((run.end - run.start).days))
        for index, amount in enumerate(result.by_day):
            day = result.first + timedelta(days=index)
            slow = sum(one.amount for one in found if one.start <= day < one.end)
            self.assertAlmostEqual(float(amount), slow, places=6)
            self.assertEqual(day in over, slow > result.usable + 1e-9)
        self.assertAlmostEqual(
            float(result.by_day.sum()), sum(s.amount * (s.end - s.start).days for s in found), places=4
        )

    def test_a_stay_that_ends_before_it_begins_is_refused_by_its_place_in_the_list(self) -> None:
        with self.assertRaises(Refused) as caught:
            load(standing=[Standing(1, START, START)], capacity=1)
        self.assertEqual(caught.exception.errors[0].field, "batches.0.to")


class Weeks(TestCase):
    def test_many_ways_to_write_the_same_week(self) -> None:
        for text in ("week 31", "W31", "wk 31", "2027-W31", "31/2027", "Week 31, 2027", "w31 2027", "2027 week 31"):
            self.assertEqual(read_span(text, today=TODAY), week_span(2027, 31), text)

    def test_many_ways_to_write_the_same_day(self) -> None:
        for text in ("2027-08-06", "6 Aug 2027", "6.8.2027", "06/08/2027", "6 August 2027", "6-8-2027"):
            span = read_span(text, today=TODAY)
            self.assertEqual((span.start, span.last), (date(2027, 8, 6), date(2027, 8, 6)), text)

    @given(st.integers(0, 360), st.integers(0, 120), st.integers(1, 6))
    @settings(deadline=None)
    def test_what_aldrip_writes_it_reads_and_a_wrong_weekday_or_week_is_told(
        self, ahead: int, more: int, off: int
    ) -> None:
        day = TODAY + timedelta(days=ahead)
        week = day.isocalendar().week
        for text in (
            f"{day:%a} {day.day} {day:%b}, week {week}",
            f"{day:%A} {day.day} {day:%b} {day.year}",
            f"{day:%a} {day.day} {day:%b}",
        ):
            self.assertEqual(read_span(text, today=TODAY).start, day, text)
        wrong = day + timedelta(days=off)
        for text in (
            f"{wrong:%a} {day.day} {day:%b} {day.year}",
            f"{day.day} {day:%b} {day.year}, week {week % 52 + 2}",
        ):
            with self.assertRaises(UnreadableDay, msg=text):
                read_span(text, today=TODAY)
        last = day + timedelta(days=more)
        found = read_span(f"{day.day} {day:%b %Y} to {last.day} {last:%b %Y}", today=TODAY)
        self.assertEqual((found.start, found.last), (day, last))
        weeks = read_span(f"weeks {week} to {last.isocalendar().week}", today=day)
        self.assertTrue(weeks.start <= day and last <= weeks.last)

    def test_a_window_turned_round_is_told(self) -> None:
        for text in ("weeks 33 to 31", "9 Aug to 3 Aug", "9 to 3 August 2027", "2027-W40 to 2027-W39"):
            with self.assertRaises(UnreadableDay) as caught:
                read_span(text, today=TODAY)
            self.assertEqual(caught.exception.code, "before_start", text)

    def test_a_week_that_has_passed_means_next_year(self) -> None:
        self.assertEqual(read_span("week 5", today=TODAY), week_span(2028, 5))
        self.assertEqual(read_span("week 27", today=TODAY), week_span(2027, 27))

    def test_week_53_of_a_year_of_52_is_refused_with_the_number(self) -> None:
        with self.assertRaises(UnreadableDay) as caught:
            read_span("2027-W53", today=TODAY)
        self.assertEqual(caught.exception.code, "no_such_week")
        self.assertIn("2027 has 52 weeks", str(caught.exception))
        self.assertEqual(week_span(2026, 53).start, date(2026, 12, 28))

    def test_nonsense_is_refused_and_never_guessed(self) -> None:
        for text in ("", "soon", "31", "2027-13-01", "30 Feb 2027", "week 0", "week 99"):
            with self.assertRaises(UnreadableDay, msg=text):
                read_span(text, today=TODAY)


class Codes(TestCase):
    @given(st.text(ALPHABET, min_size=2, max_size=10), st.data())
    @settings(max_examples=150, deadline=None)
    def test_one_wrong_letter_is_always_caught(self, body: str, data: st.DataObject) -> None:
        code = with_check(body)
        self.assertTrue(is_valid(code))
        place = data.draw(st.integers(0, len(code) - 1))
        other = data.draw(st.sampled_from([c for c in ALPHABET if c != code[place]]))
        self.assertFalse(is_valid(code[:place] + other + code[place + 1 :]))

    def test_nearly_every_swap_of_neighbours_is_caught_in_our_codes(self) -> None:
        # A hybrid system of ISO 7064 catches all single errors and nearly all transpositions.
        swaps = missed = 0
        for number in range(1, 1000):
            code = with_check(f"27{number:03d}")
            for place in range(len(code) - 1):
                swapped = code[:place] + code[place + 1] + code[place] + code[place + 2 :]
                if swapped != code:
                    swaps += 1
                    missed += is_valid(swapped)
        self.assertGreater(swaps, 3000)
        self.assertLess(missed / swaps, 0.02)
