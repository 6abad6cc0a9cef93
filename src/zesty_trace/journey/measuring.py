"""Measuring boards one after the other, and writing down what each showed, by which plan and with which instruments."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from contextlib import ExitStack
from datetime import date
from pathlib import Path

from msgspec.structs import asdict

from zesty_trace.core.bench.accuracy import EXACT, NOT_KNOWN, Trusted
from zesty_trace.core.bench.failed import FailedBoard, failed_findings, records_finding
from zesty_trace.core.bench.plan import BenchPlan, make_plan
from zesty_trace.core.bench.run import BoardResult, Instruments, run_plan
from zesty_trace.core.bench.simulated import demo_faults
from zesty_trace.core.circuit.wired import Wired, pack
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding
from zesty_trace.core.progress import Report, quiet
from zesty_trace.devices.instruments import Bench
from zesty_trace.journey.batch import Source, provenance, refuse_simulated_on_real
from zesty_trace.standins.instruments import fault_argument
from zesty_trace.standins.launch import running
from zesty_trace.store.board import BoardRecord, Wanted
from zesty_trace.store.payloads import MeasureTold, ReadingTold
from zesty_trace.store.records import NOT_CHECKED, Records


def measure_boards(
    plan: BenchPlan,
    bench: Instruments,
    serials: list[str],
    records: Records | None,
    report: Report = quiet,
    design: Design | None = None,
    source: Source = "real",
    instruments: list[str] | None = None,
    trusted: Trusted = NOT_KNOWN,
) -> list[BoardResult]:
    """Run the plan on boards one after the other, recording each as it ends.

    A board that cannot be measured is left open. Limits are guarded by how far readings may be off, where it is known.
    """
    results = []
    meter = trusted.words(date.today())
    for k, serial in enumerate(serials):

        def part(share: float, text: str, k: int = k) -> bool:
            return report((k + share) / len(serials), text)

        result = run_plan(plan, bench, serial, part, trusted=trusted)
        results.append(result)
        if records:
            told = MeasureTold(
                **asdict(provenance(source, design)),
                plan=plan.checksum,
                plan_variant=plan.variant,
                instruments=tuple(instruments or ()),
                zero=result.zero,
                meter=meter,
                readings=tuple(ReadingTold(**r.as_dict()) for r in result.readings),
            )
            records.add(serial, "measured", result.summary(), result.verdict, told)
        if result.live:
            break  # nobody is to take out a board that may be live, and put the next one in
    return results


def measure_simulated(
    wired: Wired,
    serials: list[str],
    records: Records | None,
    report: Report = quiet,
    with_faults: bool = True,
    plan: BenchPlan | None = None,
) -> list[BoardResult]:
    """Measure stand-in boards with stand-in instruments that run as a process of their own."""
    design = wired.design
    variant = design.build.variant
    if records:
        refuse_simulated_on_real(records, serials)
    plan = plan or make_plan(wired, variant)
    faults = demo_faults(wired.with_design(design.fitted(variant)), len(serials)) if with_faults else {}
    options = [w for n, f in faults.items() for w in ("--fault", fault_argument(serials[n - 1], f))]
    with ExitStack() as stack:
        folder = stack.enter_context(tempfile.TemporaryDirectory())
        path = Path(folder) / "wired.json"
        path.write_bytes(pack(wired))
        said = stack.enter_context(running("instruments", "--wired", str(path), "--variant", variant, *options))
        bench = stack.enter_context(Bench(said["meter"], said["supply"], said["fixture"], settle_s=0.0))
        return measure_boards(plan, bench, serials, records, report, design, "simulated", bench.instruments, EXACT)


def bench_findings(boards: Iterable[BoardRecord], wanted: Wanted | None = None) -> list[Finding]:
    """Return one finding for each board that stands as failed, or that the records cannot be trusted."""
    boards = list(boards)
    if distrust := next((b.distrust for b in boards if b.distrust), ""):
        return [] if distrust == NOT_CHECKED else [records_finding(distrust)]
    standing = [(b.serial, b.standing(wanted)) for b in boards]
    return failed_findings(FailedBoard(s, x.why, x.simulated) for s, x in standing if x.verdict == "fail")
