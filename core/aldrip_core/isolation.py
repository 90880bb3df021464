"""Isolation: how far a field lies from what could spoil it, edge to edge, and what may still be planted."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any, ClassVar

from shapely import Polygon, unary_union
from shapely.ops import nearest_points

from aldrip_core.geometry import Point, polygon
from aldrip_core.refusal import FieldError, Refused, Warn
from aldrip_core.working import Given, Step, Working, computed

HAND_M = 0.1  # outlines that were written down in degrees differ by less
ARC = 128  # pieces of a quarter circle: at 500 m the arc is met within a centimetre


@dataclass(frozen=True, slots=True)
class Rule:
    """Distance asked from a kind of neighbour [m], and whether flowering at another time excuses it.

    `time_margin_days`: days that must lie between; None takes the margin of the whole check.
    """

    kind: str
    metres: float
    time_allowed: bool = False
    source: str | None = None
    time_margin_days: int | None = None


@dataclass(frozen=True, slots=True)
class Flowering:
    """Days `[start, end)` in which a crop flowers."""

    start: date
    end: date


@dataclass(frozen=True, slots=True)
class Neighbour:
    """A neighbour's outline [m], its kind, and when it flowers if known."""

    id: str
    polygon: Sequence[Sequence[float]]
    kind: str
    flowering: Flowering | None = None


@dataclass(frozen=True, slots=True)
class Breach:
    """A neighbour nearer than its rule asks: metres found, asked and short; days between flowerings."""

    id: str
    distance_m: float
    required_m: float
    short_m: float
    time_separated: bool | None = None
    days_apart: int | None = None


@dataclass(frozen=True, slots=True)
class Isolation:
    """Breaches, those that the dates excuse, and the part of the field that keeps every distance.

    `plantable`: polygons as lists of closed rings, the outer ring first.
    """

    breaches: tuple[Breach, ...]
    plantable_area_m2: float
    plantable: tuple[tuple[tuple[Point, ...], ...], ...]
    excused: tuple[Breach, ...] = ()
    distances_m: Mapping[str, float] | None = None
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


def days_apart(one: Flowering, other: Flowering) -> int:
    """Whole days between two flowerings; 0 where they meet or overlap.

    >>> days_apart(Flowering(date(2027, 7, 1), date(2027, 7, 11)), Flowering(date(2027, 7, 21), date(2027, 8, 1)))
    10
    """
    return max(0, (other.start - one.end).days, (one.start - other.end).days)


def rule_for(kind: str, rules: Sequence[Rule]) -> Rule | None:
    """The largest rule that matches a kind of neighbour."""
    return max((rule for rule in rules if rule.kind == kind), key=lambda rule: rule.metres, default=None)


def shortest_way(one: Sequence[Sequence[float]], other: Sequence[Sequence[float]]) -> tuple[Point, Point]:
    """The two points at which two outlines are nearest [m]."""
    a, b = nearest_points(polygon(one, "field"), polygon(other, "neighbours"))
    return (float(a.x), float(a.y)), (float(b.x), float(b.y))


Parts = Sequence[Sequence[Sequence[Sequence[float]]]]


def shape_of(parts: Parts) -> Any:
    """Parts as one piece of ground."""
    return unary_union([Polygon(rings[0], list(rings[1:])) for rings in parts])


def common_parts(one: Parts, other: Parts) -> tuple[tuple[tuple[tuple[Point, ...], ...], ...], float]:
    """What two sets of parts have in common, as parts, and its area [m²].

    >>> common_parts([[[(0, 0), (20, 0), (20, 10), (0, 10)]]], [[[(15, 0), (40, 0), (40, 10), (15, 10)]]])[1]
    50.0
    """
    both = shape_of(one).intersection(shape_of(other))
    return _rings(both), float(both.area)


def parts_without(whole: Parts, less: Parts) -> tuple[tuple[tuple[Point, ...], ...], ...]:
    """Some parts less others, as parts; what is narrower than a hand is no part.

    >>> len(parts_without([[[(0, 0), (20, 0), (20, 10), (0, 10)]]], [[[(5, -1), (15, -1), (15, 11), (5, 11)]]]))
    2
    """
    left = shape_of(whole).difference(shape_of(less))
    return _rings(left.buffer(-HAND_M / 2, join_style="mitre").buffer(HAND_M / 2, join_style="mitre"))


def distance_from_parts(parts: Parts, other: Sequence[Sequence[float]]) -> float:
    """Edge-to-edge distance of what is left of a field [m]: parts as lists of rings, the outer ring first.

    >>> left = [[[(0, 0), (20, 0), (20, 100), (0, 100)]]]
    >>> distance_from_parts(left, [(520, 0), (600, 0), (600, 100)])
    500.0
    """
    return float(shape_of(parts).distance(polygon(other, "neighbours")))


LEFT_SLACK_M = 0.02  # the edge of a strip is an arc of short straight pieces, and was kept in degrees


def not_cured(
    breaches: Sequence[Breach], *, left: Parts, outlines: Mapping[str, Sequence[Sequence[float]]]
) -> tuple[Breach, ...]:
    """The breaches that what is left of a field still has; all of them where nothing was left out (`left` empty).

    >>> near = Breach("n", 420, 500, 80)
    >>> len(not_cured([near], left=[], outlines={}))
    1
    >>> left = [[[(0, 0), (20, 0), (20, 100), (0, 100)]]]
    >>> not_cured([near], left=left, outlines={"n": [(520, 0), (600, 0), (600, 100)]})
    ()
    """
    if not left:
        return tuple(breaches)
    return tuple(b for b in breaches if distance_from_parts(left, outlines[b.id]) < b.required_m - LEFT_SLACK_M)


def band(ring: Sequence[Sequence[float]], metres: float) -> tuple[Point, ...]:
    """The line that runs `metres` outside an outline [m]."""
    grown = polygon(ring, "field").buffer(metres, quad_segs=24)
    return tuple((float(x), float(y)) for x, y in grown.exterior.coords)


def isolation(
    *,
    field: Sequence[Sequence[float]],
    neighbours: Sequence[Neighbour],
    rules: Sequence[Rule],
    flowering: Flowering | None = None,
    time_margin_days: int = 0,
) -> Isolation:
    """Compare edge-to-edge distances with the rules, and cut off what is too near.

    Outlines are rings [x east, y north] [m]. The largest rule for a neighbour's kind counts. A
    neighbour nearer than asked is a breach, unless its rule accepts time and both flowerings are
    known and lie at least `time_margin_days` apart; then it is listed as excused. Raises Refused for
    a kind without a rule. Source: the rules carry their own.

    >>> block = [(0, 0), (100, 0), (100, 100), (0, 100)]
    >>> other = Neighbour("n", [(520, 0), (600, 0), (600, 100), (520, 100)], "other cultivar")
    >>> result = isolation(field=block, neighbours=[other], rules=[Rule("other cultivar", 500)])
    >>> result.breaches[0].short_m, round(result.plantable_area_m2)
    (80.0, 2000)
    """
    own = polygon(field, "field")
    shapes = {index: polygon(n.polygon, f"neighbours.{index}.polygon") for index, n in enumerate(neighbours)}
    missing = [
        FieldError(
            f"neighbours.{index}.kind",
            "no_rule",
            f"No rule says how far “{n.kind}” must be. Add one, or choose another kind.",
        )
        for index, n in enumerate(neighbours)
        if rule_for(n.kind, rules) is None
    ]
    if missing:
        raise Refused(missing)
    breaches: list[Breach] = []
    excused: list[Breach] = []
    cut: list[Any] = []
    distances: dict[str, float] = {}
    steps: list[Step] = []
    for index, neighbour in enumerate(neighbours):
        rule = rule_for(neighbour.kind, rules)
        if rule is None:  # told above
            continue
        distance = float(own.distance(shapes[index]))
        distances[neighbour.id] = distance
        steps.append(
            Step(
                f"Distance to {neighbour.id}",
                "shortest way between the outlines",
                (Given(f"asked from {neighbour.kind}", rule.metres, "m", source=rule.source),),
                distance,
                "m",
            )
        )
        if distance >= rule.metres - 1e-9:
            continue
        apart = None if flowering is None or neighbour.flowering is None else days_apart(flowering, neighbour.flowering)
        # A margin of nothing still asks that the two do not flower on the same day.
        margin = time_margin_days if rule.time_margin_days is None else rule.time_margin_days
        separated = None if apart is None else apart >= margin and not _meet(flowering, neighbour.flowering)
        breach = Breach(neighbour.id, distance, rule.metres, rule.metres - distance, separated, apart)
        if separated and rule.time_allowed:
            excused.append(breach)
            continue
        breaches.append(breach)
        cut.append(shapes[index].buffer(rule.metres, quad_segs=ARC))
    left = own.difference(unary_union(cut)) if cut else own
    area = float(left.area)
    steps.append(
        Step(
            "May be planted",
            "field less what lies nearer than asked",
            (computed("field", float(own.area), "m²"),),
            area,
            "m²",
        )
    )
    return Isolation(tuple(breaches), area, _rings(left), tuple(excused), distances, tuple(steps))


def _meet(one: Flowering | None, other: Flowering | None) -> bool:
    return one is None or other is None or (one.start < other.end and other.start < one.end)


def _rings(shape: Any) -> tuple[tuple[tuple[Point, ...], ...], ...]:
    parts = [part for part in getattr(shape, "geoms", [shape]) if isinstance(part, Polygon) and not part.is_empty]
    return tuple(
        tuple(tuple((float(x), float(y)) for x, y in ring.coords) for ring in (part.exterior, *part.interiors))
        for part in parts
    )
