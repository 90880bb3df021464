"""What a count says, and how much to sow again."""

from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.distributions import Spread
from aldrip_core.forecast import (
    Stock,
    TrayCount,
    counted_rate,
    forecast,
    futures,
    remaining_share,
    resow,
    stock_after_count,
)
from aldrip_core.refusal import Refused


class Counting(TestCase):
    six = [TrayCount(240, n) for n in (149, 139, 156, 144, 137, 154)]

    def test_the_count_stands_on_its_own_and_few_trays_say_less(self) -> None:
        rate = counted_rate(trays=self.six, of_trays=101)
        self.assertAlmostEqual(rate.mean, 879 / 1440, delta=0.001)
        self.assertGreater(counted_rate(trays=self.six[:2], of_trays=101).sd, 0.0)
        binomial = (rate.mean * (1 - rate.mean) / 1440) ** 0.5
        self.assertGreater(
            counted_rate(trays=[TrayCount(240, 100), TrayCount(240, 200)], of_trays=101).sd, 3 * binomial
        )

    def test_a_batch_counted_whole_is_known(self) -> None:
        rate = counted_rate(trays=self.six, of_trays=6)
        self.assertEqual(rate.sd, 0.0)
        self.assertAlmostEqual(rate.mean, 879 / 1440)

    def test_more_found_than_looked_at_names_the_tray(self) -> None:
        with self.assertRaises(Refused) as caught:
            counted_rate(trays=[TrayCount(240, 100), TrayCount(240, 241)])
        self.assertEqual(caught.exception.errors[0].field, "trays.1.found")

    def test_the_counts_doubt_widens_the_band(self) -> None:
        ahead = remaining_share([Spread.from_mean_sd(0.97, 0.01), Spread.from_mean_sd(0.95, 0.012)])
        sure = stock_after_count(start=10_000, counted=Spread(0.61), ahead=ahead)
        doubtful = stock_after_count(start=10_000, counted=Spread.from_mean_sd(0.61, 0.03), ahead=ahead)
        narrow, wide = (forecast(needed=0, stocks=(stock,)) for stock in (sure, doubtful))
        self.assertAlmostEqual(narrow.expected, wide.expected)
        self.assertGreater(wide.high - wide.low, narrow.high - narrow.low)


class Resowing(TestCase):
    stock = Stock(14_800, Spread.from_mean_sd(0.917, 0.015))
    fresh = Spread.from_mean_sd(0.81, 0.03)

    def test_the_fewest_trays_that_bring_the_chance_back(self) -> None:
        found = resow(needed=18_000, stocks=(self.stock,), fresh=self.fresh, cells_per_tray=240, chance=0.95)
        assert found is not None
        self.assertGreaterEqual(found.chance, 0.95)
        one_less = forecast(needed=18_000, stocks=(self.stock, Stock((found.trays - 1) * 240, self.fresh)))
        self.assertLess(one_less.chance, 0.95)

    def test_nothing_is_offered_where_nothing_is_missing_or_nothing_helps(self) -> None:
        self.assertIsNone(resow(needed=12_000, stocks=(self.stock,), fresh=self.fresh, cells_per_tray=240, chance=0.95))
        self.assertIsNone(
            resow(needed=10**7, stocks=(self.stock,), fresh=self.fresh, cells_per_tray=240, chance=0.95, most_trays=50)
        )

    def test_no_batch_fills_no_promise(self) -> None:
        self.assertEqual(forecast(needed=5, stocks=()).chance, 0.0)
        self.assertEqual(forecast(needed=0, stocks=()).chance, 1.0)


class Drawn(TestCase):
    @given(
        st.lists(
            st.tuples(st.integers(1, 9000), st.floats(0.05, 0.95), st.floats(0.002, 0.04)), min_size=1, max_size=3
        ),
        st.sampled_from([1.0, 3.0, 0.002]),
        st.floats(0.5, 1.5),
    )
    def test_the_bars_are_the_chances_that_the_figures_beside_them_say(
        self, parts: list[tuple[int, float, float]], multiply: float, aim: float
    ) -> None:
        stocks = [Stock(units, Spread.from_mean_sd(mean, sd), multiply) for units, mean, sd in parts]
        drawn = futures(stocks)
        told = forecast(needed=aim * sum(s.units * s.remaining.mean for s in stocks) * multiply, stocks=stocks)
        if drawn is None:
            self.assertEqual(told.low, told.high)
            return
        self.assertLessEqual(len(drawn.chances), 49)
        self.assertAlmostEqual(sum(drawn.chances), 1, delta=2e-3)
        starts = [drawn.first + drawn.width * n for n in range(len(drawn.chances))]
        over = [chance for start, chance in zip(starts, drawn.chances, strict=True) if start >= told.needed]
        part = max(
            (c for s, c in zip(starts, drawn.chances, strict=True) if s < told.needed < s + drawn.width), default=0
        )
        self.assertAlmostEqual(told.chance, sum(over) + part / 2, delta=part / 2 + 2e-3)
        mean = sum((s + (drawn.width - multiply) / 2) * c for s, c in zip(starts, drawn.chances, strict=True))
        self.assertAlmostEqual(mean, told.expected, delta=drawn.width)

    def test_what_is_certain_is_not_drawn(self) -> None:
        self.assertIsNone(futures([Stock(100, Spread(1.0))]))
        self.assertIsNone(futures([]))
