"""The command line: the same core, without a window. Exit status 0 fine, 1 findings or failures, 2 bad input."""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
from collections.abc import Callable, Sequence
from datetime import date
from pathlib import Path
from typing import Any

from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity, with_acceptance
from zesty_trace.core.quantities import say
from zesty_trace.errors import DeviceError, ZestyError

FINE, FOUND, BAD = 0, 1, 2
SCHOOLS = ("surface-mount first", "lowest first", "as listed")
Handler = Callable[[argparse.Namespace], tuple[int, Any, str]]


def _load(project: str) -> tuple[Design, Path, Any]:
    from zesty_trace import journey
    from zesty_trace.store.project import read_project

    folder = Path(project)
    return read_project(folder).design, folder, journey.project_catalogue(folder)


def _edit(project: str, change: Callable[[Design, Any], Design]) -> tuple[Design, Path, Any]:
    """Open the project under its lock, change its design and save it."""
    from zesty_trace import journey
    from zesty_trace.store.project import ProjectFolder

    path = Path(project)
    folder, opened = ProjectFolder.open(path)
    with folder:
        catalogue = journey.project_catalogue(path)
        design = change(opened.design, catalogue)
        folder.save(design)
    return design, path, catalogue


def _say_findings(findings: Sequence[Finding]) -> str:
    if not findings:
        return "Nothing found."
    lines = []
    for f in findings:
        lines.append(f"{f.severity.word.upper():5} {f.title}")
        lines.append(f"      {f.detail}")
        if f.mend:
            lines.append(f"      Mend: {f.mend.label}")
    return "\n".join(lines)


def _verdict(findings: Sequence[Finding]) -> int:
    return FOUND if any(f.severity <= Severity.FIX for f in findings) else FINE


def _new(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace import journey
    from zesty_trace.core.design.edits import set_name
    from zesty_trace.store.project import ProjectFolder

    path = Path(a.project)
    if a.demo:
        design = journey.create_demo(path, date.today(), a.demo)
    else:
        design = set_name(Design(), a.name or path.name)
        ProjectFolder.create(path, design).close()
    return FINE, {"project": str(path), "name": design.name}, f"Made “{design.name}” in {path}"


def _import(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace import journey
    from zesty_trace.core.review.connections import unaccounted_pins
    from zesty_trace.store.project import ProjectFolder, read_project

    path = Path(a.out)
    exists = (path / "design.json").exists()
    base = read_project(path).design if exists else Design(name=path.name)
    catalogue = journey.project_catalogue(path if exists else None)
    design = journey.import_files(Path(a.parts), Path(a.wiring), catalogue, base)
    if exists:
        _edit(a.out, lambda _d, _c: design)
    else:
        ProjectFolder.create(path, design).close()
    loose = len(unaccounted_pins(design, catalogue))
    data = {"project": str(path), "parts": len(design.parts), "nets": len(design.nets), "unaccounted_pins": loose}
    return FINE, data, f"{len(design.parts)} parts, {len(design.nets)} nets, {loose} pins not accounted for"


def _export(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.schematic.wiring_csv import export_parts, export_wiring
    from zesty_trace.store.project import write_atomically

    design, _, _ = _load(a.project)
    out = Path(a.out)
    out.mkdir(parents=True, exist_ok=True)
    for name, text in (("parts.csv", export_parts(design)), ("wiring.csv", export_wiring(design))):
        write_atomically(out / name, text.encode())
    return (
        FINE,
        {"parts": str(out / "parts.csv"), "wiring": str(out / "wiring.csv")},
        f"Wrote parts.csv and wiring.csv in {out}",
    )


def _review(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.review.rules import review

    design, _, catalogue = _load(a.project)
    findings = with_acceptance(review(design, catalogue), design.accepted)
    return _verdict(findings), [f.as_dict() for f in findings], _say_findings(findings)


def _mend(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.review.rules import review

    done: list[str] = []

    def mend_all(design: Design, catalogue: Any) -> Design:
        tried: set[str] = set()
        while True:
            open_ = [f for f in review(design, catalogue) if f.mend and f.identity not in tried]
            chosen = next((f for f in open_ if not a.rule or f.rule == a.rule), None)
            if chosen is None or chosen.mend is None:
                return design
            tried.add(chosen.identity)
            design = chosen.mend.apply(design)
            done.append(chosen.mend.label)

    _edit(a.project, mend_all)
    return FINE, {"mended": done}, "\n".join(f"Mended: {d}" for d in done) or "Nothing to mend."


def _solve(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.circuit.analysis import analyse, monte_carlo
    from zesty_trace.core.circuit.build import build_network
    from zesty_trace.core.circuit.solver import floating_nodes

    design, _, catalogue = _load(a.project)
    analysis = analyse(design, catalogue)
    names = [s.name for s in analysis.states]
    state = next((s for s in analysis.states if s.name == (a.state or names[-1])), None)
    if state is None:
        raise ZestyError(f"There is no state “{a.state}”", "--state", f"Known: {', '.join(names)}")
    operating = analysis.operating(state)
    volts = {n: v for n, v in operating.net_voltages().items() if n in design.nets}
    heats = analysis.heats()
    loose = floating_nodes(operating.solution.compiled.network)
    data = {
        "state": state.name,
        "floating": [n for n in loose if n in design.nets],
        "states": names, "volts": volts, "iterations": operating.solution.iterations,
        "residual_a": operating.solution.residual_a,
        "temperatures_c": {h.ref: h.temperature_c for h in heats},
    }  # fmt: skip
    lines = [f"State: {state.name}"] + [f"{n:14} {say(v, 'V')}" for n, v in volts.items()]
    if a.tolerance:
        _, spreads = monte_carlo(build_network(design, catalogue, state), a.tolerance)
        data["spread"] = {
            n: {"low": s.low, "median": s.nominal, "high": s.high} for n, s in spreads.items() if n in volts
        }
        lines.append(f"Spread of {a.tolerance} boards, all but 1 in 1000 on each side:")
        lines += [f"{n:14} {say(s.low, 'V')} to {say(s.high, 'V')}" for n, s in spreads.items() if n in volts]
    lines += [f"{h.ref:14} {h.temperature_c:.0f} °C of {h.limit_c:.0f} °C ({say(h.power_w, 'W')})" for h in heats]
    return FINE, data, "\n".join(lines)


def _samples(text: str) -> int:
    count = int(text)
    if not 2 <= count <= 1_000_000:
        raise argparse.ArgumentTypeError("between 2 and 1,000,000 samples")
    return count


def _arrange(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.schematic.arrange import arrange
    from zesty_trace.core.schematic.wires import wire_quality

    design, _, catalogue = _load(a.project)
    sheet = arrange(design, catalogue)
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


def _part(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.catalogue.kinds import read_kinds, shipped

    path = Path(a.file)
    kinds = read_kinds(path, shipped())
    data = [{"id": k.id, "title": k.title, "pins": len(k.pins), "packages": list(k.packages)} for k in kinds.values()]
    return FINE, data, "\n".join(f"{k.id}: {k.title}, {len(k.pins)} pins" for k in kinds.values())


def _route(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.board.place import place_rest
    from zesty_trace.core.board.router import RouteResult, route

    results: list[RouteResult] = []

    def go(design: Design, catalogue: Any) -> Design:
        result = route(place_rest(design, catalogue), catalogue)
        results.append(result)
        return result.design

    _edit(a.project, go)
    r = results[0]
    data = {
        "connections": r.connections, "missing": r.missing, "passes": r.passes, "conflicts": r.conflicts,
        "tracks": len(r.design.board.tracks), "vias": len(r.design.board.vias),
    }  # fmt: skip
    text = (
        f"{r.connections - r.missing} of {r.connections} connections routed in {r.passes} passes, {data['vias']} vias"
    )
    return (FOUND if r.missing or r.conflicts else FINE), data, text


def _check(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.board.check import check_board

    design, _, catalogue = _load(a.project)
    findings = with_acceptance(check_board(design, catalogue), design.accepted)
    return _verdict(findings), [f.as_dict() for f in findings], _say_findings(findings)


def _fab(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.fabrication.package import write_package

    design, folder, catalogue = _load(a.project)
    path = write_package(design, catalogue, Path(a.out) if a.out else folder / "fabrication")
    return FINE, {"zip": str(path)}, f"Wrote {path}"


def _quote(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace import journey
    from zesty_trace.core.ordering.quote import cheapest, order_findings, soonest

    design, folder, _ = _load(a.project)
    offers = journey.offers_for(design, date.today(), folder / "houses")
    findings = order_findings(design, offers)
    best, first = cheapest(offers), soonest(offers)
    lines = []
    for o in offers:
        marks = " cheapest in time" * (o is best) + " soonest" * (o is first) + " LATE" * (not o.on_time)
        lines.append(
            f"{o.total:8.2f} {o.currency}  {o.arrives:%a %d %b}  {o.boards:3} boards  {o.house}, {o.freight}{marks}"
        )
    data = [
        {
            "house": o.house, "freight": o.freight, "boards": o.boards, "total": o.total, "currency": o.currency,
            "arrives": o.arrives.isoformat(), "on_time": o.on_time, "in_budget": o.in_budget,
        }
        for o in offers
    ]  # fmt: skip
    return _verdict(findings), data, "\n".join(lines) + "\n" + _say_findings(findings)


def _assembly(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.assembly.sequence import placing_sequence

    design, _, catalogue = _load(a.project)
    steps = placing_sequence(design, catalogue, a.variant or design.build.variant, a.order)
    data = [
        {"step": s.number, "title": s.title, "refs": list(s.refs), "how": s.how, "cautions": list(s.cautions)}
        for s in steps
    ]
    text = "\n".join(f"{s.number:3} {len(s.refs):2} x {s.title} ({s.how}): {' '.join(s.refs)}" for s in steps)
    return FINE, data, text


def _reflow(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace import journey
    from zesty_trace.core.assembly.oven import heat_findings
    from zesty_trace.core.design.edits import set_build

    design, _, catalogue = _load(a.project)
    if a.alloy:
        design = set_build(design, alloy=a.alloy)
    _, measures, window = journey.heat_run(design, catalogue)
    findings = heat_findings(measures, window)
    data = {
        "alloy": window.alloy,
        "measures": [
            {"name": m.name, "value": m.value, "low": m.low, "high": m.high, "unit": m.unit, "good": m.good}
            for m in measures
        ],
    }
    lines = [f"{window.title} ({window.alloy})"]
    for m in measures:
        lines.append(f"{'ok ' if m.good else 'OUT'} {m.name:18} {m.value:7.1f} {m.unit}")
    return _verdict(findings), data, "\n".join([*lines, f"Caution: {window.caution}"])


def _image(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.firmware.image import fit_findings, read_image
    from zesty_trace.core.firmware.targets import find_target

    target = find_target(a.target)
    image = read_image(Path(a.file), a.base if a.base is not None else target.flash_start)
    findings = fit_findings(image, target)
    ranges = [{"start": s.address, "end": s.end, "bytes": len(s.data)} for s in image.segments]
    data = {"name": image.name, "sha256": image.sha256, "ranges": ranges, "findings": [f.as_dict() for f in findings]}
    lines = [f"{image.name}  sha256 {image.sha256}"]
    lines += [f"0x{r['start']:08X} to 0x{r['end'] - 1:08X}  {r['bytes']} bytes" for r in ranges]
    return _verdict(findings), data, "\n".join([*lines, _say_findings(findings)])


def _flash(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace import journey
    from zesty_trace.devices.usart_bootloader import open_port
    from zesty_trace.store.project import RECORDS
    from zesty_trace.store.records import Records

    design, folder, _ = _load(a.project)
    chosen = journey.image_of(design, folder)
    if chosen is None:
        raise ZestyError("The project names no image", a.project, "Choose one in the Flash station")
    image, target = chosen
    if not a.simulate and not a.port:
        raise ZestyError("Say which port", "--port", "Give --port /dev/ttyUSB0, or --simulate")
    batch = journey.batch_of(design)
    numbers = [int(a.serial.rsplit("-", 1)[-1])] if a.serial else range(1, (a.boards or 1) + 1)
    records = Records(folder / RECORDS)
    results = []
    for serial in records.add_boards(batch.revision, batch.variant, numbers):
        try:
            if a.simulate:
                journey.flash_simulated(image, target, serial, records, a.fault)
            else:
                journey.flash_board(open_port(a.port), a.port, image, target, serial, records)
            results.append({"serial": serial, "verdict": "pass", "sha256": image.sha256})
        except DeviceError as error:
            results.append({"serial": serial, "verdict": "fail", "error": str(error)})
    records.close()
    failed = [r for r in results if r["verdict"] == "fail"]
    text = "\n".join(f"{r['serial']}  {r['verdict']}  {r.get('error', image.name)}" for r in results)
    return (FOUND if failed else FINE), results, text


def _bench(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace import journey
    from zesty_trace.core.bench.plan import make_plan
    from zesty_trace.devices.instruments import ScpiBench
    from zesty_trace.store.project import RECORDS
    from zesty_trace.store.records import Records

    design, folder, catalogue = _load(a.project)
    batch = journey.batch_of(design)
    records = Records(folder / RECORDS)
    serials = records.add_boards(batch.revision, batch.variant, range(1, a.boards + 1))
    try:
        if a.simulate:
            results = journey.measure_simulated(design, catalogue, serials, records)
        elif a.meter and a.supply and a.bus:
            plan = make_plan(design, catalogue, batch.variant)
            with ScpiBench(a.meter, a.supply, a.bus) as bench:
                results = journey.measure_boards(plan, bench, serials, records)
        else:
            raise ZestyError("Say which instruments", "bench", "Give --meter, --supply and --bus, or --simulate")
    finally:
        records.close()
    data = [
        {"serial": r.serial, "passed": r.passed, "summary": r.summary(), "readings": [x.as_dict() for x in r.readings]}
        for r in results
    ]
    text = "\n".join(f"{r.serial}  {'pass' if r.passed else 'FAIL'}  {r.summary()}" for r in results)
    good = sum(r.passed for r in results)
    return (FINE if good == len(results) else FOUND), data, f"{text}\n{good} of {len(results)} passed"


def _record(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.store.project import RECORDS
    from zesty_trace.store.records import Records

    _, folder, _ = _load(a.project)
    records = Records(folder / RECORDS)
    boards = records.boards()
    records.close()
    data = [
        {
            "serial": b.serial,
            "verdict": b.verdict,
            "events": [{"at": e.at, "kind": e.kind, "verdict": e.verdict, "summary": e.summary} for e in b.events],
        }
        for b in boards
    ]
    lines = [f"{b.serial}  {b.verdict:5} " + "; ".join(f"{e.kind}: {e.summary}" for e in b.events) for b in boards]
    return FINE, data, "\n".join(lines) or "No boards yet."


def _mark(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.core.catalogue.markings import nearest, read_bands, read_chip

    words = " ".join(a.marking)
    if any(c.isalpha() for c in words) and len(words) > 5:
        ohm, tolerance = read_bands(words)
        data = {"ohm": ohm, "tolerance": tolerance, "e24": nearest(ohm) if ohm else 0.0}
        return FINE, data, f"{say(ohm, 'Ω')} ± {tolerance:.3%}"
    ohm = read_chip(words)
    return FINE, {"ohm": ohm, "e24": nearest(ohm) if ohm else 0.0}, say(ohm, "Ω")


def _schema(a: argparse.Namespace) -> tuple[int, Any, str]:
    from zesty_trace.store.project import project_schema, write_atomically

    text = json.dumps(project_schema(), indent=1) + "\n"
    write_atomically(Path(a.out), text.encode())
    return FINE, {"schema": a.out}, f"Wrote {a.out}"


def _shots(a: argparse.Namespace) -> tuple[int, Any, str]:
    done = subprocess.run([sys.executable, "-m", "zesty_trace", "demo", "--shots", a.out], check=False)
    return done.returncode, {"folder": a.out}, f"Pictures in {a.out}"


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="zt", description="From a proven prototype to a shelf of flashed, tested boards. Every command takes --json.",
        epilog="Exit status: 0 fine, 1 findings or failed boards, 2 bad input.",
    )  # fmt: skip
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")

    def add(name: str, handler: Handler, text: str, *arguments: tuple[str, dict[str, Any]]) -> None:
        sub = commands.add_parser(name, help=text, description=text)
        sub.add_argument("--json", action="store_true", help="print JSON instead of text")
        for flag, options in arguments:
            sub.add_argument(flag, **options)
        sub.set_defaults(handler=handler)

    project = ("project", {"help": "the project folder"})
    add("new", _new, "make a project", project, ("--name", {"help": "its name"}),
        ("--demo", {"nargs": "?", "const": "proofing", "help": "make a demo: proofing, tide-dial or sensor-node"}))  # fmt: skip
    add("import", _import, "make or update a project from two CSV files",
        ("--parts", {"required": True, "help": "ref, kind, value, package, variants, notes"}),
        ("--wiring", {"required": True, "help": "net, ref, pin"}),
        ("--out", {"required": True, "help": "project folder"}))  # fmt: skip
    add(
        "export", _export, "write the design as two CSV files", project, ("--out", {"required": True, "help": "folder"})
    )
    add("review", _review, "electrical review of the schematic", project)
    add("mend", _mend, "apply the mends that the review offers", project, ("--rule", {"help": "of this rule only"}))
    add("solve", _solve, "voltages, currents and temperatures", project, ("--state", {"help": "operating state"}),
        ("--tolerance",
         {"type": _samples, "default": 0, "metavar": "N", "help": "spread of N boards with toleranced parts"}))  # fmt: skip
    add("arrange", _arrange, "arrange the sheet and measure it", project)
    add("part", _part, "check your own part kinds", ("action", {"choices": ["check"]}), ("file", {"help": "TOML file"}))
    add("route", _route, "place what is not placed and route the board", project)
    add("check", _check, "board review: clearances, holes, missing copper", project)
    add("fab", _fab, "write the fabrication zip", project, ("--out", {"help": "folder (default: in the project)"}))
    add("quote", _quote, "prices and dates from all board houses", project)
    add("assembly", _assembly, "the placing sequence", project, ("--variant", {"help": "fitted variant"}),
        ("--order", {"default": SCHOOLS[0], "choices": SCHOOLS}))  # fmt: skip
    add("reflow", _reflow, "simulate the heat profile", project,
        ("--alloy", {"choices": ["leaded", "lead-free", "low-temperature"]}))  # fmt: skip
    add("image", _image, "what is in a firmware image, and does it fit", ("file", {"help": "HEX or binary file"}),
        ("--target", {"required": True}),
        ("--base", {"type": lambda t: int(t, 0), "help": "address of a binary file"}))  # fmt: skip
    add("flash", _flash, "flash boards and record them", project, ("--port", {"help": "serial port"}),
        ("--simulate", {"action": "store_true", "help": "use the stand-in target"}),
        ("--fault", {"default": "none", "choices": ["none", "silent", "identity", "drop", "bits"]}),
        ("--serial", {"help": "one serial number, such as A-003"}), ("--boards", {"type": int, "help": "the first N"}))  # fmt: skip
    add("bench", _bench, "measure boards against the generated plan and record them", project,
        ("--simulate", {"action": "store_true", "help": "use the stand-in instruments"}),
        ("--boards", {"type": int, "default": 1}), ("--meter", {"help": "VISA address"}),
        ("--supply", {"help": "VISA address"}), ("--bus", {"help": "VISA address"}))  # fmt: skip
    add("record", _record, "what happened to each board", project)
    add("mark", _mark, "what a resistor in the hand is, by its bands or its chip marking",
        ("marking", {"nargs": "+", "help": "yellow violet red gold, or 472"}))  # fmt: skip
    add("schema", _schema, "write the JSON Schema of design.json", ("--out", {"default": "docs/design.schema.json"}))
    add("shots", _shots, "draw each main view of the demo to PNG", ("--out", {"default": "shots"}))
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command and return its exit status."""
    options = _parser().parse_args(arguments)
    try:
        status, data, text = options.handler(options)
    except ZestyError as error:
        message = {"error": error.message, "where": error.where, "hint": error.hint}
        problems = [str(p) for p in getattr(error, "problems", [])]
        if options.json:
            print(json.dumps({**message, **({"problems": problems} if problems else {})}, ensure_ascii=False))
        else:
            print(str(error), file=sys.stderr)
            for line in problems[1:]:
                print(line, file=sys.stderr)
        return BAD
    print(json.dumps(data, ensure_ascii=False, indent=1) if options.json else text)
    return status


if __name__ == "__main__":
    sys.exit(main())
