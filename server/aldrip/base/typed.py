"""Numbers in a form as people type them: a schema takes the text and says at its field what cannot be read.

“1,420”, “12,5”, “85 %” and “1 250” are read; “5.000” could be five or five thousand, and is asked about.
"""

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import BeforeValidator, WithJsonSchema
from pydantic_core import PydanticCustomError

from aldrip.base.quantity import THOUSANDS, split_number
from aldrip_core.refusal import Refused, refuse

TYPED = "typed"  # the kind of fault under which pydantic reports what is refused here; `ctx` has our code


def _bare(text: str, *, whole: bool = False) -> float:
    """A number without a unit."""
    value, unit = split_number(text, "", whole=whole)
    if unit and unit.lower() not in THOUSANDS:
        raise refuse("", "unit_in_number", f"Write the number alone, without “{unit}”.")
    return value * THOUSANDS.get(unit.lower(), 1)


def _percent(text: str) -> float:
    return _bare(text.strip().removesuffix("%"))


def _share(text: str) -> float:
    return _percent(text) / 100


def _count(text: str) -> int:
    value = _bare(text, whole=True)
    if value != int(value):
        raise refuse("", "not_whole", f"{value:g} is not a whole number.")
    return int(value)


def _typed(read: Callable[[str], float]) -> Callable[[Any], Any]:
    """Reads text, with the fault at its field; what is no text is left to the schema."""

    def typed(value: Any) -> Any:
        if not isinstance(value, str):
            return value
        try:
            if not value.strip():
                raise refuse("", "missing", "This is needed.")
            return read(value)
        except Refused as refused:
            fault = refused.errors[0]
            raise PydanticCustomError(TYPED, "{words}", {"code": fault.code, "words": fault.message}) from None

    return typed


def _maybe(read: Callable[[str], float]) -> Callable[[Any], Any]:
    """The same, with nothing typed as nothing."""
    typed = _typed(read)
    return lambda value: None if isinstance(value, str) and not value.strip() else typed(value)


def _json(*kinds: str) -> WithJsonSchema:
    return WithJsonSchema({"anyOf": [{"type": kind} for kind in kinds]})


Number = Annotated[float, BeforeValidator(_typed(_bare)), _json("number", "string")]
Percent = Annotated[float, BeforeValidator(_typed(_percent)), _json("number", "string")]
Share = Annotated[
    float, BeforeValidator(_typed(_share)), _json("number", "string")
]  # a number is a share, text per cent
Count = Annotated[int, BeforeValidator(_typed(_count)), _json("integer", "string")]
MaybeNumber = Annotated[float | None, BeforeValidator(_maybe(_bare)), _json("number", "string", "null")]
MaybePercent = Annotated[float | None, BeforeValidator(_maybe(_percent)), _json("number", "string", "null")]
MaybeShare = Annotated[float | None, BeforeValidator(_maybe(_share)), _json("number", "string", "null")]
MaybeCount = Annotated[int | None, BeforeValidator(_maybe(_count)), _json("integer", "string", "null")]
