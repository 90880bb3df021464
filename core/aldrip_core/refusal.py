"""How core says no: the field, a code, a sentence with what, by how much and what to do."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class FieldError:
    """One fault of the input. `field` is a dotted path such as `stages.0.survival`."""

    field: str
    code: str
    message: str


class Refused(ValueError):
    """The input cannot be computed; `errors` says why, field by field."""

    def __init__(self, errors: Sequence[FieldError]) -> None:
        super().__init__("; ".join(f"{e.field}: {e.message}" for e in errors))
        self.errors = tuple(errors)


def refuse(field: str, code: str, message: str) -> Refused:
    """A refusal with one fault."""
    return Refused([FieldError(field, code, message)])


@dataclass(frozen=True, slots=True)
class Warn:
    """Something the reader of the result must know; the result stands all the same."""

    code: str
    message: str
