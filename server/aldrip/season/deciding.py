"""What waits for a manager in the house itself: backups that are missing."""

from collections.abc import Iterator

from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.accounts.models import Role
from aldrip.base.words import day
from aldrip.season import backups


@asks(
    backup_old=lambda data: Words(
        "No backup",
        f"The last good backup is of {data['newest']}." if data["newest"] else "There is no good backup yet.",
        "See the backups",
    )
)
def old_backups(look: Look) -> Iterator[Decision]:
    """A manager hears of backups that are missing; nobody else could do anything about it."""
    if look.ctx.role != Role.MANAGER or not backups.is_old():
        return
    newest = backups.newest()
    said = day(look.ctx.local(newest).date(), year=True) if newest else ""
    yield Decision("house", "backup_old", "backups", {"newest": said}, "/house", look.ctx.today)
