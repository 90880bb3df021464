"""Heat sums on a real daily series: Seattle 2012-2015, US Government data that vega-datasets ships."""

from datetime import date
from unittest import TestCase

from vega_datasets import data

from aldrip_core.thermal_time import AboveCeiling, thermal_time


class SeattleDaily(TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        weather = data.seattle_weather()
        cls.frame = weather[weather["date"] >= "2014-05-01"].reset_index(drop=True)
        cls.means = ((cls.frame["temp_max"] + cls.frame["temp_min"]) / 2).tolist()
        cls.peaks = cls.frame["temp_max"].tolist()

    def test_four_hundred_degree_days_over_eight_are_passed_on_23_june(self) -> None:
        # references.md: base 8 °C from 1 May 2014 passes 400 °C·d on 23 June, sum 407.35.
        result = thermal_time(heat_sum_c_d=400, base_c=8, daily_mean_c=self.means)
        assert result.days is not None
        reached = self.frame["date"][int(result.days) - 1].date()
        self.assertEqual(reached, date(2014, 6, 23))
        gathered = result.working[0].value
        self.assertAlmostEqual(float(gathered or 0), 407.35, places=2)

    def test_a_slow_sum_by_hand_agrees_with_ceiling_and_peaks(self) -> None:
        for above in AboveCeiling:
            result = thermal_time(
                heat_sum_c_d=300,
                base_c=4.6,
                ceiling_c=20,
                above_ceiling=above,
                daily_mean_c=self.means,
                daily_max_c=self.peaks,
            )
            total, stopped, reached = 0.0, 0, None
            for day, (mean, peak) in enumerate(zip(self.means, self.peaks, strict=True), start=1):
                hot = peak > 20
                stopped += hot
                if not (hot and above is AboveCeiling.STOP):
                    total += max(0.0, min(mean, 20) - 4.6)
                if total >= 300:
                    reached = day
                    break
            self.assertEqual((result.days, result.stopped_days), (reached, stopped))

    def test_bierhuizen_and_wagenvoort_at_constant_warmth(self) -> None:
        # Bierhuizen & Wagenvoort 1974, from memory: S and T_base; days = S ÷ (T - T_base).
        for crop, base, heat in (("carrot", 1.3, 170), ("lettuce", 3.5, 71), ("celery", 4.6, 237), ("turnip", 1.4, 97)):
            with self.subTest(crop):
                result = thermal_time(heat_sum_c_d=heat, base_c=base, temperature_c=18)
                self.assertAlmostEqual((result.days or 0) * (18 - base), heat)
        self.assertAlmostEqual(thermal_time(heat_sum_c_d=170, base_c=1.3, temperature_c=18).days or 0, 10.2, delta=0.05)
