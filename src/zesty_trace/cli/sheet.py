"""Commands about the prototype and the circuit: import, review, solve, arrange, part kinds."""

from __future__ import annotations

import argparse
import subprocess
import sys
from datetime import date
from pathlib import Path
from typing import Any

from zesty_trace.cli.common import FINE, FOUND, Answer, edit, load, say_findings, verdict
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import with_acceptance
from zesty_trace.core.quantities import say
from zesty_trace.errors import InputError, StoreError, ZestyError


def new_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.design.edits import set_name
    from zesty_trace.journey.demos import create_demo
    from zesty_trace.store.project import ProjectFolder

    path = Path(a.project)
    if a.demo:
        design = create_demo(path, date.today(), a.demo)
    else:
        design = set_name(Design(), a.name or path.name)
        ProjectFolder.create(path, design).close()
    return FINE, {"project": str(path), "name": design.name}, f"Made “{design.name}” in {path}"


def _named(text: str) -> tuple[str, str]:
    word, mark, kind_id = text.partition("=")
    if not mark or not word.strip() or not kind_id.strip():
        raise InputError(
            f"“{text}” does not say what a word means", "--as", "Write --as 'ceramic cap=ceramic_capacitor'"
        )
    return word.strip(), kind_id.strip()


def import_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.review.connections import unaccounted_pins
    from zesty_trace.journey.foreign import imported
    from zesty_trace.journey.kinds import project_catalogue
    from zesty_trace.store.own import keep_names, load_names
    from zesty_trace.store.project import ProjectFolder, read_project

    path = Path(a.out)
    exists = (path / "design.json").exists()
    base = read_project(path).design if exists else Design(name=path.name)
    catalogue = project_catalogue(path if exists else None)
    fresh = dict(_named(text) for text in a.names)
    for kind_id in fresh.values():
        catalogue.kind(kind_id)
    known = keep_names(fresh) if fresh else load_names()
    design = imported(Path(a.parts), Path(a.wiring), catalogue, base, known)
    if exists:
        edit(a.out, lambda _wired: design)
    else:
        ProjectFolder.create(path, design).close()
    loose = len(unaccounted_pins(Wired(design, catalogue)))
    data = {"project": str(path), "parts": len(design.parts), "nets": len(design.nets), "unaccounted_pins": loose}
    return FINE, data, f"{len(design.parts)} parts, {len(design.nets)} nets, {loose} pins not accounted for"


def export_command(a: argparse.Namespace) -> Answer:
    """Write the two tables and the netlist, as a table and as JSON; the sheets as PDF and SVG."""
    if not (a.out or a.pdf or a.svg or a.board_dxf or a.board_pdf or a.board_svg):
        raise InputError("Say what to write", "export", "Add --out FOLDER, or --pdf, --svg, --board-pdf ... FILE")
    data: dict[str, Any] = {}
    said = []
    if a.out:
        tables, words = _export_tables(a)
        data |= tables
        said.append(words)
    if a.pdf or a.svg:
        made = _export_sheets(a)
        data["sheets"] = made
        said.append(f"Wrote {', '.join(made)}")
    if a.board_dxf:
        data["board_dxf"] = _export_board(a)
        said.append(f"Wrote {a.board_dxf}")
    if a.board_pdf or a.board_svg:
        made = _print_board(a)
        data["board"] = made
        said.append(f"Wrote {', '.join(made)}")
    return FINE, data, "\n".join(said)


def _export_board(a: argparse.Namespace) -> str:
    from zesty_trace.core.board.board_dxf import board_dxf
    from zesty_trace.files import write_given

    wired, _ = load(a.project)
    text = board_dxf(wired)
    try:
        write_given(Path(a.board_dxf), text.encode())
    except OSError as error:
        raise StoreError(f"It could not be written: {error.strerror}", a.board_dxf, "Choose another folder") from error
    return str(a.board_dxf)


def _export_sheets(a: argparse.Namespace) -> list[str]:
    """Have the sheets drawn by a process of their own, and return the files."""
    load(a.project)
    return _drawn(["sheet", a.project], a.pdf, a.svg)


def _print_board(a: argparse.Namespace) -> list[str]:
    """Have the board drawn by a process of its own, and return the files."""
    load(a.project)
    return _drawn(["print", a.project, "--views", a.views], a.board_pdf, a.board_svg)


def _drawn(what: list[str], pdf: str, svg: str) -> list[str]:
    files = [word for flag, file in (("--pdf", pdf), ("--svg", svg)) if file for word in (flag, file)]
    command = [sys.executable, "-m", "zesty_trace", *what, *files]
    done = subprocess.run(command, check=False, capture_output=True, text=True)
    if done.returncode:
        told = done.stderr.strip().splitlines()
        raise StoreError(told[-1] if told else "It could not be drawn", pdf or svg, "Choose another folder or view")
    return done.stdout.split("\n")[:-1]


def _export_tables(a: argparse.Namespace) -> tuple[dict[str, Any], str]:
    from zesty_trace.core.tables.importing import export_parts, export_wiring
    from zesty_trace.core.tables.netlist import netlist_csv, netlist_json
    from zesty_trace.files import write_given

    wired, _ = load(a.project)
    design = wired.design
    out = Path(a.out)
    texts = {
        "parts.csv": export_parts(design),
        "wiring.csv": export_wiring(design),
        "netlist.csv": netlist_csv(wired),
        "netlist.json": netlist_json(wired),
    }
    try:
        out.mkdir(parents=True, exist_ok=True)
        for name, text in texts.items():
            write_given(out / name, text.encode())
    except OSError as error:
        raise StoreError(f"Could not write: {error.strerror}", str(out), "Choose another folder") from error
    data = {name.replace(".", "_") if "netlist" in name else name.split(".")[0]: str(out / name) for name in texts}
    return data, f"Wrote {', '.join(texts)} in {out}"


def review_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.review.rules import review

    wired, _ = load(a.project)
    design = wired.design
    findings = with_acceptance(review(wired), design.accepted)
    if not design.parts:
        return verdict(findings), [], "There are no parts yet, so nothing was judged."
    return verdict(findings), [f.as_dict() for f in findings], say_findings(findings)


def mend_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.review.mending import prove
    from zesty_trace.core.review.rules import review

    done: list[str] = []
    left: list[str] = []

    def mend_all(wired: Wired) -> Design:
        tried: set[str] = set()
        while True:
            found = review(wired)
            open_ = [f for f in found if f.mend and f.identity not in tried and (not a.rule or f.rule == a.rule)]
            chosen = next((f for f in open_ if f.mend and (a.rule or not f.mend.intends)), None)
            if chosen is None or chosen.mend is None:
                return wired.design
            tried.add(chosen.identity)
            proof = prove(wired, chosen, frozenset(f.identity for f in found))
            if proof.good:
                wired = wired.with_design(proof.design)
                done.append(chosen.mend.label)
            else:
                left.append(f"{chosen.title}: {chosen.mend.label} is not done, {proof.say()}")

    edit(a.project, mend_all)
    lines = [*(f"Mended: {d}" for d in done), *(f"Left: {d}" for d in left)]
    return FINE, {"mended": done, "left": left}, "\n".join(lines) or "Nothing to mend."


def solve_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.circuit.analysis import analyse, current_spreads, monte_carlo
    from zesty_trace.core.circuit.build import build_network
    from zesty_trace.core.circuit.drivers import unknown_nets
    from zesty_trace.core.circuit.solver import floating_nodes

    wired, _ = load(a.project)
    design = wired.design
    analysis = analyse(wired)
    names = [s.name for s in analysis.states]
    state = next((s for s in analysis.states if s.name == (a.state or names[-1])), None)
    if state is None:
        raise ZestyError(f"There is no state “{a.state}”", "--state", f"Known: {', '.join(names)}")
    operating = analysis.operating(state)
    heats = analysis.heats()
    loose = {*floating_nodes(operating.solution.compiled.network)} & design.nets.keys()
    unknown = unknown_nets(wired)
    volts = {n: v for n, v in operating.net_voltages().items() if n in design.nets.keys() - loose - unknown}
    data = {
        "state": state.name,
        "floating": sorted(loose),
        "not_modelled": sorted(unknown),
        "states": names,
        "volts": volts,
        "iterations": operating.solution.iterations,
        "residual_a": operating.solution.residual_a,
        "temperatures_c": {h.ref: h.temperature_c for h in heats},
    }
    lines = [f"State: {state.name}"] + [f"{n:14} {say(v, 'V')}" for n, v in volts.items()]
    lines += [f"{n:14} not modelled: an output drives it whose kind says nothing of it" for n in sorted(unknown)]
    lines += [f"{n:14} floating: nothing ties it to the rest" for n in sorted(loose - unknown)]
    if a.tolerance:
        solution, spreads = monte_carlo(build_network(wired, state), a.tolerance)
        amps = {r: s for r, s in current_spreads(solution).items() if r in design.parts and s.high > 1e-9}
        for name, found in (("spread", {n: s for n, s in spreads.items() if n in volts}), ("current_spread", amps)):
            data[name] = {n: {"low": s.low, "median": s.nominal, "high": s.high} for n, s in found.items()}
        lines.append(f"Spread of {a.tolerance} boards, all but 1 in 1000 on each side:")
        lines += [f"{n:14} {say(s.low, 'V')} to {say(s.high, 'V')}" for n, s in spreads.items() if n in volts]
        lines += [f"{r:14} {say(s.low, 'A')} to {say(s.high, 'A')}" for r, s in amps.items()]
    lines += [f"{h.ref:14} {h.temperature_c:.0f} °C of {h.limit_c:.0f} °C ({say(h.power_w, 'W')})" for h in heats]
    return FINE, data, "\n".join(lines)


def sample_count(text: str) -> int:
    count = int(text)
    if not 2 <= count <= 1_000_000:
        raise argparse.ArgumentTypeError("between 2 and 1,000,000 samples")
    return count


def arrange_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.schematic.arrange import arrange
    from zesty_trace.core.schematic.quality import wire_quality

    wired, _ = load(a.project)
    sheet = arrange(wired)
    quality = wire_quality(sheet.wires, sheet.symbols)
    data = {
        "width": sheet.width,
        "height": sheet.height,
        "symbols": len(sheet.symbols),
        "tags": len(sheet.tags),
        **quality,
    }
    bad = quality["overlaps"] or quality["through parts"]
    return (FOUND if bad else FINE), data, "\n".join(f"{name:14} {count}" for name, count in data.items())


def part_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.catalogue.kinds import read_kinds, shipped

    path = Path(a.file)
    kinds = read_kinds(path, shipped())
    data = [{"id": k.id, "title": k.title, "pins": len(k.pins), "packages": list(k.packages)} for k in kinds.values()]
    return FINE, data, "\n".join(f"{k.id}: {k.title}, {len(k.pins)} pins" for k in kinds.values())


def mark_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.catalogue.markings import nearest, read_bands, read_chip

    words = " ".join(a.marking)
    if any(c.isalpha() for c in words) and len(words) > 5:
        ohm, tolerance = read_bands(words)
        data = {"ohm": ohm, "tolerance": tolerance, "e24": nearest(ohm) if ohm else 0.0}
        return FINE, data, f"{say(ohm, 'Ω')} ± {tolerance:.3%}"
    ohm = read_chip(words)
    return FINE, {"ohm": ohm, "e24": nearest(ohm) if ohm else 0.0}, say(ohm, "Ω")
