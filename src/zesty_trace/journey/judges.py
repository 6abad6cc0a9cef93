"""Each station judged by itself: what a judge reads, and what it then finds; kept while that stays the same."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import Any

from zesty_trace.core.assembly import oven
from zesty_trace.core.board.check import check_board
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity, Subject, rule, with_acceptance
from zesty_trace.core.firmware.fit import controller_findings, image_spec
from zesty_trace.core.firmware.image import fit_findings
from zesty_trace.core.review.brief import brief_findings
from zesty_trace.core.review.rules import review
from zesty_trace.errors import InputError, ZestyError
from zesty_trace.journey.assembling import heat_run
from zesty_trace.journey.flashing import image_of
from zesty_trace.journey.hours import HOURS, PACE
from zesty_trace.journey.ordering import ORDERED, RATES, ask_houses
from zesty_trace.stations import STATIONS
from zesty_trace.store.board import BoardRecord

UNREADABLE = rule(
    "unreadable",
    Severity.STOP,
    "What cannot be read cannot be checked.",
    "project folder",
    limits="files that can be read",
    station="any",
)
IMAGE_FILE = rule(
    "image file",
    Severity.STOP,
    "Without an image no board can be flashed.",
    "file",
    limits="a file that can be read",
    station="flash",
)


@dataclass(frozen=True)
class Situation:
    """What there is to judge: the design with its catalogue, the project's folder, and the day."""

    wired: Wired
    folder: Path | None
    today: date


@dataclass(frozen=True)
class Judge:
    """One station's judge: `run` says what it finds, and `reads` gives all that this depends on."""

    station: str
    reads: Callable[[Situation], tuple[Any, ...]]
    run: Callable[[Situation], list[Finding]]


def _circuit(s: Situation) -> tuple[Any, ...]:
    """All that the solved circuit depends on."""
    d = s.wired.design
    return (
        s.wired.catalogue,
        d.parts,
        d.nets,
        d.not_connected,
        d.variants,
        d.states,
        d.options,
        d.brief,
    )


def _stamp(folder: Path | None, name: str) -> tuple[Any, ...]:
    """Return what tells whether a file, or the files of a folder, changed."""
    if folder is None:
        return ()
    path = folder / name
    try:
        files = sorted(path.iterdir()) if path.is_dir() else [path]
        return tuple((f.name, f.stat().st_mtime_ns, f.stat().st_size) for f in files)
    except OSError:
        return ()


def _brief_reads(s: Situation) -> tuple[Any, ...]:
    return (*_circuit(s), s.wired.design.measured, s.today)


def _board_reads(s: Situation) -> tuple[Any, ...]:
    return (*_circuit(s), s.wired.design.board)


def _order_reads(s: Situation) -> tuple[Any, ...]:
    d = s.wired.design
    files = tuple(_stamp(s.folder, name) for name in ("houses", RATES, ORDERED, HOURS, PACE))
    return d.brief, d.board.outline, d.board.rules, d.board.placements, d.parts, d.variants, d.build, s.today, files


def _assembly_reads(s: Situation) -> tuple[Any, ...]:
    d = s.wired.design
    return s.wired.catalogue, d.parts, d.board, d.build, d.variants


def _flash_reads(s: Situation) -> tuple[Any, ...]:
    d = s.wired.design
    spec = image_spec(d)
    return s.wired.catalogue, d.parts, d.build, d.images, _stamp(s.folder, f"firmware/{spec.file}") if spec else ()


def _review(s: Situation) -> list[Finding]:
    return review(s.wired) if s.wired.design.parts else []


def _order(s: Situation) -> list[Finding]:
    design = s.wired.design
    return ask_houses(s.wired, s.today, s.folder).findings(design) if design.board.outline else []


def _assembly(s: Situation) -> list[Finding]:
    if not s.wired.design.board.outline:
        return []
    _, measures, window = heat_run(s.wired)
    return oven.heat_findings(measures, window)


def _flash(s: Situation) -> list[Finding]:
    if s.folder is None:
        return []
    try:
        chosen = image_of(s.wired.design, s.folder)
    except InputError as error:
        return [IMAGE_FILE.found(Subject(), error.message, f"{error.where}. {error.hint}")]
    return [*controller_findings(s.wired), *fit_findings(*chosen)] if chosen else []


# In the order in which they are asked: first what the others lean on, then what takes longest.
JUDGES: tuple[Judge, ...] = (
    Judge("schematic", _circuit, _review),
    Judge("layout", _board_reads, lambda s: check_board(s.wired)),
    Judge("brief", _brief_reads, lambda s: brief_findings(s.wired, s.today)),
    Judge("order", _order_reads, _order),
    Judge("assembly", _assembly_reads, _assembly),
    Judge("flash", _flash_reads, _flash),
)


def judged(judge: Judge, situation: Situation) -> list[Finding]:
    """Return what a judge finds, acceptances counted; what cannot be read is itself a finding."""
    return with_acceptance(raw_findings(judge, situation), situation.wired.design.accepted)


def raw_findings(judge: Judge, situation: Situation) -> list[Finding]:
    """Return what a judge finds, whatever was accepted; what cannot be read is itself a finding."""
    try:
        return judge.run(situation)
    except ZestyError as error:
        detail = f"{error.where}. {error.hint}." if error.where else error.hint
        about = Subject(which=judge.station)
        return [replace(UNREADABLE.found(about, error.message, detail), station=judge.station)]


def stations_done(
    design: Design, findings: dict[str, list[Finding]], boards: Iterable[BoardRecord], zip_exists: bool
) -> int:
    """Return how many stations, from the first on, the board has really passed."""
    built = list(boards)

    def clear(station: str) -> bool:
        return not any(f.severity <= Severity.FIX for f in findings.get(station, []))

    passed = {
        "brief": bool(design.parts) and clear("brief"),
        "schematic": bool(design.parts) and clear("schematic"),
        "layout": bool(design.board.tracks or design.board.given) and clear("layout"),
        "order": zip_exists,
        "assembly": any(b.last("assembled") for b in built),
        "flash": any(b.content().verdict == "pass" for b in built),
        "bench": any(b.standing().verdict == "pass" for b in built),
        "next": bool(design.changes) and all(c.done for c in design.changes),
    }
    return next((k for k, station in enumerate(STATIONS) if not passed[station]), len(STATIONS))
