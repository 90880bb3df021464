"""Insect traps in the houses of stock plants: read every week, held against the week before and against what the house acts on."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from django.db.models import QuerySet

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.base.errors import refuse
from aldrip.base.words import plural
from aldrip.diary.sheet import Beside
from aldrip.places.entering import doubt_entry
from aldrip.places.models import Place
from aldrip.stockplants.models import TrapCount
from aldrip_core.trap_counts import GIVEN_UP_AFTER, READ_EVERY, Catch, against

MOST_SHOWN = 400
SHOWN_BEFORE = 8  # readings of a row that are drawn


@dataclass(frozen=True)
class TrapRow:
    """Traps of one colour in a place and one kind of insect: the readings, newest first, and what they come to."""

    counts: Sequence[TrapCount]
    change: int  # against the reading before: 1 more, -1 less, 0 chance
    over: bool  # at or over what the house acts on

    @property
    def newest(self) -> TrapCount:
        return self.counts[0]


def catch_of(one: TrapCount) -> Catch:
    """A reading in core's terms."""
    return Catch(one.found, one.traps, one.days)


@act
def count(
    ctx: Ctx,
    *,
    place_id: Ref,
    colour: str,
    insect: str,
    catch: Catch,
    client_uuid: uuid.UUID,
    on: date | None = None,
    act_from: float | None = None,
    note: str = "",
) -> TrapCount:
    """Traps were read. A repeat changes nothing. Raises Refused."""
    done = ctx.rows(TrapCount).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    place = ctx.get(Place, place_id)
    if colour not in TrapCount.Colour.values:
        raise refuse("colour", "not_a_choice", "Traps are yellow, blue or another.")
    if not insect.strip():
        raise refuse("insect", "missing", "What was caught? “whitefly”, “thrips”; a reading of none names it too.")
    if act_from is not None and not 0 < act_from <= 100_000:
        raise refuse("act_from", "out_of_range", f"{act_from:g} a trap and week is nothing to act from; above 0.")
    on = on or ctx.today
    if on > ctx.today:
        raise refuse("on", "in_future", f"{on} has not come yet; they can be read today at the latest.")
    doubt_entry(ctx, place, "found")
    before = _of(ctx, place, colour, insect.strip()).first()
    if before is not None:
        ctx.doubt(
            "often",
            "found",
            f"{before.insect.capitalize()} of these traps is written down for {on} already. Is this another reading?"
            if ctx.local(before.happened_at).date() == on
            else None,
        )
    made = TrapCount.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        client_uuid=client_uuid,
        happened_at=ctx.at(on),
        reason=note.strip()[:300],
        place=place,
        colour=colour,
        insect=before.insect if before is not None else insect.strip()[:60],
        found=catch.found,
        traps=catch.traps,
        days=catch.days,
        act_from=act_from,
    )
    told = f"{place.name}: {catch.found:,} {made.insect} on {plural(catch.traps, made.get_colour_display() + ' trap')}."
    ctx.record("traps.count", told, made)
    return made


def _of(ctx: Ctx, place: Place, colour: str, insect: str) -> QuerySet[TrapCount]:
    rows = ctx.rows(TrapCount).filter(place=place, colour=colour, insect__iexact=insect)
    return rows.order_by("-happened_at", "-pk")


def rows_of(ctx: Ctx) -> list[TrapRow]:
    """Traps by place, colour and insect, those over what is acted on first. One query."""
    found: dict[tuple[int, str, str], list[TrapCount]] = {}
    newest = ctx.rows(TrapCount).select_related("place", "by").order_by("-happened_at", "-pk")[:MOST_SHOWN]
    for one in newest:
        found.setdefault((one.place_id, one.colour, one.insect.casefold()), []).append(one)
    rows = [_row(counts[:SHOWN_BEFORE]) for counts in found.values()]
    return sorted(rows, key=lambda row: (not row.over, row.change != 1, row.newest.place.name, row.newest.insect))


def _row(counts: Sequence[TrapCount]) -> TrapRow:
    now = catch_of(counts[0])
    change = against(now, catch_of(counts[1])) if len(counts) > 1 else 0
    limit = acts_from(counts)
    return TrapRow(counts, change, limit is not None and now.a_week >= limit)


def acts_from(counts: Sequence[TrapCount]) -> float | None:
    """What a trap may catch in a week before the house acts: as it was said last."""
    return next((one.act_from for one in counts if one.act_from is not None), None)


def _rate(value: float) -> str:
    return f"{round(value, 1):g}"


def sentence(row: TrapRow) -> str:
    """What the newest reading comes to, and what is done first."""
    newest = row.newest
    told = f"{_rate(catch_of(newest).a_week)} a trap and week"
    if len(row.counts) > 1:
        before = _rate(catch_of(row.counts[1]).a_week)
        told += {1: f", more than the {before} before", -1: f", less than the {before} before"}.get(
            row.change, f", {before} before; chance may be all of it"
        )
    limit = acts_from(row.counts)
    if not row.over or limit is None:
        return f"{told}."
    return (
        f"{told}. You act from {_rate(limit)}: look under the leaves, "
        "shut what they came in by, then living helpers, then the least harmful product that a label allows here."
    )


def to_read(ctx: Ctx, day: date, days: int) -> list[Beside]:
    """Places of which the traps are due to be read, on the day sheet until they are."""
    newest: dict[Place, date] = {}
    since = ctx.now - timedelta(days=GIVEN_UP_AFTER) - timedelta(days=READ_EVERY)
    for one in ctx.rows(TrapCount).filter(happened_at__gte=since).select_related("place"):
        on = ctx.local(one.happened_at).date()
        newest[one.place] = max(on, newest.get(one.place, on))
    found = []
    for place, on in newest.items():
        due = on + timedelta(days=READ_EVERY)
        asked = max(due, ctx.today)
        if day <= asked < day + timedelta(days=days):
            late = due < ctx.today
            found.append(Beside(asked, "morning", f"Read the traps in {place.name}.", "/stockplants", wrong=late))
    return found
