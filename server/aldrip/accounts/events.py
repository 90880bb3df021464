"""What follows an act: rooms above say which tables they follow, and hear at its end which rows of them it touched.

So whoever sells, holds or corrects a lot need not know who counts on it. Each act is heard once: what a follower changes
wakes nobody again.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from django.db import connection

from aldrip.accounts.journal import running

if TYPE_CHECKING:
    from aldrip.accounts.context import Ctx


@dataclass(frozen=True)
class Follower:
    """Hears of rows of a table that an act made, changed or took away; of changes only where one of `columns` is another."""

    table: str
    columns: tuple[str, ...]
    heard: Callable[["Ctx", list[int]], None]


followers: list[Follower] = []


def subscribe(table: str, columns: tuple[str, ...], heard: Callable[["Ctx", list[int]], None]) -> None:
    """Let a room follow a table; said twice it follows once."""
    if not any(one.table == table and one.heard is heard for one in followers):
        followers.append(Follower(table, columns, heard))


TOUCHED = """
select distinct unnest(rows) from accounts_change
where act = %s and "table" = %s and (kind <> 'U' or after ?| %s)
"""


def follow(ctx: "Ctx") -> None:
    """Tell every follower what the act that runs has touched. Call at its end, inside its transaction."""
    act = running()
    heard: list[tuple[Follower, list[int]]] = []
    with connection.cursor() as cursor:
        for one in followers:
            cursor.execute(TOUCHED, [act, one.table, list(one.columns)])
            rows = [row[0] for row in cursor.fetchall()]
            if rows:
                heard.append((one, rows))
    for one, rows in heard:
        one.heard(ctx, rows)
