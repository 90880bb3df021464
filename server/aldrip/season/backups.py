"""What is known of the backups: the launcher takes and verifies them, this reads its list and asks for one."""

import json
import os
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from django.utils import timezone

from aldrip.accounts.context import Ctx
from aldrip.base.errors import NotThere, refuse

OLD = timedelta(days=2)  # after which a house without a younger good backup is told so


def home() -> Path | None:
    """The folder of the backups; None where this Aldrip takes none, as in the demo."""
    named = os.environ.get("ALDRIP_BACKUPS")
    return Path(named) if named else None


def listed() -> list[dict[str, Any]]:
    """Every backup that is kept and the last failure, the newest first."""
    where = home()
    if where is None:
        return []
    try:
        rows: list[dict[str, Any]] = json.loads((where / "index.json").read_text())
    except (OSError, ValueError):
        return []
    return [{**row, "at": datetime.fromisoformat(row["at"])} for row in rows]


def newest() -> datetime | None:
    """When the newest good backup was taken."""
    return next((row["at"] for row in listed() if not row["words"]), None)


def _old(at: datetime | None) -> bool:
    return home() is not None and (at is None or timezone.now() - at > OLD)


def is_old() -> bool:
    """Whether the newest good backup is older than two days, or there is none."""
    return home() is not None and _old(newest())


def told(ctx: Ctx) -> dict[str, Any]:
    """The backups of this Aldrip, and whether the house can rely on them."""
    where, rows = home(), listed()
    good = next((row["at"] for row in rows if not row["words"]), None)
    return {
        "taken_here": where is not None,
        "where": str(where or ""),
        "asked": bool(where and (where / "wanted").exists()),
        "old": _old(good),
        "failed": rows[0]["words"] if rows else "",
        "rows": [{**row, "at": ctx.local(row["at"])} for row in rows],
        "newest": ctx.local(good) if good else None,
    }


def ask() -> None:
    """Ask the launcher for one; it sees it within a second. Raises Refused where none are taken here."""
    where = home()
    if where is None:
        raise refuse("", "not_here", "This Aldrip takes no backups: it is the demo, or was started in another way.")
    (where / "wanted").touch()


def file_of(name: str) -> Path:
    """A backup by its name, to be downloaded. Raises NotThere."""
    where = home()
    if where is None or name not in {row["file"] for row in listed() if row["file"]}:
        raise NotThere("There is no such backup here.")
    path = where / name
    if not path.is_file():
        raise NotThere("That backup is not in its folder any more.")
    return path
