"""What is to be done, as a calendar that other programs read (RFC 5545)."""

from datetime import timedelta
from typing import TYPE_CHECKING

from aldrip.accounts.context import Ctx
from aldrip.diary import sheet
from aldrip.diary.models import Task

if TYPE_CHECKING:
    from icalendar import Event

AHEAD_DAYS = 120
UNDONE = (Task.State.TODO, Task.State.PARTLY)


def calendar_of(ctx: Ctx) -> bytes:
    """Every task that is not done, as a day of its own; what is overdue stands on today."""
    from icalendar import Calendar  # only who reads a calendar waits for it

    found = Calendar()
    found.add("prodid", "-//Aldrip//tasks//EN")
    found.add("version", "2.0")
    found.add("name", f"{ctx.organisation.name}, tasks")
    found.add("x-wr-calname", f"{ctx.organisation.name}, tasks")
    found.add("refresh-interval", timedelta(hours=1), parameters={"VALUE": "DURATION"})
    for task in sheet.tasks_for(ctx, ctx.today, AHEAD_DAYS):
        if task.state in UNDONE:
            found.add_component(_event(ctx, task))
    return bytes(found.to_ical())


def _event(ctx: Ctx, task: Task) -> "Event":
    from icalendar import Event

    one = Event()
    late = task.late_from <= ctx.today
    first, after = (
        (ctx.today, ctx.today + timedelta(days=1)) if late else (max(task.due_now, ctx.today), task.late_from)
    )
    words = sheet.words_of(task)
    one.add("uid", f"{task.uuid}@aldrip")
    one.add("dtstamp", ctx.now)
    one.add("dtstart", first)
    one.add("dtend", after)
    one.add("summary", f"{'Held: ' if task.held else 'Overdue: ' if late else ''}{words}")
    if task.place:
        one.add("location", task.place.name)
    more = [task.part_of_day, task.held, task.caution, task.note]
    one.add("description", "\n".join(part for part in more if part))
    one.add("transp", "TRANSPARENT")
    return one
