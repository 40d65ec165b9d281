"""What a rule has to say: a code with its values. `fairsquare.words` makes sentences of it, for one reader's units and time."""

from typing import Any

from pydantic import Field

from fairsquare.core.model import Model

Plain = str | int | float | bool | None


class Said(Model):
    """A code and its values, named so that they can be told: lengths are in mm and their names end with `_mm`, moments are ISO 8601
    in UTC and end with `_at`. A value named `told` says it more fully, in a sentence or a code of its own: no
    record keeps it."""

    kind: str
    values: dict[str, "Plain | Said | tuple[Plain | Said, ...]"] = Field(default_factory=dict)

    def coded(self) -> "Said":
        """Return it without any sentence: what a record keeps."""
        return Said(
            kind=self.kind, values={name: _coded(value) for name, value in self.values.items() if name != "told"}
        )


def say(kind: str, **values: Any) -> Said:
    """Return a code with its values; lists are kept as tuples."""
    given: dict[str, Any] = {name: tuple(value) if isinstance(value, list) else value for name, value in values.items()}
    return Said(kind=kind, values=given)


def _coded(value: Any) -> Any:
    if isinstance(value, Said):
        return value.coded()
    return tuple(_coded(part) for part in value) if isinstance(value, tuple) else value
