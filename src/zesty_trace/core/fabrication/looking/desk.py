"""What every check of intake looks at, and what it asks."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from zesty_trace.core.fabrication.contacts import Contact
from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.fabrication.looking.capability import Capability
from zesty_trace.core.fabrication.looking.measures import Measures
from zesty_trace.core.findings import Severity

Spot = tuple[float, float]


@dataclass(frozen=True)
class Query:
    """One thing that intake asks about: how bad it is, what, the numbers, what to do, and where in mm."""

    severity: Severity
    rule: str
    title: str
    detail: str
    at: tuple[Spot, ...] = ()
    layer: str = ""

    def __str__(self) -> str:
        places = ", ".join(f"{x:.2f}, {y:.2f}" for x, y in self.at[:3])
        more = f" and {len(self.at) - 3} more places" if len(self.at) > 3 else ""
        where = f" At {places} mm{more}." if places else ""
        return f"{self.severity.word}: {self.title}. {self.detail}{where}"


@dataclass(frozen=True)
class Desk:
    """What every check looks at."""

    board: BoardSet
    measures: Measures
    limits: Capability
    contacts: tuple[Contact, ...] = ()
    source: str = ""


Check = Callable[[Desk], Iterable[Query]]
