"""What every request and result has in common: frozen, strict, no unknown fields, no NaN and no infinities."""

from typing import Annotated, Any, Self, TypeVar

from pydantic import BaseModel, ConfigDict, Field

LARGEST_MM = 1.0e7
"""Ten kilometres: a coordinate beyond it is a slip of the keyboard, and its square would still be exact enough."""


T = TypeVar("T")
_LISTED: Any = Field(strict=False)
"""A tuple may be written as a list, in JSON and in Python; what stands in it is as strict as ever."""


class Model(BaseModel):
    """Base of all requests and results."""

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False)

    @classmethod
    def unchecked(cls, **values: Any) -> Self:
        """Return an object of values that we worked out ourselves, every field given, without checking them again.

        What `model_construct` does for any input (defaults, aliases, extra fields) costs more than the object: results come by
        the thousand.
        """
        own = cls.__new__(cls)
        for name, value in (
            ("__dict__", values),
            ("__pydantic_fields_set__", set(values)),
            ("__pydantic_extra__", None),
            ("__pydantic_private__", None),
        ):
            object.__setattr__(own, name, value)
        return own


class Spoken(Model):
    """A model with a JSON name that Python keeps for itself, such as `from`: read by either name, written by the JSON one."""

    model_config = ConfigDict(validate_by_name=True, validate_by_alias=True, serialize_by_alias=True)


Many = Annotated[tuple[T, ...], _LISTED]
Millimetres = Annotated[float, Field(ge=-LARGEST_MM, le=LARGEST_MM)]
NotNegative = Annotated[float, Field(ge=0, le=LARGEST_MM)]
Vector = Annotated[tuple[Millimetres, Millimetres, Millimetres], _LISTED]
Row3 = Annotated[tuple[float, float, float], _LISTED]
Matrix3 = Annotated[tuple[Row3, Row3, Row3], _LISTED]
Flags = Annotated[tuple[bool, bool, bool], _LISTED]
Tolerances = Annotated[tuple[NotNegative, NotNegative, NotNegative], _LISTED]
Code = Annotated[str, Field(min_length=1, max_length=40)]
