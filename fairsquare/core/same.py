"""What is worked out from one large unchanging thing is kept under that thing itself, not under a copy that is equal to it."""

from typing import Generic, TypeVar

T = TypeVar("T")


class Same(Generic[T]):
    """A key that equals another only where both hold the very same object, which it keeps alive for as long as it is kept."""

    __slots__ = ("held",)

    def __init__(self, held: T) -> None:
        self.held = held

    def __hash__(self) -> int:
        return id(self.held)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Same) and other.held is self.held
