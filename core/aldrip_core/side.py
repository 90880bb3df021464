"""The part of a piece of ground beyond so many metres from one of its sides."""

from aldrip_core.geometry import Point
from aldrip_core.isolation import Parts
from aldrip_core.refusal import refuse

SIDES = ("north", "east", "south", "west")
MOST_M = 20_000.0


def beyond_side(parts: Parts, *, side: str, metres: float) -> tuple[Point, ...]:
    """A rectangle that holds all of some ground but the metres along a side, as the compass has it [m].

    parts: polygons with their holes, each a ring of [x east, y north] [m]. Raises Refused for a width that is none.

    >>> beyond_side([[[(0, 0), (80, 0), (80, 50), (0, 50)]]], side="north", metres=12)
    ((-1.0, -1.0), (81.0, -1.0), (81.0, 38.0), (-1.0, 38.0))
    """
    if not 0 < metres <= MOST_M:
        raise refuse("metres", "out_of_range", f"A strip of {metres:g} m cannot be; above 0 and up to {MOST_M:,.0f} m.")
    corners = [(corner[0], corner[1]) for rings in parts for corner in rings[0]]
    west, east = min(x for x, _ in corners) - 1.0, max(x for x, _ in corners) + 1.0
    south, north = min(y for _, y in corners) - 1.0, max(y for _, y in corners) + 1.0
    if side == "north":
        north -= 1.0 + metres
    elif side == "south":
        south += 1.0 + metres
    elif side == "east":
        east -= 1.0 + metres
    else:
        west += 1.0 + metres
    if east <= west or north <= south:
        raise refuse(
            "metres", "nothing_left", f"{metres:g} m from the {side} take all of it. Reject the field instead."
        )
    return ((west, south), (east, south), (east, north), (west, north))
