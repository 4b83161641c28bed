"""What was changed, to be had back and done again."""

from __future__ import annotations

from typing import Generic, TypeVar

T = TypeVar("T")
_MOST = 300


class Undo(Generic[T]):
    """States before and after the present one, which its owner holds; the oldest are forgotten."""

    def __init__(self) -> None:
        self._before: list[T] = []
        self._after: list[T] = []

    @property
    def can_undo(self) -> bool:
        return bool(self._before)

    @property
    def can_redo(self) -> bool:
        return bool(self._after)

    def remember(self, before: T) -> None:
        """Something is changed: this was so until now."""
        self._before = [*self._before, before][-_MOST:]
        self.changed()

    def changed(self) -> None:
        """Changed within the step that was remembered last: what was undone cannot be done again."""
        self._after = []

    def undo(self, now: T) -> T:
        """The state before; `now` where there is none."""
        if not self._before:
            return now
        self._after.append(now)
        return self._before.pop()

    def redo(self, now: T) -> T:
        """The state that was undone; `now` where there is none."""
        if not self._after:
            return now
        self._before.append(now)
        return self._after.pop()
