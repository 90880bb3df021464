"""Every number can explain itself: the ordered steps from inputs with an origin to a value."""

from dataclasses import dataclass
from enum import StrEnum

Scalar = float | int | str | None


class Origin(StrEnum):
    """Where a value came from."""

    ENTERED = "entered"
    RECORDS = "records"
    LIBRARY = "library"
    COMPUTED = "computed"


@dataclass(frozen=True, slots=True)
class Given:
    """One value that goes into a step."""

    name: str
    value: Scalar
    unit: str = ""
    origin: Origin = Origin.ENTERED
    source: str | None = None


@dataclass(frozen=True, slots=True)
class Step:
    """One step of a working: label, the formula in words, what went in, what came out."""

    label: str
    formula: str
    inputs: tuple[Given, ...]
    value: Scalar
    unit: str = ""
    source: str | None = None


Working = tuple[Step, ...]


def computed(name: str, value: Scalar, unit: str = "") -> Given:
    """An input that an earlier step computed."""
    return Given(name, value, unit, Origin.COMPUTED)
