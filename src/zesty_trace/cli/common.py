"""What the commands share: exit statuses, opening and changing a project, findings in words."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity

FINE, FOUND, BAD = 0, 1, 2
Answer = tuple[int, Any, str]  # exit status, what --json prints, what is printed else
Handler = Callable[[argparse.Namespace], Answer]


def load(project: str) -> tuple[Design, Path, Any]:
    from zesty_trace import journey
    from zesty_trace.store.project import read_project

    folder = Path(project)
    return read_project(folder).design, folder, journey.project_catalogue(folder)


def edit(project: str, change: Callable[[Design, Any], Design]) -> tuple[Design, Path, Any]:
    """Open the project under its lock, change its design and save it."""
    from zesty_trace import journey
    from zesty_trace.store.project import ProjectFolder

    path = Path(project)
    folder, opened = ProjectFolder.open(path)
    with folder:
        catalogue = journey.project_catalogue(path)
        design = change(opened.design, catalogue)
        journey.carry_kinds(design, path, catalogue)
        folder.save(design)
    return design, path, catalogue


def say_findings(findings: Sequence[Finding]) -> str:
    if not findings:
        return "Nothing found."
    lines = []
    for f in findings:
        lines.append(f"{f.severity.word.upper():5} {f.title}")
        lines.append(f"      {f.detail}")
        if f.mend:
            lines.append(f"      Mend: {f.mend.label}")
    return "\n".join(lines)


def verdict(findings: Sequence[Finding]) -> int:
    return FOUND if any(f.severity <= Severity.FIX for f in findings) else FINE
