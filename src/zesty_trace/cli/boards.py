"""Commands about the board and the boards: routing, files, quotes, assembly, flashing, measuring."""

from __future__ import annotations

import argparse
from datetime import date
from pathlib import Path
from typing import Any

from zesty_trace.cli.common import FINE, FOUND, Answer, edit, load, say_findings, verdict
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import with_acceptance
from zesty_trace.errors import DeviceError, ZestyError


def route_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.board.place import place_rest
    from zesty_trace.core.board.router import RouteResult, route

    results: list[RouteResult] = []

    def go(design: Design, catalogue: Any) -> Design:
        result = route(place_rest(design, catalogue), catalogue)
        results.append(result)
        return result.design

    edit(a.project, go)
    r = results[0]
    data = {
        "connections": r.connections, "missing": r.missing, "passes": r.passes, "conflicts": r.conflicts,
        "tracks": len(r.design.board.tracks), "vias": len(r.design.board.vias),
    }  # fmt: skip
    text = (
        f"{r.connections - r.missing} of {r.connections} connections routed in {r.passes} passes, {data['vias']} vias"
    )
    return (FOUND if r.missing or r.conflicts else FINE), data, text


def check_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.board.check import check_board

    design, _, catalogue = load(a.project)
    findings = with_acceptance(check_board(design, catalogue), design.accepted)
    return verdict(findings), [f.as_dict() for f in findings], say_findings(findings)


def fab_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.fabrication.package import write_package

    design, folder, catalogue = load(a.project)
    path = write_package(design, catalogue, Path(a.out) if a.out else folder / "fabrication")
    return FINE, {"zip": str(path)}, f"Wrote {path}"


def quote_command(a: argparse.Namespace) -> Answer:
    from zesty_trace import journey
    from zesty_trace.core.ordering.quote import cheapest, order_findings, soonest

    design, folder, _ = load(a.project)
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
    return verdict(findings), data, "\n".join(lines) + "\n" + say_findings(findings)


def assembly_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.core.assembly.sequence import placing_sequence

    design, _, catalogue = load(a.project)
    steps = placing_sequence(design, catalogue, a.variant or design.build.variant, a.order)
    data = [
        {"step": s.number, "title": s.title, "refs": list(s.refs), "how": s.how, "cautions": list(s.cautions)}
        for s in steps
    ]
    text = "\n".join(f"{s.number:3} {len(s.refs):2} x {s.title} ({s.how}): {' '.join(s.refs)}" for s in steps)
    return FINE, data, text


def reflow_command(a: argparse.Namespace) -> Answer:
    from zesty_trace import journey
    from zesty_trace.core.assembly.oven import heat_findings
    from zesty_trace.core.design.edits import set_build

    design, _, catalogue = load(a.project)
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


def flash_command(a: argparse.Namespace) -> Answer:
    from zesty_trace import journey
    from zesty_trace.devices.usart_bootloader import open_port
    from zesty_trace.store.project import RECORDS
    from zesty_trace.store.records import Records

    design, folder, _ = load(a.project)
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


def bench_command(a: argparse.Namespace) -> Answer:
    from zesty_trace import journey
    from zesty_trace.core.bench.plan import make_plan
    from zesty_trace.devices.instruments import ScpiBench
    from zesty_trace.store.project import RECORDS
    from zesty_trace.store.records import Records

    design, folder, catalogue = load(a.project)
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


def record_command(a: argparse.Namespace) -> Answer:
    from zesty_trace.store.project import RECORDS
    from zesty_trace.store.records import Records

    _, folder, _ = load(a.project)
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
