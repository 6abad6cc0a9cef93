"""Commands about boards that are built: which image each gets, what each measures, who measured with what."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from contextlib import closing
from datetime import date
from typing import TYPE_CHECKING, Any

from zesty_trace.cli.common import FINE, FOUND, Answer, load
from zesty_trace.cli.terminal import progress
from zesty_trace.core.design.variants import known_variant
from zesty_trace.errors import DeviceError, InputError, ZestyError

if TYPE_CHECKING:
    from zesty_trace.journey.batch import Batch
    from zesty_trace.store.records import Records


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


def add_commands(add: Callable[..., None], project: tuple[str, dict[str, Any]]) -> None:
    """Add the commands that flash and measure."""
    add(
        "flash",
        flash_command,
        "flash boards and record them",
        project,
        ("--port", {"help": "serial port"}),
        ("--simulate", {"action": "store_true", "help": "use the stand-in target"}),
        ("--fault", {"default": "none", "choices": ["none", "silent", "identity", "drop", "bits", "protected"]}),
        ("--serial", {"help": "one serial number, such as A-003"}),
        ("--boards", {"type": int, "help": "the first N"}),
    )
    add(
        "bench",
        bench_command,
        "measure boards against the generated plan and record them",
        project,
        ("--simulate", {"action": "store_true", "help": "use the stand-in instruments"}),
        ("--by-hand", {"action": "store_true", "help": "a person does what no instrument does"}),
        ("--boards", {"type": int, "help": "the first N"}),
        ("--serial", {"help": "one serial number, such as A-003"}),
        ("--meter", {"help": "VISA address"}),
        ("--supply", {"help": "VISA address"}),
        ("--fixture", {"help": "VISA address (docs/fixture.md)"}),
    )
    add(
        "meter",
        meter_command,
        "how far your instruments may be off, and when they were calibrated: limits are guarded by it",
        ("--of", {"metavar": "NAME", "help": "what *IDN? answers; without it what you read by hand"}),
        ("--volts", {"metavar": "ACCURACY", "help": "such as '0.5 %% + 2 mV', from its sheet"}),
        ("--ohms", {"metavar": "ACCURACY", "help": "such as '1 %% + 0.3 ohm'"}),
        ("--amps", {"metavar": "ACCURACY", "help": "of the supply's own reading, such as '1 %% + 5 mA'"}),
        ("--calibrated", {"metavar": "DATE", "help": "year-month-day"}),
    )
    add(
        "me",
        me_command,
        "who works here and at which bench, as the records say it",
        ("--name", {"help": "your name"}),
        ("--bench", {"help": "the name of the bench"}),
    )
    add(
        "coverage",
        coverage_command,
        "what the test plan would notice of each single fault",
        project,
        ("--variant", {"help": "fitted variant"}),
    )
