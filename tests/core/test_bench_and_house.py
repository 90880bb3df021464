"""Beds, sowers, feed and setts: against counting out, bisection, the shipped check values."""

import math
import random
from itertools import pairwise
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import isotonic_regression

from aldrip_core.bed_layout import bed_edges_m, bed_layout, bed_plants
from aldrip_core.nutrients import LabelAs, Salt, atoms, feed_rate, molar_mass, nutrient_solution
from aldrip_core.practice_sower import PracticeSower
from aldrip_core.refusal import Refused
from aldrip_core.setts import setts
from aldrip_core.sower_calibration import MoreIs, SowerCalibration, SowerTrial, isotonic, sower_calibration

FOOT, INCH = 0.3048, 0.0254


class Beds(TestCase):
    @given(
        width=st.floats(1, 40),
        bed=st.floats(0.3, 3),
        path=st.floats(0.1, 1.5),
        length=st.floats(3, 90),
        end=st.floats(0, 3),
        outer=st.booleans(),
    )
    def test_as_many_as_are_laid_down_one_by_one(
        self, width: float, bed: float, path: float, length: float, end: float, outer: bool
    ) -> None:
        laid, used = 0, path if outer else 0.0
        while used + bed + (path if outer else 0.0) <= width + 1e-7:
            laid, used = laid + 1, used + bed + path
        given = {
            "house_length_m": length,
            "house_width_m": width,
            "end_clearance_m": end,
            "bed_width_m": bed,
            "path_width_m": path,
        }
        if not laid or length <= 2 * end:
            with self.assertRaises(Refused):
                bed_layout(**given, outer_paths=outer)
            return
        found = bed_layout(**given, outer_paths=outer)
        self.assertEqual(found.beds, laid)
        self.assertAlmostEqual(found.net_area_m2, laid * bed * (length - 2 * end))
        self.assertLessEqual(found.share_used, 1 + 1e-9)
        edges = bed_edges_m(laid, house_width_m=width, bed_width_m=bed, path_width_m=path)
        least = path if outer else 0.0
        self.assertGreaterEqual(edges[0], least - 1e-6)
        self.assertLessEqual(edges[-1] + bed, width - least + 1e-6)
        for one, following in pairwise(edges):
            self.assertAlmostEqual(following - one - bed, path)

    @given(rows=st.integers(1, 9), apart=st.floats(0.05, 2), length=st.floats(5, 60))
    def test_plants_are_those_that_are_set_one_by_one(self, rows: int, apart: float, length: float) -> None:
        """Each plant has its own ground along the row; the bed's ground and the house's are never mixed up."""
        house = {"house_length_m": length, "house_width_m": 6.0}
        layout = bed_layout(**house, end_clearance_m=0.6, bed_width_m=1.2, path_width_m=0.4)
        set_down, at = 0, apart
        while at <= layout.bed_length_m + 1e-9:
            set_down, at = set_down + 1, at + apart
        if abs(layout.bed_length_m / apart - round(layout.bed_length_m / apart)) < 1e-6:
            return  # which way a hair falls is the sum's own business
        found = bed_plants(layout, rows=rows, in_row_m=apart, bed_width_m=1.2, **house)
        self.assertEqual(found.plants, layout.beds * rows * set_down)
        self.assertAlmostEqual(found.net_per_m2 * layout.net_area_m2, found.plants)
        self.assertAlmostEqual(found.gross_per_m2 * length * 6, found.plants)
        self.assertGreater(found.net_per_m2, found.gross_per_m2)

    def test_a_house_that_cannot_hold_them_says_what_would(self) -> None:
        """The handbook's trap: six beds of 46 ft in 30 × 12 ft; in 50 × 22 ft they fit, 690 square feet net."""
        beds = {
            "end_clearance_m": 2 * FOOT,
            "bed_width_m": 30 * INCH,
            "path_width_m": 1 * FOOT,
            "wanted_beds": 6,
            "wanted_length_m": 46 * FOOT,
        }
        with self.assertRaises(Refused) as told:
            bed_layout(house_length_m=30 * FOOT, house_width_m=12 * FOOT, **beds)
        said = told.exception.errors[0].message
        self.assertIn("3 of 7.92 m would fit", said)
        self.assertIn("15.24 m long and 6.71 m wide", said)
        found = bed_layout(house_length_m=50 * FOOT, house_width_m=22 * FOOT, **beds)
        self.assertAlmostEqual(found.net_area_m2 / FOOT**2, 690)


class Sower(TestCase):
    @given(values=st.lists(st.tuples(st.floats(0, 300), st.integers(1, 5)), min_size=1, max_size=25))
    def test_the_fit_is_that_of_another_library(self, values: list[tuple[float, int]]) -> None:
        """Against scipy.optimize.isotonic_regression."""
        numbers, weights = [v for v, _ in values], [float(w) for _, w in values]
        other = isotonic_regression(numbers, weights=weights).x
        for own, theirs in zip(isotonic(numbers, weights), other, strict=True):
            self.assertAlmostEqual(own, theirs, places=6)

    def test_no_more_trials_than_somebody_who_halves_the_range(self) -> None:
        """On 200 machines, seeded: bent curves, dials either way, a pace that varies."""
        ours, halving = 0, 0
        for seed in range(200):
            machine = Machine(seed)
            ours += machine.calibrated(machine.by_us)
            halving += machine.calibrated(machine.by_halves)
        self.assertLessEqual(ours, halving)

    def test_one_tray_weighed_wrongly_does_not_hold_it_for_long(self) -> None:
        """On 100 machines the first tray is read a fifth too low; still settled in at most fifteen trays, in eight on average."""
        took = []
        for seed in range(100):
            machine, trials = Machine(seed), []
            for _ in range(15):
                found = machine.found(trials)
                if found.settled:
                    break
                assert found.next_setting is not None
                caught = machine.sower.sow(found.next_setting) * (1 if trials else 0.8)
                trials.append(SowerTrial(found.next_setting, caught))
            self.assertTrue(machine.found(trials).settled, seed)
            took.append(len(trials))
        self.assertLess(sum(took) / len(took), 8)

    def test_a_forced_setting_and_a_dial_the_other_way_round_are_refused(self) -> None:
        usual = {"target_g": 180, "tolerance_g": 5, "setting_min": 0.0, "setting_max": 10.0}
        for trials, field, code in (
            ([SowerTrial(11, 200)], "trials.0.setting", "beyond_range"),
            ([SowerTrial(2, 300), SowerTrial(8, 100)], "more_is", "wrong_way"),
        ):
            with self.assertRaises(Refused) as told:
                sower_calibration(trials=trials, **usual)
            self.assertEqual((told.exception.errors[0].field, told.exception.errors[0].code), (field, code))
        right = sower_calibration(trials=[SowerTrial(2, 300), SowerTrial(8, 100)], more_is=MoreIs.DECREASING, **usual)
        self.assertAlmostEqual(right.next_setting or 0, 5.6)
        out = sower_calibration(trials=[SowerTrial(5, 60), SowerTrial(10, 120)], **usual)
        self.assertIsNone(out.next_setting)
        self.assertEqual(out.warnings[0].code, "out_of_reach")

    def test_it_is_settled_after_three_inside_the_tolerance_and_stays(self) -> None:
        trials = [SowerTrial(4, 171), SowerTrial(4.2, 178), SowerTrial(4.2, 184), SowerTrial(4.2, 181)]
        told = [
            sower_calibration(trials=trials[:n], target_g=180, tolerance_g=5, setting_min=0, setting_max=8).settled
            for n in range(5)
        ]
        self.assertEqual(told, [False, False, False, False, True])
        last = sower_calibration(trials=trials, target_g=180, tolerance_g=5, setting_min=0, setting_max=8)
        self.assertEqual(last.next_setting, 4.2)
        assert last.predicted_g and last.low_g and last.high_g
        self.assertTrue(last.low_g < last.predicted_g < last.high_g)


class Machine:
    """A sower with a bent curve whose walker is not even, and two people who set it."""

    def __init__(self, seed: int) -> None:
        self.sower = PracticeSower(seed)
        self.up = self.sower.up
        self.target = random.Random(seed + 10_000).uniform(0.25, 0.8) * self.sower.most_g
        self.tolerance = 0.04 * self.target

    def calibrated(self, how) -> int:  # type: ignore[no-untyped-def]
        trials: list[SowerTrial] = []
        while len(trials) < 40:
            if len(trials) >= 3 and all(abs(t.grams - self.target) <= self.tolerance for t in trials[-3:]):
                break
            setting = how(trials)
            trials.append(SowerTrial(setting, self.sower.sow(setting)))
        return len(trials)

    def found(self, trials: list[SowerTrial]) -> SowerCalibration:
        more = MoreIs.INCREASING if self.up else MoreIs.DECREASING
        return sower_calibration(
            trials=trials, target_g=self.target, tolerance_g=self.tolerance, setting_min=0, setting_max=10, more_is=more
        )

    def by_us(self, trials: list[SowerTrial]) -> float:
        found = self.found(trials)
        assert found.next_setting is not None
        return found.next_setting

    def by_halves(self, trials: list[SowerTrial]) -> float:
        """Halves what is left of the range; what was inside the tolerance is set again."""
        low, high = 0.0, 10.0
        for trial in trials:
            if abs(trial.grams - self.target) <= self.tolerance:
                return trial.setting
            if (trial.grams < self.target) == self.up:
                low = max(low, trial.setting)
            else:
                high = min(high, trial.setting)
        return (low + high) / 2


class Feed(TestCase):
    recipe = (
        Salt(13.6, formula="KH2PO4"),
        Salt(23.6, formula="Ca(NO3)2·4H2O"),
        Salt(50.4, formula="KNO3"),
        Salt(10, formula="MgSO4·7H2O"),
    )

    def test_the_recipe_gives_what_its_check_values_say(self) -> None:
        """The handbook's recomputation of its recipe, 100 litres."""
        found = nutrient_solution(volume_l=100, salts=self.recipe, concentrate=True)
        for salt, mmol in zip(self.recipe, (0.999, 0.999, 4.985, 0.406), strict=True):
            self.assertAlmostEqual(found.mmol_per_l_by_salt[salt.formula or ""], mmol, places=3)
        for element, mg in {"N": 98, "P": 31, "K": 234, "Ca": 40, "Mg": 9.9, "S": 13}.items():
            self.assertAlmostEqual(found.mg_per_l[element], mg, delta=0.5)
        self.assertAlmostEqual(found.cations_meq_per_l, 8.8, delta=0.05)
        # The thumb of a tenth of the cations says 0.88; these salts conduct more (tests/reference/test_feed.py).
        self.assertAlmostEqual(found.ec_ms_per_cm, 1.09, delta=0.05)
        self.assertEqual(set(found.incompatible), {("Ca(NO3)2·4H2O", "KH2PO4"), ("Ca(NO3)2·4H2O", "MgSO4·7H2O")})
        self.assertEqual(found.warnings[0].code, "incompatible")

    @given(litres=st.floats(1, 5000), times=st.floats(0.1, 50))
    def test_it_scales_with_what_goes_in_and_thins_with_the_water(self, litres: float, times: float) -> None:
        one = nutrient_solution(volume_l=litres, salts=self.recipe)
        more = nutrient_solution(
            volume_l=litres * times, salts=[Salt(s.grams * times, formula=s.formula) for s in self.recipe]
        )
        for element, mg in one.mg_per_l.items():
            self.assertTrue(math.isclose(mg, more.mg_per_l[element], rel_tol=1e-9))

    def test_products_by_analysis_and_what_is_no_formula(self) -> None:
        found = nutrient_solution(volume_l=1000, salts=[Salt(1000, analysis={"N": 15.5, "Ca": 19})])
        self.assertAlmostEqual(found.mg_per_l["N"], 155)
        self.assertEqual(found.mmol_per_l_by_salt, {})
        self.assertEqual(atoms("(NH4)2SO4"), {"N": 2.0, "H": 8.0, "S": 1.0, "O": 4.0})
        ammonium = nutrient_solution(volume_l=1, salts=[Salt(molar_mass("(NH4)2SO4"), formula="(NH4)2SO4")])
        self.assertAlmostEqual(ammonium.cations_meq_per_l, 2000)
        self.assertEqual(nutrient_solution(volume_l=1, salts=[Salt(5, formula="CO(NH2)2")]).ec_ms_per_cm, 0)
        for salts, field in (
            ([Salt(1, formula="Xx2")], "salts.0.formula"),
            ([Salt(1, formula="Ca(NO3")], "salts.0.formula"),
            ([Salt(1, analysis={"P2O5": 20})], "salts.0.analysis.P2O5"),
            ([Salt(1, analysis={"N": 70, "K": 60})], "salts.0.analysis"),
            ([Salt(1)], "salts.0"),
            ([Salt(1, formula="KNO3"), Salt(2, formula="KNO3")], "salts.1"),
        ):
            with self.subTest(field), self.assertRaises(Refused) as told:
                nutrient_solution(volume_l=1, salts=salts)
            self.assertEqual(told.exception.errors[0].field, field)

    def test_rates_by_label_and_by_injector(self) -> None:
        """250 ppm N is 1.25 g/L of a 20 % and 1.61 g/L of a 15.5 % product (check values)."""
        self.assertAlmostEqual(
            feed_rate(target_mg_per_l=250, element="N", label_percent=15.5, volume_l=1).grams_per_l, 1.61, places=2
        )
        oxide = feed_rate(
            target_mg_per_l=31, element="P", label_percent=20, label_as=LabelAs.OXIDE, volume_l=400, injector_ratio=100
        )
        self.assertAlmostEqual(oxide.grams_per_l, 0.031 / (0.2 * 0.43642), places=4)
        self.assertAlmostEqual(oxide.stock_grams_per_l or 0, oxide.grams_per_l * 100)
        self.assertAlmostEqual(oxide.grams, oxide.grams_per_l * 400)
        magnesium = nutrient_solution(volume_l=400, salts=[Salt(71, formula="MgSO4.7H2O")])
        self.assertAlmostEqual(magnesium.mg_per_l["Mg"], 17.5, places=1)
        with self.assertRaises(Refused):
            feed_rate(target_mg_per_l=250, element="N", label_percent=20, label_as=LabelAs.OXIDE, volume_l=1)


class OfTubers(TestCase):
    def test_tubers_of_two_to_three_pounds_give_eight_to_twelve_setts_of_four_ounces(self) -> None:
        usual = {"plants": 1000, "sett_g": 4 * 28.3495, "sprout_rate": 0.8, "footprint_cm2": 100, "bed_width_cm": 100}
        for pounds, each in ((2, 8), (3, 12)):
            found = setts(tuber_g=pounds * 453.592, **usual)
            self.assertEqual(found.setts_per_tuber, each)
            self.assertEqual(found.setts, 1250)
            self.assertEqual(found.tubers, math.ceil(1250 / each))
        with self.assertRaises(Refused):
            setts(tuber_g=80, **usual)
