"""Several tests of one lot: what they say together, and that testing again is no way round a result."""

import random
from datetime import date, timedelta
from itertools import combinations
from unittest import TestCase

from aldrip_core.retests import Pooling, Standing, Test, agree, series, standing

DAY = date(2029, 2, 5)


def tests(*values: float, apart: int = 9, holds: int = 365) -> list[Test]:
    days = [DAY + timedelta(days=apart * n) for n in range(len(values))]
    return [Test(n, v, on, 400, on + timedelta(days=holds)) for n, (v, on) in enumerate(zip(values, days, strict=True))]


def told(*values: float) -> Standing:
    found = standing(tests(*values), Pooling.COMPARED)
    assert found is not None
    return found


class WorkedByHand(TestCase):
    """ISTA's way with a second and third test; the figures worked by hand from the table of tolerances."""

    def test_two_that_agree_are_averaged_and_both_told(self) -> None:
        found = told(78, 83)  # mean 80.5, shown 81: six are tolerated
        self.assertEqual((found.value, found.repeat, found.used), (81, "", (0, 1)))
        self.assertEqual(found.note.count("mean of 2 tests"), 1)
        self.assertIn("78 on", found.note)
        self.assertEqual((found.weight, found.on), (800, DAY + timedelta(days=9)))

    def test_two_that_contradict_each_other_call_for_a_third(self) -> None:
        found = told(71, 80)  # mean 76: seven are tolerated, nine lie between
        self.assertIn("9 % apart, more than the 7 % tolerated", found.repeat)

    def test_the_third_decides_with_the_one_that_it_agrees_with(self) -> None:
        found = told(71, 80, 78)  # 71 and 78 lie 7 apart at 75, 80 and 78 agree, 71 and 80 do not
        self.assertEqual((found.value, found.used, found.aside), (75, (0, 2), (1,)))  # the lower of two pairs
        self.assertEqual(told(70, 81, 79).used, (1, 2))
        self.assertIn("not in it: 70", told(70, 81, 79).note)

    def test_four_of_which_two_and_two_agree_decide_nothing(self) -> None:
        self.assertTrue(told(70, 71, 84, 85).repeat)
        self.assertEqual(told(70, 71, 84, 85, 86).value, 85)

    def test_what_no_longer_held_when_it_was_tested_again_is_not_averaged_in(self) -> None:
        self.assertEqual([one.key for one in series(tests(91, 62, apart=400))], [1])
        self.assertEqual([one.key for one in series(tests(91, 62, apart=364))], [0, 1])

    def test_a_newest_one_that_must_be_repeated_leaves_nothing_standing(self) -> None:
        rows = [*tests(88), Test(9, 70, DAY + timedelta(days=3), 400, None, "the replicates differ")]
        found = standing(rows, Pooling.COMPARED)
        assert found is not None
        self.assertEqual((found.repeat, found.used), ("the replicates differ", (9,)))

    def test_samples_of_purity_are_added_up_by_their_weight(self) -> None:
        rows = [Test(0, 96.0, DAY, 40), Test(1, 99.0, DAY, 120)]
        found = standing(rows, Pooling.ADDED)
        assert found is not None
        self.assertEqual((found.value, found.weight), (98.3, 160))  # (0.96·40 + 0.99·120) ÷ 160 = 98.25 %

    def test_moisture_is_that_of_the_newest_day(self) -> None:
        rows = [Test(0, 9.8, DAY), Test(1, 7.4, DAY + timedelta(days=1)), Test(2, 7.8, DAY + timedelta(days=1))]
        found = standing(rows, Pooling.NEWEST)
        assert found is not None
        self.assertEqual((found.value, found.used), (7.6, (1, 2)))


class Properties(TestCase):
    def test_those_that_are_averaged_agree_and_no_larger_or_lower_group_does(self) -> None:
        rng = random.Random(29)
        for _ in range(3000):
            middle, many = rng.randint(3, 97), rng.randint(1, 6)
            values = [min(100, max(0, middle + rng.randint(-7, 7))) for _ in range(many)]
            found = told(*values)
            groups = [
                group
                for size in range(many, many // 2, -1)
                for group in combinations(range(many), size)
                if all(agree(values[a], values[b]) for a, b in combinations(group, 2))
            ]
            if found.repeat:
                self.assertFalse(groups, values)
                continue
            best = [group for group in groups if len(group) == len(groups[0])]
            lowest = min(sum(values[n] for n in group) for group in best)
            self.assertEqual((len(found.used), sum(values[n] for n in found.used)), (len(best[0]), lowest), values)
            self.assertAlmostEqual(found.value, lowest / len(best[0]), delta=0.5)
            self.assertEqual({*found.used, *found.aside}, set(range(many)))

    def test_the_order_in_which_a_day_was_tested_says_nothing(self) -> None:
        rng = random.Random(31)
        for _ in range(500):
            values = [rng.randint(60, 90) for _ in range(rng.randint(2, 5))]
            rows = tests(*values, apart=0)
            mixed = [
                Test(n, one.value, one.on, one.weight, one.expires) for n, one in enumerate(rng.sample(rows, len(rows)))
            ]
            one, other = (standing(these, Pooling.COMPARED) for these in (rows, mixed))
            assert one is not None and other is not None
            self.assertEqual(bool(one.repeat), bool(other.repeat))
            if not one.repeat:
                self.assertEqual(one.value, other.value)

    def test_a_test_more_never_passes_what_the_mean_of_those_that_agree_fails(self) -> None:
        """Whoever tests until it passes gets the mean; a result alone above the limit is never taken."""
        rng = random.Random(37)
        limit = 85
        for _ in range(2000):
            values: list[float] = [rng.randint(78, 84)]
            for _ in range(rng.randint(1, 5)):
                values.append(rng.randint(78, 92))
                found = told(*values)
                if not found.repeat and found.value >= limit:
                    used = [values[n] for n in found.used]
                    self.assertGreaterEqual(sum(used) / len(used) + 0.5, limit)
                    self.assertGreater(len(used), len(values) / 2)
