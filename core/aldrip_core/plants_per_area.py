"""Plants per area by spacing: on the bed, and with the paths counted."""

from dataclasses import dataclass
from enum import StrEnum

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed

M2_PER_HA = 10_000.0
M2_PER_ACRE = 4046.8564224  # international acre; NIST SP 811 gives 4046.856 (from memory)
STAGGERED_ROW = 0.866  # row spacing of a staggered set as a share of the in-row spacing, √3 ÷ 2


class Pattern(StrEnum):
    """How plants are set."""

    SQUARE = "square"
    STAGGERED = "staggered"
    ROWS_ON_BED = "rows_on_bed"


@dataclass(frozen=True, slots=True)
class Density:
    """Plants per m² of bed and of ground, per hectare and acre of ground."""

    net_per_m2: float
    gross_per_m2: float
    per_ha: float
    per_acre: float
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def plants_per_area(
    *,
    pattern: Pattern,
    in_row_cm: float,
    row_spacing_cm: float | None = None,
    rows: int | None = None,
    bed_width_cm: float | None = None,
    path_cm: float | None = None,
) -> Density:
    """Plants per m², hectare and acre for a spacing [cm].

    Square and staggered: `1 ÷ (row × in-row)`. On beds: net `rows ÷ (bed · in-row)`, gross with the
    path beside the bed. Per hectare and acre come from gross; without paths both are equal.
    Raises Refused when a bed lacks its rows or width. Source: common practice, no source.

    >>> round(plants_per_area(pattern=Pattern.SQUARE, row_spacing_cm=100, in_row_cm=50).per_ha)
    20000
    """
    in_row = in_row_cm / 100
    given: tuple[Given, ...]
    if pattern is Pattern.ROWS_ON_BED:
        for name, value in (("rows", rows), ("bed_width_cm", bed_width_cm)):
            if value is None:
                raise refuse(name, "missing", "Rows on a bed need the number of rows and the width of the bed.")
        net = (rows or 0) / ((bed_width_cm or 0) / 100 * in_row)
        formula = "rows ÷ (bed width × in-row)"
        given = (Given("rows", rows), Given("bed width", bed_width_cm, "cm"), Given("in-row", in_row_cm, "cm"))
    else:
        row = row_spacing_cm
        if row is None:
            row = in_row_cm * (STAGGERED_ROW if pattern is Pattern.STAGGERED else 1.0)
        net = 1 / (row / 100 * in_row)
        formula = "1 ÷ (row spacing × in-row)"
        given = (Given("row spacing", row, "cm"), Given("in-row", in_row_cm, "cm"))
    gross = net
    if path_cm is not None:
        if bed_width_cm is None:
            raise refuse("bed_width_cm", "missing", "A path counts beside a bed: give the width of the bed.")
        gross = net * bed_width_cm / (bed_width_cm + path_cm)
    working = (
        Step("On the bed", formula, given, net, "plants/m²"),
        Step(
            "With the paths",
            "net × bed ÷ (bed + path)",
            (computed("net", net), Given("bed width", bed_width_cm, "cm"), Given("path", path_cm, "cm")),
            gross,
            "plants/m²",
        ),
        Step("Per hectare", "gross × 10 000", (computed("gross", gross),), gross * M2_PER_HA, "plants/ha"),
        Step(
            "Per acre",
            "gross × 4 046.856",
            (computed("gross", gross),),
            gross * M2_PER_ACRE,
            "plants/acre",
            "NIST SP 811",
        ),
    )
    return Density(net, gross, gross * M2_PER_HA, gross * M2_PER_ACRE, working)
