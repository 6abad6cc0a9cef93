"""Commands about fabrication files of anybody: reading, looking through, tracing, comparing."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_trace.cli.common import BAD, FINE, FOUND, Answer, elsewhere, load
from zesty_trace.cli.mill import mill_command
from zesty_trace.cli.panel import panel_command
from zesty_trace.core.findings import Severity

if TYPE_CHECKING:
    from zesty_trace.core.fabrication.contacts import Contact
    from zesty_trace.core.fabrication.finished import BoardSet
    from zesty_trace.core.fabrication.looking.compare import Difference
    from zesty_trace.core.fabrication.looking.tracing import Traced


def _opened(a: argparse.Namespace) -> BoardSet:
    from zesty_trace.core.fabrication.sources import set_of_zip, told_format, told_role

    told = dict(told_role(t) for t in a.told or ())
    formats = dict(told_format(t) for t in a.drill or ())
    return set_of_zip(Path(a.zip), told, formats)


def _designed(a: argparse.Namespace) -> tuple[list[Contact], str]:
    """Return what should be joined by the design that is named; nothing without one."""
    from zesty_trace.core.fabrication.contacts import contacts_of

    return (contacts_of(load(a.design)[0]), f"the design in {a.design}") if a.design else ([], "")


def read_command(a: argparse.Namespace) -> Answer:
    """Say what a finished set holds, measured from its files."""
    from zesty_trace.core.fabrication.looking.measures import Measures

    board = _opened(a)
    m = Measures(board)
    size = board.edges.size_mm
    files = [
        {"file": n, "is": str(g), "why": g.why, "error": board.broken.get(n)} for n, g in sorted(board.guesses.items())
    ]
    first = {
        "track_mm": m.tracks[0].mm if m.tracks else None,
        "gap_mm": m.gaps[0].mm if m.gaps else None,
        "ring_mm": m.rings[0][0].mm if m.rings else None,
        "drill_mm": min((r.diameter for r in m.hole_table), default=None),
        "mask_web_mm": m.webs[0].mm if m.webs else None,
    }
    holes = [{"diameter_mm": r.diameter, "plated": r.plated, "holes": r.holes, "slots": r.slots} for r in m.hole_table]
    data = {
        "files": files,
        "size_mm": size,
        "layers": board.layers,
        "smallest": first,
        "holes": holes,
        "copper_mm2": m.areas,
        "remarks": board.remarks(),
    }
    lines = [f"{f['file']}: {f['is']} ({f['error'] or f['why']})" for f in files]
    lines.append(f"Board {size[0]:.2f} x {size[1]:.2f} mm" if size else "No closed outline: the size is not known")
    lines.append(f"Copper: {', '.join(f'{k} {v:.0f} mm²' for k, v in m.areas.items()) or 'none'}")
    names = {"track_mm": "track", "gap_mm": "gap", "ring_mm": "ring", "drill_mm": "drill", "mask_web_mm": "mask web"}
    known = [f"{names[k]} {v:.3f} mm" for k, v in first.items() if v is not None]
    lines.append(f"Smallest: {', '.join(known) or 'nothing to measure'}")
    plating = {True: "plated", False: "bare", None: "not said"}
    lines += [
        f"  {r.diameter:.3f} mm {plating[r.plated]}: {r.holes}" + (f", {r.slots} of them slots" if r.slots else "")
        for r in m.hole_table
    ]
    lines += [f"Odd: {r}" for r in board.remarks()]
    return (BAD if board.broken else FINE), data, "\n".join(lines)


def intake_command(a: argparse.Namespace) -> Answer:
    """Answer as intake of a board house would."""
    from zesty_trace.core.fabrication.looking.intake import intake

    board = _opened(a)
    contacts, source = _designed(a)
    found = intake(board, contacts=contacts, source=source)
    data = {
        "verdict": found.verdict,
        "passed": found.passed,
        "queries": [
            {
                "severity": q.severity.word,
                "rule": q.rule,
                "title": q.title,
                "detail": q.detail,
                "at_mm": q.at,
                "layer": q.layer,
            }
            for q in found.queries
        ],
        "checked": found.checked,
        "not_checked": found.unchecked,
        "netlist": _traced_data(found.traced) if found.traced else None,
    }
    lines = [found.verdict, *map(str, found.queries)]
    if found.traced and found.traced.same:
        lines.append(f"Netlist: {found.traced.nets} nets as {found.traced.source} has them.")
    lines += [f"Not checked: {u}" for u in found.unchecked if u not in found.verdict]
    stops = any(q.severity is Severity.STOP for q in found.queries)
    return (BAD if stops else FINE if found.passed else FOUND), data, "\n".join(lines)


def _traced_data(t: Traced) -> dict[str, Any]:
    return {
        "same": t.same,
        "source": t.source,
        "nets": t.nets,
        "contacts": t.contacts,
        "opens": [{"net": o.net, "pieces": o.pieces} for o in t.opens],
        "shorts": [{"nets": s.nets, "pins": s.pins} for s in t.shorts],
        "missing": [c.pin for c in t.missing],
    }


def trace_command(a: argparse.Namespace) -> Answer:
    """Compare the netlist that is in the copper with what it should be."""
    from zesty_trace.core.fabrication.looking.tracing import trace, what_should_be

    board = _opened(a)
    contacts, source = _designed(a) if a.design else what_should_be(board)
    if not contacts:
        return FOUND, None, "Not compared: no net names in the files, no netlist, and no design named (--design)."
    found = trace(board, contacts, source)
    if found.same:
        text = (
            f"The copper has the {found.nets} nets that {source} says, in {found.contacts} places: none open or short."
        )
    else:
        lines = [f"{len(found.opens)} open, {len(found.shorts)} short, {len(found.missing)} pads missing, by {source}:"]
        lines += [f"  open: {o.net}: {' | '.join(', '.join(p[:4]) for p in o.pieces[:4])}" for o in found.opens]
        lines += [f"  short: {' and '.join(s.nets)} (pins {', '.join(s.pins)})" for s in found.shorts]
        lines += [f"  no copper at {c.pin} of {c.net}, {c.x:.2f}, {c.y:.2f} mm" for c in found.missing[:20]]
        text = "\n".join(lines)
    return (FINE if found.same else BAD), _traced_data(found), text


def compare_command(a: argparse.Namespace) -> Answer:
    """Say what differs between two sets: zips, or projects as they would be written now."""
    from zesty_trace.core.fabrication.looking.compare import compare
    from zesty_trace.core.fabrication.sources import set_of_design, set_of_zip

    one, two = (
        set_of_design(load(name)[0]) if Path(name).is_dir() else set_of_zip(Path(name)) for name in (a.one, a.two)
    )
    found = compare(one, two)
    data = {
        "same": found.same,
        "layers": [
            {
                "role": k.role,
                "side": k.side,
                "only_first_mm2": k.only_first_mm2,
                "only_second_mm2": k.only_second_mm2,
                "at_mm": k.at,
            }
            for k in found.layers
        ],
        "missing": [{"role": r, "side": s, "in": w} for r, s, w in found.missing],
        "holes": {
            "added": [h.points[0] for h in found.added],
            "removed": [h.points[0] for h in found.removed],
            "moved": [[p.points[0], q.points[0]] for p, q in found.moved],
            "resized": [[p.points[0], p.diameter, q.diameter] for p, q in found.resized],
        },
    }
    return (FINE if found.same else FOUND), data, "\n".join(difference_lines(found))


def difference_lines(d: Difference) -> list[str]:
    """Return what differs, a line each."""
    if d.same:
        return [f"Nothing differs in {len(d.layers)} layers and the holes."]
    lines = [
        f"{side} {role}: only the {'second' if which == 'first' else 'first'} has it" for role, side, which in d.missing
    ]
    for k in d.layers:
        if not k.same:
            places = ", ".join(f"{x:.2f}, {y:.2f}" for x, y in k.at[:3])
            one, two = k.only_first_mm2, k.only_second_mm2
            what = f"{k.side} {k.role}".strip()
            lines.append(f"{what}: {one:.3f} mm² only in the first, {two:.3f} mm² only in the second, at {places} mm")
    for words, holes in (("added", d.added), ("removed", d.removed)):
        lines += [f"hole {words}: {h.diameter:.2f} mm at {h.points[0][0]:.2f}, {h.points[0][1]:.2f} mm" for h in holes]
    lines += [
        f"hole moved: {p.diameter:.2f} mm from {p.points[0][0]:.2f}, {p.points[0][1]:.2f} to "
        f"{q.points[0][0]:.2f}, {q.points[0][1]:.2f} mm"
        for p, q in d.moved
    ]
    lines += [
        f"hole changed: {p.diameter:.2f} to {q.diameter:.2f} mm at {p.points[0][0]:.2f}, {p.points[0][1]:.2f} mm"
        for p, q in d.resized
    ]
    return lines


def adopt_command(a: argparse.Namespace) -> Answer:
    """Make a project of somebody's finished files."""
    from zesty_trace.core.fabrication.sources import told_format, told_role
    from zesty_trace.journey.adopting import adopt_zip

    told = dict(told_role(t) for t in a.told or ())
    formats = dict(told_format(t) for t in a.drill or ())
    boms, places = ([Path(n) for n in names or ()] for names in (a.bom, a.places))
    found = adopt_zip(Path(a.zip), Path(a.project), boms, places, told, formats)
    d = found.design
    data = {
        "project": a.project,
        "parts": len(d.parts),
        "nets": len(d.nets),
        "placed": len(d.board.placements),
        "variants": d.variants,
        "notes": found.notes,
        "turn_not_known": found.unknown_turn,
        "not_described": found.undescribed,
    }
    lines = [f"{a.project}: {len(d.parts)} parts, {len(d.board.placements)} of them placed, {len(d.nets)} nets"]
    return (FOUND if found.notes else FINE), data, "\n".join(lines + found.notes)


def places_command(a: argparse.Namespace) -> Answer:
    """Show the table of places of a variant, or set how it is written."""
    from zesty_trace.cli.common import edit
    from zesty_trace.core.design import edits
    from zesty_trace.core.fabrication.tables import centroid_csv, centroid_words, read_form

    wired, _ = load(a.project)
    form = read_form(a.words, wired.design.build.centroid)
    if a.words:
        wired, _ = edit(a.project, lambda w: edits.set_build(w.design, centroid=form))
    text = centroid_csv(wired, a.variant)
    data = {"means": centroid_words(form), "table": text}
    return FINE, data, text + "\n".join(f"# {w}" for w in centroid_words(form))


def add_commands(add: Callable[..., None]) -> None:
    """Add the commands that look at fabrication files of anybody."""
    told = ("--as", {"dest": "told", "action": "append", "metavar": "FILE=ROLE,SIDE", "help": "what a file is"})
    form = ("--drill", {"action": "append", "metavar": "FILE=UNIT,DIGITS,ZEROS", "help": "how a drill file is read"})
    design = ("--design", {"metavar": "PROJECT", "help": "the design that it should be"})
    zipped = ("zip", {"metavar": "ZIP", "help": "a fabrication zip of any tool"})
    add("read", elsewhere(read_command), "what a fabrication zip holds, measured from its files", zipped, told, form)
    add(
        "adopt",
        adopt_command,
        "make a project of somebody's finished files, to order, assemble and test that board",
        zipped,
        ("project", {"help": "the folder of the new project"}),
        ("--bom", {"action": "append", "metavar": "CSV", "help": "bill of materials (default: those in the zip)"}),
        ("--places", {"action": "append", "metavar": "CSV", "help": "centroid table (default: those in the zip)"}),
        told,
        form,
    )
    add(
        "places",
        places_command,
        "the table of places (centroid), and how it is written for a house that assembles",
        ("project", {"help": "the project folder"}),
        (
            "words",
            {
                "nargs": "*",
                "metavar": "WORD",
                "help": "origin=corner, unit=mil, turns=clockwise, bottom=below, SOIC-8=+90",
            },
        ),
        ("--variant", {"default": "", "help": "of this variant"}),
    )
    add("intake", elsewhere(intake_command), "what intake of a board house would say", zipped, design, told, form)
    add(
        "trace",
        elsewhere(trace_command),
        "the netlist in the copper against what it should be",
        zipped,
        design,
        told,
        form,
    )
    add(
        "panel",
        elsewhere(panel_command),
        "several boards on one panel, held by tabs or scored apart",
        ("boards", {"nargs": "+", "metavar": "BOARD[=N]", "help": "projects or zips, each with how many"}),
        ("--cut", {"choices": ("tabs", "score"), "default": "tabs", "help": "how boards are parted"}),
        ("--columns", {"type": int, "default": 0, "metavar": "N", "help": "in a row (default: about a square)"}),
        ("--gap", {"type": float, "default": 2.0, "metavar": "MM", "help": "that is milled between boards"}),
        ("--rail", {"type": float, "default": 5.0, "metavar": "MM", "help": "all round"}),
        ("--out", {"metavar": "ZIP", "help": "the zip to write (default: panel.zip)"}),
    )
    add(
        "mill",
        mill_command,
        "tool paths for a mill at home, for one face",
        ("project", {"metavar": "PROJECT", "help": "the project folder"}),
        ("--face", {"choices": ("top", "bottom"), "help": "the one with the surface pads without it"}),
        ("--out", {"metavar": "FOLDER", "help": "folder (default: milling in the project)"}),
        ("--cutter", {"type": float, "default": 0.2, "metavar": "MM", "help": "width of the isolating cut"}),
        ("--depth", {"type": float, "default": 0.08, "metavar": "MM", "help": "its depth"}),
        ("--passes", {"type": int, "default": 2, "metavar": "N", "help": "round all copper"}),
        ("--feed", {"type": float, "default": 180.0, "metavar": "MM_MIN", "help": "mm a minute"}),
        ("--end-mill", {"type": float, "default": 1.0, "metavar": "MM", "help": "for the edge"}),
    )
    add(
        "compare",
        elsewhere(compare_command),
        "what differs between two sets of files",
        ("one", {"metavar": "A", "help": "a zip, or a project"}),
        ("two", {"metavar": "B", "help": "another"}),
    )
