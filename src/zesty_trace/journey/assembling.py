"""The oven run of the batch, simulated and judged; what was assembled, on record."""

from __future__ import annotations

from zesty_trace.core.assembly import oven, profiles
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.errors import EditError, InputError
from zesty_trace.journey.batch import batch_of, book, provenance
from zesty_trace.store.records import Records


def heat_run(wired: Wired) -> tuple[oven.Run, list[oven.Measure], profiles.AlloyWindow]:
    """Return the simulated oven run of the build's alloy, and its judged numbers. EditError without an outline."""
    design = wired.design
    if not design.board.outline:
        raise EditError("The board has no outline yet", "layout", "Place the parts first")
    window = profiles.WINDOWS[design.build.alloy]
    run = oven.simulate(wired, profiles.target_profile(design.build.alloy, 25.0), 25.0)
    return run, oven.judge(run, window, oven.part_limit_c(wired)[0]), window


def still_to_assemble(records: Records, design: Design) -> list[str]:
    """Return the serial numbers of the batch that no record calls assembled."""
    batch = batch_of(design)
    done = {b.serial for b in records.boards(batch.revision) if b.last("assembled")}
    return [s for s in batch.serials(records.boards()) if s not in done]


def record_assembled(records: Records, design: Design, count: int) -> list[str]:
    """Record that this many boards of the build's variant were assembled; return their serial numbers.

    InputError if the batch has fewer left. StoreError as the records.
    """
    left = still_to_assemble(records, design)
    if not 0 < count <= len(left):
        said = f"{count} boards cannot be recorded: {len(left)} of the batch are still to be assembled"
        raise InputError(said, "boards", f"Up to {len(left)}, or a larger quantity in Brief")
    batch = batch_of(design)
    serials = book(records, batch, left[:count])
    records.add_all(
        serials,
        "assembled",
        f"{batch.variant or 'one variant'}, {design.build.alloy}",
        told=provenance("person", design),
    )
    return serials
