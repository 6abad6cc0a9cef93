"""A judgement and its number: what was found, the value, the limit, where it comes from, and the edit that mends it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import IntEnum
from typing import Any

from zesty_trace.core.geometry import Point


class Severity(IntEnum):
    """How bad it is; the lower, the worse."""

    STOP = 0
    FIX = 1
    NOTE = 2

    @property
    def word(self) -> str:
        """The word shown beside the stripe."""
        return {0: "stop", 1: "fix", 2: "note"}[int(self)]


@dataclass(frozen=True)
class Mend:
    """An edit that puts a finding right, with the sentence for its button."""

    label: str
    apply: Callable[[Any], Any] = field(repr=False, compare=False)


@dataclass(frozen=True)
class Finding:
    """One judgement. `rule` and `key` together are its identity from one run to the next."""

    rule: str
    key: str
    severity: Severity
    title: str
    detail: str
    why: str
    source: str
    station: str
    refs: tuple[str, ...] = ()
    nets: tuple[str, ...] = ()
    at: tuple[Point, ...] = ()
    value: float | None = None
    limit: float | None = None
    unit: str = ""
    mend: Mend | None = None
    accepted: str = ""

    @property
    def identity(self) -> str:
        """What the finding is known by from one run to the next."""
        return f"{self.rule}: {self.key}"

    def as_dict(self) -> dict[str, Any]:
        """Return the finding as plain values for `--json`."""
        return {
            "rule": self.rule,
            "key": self.key,
            "severity": self.severity.word,
            "title": self.title,
            "detail": self.detail,
            "why": self.why,
            "source": self.source,
            "station": self.station,
            "refs": list(self.refs),
            "nets": list(self.nets),
            "at_nm": [list(p) for p in self.at],
            "value": self.value,
            "limit": self.limit,
            "unit": self.unit,
            "mend": self.mend.label if self.mend else None,
            "accepted": self.accepted,
        }


def with_acceptance(findings: Iterable[Finding], accepted: Mapping[str, str]) -> list[Finding]:
    """Return findings with those that were accepted turned into notes that carry their reason, worst first."""
    return worst_first(
        replace(f, severity=Severity.NOTE, accepted=accepted[f.identity]) if f.identity in accepted else f
        for f in findings
    )


def worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """Return findings in the order in which to deal with them."""
    return sorted(findings, key=lambda f: (f.severity, f.rule, f.key))
