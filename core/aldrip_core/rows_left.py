"""What counts of a row plan when a part of its ground counts no more."""

import math
from collections.abc import Sequence

import shapely

from aldrip_core.isolation import Parts, shape_of
from aldrip_core.row_plan import Row, Segment


def lengths_left(segments: Sequence[Segment], left: Parts) -> list[float]:
    """Length of each of some straight pieces that lies in what is left of a field [m].

    left: polygons with their holes, each a ring of [x east, y north] [m]; all counts where it is empty.

    >>> lengths_left([((0, 5), (0, 45)), ((1, 5), (1, 45))], [[[(-1, 0), (2, 0), (2, 15), (-1, 15)]]])
    [10.0, 10.0]
    """
    if not left or not segments:
        return [math.dist(*segment) for segment in segments]
    ground = shape_of(left)
    shapely.prepare(ground)
    lines = shapely.linestrings([list(segment) for segment in segments])
    found: list[float] = shapely.length(shapely.intersection(lines, ground)).tolist()
    return found


def rows_left(rows: Sequence[Row], left: Parts) -> list[float]:
    """Metres of each row that count: as much of its metres as of its length lies in what is left [m]."""
    lengths = iter(lengths_left([segment for row in rows for segment in row.segments], left))
    found = []
    for row in rows:
        drawn = math.fsum(math.dist(*segment) for segment in row.segments)
        counts = math.fsum(next(lengths) for _ in row.segments)
        found.append(row.length_m * counts / drawn if drawn else 0.0)
    return found


def metres_left(rows: Sequence[Row], left: Parts) -> dict[str, float]:
    """Metres of each line that count [m]."""
    found: dict[str, float] = {}
    for row, metres in zip(rows, rows_left(rows, left), strict=True):
        found[row.line] = found.get(row.line, 0.0) + metres
    return found
