"""Growing medium: litres of a mix, and of each part."""

from collections.abc import Mapping
from dataclasses import dataclass

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed


@dataclass(frozen=True, slots=True)
class Media:
    """Litres in all and by part."""

    litres: float
    by_part: dict[str, float]
    working: Working = ()
    warnings: tuple[Warn, ...] = ()


def cover_litres(*, area_m2: float, depth_mm: float) -> float:
    """Litres that cover trays to a depth: one millimetre on one square metre is a litre. Source: arithmetic.

    >>> cover_litres(area_m2=34, depth_mm=5)
    170
    """
    return area_m2 * depth_mm


def media(
    *,
    parts: Mapping[str, float],
    litres: float | None = None,
    trays: float | None = None,
    cells_per_tray: float | None = None,
    cell_ml: float | None = None,
    settling: float = 0.0,
    spillage: float = 0.0,
) -> Media:
    """Litres of a mix given in parts by volume, for a volume or for trays.

    For trays: `trays · cells · ml ÷ 1000 · (1 + settling + spillage)` [L]; shares [0-1].
    Raises Refused when the parts add up to nothing or neither way is given whole.
    Source: arithmetic.

    >>> media(parts={"coir": 3, "vermiculite": 1}, litres=100).by_part
    {'coir': 75.0, 'vermiculite': 25.0}
    """
    total = sum(parts.values())
    if total <= 0:
        raise refuse("parts", "empty", "The parts add up to nothing; give at least one part above 0.")
    from_trays = (trays, cells_per_tray, cell_ml)
    if (litres is None) == all(value is None for value in from_trays):
        raise refuse("litres", "one_of", "Give either litres, or trays with cells_per_tray and cell_ml.")
    working: list[Step] = []
    given: tuple[Given, ...]
    if litres is None:
        names = ("trays", "cells_per_tray", "cell_ml")
        for name, value in zip(names, from_trays, strict=True):
            if value is None:
                raise refuse(name, "missing", "Medium for trays needs trays, cells per tray and millilitres per cell.")
        litres = (trays or 0) * (cells_per_tray or 0) * (cell_ml or 0) / 1000 * (1 + settling + spillage)
        given = (
            Given("trays", trays),
            Given("cells per tray", cells_per_tray),
            Given("cell", cell_ml, "mL"),
            Given("settling", settling, "share"),
            Given("spillage", spillage, "share"),
        )
        working.append(Step("Medium", "trays × cells × mL ÷ 1000 × (1 + settling + spillage)", given, litres, "L"))
    by_part = {name: litres * (part / total) for name, part in parts.items()}
    for name, value in by_part.items():
        given = (
            computed("litres", litres, "L"),
            Given(name, parts[name], "parts"),
            computed("all parts", total, "parts"),
        )
        working.append(Step(name, "litres × part ÷ all parts", given, value, "L"))
    return Media(litres, by_part, tuple(working))
