"""What every request and result has in common: frozen, strict, no unknown fields, no NaN and no infinities."""

from typing import Annotated, Any, TypeVar

from pydantic import BaseModel, ConfigDict, Field

LARGEST_MM = 1.0e7
"""Ten kilometres: a coordinate beyond it is a slip of the keyboard, and its square would still be exact enough."""


T = TypeVar("T")
_LISTED: Any = Field(strict=False)
"""A tuple may be written as a list, in JSON and in Python; what stands in it is as strict as ever."""


class Model(BaseModel):
    """Base of all requests and results."""

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False)


Many = Annotated[tuple[T, ...], _LISTED]
Millimetres = Annotated[float, Field(ge=-LARGEST_MM, le=LARGEST_MM)]
NotNegative = Annotated[float, Field(ge=0, le=LARGEST_MM)]
Vector = Annotated[tuple[Millimetres, Millimetres, Millimetres], _LISTED]
Row3 = Annotated[tuple[float, float, float], _LISTED]
Matrix3 = Annotated[tuple[Row3, Row3, Row3], _LISTED]
Flags = Annotated[tuple[bool, bool, bool], _LISTED]
Tolerances = Annotated[tuple[NotNegative, NotNegative, NotNegative], _LISTED]
Code = Annotated[str, Field(min_length=1, max_length=40)]
