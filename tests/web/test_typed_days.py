"""Days as people type them: read day before month, without a year the nearest one."""

from datetime import date, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.weeks import UnreadableDay, read_span, weeks_in
from tests.web.bridge import WebCase

DAYS = st.dates(date(2020, 1, 1), date(2040, 12, 31))
TODAY = date(2027, 7, 6)  # a Tuesday, week 27


class TypedDays(WebCase):
    def read(self, text: str, today: date = TODAY) -> date | None:
        found = self.web("readDay", text, str(today))
        return date.fromisoformat(found) if found else None

    @settings(max_examples=120, deadline=None)
    @given(DAYS, st.sampled_from(["{0:%Y-%m-%d}", "{0.day} {0:%b} {0.year}", "{0.day}.{0.month}.{0.year}", "{0.day}/{0.month}/{0.year}",
                                  "{0:%A} {0.day} {0:%B} {0.year}", "{0:%a} {0.day} {0:%b} {0.year}, week {1}", "{0.day}{0:%b}{0:%y}",
                                  "{0.day} {0:%b}. {0:%y}", "  {0.day}-{0:%b}-{0.year} "]))
    def test_a_day_with_its_year_is_that_day_however_it_is_written(self, one: date, form: str) -> None:
        self.assertEqual(self.read(form.format(one, one.isocalendar().week)), one)

    @settings(max_examples=100, deadline=None)
    @given(DAYS, st.integers(-170, 170), st.sampled_from(["{0.day} {0:%b}", "{0.day}.{0.month}", "{0:%a} {0.day} {0:%b}"]))
    def test_without_a_year_it_is_the_nearest_one(self, today: date, away: int, form: str) -> None:
        one = today + timedelta(days=away)
        if (one.month, one.day) != (2, 29):
            self.assertEqual(self.read(form.format(one), today), one)

    @settings(max_examples=100, deadline=None)
    @given(DAYS, st.integers(-150, 150))
    def test_a_week_is_its_monday_or_the_weekday_named(self, today: date, away: int) -> None:
        one = today + timedelta(days=away)
        year, week, _ = one.isocalendar()
        monday = date.fromisocalendar(year, week, 1)
        for text in (f"week {week} {year}", f"{year}-W{week:02d}", f"w{week} {year}"):
            self.assertEqual(self.read(text, today), monday, text)
        self.assertEqual(self.read(f"{one:%a} week {week} {year}", today), one)
        self.assertEqual(self.read(f"w{week} {year} {one:%A}", today), one)
        if week <= min(weeks_in(y) for y in (today.year - 1, today.year, today.year + 1)):
            self.assertEqual(self.read(f"{one:%a} w{week}", today), one)

    @settings(max_examples=60, deadline=None)
    @given(DAYS, st.integers(-3, 3))
    def test_a_weekday_is_the_nearest_of_its_name(self, today: date, away: int) -> None:
        one = today + timedelta(days=away)
        self.assertEqual(self.read(f"{one:%A}", today), one)

    def test_near_days_have_names(self) -> None:
        for text, away in (("today", 0), ("Yesterday", -1), ("tomorrow", 1), ("+3", 3), ("-10", -10)):
            self.assertEqual(self.read(text), TODAY + timedelta(days=away))

    def test_what_is_no_day_is_not_guessed(self) -> None:
        for text in ("", "  ", "31 Feb 2027", "29.2.2027", "0 Jul", "32 Jul", "6 Foo", "6.13.2027", "week 0", "week 54 2027", "week 53 2027",
                     "2027-02-30", "2027-7", "12", "soon", "6 Jul 2027 noon", "w27 xyz", "99999999"):
            self.assertIsNone(self.read(text), text)

    @settings(max_examples=100, deadline=None)
    @given(DAYS, st.sampled_from(["{0:%Y-%m-%d}", "{0.day}.{0.month}.{0.year}", "{0.day} {0:%b} {0.year}", "{1}-W{2:02d}", "week {2} {1}"]))
    def test_it_reads_as_the_server_reads_an_order_file(self, one: date, form: str) -> None:
        year, week, _ = one.isocalendar()
        text = form.format(one, year, week)
        self.assertEqual(self.read(text), read_span(text, today=TODAY).start)
        with self.assertRaises(UnreadableDay):
            read_span("31 Feb 2027", today=TODAY)
