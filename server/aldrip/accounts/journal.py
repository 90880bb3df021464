"""What every act changed, kept by the database itself: triggers see bulk writes and COPY as they see single rows."""

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import Any
from uuid import UUID, uuid4

from django.apps import apps
from django.db import connection, models

from aldrip.accounts.models import Answered, AuditEvent, Change, CodeCounter, User

#: Never taken back: the record of acts itself, numbers that were given out, people's passwords.
NOT_KEPT: set[type[models.Model]] = {Answered, AuditEvent, Change, CodeCounter, User}
#: Rooms whose rows have a way back of their own: the library has its editions; how far a job is is nobody's act.
NOT_KEPT_ROOMS = {"methods", "jobs"}
#: Columns that say how often a row was saved; they only ever go on.
COUNTERS = ("version",)


@dataclass
class Acting:
    """The act that runs now, and whether it told what it did."""

    act: UUID
    told: bool = False
    heard: int = 0  # the newest of its changes that followers have heard of
    in_hand: dict[str, Any] = field(default_factory=dict)  # rows that it made and followers need not read again


_acting: ContextVar[Acting | None] = ContextVar("acting", default=None)

#: Statement triggers: one look at all rows that a statement touched. Outside an act nothing is kept.
FUNCTIONS = """
create or replace function aldrip_inserted() returns trigger language plpgsql as $$
declare act text := current_setting('aldrip.act', true);
begin
  if act is null or act = '' then return null; end if;
  insert into accounts_change(act, "table", kind, rows)
  select act::uuid, tg_table_name, 'I', array_agg(id order by id) from fresh having count(*) > 0;
  return null;
end $$;
create or replace function aldrip_deleted() returns trigger language plpgsql as $$
declare act text := current_setting('aldrip.act', true);
begin
  if act is null or act = '' then return null; end if;
  insert into accounts_change(act, "table", kind, rows, before)
  select act::uuid, tg_table_name, 'D', array[id], to_jsonb(gone) from gone;
  return null;
end $$;
"""


#: Column by column: whole rows as JSON would cost ten milliseconds a batch, most of it for what did not change.
UPDATED = """
create or replace function aldrip_updated_{table}() returns trigger language plpgsql as $$
declare act text := current_setting('aldrip.act', true);
begin
  if act is null or act = '' then return null; end if;
  insert into accounts_change(act, "table", kind, rows, before, after)
  select act::uuid, tg_table_name, 'U', array[differs.id], differs.before, differs.after
  from (select fresh.id, {before} as before, {after} as after from gone join fresh on gone.id = fresh.id) differs
  where differs.before <> '{{}}'::jsonb;
  return null;
end $$;
"""


def _updated(model: type[models.Model]) -> str:
    """The function that keeps what an update changed in a table."""
    columns = [field.column for field in model._meta.concrete_fields if field.column not in COUNTERS]
    sides = {}
    for side in ("gone", "fresh"):
        parts = (
            f"""case when gone."{one}" is distinct from fresh."{one}" then jsonb_build_object('{one}', {side}."{one}") else '{{}}' end"""
            for one in columns
        )
        sides[side] = " || ".join(parts)
    return UPDATED.format(table=model._meta.db_table, before=sides["gone"], after=sides["fresh"])


def kept_models() -> list[type[models.Model]]:
    """Every table of which changes are kept."""
    return [
        model
        for app in apps.get_app_configs()
        if app.name.startswith("aldrip.") and app.label not in NOT_KEPT_ROOMS
        for model in app.get_models()
        if model not in NOT_KEPT
    ]


def install(**_: object) -> None:
    """Put the triggers on every table of which changes are kept. Runs after each migration, so that none is forgotten."""
    there = set(connection.introspection.table_names())
    if Change._meta.db_table not in there:
        return
    with connection.cursor() as cursor:
        cursor.execute(FUNCTIONS)
        for model in kept_models():
            table = model._meta.db_table
            if table not in there:
                continue
            cursor.execute(_updated(model))
            for name, when, seen, does in (
                ("inserted", "insert", "new table as fresh", "inserted"),
                ("updated", "update", "old table as gone new table as fresh", f"updated_{table}"),
                ("deleted", "delete", "old table as gone", "deleted"),
            ):
                cursor.execute(
                    f'create or replace trigger keep_{name} after {when} on "{table}" referencing {seen} '
                    f"for each statement execute function aldrip_{does}()"
                )


@contextmanager
def kept() -> Iterator[Acting | None]:
    """Changes inside belong to one act; an act inside an act is part of it and is given None. Call inside a transaction."""
    if _acting.get() is not None:
        yield None
        return
    now = Acting(uuid4())
    token = _acting.set(now)
    _tell(str(now.act))
    try:
        yield now
    finally:
        _acting.reset(token)
    _tell("")  # where the act failed, its rollback has taken the name back with the rest


def acting() -> Acting | None:
    """The act that runs now, with how far it is heard."""
    return _acting.get()


def running() -> UUID | None:
    """The act that runs now."""
    now = _acting.get()
    return now.act if now is not None else None


def told() -> UUID | None:
    """The act that runs now; it has told of itself."""
    now = _acting.get()
    if now is None:
        return None
    now.told = True
    return now.act


def tables_of(now: Acting) -> set[str]:
    """The tables that an act changed something in."""
    return set(Change.objects.filter(act=now.act).values_list("table", flat=True).distinct())


def _tell(act: str) -> None:
    with connection.cursor() as cursor:
        cursor.execute("select set_config('aldrip.act', %s, true)", [act])
