"""Days, weeks and figures as the front end writes them, against Python's own calendar."""

from datetime import date, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.web.bridge import WebCase


class Days(WebCase):
    @settings(max_examples=150, deadline=None)
    @given(st.dates(date(1990, 1, 1), date(2099, 12, 31)), st.integers(-800, 800))
    def test_days_weeks_and_weekdays_are_those_of_the_calendar(self, one: date, count: int) -> None:
        year, week, weekday = one.isocalendar()
        self.assertEqual(self.web("isoWeek", str(one)), {"week": week, "year": year})
        self.assertEqual(self.web("weekday", str(one)), weekday - 1)
        other = one + timedelta(days=count)
        self.assertEqual(self.web("addDays", str(one), count), str(other))
        self.assertEqual(self.web("daysBetween", str(one), str(other)), count)
        self.assertEqual(self.web("monday", str(one)), str(one - timedelta(days=weekday - 1)))

    @settings(max_examples=80, deadline=None)
    @given(st.dates(date(2020, 1, 1), date(2040, 12, 31)))
    def test_a_day_reads_as_people_say_it(self, one: date) -> None:
        self.assertEqual(self.web("shortDay", str(one)), f"{one:%a} {one.day} {one:%b}")
        said = f"{one:%A} {one.day} {one:%B} {one.year}, week {one.isocalendar().week}"
        self.assertEqual(self.web("longDay", str(one)), said)

    def test_a_window_that_is_whole_weeks_is_called_by_them(self) -> None:
        self.assertEqual(self.web("windowWords", "2027-08-02", "2027-08-08"), "week 31")
        self.assertEqual(self.web("windowWords", "2027-08-02", "2027-08-15"), "weeks 31 to 32")
        self.assertEqual(self.web("windowWords", "2027-08-03", "2027-08-03"), "Tue 3 Aug")
        self.assertEqual(self.web("windowWords", "2027-12-27", "2028-01-02"), "week 52")
        self.assertEqual(self.web("windowWords", "2027-08-03", "2027-08-09"), "Tue 3 Aug to Mon 9 Aug")


class Years(WebCase):
    @settings(max_examples=60, deadline=None)
    @given(st.dates(date(2020, 1, 1), date(2040, 12, 31)), st.dates(date(2020, 1, 1), date(2040, 12, 31)))
    def test_a_year_is_said_where_it_is_not_this_one(self, today: date, one: date) -> None:
        self.web("sayNoYearOf", str(today))
        said = self.web("shortDay", str(one))
        self.assertEqual(self.web("fullDay", str(one)), f"{one:%a} {one.day} {one:%b} {one.year}")
        self.assertEqual(said.endswith(f" {one.year}"), one.year != today.year)
        self.assertTrue(self.web("fullDay", str(one)).startswith(said))


class Figures(WebCase):
    @settings(max_examples=100, deadline=None)
    @given(st.floats(0, 1))
    def test_a_chance_never_reads_as_certain_when_it_is_not(self, chance: float) -> None:
        said = self.web("chance", chance)
        if 1e-9 < chance < 1 - 1e-9:
            self.assertNotIn(said, ("0 %", "100 %"))
        self.assertEqual(self.web("chance", 1), "100 %")
        self.assertEqual(self.web("chance", 0), "0 %")

    def test_weights_turn_to_kilos_where_people_would(self) -> None:
        for grams, said in ((0.0123, "0.0123 g"), (1, "1.0 g"), (999.94, "999.9 g"), (1000, "1.00 kg"), (12_345, "12.35 kg")):
            self.assertEqual(self.web("grams", grams), said)
        for kilos, said in ((7.3, "7.3 kg"), (12, "12 kg"), (1234.4, "1,234 kg"), (99.96, "100.0 kg")):
            self.assertEqual(self.web("kilos", kilos), said)

    def test_ground_turns_to_hectares(self) -> None:
        self.assertEqual(self.web("quantity", 9_999, "m²"), "9,999 m²")
        self.assertEqual(self.web("quantity", 22_500, "m²"), "2.25 ha")
        self.assertEqual(self.web("quantity", 1234, "plugs"), "1,234 plugs")
        self.assertEqual(self.web("quantity", 3, ""), "3")

    def test_steps_of_a_working_keep_four_figures(self) -> None:
        for value, unit, said in (
            (0.99999, "share", "over 99.9 %"), (1, "share", "100.0 %"), (0.0512, "share", "5.12 %"), (None, "d", "not reached"),
            (12_345.6, "m²", "12,346 m²"), (3.14159, "kg", "3.142 kg"), ("12 Jul", "", "12 Jul"), (41, "plants", "41 plants"),
        ):
            self.assertEqual(self.web("stepValue", value, unit), said)

    def test_one_is_one_and_more_are_more(self) -> None:
        self.assertEqual([self.web("few", n, "line") for n in (0, 1, 3)], ["0 lines", "1 line", "3 lines"])
        self.assertEqual(self.web("few", 2, "box", "boxes"), "2 boxes")
