"""Take an act back: everything it changed stands as before, and the record of it stays, with who took it back and why.

What rests on an act is taken back with it, or first: whatever changed the same values later, or names rows that it
made. What others changed beside it stays.
"""

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any
from uuid import UUID

from django.apps import apps
from django.db import IntegrityError, connection, models, transaction
from psycopg import sql

from aldrip.accounts.context import Ctx, Ref, act
from aldrip.accounts.events import settled
from aldrip.accounts.journal import COUNTERS, kept_models
from aldrip.accounts.models import AuditEvent, Change, Role
from aldrip.accounts.permissions import may
from aldrip.base.errors import Conflict, Forbidden, refuse

#: Columns that are reckoned from other rows, by table: they follow, and nothing rests on them.
DERIVED: dict[str, frozenset[str]] = {}
#: Rows that stay when the act that made them is taken back, by table: the columns to set instead. A paper that left
#: the gate is withdrawn, not forgotten.
STAYS: dict[str, Callable[[Ctx, str], dict[str, Any]]] = {}
#: What reckons anew after something was taken back.
followers: list[Callable[[Ctx, "Put"], None]] = []
#: Actions that have a way back of their own, and the words that say which.
OTHERWISE = {
    "methods.": "An earlier edition is taken back in Methods, at “What it was before”.",
    "member.": "What a person may do is changed in The house.",
    "password.": "Passwords are no entries of the season. Give another link under People, or change your own.",
    "sessions.": "Whoever was signed out signs in again.",
    "second.": "A second device is set up anew under Your way in.",
    "clock.": "The practice clock only moves forward.",
    "organisation.": "The rules of the house are changed back in The house.",
}


@dataclass
class Put:
    """What was put back: touched rows by table, the subjects of the acts, and whether what is reckoned may be out of date."""

    rows: dict[str, set[int]] = field(default_factory=lambda: defaultdict(set))
    subjects: set[UUID] = field(default_factory=set)
    stale: bool = False


@dataclass(frozen=True)
class Back:
    """What taking an act back would do: the events of it, those that rest on it (newest first), papers that are out."""

    events: tuple[AuditEvent, ...]
    rests: tuple[AuditEvent, ...]
    papers: tuple[str, ...] = ()

    @property
    def acts(self) -> list[UUID]:
        """Acts to take back, the newest first."""
        found = {event.act: event.pk for event in (*self.events, *self.rests) if event.act is not None}
        return sorted(found, key=lambda one: found[one], reverse=True)


@dataclass
class _Touched:
    """What an act did: rows made, rows changed with the columns of them, rows gone."""

    made: dict[str, set[int]] = field(default_factory=lambda: defaultdict(set))
    changed: dict[str, dict[int, set[str]]] = field(default_factory=lambda: defaultdict(dict))
    gone: dict[str, set[int]] = field(default_factory=lambda: defaultdict(set))


def rests_on(ctx: Ctx, event_id: Ref) -> Back:
    """What would go with an act if it were taken back. Raises Refused where it cannot be, with the reason."""
    event = ctx.get(AuditEvent, event_id)
    _check(ctx, event)
    found: dict[UUID, None] = {}
    wanted = [event.act]
    while wanted:
        now = wanted.pop()
        if now is None or now in found:
            continue
        found[now] = None
        wanted.extend(_resting(ctx, now))
    events = ctx.rows(AuditEvent).filter(act__in=list(found)).select_related("actor").order_by("-id")
    own = tuple(one for one in events if one.act == event.act)
    rests = tuple(one for one in events if one.act != event.act)
    for one in rests:
        _check(ctx, one)
    return Back(own, rests, tuple(_papers(found)))


def may_be(ctx: Ctx, event: AuditEvent) -> bool:
    """Whether somebody may ask for an act to be taken back; whether it can be is known when it is asked."""
    own = _planner(ctx) or (ctx.user is not None and event.actor_id == ctx.user.pk)
    own = own and (not event.under or may(ctx.role, event.under))
    kept = event.act is not None and event.undone_by_id is None
    return own and kept and ctx.role != Role.VIEWER and not any(event.action.startswith(start) for start in OTHERWISE)


def _planner(ctx: Ctx) -> bool:
    return ctx.role in (Role.MANAGER, Role.SUPERVISOR)


def _check(ctx: Ctx, event: AuditEvent) -> None:
    for start, told in OTHERWISE.items():
        if event.action.startswith(start):
            raise refuse("id", "otherwise", told)
    if event.undone_by_id is not None:
        raise refuse("id", "undone", f"“{event.sentence}” was taken back already.")
    if event.act is None or not Change.objects.filter(act=event.act).exists():
        raise refuse(
            "id", "not_kept", f"Of “{event.sentence}” it is not known what it changed; it cannot be taken back."
        )
    # Whoever may not sign, release or change a place may not take it back either, nor let it stand again.
    again = event.undoes.values_list("under", flat=True) if event.action == TAKEN_BACK else ()
    if any(under and not may(ctx.role, under) for under in (event.under, *again)):
        raise Forbidden(f"“{event.sentence}” takes a right that you do not have. Ask a manager to take it back.")
    if not _planner(ctx) and (ctx.user is None or event.actor_id != ctx.user.pk):
        raise Forbidden(f"“{event.sentence}” was somebody else's. Ask a manager or a supervisor to take it back.")


def _papers(acts: Iterable[UUID]) -> list[str]:
    rows = Change.objects.filter(act__in=list(acts), kind="I", table__in=list(STAYS))
    found = []
    for change in rows:
        model = _model(change.table)
        found += [str(row) for row in model._default_manager.filter(pk__in=change.rows)]
    return found


def _touched(changes: Iterable[Change]) -> _Touched:
    found = _Touched()
    for change in changes:
        if change.kind == "I":
            found.made[change.table].update(change.rows)
        elif change.kind == "D":
            found.gone[change.table].update(change.rows)
        else:
            columns = set(change.after or {}) - DERIVED.get(change.table, frozenset())
            if columns:
                found.changed[change.table].setdefault(change.rows[0], set()).update(columns)
    return found


def _resting(ctx: Ctx, act_id: UUID) -> set[UUID]:
    """Later acts that changed the same values, took away the same rows, or made rows that name rows of this one."""
    changes = list(Change.objects.filter(act=act_id).order_by("id"))
    done, last = _touched(changes), changes[-1].pk if changes else 0
    ours = {
        table: done.made.get(table, set()) | set(done.changed.get(table, {})) | done.gone.get(table, set())
        for table in (*done.made, *done.changed, *done.gone)
    }
    later: set[UUID] = set()
    for table, rows in ours.items():
        if not rows:
            continue
        for change in Change.objects.filter(pk__gt=last, table=table, rows__overlap=list(rows)).exclude(kind="I"):
            if change.kind == "D" or _meet(change, done.changed.get(table, {}), done.made.get(table, set())):
                later.add(change.act)
    for table, made in done.made.items():
        later |= _naming(table, made, last)
    if done.changed or done.gone:  # what happened to one thing is taken back from the end
        later |= _same_subject(ctx, act_id)
    back = ctx.rows(AuditEvent).filter(act__in=later - {act_id}, undone_by=None)
    undone = set(ctx.rows(AuditEvent).filter(act__in=later, undone_by__isnull=False).values_list("act", flat=True))
    return {one.act for one in back if one.act is not None and one.action != TAKEN_BACK} - undone - {act_id}


def _same_subject(ctx: Ctx, act_id: UUID) -> set[UUID]:
    """Later acts upon the same batch, lot, block or order."""
    own = list(ctx.rows(AuditEvent).filter(act=act_id).values_list("pk", "subject"))
    subjects = {subject for _, subject in own if subject is not None}
    if not own or not subjects:
        return set()
    later = ctx.rows(AuditEvent).filter(subject__in=subjects, pk__gt=max(pk for pk, _ in own), act__isnull=False)
    return {one for one in later.values_list("act", flat=True) if one is not None}


def _meet(change: Change, changed: dict[int, set[str]], made: set[int]) -> bool:
    columns = set(change.after or {}) - DERIVED.get(change.table, frozenset())
    row = change.rows[0]
    return bool(columns) if row in made else bool(columns & changed.get(row, set()))


def _naming(table: str, made: set[int], last: int) -> set[UUID]:
    """Acts that made rows which name these."""
    found: set[UUID] = set()
    target = _model(table)
    for model in kept_models():
        for one in model._meta.concrete_fields:
            if not isinstance(one, models.ForeignKey) or one.related_model is not target:
                continue
            rows = list(model._default_manager.filter(**{f"{one.name}__in": made}).values_list("pk", flat=True))
            if rows:
                by = Change.objects.filter(pk__gt=last, table=model._meta.db_table, kind="I", rows__overlap=rows)
                found.update(by.values_list("act", flat=True))
    return found


def _model(table: str) -> type[models.Model]:
    return next(model for model in apps.get_models() if model._meta.db_table == table)


TAKEN_BACK = "act.taken_back"


@act
def take_back(ctx: Ctx, event_id: Ref, *, reason: str, known: Sequence[int]) -> AuditEvent:
    """Take an act back, and with it what rests on it.

    known: numbers of the events that whoever asks knows will go, so that nothing goes unseen. Raises Conflict where
    others rest on it by now.
    """
    back = rests_on(ctx, event_id)
    if not reason.strip():
        raise refuse("reason", "missing", "Say why it is taken back; the reason stays with the record.")
    going = (*back.events, *back.rests)
    unseen = [one for one in going if one.pk not in set(known)]
    if unseen:
        raise Conflict(
            f"“{unseen[0].sentence}” rests on it by now. Look again at what goes with it.",
            events=[one.pk for one in going],
        )
    put = Put(subjects={one.subject for one in going if one.subject is not None})
    # What was reckoned on an earlier day may read otherwise today.
    put.stale = any(ctx.local(one.happened_at).date() != ctx.today for one in going)
    try:
        with transaction.atomic():
            for one in back.acts:
                _reverse(ctx, one, reason.strip()[:300], put)
            with connection.cursor() as cursor:
                cursor.execute("set constraints all immediate")
                cursor.execute("set constraints all deferred")
            for follower in followers:
                follower(ctx, put)
            settled()  # they reckoned what was out of date, and only that: the rest is as it was
    except IntegrityError as error:
        raise refuse(
            "id", "in_the_way", f"It cannot be taken back: {_why(error)}. Take back what was done since, first."
        ) from None
    first = back.events[-1]
    done = ctx.record(
        TAKEN_BACK, f"Took back: {first.sentence} {reason.strip()}", after={"events": [one.pk for one in going]}
    )
    done.subject_kind, done.subject = first.subject_kind, first.subject
    done.save(update_fields=["subject_kind", "subject"])
    AuditEvent.objects.filter(pk__in=[one.pk for one in going]).update(undone_by=done)
    # A taking back, or an undo, that is taken back itself lets what it took back stand again.
    AuditEvent.objects.filter(undone_by__in=[one.pk for one in going]).update(undone_by=None)
    return done


#: What stands against it, by the constraint that says so.
IN_THE_WAY = {
    "lot_never_below_nothing": "a lot would hold less than nothing",
    "whole_places_take_one_use": "the place is taken by something else since",
}


def _why(error: IntegrityError) -> str:
    found = next((told for name, told in IN_THE_WAY.items() if name in str(error)), None)
    return found or "something that was recorded since stands on it"


def _reverse(ctx: Ctx, act_id: UUID, reason: str, put: Put) -> None:
    """Every change of an act the other way round, the last first. The database reads its own notes: no figure is rounded."""
    with connection.cursor() as cursor:
        for change in Change.objects.filter(act=act_id).order_by("-id"):
            table = sql.Identifier(change.table)
            put.rows[change.table].update(change.rows)
            if change.kind == "I" and change.table in STAYS:
                values = STAYS[change.table](ctx, reason)
                _model(change.table)._default_manager.filter(pk__in=change.rows).update(**values)
            elif change.kind == "I":
                cursor.execute(sql.SQL("delete from {} where id = any(%s)").format(table), [change.rows])
            elif change.kind == "D":
                cursor.execute(sql.SQL(PUT_BACK).format(table=table), [change.pk])
            else:
                _restore(cursor, change, put)


PUT_BACK = """
insert into {table} select gone.* from accounts_change change, jsonb_populate_record(null::{table}, change.before) gone
where change.id = %s
"""
RESTORE = """
update {table} kept set {columns} from accounts_change change, jsonb_populate_record(null::{table}, change.before) was
where change.id = %s and kept.id = change.rows[1]
"""
SAME = """
 and to_jsonb(kept) @> (select jsonb_object_agg(key, value) from jsonb_each(change.after) where key = any(%s))
"""


def _restore(cursor: Any, change: Change, put: Put) -> None:
    """Put the values before back; reckoned ones only where nothing reckoned them since."""
    names = set(change.before or {})
    derived = DERIVED.get(change.table, frozenset()) & names
    for some, only_same in ((names - derived - set(COUNTERS), False), (derived, True)):
        if not some:
            continue
        columns = sql.SQL(", ").join(sql.SQL("{0} = was.{0}").format(sql.Identifier(name)) for name in sorted(some))
        query = sql.SQL(RESTORE).format(table=sql.Identifier(change.table), columns=columns)
        if only_same:
            cursor.execute(query + sql.SQL(SAME), [change.pk, sorted(some)])
            put.stale |= cursor.rowcount == 0
        else:
            cursor.execute(query, [change.pk])
