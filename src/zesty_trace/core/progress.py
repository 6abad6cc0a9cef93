"""How long work tells how far it is: `report(share 0..1, text)` returns False to ask it to stop."""

from __future__ import annotations

from collections.abc import Callable

Report = Callable[[float, str], bool]


def quiet(share: float, text: str) -> bool:
    """A report that nobody listens to."""
    return True
