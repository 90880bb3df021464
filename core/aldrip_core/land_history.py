"""Land history: what grew on a field before, and whether a seed crop may follow it."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Grown:
    """A crop on a field in a year; `clean`: it was itself inspected and free of designated disease."""

    year: int
    crop: str
    family: str = ""
    clean: bool = False
    told: str = ""  # by whom it is known, such as an own batch


@dataclass(frozen=True, slots=True)
class FreeYears:
    """Seasons that must lie between two crops of the same kind or family. Common practice, no source."""

    seasons: int = 2
    same: str = "crop"
    clean_excuses: bool = True
    source: str = "common practice, no source"


def objections(
    *, crop: str, family: str, year: int, history: Sequence[Grown], rules: Sequence[FreeYears]
) -> tuple[str, ...]:
    """Sentences for every rule that the field's history breaks; empty when it may be sown.

    >>> objections(crop="Sunflower", family="", year=2027, history=[Grown(2026, "Sunflower")], rules=[FreeYears()])
    ('Sunflower grew here in 2026; 2 seasons must lie between, so not before 2029.',)
    """
    said = []
    for rule in rules:
        for grown in history:
            same = (
                grown.crop.lower() == crop.lower() if rule.same == "crop" else bool(family) and grown.family == family
            )
            between = year - grown.year - 1
            if same and grown.year <= year and between < rule.seasons and not (grown.clean and rule.clean_excuses):
                said.append(
                    f"{grown.crop} grew here in {grown.year}{grown.told and f' ({grown.told})'}; {rule.seasons} seasons must lie between, so not before {grown.year + rule.seasons + 1}."
                )
    return tuple(dict.fromkeys(said))
