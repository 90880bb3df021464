"""What was applied where, by the label: nobody is sent in before the hour, nothing of it leaves before the day."""

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any
from uuid import UUID

from django.db.models import Q
from django.utils import timezone

from aldrip.accounts.context import Ctx, act
from aldrip.base.errors import refuse
from aldrip.base.words import day as day_words
from aldrip.diary.models import Application
from aldrip.methods.models import Input
from aldrip.methods.resolver import Library
from aldrip.places.models import Place
from aldrip_core.lock_out import entry_from, harvest_from
from aldrip_core.names import plain
from aldrip_core.stages import Allowed

LATE_DAYS = 60  # after which nobody remembers what was in the tank
SHOWN = 40
#: Rooms above say what stands at a place on a day: uuid and code.
standing: list[Callable[[Ctx, Place, date], Sequence[tuple[UUID, str]]]] = []


@dataclass(frozen=True)
class Applied:
    """What was applied: product, label's rate, amount, reason and operator in words; the label's hours and days."""

    place_id: int
    product: str
    rate: str
    amount: str
    why: str
    operator: str
    active: str = ""
    registration: str = ""
    area: str = ""
    weather: str = ""
    licence: str = ""
    entry_hours: float | None = None
    harvest_days: int | None = None


def _needed(applied: Applied) -> None:
    for name, told in (
        ("product", "What was applied?"),
        ("rate", "What does the label say? Its rate, as it stands there."),
        ("amount", "How much was used, of product and of water?"),
        ("why", "Against what, or what for?"),
        ("operator", "Who applied it?"),
    ):
        if not getattr(applied, name).strip():
            raise refuse(name, "missing", told)


def _not_banned(ctx: Ctx, applied: Applied) -> None:
    """What is banned may have been applied all the same: it is recorded, and never without a word."""
    said = f" {plain(f'{applied.product} {applied.active}')} "
    for one in Library(ctx).rows(Input).filter(allowed__in=(Allowed.BANNED.value, Allowed.OLD.value)):
        if f" {plain(one.active or one.name)} " in said:
            kind = "banned" if one.allowed == Allowed.BANNED.value else "old"
            told = f"{one.name} is {kind} in many countries; check your law. Was it really this?"
            ctx.doubt(f"{kind}_product", "product", told)


@act
def apply(
    ctx: Ctx,
    applied: Applied,
    *,
    at: datetime | None = None,
    client_uuid: UUID,
    replaces: int | None = None,
    reason: str = "",
    void: bool = False,
) -> Application:
    """Write down what was applied, or put a record right; with `void` it never was. Raises Refused."""
    done = ctx.rows(Application).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    old = ctx.get(Application, replaces) if replaces is not None else None
    if old is not None:
        if Application.objects.filter(replaces=old).exists():
            raise refuse("replaces", "replaced", "That was put right already. Look again.")
        if not reason.strip():
            raise refuse("reason", "missing", "Say why it was wrong.")
    _needed(applied)
    place, now = ctx.get(Place, applied.place_id), timezone.now()
    moment = old.applied_at if old is not None and at is None else at or now
    if moment > now + timedelta(minutes=2):
        raise refuse("at", "in_the_future", "That is still to come. Write it down when it is done.")
    if moment < now - timedelta(days=LATE_DAYS):
        raise refuse("at", "too_long_ago", f"That is more than {LATE_DAYS} days ago.")
    if not void:
        _not_banned(ctx, applied)
    on = ctx.local(ctx.now - (now - moment)).date()
    hours, days = _as_before(ctx, applied, old)
    stood = [] if void else [one for look in standing for one in look(ctx, place, on)]
    made = Application.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        place=place,
        **{name: getattr(applied, name).strip() for name in _TEXTS},
        applied_at=moment,
        entry_from=None if void else entry_from(moment, hours),
        harvest_from=None if void else harvest_from(on, days),
        stood=[{"uuid": str(uuid), "code": code} for uuid, code in stood],
        void=void,
        happened_at=ctx.at(on),
        client_uuid=client_uuid,
        replaces=old,
        reason=reason[:300],
    )
    said = (
        f"Taken back: {made.product} in {place.name}"
        if void
        else f"Applied {made.product} in {place.name}, {made.amount}"
    )
    ctx.record("application", f"{said}{f': {reason}' if old is not None else ''}.", place)
    return made


def _as_before(ctx: Ctx, applied: Applied, old: Application | None) -> tuple[float | None, int | None]:
    """The label's hours and days; what a correction does not say stays, so that a slip put right opens no place. 0 says none."""
    hours, days = applied.entry_hours, applied.harvest_days
    if old is not None and hours is None and old.entry_from is not None:
        hours = (old.entry_from - old.applied_at).total_seconds() / 3600
    if old is not None and days is None and old.harvest_from is not None:
        days = (old.harvest_from - ctx.local(old.happened_at).date()).days
    return hours, days


_TEXTS = ("product", "rate", "amount", "why", "operator", "active", "registration", "area", "weather", "licence")


def counting(ctx: Ctx) -> Any:
    """Applications as they are now: those that were put right as they were put right, none that never was."""
    return ctx.rows(Application).filter(replaced_by=None, void=False)


def closed_places(ctx: Ctx) -> Mapping[int, str]:
    """Places that nobody is to enter now, with why, by their number."""
    rows = counting(ctx).filter(entry_from__gt=timezone.now()).select_related("place").order_by("entry_from")
    return {one.place_id: _closed_words(ctx, one) for one in rows}


def _closed_words(ctx: Ctx, one: Application) -> str:
    until = ctx.local(one.entry_from) if one.entry_from else None
    today = ctx.local(timezone.now()).date()
    other = until is not None and until.date() != today
    when = f"{until:%H:%M}{f' on {until.day} {until:%b}' if other else ''}" if until else ""
    return f"not entered before {when}: {one.product}"


def ask_before_entering(ctx: Ctx, place: Place, field: str = "state") -> None:
    """Ask whoever records that something was done in a place which nobody was to enter."""
    told = closed_places(ctx).get(place.pk)
    question = told and f"{place.name} is {told}. Was it done before that, or by somebody whom the label lets in?"
    ctx.doubt("re_entry", field, question or None)


def may_be_harvested(ctx: Ctx, subjects: Collection[UUID], on: date, field: str, what: str) -> None:
    """Refuse that something is harvested or handed over before the day that a label gives. One query."""
    if not subjects:
        return
    found = Q()
    for uuid in subjects:
        found |= Q(stood__contains=[{"uuid": str(uuid)}])
    barred = counting(ctx).filter(found, harvest_from__gt=on).order_by("-harvest_from").first()
    if barred is None or barred.harvest_from is None:
        return
    told = (
        f"{barred.product} was applied where it stood; by its label nothing of it is {what} before "
        f"{day_words(barred.harvest_from)}. Wait until then, or put the record right where it is wrong."
    )
    raise refuse(field, "before_harvest", told)


def also_running(ctx: Ctx) -> list[dict[str, Any]]:
    """Places that nobody is to enter, until when."""
    now = timezone.now()
    rows = counting(ctx).filter(entry_from__gt=now).select_related("place")
    return [
        {
            "kind": "re_entry",
            "name": f"Nobody enters {one.place.name}",
            "code": "",
            "words": f"{one.product}; its tasks are held",
            "since": one.applied_at,
            "until": one.entry_from,
            "link": "/diary?applied=1",
        }
        for one in rows
    ]
