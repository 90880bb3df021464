"""Shapes that several rooms answer with."""

from typing import Any, Literal

from ninja import Schema

from aldrip_core.working import Step, Working

#: In what a thing can stand; the same words as the models keep, for readers of answers.
BatchState = Literal["planned", "sown", "ready", "delivered", "abandoned"]
LineState = Literal["open", "delivered", "short", "cancelled"]
TaskState = Literal["todo", "partly", "done", "not_done"]
VisitState = Literal["planned", "open", "signed"]
LotStatus = Literal["", "raw", "clean", "held", "released", "rejected"]
Scalar = float | int | str | None


class GivenOut(Schema):
    name: str
    value: Scalar = None
    unit: str = ""
    origin: str
    source: str | None = None


class StepOut(Schema):
    label: str
    formula: str
    inputs: list[GivenOut]
    value: Scalar = None
    unit: str = ""
    source: str | None = None


class Done(Schema):
    """Something was saved."""

    id: int | None = None
    message: str


class ProblemError(Schema):
    field: str
    code: str
    message: str


class Problem(Schema):
    """A refusal, as problem+json."""

    type: str = "about:blank"
    title: str
    status: int
    code: str = ""
    errors: list[ProblemError] = []


def steps(working: Working) -> list[dict[str, Any]]:
    """A working as plain data."""
    return [_step(step) for step in working]


def _step(step: Step) -> dict[str, Any]:
    return {
        "label": step.label,
        "formula": step.formula,
        "value": step.value,
        "unit": step.unit,
        "source": step.source,
        "inputs": [
            {"name": g.name, "value": g.value, "unit": g.unit, "origin": g.origin.value, "source": g.source}
            for g in step.inputs
        ],
    }
