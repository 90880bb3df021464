"""Outlines on the ground: rings of [x east, y north] in metres, and their place on the globe."""

import math
from collections.abc import Iterable, Sequence
from functools import lru_cache

from pyproj import Transformer
from shapely import Polygon
from shapely.validation import explain_validity

from aldrip_core.refusal import refuse

Point = tuple[float, float]
Ring = Sequence[Point]
MOST_READ = 5_000  # corners of an outline as it comes in
MOST_CORNERS = 250  # that matter: what a wider band round an outline costs grows with their square
FINE_M = 0.05  # a corner that moves the edge by less than this does not matter
FAR_M = 1e6  # farther than this from the origin is no field, but degrees or a slip of the pen


def open_ring(ring: Iterable[Sequence[float]], field: str = "outline") -> tuple[Point, ...]:
    """Corners without the closing repeat. Raises Refused for fewer than three corners or no number."""
    corners = [(float(p[0]), float(p[1])) for p in ring]
    if len(corners) > 1 and corners[0] == corners[-1]:
        corners.pop()
    if len(corners) < 3:
        raise refuse(field, "too_few", f"An outline has at least three corners; {len(corners)} were given.")
    if len(corners) > MOST_READ:
        raise refuse(field, "too_large", f"{len(corners):,} corners are more than the {MOST_READ:,} taken here.")
    if any(not math.isfinite(v) or abs(v) > FAR_M for p in corners for v in p):
        raise refuse(field, "out_of_range", "A corner lies more than 1 000 km from the origin. Enter metres.")
    return tuple(corners)


def polygon(ring: Iterable[Sequence[float]], field: str = "outline") -> Polygon:
    """The outline as a polygon with an area. Raises Refused where it crosses itself or encloses nothing."""
    found = Polygon(fewer_corners(open_ring(ring, field)))
    many = len(found.exterior.coords) - 1
    if many > MOST_CORNERS:
        raise refuse(
            field,
            "too_large",
            f"{many:,} corners are left when those that move the edge by less than {FINE_M * 100:g} cm are left out; "
            f"at most {MOST_CORNERS} are taken. Draw the outline more plainly.",
        )
    if not found.is_valid:
        reason = explain_validity(found).split("[")[0].strip().lower()
        raise refuse(
            field,
            "not_a_field",
            f"The outline crosses or touches itself ({reason}). Enter the corners in order round the field.",
        )
    if found.area < 1e-6:
        raise refuse(field, "not_a_field", "The outline encloses nothing. Check the corners.")
    return found


def fewer_corners(ring: Ring, *, at_most: int | None = None) -> tuple[Point, ...]:
    """An outline of many corners without those that hardly matter [m]; one of few stays as it is.

    With `at_most` the outline is drawn coarser and coarser until that many are left: for outlines that were
    stored and must not hold anybody up.

    >>> many = [(n / 10, 0.0) for n in range(1000)] + [(100.0, 50.0), (0.0, 50.0)]
    >>> fewer_corners(many)
    ((0.0, 0.0), (99.9, 0.0), (100.0, 50.0), (0.0, 50.0))
    """
    corners = tuple((float(p[0]), float(p[1])) for p in ring)
    tolerance = FINE_M
    while len(corners) > (at_most or MOST_CORNERS):
        drawn: Polygon = Polygon(corners).simplify(tolerance)  # type: ignore[assignment]
        found = drawn.exterior.coords[:-1]
        if len(found) >= 3:
            corners = tuple((float(x), float(y)) for x, y in found)
        if at_most is None or len(found) < 3:
            break
        tolerance *= 2
    return corners


def area_m2(ring: Iterable[Sequence[float]]) -> float:
    """Area inside an outline [m²]."""
    return float(polygon(ring).area)


@lru_cache(maxsize=64)
def _to_ground(longitude: float, latitude: float) -> tuple[Transformer, Transformer]:
    # Transverse Mercator round the site: within 40 km its scale is off by less than 1 in 50 000.
    ground = f"+proj=tmerc +lat_0={latitude} +lon_0={longitude} +k=1 +x_0=0 +y_0=0 +ellps=WGS84 +units=m"
    globe = "EPSG:4326"
    return (
        Transformer.from_crs(globe, ground, always_xy=True),
        Transformer.from_crs(ground, globe, always_xy=True),
    )


def to_metres(points: Iterable[Sequence[float]], *, longitude: float, latitude: float) -> tuple[Point, ...]:
    """[longitude, latitude] points in metres east and north of a centre (degrees, WGS84)."""
    forward, _ = _to_ground(longitude, latitude)
    return tuple((float(x), float(y)) for x, y in (forward.transform(p[0], p[1]) for p in points))


def to_degrees(points: Iterable[Sequence[float]], *, longitude: float, latitude: float) -> tuple[Point, ...]:
    """Metres round a centre back to [longitude, latitude] (degrees, WGS84)."""
    _, back = _to_ground(longitude, latitude)
    return tuple((float(x), float(y)) for x, y in (back.transform(p[0], p[1]) for p in points))
