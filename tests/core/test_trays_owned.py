"""Trays of a house: against a house that moves every single tray, day by day."""

from datetime import date, timedelta
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.containers_in_use import InUse
from aldrip_core.trays_owned import TrayAct, TrayEntry, tray_stand

START = date(2027, 3, 1)
DAYS = 40
TODAY = START + timedelta(days=20)


def day(n: int) -> date:
    return START + timedelta(days=n)


spans = st.lists(
    st.builds(
        lambda a, long, many: InUse("t", day(a), day(a + long), many),
        st.integers(1, DAYS),
        st.integers(1, 15),
        st.integers(1, 9),
    ),
    max_size=8,
)


OWNED = 400


class House:
    """Each tray clean, dirty or filled until its day; plenty are owned, and only dirty ones are washed."""

    def __init__(self, clean: int) -> None:
        self.shelf = ["clean"] * clean + ["dirty"] * (OWNED - clean)
        self.filled: dict[date, list[int]] = {}
        self.entries = [TrayEntry(START, TrayAct.COUNTED, OWNED, clean)]
        self.fills = self.washes = 0

    def those(self, state: str) -> list[int]:
        return [k for k, one in enumerate(self.shelf) if one == state]

    def live(self, now: date, used: list[InUse], wash: int) -> None:
        for tray in self.filled.pop(now, []):
            self.shelf[tray] = "dirty"
        dirty = self.those("dirty")[:wash]
        for k in dirty:
            self.shelf[k] = "clean"
        self.washes += len(dirty)
        if dirty:
            self.entries.append(TrayEntry(now, TrayAct.WASHED, len(dirty)))
        for span in used:
            if span.start == now:
                taken = (self.those("clean") + self.those("dirty"))[: span.many]
                for k in taken:
                    self.shelf[k] = "filled"
                self.filled.setdefault(span.end, []).extend(taken)
                self.fills += span.many


class Trays(TestCase):
    @given(spans, st.lists(st.tuples(st.integers(1, 20), st.integers(1, 30)), max_size=6), st.integers(0, 60))
    @settings(max_examples=200, deadline=None)
    def test_one_by_one(self, all_spans: list[InUse], washed: list[tuple[int, int]], clean: int) -> None:
        used = [one for one in all_spans if one.start <= TODAY]
        planned = [one for one in all_spans if one.start > TODAY]
        house = House(clean)
        for n in range(1, 21):
            house.live(day(n), used, sum(many for on, many in washed if on == n))
        stand = tray_stand(house.entries, used=used, planned=planned, today=TODAY)
        for words, told in (("clean", stand.clean), ("filled", stand.in_use), ("dirty", stand.dirty)):
            self.assertEqual(house.shelf.count(words), told, words)
        self.assertAlmostEqual(stand.fills_each, house.fills / OWNED)
        self.assertAlmostEqual(stand.washes_each, house.washes / OWNED)
        self.assertIsNone(stand.short_on)
        need = {day(n): sum(one.many for one in planned if one.start <= day(n)) for n in range(20, DAYS + 1)}
        first = next(((on, many - stand.clean) for on, many in need.items() if many > stand.clean), (None, 0))
        self.assertEqual((stand.wash_on, stand.wash), first)

    @given(spans, st.integers(0, 30))
    @settings(max_examples=150, deadline=None)
    def test_short_is_what_no_day_holds(self, all_spans: list[InUse], owned: int) -> None:
        used = [one for one in all_spans if one.start <= TODAY]
        planned = [one for one in all_spans if one.start > TODAY]
        stand = tray_stand([TrayEntry(START, TrayAct.COUNTED, owned, 0)], used=used, planned=planned, today=TODAY)
        load = {n: sum(one.many for one in all_spans if one.start <= day(n) < one.end) for n in range(20, 70)}
        over = [n for n, many in load.items() if many > owned]
        self.assertEqual(stand.short_on, day(over[0]) if over else None)
        self.assertEqual(stand.short_by, max((load[n] - owned for n in over), default=0))

    def test_bought_thrown_and_counted_anew(self) -> None:
        entries = [
            TrayEntry(START, TrayAct.COUNTED, 100, 40),
            TrayEntry(day(1), TrayAct.BOUGHT, 50),
            TrayEntry(day(2), TrayAct.THROWN, 120),
        ]
        stand = tray_stand(entries, used=(), planned=(), today=day(3))
        self.assertEqual((stand.owned, stand.clean, stand.dirty), (30, 30, 0))
        late = InUse("t", day(1), day(9), 10)  # should have been filled and was not: it is filled today
        stand = tray_stand([*entries, TrayEntry(day(3), TrayAct.COUNTED, 80, 5)], used=(), planned=[late], today=day(3))
        self.assertEqual((stand.owned, stand.clean, stand.wash_on, stand.wash), (80, 5, day(3), 5))
        over = tray_stand(entries, used=[InUse("t", day(3), day(9), 60)], planned=(), today=day(3))
        self.assertEqual((over.over, over.short_by), (30, 30))
