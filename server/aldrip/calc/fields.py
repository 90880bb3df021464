"""Field types of the calculators: strict JSON numbers with the limits of the contract."""

from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field
from pydantic_core import PydanticCustomError

MOST_COUNT = 10_000_000
MOST_LIST = 5_000


class Strict(BaseModel):
    """No unknown fields, no strings for numbers, no NaN."""

    model_config = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


def _whole(value: Any) -> Any:
    # 12000.0 is a whole number to anybody but a type checker.
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return int(value)
    return value


def _not_too_many(value: float) -> float:
    if value > MOST_COUNT:
        raise PydanticCustomError("too_large", f"{value:,.0f} is more than the {MOST_COUNT:,} answered here.")
    return value


Whole = Annotated[int, BeforeValidator(_whole), Field(ge=0), AfterValidator(_not_too_many)]
WholePositive = Annotated[int, BeforeValidator(_whole), Field(ge=1), AfterValidator(_not_too_many)]
Count = Annotated[float, Field(ge=0), AfterValidator(_not_too_many)]
Share = Annotated[float, Field(ge=0, le=1)]
Positive = Annotated[float, Field(gt=0, le=1e12)]
NotNegative = Annotated[float, Field(ge=0, le=1e12)]
Celsius = Annotated[float, Field(ge=-100, le=150)]
Bounded = Field(max_length=MOST_LIST)
