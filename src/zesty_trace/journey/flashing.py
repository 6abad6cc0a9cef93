"""Flashing one board after the other: which chip is there, what it gets, and what is written down before and after."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import asdict, replace

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Finding, Severity
from zesty_trace.core.firmware.fit import controller_findings, image_spec
from zesty_trace.core.firmware.image import Image, fit_findings, image_inside, pages_of
from zesty_trace.core.firmware.targets import Target, find_target
from zesty_trace.core.progress import Report, quiet
from zesty_trace.devices.usart_bootloader import (
    Bootloader,
    Chip,
    Link,
    blocks_of,
    confirm,
    identify,
    open_port,
    write_verified,
)
from zesty_trace.errors import Cancelled, DeviceError, InputError
from zesty_trace.journey.batch import Source, provenance, refuse_simulated_on_real
from zesty_trace.standins.launch import running
from zesty_trace.store.board import Wanted
from zesty_trace.store.payloads import FlashTold
from zesty_trace.store.records import Records


def image_of(design: Design, folder: Path) -> tuple[Image, Target] | None:
    """Return the image and target of the build's variant, or None if the design names none."""
    spec = image_spec(design)
    if spec is None:
        return None
    target = find_target(spec.target)
    return image_inside(folder, spec.file, spec.base_address or target.flash_start), target


def wanted_of(design: Design, folder: Path, plan: str = "") -> Wanted:
    """Return what each board of the batch must hold and be measured by.

    An image that cannot be read is not asked for.
    """
    try:
        chosen = image_of(design, folder)
    except InputError:
        chosen = None
    return Wanted(chosen[0].sha256 if chosen else "", plan)


@dataclass(frozen=True)
class FlashJob:
    """What the boards of a batch get."""

    design: Design
    image: Image
    target: Target


def flash_job(wired: Wired, folder: Path) -> FlashJob:
    """Return what boards of the build's variant get. InputError if there is nothing, or it must not be flashed."""
    design = wired.design
    chosen = image_of(design, folder)
    if chosen is None:
        said = f" for {design.build.variant}" if design.build.variant else ""
        raise InputError(f"The project names no image{said}", "flash", "Choose one in the Flash station")
    job = FlashJob(design, *chosen)
    _refuse_stops(job, controller_findings(wired))
    return job


def _refuse_stops(job: FlashJob, more: Sequence[Finding] = ()) -> None:
    found = [*more, *fit_findings(job.image, job.target)]
    bad = [f for f in found if f.severity is Severity.STOP]
    if bad:
        raise InputError(bad[0].title, job.image.name, bad[0].detail)


def flash_board(
    link: Link,
    where: str,
    job: FlashJob,
    serial: str,
    records: Records,
    source: Source = "real",
    report: Report = quiet,
) -> Chip:
    """Erase, write, read back and verify one board; return which chip it was.

    The attempt is recorded before the erase and closed only by the read-back: whatever cuts it off, the record then
    says that the content is not known. DeviceError on failure, which is recorded too.
    """
    try:
        _refuse_stops(job)
        pieces = [(s.address, s.data) for s in job.image.segments]
        blocks, pages = blocks_of(pieces, job.target.row_bytes), pages_of(job.image, job.target)
    except (InputError, ValueError) as error:
        link.close()
        raise InputError(str(getattr(error, "message", error)), job.image.name, "Build the image again") from error
    told = FlashTold(
        **asdict(provenance(source, job.design)),
        port=where,
        image=job.image.name,
        sha256=job.image.sha256,
        bytes=job.image.size,
        target=job.target.name,
    )
    try:
        with Bootloader(link, where) as boot:
            if not report(0.0, "connecting"):
                raise Cancelled
            chip = identify(boot, job.target.product_id, job.target.uid_address, job.target.uid_bytes)
            told = replace(told, chip=chip.identity, product_id=chip.product_id, bootloader=chip.bootloader)
            _refuse_other_chip(chip, serial, records, source)
            records.add(serial, "flashing", f"{job.image.name}: erasing and writing", "open", told)
            write_verified(boot, blocks, pages, report)
            confirm(boot, chip, job.target.uid_address, job.target.uid_bytes)
    except DeviceError as error:
        records.add(serial, "flashed", error.message, "fail", told)
        raise
    bound = f"chip {chip.identity}" if chip.identity else "the chip has no number to tell it from another"
    records.add(serial, "flashed", f"{job.image.name} verified, sha256 {job.image.sha256[:12]}; {bound}", "pass", told)
    report(1.0, "verified")
    return chip


def _refuse_other_chip(chip: Chip, serial: str, records: Records, source: Source) -> None:
    """Stop when this chip is known under another serial number, or this serial number had another chip.

    A board's chip is the one that an attempt went ahead on; one that was refused here is nobody's.
    """
    if not chip.identity:
        return
    for board in records.boards():
        own = [e for e in board.events if e.kind == "flashing" and e.flash.chip and e.told.source == source]
        if board.serial != serial and any(e.flash.chip == chip.identity for e in own):
            raise DeviceError(
                f"This chip (number {chip.identity}) is the one of {board.serial}",
                serial,
                f"Take {board.serial} out and put {serial} in",
            )
        if board.serial != serial or not own or own[-1].flash.chip == chip.identity:
            continue
        if not any(e.kind == "reworked" for e in board.events[board.events.index(own[-1]) :]):
            raise DeviceError(
                f"{serial} had another chip (number {own[-1].flash.chip}) when it was last flashed",
                serial,
                "Put the right board in, or record the rework if its chip was replaced",
            )


def flash_simulated(job: FlashJob, serial: str, records: Records, fault: str = "none", report: Report = quiet) -> Chip:
    """Flash a stand-in target that runs as a process of its own; each serial number has its own simulated chip."""
    refuse_simulated_on_real(records, [serial])
    uid = hashlib.sha256(f"{job.design.name}/{serial}".encode()).hexdigest()[: 2 * job.target.uid_bytes]
    with running("target", "--target", job.target.name, "--fault", fault, "--uid", uid) as said:
        return flash_board(open_port(said["port"]), said["port"], job, serial, records, "simulated", report)
