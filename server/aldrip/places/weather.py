"""The weather of a site: files of days are read, a forecast gives way to what was read, and a stand-in for a service ships."""

import re
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.days import read_day as read_day_text
from aldrip.base.errors import FieldError, Refused, refuse
from aldrip.base.importing import Table
from aldrip.base.words import plural
from aldrip.places.models import Site, WeatherDay
from aldrip_core import refusal
from aldrip_core.schedule import Climate, year_of_means
from aldrip_core.weather import FORECAST_DAYS, DayRead, check_climate, read_day, simulated

#: Headings by what they mean, in small letters without what stands in brackets.
HEADINGS = {
    "day": ("day", "date"),
    "low_c": ("low", "lowest", "min", "minimum"),
    "mean_c": ("mean", "average"),
    "high_c": ("high", "highest", "max", "maximum"),
}
MOST_FAULTS = 20
SERVICE_DAYS = 10


@dataclass(frozen=True)
class Taken:
    """What a file brought."""

    read: int
    forecast: int


def _number(field: str, text: str) -> float | None:
    bare = re.sub(r"\s*°?\s*C?$", "", text.strip()).replace("−", "-").replace(",", ".")
    if not bare:
        return None
    try:
        return float(bare)
    except ValueError:
        raise refuse(field, "unreadable", f"“{text}” is no temperature.") from None


def days_of(table: Table, today: date) -> list[DayRead]:
    """The days of a table. Raises Refused with what is wrong in which row, at most twenty of them."""
    bare = [re.sub(r"[\[(].*", "", one).replace("°C", "").strip().lower() for one in table.headings]
    at = {name: next((n for n, one in enumerate(bare) if one in words), None) for name, words in HEADINGS.items()}
    missing = [words[1] for name, words in HEADINGS.items() if at[name] is None and name != "mean_c"]
    if missing:
        told = f"There is no column {' and none '.join(missing)}. The headings are date, lowest, highest and, if known, mean, in °C."
        raise refuse("file", "headings", told)
    found: dict[date, DayRead] = {}
    faults: list[FieldError] = []
    for row, line in zip(table.rows, table.lines, strict=True):
        cell = {name: row[n] for name, n in at.items() if n is not None}
        try:
            day = read_day_text(cell["day"], "day")
            low, mean, high = (_number(name, cell.get(name, "")) for name in ("low_c", "mean_c", "high_c"))
            one = read_day(day, low_c=low, mean_c=mean, high_c=high, today=today)
            if day in found and found[day] != one:
                raise refuse("day", "twice", f"{day} stands there twice, with other temperatures.")
            found[day] = one
        except (Refused, refusal.Refused) as wrong:
            faults += [FieldError(f"rows.{line}.{e.field}", e.code, f"Row {line}: {e.message}") for e in wrong.errors]
        if len(faults) >= MOST_FAULTS:
            break
    if faults:
        raise Refused(faults)
    return sorted(found.values(), key=lambda one: one.day)


@act
def take_days(ctx: Ctx, site_id: Ref, days: Sequence[DayRead]) -> Taken:
    """Keep days of weather: the newer forecast wins, and what was read wins over any forecast.

    A forecast that starts later than tomorrow leaves the days before it as they are.
    """
    site = ctx.get(Site, site_id, lock=True)
    if not days:
        raise refuse("file", "empty", "There is no day in it.")
    check_climate(year_of_means(Climate(tuple(site.monthly_c))), days, site.name)
    read = [one for one in days if not one.forecast]
    ahead = [one for one in days if one.forecast]
    kept = WeatherDay.objects.filter(site=site)
    if ahead:  # another forecast takes the place of the last, as far as that went
        kept.filter(forecast=True, day__gte=ahead[0].day).delete()
    was = {row.day: row for row in kept.filter(day__in=[one.day for one in days])}
    fresh: list[WeatherDay] = []
    changed: list[WeatherDay] = []
    for one in days:
        row = was.get(one.day) or WeatherDay(organisation=ctx.organisation, site=site, day=one.day)
        row.low_c, row.mean_c, row.high_c, row.forecast = one.low_c, one.mean_c, one.high_c, one.forecast
        (changed if one.day in was else fresh).append(row)
    WeatherDay.objects.bulk_create(fresh)
    WeatherDay.objects.bulk_update(changed, ["low_c", "mean_c", "high_c", "forecast"])
    site.weather_as = uuid.uuid4()
    site.save(update_fields=["weather_as"])
    told = [
        f"{plural(len(read), 'day')} read, up to {read[-1].day}" if read else "",
        f"{plural(len(ahead), 'day')} forecast, up to {ahead[-1].day}" if ahead else "",
    ]
    ctx.record("places.weather", f"Weather of {site.name}: {' and '.join(t for t in told if t)}.", site)
    return Taken(len(read), len(ahead))


@act
def drop_forecast(ctx: Ctx, site_id: Ref) -> int:
    """Let go of what is forecast; what was read stays. How many days went."""
    site = ctx.get(Site, site_id, lock=True)
    gone, _ = WeatherDay.objects.filter(site=site, forecast=True, day__gt=ctx.today).delete()
    if gone:
        site.weather_as = uuid.uuid4()
        site.save(update_fields=["weather_as"])
        ctx.record("places.weather", f"Weather of {site.name}: the forecast let go, {plural(gone, 'day')}.", site)
    return gone


def simulated_forecast(ctx: Ctx, site: Site) -> list[DayRead]:
    """The next days as the stand-in for a weather service tells them: the same all day long, others tomorrow."""
    if ctx.organisation.practice_date is None:
        why = "Invented weather is for a practice clock only: here plants would be sown by it. Bring a file instead."
        raise refuse("forecast", "not_practice", why)
    seed = (site.pk * 100_003 + ctx.today.toordinal()) % 2**32
    monthly = year_of_means(Climate(tuple(site.monthly_c)))
    first = ctx.today + timedelta(days=1)
    told = simulated(monthly, swing_c=site.daily_swing_c, first=first, days=SERVICE_DAYS, seed=seed)
    return [DayRead(one.day, one.low_c, one.mean_c, one.high_c, True) for one in told]


def shown(ctx: Ctx, site: Site) -> list[WeatherDay]:
    """Days from four weeks back to the end of the forecast."""
    since, until = ctx.today - timedelta(weeks=4), ctx.today + timedelta(days=FORECAST_DAYS)
    return list(ctx.rows(WeatherDay).filter(site=site, day__gte=since, day__lte=until))
