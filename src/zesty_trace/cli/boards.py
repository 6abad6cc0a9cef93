"""Commands about the board and the boards: routing, files, quotes, assembly, flashing, measuring."""

from __future__ import annotations

import argparse
import sys
from contextlib import closing
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from zesty_trace.cli.common import FINE, FOUND, Answer, edit, load, say_findings, verdict
from zesty_trace.cli.terminal import progress
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.design.variants import known_variant
from zesty_trace.core.findings import with_acceptance
from zesty_trace.errors import DeviceError, InputError, ZestyError

if TYPE_CHECKING:
    from zesty_trace.journey.batch import Batch
    from zesty_trace.store.board import BoardRecord
    from zesty_trace.store.records import Records


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
    from zesty_trace.core.board.outline import dxf_of, rings_from_dxf, rings_from_svg, set_form, set_rings
    from zesty_trace.core.board.words.say_outline import change_board
    from zesty_trace.files import read_given, write_given

    form = _form(a)
    if form:
        edit(a.project, lambda w: set_form(w.design, form))
    elif a.dxf or a.svg:
        name = a.dxf or a.svg
        text = read_given(Path(name), "drawing").decode("utf-8", "replace")
        read = rings_from_dxf if a.dxf else rings_from_svg
        edit(a.project, lambda w: set_rings(w.design, read(text, name)))
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


def flash_command(a: argparse.Namespace) -> Answer:
    """Flash boards one by one; at a real port the next one is asked for."""
    from zesty_trace.devices.usart_bootloader import open_port
    from zesty_trace.journey import batch as batches
    from zesty_trace.journey import flashing
    from zesty_trace.store.records import Records

    wired, folder = load(a.project)
    design = wired.design
    job = flashing.flash_job(wired, folder)
    if not a.simulate and not a.port:
        raise ZestyError("Say which port", "--port", "Give --port /dev/ttyUSB0, or --simulate")
    batch, last = batches.batch_of(design), ""
    results: list[dict[str, Any]] = []
    with closing(Records(folder)) as records:
        for serial in batches.book(records, batch, _serials(a, batch, records)):
            try:
                if a.simulate:
                    chip = flashing.flash_simulated(job, serial, records, a.fault)
                else:
                    if results and not _asked(f"Take {results[-1]['serial']} out, put {serial} in, in its boot mode."):
                        results.append(
                            {
                                "serial": serial,
                                "verdict": "open",
                                "error": "not flashed: nobody confirmed that it is in",
                            }
                        )
                        break
                    chip = flashing.flash_board(open_port(a.port), a.port, job, serial, records)
                    if last and not chip.identity:
                        print(
                            f"{serial}: this chip has no number of its own; that it is another board is your word.",
                            file=sys.stderr,
                        )
                last = serial
                results.append({"serial": serial, "verdict": "pass", "sha256": job.image.sha256, "chip": chip.identity})
            except DeviceError as error:
                results.append({"serial": serial, "verdict": "fail", "error": str(error)})
    for r in results:
        r["source"] = "simulated" if a.simulate else "real"
    bad = [r for r in results if r["verdict"] != "pass"]
    mark = " (simulated)" if a.simulate else ""
    text = "\n".join(f"{r['serial']}  {r['verdict']}{mark}  {r.get('error', job.image.name)}" for r in results)
    return (FOUND if bad else FINE), results, text


def _serials(a: argparse.Namespace, batch: Batch, records: Records) -> list[str]:
    """Return the serial numbers that are asked for, checked against the batch before anything is touched."""
    from zesty_trace.journey.batch import chosen_serial

    boards = records.boards()
    if a.serial:
        return [chosen_serial(a.serial, batch, boards)]
    known, count = batch.serials(boards), 1 if a.boards is None else a.boards
    if not 1 <= count <= max(1, len(known)):
        raise InputError(
            f"{count} boards are asked for, the batch has {len(known)}", "--boards", "Change one of the two"
        )
    return known[:count]


def _asked(sentence: str) -> bool:
    """Ask on the terminal and wait for Enter; False if there is nobody to answer."""
    print(f"{sentence} Then press Enter. ", end="", file=sys.stderr, flush=True)
    line = sys.stdin.readline() if sys.stdin and not sys.stdin.closed else ""
    return line != "" and line.strip().lower() not in ("n", "no", "q", "stop")


def bench_command(a: argparse.Namespace) -> Answer:
    """Measure boards: simulated, by instruments, by hand, or by both."""
    from zesty_trace.cli.hands import TerminalHands
    from zesty_trace.core.bench.plan import make_plan
    from zesty_trace.devices.instruments import Bench
    from zesty_trace.journey import batch as batches
    from zesty_trace.journey.measuring import measure_boards, measure_simulated
    from zesty_trace.journey.trusting import must_ask, trusted_of
    from zesty_trace.store.records import Records

    wired, folder = load(a.project)
    design = wired.design
    batch = batches.batch_of(design)
    if not a.simulate and not a.by_hand and not (a.meter and a.supply and a.fixture):
        raise ZestyError(
            "Say how to measure",
            "bench",
            "Give --meter, --supply and --fixture, or --by-hand for what is missing, or --simulate",
        )
    plan = make_plan(wired, batch.variant)
    with closing(Records(folder)) as records:
        serials = batches.book(records, batch, _serials(a, batch, records))
        if a.simulate:
            results = measure_simulated(wired, serials, records, plan=plan)
        else:
            hands = TerminalHands() if a.by_hand else None
            for sentence in plan.setup if hands is None else ():
                print(sentence, file=sys.stderr)
            with Bench(a.meter or "", a.supply or "", a.fixture or "", hands) as bench:
                trusted = trusted_of(*bench.names)
                print(trusted.words(date.today()), file=sys.stderr)
                if must_ask(bench.names[0], date.today()):
                    said = f" --of '{bench.names[0]}'" if bench.names[0] else ""
                    print(f"When was the meter calibrated? zt meter{said} --calibrated DATE", file=sys.stderr)
                results = measure_boards(
                    plan, bench, serials, records, design=design, instruments=bench.instruments, trusted=trusted
                )
    source = "simulated" if a.simulate else "real"
    data = [
        {
            "serial": r.serial,
            "verdict": r.verdict,
            "passed": r.passed,
            "source": source,
            "summary": r.summary(),
            "live": r.live,
            "zero": r.zero,
            "readings": [x.as_dict() for x in r.readings],
        }
        for r in results
    ]
    mark = " (simulated)" if a.simulate else ""
    text = "\n".join(
        f"{r.serial}  {r.verdict.upper() if r.verdict != 'pass' else 'pass'}{mark}  {r.summary()}" for r in results
    )
    good = sum(r.passed for r in results)
    zero = {r.zero: r.serial for r in results if r.zero}
    text += "".join(f"\n{serial}, 0 V: {how}" for how, serial in zero.items()) if not a.simulate else ""
    for r in results:
        if r.live:
            print(r.live, file=sys.stderr)
    return (FINE if good == len(results) else FOUND), data, f"{text}\n{good} of {len(results)} passed{mark}"


def meter_command(a: argparse.Namespace) -> Answer:
    """Show or say how far instruments may be off, and when they were calibrated."""
    from msgspec import to_builtins

    from zesty_trace.journey.trusting import say_instrument, trusted_of
    from zesty_trace.store.bench import BY_HAND, load_instruments

    today, name = date.today(), a.of or BY_HAND
    said = {"volt": a.volts or "", "ohm": a.ohms or "", "amp": a.amps or "", "calibrated": a.calibrated or ""}
    if any(said.values()):
        say_instrument(name, today, **said)
    known = load_instruments()
    lines = [trusted_of("" if n == BY_HAND else n, "" if n == BY_HAND else n).words(today) for n in known]
    text = "\n".join(lines) or "Nothing is known of your instruments: limits are not guarded by what they may be off."
    return FINE, {n: to_builtins(i) for n, i in known.items()}, text


def me_command(a: argparse.Namespace) -> Answer:
    """Show or set who works here and at which bench, as records say it."""
    from zesty_trace.store.own import keep_person, person

    found = person()
    if a.name is not None or a.bench is not None:
        found = keep_person(found.name if a.name is None else a.name, found.bench if a.bench is None else a.bench)
    how = "" if found.said else " (the system's name for you: set yours with --name)"
    at = f" at {found.bench}" if found.bench else ", at a bench without a name"
    return FINE, {"name": found.name, "bench": found.bench, "said": found.said}, f"{found.name}{how}{at}"


def coverage_command(a: argparse.Namespace) -> Answer:
    """Say what the test plan would notice, and what not."""
    from zesty_trace.core.bench.coverage import cover, say_methods

    wired, _ = load(a.project)
    design = wired.design
    variant = design.build.variant if a.variant is None else a.variant
    known_variant(design, variant, "--variant")

    def report(share: float, text: str) -> bool:
        progress(f"{share:4.0%} {text[:60]}")
        return True

    found = cover(wired, variant, report)
    progress("")
    noticed = sum(t.noticed for t in found.trials)
    data = {
        "variant": variant,
        "steps": found.steps,
        "no_probe_reaches": list(found.unreached),
        "faults": len(found.trials),
        "noticed": noticed,
        "share": found.share,
        "electric_share": found.electric_share,
        "by_method": found.by_method(),
        "by_sort": {
            s: {"noticed": n, "of": m, "by_method": found.by_method(s)} for s, (n, m) in found.by_sort().items()
        },
        "not_noticed": {p: [str(f) for f in faults] for p, faults in found.unnoticed().items()},
        "trials": [
            {"sort": t.sort, "fault": str(t.fault), "part": t.part, "noticed_by": t.noticed_by, "method": t.method}
            for t in found.trials
        ],
    }
    lines = [
        f"{noticed} of {len(found.trials)} single faults would be noticed ({found.share:.0%}), by {found.steps} steps"
    ]
    lines += [
        f"  {sort:12} {n:4} of {m:4}, {say_methods(found.by_method(sort))}" for sort, (n, m) in found.by_sort().items()
    ]
    lines.append(
        f"By meter and supply alone {found.electric_share:.0%}; {say_methods(found.by_method())}. What needs the "
        "board's own program is noticed only once you have written that program (docs/fixture.md)."
    )
    if found.unreached:
        lines.append(f"No probe reaches: {', '.join(found.unreached)}")
    lines += ["Not noticed:"]
    lines += [f"  {part:6} {'; '.join(map(str, faults))}" for part, faults in found.unnoticed().items()]
    return FINE, data, "\n".join(lines)


def records_command(a: argparse.Namespace) -> Answer:
    """Verify the chain of events, bring a daily copy back, take the records as they are, or set up a key."""
    from zesty_trace.store.records import backup_names, bring_back, take_as_they_are

    if a.action == "key":
        return _records_key(a)
    if not a.project:
        raise InputError("The project is not named", "records", f"Write zt records {a.action} PROJECT")
    folder = load(a.project)[1]
    if a.action == "verify":
        return _verify_records(folder)
    if a.action == "take":
        from zesty_trace.store.own import person

        count = take_as_they_are(folder, a.why or "", person().name)
        return FINE, {"events": count, "why": a.why}, f"The records count as they are: {count} events"
    names = backup_names(folder)
    chosen = a.backup or (names[0] if names else "")
    if chosen not in names:
        raise InputError(f"There is no copy “{chosen}”", "backups", f"Known: {', '.join(names) or 'none'}")
    kept = bring_back(folder, chosen)
    said = f"{chosen} is back; what was there is kept as {kept}" if kept else f"{chosen} is back"
    return FINE, {"brought_back": chosen, "kept": str(kept or "")}, said


def _verify_records(folder: Path) -> Answer:
    """Return whether each event is as it was written, who signed them, and what is odd about the clock."""
    from zesty_trace.store.records import Records, RecordsDamaged, backup_names, has_records
    from zesty_trace.store.signing import load_key

    if not has_records(folder):
        return FINE, {"events": 0, "wrong": [], "remarks": []}, "There are no records yet."
    key = load_key()
    remarks: list[str] = []
    taken: list[str] = []
    try:
        with closing(Records(folder)) as records:
            found = records.check()
            wrong, count, remarks = list(found.wrong), found.count, list(found.remarks)
            taken = [
                f"Taken as they are on {t.at[:10]} by {t.who or 'somebody'}: {t.now} events where {t.known} were "
                f"known ({t.why})"
                for t in records.taken
            ]
            signed = found.sealed
    except RecordsDamaged as error:
        wrong, count, signed = [str(error)], 0, 0
    copies = backup_names(folder)
    data = {"events": count, "wrong": wrong, "remarks": [*remarks, *taken], "backups": copies, "signed": signed}
    said = wrong or [f"{count} events, each as it was written and none missing that this computer has seen."]
    if wrong and copies:
        said.append(f"Copies lie in backups: {', '.join(copies[:3])}. Bring one back with zt records restore.")
    if key is None:
        said.append("They are not signed: zt records key sets a key up, so that a chain written anew is found out too.")
    elif not wrong:
        said.append(f"Signed with your key {key.short} up to event {signed}.")
    return (FOUND if wrong else FINE), data, "\n".join([*said, *(f"Note: {r}" for r in [*remarks, *taken])])


def _records_key(a: argparse.Namespace) -> Answer:
    """Set up the key that signs the user's events, or show which it is."""
    from zesty_trace.store.own import person
    from zesty_trace.store.signing import key_path, load_key, make_key

    key, fresh = load_key(), False
    if key is None:
        key, fresh = make_key(person().name), True
    data = {"public": key.public, "who": key.who, "made": key.made, "file": str(key_path()), "fresh": fresh}
    said = "It was made now. " if fresh else ""
    return (
        FINE,
        data,
        (
            f"Your key is {key.public}, of {key.who}, since {key.made[:10]}. {said}"
            f"It signs what you record. Keep a copy of {key_path()}, and show it to nobody."
        ),
    )


def record_command(a: argparse.Namespace) -> Answer:
    """Say what happened to each board, and where it stands."""
    from zesty_trace.journey.flashing import wanted_of
    from zesty_trace.store.records import Records, has_records

    wired, folder = load(a.project)
    design = wired.design
    boards: list[BoardRecord] = []
    wrong: tuple[str, ...] = ()
    if has_records(folder):
        with closing(Records(folder)) as records:
            boards, wrong = records.boards(), records.wrong
    wanted = wanted_of(design, folder)
    data: list[dict[str, Any]] = []
    lines = [f"THE RECORDS DO NOT HOLD TOGETHER: {w}. No board counts as passed." for w in wrong]
    for b in boards:
        current = b.revision == design.revision and b.variant == design.build.variant
        standing = b.standing(wanted if current else None)
        data.append(
            {
                "serial": b.serial,
                "verdict": standing.verdict,
                "why": standing.why,
                "simulated": standing.simulated,
                "revision": b.revision,
                "variant": b.variant,
                "events": [
                    {
                        "at": e.at,
                        "kind": e.kind,
                        "verdict": e.verdict,
                        "summary": e.summary,
                        "source": e.told.source,
                        "by": e.told.who,
                        "data": {k: v for k, v in msgspec.to_builtins(e.told).items() if k != "readings"},
                    }
                    for e in b.events
                ],
            }
        )
        lines.append(f"{b.serial}  {standing.words:16} " + "; ".join(f"{e.kind}: {e.words}" for e in b.events))
        if standing.verdict == "open":
            lines.append(f"{'':8}open: {standing.why}")
    return FINE, data, "\n".join(lines) or "No boards yet."
