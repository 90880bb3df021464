"""Places in core's terms: their climate."""

from datetime import timedelta
from functools import lru_cache
from uuid import UUID

from django.db.models import Max

from aldrip.places.models import Place, Site, WeatherDay
from aldrip_core.schedule import Climate, PartOfYear
from aldrip_core.weather import DayRead, Weather

KNOWN_DAYS = 500  # of its weather that plans look at

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
    weather: Weather | None,
) -> Climate:
    frost = _day(last_frost) if last_frost else None
    kept = tuple(PartOfYear(_day(first), _day(last), warm, excess, cool) for first, last, warm, excess, cool in parts)
    return Climate(monthly, set_point, excess, swing, cooled, latitude, *light, frost, kept, weather)


def _day(text: str) -> tuple[int, int]:
    return int(text[:2]), int(text[3:])


@lru_cache(maxsize=64)
def _weather(site: int, known_as: UUID) -> Weather | None:
    """The same object as long as its days are the same: what is reckoned of it is kept by it."""
    del known_as
    rows = WeatherDay.objects.filter(site=site)
    newest = rows.aggregate(day=Max("day"))["day"]
    if newest is None:
        return None
    rows = rows.filter(day__gt=newest - timedelta(days=KNOWN_DAYS))
    return Weather.of(DayRead(*row) for row in rows.values_list("day", "low_c", "mean_c", "high_c", "forecast"))


def weather_of(site: Site) -> Weather | None:
    """What was read at a site and is forecast for it."""
    return None if site.weather_as is None else _weather(site.pk, site.weather_as)


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
        weather_of(site),
    )
