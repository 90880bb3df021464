"""Outlines between the globe and the ground: GeoJSON in WGS84 outside, metres round the site inside."""

from collections.abc import Iterator, Sequence
from typing import Any

from aldrip.base.errors import refuse
from aldrip.places.models import Place, Site
from aldrip_core.geometry import MOST_CORNERS, Point, fewer_corners, open_ring, to_degrees, to_metres

FAR_DEGREES = 0.5  # farther from its site than this, an outline is a slip of the pen


def centre_of(site: Site) -> tuple[float, float]:
    """Longitude and latitude round which a site is measured."""
    return site.longitude or 0.0, site.latitude


def ring_of(site: Site, outline: Any, field: str, *, stored: bool = False) -> tuple[Point, ...]:
    """The outer ring of a GeoJSON Polygon (or of a Feature with one) in metres round its site. Raises Refused.

    A `stored` outline of too many corners is drawn coarser rather than refused.
    """
    east, north = centre_of(site)
    ring = to_metres(open_degrees(site, outline, field), longitude=east, latitude=north)
    return fewer_corners(ring, at_most=MOST_CORNERS) if stored else ring


def open_degrees(site: Site, outline: Any, field: str) -> list[tuple[float, float]]:
    """The corners of a GeoJSON Polygon in degrees, without the closing repeat, judged. Raises Refused."""
    shape = outline.get("geometry", outline) if isinstance(outline, dict) else None
    if isinstance(shape, dict) and shape.get("type") == "MultiPolygon" and len(shape.get("coordinates") or []) == 1:
        shape = {"type": "Polygon", "coordinates": shape["coordinates"][0]}
    if not isinstance(shape, dict) or shape.get("type") != "Polygon" or not shape.get("coordinates"):
        raise refuse(field, "not_geojson", "A GeoJSON polygon is wanted, with longitude and latitude of each corner.")
    if len(shape["coordinates"]) > 1:
        raise refuse(
            field, "has_holes", "The outline has a hole in it. Enter the outer edge alone, or split the field in two."
        )
    try:
        ring = [(float(p[0]), float(p[1])) for p in shape["coordinates"][0]]
    except (TypeError, ValueError, IndexError):
        raise refuse(field, "not_geojson", "A corner is not written as [longitude, latitude].") from None
    corners = list(open_ring(ring, field))
    east, north = centre_of(site)
    for lon, lat in corners:
        if abs(lon - east) > FAR_DEGREES or abs(lat - north) > FAR_DEGREES:
            raise refuse(
                field,
                "far_away",
                f"The corner {lon:.4f}, {lat:.4f} lies far from {site.name} at {east:.4f}, {north:.4f}. GeoJSON writes longitude first; the site's own place is set in Places.",
            )
    return corners


def lies_far(site: Site, outline: Any) -> bool:
    """Whether an outline that is kept lies farther from its site than one may that is entered."""
    east, north = centre_of(site)
    return any(abs(lon - east) > FAR_DEGREES or abs(lat - north) > FAR_DEGREES for lon, lat in _corners(outline))


def _corners(shape: Any) -> Iterator[tuple[float, float]]:
    coordinates = shape.get("geometry", shape).get("coordinates", ()) if isinstance(shape, dict) else shape
    if coordinates and isinstance(coordinates[0], int | float):
        yield float(coordinates[0]), float(coordinates[1])
        return
    for inner in coordinates:
        yield from _corners(inner)


def moved_with(shape: Any, was: tuple[float, float], now: tuple[float, float]) -> Any:
    """GeoJSON, or bare coordinates, as far from the new place of a site (longitude, latitude) as it was from the old one."""
    if isinstance(shape, dict):
        name = "geometry" if "geometry" in shape else "coordinates"
        return {**shape, name: moved_with(shape[name], was, now)}
    if shape and isinstance(shape[0], int | float):
        metres = to_metres([(shape[0], shape[1])], longitude=was[0], latitude=was[1])
        lon, lat = to_degrees(metres, longitude=now[0], latitude=now[1])[0]
        return [round(lon, 7), round(lat, 7)]
    return [moved_with(inner, was, now) for inner in shape]


def polygon_of(site: Site, ring: Sequence[Point]) -> dict[str, Any]:
    """A ring in metres round a site as a GeoJSON Polygon, closed, seven decimals (a centimetre)."""
    east, north = centre_of(site)
    corners = [[round(lon, 7), round(lat, 7)] for lon, lat in to_degrees(ring, longitude=east, latitude=north)]
    return {"type": "Polygon", "coordinates": [[*corners, corners[0]]]}


def corners_of(place: Place) -> list[tuple[float, float]] | None:
    """The corners of a place's outline in whole decimetres, metres east and north of its site; None where it has none."""
    if not place.outline:
        return None
    east, north = centre_of(place.site)
    ring = list(_corners(place.outline))
    corners = [(round(x, 1), round(y, 1)) for x, y in to_metres(ring, longitude=east, latitude=north)]
    return corners[:-1] if len(corners) > 1 and corners[0] == corners[-1] else corners
