"""What may still be planted, against a slow exact check: point by point, with distances reckoned by hand."""

import math
import random
import unittest

from aldrip_core.isolation import Neighbour, Rule, common_parts, distance_from_parts, isolation

Point = tuple[float, float]


def to_segment(p: Point, a: Point, b: Point) -> float:
    """Distance of a point from a segment, by projection."""
    dx, dy = b[0] - a[0], b[1] - a[1]
    t = max(0.0, min(1.0, ((p[0] - a[0]) * dx + (p[1] - a[1]) * dy) / (dx * dx + dy * dy)))
    return math.hypot(p[0] - a[0] - t * dx, p[1] - a[1] - t * dy)


def inside(p: Point, ring: list[Point]) -> bool:
    """Ray casting."""
    found = False
    for (x1, y1), (x2, y2) in zip(ring, ring[1:] + ring[:1], strict=True):
        if (y1 > p[1]) != (y2 > p[1]) and p[0] < (x2 - x1) * (p[1] - y1) / (y2 - y1) + x1:
            found = not found
    return found


def away(p: Point, ring: list[Point]) -> float:
    """Distance of a point from an outline's area; 0 inside."""
    if inside(p, ring):
        return 0.0
    return min(to_segment(p, a, b) for a, b in zip(ring, ring[1:] + ring[:1], strict=True))


def star(rng: random.Random, x: float, y: float, size: float, corners: int) -> list[Point]:
    """An outline that does not cross itself, seldom convex."""
    angles = [2 * math.pi * (n + rng.uniform(0.1, 0.9)) / corners for n in range(corners)]
    radii = [size * rng.uniform(0.4, 1.0) for _ in angles]
    return [(x + r * math.cos(a), y + r * math.sin(a)) for a, r in zip(angles, radii, strict=True)]


class Plantable(unittest.TestCase):
    def scene(self, rng: random.Random) -> tuple[list[Point], list[Neighbour], list[Rule]]:
        field = star(rng, 0, 0, 150, rng.randint(5, 11))
        kinds = [Rule("cultivar", rng.uniform(120, 260)), Rule("relative", rng.uniform(60, 150)), Rule("cultivar", 50)]
        around = []
        for n in range(rng.randint(1, 3)):
            turn, far = rng.uniform(0, 2 * math.pi), rng.uniform(200, 420)
            ring = star(rng, far * math.cos(turn), far * math.sin(turn), 60, rng.randint(4, 8))
            around.append(Neighbour(str(n), ring, rng.choice(("cultivar", "relative"))))
        return field, around, kinds

    def asked(self, kind: str, rules: list[Rule]) -> float:
        return max(rule.metres for rule in rules if rule.kind == kind)

    def test_every_point_is_on_the_right_side_of_the_line(self) -> None:
        rng = random.Random(20)
        looked = 0
        for _ in range(25):
            field, around, rules = self.scene(rng)
            found = isolation(field=field, neighbours=around, rules=rules)
            for _ in range(120):
                p = (rng.uniform(-150, 150), rng.uniform(-150, 150))
                if not inside(p, field):
                    continue
                slack = min(away(p, list(n.polygon)) - self.asked(n.kind, rules) for n in around)  # type: ignore[arg-type]
                if (
                    abs(slack) < 0.05
                    or min(to_segment(p, a, b) for a, b in zip(field, field[1:] + field[:1], strict=True)) < 0.05
                ):
                    continue  # too near the line to tell by a polygon that stands for an arc
                in_parts = any(
                    inside(p, list(part[0][:-1])) and not any(inside(p, list(hole[:-1])) for hole in part[1:])
                    for part in found.plantable
                )
                self.assertEqual(in_parts, slack > 0, (p, slack))
                looked += 1
        self.assertGreater(looked, 500)

    def test_what_is_left_keeps_every_distance_and_its_area_is_what_points_say(self) -> None:
        rng = random.Random(7)
        for _ in range(15):
            field, around, rules = self.scene(rng)
            found = isolation(field=field, neighbours=around, rules=rules)
            for one in around if found.plantable else ():
                self.assertGreaterEqual(
                    distance_from_parts(found.plantable, one.polygon), self.asked(one.kind, rules) - 0.02
                )
            step, hits = 3.0, 0
            for x in range(-50, 50):
                for y in range(-50, 50):
                    p = (x * step + 0.37, y * step + 0.71)
                    hits += inside(p, field) and all(
                        away(p, list(n.polygon)) >= self.asked(n.kind, rules) for n in around
                    )  # type: ignore[arg-type]
            rough = 40 * 150 * step / 10  # a grid's own error along the edge
            self.assertAlmostEqual(found.plantable_area_m2, hits * step * step, delta=rough)

    def test_strips_left_one_by_one_end_where_all_at_once_do(self) -> None:
        rng = random.Random(11)
        told = 0
        for _ in range(25):
            field, around, rules = self.scene(rng)
            parts, area = isolation(field=field, neighbours=[], rules=rules).plantable, 0.0
            for one in around:
                alone = isolation(field=field, neighbours=[one], rules=rules)
                parts, area = common_parts(parts, alone.plantable) if parts and alone.plantable else ((), 0.0)
            whole = isolation(field=field, neighbours=around, rules=rules)
            self.assertAlmostEqual(area, whole.plantable_area_m2, delta=1e-6 * max(1.0, area))
            told += bool(whole.breaches)
        self.assertGreater(told, 5)
