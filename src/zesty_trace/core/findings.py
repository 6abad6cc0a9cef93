"""A judgement and its number: what was found, the value, the limit, where it comes from, and the edit that mends it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from enum import IntEnum
from typing import Any

from zesty_trace.core.design.edits import subject_of
from zesty_trace.core.design.model import Acceptance, Pin
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import say

SLACK = 0.01  # by so much a number may move before an acceptance of it lapses


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
    intends: bool = False  # it says that something is meant as it is: only a person may say so


@dataclass(frozen=True)
class Subject:
    """What a finding is about, by which it is known from one run to the next.

    `which` tells several about one thing apart.
    """

    refs: tuple[str, ...] = ()
    pins: tuple[Pin, ...] = ()
    nets: tuple[str, ...] = ()
    which: str = ""

    def __str__(self) -> str:
        return " ".join([*self.refs, *map(str, self.pins), *self.nets, *([self.which] if self.which else [])])


def of_part(ref: str, which: str = "") -> Subject:
    """Return one part as a subject."""
    return Subject(refs=(ref,), which=which)


def of_pin(pin: Pin, which: str = "") -> Subject:
    """Return one pin as a subject."""
    return Subject(pins=(pin,), which=which)


def of_net(net: str, which: str = "") -> Subject:
    """Return one net as a subject."""
    return Subject(nets=(net,), which=which)


@dataclass(frozen=True)
class Finding:
    """One judgement. Its rule and subject together are its identity from one run to the next.

    `refs` and `nets` are what is lit up for it: the subject, and what else belongs to the story.
    """

    rule: str
    about: Subject
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
    def key(self) -> str:
        """The subject in words."""
        return str(self.about)

    @property
    def identity(self) -> str:
        """What the finding is known by from one run to the next."""
        return f"{self.rule}: {self.about}"

    def acceptance(self, reason: str, when: str = "") -> Acceptance:
        """Return the value that accepts this finding as it is now; `when` is a date as YYYY-MM-DD."""
        about = self.about
        return Acceptance(
            rule=self.rule,
            refs=about.refs,
            pins=about.pins,
            nets=about.nets,
            which=about.which,
            reason=reason,
            when=when,
            value=self.value,
            limit=self.limit,
            unit=self.unit,
        )

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


@dataclass(frozen=True)
class Rule:
    """What judges one thing.

    Its station, how bad it mostly is, why it matters, its source, and what it holds against.
    """

    id: str
    station: str
    severity: Severity
    why: str
    source: str
    limits: str

    def found(
        self,
        about: Subject,
        title: str,
        detail: str,
        *,
        severity: Severity | None = None,
        why: str | None = None,
        source: str | None = None,
        refs: tuple[str, ...] | None = None,
        nets: tuple[str, ...] | None = None,
        at: tuple[Point, ...] = (),
        value: float | None = None,
        limit: float | None = None,
        unit: str = "",
        mend: Mend | None = None,
    ) -> Finding:
        """Return a finding of this rule; what is not said is the rule's own, or the subject's parts and nets."""
        return Finding(
            rule=self.id,
            about=about,
            severity=self.severity if severity is None else severity,
            title=title,
            detail=detail,
            why=self.why if why is None else why,
            source=self.source if source is None else source,
            station=self.station,
            refs=tuple(dict.fromkeys([*about.refs, *(p.ref for p in about.pins)])) if refs is None else refs,
            nets=tuple(n for n in (about.nets if nets is None else nets) if n),
            at=at,
            value=value,
            limit=limit,
            unit=unit,
            mend=mend,
        )


RULES: dict[str, Rule] = {}


def rule(id_: str, severity: Severity, why: str, source: str, *, limits: str, station: str = "schematic") -> Rule:
    """Enter a rule in the register and return it. ValueError if the name is taken."""
    if id_ in RULES:
        raise ValueError(f"there are two rules called {id_}")
    made = Rule(id_, station, severity, why, source, limits)
    RULES[id_] = made
    return made


def with_acceptance(findings: Iterable[Finding], accepted: Iterable[Acceptance]) -> list[Finding]:
    """Return findings with the accepted ones turned into notes that carry their reason, worst first.

    An acceptance whose number is worse now counts no longer, which the finding says.
    """
    by_subject = {subject_of(a): a for a in accepted}
    found = []
    for finding in findings:
        item = by_subject.get(subject_of(finding.acceptance("")))
        if item is None:
            found.append(finding)
        elif is_worse(finding, item):
            was, now = (say(v, finding.unit) if v is not None else "?" for v in (item.value, finding.value))
            said = f"Accepted at {was} (“{item.reason}”); it is {now} now. {finding.detail}"
            found.append(replace(finding, detail=said))
        else:
            found.append(replace(finding, severity=Severity.NOTE, accepted=item.reason))
    return worst_first(found)


def is_worse(finding: Finding, accepted: Acceptance) -> bool:
    """Whether a finding's number is further on the wrong side than when it was accepted.

    The wrong side is where the number stood against its limit then; without a limit, more is worse. A number in
    another unit cannot be compared, and counts as worse.
    """
    then, now = accepted.value, finding.value
    if then is None or now is None:
        return False
    if finding.unit != accepted.unit:
        return True
    limit = accepted.limit if accepted.limit is not None else finding.limit
    below = limit is not None and then < limit
    step = SLACK * max(abs(then), 1e-15)
    return now < then - step if below else now > then + step


def worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """Return findings in the order in which to deal with them."""
    return sorted(findings, key=lambda f: (f.severity, f.rule, f.key))
