"""The weather of a site over HTTP: days known, files, a forecast, what it threatens."""

from datetime import date
from typing import Any

from ninja import File, Schema
from ninja.files import UploadedFile

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.importing import read_file
from aldrip.base.schemas import Done
from aldrip.base.words import day, plural
from aldrip.batches import weather as threats
from aldrip.places import weather
from aldrip.places.models import Site
from aldrip_core.schedule import Climate, year_of_means

room = Room("places")


class WeatherDayOut(Schema):
    """Temperatures outside [°C]; `usual_c`: the climate's mean of that day."""

    day: date
    low_c: float
    mean_c: float
    high_c: float
    usual_c: float
    forecast: bool


class FrostOut(Schema):
    first: date
    last: date
    worst_c: float
    places: list[str]
    batches: int
    covered: bool


class HeatOut(Schema):
    """Days on which a batch's seed would rest above its ceiling."""

    batch_id: int
    batch: str
    crop: str
    place: str
    first: date
    last: date
    worst_c: float
    ceiling_c: float
    shaded: bool


class WeatherOut(Schema):
    """`read_until`, `forecast_until`: the last days of which something is known."""

    days: list[WeatherDayOut]
    frosts: list[FrostOut]
    heats: list[HeatOut]
    read_until: date | None
    forecast_until: date | None


@room.get("/sites/{ref:site_id}/weather", "see", response=WeatherOut)
def shown(ctx: Ctx, site_id: Ref) -> Any:
    """What was read in the last weeks and is forecast, with the frosts ahead where plants stand and the heat where seed lies."""
    site = ctx.get(Site, site_id)
    usual = year_of_means(Climate(tuple(site.monthly_c)))
    rows = weather.shown(ctx, site)
    days = [
        {
            **{name: getattr(row, name) for name in ("day", "low_c", "mean_c", "high_c")},
            "forecast": row.forecast,
            "usual_c": round(float(usual[row.day.timetuple().tm_yday - 1]), 1),
        }
        for row in rows
    ]
    frosts = [
        {
            "first": one.first,
            "last": one.last,
            "worst_c": one.worst_c,
            "places": [place.name for place in one.places],
            "batches": one.batches,
            "covered": threats.covered(ctx, one),
        }
        for one in threats.frosts_ahead(ctx)
        if one.site.pk == site.pk
    ]
    ahead = [one for one in threats.heat_ahead(ctx, threats.days_ahead(ctx)) if one.place.site_id == site.pk]
    done = threats.shaded(ctx, ahead)
    heats = [
        {
            "batch_id": one.batch.pk,
            "batch": one.batch.code,
            "crop": one.batch.crop.name,
            "place": one.place.name,
            "first": one.spell.first,
            "last": one.spell.last,
            "worst_c": one.spell.worst_c,
            "ceiling_c": one.ceiling_c,
            "shaded": one in done,
        }
        for one in ahead
    ]
    return {
        "days": days,
        "frosts": frosts,
        "heats": heats,
        "read_until": max((row.day for row in rows if not row.forecast), default=None),
        "forecast_until": max((row.day for row in rows if row.forecast), default=None),
    }


def _done(taken: weather.Taken) -> dict[str, Any]:
    told = [plural(taken.read, "day") + " read" if taken.read else ""]
    told.append(plural(taken.forecast, "day") + " forecast" if taken.forecast else "")
    said = " and ".join(one for one in told if one)
    return {"message": f"{said}: plans made or changed from now on reckon with it."}


@room.post("/sites/{ref:site_id}/weather/file", "places.edit", response=Done)
def bring_file(ctx: Ctx, site_id: Ref, file: File[UploadedFile]) -> Any:
    """Days from a CSV or XLSX file: date, lowest, highest and, if known, mean, in °C; all or none."""
    table = read_file(file.name or "", file.read())
    return _done(weather.take_days(ctx, site_id, weather.days_of(table, ctx.today)))


@room.post("/sites/{ref:site_id}/weather/practice", "places.edit", response=Done)
def practice(ctx: Ctx, site_id: Ref) -> Any:
    """Ten days of the simulated weather service, for practice."""
    days = weather.simulated_forecast(ctx, ctx.get(Site, site_id))
    return _done(weather.take_days(ctx, site_id, days))


@room.post("/sites/{ref:site_id}/weather/drop", "places.edit", response=Done)
def drop(ctx: Ctx, site_id: Ref) -> Any:
    """Let the forecast go; what was read stays."""
    gone = weather.drop_forecast(ctx, site_id)
    return {"message": f"{plural(gone, 'day')} of forecast let go." if gone else "There was no forecast."}


class CoverIn(Schema):
    first: date


@room.post("/sites/{ref:site_id}/cover", "diary.do", response=Done)
def cover(ctx: Ctx, site_id: Ref, body: CoverIn) -> Any:
    """Put covering against a frost that is forecast on the day sheet."""
    task = threats.put_covering(ctx, site_id, body.first)
    return {"message": f"On the day sheet for {day(task.due_from)}: {task.title}."}


class ShadeIn(Schema):
    batch_id: Ref


@room.post("/sites/{ref:site_id}/shade", "diary.do", response=Done)
def shade(ctx: Ctx, site_id: Ref, body: ShadeIn) -> Any:
    """Put shading against heat that is forecast, for a batch whose seed would rest in it, on the day sheet."""
    task = threats.put_shading(ctx, site_id, body.batch_id)
    return {"message": f"On the day sheet for {day(task.due_from)}: {task.title}."}
