"""Between two tests that commit: every row of the one before is gone, and the library that ships stands as it did."""

from django.db import connection, transaction
from django.db.backends.utils import CursorWrapper

from aldrip.methods.models import Edition, MethodStage
from aldrip.methods.resolver import KINDS

#: Names of models and of what may be done with them, and which changes of tables were made: they never change.
LASTING = {"django_content_type", "auth_permission", "django_migrations"}
OWN = "organisation_id is not null"
#: Tables of the library in the order of their references, and which of their rows are a house's own.
LIBRARY = {
    **{model._meta.db_table: OWN for model in KINDS.values()},
    MethodStage._meta.db_table: f"method_id in (select id from {KINDS['method']._meta.db_table} where {OWN})",
    Edition._meta.db_table: OWN,
}
_shipped: dict[str, tuple[str, bytes]] = {}  # by table: how its rows add up, and the rows


def _mark(cursor: CursorWrapper, table: str) -> str:
    cursor.execute(f"select coalesce(md5(string_agg(md5(t::text), '' order by id)), '') from {table} t")
    return str(cursor.fetchone()[0])


def remember() -> None:
    """Keep the library as it was just loaded. Called once, before the databases of the processes are copied."""
    with connection.cursor() as cursor:
        for table in LIBRARY:
            with cursor.copy(f"copy {table} to stdout") as out:
                rows = b"".join(bytes(part) for part in out)
            _shipped[table] = (_mark(cursor, table), rows)


def emptied() -> None:
    """Take every row away but those of the library that ships; what a test did to that is undone.

    Only tables that hold any are touched. Emptying all of some two hundred, writing the names of all models again and
    putting every trigger back takes seconds after every test.
    """
    tables = set(connection.introspection.django_table_names(only_existing=True, include_views=False))
    others = sorted(tables - LASTING - set(LIBRARY))
    asked = " union all ".join(f"select '{name}' where exists (select from \"{name}\")" for name in others)
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(asked)
        for (name,) in cursor.fetchall():
            cursor.execute(f'delete from "{name}"')
        for table in reversed(LIBRARY):
            cursor.execute(f"delete from {table} where {LIBRARY[table]}")
        if any(_mark(cursor, table) != mark for table, (mark, _) in _shipped.items()):
            _restore(cursor)


def _restore(cursor: CursorWrapper) -> None:
    for table in reversed(LIBRARY):
        cursor.execute(f"delete from {table}")
    for table, (_, rows) in _shipped.items():
        with cursor.copy(f"copy {table} from stdin") as into:
            into.write(rows)
