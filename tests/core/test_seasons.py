"""Seasons: windows of the year, floors of warmth, the last frost; light and warmth set the pace; what is ripe is stored."""

from datetime import date, timedelta
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.daylight import above_clouds, day_hours, light
from aldrip_core.in_season import back_in_season, next_in_season, out_of_season, stored_days
from aldrip_core.refusal import Refused
from aldrip_core.schedule import Climate, Duration, StageDates, TimedStage, backward, end_of, start_for
from aldrip_core.seasons import Season, Window, may_begin, month_day, read_windows
from aldrip_core.working_calendar import WorkingCalendar

INLAND = (-3.0, -1.0, 4.0, 9.0, 14.5, 18.0, 20.5, 20.0, 15.5, 10.0, 4.0, 0.0)
NORTH = Climate(INLAND, latitude=50.0, last_frost=(5, 5))
SOUTH = Climate(INLAND[6:] + INLAND[:6], latitude=-50.0, last_frost=(11, 5))
DAILY = WorkingCalendar(frozenset(range(7)))
WEEK = WorkingCalendar()


def crop(climate: Climate, *, sow: Season, ripe: float | None = None, waits: bool = True) -> list[TimedStage]:
    """Sown, grown, ripened, tested and stored, delivered."""
    store = Climate((8.0,) * 12)
    return [
        TimedStage("Sown", Duration(days=1), climate, None, sow),
        TimedStage("Grown", Duration(days=90), climate),
        TimedStage("Ripened", Duration(days=30), climate, None, Season(floor_c=ripe)),
        TimedStage("Tested", Duration(days=14), store, waits=waits),
        TimedStage("Delivered", Duration(days=1), store),
    ]


class Words(TestCase):
    def test_parts_of_the_year_are_read_as_people_write_them_and_written_back(self) -> None:
        for text in ("3 Mar to 28 May", "march 3 until may 28", "3. Mar – 28. May", "3 Mar-28 May"):
            self.assertEqual(Window.read(text), Window((3, 3), (5, 28)))
        self.assertEqual(Window.read(Window((10, 1), (2, 14)).words), Window((10, 1), (2, 14)))

    def test_each_group_of_cultivars_has_its_own_part_of_the_year(self) -> None:
        """Planting out of cabbage for seed, by earliness: common practice, no source; the days here are invented."""
        season = Season(read_windows(["early: 17 Aug to 30 Aug", "Late : 2 Aug to 9 Aug", "1 Aug to 25 Aug"]))
        self.assertEqual(season.of("early").begins, (Window((8, 17), (8, 30), "early"),))
        self.assertEqual(season.of("late").words(), "begins 2 Aug to 9 Aug (late cultivars)")
        for told in ("mid", ""):
            self.assertEqual(season.of(told).begins, (Window((8, 1), (8, 25)),))
        only = Season(read_windows(["early: 17 Aug to 30 Aug", "late: 2 Aug to 9 Aug"]))
        self.assertEqual(len(only.of("").begins), 2)
        self.assertEqual(len(may_begin(only.of("early"), south=False, last_frost=None)), 14)
        self.assertEqual(only.of("late").begins[0].half_a_year_on, Window((2, 2), (2, 9), "late"))
        with self.assertRaisesRegex(Refused, "early, mid or late"):
            read_windows(["hasty: 2 Aug to 9 Aug"])

    def test_what_is_no_part_of_a_year_is_refused_with_an_example(self) -> None:
        for text in ("spring", "30 Feb to 3 Mar", "3 Mar", "0 Mar to 4 May", "3 Mar to 4 Foo"):
            with self.assertRaisesRegex(Refused, "20 Sep to 10 Nov"):
                read_windows([text])
        self.assertIsNone(month_day("31 Apr"))

    @given(st.dates(date(2024, 1, 1), date(2024, 12, 31)), st.dates(date(2024, 1, 1), date(2024, 12, 31)))
    @settings(max_examples=60)
    def test_a_window_holds_its_ends_and_south_of_the_equator_lies_half_a_year_on(self, a: date, b: date) -> None:
        window = Window((a.month, a.day), (b.month, b.day))
        self.assertTrue(window.holds(window.first) and window.holds(window.last))
        self.assertEqual(window.half_a_year_on.half_a_year_on.first[0], window.first[0])
        days = may_begin(Season((window,)), south=False, last_frost=None)
        inside = (b - a).days + 1 if a <= b else 366 - (a - b).days + 1
        self.assertEqual(len(days), inside)

    def test_after_the_frost_means_the_frost_of_the_site(self) -> None:
        days = may_begin(Season(after_frost_days=10), south=False, last_frost=(5, 5))
        self.assertEqual(((5, 14) in days, (5, 15) in days), (False, True))
        self.assertEqual(len(may_begin(Season(after_frost_days=10), south=False, last_frost=None)), 366)


class Light(TestCase):
    def test_sunlight_above_the_clouds_as_published(self) -> None:
        """Allen et al. 1998 (FAO Irrigation and Drainage Paper 56), examples 8 and 9, and annex table 2.6; from memory."""
        self.assertAlmostEqual(float(above_clouds(-20.0)[245]), 32.2, delta=0.1)  # 3 September
        self.assertAlmostEqual(float(day_hours(-20.0)[245]), 11.7, delta=0.1)
        self.assertAlmostEqual(float(above_clouds(0.0)[14]), 36.2, delta=0.3)  # mid January at the equator
        self.assertAlmostEqual(float(above_clouds(50.0)[166]), 41.7, delta=0.6)  # mid June at 50° N

    def test_plants_take_longer_in_winter_and_longer_still_farther_north_or_colder(self) -> None:
        slows = Duration(days=20, full_c=18, base_c=4, half_light_mol=8)

        def lasts(climate: Climate, begun: date) -> int:
            return (end_of(TimedStage("Grown on", slows, climate), begun) - begun).days

        def glass(latitude: float, warm: float = 18, lamps: float = 0) -> Climate:
            return Climate(INLAND, set_point_c=warm, latitude=latitude, lets_in=0.65, lamps_mol=lamps)

        july, december = date(2027, 7, 1), date(2027, 12, 1)
        self.assertEqual(lasts(glass(38), july), 20)
        self.assertGreater(lasts(glass(38), december), 20)
        self.assertGreater(lasts(glass(56), december), lasts(glass(38), december))
        self.assertGreater(lasts(glass(38, warm=12), december), lasts(glass(38), december))
        self.assertLess(lasts(glass(56, lamps=9), december), lasts(glass(56), december))

    def test_the_model_says_what_growers_say_of_lettuce_by_the_month(self) -> None:
        """18 days in June and 38 in January at about 50° N (common practice, no source): within a quarter."""
        slows = Duration(days=18, half_light_mol=8)
        climate = Climate(INLAND, set_point_c=18, latitude=50.0, lets_in=0.65)
        for month, practice in ((1, 38), (3, 28), (6, 18), (10, 26)):
            begun = date(2027, month, 1)
            there = (end_of(TimedStage("Grown on", slows, climate), begun) - begun).days
            self.assertLessEqual(abs(there - practice) / practice, 0.25, f"{there} days from {begun}")

    def test_where_nothing_grows_the_refusal_says_why(self) -> None:
        dark = Climate(INLAND, set_point_c=18, latitude=52.0, lets_in=0.0)
        with self.assertRaisesRegex(Refused, "too cold or too dark"):
            end_of(TimedStage("Grown on", Duration(days=10, half_light_mol=8), dark), date(2027, 1, 1))

    @given(st.dates(date(2026, 1, 1), date(2029, 1, 1)), st.integers(5, 60), st.floats(0.4, 1.0))
    @settings(max_examples=50, deadline=None)
    def test_forward_and_back_agree(self, day: date, days: int, roof: float) -> None:
        climate = Climate(INLAND, set_point_c=12, latitude=47.0, lets_in=roof)
        stage = TimedStage("Grown on", Duration(days=days, full_c=16, base_c=3, half_light_mol=4), climate)
        start = start_for(stage, day, DAILY)
        self.assertLessEqual(end_of(stage, start), day)
        self.assertGreater(end_of(stage, start + timedelta(days=1)), day)
        self.assertGreaterEqual((light(47.0, lets_in=roof)).min(), 0)


class InSeason(TestCase):
    SPRING = Season((Window((4, 1), (5, 31)),), floor_c=8.0)
    TODAY = date(2026, 9, 1)

    def test_seed_that_is_wanted_in_winter_is_harvested_in_summer_and_stored(self) -> None:
        stages = crop(NORTH, sow=self.SPRING, ripe=14)
        ready = date(2028, 2, 10)
        dates = back_in_season(ready=ready, stages=stages, calendar=WEEK, not_before=self.TODAY)
        assert dates is not None
        self.assertEqual((dates[0].start.year, dates[-1].end), (2027, ready))
        self.assertTrue(date(2027, 4, 1) <= dates[0].start <= date(2027, 5, 31))
        self.assertGreater(stored_days(stages, dates, WEEK), 90)
        for stage, span in zip(stages, dates, strict=True):
            self.assertIsNone(out_of_season(stage, span))

    def test_before_the_next_harvest_the_answer_is_no_with_its_day(self) -> None:
        stages = crop(NORTH, sow=self.SPRING, ripe=14)
        self.assertIsNone(back_in_season(ready=date(2027, 3, 1), stages=stages, calendar=WEEK, not_before=self.TODAY))
        dates = next_in_season(start=self.TODAY, stages=stages, calendar=WEEK, ready=date(2027, 3, 1))
        assert dates is not None
        self.assertEqual((dates[0].start.year, dates[0].start.month), (2027, 4))

    def test_south_of_the_equator_spring_is_in_october(self) -> None:
        stages = crop(SOUTH, sow=self.SPRING, ripe=14)
        dates = back_in_season(ready=date(2028, 8, 10), stages=stages, calendar=WEEK, not_before=self.TODAY)
        assert dates is not None
        self.assertIn(dates[0].start.month, (10, 11))

    def test_plants_cannot_be_stored_so_they_are_ready_in_their_season_or_not_at_all(self) -> None:
        stages = crop(NORTH, sow=self.SPRING, ripe=14, waits=False)
        wanted = date(2027, 12, 1)
        self.assertIsNone(
            back_in_season(ready=wanted, stages=stages, calendar=WEEK, not_before=self.TODAY, may_wait=10)
        )
        dates = next_in_season(start=self.TODAY, stages=stages, calendar=WEEK, ready=wanted, may_wait=10)
        assert dates is not None
        self.assertEqual(dates[0].start.year, 2028)

    def test_without_a_season_dates_are_as_they_were(self) -> None:
        stages = crop(NORTH, sow=Season())
        ready = date(2027, 6, 16)
        found = back_in_season(ready=ready, stages=stages, calendar=WEEK, not_before=self.TODAY)
        self.assertEqual(found, backward(ready=ready, stages=stages, calendar=WEEK))

    def test_a_crop_that_finds_no_season_has_none_however_long_one_looks(self) -> None:
        stages = crop(NORTH, sow=Season(floor_c=25.0))
        self.assertIsNone(next_in_season(start=self.TODAY, stages=stages, calendar=WEEK))

    def test_what_is_wrong_is_said_by_its_day_or_by_its_cold(self) -> None:
        sown = TimedStage("Sown", Duration(days=1), NORTH, None, self.SPRING)
        wrong = out_of_season(sown, StageDates(date(2027, 8, 2), date(2027, 8, 3)))
        assert wrong is not None
        self.assertEqual(wrong.cold, 0)
        cold = TimedStage("Emerged", Duration(days=9), Climate((6.0,) * 12), None, Season(floor_c=11.0))
        wrong = out_of_season(cold, StageDates(date(2027, 8, 2), date(2027, 8, 11)))
        assert wrong is not None
        self.assertEqual((wrong.cold, wrong.of), (9, 9))
