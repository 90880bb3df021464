"""Weeks and days as growers write them: “week 31”, “2027-W31”, “6 Aug 2027”, “6.8.2027”."""

import re
from dataclasses import dataclass
from datetime import date, timedelta

MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_WEEK = re.compile(r"^(?:(\d{4})\s*[-/ ]?\s*)?(?:w|wk|week|weeks)\.?\s*(\d{1,2})(?:\s*[-/ ,of]*\s*(\d{4}))?$", re.I)
_SLASH_WEEK = re.compile(r"^(\d{1,2})\s*/\s*(\d{4})$")
_ISO = re.compile(r"^(\d{4})-(\d{1,2})-(\d{1,2})(?:[T ]00:00(?::00)?)?$")
_DAY_FIRST = re.compile(r"^(\d{1,2})\s*[./ -]\s*(\d{1,2}|[A-Za-z]{3,9})\.?\s*[./ -]\s*(\d{4})$")
_NO_YEAR = re.compile(r"^(\d{1,2})\.?\s*([A-Za-z]{3,9})\.?$")


class UnreadableDay(ValueError):
    """The text names no day or week; `code` and the message say why."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


@dataclass(frozen=True, slots=True)
class Span:
    """Days `[start, end)`."""

    start: date
    end: date

    @property
    def last(self) -> date:
        """The last day inside."""
        return self.end - timedelta(days=1)


def weeks_in(year: int) -> int:
    """52 or 53, by ISO 8601.

    >>> weeks_in(2026), weeks_in(2027)
    (53, 52)
    """
    return date(year, 12, 28).isocalendar().week


def week_span(year: int, week: int) -> Span:
    """Monday to Monday of an ISO week. Raises UnreadableDay when the year has no such week."""
    most = weeks_in(year)
    if not 1 <= week <= most:
        raise UnreadableDay("no_such_week", f"Week {week} does not exist: {year} has {most} weeks.")
    monday = date.fromisocalendar(year, week, 1)
    return Span(monday, monday + timedelta(days=7))


def read_span(text: str, *, today: date) -> Span:
    """A day or a week from what a person typed.

    A week or a day without a year is the next such one from `today` on (a week that has begun counts).
    Day comes before month. Raises UnreadableDay.

    >>> read_span("week 31", today=date(2027, 7, 6)).start
    datetime.date(2027, 8, 2)
    """
    text = text.strip()
    if not text:
        raise UnreadableDay("missing", "There is no date. Write a day or a week, such as “6 Aug 2027” or “week 31”.")
    if match := _WEEK.match(text):
        week = int(match[2])
        if year := match[1] or match[3]:
            return week_span(int(year), week)
        span = week_span(today.isocalendar().year, week)
        return span if span.end > today else week_span(today.isocalendar().year + 1, week)
    if match := _SLASH_WEEK.match(text):
        return week_span(int(match[2]), int(match[1]))
    day = _next_day(text, today) or _read_day(text)
    if day is None:
        raise UnreadableDay(
            "unreadable_date", f"“{text}” is no day or week. Write “6 Aug 2027”, “2027-08-06” or “week 31”."
        )
    return Span(day, day + timedelta(days=1))


def _next_day(text: str, today: date) -> date | None:
    """The next day of this name, “1 June”, from `today` on; None where the text is none."""
    match = _NO_YEAR.match(text)
    if match is None or match[2].lower()[:3] not in MONTHS:
        return None
    for year in range(today.year, today.year + 9):  # 29 February may be eight years away
        try:
            day = date(year, MONTHS.index(match[2].lower()[:3]) + 1, int(match[1]))
        except ValueError:
            continue
        if day >= today:
            return day
    raise UnreadableDay("no_such_day", f"“{text}” is not in the calendar.")


def _read_day(text: str) -> date | None:
    if match := _ISO.match(text):
        year, month, day = int(match[1]), int(match[2]), int(match[3])
    elif match := _DAY_FIRST.match(text):
        name = match[2].lower()
        if name.isdigit():
            month = int(name)
        elif name[:3] in MONTHS:
            month = MONTHS.index(name[:3]) + 1
        else:
            return None
        year, day = int(match[3]), int(match[1])
    else:
        return None
    try:
        return date(year, month, day)
    except ValueError as error:
        raise UnreadableDay("no_such_day", f"“{text}” is not in the calendar: {error}.") from None
