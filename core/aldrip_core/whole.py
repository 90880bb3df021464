"""Things that come whole: trays, cells, packets."""

import math

SLACK = 1e-9  # binary noise of a quotient such as 12000 / 0.8 must not cost a tray


def ceil_whole(value: float) -> int:
    """Smallest whole number not below `value`, forgiving binary noise (`ceil(x - 1e-9)`).

    >>> ceil_whole(15000.0000000001), ceil_whole(15000.1)
    (15000, 15001)
    """
    return math.ceil(value - SLACK)


def floor_whole(value: float) -> int:
    """Largest whole number not above `value`, forgiving binary noise (`floor(x + 1e-9)`).

    >>> floor_whole(14999.9999999999), floor_whole(14999.9)
    (15000, 14999)
    """
    return math.floor(value + SLACK)


def half_up(value: float, digits: int = 0) -> float:
    """`value` to so many digits, halves upward as laboratories round, forgiving binary noise.

    >>> half_up(8.95, 1), half_up(12.05, 1), half_up(82.5)
    (9.0, 12.1, 83.0)
    """
    scale = 10.0**digits
    return math.floor(value * scale + 0.5 + SLACK * scale) / scale


def round_up(value: float, step: float) -> float:
    """`value` rounded up to a multiple of `step` (> 0).

    >>> round_up(14201, 240)
    14400
    """
    return ceil_whole(value / step) * step
