"""Weeks and days as growers write them: “week 31”, “2027-W31”, “6 Aug 2027”, “6.8.2027”."""

import re
from dataclasses import dataclass
from datetime import date, timedelta

MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_WEEK = re.compile(r"^(?:(\d{4})\s*[-/ ]?\s*)?(?:w|wk|week|weeks)\.?\s*(\d{1,2})(?:\s*[-/ ,of]*\s*(\d{4}))?$", re.I)
_SLASH_WEEK = re.compile(r"^(\d{1,2})\s*/\s*(\d{4})$")
_ISO = re.compile(r"^(\d{4})-(\d{1,2})-(\d{1,2})(?:[T ]00:00(?::00)?)?$")
_DAY_FIRST = re.compile(r"^(\d{1,2})\s*[./ -]\s*(\d{1,2}|[A-Za-z]{3,9})\.?\s*[./ -]\s*(\d{4})$")
_WEEKS = re.compile(
    r"^(?:(\d{4})\s*[-/ ]?\s*)?(?:w|wk|week|weeks)\.?\s*(\d{1,2})\s*(?:to|until|-|–|—)\s*(?:w|wk|week|weeks)?\.?\s*(\d{1,2})"
    r"(?:\s*[-/ ,of]*\s*(\d{4}))?$",
    re.I,
)
_TO = re.compile(r"^(.+?)(?:\s+(?:to|until|-)\s+|\s*[–—]\s*)(.+)$", re.I)
_WEEKDAY = re.compile(r"^(mon|tue|wed|thu|fri|sat|sun)[a-z]*\.?,?\s+(.+)$", re.I)
_AND_WEEK = re.compile(r"^(.+?),?\s+(?:w|wk|week)\.?\s*(\d{1,2})$", re.I)
YEARS = (1900, 2200)
HALF_A_YEAR = 183  # a window that is longer and names no year was turned round
WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
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


def _check_year(year: int) -> None:
    if not YEARS[0] <= year <= YEARS[1]:
        told = f"{year} is no year in which anything is grown here; {YEARS[0]} to {YEARS[1]}."
        raise UnreadableDay("no_such_year", told)


def week_span(year: int, week: int) -> Span:
    """Monday to Monday of an ISO week. Raises UnreadableDay when the year has no such week."""
    _check_year(year)
    most = weeks_in(year)
    if not 1 <= week <= most:
        raise UnreadableDay("no_such_week", f"Week {week} does not exist: {year} has {most} weeks.")
    monday = date.fromisocalendar(year, week, 1)
    return Span(monday, monday + timedelta(days=7))


def read_due(text: str, *, today: date) -> Span:
    """As `read_span`, where a bare number of one or two figures is a week. Raises UnreadableDay.

    >>> read_due("36", today=date(2027, 7, 6)) == read_span("week 36", today=date(2027, 7, 6))
    True
    """
    text = text.strip()
    return read_span(f"week {text}" if text.isdigit() and len(text) <= 2 else text, today=today)


def read_span(text: str, *, today: date) -> Span:
    """A day or a week from what a person typed.

    A week or a day without a year is the next such one from `today` on (a week that has begun counts).
    Day comes before month. Raises UnreadableDay.

    >>> read_span("week 31", today=date(2027, 7, 6)).start
    datetime.date(2027, 8, 2)
    >>> read_span("Mon 3 May 2027, week 18", today=date(2027, 1, 6)).start
    datetime.date(2027, 5, 3)
    >>> read_span("weeks 31 to 33", today=date(2027, 7, 6)).end
    datetime.date(2027, 8, 23)
    >>> read_span("3 to 9 May 2027", today=date(2027, 1, 6)).end
    datetime.date(2027, 5, 10)
    """
    text = text.strip()
    if not text:
        raise UnreadableDay("missing", "There is no date. Write a day or a week, such as “6 Aug 2027” or “week 31”.")
    if match := _WEEKS.match(text):
        year = match[1] or match[4] or ""
        first = read_span(f"week {match[2]} {year}", today=today)
        return _through(first, read_span(f"week {match[3]} {year}", today=first.start), text)
    if match := _WEEK.match(text):
        week = int(match[2])
        if year := match[1] or match[3]:
            return week_span(int(year), week)
        span = week_span(today.isocalendar().year, week)
        return span if span.end > today else week_span(today.isocalendar().year + 1, week)
    if match := _SLASH_WEEK.match(text):
        return week_span(int(match[2]), int(match[1]))
    day = _named_day(text, today)
    if day is not None:
        return Span(day, day + timedelta(days=1))
    if match := _TO.match(text):
        return _between(match[1], match[2], today, text)
    raise UnreadableDay(
        "unreadable_date", f"“{text}” is no day or week. Write “6 Aug 2027”, “2027-08-06” or “week 31”."
    )


def _between(first: str, last: str, today: date, text: str) -> Span:
    """From one day or week to another; “3 to 9 May 2027” names its month and year once."""
    if first.strip().rstrip(".").isdigit() and (match := re.match(r"^\d{1,2}\.?(\D.*)$", last.strip())):
        first = f"{first.strip()} {match[1].strip()}"
    start = read_span(first, today=today)
    return _through(start, read_span(last, today=start.start), text)


def _through(first: Span, last: Span, text: str) -> Span:
    if last.end <= first.start:
        raise UnreadableDay("before_start", f"“{text}” ends before it begins. Swap the two, or correct one.")
    if (last.end - first.start).days > HALF_A_YEAR and not re.search(r"\d{4}", text):
        told = f"“{text}” would last until {last.last.day} {last.last:%b %Y}. Swap the two, or write the years."
        raise UnreadableDay("before_start", told)
    return Span(first.start, last.end)


def _named_day(text: str, today: date) -> date | None:
    """A day, with its weekday before it and its week behind it where they are written; they must agree with it.

    Raises UnreadableDay where they do not.
    """
    plain, weekday, week = text, None, None
    if match := _WEEKDAY.match(plain):
        weekday, plain = WEEKDAYS.index(match[1].lower()), match[2]
    if match := _AND_WEEK.match(plain):
        plain, week = match[1], int(match[2])
    day = _next_day(plain, today) or _read_day(plain)
    if day is None:
        return None
    if weekday is not None and day.weekday() != weekday:
        told = f"{day.day} {day:%b %Y} is a {day:%A}. Correct the day or its weekday."
        raise UnreadableDay("other_weekday", told)
    if week is not None and day.isocalendar().week != week:
        told = f"{day.day} {day:%b %Y} lies in week {day.isocalendar().week}, not {week}. Correct one of them."
        raise UnreadableDay("other_week", told)
    return day


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
    _check_year(year)
    try:
        return date(year, month, day)
    except ValueError as error:
        raise UnreadableDay("no_such_day", f"“{text}” is not in the calendar: {error}.") from None
