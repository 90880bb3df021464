"""One proposal for any roots: commands are carried out, looked at and put back; kept, they are carried out once more.

So what is seen before is what happens: there is one way of doing a thing, not one for showing it and one for saving it.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any
from uuid import UUID

from django.db import transaction
from django.db.models import QuerySet

from aldrip.accounts import events, taking_back
from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.journal import running
from aldrip.accounts.models import AuditEvent, Change
from aldrip.base.errors import Conflict, FieldError, Refused, refuse
from aldrip.base.words import plural, share, who
from aldrip.batches.aside import words_of
from aldrip.batches.commands import Command, do
from aldrip.batches.editing import Figure, OrderEffect
from aldrip.batches.ground import Ground
from aldrip.batches.models import Batch, Occupancy
from aldrip.batches.promises import Touched, fit, follow
from aldrip.batches.saved import snapshot_of
from aldrip.batches.spare import Spare, Spares, promised_of
from aldrip.batches.starting import raise_for
from aldrip.orders.models import OrderLine
from aldrip.orders.promised import shown
from aldrip.orders.services import open_line
from aldrip_core.ground import Standing, peaks
from aldrip_core.problems import read, words
from aldrip_core.units import from_base, unit

MOST_PLACES = 8  # of which a proposal shows the fullness


@dataclass(frozen=True)
class Consequences:
    """What commands would do, not saved. `versions`: of every line and batch that they touch, by uuid, as they stand now."""

    sentence: str
    figures: tuple[Figure, ...]
    orders: tuple[OrderEffect, ...]
    problems: tuple[str, ...]
    versions: Mapping[str, int]


class _PutBack(Exception):
    """Everything was looked at; nothing of it stays."""

    def __init__(self, done: "_Done") -> None:
        self.done = done


@dataclass
class _Done:
    sentences: list[str]
    missing: list[str]
    batches: set[int]
    lines: set[int]
    after: "_State"


@dataclass(frozen=True)
class _Batch:
    code: str
    crop: str
    state: str
    sow: date
    ready: date
    trays: int | None
    start: int
    start_unit: str
    spare: float
    problems: tuple[str, ...]


@dataclass(frozen=True)
class _State:
    batches: Mapping[int, _Batch]
    lines: Mapping[int, OrderLine]
    standing: Mapping[int, tuple[Standing, ...]]


def propose(ctx: Ctx, commands: Sequence[Command], *, raise_missing: bool = True) -> Consequences:
    """What commands would do, all together; nothing is saved. Raises Refused, with the command as `commands.N.field`."""
    with transaction.atomic():
        ctx.lock()
        try:
            with transaction.atomic():
                _look(ctx, commands, raise_missing)
        except _PutBack as back:
            done = back.done
        finally:
            ctx.organisation.refresh_from_db()
            ctx.said.clear()
        before = _state(ctx, done.batches, done.lines)
        ground = Ground(ctx, without=list(done.batches))
        versions = _versions(ctx, done)
    return _consequences(done, before, ground, versions)


@act
def _look(ctx: Ctx, commands: Sequence[Command], raise_missing: bool) -> None:
    raise _PutBack(_carried_out(ctx, commands, raise_missing))


@act
def keep(
    ctx: Ctx, commands: Sequence[Command], versions: Mapping[str, int], *, raise_missing: bool = True
) -> AuditEvent:
    """Carry commands out whose consequences were seen. Raises Conflict when anything they touch was saved since."""
    _unchanged(ctx, versions)
    done = _carried_out(ctx, commands, raise_missing)
    seen = set(versions)
    made = _changes().filter(kind="I", table__in=("batches_batch", "orders_orderline"))
    fresh = {(one.table, pk) for one in made for pk in one.rows}
    for uuid, table, pk in _touched_rows(ctx, done):
        if (table, pk) not in fresh and str(uuid) not in seen:
            raise Conflict("What this touches is more by now than what you saw. Look at it again.", version=0)
    event = ctx.rows(AuditEvent).filter(act=running()).order_by("id").first()
    return event or ctx.record("proposal.keep", " ".join(done.sentences))


def undo(ctx: Ctx, event_id: Ref) -> AuditEvent:
    """Take what was kept back at once. Raises Refused where something rests on it by now."""
    back = taking_back.rests_on(ctx, event_id)
    if back.rests:
        raise refuse(
            "id",
            "rests",
            f"“{back.rests[0].sentence}” rests on it by now. Take it back in “What was done”, where you see what goes with it.",
        )
    return taking_back.take_back(ctx, event_id, reason="Undone at once.", known=[one.pk for one in back.events])


def _unchanged(ctx: Ctx, versions: Mapping[str, int]) -> None:
    uuids = [UUID(one) for one in versions]
    lines = ctx.rows(OrderLine).filter(uuid__in=uuids).select_for_update(of=("self",)).select_related("order")
    batches = ctx.rows(Batch).filter(uuid__in=uuids).select_for_update(of=("self",))
    named = [(one.uuid, one.version, f"order {one.order.number}, line {one.number}") for one in lines]
    named += [(one.uuid, one.version, f"batch {one.code}") for one in batches]
    for uuid, version, name in named:
        if version == versions[str(uuid)]:
            continue
        last = ctx.rows(AuditEvent).filter(subject=uuid).select_related("actor").order_by("-id").first()
        somebody = who(last.actor if last else None, "Somebody")
        raise Conflict(
            f"{somebody} saved {name} first. Nothing of yours was saved; look at what it would do now and decide again.",
            version=version,
            theirs=last.sentence if last else "A change was saved.",
            yours="What you saw the consequences of.",
            values=[],
        )


def _changes() -> QuerySet[Change]:
    """What the act that runs changed so far."""
    act_id = running()
    return Change.objects.filter(act=act_id) if act_id is not None else Change.objects.none()


def _carried_out(ctx: Ctx, commands: Sequence[Command], raise_missing: bool) -> _Done:
    if not commands:
        raise refuse("commands", "missing", "Nothing is asked.")
    touched, sentences = Touched(), []
    for index, one in enumerate(commands):
        try:
            sentences.append(do(ctx, one, touched))
        except Refused as error:
            if len(commands) == 1:
                raise
            raise Refused(
                [FieldError(f"commands.{index}.{e.field}", e.code, e.message) for e in error.errors]
            ) from None
    lines = list(
        ctx.rows(OrderLine)
        .filter(pk__in=touched.lines, state=OrderLine.State.OPEN)
        .select_related("crop", "line", "order", "container")
        .order_by("due", "id")
    )
    left = fit(ctx, lines, touched)
    follow(ctx, touched)
    missing = []
    if raise_missing and left:
        made, refused = raise_for(ctx, {line: left[line.pk] for line in lines if line.pk in left})
        touched.note(Batch.objects.filter(pk__in=made).select_related("method"))
        missing = [f"Order {line.order.number}, line {line.number}: {why}" for line, why in refused]
    elif left:
        missing = [
            f"Order {line.order.number}, line {line.number}: {words_of(line, left[line.pk])} are covered by nothing yet."
            for line in lines
            if line.pk in left
        ]
    events.follow(ctx)  # chances and forecasts are a part of what is looked at
    rows = _changes()
    batches = {pk for one in rows.filter(table="batches_batch") for pk in one.rows} | set(touched.first_days)
    order_lines = {pk for one in rows.filter(table="orders_orderline") for pk in one.rows} | touched.lines
    return _Done(sentences, missing, batches, order_lines, _state(ctx, batches, order_lines))


def _touched_rows(ctx: Ctx, done: _Done) -> list[tuple[UUID, str, int]]:
    batches = ctx.rows(Batch).filter(pk__in=done.batches).values_list("uuid", "pk")
    lines = ctx.rows(OrderLine).filter(pk__in=done.lines).values_list("uuid", "pk")
    return [
        *((uuid, "batches_batch", pk) for uuid, pk in batches),
        *((uuid, "orders_orderline", pk) for uuid, pk in lines),
    ]


def _versions(ctx: Ctx, done: _Done) -> dict[str, int]:
    found = dict(ctx.rows(Batch).filter(pk__in=done.batches).values_list("uuid", "version"))
    found |= dict(ctx.rows(OrderLine).filter(pk__in=done.lines).values_list("uuid", "version"))
    return {str(uuid): version for uuid, version in found.items()}


def _state(ctx: Ctx, batches: set[int], lines: set[int]) -> _State:
    rows = ctx.rows(Batch).filter(pk__in=batches).select_related("crop", "container", "mix").prefetch_related("stages")
    promised = promised_of(ctx, batches)
    standing: dict[int, tuple[Standing, ...]] = {}
    for pk, place, during, amount in Occupancy.objects.filter(stage__batch__in=batches).values_list(
        "stage__batch_id", "place_id", "during", "amount"
    ):
        standing[pk] = (*standing.get(pk, ()), Standing(place, during.lower, during.upper, amount))
    found = {}
    for batch in rows:
        stages = sorted(batch.stages.all(), key=lambda stage: stage.order)
        starts = [stage.actual_start or stage.planned.lower for stage in stages]
        there = (
            float(batch.needed)
            if batch.state == Batch.State.PLANNED
            else (batch.low if batch.low is not None else batch.expected)
        )
        spare = max(0.0, there - float(promised.get(batch.pk, 0)))
        found[batch.pk] = _Batch(
            batch.code,
            batch.crop.name.lower(),
            batch.state,
            min(starts),
            max(stage.actual_end or stage.planned.upper for stage in stages),
            batch.trays,
            batch.start,
            snapshot_of(batch)["start_unit"],
            spare,
            tuple(words(p) for p in read(batch.problems)),
        )
    order_lines = ctx.rows(OrderLine).filter(pk__in=lines).select_related("order").order_by("order__number", "number")
    return _State(found, {line.pk: line for line in order_lines}, standing)


def _consequences(done: _Done, before: _State, ground: Ground, versions: Mapping[str, int]) -> Consequences:
    figures: list[Figure] = []
    for pk in sorted(done.batches, key=lambda pk: done.after.batches[pk].code if pk in done.after.batches else ""):
        figures += _batch_figures(before.batches.get(pk), done.after.batches.get(pk))
    figures += _space(before, done.after, ground)
    problems = [
        f"Order {line.order.number}, line {line.number}: {line.problem}"
        for line in done.after.lines.values()
        if line.problem and line.state == OrderLine.State.OPEN
    ]
    return Consequences(
        " ".join(done.sentences),
        tuple(figures),
        tuple(_effects(before, done.after)),
        tuple(dict.fromkeys([*done.missing, *problems])),
        versions,
    )


def _batch_figures(was: _Batch | None, now: _Batch | None) -> list[Figure]:
    """What becomes of a batch, figure by figure; nothing of what stays."""
    if now is None:
        return []
    if was is None:
        found = [
            Figure(f"{now.code}, new: sow", None, now.sow, kind="date", note=now.crop),
            Figure(f"{now.code}: ready", None, now.ready, kind="date"),
        ]
        return [*found, _amount(None, now)]
    if now.state != was.state and now.state == Batch.State.ABANDONED:
        return [Figure(f"{now.code}, {now.crop}", "planned", "let go", kind="word")]
    found = []
    if was.state == Batch.State.PLANNED and now.sow != was.sow:
        found.append(Figure(f"{now.code}: sow", was.sow, now.sow, kind="date"))
    if now.ready != was.ready and now.state == was.state:
        found.append(Figure(f"{now.code}: ready", was.ready, now.ready, kind="date", worse=now.ready > was.ready))
    if (now.start, now.trays) != (was.start, was.trays):
        found.append(_amount(was, now))
    if round(now.spare) != round(was.spare):
        found.append(Figure(f"{now.code}: spare", round(was.spare), round(now.spare), "", "promised to nobody"))
    return found


def _amount(was: _Batch | None, now: _Batch) -> Figure:
    if now.trays is not None:
        return Figure(f"{now.code}: trays", was.trays if was else None, now.trays, "trays")
    return Figure(f"{now.code}: start", was.start if was else None, now.start, now.start_unit)


def _space(before: _State, after: _State, ground: Ground) -> list[Figure]:
    """Peak of the places that are touched, the fullest first."""

    def all_of(state: _State) -> list[Standing]:
        return [one for many in state.standing.values() for one in many]

    found = []
    for lane, was, now in peaks(ground, all_of(before), all_of(after)):
        usable, of = lane.usable or 0.0, lane.place.unit.words
        over = now - usable
        note = f"over by {over:,.0f} {of}" if over > 1e-6 else f"{share(now / usable)} of {usable:,.0f} {of}"
        found.append((now / usable, Figure(lane.place.name, was, now, of, note, "space", over > 1e-6)))
    return [figure for _, figure in sorted(found, key=lambda one: -one[0])[:MOST_PLACES]]


def _effects(before: _State, after: _State) -> list[OrderEffect]:
    found = []
    for pk, line in after.lines.items():
        was = before.lines.get(pk)
        number = (
            line.order.number
            if len({one.order_id for one in after.lines.values()}) == len(after.lines)
            else f"{line.order.number}/{line.number}"
        )
        found.append(
            OrderEffect(
                pk,
                number,
                line.order.customer,
                float(from_base(line.quantity, unit(line.unit))),
                line.due.upper - timedelta(days=1),
                was.chance if was else None,
                line.chance,
            )
        )
    return found


def told_of(event: AuditEvent) -> dict[str, Any]:
    """What was kept, for whoever kept it: the sentence, and the record by which it is undone."""
    more = AuditEvent.objects.filter(act=event.act).exclude(pk=event.pk).order_by("id") if event.act else []
    told = [event.sentence, *(one.sentence for one in more)]
    beside = f" {plural(len(told) - 3, 'more thing')} followed." if len(told) > 3 else ""
    return {"id": event.pk, "sentence": " ".join(told[:3]) + beside}


@act
def change(ctx: Ctx, line_id: Ref, row: Mapping[str, str], version: int) -> OrderLine:
    """Change an open line; what is planned for it follows. Raises Conflict when somebody saved first, Refused."""
    line = open_line(ctx, line_id)
    if line.version != version:
        raise Conflict(
            "Somebody saved this order line first. Nothing of yours was saved.",
            version=line.version,
            values=[
                {
                    "name": "Quantity",
                    "theirs": shown(line.quantity, line.unit),
                    "yours": row.get("quantity", ""),
                    "unit": line.unit,
                    "kind": "number",
                }
            ],
        )
    _carried_out(ctx, [Command("change", line=line.pk, typed=row)], raise_missing=True)
    line.refresh_from_db()
    return line


@act
def cancel(ctx: Ctx, line_id: Ref, reason: str) -> OrderLine:
    """Cancel an open line; what is only planned for it is let go, what stands is spare. Raises Refused."""
    _carried_out(ctx, [Command("cancel", line=line_id, typed={"reason": reason})], raise_missing=False)
    return ctx.get(OrderLine, line_id)


def standing_for(ctx: Ctx, line_id: Ref) -> list[Spare]:
    """What could serve a line and is promised to nobody."""
    line = ctx.get(OrderLine, line_id)
    return Spares(ctx, crops={line.crop.slug}).for_line(line)
