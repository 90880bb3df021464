"""Whether a value is near enough to what was to be expected, or must be asked about before it is kept."""

from datetime import date

from aldrip_core.units import plain

LOW_GERMINATION = 0.2  # under which a lot is hardly ever sold, and a slip of the comma is likely
MUCH_MORE = 1.25  # of what was forecast: plants that nobody saw
FAR = 3.0  # times too much or too little: beyond what crops do, within what a slip of the key does


def how_far(value: float, expected: float, *, far: float = FAR) -> str | None:
    """How a value stands to what was expected, in words, where it is `far` times more or less; None where it is near.

    >>> how_far(1420, 142), how_far(14, 142), how_far(150, 142)
    ('ten times', 'a tenth of', None)
    >>> how_far(500, 142), how_far(3, 142)
    ('3.5 times', 'a 47th of')
    """
    if value <= 0 or expected <= 0:
        return None
    if value / expected >= far - 1e-9:
        return f"{_count(value / expected)} times"
    return f"{_part(expected / value)} of" if expected / value >= far - 1e-9 else None


MUCH_TOO_SOON = 0.5  # of the days that were foreseen: no season is as fast
WEEKS_OFF = 14  # days from the day foreseen, where what grows says the day


def how_early(*, since: date, on: date, foreseen: date) -> str | None:
    """How a day stands to the one that was foreseen, counted from a start, in words; None where it is not much too soon.

    >>> how_early(since=date(2027, 4, 15), on=date(2027, 4, 17), foreseen=date(2027, 9, 10))
    '2 days after, 146 days sooner than foreseen'
    >>> how_early(since=date(2027, 4, 15), on=date(2027, 8, 20), foreseen=date(2027, 9, 10))
    """
    took, whole = (on - since).days, (foreseen - since).days
    if whole <= WEEKS_OFF or took > whole * MUCH_TOO_SOON:
        return None
    return f"{took} {'day' if took == 1 else 'days'} after, {whole - took} days sooner than foreseen"


WORDS = {2: "two", 3: "three", 4: "four", 5: "five", 10: "ten", 20: "twenty", 100: "a hundred", 1000: "a thousand"}
PARTS = {
    2: "half",
    3: "a third",
    4: "a quarter",
    5: "a fifth",
    10: "a tenth",
    20: "a twentieth",
    100: "a hundredth",
    1000: "a thousandth",
}


def _count(ratio: float) -> str:
    near = round(ratio)
    return WORDS[near] if near in WORDS and abs(ratio - near) < 0.05 * near else plain(float(f"{ratio:.2g}"))


def _part(ratio: float) -> str:
    near = round(ratio)
    if near in PARTS and abs(ratio - near) < 0.05 * near:
        return PARTS[near]
    ends = {1: "st", 2: "nd", 3: "rd"}.get(near % 10 if near % 100 not in (11, 12, 13) else 0, "th")
    return f"a {near:,}{ends}"
