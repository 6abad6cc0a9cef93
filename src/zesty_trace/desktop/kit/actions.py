"""Something that can be done: its title in the palette, its shortcut, and what it runs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Action:
    """Something that can be done here; listed in the palette."""

    title: str
    shortcut: str
    run: Callable[[], object]
