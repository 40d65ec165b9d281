"""What every request and result has in common: frozen, strict, no unknown fields, no NaN and no infinities."""

from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

LARGEST_MM = 1.0e7
"""Ten kilometres: a coordinate beyond it is a slip of the keyboard, and its square would still be exact enough."""


def tuple_from_list(value: Any) -> Any:
    """Return a list as a tuple, so that JSON and Python callers may both write lists; anything else as it is."""
    return tuple(value) if isinstance(value, list) else value


class Model(BaseModel):
    """Base of all requests and results."""

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False)


Millimetres = Annotated[float, Field(ge=-LARGEST_MM, le=LARGEST_MM)]
NotNegative = Annotated[float, Field(ge=0, le=LARGEST_MM)]
Vector = Annotated[tuple[Millimetres, Millimetres, Millimetres], BeforeValidator(tuple_from_list)]
Row3 = Annotated[tuple[float, float, float], BeforeValidator(tuple_from_list)]
Matrix3 = Annotated[tuple[Row3, Row3, Row3], BeforeValidator(tuple_from_list)]
Flags = Annotated[tuple[bool, bool, bool], BeforeValidator(tuple_from_list)]
Tolerances = Annotated[tuple[NotNegative, NotNegative, NotNegative], BeforeValidator(tuple_from_list)]
Code = Annotated[str, Field(min_length=1, max_length=40)]
