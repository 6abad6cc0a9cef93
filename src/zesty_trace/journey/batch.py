"""The boards of one revision and variant by number, and what every record of them says of where it came from."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from zesty_trace.core.design.model import Design, to_json
from zesty_trace.errors import DeviceError, InputError
from zesty_trace.store.board import BoardRecord, parse_serial, serial_number
from zesty_trace.store.own import person
from zesty_trace.store.payloads import Told
from zesty_trace.store.records import Records

Source = Literal["real", "simulated", "person"]


@dataclass(frozen=True)
class Batch:
    """The boards of one revision and variant, by number."""

    revision: str
    variant: str
    quantity: int

    def serials(self, boards: Iterable[BoardRecord] = ()) -> list[str]:
        """Return the serial numbers: the boards recorded for this variant, then free numbers up to the quantity."""
        known = [b for b in boards if b.revision == self.revision]
        found = [b.serial for b in known if b.variant == self.variant]
        taken, number = {b.serial for b in known}, 0
        while len(found) < self.quantity:
            number += 1
            serial = serial_number(self.revision, number)
            if serial not in taken:
                found.append(serial)
        return sorted(found, key=lambda s: parse_serial(s, self.revision))


def batch_of(design: Design) -> Batch:
    """Return the batch that the brief asks for."""
    return Batch(design.revision, design.build.variant, design.brief.quantity)


def chosen_serial(text: str, batch: Batch, boards: Iterable[BoardRecord]) -> str:
    """Return a serial number of the batch as it is written.

    InputError for anything else, before anything is touched.
    """
    serial = serial_number(batch.revision, parse_serial(text, batch.revision))
    known = batch.serials(boards)
    if serial not in known:
        said = f" of variant {batch.variant}" if batch.variant else ""
        raise InputError(
            f"{serial} is not in this batch{said}",
            "serial",
            f"The batch runs from {known[0]} to {known[-1]}" if known else "Set a quantity",
        )
    return serial


def book(records: Records, batch: Batch, serials: list[str]) -> list[str]:
    """Make sure that boards of the batch are in the records. StoreError for a board of another variant."""
    return records.add_boards(batch.revision, batch.variant, [parse_serial(s, batch.revision) for s in serials])


def provenance(source: Source, design: Design | None = None) -> Told:
    """Return what each record says of where it came from: real or simulated, who at which bench, which design."""
    who = person()
    if design is None:
        return Told(source=source, who=who.name, bench=who.bench)
    checksum = hashlib.sha256(to_json(design)).hexdigest()[:16]
    return Told(source=source, who=who.name, bench=who.bench, design=checksum, variant=design.build.variant)


def refuse_simulated_on_real(records: Records, serials: Iterable[str]) -> None:
    """Refuse to mix what stand-ins tell into the record of a real board. DeviceError names it."""
    real = {b.serial for b in records.boards() if b.real}
    mixed = [s for s in serials if s in real]
    if mixed:
        raise DeviceError(
            f"{mixed[0]} is a real board by its record; simulated results are not mixed in",
            mixed[0],
            "Use the real port or instruments, or other boards",
        )
