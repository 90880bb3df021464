"""One sowing from seed to hours: every figure agrees with every other one, whatever the numbers."""

from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.refusal import Refused
from aldrip_core.sowing_chain import HIGH, SownTray, on_a_pallet, sowing_chain


class Chain(TestCase):
    @given(
        trays=st.floats(0.1, 5000),
        cells=st.integers(1, 600),
        length=st.floats(20, 70),
        width=st.floats(15, 50),
        per_cell=st.integers(1, 6),
        tgw=st.floats(0.05, 500),
        good=st.floats(0.05, 1),
        per_ha=st.floats(1000, 1e6),
    )
    def test_it_closes_whichever_way_it_is_read(
        self,
        trays: float,
        cells: int,
        length: float,
        width: float,
        per_cell: int,
        tgw: float,
        good: float,
        per_ha: float,
    ) -> None:
        seeds = trays * cells * per_cell
        links = sowing_chain(
            tray=SownTray(trays, cells, length, width, 1.2),
            seeds=seeds,
            seed_g=seeds * tgw / 1000,
            tgw_g=tgw,
            plants=trays * cells * good,
            medium_l=trays * 4,
            minutes=90,
            plants_per_ha=per_ha,
        )
        of = {one.key: one.value for one in links}
        self.assertAlmostEqual(of["seed"], of["thousand"], places=9)
        self.assertAlmostEqual(of["seeds_cm2"] * length * width / of["seeds_tray"], 1, places=9)
        self.assertAlmostEqual(of["trays_ha"] * of["plants_tray"] / per_ha, 1, places=9)
        self.assertAlmostEqual(of["hectares"] * of["trays_ha"] / trays, 1, places=9)
        self.assertAlmostEqual(of["medium_tray"], 4, places=9)
        self.assertGreaterEqual(of["pallets"] * on_a_pallet(length, width) * HIGH, trays - 1e-6)
        self.assertGreaterEqual(of["bench"] * 10_000, trays * length * width * (1 - 1e-9))
        self.assertTrue(all(step.value == one.value for one in links for step in one.working[-1:]))

    def test_a_broadcast_tray_as_its_check_value_says(self) -> None:
        """1,000 seeds on 36 × 46 cm are 0.60 a cm² (derived from what growers say; common practice, no source)."""
        links = sowing_chain(
            tray=SownTray(1, 1, 36, 46), seeds=1000, seed_g=None, tgw_g=None, plants=700, medium_l=None, minutes=0
        )
        self.assertEqual([one.key for one in links], ["seeds_cm2", "seeds_tray", "plants_tray", "pallets", "bench"])
        self.assertAlmostEqual(links[0].value, 0.60, places=2)

    def test_a_pallet_takes_as_many_as_lie_beside_each_other(self) -> None:
        """Against laying them out on a grid of whole centimetres, both ways round."""
        for length, width in ((60, 40), (53, 31), (36, 46), (130, 90), (40, 30)):
            best = 1
            for a, b in ((length, width), (width, length)):
                along = sum(1 for x in range(121) if x % a == 0 and x + a <= 120)
                across = sum(1 for y in range(81) if y % b == 0 and y + b <= 80)
                best = max(best, along * across)
            with self.subTest(length=length, width=width):
                self.assertEqual(on_a_pallet(length, width), best)

    def test_what_cannot_be_is_refused(self) -> None:
        known = {"seeds": None, "seed_g": None, "tgw_g": None, "plants": 1, "medium_l": None, "minutes": 0}
        for trays, per_ha in ((0, None), (1, 0), (1, 1e9)):
            with self.subTest(trays=trays, per_ha=per_ha), self.assertRaises(Refused):
                sowing_chain(tray=SownTray(trays, 1, 1, 1), plants_per_ha=per_ha, **known)
