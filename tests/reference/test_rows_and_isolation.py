"""Row plans and isolation against slow exact checks that share no code with core."""

import math
import random
import unittest
from collections import defaultdict

from hypothesis import given, settings
from hypothesis import strategies as st

from aldrip_core.geometry import area_m2
from aldrip_core.isolation import Neighbour, Rule, isolation
from aldrip_core.row_plan import RowPlan, row_plan

Point = tuple[float, float]
# A concave field, as fields are: a corner cut out where the wood stands.
CONCAVE: list[Point] = [(0, 0), (210, 15), (260, 140), (150, 120), (120, 210), (-30, 180)]


def inside(p: Point, ring: list[Point]) -> bool:
    """Ray casting."""
    hit = False
    for (x1, y1), (x2, y2) in zip(ring, ring[1:] + ring[:1], strict=True):
        if (y1 > p[1]) != (y2 > p[1]) and p[0] < (x2 - x1) * (p[1] - y1) / (y2 - y1) + x1:
            hit = not hit
    return hit


def shoelace(ring: list[Point]) -> float:
    return abs(sum(x1 * y2 - x2 * y1 for (x1, y1), (x2, y2) in zip(ring, ring[1:] + ring[:1], strict=True))) / 2


def to_segment(p: Point, a: Point, b: Point) -> float:
    dx, dy = b[0] - a[0], b[1] - a[1]
    t = max(0.0, min(1.0, ((p[0] - a[0]) * dx + (p[1] - a[1]) * dy) / (dx * dx + dy * dy)))
    return math.hypot(p[0] - a[0] - t * dx, p[1] - a[1] - t * dy)


def crosses(a: Point, b: Point, c: Point, d: Point) -> bool:
    def side(p: Point, q: Point, r: Point) -> float:
        return (q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0])

    return side(a, b, c) * side(a, b, d) < 0 and side(c, d, a) * side(c, d, b) < 0


def brute_distance(one: list[Point], other: list[Point]) -> float:
    """Shortest way between two outlines: every corner to every edge, nothing where they meet."""
    if inside(one[0], other) or inside(other[0], one):
        return 0.0
    best = math.inf
    for a, b in zip(one, one[1:] + one[:1], strict=True):
        for c, d in zip(other, other[1:] + other[:1], strict=True):
            if crosses(a, b, c, d):
                return 0.0
            best = min(best, to_segment(a, c, d), to_segment(c, a, b))
    return best


def star(draw: random.Random, x: float, y: float, size: float) -> list[Point]:
    """A random field, concave more often than not."""
    corners = draw.randint(4, 9)
    # One corner a sector, so that the outline never crosses itself.
    turns = [(i + draw.uniform(0.05, 0.95)) / corners * 2 * math.pi for i in range(corners)]
    return [(x + size * r * math.cos(t), y + size * r * math.sin(t)) for t in turns for r in [draw.uniform(0.3, 1)]]


def plan_of(
    ring: list[Point], bearing: float, *, borders: int = 4, headland: int | None = None, spacing: float = 0.75
) -> RowPlan:
    return row_plan(
        outline=ring,
        row_bearing_deg=bearing,
        row_spacing_m=spacing,
        pattern="FFFFMM",
        border_rows=borders,
        headland_rows=headland,
        in_row_cm={"F": 20, "M": 22},
        establishment={"F": 0.8, "M": 0.75},
        tgw_g={"F": 55, "M": 48},
    )


class RowsInAField(unittest.TestCase):
    def test_metres_times_spacing_is_the_area_in_a_concave_field_at_any_bearing(self) -> None:
        for bearing in (0, 17.3, 45, 61.8, 90, 123.4, 211, 299.9, -37):
            plan = plan_of(CONCAVE, bearing)
            share = sum(plan.metres.values()) * 0.75 / shoelace(CONCAVE)
            self.assertAlmostEqual(share, 1, delta=0.01, msg=str(bearing))

    def test_every_piece_lies_inside_and_along_its_bearing(self) -> None:
        bearing = 61.8
        plan = plan_of(CONCAVE, bearing)
        for row in plan.rows:
            for a, b in row.segments:
                for t in (0.001, 0.25, 0.5, 0.75, 0.999):
                    p = (a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t)
                    near = min(to_segment(p, c, d) for c, d in zip(CONCAVE, CONCAVE[1:] + CONCAVE[:1], strict=True))
                    self.assertTrue(inside(p, CONCAVE) or near < 1e-6, (row.index, p))
                turn = math.degrees(math.atan2(b[0] - a[0], b[1] - a[1])) % 180
                wanted = (bearing + (90 if row.part == "headland" else 0)) % 180
                self.assertAlmostEqual(turn, wanted, places=4)

    def test_shares_and_kilos_by_a_slow_check_on_a_fine_grid(self) -> None:
        """Every grid point of the field is given to a line by its own sums: across for the row, along for the ends."""
        bearing, spacing, borders, headland, fine = 61.8, 3.0, 2, 3, 0.25
        plan = plan_of(CONCAVE, bearing, borders=borders, headland=headland, spacing=spacing)
        along = (math.sin(math.radians(bearing)), math.cos(math.radians(bearing)))
        across = (along[1], -along[0])
        offsets = [x * across[0] + y * across[1] for x, y in CONCAVE]
        first, rows = min(offsets), round(len([r for r in plan.rows if r.part != "headland"]))
        area: dict[str, float] = defaultdict(float)
        for k in range(rows):
            v = first + (k + 0.5) * spacing
            inside_run: list[float] = []
            for step in range(-1600, 1600):
                u = step * fine
                p = (u * along[0] + v * across[0], u * along[1] + v * across[1])
                if inside(p, CONCAVE):
                    inside_run.append(u)
                    continue
                self._give(area, inside_run, k, rows, borders, headland * spacing, fine, spacing)
                inside_run = []
        total = sum(area.values())
        self.assertAlmostEqual(area["F"] / total, plan.female_share, delta=0.005)
        seed = {"F": area["F"] / spacing / 0.20 / 0.8 * 55 / 1e6, "M": area["M"] / spacing / 0.22 / 0.75 * 48 / 1e6}
        for line, kilos in seed.items():
            self.assertAlmostEqual(kilos / plan.seed_kg[line], 1, delta=0.01)

    def _give(
        self,
        area: dict[str, float],
        run: list[float],
        k: int,
        rows: int,
        borders: int,
        depth: float,
        fine: float,
        spacing: float,
    ) -> None:
        if not run:
            return
        start, end = run[0] - fine / 2, run[-1] + fine / 2
        for u in run:
            guarded = k < borders or k >= rows - borders or u - start < depth or end - u < depth
            area["M" if guarded else "FFFFMM"[(k - borders) % 6]] += fine * spacing

    @settings(deadline=None, max_examples=60)
    @given(st.integers(0, 10_000), st.floats(-360, 360))
    def test_area_holds_on_random_fields(self, seed: int, bearing: float) -> None:
        ring = star(random.Random(seed), 0, 0, 150)
        if shoelace(ring) < 3000:
            return
        plan = plan_of(ring, bearing, borders=0, headland=2)
        self.assertAlmostEqual(sum(plan.metres.values()) * 0.75 / shoelace(ring), 1, delta=0.01)
        self.assertAlmostEqual(plan.area_m2, shoelace(ring), places=4)
        self.assertAlmostEqual(sum(r.length_m for r in plan.rows), sum(plan.metres.values()), places=6)

    def test_four_to_two_is_two_thirds_female(self) -> None:
        """Common practice, no source."""
        self.assertAlmostEqual(plan_of(CONCAVE, 10).female_share_in_pattern, 2 / 3)


class IsolationByBruteForce(unittest.TestCase):
    def test_distances_and_breaches_on_random_polygons(self) -> None:
        draw = random.Random(41)
        for _ in range(150):
            field = star(draw, 0, 0, 120)
            neighbours = [star(draw, draw.uniform(-700, 700), draw.uniform(-700, 700), 100) for _ in range(5)]
            required = draw.uniform(50, 500)
            result = isolation(
                field=field,
                neighbours=[Neighbour(str(i), ring, "k") for i, ring in enumerate(neighbours)],
                rules=[Rule("k", required)],
            )
            for index, ring in enumerate(neighbours):
                self.assertAlmostEqual((result.distances_m or {})[str(index)], brute_distance(field, ring), places=6)
            breaching = {str(i) for i, ring in enumerate(neighbours) if brute_distance(field, ring) < required}
            self.assertEqual({b.id for b in result.breaches}, breaching)

    def test_what_may_be_planted_is_what_is_far_enough(self) -> None:
        """Points thrown at random: the share that keeps its distance is the plantable share."""
        draw = random.Random(5)
        for _ in range(6):
            field, other = star(draw, 0, 0, 120), star(draw, 200, 0, 100)
            result = isolation(field=field, neighbours=[Neighbour("n", other, "k")], rules=[Rule("k", 150)])
            thrown = kept = 0
            while thrown < 4000:
                p = (draw.uniform(-120, 120), draw.uniform(-120, 120))
                if not inside(p, field):
                    continue
                thrown += 1
                edges = zip(other, other[1:] + other[:1], strict=True)
                kept += not inside(p, other) and min(to_segment(p, a, b) for a, b in edges) >= 150
            self.assertAlmostEqual(kept / thrown, result.plantable_area_m2 / area_m2(field), delta=0.03)

    def test_circles_of_exclusion(self) -> None:
        """60 m = 1.13 ha, 400 m = 50.3 ha, 1000 m = 314 ha (common practice, no source): a small neighbour's circle is cut out."""
        side = 4000.0
        field = [(-side, -side), (side, -side), (side, side), (-side, side)]
        dot = [(0, 0), (0.01, 0), (0, 0.01)]
        for metres, hectares in ((60, 1.13), (200, 12.6), (300, 28.3), (400, 50.3), (1000, 314), (1600, 804)):
            left = isolation(
                field=field, neighbours=[Neighbour("n", dot, "k")], rules=[Rule("k", metres)]
            ).plantable_area_m2
            self.assertAlmostEqual((4 * side * side - left) / 1e4 / hectares, 1, delta=0.005)
