"""What waits in the Diary: work of earlier days."""

from collections.abc import Iterable

from aldrip.accounts.decisions import Decision, Look, Words, asks
from aldrip.base.words import plural
from aldrip.diary.models import OVERDUE, Task, reckoned


@asks(
    late_tasks=lambda d: Words(
        "late tasks",
        f"{plural(d['many'], 'task')} from earlier days {'is' if d['many'] == 1 else 'are'} still to do.",
        "See them",
    )
)
def late_tasks(look: Look) -> Iterable[Decision]:
    """Tasks whose days are over."""
    ctx = look.ctx
    late = reckoned(ctx.rows(Task)).filter(OVERDUE, ends__lte=ctx.today).count()
    if late:
        yield Decision("diary", "late_tasks", "late", {"many": late}, "/diary", ctx.today)
