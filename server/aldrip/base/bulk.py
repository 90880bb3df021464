"""A COPY writer: thousands of rows of one model in one statement, with ids given beforehand."""

import json
from collections.abc import Iterable, Sequence
from typing import Any

from django.db import connection, models
from psycopg.types.json import Jsonb
from psycopg.types.range import DateRange


def take_ids(model: type[models.Model], count: int) -> list[int]:
    """`count` fresh ids from the model's own sequence."""
    if not count:
        return []
    with connection.cursor() as cursor:
        cursor.execute(
            "select nextval(pg_get_serial_sequence(%s, 'id')) from generate_series(1, %s)",
            [model._meta.db_table, count],
        )
        return [row[0] for row in cursor.fetchall()]


def _columns(model: type[models.Model], names: Sequence[str]) -> list[str]:
    return [model._meta.get_field(name).column for name in names]  # type: ignore[union-attr, misc]


def copy_rows(model: type[models.Model], names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Write rows given as tuples in the order of `names` (model field names)."""
    columns = ", ".join(f'"{name}"' for name in _columns(model, names))
    with connection.cursor() as cursor, cursor.copy(f'copy "{model._meta.db_table}" ({columns}) from stdin') as copy:
        for row in rows:
            copy.write_row(row)


def update_rows(model: type[models.Model], names: Sequence[str], rows: Sequence[Sequence[Any]]) -> None:
    """Set fields of many rows in one statement; each row is (id, value of each of `names`)."""
    if not rows:
        return
    kinds = [model._meta.get_field(name).db_type(connection) for name in names]
    columns = _columns(model, names)
    arrays = ", ".join(["%s::bigint[]", *(f"%s::{_plain(kind)}[]" for kind in kinds)])
    sets = ", ".join(f'"{column}" = v."{column}"' for column in columns)
    given = ", ".join(["id", *(f'"{column}"' for column in columns)])
    sql = f'update "{model._meta.db_table}" t set {sets} from unnest({arrays}) as v({given}) where t.id = v.id'
    with connection.cursor() as cursor:
        cursor.execute(sql, [list(values) for values in zip(*rows, strict=True)])


def _plain(kind: str | None) -> str:
    """A column type without its length, as an array takes it."""
    return (kind or "text").split("(")[0]


def json_value(value: Any) -> Any:
    """A jsonb value for `copy_rows`."""
    return Jsonb(value)


def json_once(value: Any) -> Any:
    """A jsonb value that many rows share: it is written out once."""
    text = json.dumps(value)
    return Jsonb(value, lambda _: text)


def days_text(start: Any, end: Any) -> str:
    """A daterange `[start, end)` as COPY reads it, quicker than one that is made to be looked at."""
    return f"[{start},{end})"


def days(start: Any, end: Any) -> Any:
    """A daterange `[start, end)` for `copy_rows`."""
    return DateRange(start, end, "[)")
