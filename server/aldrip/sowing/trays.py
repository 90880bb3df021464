"""Trays of the house: counted, bought, washed, thrown away; how they stand against what batches fill."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta

from aldrip.accounts.context import Ctx, act
from aldrip.base.errors import refuse
from aldrip.base.words import day, number, plural
from aldrip.batches.containers import BEGUN, containers_used
from aldrip.batches.models import Batch
from aldrip.diary.sheet import Beside
from aldrip.methods.models import Container
from aldrip.methods.resolver import Library
from aldrip.sowing.models import TrayEvent
from aldrip_core.trays_owned import AHEAD_DAYS, TrayAct, TrayEntry, TrayStand, tray_stand

MOST = 10_000_000
FAR = 3.0  # times more, or fewer, than there were
SHOWN = 12  # entries of a kind, the newest first
ONE = timedelta(days=1)


@dataclass(frozen=True)
class TrayRow:
    """A kind of tray that was counted here: what was written down of it, newest first, and how it stands."""

    name: str
    events: Sequence[TrayEvent]
    stand: TrayStand

    @property
    def lasts(self) -> int | None:
        """Fillings that one lasts, as it was said last."""
        return next((one.lasts for one in self.events if one.lasts), None)

    @property
    def worn(self) -> bool:
        return self.lasts is not None and self.stand.fills_each >= self.lasts


@act
def record(
    ctx: Ctx,
    *,
    name: str,
    what: str,
    many: int,
    client_uuid: uuid.UUID,
    clean: int = 0,
    lasts: int | None = None,
    on: date | None = None,
    note: str = "",
) -> TrayEvent:
    """Trays were counted (all of them; `clean`: of those), bought, washed or thrown away. A repeat changes nothing. Raises Refused."""
    done = ctx.rows(TrayEvent).filter(client_uuid=client_uuid).first()
    if done is not None:
        return done
    if what not in TrayEvent.What.values:
        raise refuse("what", "not_a_choice", "Trays are counted, bought, washed or thrown away.")
    known = Library(ctx).rows(Container).filter(name__iexact=name.strip()).first()
    if known is None:
        raise refuse("name", "unknown", f"“{name}” is no container of the library. Add it under Methods first.")
    on = on or ctx.today
    if on > ctx.today:
        raise refuse("on", "in_the_future", f"{on} is still to come. Write it down when it is done.")
    before = next((row for row in rows_of(ctx, lately=True) if row.name == known.name), None)
    counted = what == TrayEvent.What.COUNTED
    if not counted and before is None:
        told = f"{known.name} were never counted here. Count them first: how many there are, and how many are clean."
        raise refuse("what", "not_counted", told)
    if not (0 if counted else 1) <= many <= MOST:
        raise refuse("many", "out_of_range", f"How many? 1 to {MOST:,}.")
    if counted and not 0 <= clean <= many:
        raise refuse("clean", "out_of_range", f"Of {many:,} trays {clean:,} cannot be clean.")
    if lasts is not None and not 1 <= lasts <= 10_000:
        raise refuse("lasts", "out_of_range", "A tray is filled 1 to 10,000 times before it breaks.")
    if before is not None:
        _doubt(ctx, before, what, many)
    made = TrayEvent.objects.create(
        organisation=ctx.organisation,
        by=ctx.user,
        container=known.name,
        what=what,
        many=many,
        clean_ones=clean if counted else 0,
        lasts=lasts,
        happened_at=ctx.at(on),
        client_uuid=client_uuid,
        reason=note.strip()[:300],
    )
    told = f"{known.name}: {number(many)} {made.get_what_display()}"
    ctx.record("trays.record", f"{told}{f', {number(clean)} of them clean' if counted else ''}.", made)
    return made


def _doubt(ctx: Ctx, row: TrayRow, what: str, many: int) -> None:
    """More washed than are dirty, more thrown away than stand there empty, or far from what there was is asked about."""
    dirty, here = row.stand.dirty, row.stand.dirty + row.stand.clean
    told = None
    if what == TrayEvent.What.WASHED and many > dirty:
        told = (
            f"{number(many)} washed, and only {number(dirty)} of {number(row.stand.owned)} should be dirty. Is it so?"
        )
    if what == TrayEvent.What.THROWN and many > here:
        told = f"{number(many)} thrown away, and only {number(here)} should stand here empty. Is it so?"
    if what == TrayEvent.What.COUNTED and row.stand.owned and not 1 / FAR <= many / row.stand.owned <= FAR:
        told = f"{number(many)} counted, and there were {number(row.stand.owned)}. Is it so?"
    if what == TrayEvent.What.BOUGHT and many > FAR * row.stand.owned:
        told = f"{number(many)} bought, and you have {number(row.stand.owned)}. Is it so?"
    ctx.doubt("trays", "many", told)


def rows_of(ctx: Ctx, *, lately: bool = False) -> list[TrayRow]:
    """Kinds of trays that were counted, those that run short or want washing first. A fixed number of queries.

    lately: only from the last count on, which says all but how often each was filled; past years are not read.
    """
    events: dict[str, list[TrayEvent]] = {}
    for one in ctx.rows(TrayEvent).select_related("by").order_by("happened_at", "pk"):
        own = events.setdefault(one.container, [])
        if lately and one.what == TrayEvent.What.COUNTED:
            own.clear()
        own.append(one)
    if not events:
        return []
    first = min(ctx.local(one.happened_at).date() for all_of in events.values() for one in all_of)
    today, far = ctx.today, ctx.today + timedelta(days=AHEAD_DAYS)
    begun = list(containers_used(ctx, first, today + ONE, BEGUN))
    # What was handed over came back, whenever it was to.
    given = [
        replace(one, end=min(one.end, today))
        for one in containers_used(ctx, first, today + ONE, (Batch.State.DELIVERED,))
    ]
    planned = list(containers_used(ctx, today - timedelta(days=AHEAD_DAYS), far, (Batch.State.PLANNED,)))
    later = [one for one in begun if one.start > today]  # pricked on or potted by what is begun already
    rows = []
    for name, own in events.items():
        entries = [
            TrayEntry(ctx.local(one.happened_at).date(), TrayAct(one.what), one.many, one.clean_ones) for one in own
        ]
        stand = tray_stand(
            entries,
            used=[one for one in (*begun, *given) if one.container == name and one.start <= today],
            planned=[one for one in (*planned, *later) if one.container == name],
            today=today,
        )
        rows.append(TrayRow(name, own[::-1], stand))
    return sorted(rows, key=lambda row: (row.stand.short_on is None, row.stand.wash_on or date.max, row.name))


def sentence(row: TrayRow) -> str:
    """What is most pressing about trays of a kind."""
    stand, told = row.stand, []
    if stand.over:
        told.append(f"{number(stand.over)} more are clean or in use than you own: count them again.")
    elif stand.short_on is not None:
        told.append(f"{number(stand.short_by)} too few from {day(stand.short_on)} on.")
    if stand.wash_on is not None:
        told.append(f"Wash {number(stand.wash)} by {day(stand.wash_on)}.")
    if row.worn and row.lasts:
        told.append(f"Filled {stand.fills_each:.1f} times each; one lasts {plural(row.lasts, 'filling')}.")
    return " ".join(told) or "Enough clean ones for all that is planned."


def on_the_sheet(ctx: Ctx, first: date, days: int) -> Sequence[Beside]:
    """Trays to wash, on the day before they are filled, or today where that is over."""
    if first + timedelta(days=days) <= ctx.today:
        return []
    found = []
    for row in rows_of(ctx, lately=True):
        if row.stand.wash_on is None:
            continue
        on = max(row.stand.wash_on - ONE, ctx.today)
        if first <= on < first + timedelta(days=days):
            told = f"Wash {number(row.stand.wash)} of {row.name.lower()}: they are filled on {day(row.stand.wash_on)}."
            found.append(Beside(on, "morning", told, "/sowing"))
    return found
