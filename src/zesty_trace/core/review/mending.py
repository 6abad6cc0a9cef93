"""A mend is proved before it counts: the review is made again, its finding must be gone, and no other may have come."""

from __future__ import annotations

from dataclasses import dataclass

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding
from zesty_trace.core.review.rules import review


@dataclass(frozen=True)
class Proof:
    """A design after a mend: whether its finding is gone, and what came that was not there before."""

    design: Design
    gone: bool
    came: tuple[Finding, ...]

    @property
    def good(self) -> bool:
        """Whether the mend did what it says, and nothing else."""
        return self.gone and not self.came

    def say(self) -> str:
        """Return what is wrong with the mend, in words; "" if nothing is."""
        if not self.gone:
            return "the finding is still there"
        return f"it brings: {'; '.join(f.title for f in self.came[:3])}" if self.came else ""


def prove(wired: Wired, finding: Finding, before: frozenset[str] | None = None) -> Proof:
    """Return what a finding's mend makes of a design, reviewed again. ValueError if the finding has no mend.

    `before` are the identities of the findings that there were, worked out if they are not given.
    """
    if finding.mend is None:
        raise ValueError(f"{finding.identity} has no mend")
    known = frozenset(f.identity for f in review(wired)) if before is None else before
    design = finding.mend.apply(wired.design)
    after = review(wired.with_design(design))
    came = tuple(f for f in after if f.identity not in known)
    return Proof(design, all(f.identity != finding.identity for f in after), came)
