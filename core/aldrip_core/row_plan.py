"""The row plan: parent rows in a real field, with borders and headlands, down to kilos by line."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import ClassVar

from shapely import LineString, Polygon

from aldrip_core.geometry import Point, polygon
from aldrip_core.refusal import Warn, refuse
from aldrip_core.whole import ceil_whole
from aldrip_core.working import Given, Step, Working, computed

MOST_ROWS = 5_000
MOST_CROSSINGS = 2_000_000  # corners × rows that are looked at; about a second
Segment = tuple[Point, Point]


@dataclass(frozen=True, slots=True)
class Row:
    """One row or headland strip: its line, metres, pieces [x, y], and where it belongs.

    `part`: `body`, `border` (beside the body) or `headland` (across the ends).
    """

    index: int
    line: str
    length_m: float
    segments: tuple[Segment, ...]
    part: str = "body"


@dataclass(frozen=True, slots=True)
class RowPlan:
    """Rows of a block, and metres, plants and seed [kg] by line."""

    rows: tuple[Row, ...]
    metres: dict[str, float]
    plants: dict[str, float]
    seed_kg: dict[str, float]
    female_share: float
    female_share_in_pattern: float
    passes: int | None = None
    border_metres: float = 0.0
    area_m2: float = 0.0
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


@dataclass(frozen=True, slots=True)
class _Frame:
    """Along the rows (u) and across them to the right (v)."""

    sine: float
    cosine: float

    def turn(self, p: Point) -> Point:
        return p[0] * self.sine + p[1] * self.cosine, p[0] * self.cosine - p[1] * self.sine

    def back(self, u: float, v: float) -> Point:
        return u * self.sine + v * self.cosine, u * self.cosine - v * self.sine


def spans_at(corners: Sequence[Point], v: float, *others: Sequence[Point]) -> list[tuple[float, float]]:
    """Where the line at `v` runs inside rings of (u, v) corners, holes among them: pairs of u, in order.

    >>> spans_at([(0, 0), (10, 0), (10, 4), (0, 4)], 1)
    [(0.0, 10.0)]
    >>> spans_at([(0, 0), (10, 0), (10, 4), (0, 4)], 1, [(2, 0), (3, 0), (3, 2), (2, 2)])
    [(0.0, 2.0), (3.0, 10.0)]
    """
    crossings = []
    for ring in (corners, *others):
        for (u1, v1), (u2, v2) in zip(ring, (*ring[1:], ring[0]), strict=True):
            if (v1 <= v) != (v2 <= v):
                crossings.append(u1 + (u2 - u1) * (v - v1) / (v2 - v1))
    crossings.sort()
    return [(a, b) for a, b in zip(crossings[::2], crossings[1::2], strict=True) if b - a > 1e-9]


def row_plan(
    *,
    outline: Sequence[Sequence[float]],
    row_bearing_deg: float,
    row_spacing_m: float,
    pattern: str,
    border_rows: int,
    in_row_cm: Mapping[str, float],
    headland_rows: int | None = None,
    border_line: str = "M",
    establishment: Mapping[str, float] | None = None,
    tgw_g: Mapping[str, float] | None = None,
    planter_rows: int | None = None,
) -> RowPlan:
    """Lay parent rows out in an outline and count metres, plants and seed of each line.

    outline: ring of [x east, y north] [m]. Bearing of the rows clockwise from north [deg]. Rows stand
    `row_spacing_m` apart, the first half a spacing inside. `border_rows` of `border_line` run along
    each side; `headland_rows` strips of it cross both ends of every row, each as deep as the spacing,
    so that a row that meets the field's edge aslant is guarded there too. The pattern repeats over
    the rows between the borders. A headland strip counts one spacing of metres for every row whose
    end it crosses, so that metres × spacing is the area. One plant a position `in_row_cm`; seeds =
    plants ÷ establishment. Raises Refused. Source: geometry; common practice, no source.

    >>> plan = row_plan(outline=[(0, 0), (60, 0), (60, 100), (0, 100)], row_bearing_deg=0, row_spacing_m=0.75,
    ...     pattern="FFFFMM", border_rows=4, in_row_cm={"F": 20, "M": 20})
    >>> round(sum(plan.metres.values()) * 0.75)
    6000
    """
    pattern, lines = _read_pattern(pattern, border_line, border_rows, headland_rows, in_row_cm)
    headland = border_rows if headland_rows is None else headland_rows
    shape = polygon(outline)
    bearing = math.radians(row_bearing_deg)
    frame = _Frame(math.sin(bearing), math.cos(bearing))
    corners = [frame.turn((float(x), float(y))) for x, y in list(shape.exterior.coords)[:-1]]
    lowest, highest = min(v for _, v in corners), max(v for _, v in corners)
    count = math.ceil((highest - lowest) / row_spacing_m - 0.5 - 1e-9)
    if count < 1:
        raise refuse(
            "row_spacing_m",
            "out_of_range",
            f"The field is {highest - lowest:.1f} m across; rows {row_spacing_m:g} m apart do not fit.",
        )
    if count + 2 * headland > MOST_ROWS:
        raise refuse("row_spacing_m", "too_large", f"{count:,} rows are more than the {MOST_ROWS:,} laid out here.")
    if count * len(corners) > MOST_CROSSINGS:
        raise refuse(
            "outline", "too_large", f"{len(corners):,} corners and {count:,} rows are too many to lay out at once."
        )
    if count <= 2 * border_rows:
        raise refuse(
            "border_rows",
            "no_room",
            f"{count} rows fit; {border_rows} border rows on each side leave none for the parents.",
        )
    rows: list[Row] = []
    strips: list[list[tuple[float, float, float]]] = [[] for _ in range(2 * headland)]
    for k in range(count):
        v = lowest + (k + 0.5) * row_spacing_m
        border = k < border_rows or k >= count - border_rows
        line = border_line if border else pattern[(k - border_rows) % len(pattern)]
        pieces: list[Segment] = []
        for a, b in spans_at(corners, v):
            depth = min(headland * row_spacing_m, (b - a) / 2)
            _share_out(strips, a, b, depth, v, row_spacing_m, headland)
            if b - a - 2 * depth > 1e-9:
                pieces.append((frame.back(a + depth, v), frame.back(b - depth, v)))
        length = sum(math.dist(*piece) for piece in pieces)
        rows.append(Row(k, line, length, tuple(pieces), "border" if border else "body"))
    for number, strip in enumerate(strips):
        across = _strip_pieces(strip, frame, row_spacing_m, shape)
        rows.append(Row(count + number, border_line, math.fsum(d for _, _, d in strip), across, "headland"))
    return _summed(
        rows,
        lines,
        pattern,
        row_spacing_m,
        in_row_cm,
        establishment or {},
        tgw_g or {},
        planter_rows,
        float(shape.area),
        count,
    )


def _read_pattern(
    pattern: str, border_line: str, border_rows: int, headland_rows: int | None, in_row_cm: Mapping[str, float]
) -> tuple[str, tuple[str, ...]]:
    pattern = pattern.strip().upper()
    if not pattern or set(pattern) - {"F", "M"} or "F" not in pattern:
        raise refuse(
            "pattern", "not_a_pattern", "A pattern is written with F for female and M for male rows, such as FFFFMM."
        )
    if border_line not in ("F", "M"):
        raise refuse("border_line", "not_a_choice", "Borders are planted with F or with M.")
    used = set(pattern) | ({border_line} if border_rows or headland_rows else set())
    for line in sorted(used):
        if not in_row_cm.get(line, 0) > 0:
            raise refuse(f"in_row_cm.{line}", "missing", f"How far apart do plants of {line} stand in the row?")
    return pattern, ("F", "M") if "M" in used else ("F",)


def _share_out(
    strips: list[list[tuple[float, float, float]]],
    a: float,
    b: float,
    depth: float,
    v: float,
    spacing: float,
    headland: int,
) -> None:
    """Give each strip its part of a row's two ends: (u of the middle, v, metres)."""
    for j in range(headland):
        near, far = j * spacing, min((j + 1) * spacing, depth)
        if far - near <= 1e-9:
            return
        strips[j].append((a + (near + far) / 2, v, far - near))
        strips[headland + j].append((b - (near + far) / 2, v, far - near))


def _strip_pieces(
    strip: list[tuple[float, float, float]], frame: _Frame, spacing: float, shape: Polygon
) -> tuple[Segment, ...]:
    """A strip as straight pieces across the rows, each cut to the field; level neighbours joined."""
    runs: list[list[float]] = []
    for u, v, _ in strip:
        last = runs[-1] if runs else None
        if last and abs(last[0] - u) < 1e-6 and abs(last[2] - (v - spacing / 2)) < 1e-6:
            last[2] = v + spacing / 2
        else:
            runs.append([u, v - spacing / 2, v + spacing / 2])
    pieces: list[Segment] = []
    for u, first, last_v in runs:
        cut = LineString([frame.back(u, first), frame.back(u, last_v)]).intersection(shape)
        for part in getattr(cut, "geoms", [cut]):
            ends = list(part.coords)
            if len(ends) == 2:
                pieces.append(((ends[0][0], ends[0][1]), (ends[1][0], ends[1][1])))
    return tuple(pieces)


def _summed(
    rows: list[Row],
    lines: tuple[str, ...],
    pattern: str,
    spacing: float,
    in_row_cm: Mapping[str, float],
    establishment: Mapping[str, float],
    tgw_g: Mapping[str, float],
    planter_rows: int | None,
    area: float,
    count: int,
) -> RowPlan:
    metres = {line: math.fsum(row.length_m for row in rows if row.line == line) for line in lines}
    plants = {line: metres[line] / (in_row_cm[line] / 100) for line in lines}
    seed: dict[str, float] = {}
    working = [
        Step(
            "Rows",
            "width across the rows ÷ spacing, first row half a spacing inside",
            (Given("spacing", spacing, "m"),),
            count,
            "rows",
        )
    ]
    for line in lines:
        share = establishment.get(line, 1.0)
        if share <= 0:
            raise refuse(f"establishment.{line}", "unreachable", f"At an establishment of nothing no {line} stands.")
        working += [
            Step(f"Metres of {line}", "sum over its rows, borders and headlands among them", (), metres[line], "m"),
            Step(
                f"Plants of {line}",
                "metres ÷ distance in the row",
                (computed("metres", metres[line], "m"), Given("in the row", in_row_cm[line], "cm")),
                plants[line],
                "plants",
            ),
        ]
        if line in tgw_g:
            seed[line] = plants[line] / share * tgw_g[line] / 1e6
            working.append(
                Step(
                    f"Seed of {line}",
                    "plants ÷ establishment × thousand-grain weight ÷ 1 000 000",
                    (
                        computed("plants", plants[line]),
                        Given("establishment", share, "share"),
                        Given("thousand-grain weight", tgw_g[line], "g"),
                    ),
                    seed[line],
                    "kg",
                )
            )
    total = math.fsum(metres.values())
    share = metres["F"] / total if total else 0.0
    working.append(
        Step("Female share", "metres of F ÷ all metres", (computed("all metres", total, "m"),), share, "share")
    )
    border = math.fsum(row.length_m for row in rows if row.part != "body")
    passes: int | None = None
    warnings: tuple[Warn, ...] = ()
    if planter_rows:
        passes = ceil_whole(count / planter_rows)
        warnings = _fit(pattern, planter_rows)
    return RowPlan(
        tuple(rows),
        metres,
        plants,
        seed,
        share,
        pattern.count("F") / len(pattern),
        passes,
        border,
        area,
        tuple(working),
        warnings,
    )


def _fit(pattern: str, planter_rows: int) -> tuple[Warn, ...]:
    if len(pattern) % planter_rows == 0 or planter_rows % len(pattern) == 0:
        return ()
    whole = math.lcm(len(pattern), planter_rows)
    text = f"A pattern of {len(pattern)} rows does not fit whole passes of {planter_rows}; it comes round again after {whole} rows."
    return (Warn("pattern_not_whole_passes", text),)
