"""Undo and redo without limit: the previous value, kept. Shared by all stations."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from zesty_trace.core.design.check import check_design
from zesty_trace.core.design.model import Design


@dataclass(frozen=True)
class Step:
    """One value in the history and the words for what made it."""

    design: Design
    label: str


class History:
    """The values that the design had, in order, and where we are among them."""

    def __init__(self, design: Design) -> None:
        self._steps = [Step(design, "opened")]
        self._index = 0

    @property
    def design(self) -> Design:
        """The current value."""
        return self._steps[self._index].design

    def do(self, label: str, edit: Callable[[Design], Design]) -> bool:
        """Apply `edit`; return whether the design changed. What had been undone is dropped.

        InputError, and nothing changes, if what the edit gives is not whole: it could not be saved and read again.
        """
        after = edit(self.design)
        if after == self.design:
            return False
        check_design(after, self.design)
        del self._steps[self._index + 1 :]
        self._steps.append(Step(after, label))
        self._index += 1
        return True

    def undo(self) -> str | None:
        """Go one value back; return what was undone, or None at the start."""
        if self._index == 0:
            return None
        self._index -= 1
        return self._steps[self._index + 1].label

    def redo(self) -> str | None:
        """Go one value forward; return what was redone, or None at the end."""
        if self._index + 1 >= len(self._steps):
            return None
        self._index += 1
        return self._steps[self._index].label

    def has_ancestor(self, design: Design) -> bool:
        """Whether `design` is the current value or one that it came from (by identity)."""
        return any(step.design is design for step in self._steps[: self._index + 1])
