"""Things that come whole: trays, cells, packets."""

import math

SLACK = 1e-9  # binary noise of a quotient such as 12000 / 0.8 must not cost a tray


def ceil_whole(value: float) -> int:
    """Smallest whole number not below `value`, forgiving binary noise (`ceil(x - 1e-9)`).

    >>> ceil_whole(15000.0000000001), ceil_whole(15000.1)
    (15000, 15001)
    """
    return math.ceil(value - SLACK)


def round_up(value: float, step: float) -> float:
    """`value` rounded up to a multiple of `step` (> 0).

    >>> round_up(14201, 240)
    14400
    """
    return ceil_whole(value / step) * step
