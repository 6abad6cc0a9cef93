"""Commands about the board and the boards: routing, files, quotes, assembly, flashing, measuring."""

from __future__ import annotations

import argparse
from contextlib import closing
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_trace.cli.common import FINE, FOUND, Answer, edit, load, say_findings, verdict
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.design.variants import known_variant
from zesty_trace.core.findings import with_acceptance
from zesty_trace.errors import InputError

if TYPE_CHECKING:
    pass


def place_command(a: argparse.Namespace) -> Answer:
    """Place what is not placed, or all that is not held."""
    from zesty_trace.core.board.placing.arrange import arrange_parts
    from zesty_trace.core.board.placing.measure import measure_placing

    wired, _ = edit(a.project, lambda w: arrange_parts(w, everything=a.all, seed=a.seed))
    spots = wired.design.board.placements
    data = {
        ref: {"x_mm": p.x_nm / 1e6, "y_mm": p.y_nm / 1e6, "angle_deg": p.angle_mdeg / 1000, "side": p.side}
        for ref, p in spots.items()
    }
    links = measure_placing(wired).links_mm
    return FINE, data, f"{len(spots)} parts are on the board, links of {links:.0f} mm"


def outline_command(a: argparse.Namespace) -> Answer:
    """Give the board an outline from numbers or from a drawing, or write it as one."""
    from zesty_trace.core.board.copper import outline_shape
    from zesty_trace.core.board.outline import dxf_of, set_form, set_rings
    from zesty_trace.core.board.words.say_outline import change_board
    from zesty_trace.files import write_given
    from zesty_trace.journey.foreign import outline_of

    form = _form(a)
    if form:
        edit(a.project, lambda w: set_form(w.design, form))
    elif a.dxf or a.svg:
        name = a.dxf or a.svg
        rings = outline_of(Path(name), bool(a.svg and not a.dxf))
        edit(a.project, lambda w: set_rings(w.design, rings))
    for sentence in a.say:
        edit(a.project, lambda w, s=sentence: change_board(s, w.design))  # type: ignore[misc]
    wired, _ = load(a.project)
    if a.out:
        write_given(Path(a.out), dxf_of(wired.design).encode())
    shape = outline_shape(wired.design)
    x0, y0, x1, y1 = shape.bounds if not shape.is_empty else (0, 0, 0, 0)
    data = {
        "width_mm": round(x1 - x0, 3),
        "height_mm": round(y1 - y0, 3),
        "area_mm2": round(shape.area, 2),
        "cutouts": len(wired.design.board.cutouts),
        "out": a.out or "",
    }
    text = f"{data['width_mm']:g} x {data['height_mm']:g} mm, {data['area_mm2']:g} mm², {data['cutouts']} cut-outs"
    return FINE, data, text


def _form(a: argparse.Namespace) -> Any:
    from zesty_trace.core.design.model import Form
    from zesty_trace.core.quantities import parse_length_nm as length

    corner = length(a.corner)
    if a.rectangle:
        wide, high = map(length, a.rectangle)
        return Form(shape="rectangle", width_nm=wide, height_nm=high, corner_nm=corner)
    if a.circle:
        return Form(shape="circle", width_nm=length(a.circle))
    if a.ring:
        outside, inside = map(length, a.ring)
        return Form(shape="ring", width_nm=outside, inside_nm=inside)
    if a.polygon:
        if not a.polygon[0].isdigit():
            raise InputError(f"“{a.polygon[0]}” is no count of sides", "--polygon", "For example --polygon 6 80mm")
        return Form(shape="polygon", sides=int(a.polygon[0]), width_nm=length(a.polygon[1]))
    return None


def route_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.board.placing.arrange import arrange_parts
    from zesty_trace.core.board.router import RouteResult, route

    results: list[RouteResult] = []

    def go(wired: Wired) -> Design:
        result = route(wired.with_design(arrange_parts(wired)), nets=a.net or None, again=a.again)
        results.append(result)
        return result.design

    edit(a.project, go)
    r = results[0]
    board = r.design.board
    data = {
        "connections": r.connections,
        "missing": r.missing,
        "passes": r.passes,
        "conflicts": r.conflicts,
        "tracks": len(board.tracks),
        "vias": len(board.vias),
        "open": [
            {"net": k.net, "from": str(k.a), "to": str(k.b), "x_mm": k.ax_nm / 1e6, "y_mm": k.ay_nm / 1e6}
            for k in r.open
        ],
        "tight": [str(t) for t in r.tight],
    }
    lines = [f"{r.connections - r.missing} of {r.connections} connections have copper, {data['vias']} vias"]
    if r.missing:
        lines[0] += f"; {r.missing} stay open, since no way is left that keeps the clearance"
    lines += [f"  {t}" for t in r.tight]
    if r.conflicts:
        lines.append(f"{r.conflicts} pairs of nets are too near in copper that is kept: see zt check")
    return (FOUND if r.missing or r.conflicts else FINE), data, "\n".join(lines)


def check_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.board.check import check_board

    wired, _ = load(a.project)
    design = wired.design
    findings = with_acceptance(check_board(wired), design.accepted)
    return verdict(findings), [f.as_dict() for f in findings], say_findings(findings)


def fab_command(a: argparse.Namespace) -> Answer:
    """Write the zip; with a reason also for a board that something stops."""
    from zesty_trace.core.board.gate import accept_stops, stopping
    from zesty_trace.core.fabrication.package import keep_package, write_package

    wired, folder = load(a.project)
    despite = [f.title for f in stopping(wired)] if a.despite is not None else []
    if despite:
        wired, folder = edit(a.project, lambda w: accept_stops(w, a.despite, date.today().isoformat()))
    path = write_package(wired, Path(a.out)) if a.out else keep_package(wired, folder)
    text = "".join(f"\nAccepted, and kept in the design: {title} (“{a.despite}”)" for title in despite)
    return FINE, {"zip": str(path), "despite": despite}, f"Wrote {path}{text}"


def assembly_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.assembly.sequence import placing_sequence

    wired, _ = load(a.project)
    design = wired.design
    steps = placing_sequence(wired, design.build.variant if a.variant is None else a.variant, a.order)
    data = [
        {
            "step": s.number,
            "title": s.title,
            "refs": list(s.refs),
            "how": s.how,
            "face": s.face,
            "cautions": list(s.cautions),
        }
        for s in steps
    ]
    text = "\n".join(f"{s.number:3} {len(s.refs):2} x {s.title} ({s.how}, {s.face}): {' '.join(s.refs)}" for s in steps)
    return FINE, data, text


def assembled_command(a: argparse.Namespace) -> Answer:
    """Record boards as assembled: as many as were, of the variant that they are."""
    from zesty_trace.core.design.edits import set_build
    from zesty_trace.journey.assembling import record_assembled
    from zesty_trace.store.records import Records

    wired, path = load(a.project)
    design = wired.design
    if a.variant is not None:
        design = set_build(design, variant=known_variant(design, a.variant, "--variant"))
    with closing(Records(path)) as records:
        serials = record_assembled(records, design, a.count)
    return FINE, serials, f"Recorded as assembled: {', '.join(serials)}"


def reflow_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.assembly.oven import heat_findings
    from zesty_trace.core.design.edits import set_build
    from zesty_trace.journey.assembling import heat_run

    wired, _ = load(a.project)
    changes: dict[str, Any] = {"alloy": a.alloy, "oven_power_w": a.oven_power, "oven_litres": a.oven_litres}
    design = set_build(wired.design, **{k: v for k, v in changes.items() if v is not None})
    _, measures, window = heat_run(wired.with_design(design))
    findings = heat_findings(measures, window)
    data = {
        "alloy": window.alloy,
        "oven_power_w": design.build.oven_power_w,
        "oven_litres": design.build.oven_litres,
        "measures": [
            {"name": m.name, "value": m.value, "low": m.low, "high": m.high, "unit": m.unit, "good": m.good}
            for m in measures
        ],
    }
    oven = f"a table oven of {design.build.oven_power_w:g} W and {design.build.oven_litres:g} l"
    lines = [f"{window.title} ({window.alloy}), calculated for {oven}; measure yours once with a thermocouple"]
    for m in measures:
        lines.append(f"{'ok ' if m.good else 'OUT'} {m.name:18} {m.value:7.1f} {m.unit}")
    return verdict(findings), data, "\n".join([*lines, f"Caution: {window.caution}"])


def image_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.firmware.image import fit_findings, read_image
    from zesty_trace.core.firmware.targets import find_target

    target = find_target(a.target)
    image = read_image(Path(a.file), a.base if a.base is not None else target.flash_start)
    findings = fit_findings(image, target)
    ranges = [{"start": s.address, "end": s.end, "bytes": len(s.data)} for s in image.segments]
    data = {"name": image.name, "sha256": image.sha256, "ranges": ranges, "findings": [f.as_dict() for f in findings]}
    lines = [f"{image.name}  sha256 {image.sha256}"]
    lines += [f"0x{r['start']:08X} to 0x{r['end'] - 1:08X}  {r['bytes']} bytes" for r in ranges]
    return verdict(findings), data, "\n".join([*lines, say_findings(findings)])
