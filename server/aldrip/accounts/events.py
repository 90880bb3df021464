"""What follows an act: rooms above say which tables they follow, and hear at its end which rows of them it touched.

So whoever sells, counts, moves or corrects something need not know who reckons with it. What an act changed is heard
once: what a follower changes wakes nobody again.
"""

import json
from collections import defaultdict
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from django.db import connection

from aldrip.accounts.journal import acting

if TYPE_CHECKING:
    from aldrip.accounts.context import Ctx


@dataclass
class Touched:
    """Rows of a table that were made or changed, by their ids, and those that are gone, as they were."""

    rows: set[int] = field(default_factory=set)
    gone: list[Mapping[str, Any]] = field(default_factory=list)


Heard = Callable[["Ctx", Mapping[str, Touched]], None]


@dataclass(frozen=True)
class Follower:
    """Follows tables: rows that are made or go, and changes of these columns of them."""

    tables: Mapping[str, frozenset[str]]
    heard: Heard


followers: list[Follower] = []


def subscribe(tables: Mapping[str, frozenset[str]], heard: Heard) -> None:
    """Let a room follow tables by name, each with its columns; said twice it follows once."""
    if not any(one.heard is heard for one in followers):
        followers.append(Follower(tables, heard))


CHANGES = """
select id, "table", kind, rows, case when kind = 'D' then before end,
       case when kind = 'U' then array(select jsonb_object_keys(after)) end
from accounts_change where act = %s and id > %s and "table" = any(%s)
"""
NEWEST = "select coalesce(max(id), 0) from accounts_change where act = %s"


def follow(ctx: "Ctx") -> None:
    """Tell every follower what the act that runs has touched since this was last asked. Call inside its transaction."""
    now = acting()
    if now is None or not followers:
        return
    with connection.cursor() as cursor:
        tables = sorted({table for one in followers for table in one.tables})
        cursor.execute(CHANGES, [now.act, now.heard, tables])
        changes = cursor.fetchall()
    for one in followers:
        touched = _touched(changes, one.tables)
        if touched:
            one.heard(ctx, touched)
    if changes:
        settled()


def settled() -> None:
    """What the act that runs has changed so far is reckoned already: nobody is to hear of it."""
    now = acting()
    if now is not None:
        with connection.cursor() as cursor:
            cursor.execute(NEWEST, [now.act])
            now.heard = cursor.fetchone()[0]


def _touched(changes: list[tuple[Any, ...]], tables: Mapping[str, frozenset[str]]) -> dict[str, Touched]:
    found: dict[str, Touched] = defaultdict(Touched)
    for _, table, kind, rows, before, names in changes:
        if table not in tables or (kind == "U" and not tables[table].intersection(names)):
            continue
        if kind == "D":
            found[table].gone.append(json.loads(before))  # Django's cursor leaves it as text
        else:
            found[table].rows.update(rows)
    return found
