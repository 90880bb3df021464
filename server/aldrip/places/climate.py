"""Places in core's terms: their climate."""

from functools import lru_cache

from aldrip.places.models import Place
from aldrip_core.schedule import Climate


@lru_cache(maxsize=512)
def _climate(
    monthly: tuple[float, ...], set_point: float | None, excess: float, swing: float, cooled: float | None
) -> Climate:
    return Climate(monthly, set_point, excess, swing, cooled)


def climate_of(place: Place) -> Climate:
    """The temperatures of a place: its site's months with its own heating, cooling and excess."""
    site = place.site
    return _climate(tuple(site.monthly_c), place.set_point_c, place.excess_c, site.daily_swing_c, place.cooled_to_c)
