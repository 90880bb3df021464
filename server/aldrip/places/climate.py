"""Places in core's terms: their climate."""

from functools import lru_cache

from aldrip.places.models import Place
from aldrip_core.schedule import Climate, PartOfYear

# Share of daylight that reaches the plants; common practice, no source.
LETS_IN = {"shed": 0.05, "germination": 0.0, "bench": 0.65, "tunnel": 0.70, "hotbed": 0.60, "store": 0.0}


@lru_cache(maxsize=512)
def _climate(
    monthly: tuple[float, ...],
    set_point: float | None,
    excess: float,
    swing: float,
    cooled: float | None,
    latitude: float,
    light: tuple[float, float],
    last_frost: str,
    parts: tuple[tuple[str, str, float | None, float, float | None], ...],
) -> Climate:
    frost = _day(last_frost) if last_frost else None
    kept = tuple(PartOfYear(_day(first), _day(last), warm, excess, cool) for first, last, warm, excess, cool in parts)
    return Climate(monthly, set_point, excess, swing, cooled, latitude, *light, frost, kept)


def _day(text: str) -> tuple[int, int]:
    return int(text[:2]), int(text[3:])


def climate_of(place: Place) -> Climate:
    """Temperatures and light of a place: its site's, with its own heating, cooling, excess, roof and lamps."""
    site = place.site
    lets_in = LETS_IN.get(place.kind, 1.0) if place.lets_in is None else place.lets_in
    return _climate(
        tuple(site.monthly_c),
        place.set_point_c,
        place.excess_c,
        site.daily_swing_c,
        place.cooled_to_c,
        site.latitude,
        (lets_in, place.lamps_mol),
        site.last_frost,
        tuple(
            (one["first"], one["last"], one["set_point_c"], one["excess_c"], one["cooled_to_c"]) for one in place.parts
        ),
    )
