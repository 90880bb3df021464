"""Who is cut for whom: nothing twice, nothing left out, nothing of mothers that may not be used, as much as can be."""

from unittest import TestCase

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from aldrip_core.cutting_day import BY_BLADE, blade_cautions, setting, to_cut
from aldrip_core.stages import Part

many = st.integers(0, 300).map(float)


class ToCutTest(TestCase):
    @settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(st.dictionaries(st.integers(1, 5), many), st.lists(many, max_size=6), st.data())
    def test_all_that_is_wanted_is_told_once_and_no_mother_gives_more_than_she_has(
        self, gives: dict[int, float], wants: list[float], data: st.DataObject
    ) -> None:
        wanted = [(100 + n, one) for n, one in enumerate(wants)]
        fits = {batch: [stock for stock in gives if data.draw(st.booleans())] for batch, _ in wanted}
        found = to_cut(gives, wanted, fits)
        for batch, need in wanted:
            self.assertAlmostEqual(sum(one.many for one in found if one.batch == batch), need)
        for stock, most in gives.items():
            self.assertLessEqual(sum(one.many for one in found if one.stock == stock), most + 1e-9)
        for one in found:
            if one.stock is not None:
                self.assertIn(one.stock, fits[one.batch])
            else:  # told short only where nothing that fits is left
                left = sum(gives[own] for own in fits[one.batch])
                self.assertAlmostEqual(left, sum(cut.many for cut in found if cut.stock in fits[one.batch]))

    def test_every_part_but_seed_and_what_is_bought_standing_says_how_it_is_set(self) -> None:
        told = {part for part in Part if setting(part)}
        self.assertLessEqual(set(BY_BLADE), told)
        self.assertTrue(all(blade_cautions(part) for part in BY_BLADE))
        self.assertNotIn(Part.SEED, told)
