"""Days as growers say them."""

from datetime import date


def day_words(day: date) -> str:
    """“Tue 3 Mar, week 10”.

    >>> day_words(date(2026, 3, 3))
    'Tue 3 Mar, week 10'
    """
    return f"{day:%a} {day.day} {day:%b}, week {day.isocalendar().week}"
