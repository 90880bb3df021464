"""What the forecast threatens: frost where plants stand, heat in which seed rests."""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from django.db.models import Exists, OuterRef

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.base.errors import refuse
from aldrip.base.words import day, plural
from aldrip.batches.models import Batch, Occupancy
from aldrip.diary.models import Task
from aldrip.methods.models import MethodStage
from aldrip.places.climate import climate_of
from aldrip.places.models import Place, Site, WeatherDay
from aldrip_core.schedule import kept_at, peak_on
from aldrip_core.stages import Trait
from aldrip_core.weather import FROST_C, FrostSpell, Spell, Stay, frosts, heats

COVER, SHADE = "cover", "shade"
COVER_MINUTES = 30
CAUTION = "Ice on paths and wet sheets: watch your step, and lift sheets by two."
HOT = "Work in the heat: early or late in the day, with water at hand; ladders and roofs only by two."


@dataclass(frozen=True)
class Frost:
    """A run of nights in which it freezes where plants stand: in which places, how many batches, the coldest there [°C]."""

    site: Site
    first: date
    last: date
    worst_c: float
    places: tuple[Place, ...]
    batches: int


def days_ahead(ctx: Ctx) -> list[WeatherDay]:
    """What is known of today and is forecast, of every site."""
    return list(ctx.rows(WeatherDay).filter(day__gte=ctx.today).order_by("day"))


def frosts_ahead(ctx: Ctx, ahead: Sequence[WeatherDay] | None = None) -> list[Frost]:
    """Nights of the forecast, and the next one, in which plants would freeze."""
    ahead = days_ahead(ctx) if ahead is None else ahead
    if not ahead:
        return []
    lowest = min(row.low_c for row in ahead)
    places = {place.pk: place for place in ctx.rows(Place).select_related("site")}
    warmer = min([0.0, *(excess for place in places.values() for excess in _excesses(place))])
    if lowest + warmer > FROST_C:  # on most days in most places: nothing more is asked
        return []
    low: dict[tuple[int, date], float] = {}
    for row in ahead:
        for place in places.values():
            if place.site_id == row.site_id and (there := kept_at(climate_of(place), row.low_c, row.day)) <= FROST_C:
                low[place.pk, row.day] = there
    if not low:
        return []
    stays = list(_standing(ctx, {pk for pk, _ in low}, {night for _, night in low}))
    by_site: dict[int, list[Stay]] = defaultdict(list)
    for stay in stays:
        by_site[places[stay.place].site_id].append(stay)
    return [_frost(places, one) for site in by_site for one in frosts(low, by_site[site])]


def _excesses(place: Place) -> list[float]:
    return [place.excess_c, *(part["excess_c"] for part in place.parts)]


def _standing(ctx: Ctx, places: set[int], days: set[date]) -> Iterable[Stay]:
    """Stays of the plants that stand in these places meanwhile: sown ones, and what is to come by then."""
    rows = (
        Occupancy.objects.filter(
            place__organisation=ctx.organisation,
            place__in=places,
            during__overlap=(min(days), max(days) + timedelta(days=1)),
            stage__actual_end=None,
            stage__batch__method__way="plants",
            stage__batch__state__in=(Batch.State.PLANNED, Batch.State.SOWN, Batch.State.READY),
        )
        .order_by("stage__batch", "place")
        .values_list("stage__batch", "place", "during")
    )
    return (Stay(batch, place, during.lower, during.upper) for batch, place, during in rows)


def _frost(places: dict[int, Place], one: FrostSpell) -> Frost:
    cold = tuple(sorted((places[pk] for pk in one.places), key=lambda place: (place.order, place.pk)))
    return Frost(cold[0].site, one.spell.first, one.spell.last, one.spell.worst_c, cold, len(one.batches))


def _days(first: date, last: date) -> str:
    """“on Tue 6 Jul”, “from Tue 6 to Thu 8 Jul”."""
    end = f"{last:%a} {last.day} {last:%b}"
    if first == last:
        return f"on {end}"
    return f"from {first:%a} {first.day}{'' if first.month == last.month else f' {first:%b}'} to {end}"


def _names(places: Sequence[str]) -> str:
    more = f" and {len(places) - 3} more" if len(places) > 3 else ""
    return ", ".join(places[:3]) + more


def covered(ctx: Ctx, frost: Frost) -> bool:
    """Whether covering stands on the day sheet for it, or was done."""
    rows = ctx.rows(Task).filter(kind=COVER, subject=frost.site.uuid, due_from__lte=frost.first, due_to__gt=frost.last)
    return rows.exclude(state=Task.State.NOT_DONE).exists()


def _known(look: Look) -> list[WeatherDay]:
    if "weather" not in look.once:
        look.once["weather"] = days_ahead(look.ctx)
    found: list[WeatherDay] = look.once["weather"]
    return found


@asks(
    frost=lambda d: Words(
        f"frost in {d['site']}",
        f"{_degrees(d['worst'])} is forecast {_days(d['first'], d['last'])} where {plural(int(d['batches']), 'batch', 'batches')} "
        f"{'stands' if d['batches'] == 1 else 'stand'}: {d['places']}.",
        "Cover, or take in",
    )
)
def frost(look: Look) -> Iterable[Decision]:
    """Frost that is forecast where plants stand, until covering stands on the day sheet."""
    for one in frosts_ahead(look.ctx, _known(look)):
        if not covered(look.ctx, one):
            data = {"site": one.site.name, "first": one.first, "last": one.last, "worst": one.worst_c}
            data |= {"batches": one.batches, "places": _names([place.name for place in one.places])}
            yield Decision("places", "frost", one.site.name, data, "/places?weather=1", one.first)


def _degrees(value: float) -> str:
    return f"{value:.0f} °C".replace("-", "−")


@dataclass(frozen=True)
class Heat:
    """Days on which a batch's seed rests because of the heat where it lies."""

    batch: Batch
    place: Place
    ceiling_c: float
    spell: Spell


def heat_ahead(ctx: Ctx, ahead: Sequence[WeatherDay]) -> list[Heat]:
    """Seed that lies, or is to lie, hotter than it comes up, by what is forecast."""
    last = max((row.day for row in ahead if row.day > ctx.today), default=None)
    if last is None:
        return []
    emerging = MethodStage.objects.filter(
        method=OuterRef("stage__batch__method"),
        key=OuterRef("stage__key"),
        traits__contains=[Trait.EMERGES.value],
    )
    rows = (
        Occupancy.objects.filter(
            place__organisation=ctx.organisation,
            during__overlap=(ctx.today, last + timedelta(days=1)),
            stage__actual_end=None,
            stage__batch__state__in=(Batch.State.PLANNED, Batch.State.SOWN),
        )
        .filter(Exists(emerging))
        .select_related("stage__batch__crop", "place__site")
    )
    found = []
    for row in rows.order_by("stage__batch", "during"):
        stages = row.stage.batch.method_snapshot["stages"]
        own: dict[str, Any] = next((one for one in stages if one["key"] == row.stage.key), {})
        ceiling = own.get("ceiling_c")
        if ceiling is None or Trait.EMERGES.value not in own.get("traits", ()):
            continue
        first, end = max(row.during.lower, ctx.today), min(row.during.upper, last + timedelta(days=1))
        climate = climate_of(row.place)
        span = [first + timedelta(days=n) for n in range((end - first).days)]
        known = {d: peak_on(climate, d) for d in span if climate.weather and climate.weather.at(d) is not None}
        found += [Heat(row.stage.batch, row.place, ceiling, spell) for spell in heats(known, ceiling_c=ceiling)[:1]]
    return found


@asks(
    heat=lambda d: Words(
        f"{d['batch']} too hot",
        f"Up to {_degrees(d['worst'])} in {d['place']} {_days(d['first'], d['last'])}: {d['crop']} {d['batch']} rests above "
        f"{_degrees(d['ceiling'])}.",
        "Shade, or another day",
        d["stands"],
    )
)
def heat(look: Look) -> Iterable[Decision]:
    """Seed that would rest in the heat that is forecast."""
    from aldrip.batches.deciding import promise_of

    ahead = heat_ahead(look.ctx, _known(look))
    done = shaded(look.ctx, ahead)
    for one in ahead:
        if one in done:
            continue
        data = {
            "batch": one.batch.code,
            "crop": one.batch.crop.name,
            "place": one.place.name,
            "worst": one.spell.worst_c,
        }
        data |= {"first": one.spell.first, "last": one.spell.last, "ceiling": one.ceiling_c}
        data["stands"] = promise_of(look, one.batch.pk)
        yield Decision("batches", "heat", one.batch.code, data, "/places?weather=1", one.spell.first)


def shaded(ctx: Ctx, heats: Sequence[Heat]) -> set[Heat]:
    """Those of them for which shading stands on the day sheet, or was done; one question for all."""
    if not heats:
        return set()
    rows = ctx.rows(Task).filter(kind=SHADE, due_to__gt=ctx.today).exclude(state=Task.State.NOT_DONE)
    tasks: dict[tuple[Any, str], list[tuple[date, date]]] = defaultdict(list)
    for site, code, since, until in rows.values_list("subject", "subject_code", "due_from", "due_to"):
        tasks[site, code].append((since, until))
    return {
        one
        for one in heats
        for since, until in tasks.get((one.place.site.uuid, one.batch.code), ())
        if since <= one.spell.first and until > one.spell.last
    }


@act
def put_shading(ctx: Ctx, site_id: Ref, batch_id: Ref) -> Task:
    """Put shading and cooling, for seed that would rest in the heat that is forecast, on the day sheet of its first morning."""
    site, batch = ctx.get(Site, site_id, lock=True), ctx.get(Batch, batch_id)
    ahead = [
        one for one in heat_ahead(ctx, days_ahead(ctx)) if one.batch.pk == batch.pk and one.place.site_id == site.pk
    ]
    if not ahead:
        told = f"No heat is forecast in which {batch.code} would rest. Look at the weather again."
        raise refuse("batch_id", "no_heat", told)
    done = shaded(ctx, ahead)
    found = next((one for one in ahead if one not in done), None)
    if found is None:
        raise refuse("batch_id", "there", "Shading for it stands on the day sheet already.")
    title = f"Shade and cool {found.place.name}, {_degrees(found.spell.worst_c)} ahead: {batch.crop.name} {batch.code}"
    task = Task.objects.create(
        organisation=ctx.organisation,
        subject_kind="site",
        subject=site.uuid,
        subject_code=batch.code,
        kind=SHADE,
        title=title[:200],
        place=found.place,
        due_from=found.spell.first,
        due_to=found.spell.last + timedelta(days=1),
        part_of_day="morning",
        minutes=COVER_MINUTES,
        caution=HOT,
    )
    ctx.record("places.shade", f"On the day sheet: {task.title}.", site)
    return task


@act
def put_covering(ctx: Ctx, site_id: Ref, first: date) -> Task:
    """Put covering for the frost that begins on a night on the day sheet, in the afternoon before it."""
    site = ctx.get(Site, site_id, lock=True)
    found = next((one for one in frosts_ahead(ctx) if one.site.pk == site.pk and one.first == first), None)
    if found is None:
        raise refuse(
            "first",
            "no_frost",
            f"No frost is forecast from {day(first)} on where plants stand. Look at the weather again.",
        )
    if covered(ctx, found):
        raise refuse("first", "there", "Covering for it stands on the day sheet already.")
    task = Task.objects.create(
        organisation=ctx.organisation,
        subject_kind="site",
        subject=site.uuid,
        subject_code="",
        kind=COVER,
        title=f"Cover against frost, {_degrees(found.worst_c)}: {_names([place.name for place in found.places])}"[:200],
        place=found.places[0] if len(found.places) == 1 else None,
        due_from=found.first,
        due_to=found.last + timedelta(days=1),
        part_of_day="afternoon",
        minutes=COVER_MINUTES * len(found.places),
        caution=CAUTION,
    )
    ctx.record("places.cover", f"On the day sheet: {task.title}.", site)
    return task
