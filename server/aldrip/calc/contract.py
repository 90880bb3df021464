"""From JSON in to JSON out: refusals as fields and codes, absent optionals left out."""

import json
import math
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from datetime import date
from enum import Enum
from typing import Any

from pydantic import BaseModel, ValidationError

from aldrip.calc.calculators import CALCULATORS
from aldrip_core.refusal import FieldError, Refused

CODES = {
    "extra_forbidden": "unknown_field",
    "missing": "missing",
    "too_large": "too_large",
    "too_long": "too_large",
    "date_parsing": "not_a_date",
    "date_from_datetime_parsing": "not_a_date",
    "date_type": "not_a_date",
    "json_invalid": "not_json",
    "finite_number": "not_finite",
    "greater_than": "out_of_range",
    "greater_than_equal": "out_of_range",
    "less_than": "out_of_range",
    "less_than_equal": "out_of_range",
    "literal_error": "not_a_choice",
    "string_too_short": "missing",
    "string_too_long": "too_large",
}
SENTENCES = {
    "unknown_field": "There is no such field here.",
    "missing": "This is needed.",
    "not_json": "The input is not JSON: {msg}.",
    "not_a_date": "A date is needed, written YYYY-MM-DD.",
    "not_finite": "A number is needed, neither infinite nor undefined.",
}
BY_TYPE = {
    "literal_error": "Choose one of {expected}.",
    "greater_than": "More than {gt} is needed{instead}.",
    "greater_than_equal": "{ge} or more is needed{instead}.",
    "less_than": "Less than {lt} is needed{instead}.",
    "less_than_equal": "{le} or less is needed{instead}.",
    "too_short": "At least {min_length} must stand here, not {actual_length}.",
    "too_long": "At most {max_length} may stand here, not {actual_length}.",
    "string_too_long": "At most {max_length} characters may stand here.",
    "int_parsing": "A whole number is needed.",
    "int_type": "A whole number is needed.",
    "int_from_float": "A whole number is needed, without a fraction.",
    "float_parsing": "A number is needed.",
    "float_type": "A number is needed.",
    "string_type": "Text is needed.",
    "bool_type": "Yes or no is needed.",
    "bool_parsing": "Yes or no is needed.",
    "list_type": "A list is needed.",
    "tuple_type": "A list is needed.",
    "dict_type": "Named fields are needed.",
    "model_type": "Named fields are needed.",
    "model_attributes_type": "Named fields are needed.",
    "uuid_parsing": "This is no UUID.",
    "typed": "{words}",
}
LONGEST_INPUT = 40


def sentence_for(fault: Mapping[str, Any], code: str) -> str:
    """What a schema found wrong, in a sentence of ours where there is one."""
    shown = str(fault.get("input", ""))
    if len(shown) > LONGEST_INPUT:
        shown = shown[:LONGEST_INPUT] + " …"
    given = {**(fault.get("ctx") or {}), "instead": f", not {shown}" if shown else "", "msg": fault["msg"]}
    given["expected"] = str(given.get("expected", "")).replace("'", "")
    wanted = SENTENCES.get(code) or BY_TYPE.get(fault["type"])
    try:
        return (wanted or f"{fault['msg'][:1].upper()}{fault['msg'][1:]}.").format(**given)
    except (KeyError, IndexError, ValueError):  # braces of somebody's own, or another wording of the schema library
        return f"{fault['msg']}."


def _clean(value: Any, *, keep_null: bool = False) -> Any:
    """Plain JSON values; an Enum is its value, a date its ISO form."""
    if is_dataclass(value) and not isinstance(value, type):
        return record(value)
    if isinstance(value, BaseModel):
        return {
            field.serialization_alias or name: _clean(getattr(value, name))
            for name, field in type(value).model_fields.items()
        }
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, dict):
        return {key: _clean(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_clean(item) for item in value]
    return value


def record(value: Any) -> dict[str, Any]:
    """A result as JSON: None is left out unless the result names it as unreachable."""
    nullable = getattr(value, "nullable", ())
    names = getattr(value, "json_names", {})  # where the contract's word is one of Python's own
    given = {field.name: getattr(value, field.name) for field in fields(value)}
    always = ("value",)  # of a working's step
    return {
        names.get(name, name): _clean(item)
        for name, item in given.items()
        if item is not None or name in nullable or name in always
    }


def field_errors(error: ValidationError) -> list[FieldError]:
    """What pydantic found, in our codes and sentences."""
    found = []
    for fault in error.errors(include_url=False):
        code = CODES.get(fault["type"], fault["type"] if fault["type"] in SENTENCES else "wrong_type")
        text = sentence_for(fault, code)
        place = [str(part) for part in fault["loc"] if part != "[key]"]
        found.append(FieldError(".".join(place), code, text.replace("..", ".")))
    return found


def problem(errors: list[FieldError] | tuple[FieldError, ...]) -> dict[str, Any]:
    """The refusal as problem+json."""
    return {
        "type": "about:blank",
        "title": "The input was refused",
        "status": 422,
        "errors": [{"field": e.field, "code": e.code, "message": e.message} for e in errors],
    }


def calculate(name: str, body: bytes | str) -> dict[str, Any]:
    """Answer one calculator. Raises Refused with every fault found, KeyError for no such name."""
    schema = CALCULATORS[name]
    try:
        question = schema.model_validate_json(body)
    except ValidationError as error:
        raise Refused(field_errors(error)) from None
    try:
        answer = question.answer()  # type: ignore[attr-defined]
    except OverflowError:
        raise Refused([FieldError("", "too_large", "These numbers are too large to compute with.")]) from None
    result: dict[str, Any] = _clean(answer)
    if not _all_finite(result):
        raise Refused([FieldError("", "too_large", "These numbers are too large to compute with.")])
    return result


def _all_finite(value: Any) -> bool:
    if isinstance(value, float):
        return math.isfinite(value)
    if isinstance(value, dict):
        return all(_all_finite(item) for item in value.values())
    if isinstance(value, list):
        return all(_all_finite(item) for item in value)
    return True


def schema_of(name: str) -> dict[str, Any]:
    """JSON Schema of a calculator's input."""
    return CALCULATORS[name].model_json_schema(by_alias=True)


def dumps(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, allow_nan=False)
