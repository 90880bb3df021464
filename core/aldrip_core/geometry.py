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
MOST_CORNERS = 5_000
FAR_M = 1e6  # farther than this from the origin is no field, but degrees or a slip of the pen


def open_ring(ring: Iterable[Sequence[float]], field: str = "outline") -> tuple[Point, ...]:
    """Corners without the closing repeat. Raises Refused for fewer than three corners or no number."""
    corners = [(float(p[0]), float(p[1])) for p in ring]
    if len(corners) > 1 and corners[0] == corners[-1]:
        corners.pop()
    if len(corners) < 3:
        raise refuse(field, "too_few", f"An outline has at least three corners; {len(corners)} were given.")
    if len(corners) > MOST_CORNERS:
        raise refuse(field, "too_large", f"{len(corners):,} corners are more than the {MOST_CORNERS:,} taken here.")
    if any(not math.isfinite(v) or abs(v) > FAR_M for p in corners for v in p):
        raise refuse(field, "out_of_range", "A corner lies more than 1 000 km from the origin. Enter metres.")
    return tuple(corners)


def polygon(ring: Iterable[Sequence[float]], field: str = "outline") -> Polygon:
    """The outline as a polygon with an area. Raises Refused where it crosses itself or encloses nothing."""
    found = Polygon(open_ring(ring, field))
    if not found.is_valid:
        reason = explain_validity(found).split("[")[0].strip().lower()
        raise refuse(field, "not_a_field", f"The outline crosses or touches itself ({reason}). Enter the corners in order round the field.")  # fmt: skip
    if found.area < 1e-6:
        raise refuse(field, "not_a_field", "The outline encloses nothing. Check the corners.")
    return found


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
