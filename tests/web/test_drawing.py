"""What the front end draws by itself: bodies stacked, scales, rows to scale, the verdict without a signal."""

import math
import re
from datetime import date, timedelta
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.field_inspection import FaultLimit, decision_table, judge
from aldrip_core.row_plan import row_plan
from tests.web.bridge import WebCase, WebError

START = date(2027, 6, 7)


def day(number: int) -> str:
    return str(START + timedelta(days=number))


BODIES = st.lists(
    st.tuples(st.integers(-20, 60), st.integers(1, 50), st.integers(1, 400)), min_size=1, max_size=9
).map(lambda rows: [
    {"batch_id": n, "start": day(first), "end": day(first + long), "amount": amount}
    for n, (first, long, amount) in enumerate(rows)
])


class Board(WebCase):
    @settings(max_examples=60, deadline=None)
    @given(BODIES)
    def test_bodies_on_a_lane_never_lie_over_each_other_and_reach_as_high_as_their_sum(
        self, bodies: list[dict[str, Any]]
    ) -> None:
        open_, close = day(0), day(56)
        seen = [b for b in bodies if b["end"] > open_ and b["start"] < close]
        laid = self.web("stack", seen, open_, close)
        self.assertEqual(sorted(one["body"]["batch_id"] for one in laid), sorted(b["batch_id"] for b in seen))
        for number in range(56):
            here = day(number)
            spans = sorted(
                (step["bottom"], step["bottom"] + one["body"]["amount"])
                for one in laid for step in one["steps"] if step["from"] <= here < step["to"]
            )
            there = [b["amount"] for b in seen if b["start"] <= here < b["end"]]
            self.assertEqual(len(spans), len(there))
            self.assertEqual(max((top for _, top in spans), default=0), sum(there))
            for (_, top), (bottom, _) in zip(spans, spans[1:], strict=False):
                self.assertLessEqual(top, bottom + 1e-9)

    @settings(max_examples=40, deadline=None)
    @given(BODIES)
    def test_the_outline_encloses_amount_times_days(self, bodies: list[dict[str, Any]]) -> None:
        """The drawn area of a body is what it takes: trays × days, by the shoelace formula."""
        seen = [b for b in bodies if b["end"] > day(0) and b["start"] < day(56)]
        for one in self.web("bodyDrawn", seen, day(0), day(56)):
            corners = [(float(x), float(y)) for x, y in re.findall(r"[ML] (-?[\d.]+) (-?[\d.]+)", one["path"])]
            doubled = sum(
                x1 * y2 - x2 * y1 for (x1, y1), (x2, y2) in zip(corners, corners[1:] + corners[:1], strict=True)
            )
            days = (
                date.fromisoformat(min(one["body"]["end"], day(56)))
                - date.fromisoformat(max(one["body"]["start"], day(0)))
            ).days
            self.assertAlmostEqual(abs(doubled) / 2, days * one["body"]["amount"], delta=1e-6)
            self.assertLessEqual(one["label"]["width"], days)


class Scales(WebCase):
    SEASON = {"start": "2027-01-04", "end": "2027-12-27"}

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 40), st.integers(4, 40), st.integers(700, 2400))
    def test_the_season_line_runs_forward_and_finds_its_days_again(self, week: int, weeks: int, width: int) -> None:
        start = date(2027, 1, 4) + timedelta(weeks=week)
        span = {"start": str(start), "days": 7 * weeks}
        days = [date(2027, 1, 4) + timedelta(days=3 * n) for n in range(119)]
        found = self.web("seasonScale", width, span, self.SEASON, [str(d) for d in days])
        self.assertEqual(found["xs"], sorted(found["xs"]))
        self.assertTrue(all(0 <= x <= width for x in found["xs"]))
        inside = [n for n, d in enumerate(days) if start <= d < start + timedelta(weeks=weeks)]
        for n in inside:
            self.assertEqual(found["back"][n], str(days[n]))
        for a, b in zip(inside, inside[1:], strict=False):
            self.assertAlmostEqual(found["xs"][b] - found["xs"][a], 3 * found["open"] / (7 * weeks), places=6)

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.integers(1, 2_000_000), min_size=2, max_size=8), st.integers(0, 900_000))
    def test_a_longer_bar_is_never_a_smaller_number(self, values: list[int], promised: int) -> None:
        rungs = [{"kind": "stage", "key": f"s{n}", "value": v, "needed": None, "band": None} for n, v in enumerate(values)]
        asked = sorted({*values, 1, *( [promised] if promised else [])})
        found = self.web("ladderXs", rungs, 600, promised, asked)
        self.assertEqual(found["xs"], sorted(found["xs"]))
        self.assertLessEqual(max(found["xs"]), 600 + 1e-9)
        self.assertTrue(2 <= len(found["ticks"]) <= 12, found["ticks"])
        counted = [x for v, x in zip(asked, found["xs"], strict=True) if v in values]
        self.assertTrue(all(x >= found["fold"] - 1e-9 for x in counted if x > 0 and min(values) > 1))


class Rows(WebCase):
    FIELD = [(0.0, 0.0), (160.0, 0.0), (160.0, 70.0), (60.0, 70.0), (60.0, 130.0), (0.0, 130.0)]

    def drawing(self, pattern: str, bearing: float) -> dict[str, Any]:
        plan = row_plan(
            outline=self.FIELD, row_bearing_deg=bearing, row_spacing_m=0.75, pattern=pattern, border_rows=2, headland_rows=2,
            in_row_cm={"F": 22, "M": 22},
        )
        rows = [
            {"index": r.index, "line": r.line, "part": r.part, "length_m": r.length_m, "segments": [[list(a), list(b)] for a, b in r.segments]}
            for r in plan.rows
        ]
        return {"outline": [list(p) for p in self.FIELD], "rows": rows}

    def test_rows_stand_to_scale_with_north_up(self) -> None:
        drawing = self.drawing("FFFFMM", 27)
        found = self.web("rowsDrawn", drawing, 640, 480, 30)
        (west, south), _, (_, _), *_ = found["corners"]
        north_west = found["corners"][-1]
        self.assertEqual(west, north_west[0])
        self.assertLess(north_west[1], south)
        self.assertTrue(all(0 <= x <= 640.001 and 0 <= y <= 480.001 for x, y in found["corners"]))
        drawn = sum(
            math.dist((float(a), float(b)), (float(c), float(d)))
            for a, b, c, d in re.findall(r"M(-?[\d.]+) (-?[\d.]+)L(-?[\d.]+) (-?[\d.]+)", found["path"])
        )
        metres = sum(row["length_m"] for row in drawing["rows"])
        self.assertAlmostEqual(drawn / found["scale"] / metres, 1, places=2)

    def test_letters_name_both_lines_and_same_letters_keep_apart(self) -> None:
        for pattern, bearing in (("FFFFMM", 0), ("FFM", 63), ("FFFFFFMM", 118)):
            found = self.web("rowsDrawn", self.drawing(pattern, bearing), 640, 480, 30)
            letters = {mark["letter"] for mark in found["marks"]}
            self.assertEqual(letters, {"F", "M"}, pattern)
            for n, one in enumerate(found["marks"]):
                for other in found["marks"][n + 1 :]:
                    if one["letter"] == other["letter"]:
                        self.assertGreaterEqual(math.dist((one["x"], one["y"]), (other["x"], other["y"])), 15 - 1e-6)

    def test_the_scale_bar_has_a_length_that_fits(self) -> None:
        for size in (20, 150, 900, 4000):
            square = {"outline": [[0, 0], [size, 0], [size, size], [0, size]], "rows": []}
            bar = self.web("rowsDrawn", square, 640, 480, 30)["bar"]
            self.assertTrue(40 <= bar <= 260, (size, bar))

    def test_the_strip_shows_borders_first_and_begins_the_pattern_again(self) -> None:
        strip = self.web("patternStrip", "FFFFMM", 2)
        self.assertEqual("".join(one["letter"] for one in strip), "BBFFFFMMFF")
        self.assertLessEqual(len(self.web("patternStrip", "F" * 30, 60)), 14)

    def test_typed_corners_are_read_as_people_write_them(self) -> None:
        asked = {"corners_m": [[0, 0], [120, 45.5], [-3, 90]]}
        for text in ("0 0\n120 45.5\n-3 90", " 0;0 \n\n120, 45.5\n-3\t90\n"):
            self.assertEqual(self.web("readOutline", text), asked)
        self.assertEqual(self.web("readOutline", "  "), {})
        feature = '{"type": "FeatureCollection", "features": [{"type": "Feature", "geometry": null}]}'
        self.assertEqual(self.web("readOutline", feature), {"outline": {"type": "Feature", "geometry": None}})
        for text, words in (("0 0\n12", "Line 2, “12”"), ("0 x", "is not two numbers"), ("{", "no whole GeoJSON")):
            with self.assertRaisesRegex(WebError, words):
                self.web("readOutline", text)


LIMITS = [
    FaultLimit("off_types", "off-types", 0.005), FaultLimit("shedders", "shedders", 0.003), FaultLimit("weeds", "weeds", 0.01),
]


class WithoutASignal(WebCase):
    """The phone looks verdicts up in the server's table; they must be the server's own."""

    SAMPLE = 2500

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        table = decision_table(limits=LIMITS, sample=cls.SAMPLE)
        cls.table = {
            "sample": table.sample, "reject_at": table.reject_at, "beyond": {k: [list(x) for x in v] for k, v in table.beyond.items()},
            "rows": [{"plants": r.plants, "by_found": [list(x) for x in r.by_found]} for r in table.rows],
        }
        cls.sheet: dict[str, Any] = {
            "plants": 0, "faults": {}, "by_area": {},
            "limits": [{"attribute": one.attribute, "is_plant": one.attribute != "weeds"} for one in LIMITS],
        }

    @settings(max_examples=150, deadline=None)
    @given(
        areas=st.lists(st.integers(0, 1000), min_size=5, max_size=5),
        faults=st.fixed_dictionaries({one.attribute: st.integers(0, 60) for one in LIMITS}),
    )
    def test_the_verdict_on_the_phone_is_the_verdict_of_the_server(self, areas: list[int], faults: dict[str, int]) -> None:
        plants, by_area = sum(areas), dict(enumerate(areas, start=1))
        tally = {"plants": plants, "faults": faults, "byArea": {str(n): many for n, many in by_area.items()}}
        sheet = {**self.sheet, "sample": self.SAMPLE, "areas": 5, "plants_per_area": self.SAMPLE // 5}
        missing = self.web("stillMissing", sheet, tally)
        here = self.web("stateFrom", self.table, tally, missing)
        there = judge(limits=LIMITS, sample=self.SAMPLE, plants=plants, found=faults, by_area=by_area, areas=5)
        self.assertEqual((here, missing), (there.state.value, there.more_plants))
        for fault in there.faults:
            self.assertEqual(self.web("rejectAt", self.table, fault.attribute, plants), fault.reject_at)

    @settings(max_examples=60, deadline=None)
    @given(st.integers(1, 20), st.integers(0, 14))
    def test_the_outlook_at_a_mark_is_the_servers_to_the_digit(self, mark: int, found: int) -> None:
        plants = mark * (self.SAMPLE // 20)
        here = self.web("outlookFrom", self.table, plants, found)
        there = judge(limits=LIMITS[:1], sample=self.SAMPLE, plants=plants, found={"off_types": found}).faults[0]
        self.assertAlmostEqual(here["low"], there.low, places=12)
        self.assertAlmostEqual(here["high"], there.high, places=12)
        self.assertEqual((here["likelyLow"], here["likelyHigh"]), (there.likely_low, there.likely_high))

    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(
            st.tuples(st.integers(1, 5), st.integers(0, 300), st.dictionaries(st.sampled_from(["off_types", "weeds"]), st.integers(0, 9))),
            max_size=8,
        )
    )
    def test_what_waits_is_added_once_and_weeds_are_no_plants(self, entries: list[tuple[int, int, dict[str, int]]]) -> None:
        sheet = {**self.sheet, "plants": 100, "faults": {"off_types": 1}, "by_area": {"1": 100}}
        rows = [{"area": a, "plants": p, "faults": f} for a, p, f in entries]
        tally = self.web("tallyWith", sheet, rows)
        whole = sum(p + f.get("off_types", 0) for _, p, f in entries)
        self.assertEqual(tally["plants"], 100 + whole)
        self.assertEqual(sum(tally["byArea"].values()), 100 + whole)
        self.assertEqual(tally["faults"].get("weeds", 0), sum(f.get("weeds", 0) for *_, f in entries))

    def test_the_fault_shown_is_the_one_nearest_to_rejecting(self) -> None:
        tally = {"plants": 900, "faults": {"off_types": 9, "shedders": 8}, "byArea": {}}
        self.assertEqual(self.web("nearest", self.sheet, self.table, tally)["attribute"], "shedders")
