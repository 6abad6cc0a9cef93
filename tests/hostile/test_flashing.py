"""No record of what did not happen.

One chip is one board, an attempt cut off is unknown, a serial number is checked first.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import bincopy
import pytest

from zesty_trace.cli import main
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import ImageSpec
from zesty_trace.core.firmware.fit import controller_findings, image_spec
from zesty_trace.core.firmware.image import fit_findings, parse_image
from zesty_trace.core.firmware.targets import find_target
from zesty_trace.devices.usart_bootloader import open_port
from zesty_trace.errors import Cancelled, DeviceError, InputError
from zesty_trace.journey.flashing import flash_board, flash_job, flash_simulated
from zesty_trace.standins.launch import running
from zesty_trace.store.project import ProjectFolder
from zesty_trace.store.records import Records

TARGET = find_target("zt32-128k")


def content(records: Records, serial: str) -> str:
    return next(b.content() for b in records.boards() if b.serial == serial).verdict


def flash(port: str, project: Path, *words: str, stdin: str = "") -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "zesty_trace.cli", "flash", str(project), "--port", port, *words]
    return subprocess.run(command, input=stdin, capture_output=True, text=True, timeout=60, check=False)


@pytest.mark.parametrize("stdin", ["", "\n\n\n", "q\n"])
def test_one_chip_at_a_real_port_never_becomes_a_batch(project: Path, stdin: str) -> None:
    with running("target", "--uid", "0a1b" * 6) as said:
        done = flash(said["port"], project, "--boards", "3", stdin=stdin)
    assert done.returncode == 1, done.stdout + done.stderr
    with closing(Records(project)) as records:
        verified = [b.serial for b in records.boards() if b.content().verdict == "pass"]
    assert verified == ["A-001"]


def test_the_same_chip_under_another_serial_number_is_a_stop(records: Records, job) -> None:
    with running("target", "--uid", "0b1c" * 6) as said:
        flash_board(open_port(said["port"]), said["port"], job, "A-001", records)
        with pytest.raises(DeviceError, match="is the one of A-001"):
            flash_board(open_port(said["port"]), said["port"], job, "A-002", records)
        assert (content(records, "A-001"), content(records, "A-002")) == ("pass", "fail")
        flash_board(open_port(said["port"]), said["port"], job, "A-001", records)  # the refusal gave the chip to nobody
    with running("target", "--uid", "0b1d" * 6) as said:
        flash_board(open_port(said["port"]), said["port"], job, "A-002", records)
    assert (content(records, "A-001"), content(records, "A-002")) == ("pass", "pass")


def test_another_chip_under_a_known_serial_number_is_a_stop_until_it_is_reworked(records: Records, job) -> None:
    for uid in ("0c1d", "0d1e"):
        with running("target", "--uid", uid * 6) as said:
            if uid == "0d1e":
                with pytest.raises(DeviceError, match="had another chip"):
                    flash_board(open_port(said["port"]), said["port"], job, "A-001", records)
                records.add("A-001", "reworked", "chip replaced")
                records.add("A-001", "note", "and cleaned")
            flash_board(open_port(said["port"]), said["port"], job, "A-001", records)
    assert content(records, "A-001") == "pass"


@pytest.mark.parametrize("share", [0.05, 0.3, 0.8])
def test_an_attempt_that_is_cut_off_leaves_unknown_content(records: Records, job, share: float) -> None:
    flash_simulated(job, "A-001", records)
    assert content(records, "A-001") == "pass"
    with pytest.raises(Cancelled):
        flash_simulated(job, "A-001", records, report=lambda s, _t: s < share)
    assert records.boards()[0].content().why.startswith("unknown content")


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGTERM])
def test_a_program_that_is_ended_while_flashing_leaves_unknown_content(project: Path, number: signal.Signals) -> None:
    with running("target", "--uid", "0e1f" * 6) as said:
        assert flash(said["port"], project, "--serial", "A-001").returncode == 0
        command = [
            sys.executable,
            "-m",
            "zesty_trace.cli",
            "flash",
            str(project),
            "--port",
            said["port"],
            "--serial",
            "A-001",
        ]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
        end = time.monotonic() + 20
        while time.monotonic() < end:
            with closing(Records(project)) as records:
                kinds = [e.kind for b in records.boards() for e in b.events]
            if kinds.count("flashing") == 2:
                process.send_signal(number)
                break
            time.sleep(0.005)
        process.communicate(timeout=20)
    with closing(Records(project)) as records:
        events = records.boards()[0].events
        if events[-1].kind == "flashing":  # else it was faster than the signal
            assert records.boards()[0].content().why.startswith("unknown content")
        assert records.verify() == []


@pytest.mark.parametrize("serial", ["B-003", "A-099", "foo", "A-0", "a", "A-003x", "../A-003", ""])
def test_a_serial_number_that_is_not_in_the_batch_touches_nothing(project: Path, serial: str, capsys) -> None:
    status = main(["flash", str(project), "--simulate", "--serial", serial or " "])
    assert status == 2
    assert "serial number" in capsys.readouterr().err or serial == "A-099"
    with closing(Records(project)) as records:
        assert [e for b in records.boards() for e in b.events] == []


@pytest.mark.parametrize("serial", ["a-002", "A-002 ", " A-002"])
def test_a_serial_number_is_read_as_people_write_it(project: Path, serial: str, capsys) -> None:
    assert main(["flash", str(project), "--simulate", "--serial", serial]) == 0
    with closing(Records(project)) as records:
        assert [b.serial for b in records.boards() if b.content().verdict == "pass"] == ["A-002"]


def test_simulated_results_do_not_mix_into_a_real_board(project: Path, records: Records, job) -> None:
    with running("target") as said:
        flash_board(open_port(said["port"]), said["port"], job, "A-001", records)
    with pytest.raises(DeviceError, match="real board"):
        flash_simulated(job, "A-001", records)
    assert main(["bench", str(project), "--simulate", "--serial", "A-001"]) == 2
    event = records.boards()[0].last("flashed")
    assert event is not None
    assert all(getattr(event.flash, n) for n in ("source", "who", "design", "port", "chip", "sha256", "product_id"))


def test_a_board_of_another_variant_is_refused(project: Path, records: Records, capsys) -> None:
    folder, opened = ProjectFolder.open(project)
    with folder:
        folder.save(edits.set_build(opened.design, variant="Basic"))
    assert main(["flash", str(project), "--simulate", "--serial", "A-001"]) == 2
    assert main(["flash", str(project), "--simulate", "--boards", "1"]) == 0
    assert [b.serial for b in records.boards() if b.variant == "Basic"] == ["A-013"]


def test_the_image_is_held_to_the_boards_controller(project: Path, job) -> None:
    design = edits.set_images(job.design, [ImageSpec(file="proofing-1.0.hex", target="zt32-64k")])
    assert [f.rule for f in controller_findings(Wired(design, shipped()))] == ["image target"]
    with pytest.raises(InputError, match="not on the board"):
        flash_job(Wired(design, shipped()), project)


def test_an_image_of_the_variant_comes_before_the_one_for_all(job) -> None:
    images = [
        ImageSpec(file="all.hex", target="zt32-128k"),
        ImageSpec(file="full.hex", target="zt32-128k", variant="Full"),
    ]
    spec = image_spec(edits.set_images(job.design, images))
    assert spec is not None
    assert spec.file == "full.hex"


NO_FIRMWARE = {
    "text": b"Release notes\n- fixed the timer\n" * 20,
    "web page": b"<!DOCTYPE html><html>404</html>",
    "zip": b"PK\x03\x04" + bytes(200),
    "gzip": b"\x1f\x8b\x08" + bytes(200),
    "UF2": b"UF2\nWQ]\x9e" + bytes(504),
    "picture": b"\x89PNG\r\n\x1a\n" + bytes(99),
    "PDF": b"%PDF-1.7\n" + bytes(99),
    "script": b"#!/bin/sh\nrm -rf x\n",
    "UTF-16 text": "hello, this is a text".encode("utf-16"),
    "JSON": b'{"a": [1, 2, 3]}',
    "CSV": b"ref,kind\nR1,resistor\n",
    "desktop program": b"\x7fELF\x02\x01\x01" + bytes(11) + b"\x3e\x00" + bytes(60),
    "tar": bytes(257) + b"ustar" + bytes(300),
    "one letter": b"x",
    "empty": b"",
    "7z": b"7z\xbc\xaf\x27\x1c" + bytes(60),
    "database": b"SQLite format 3\x00" + bytes(99),
}


@pytest.mark.parametrize("what", NO_FIRMWARE)
def test_what_is_no_firmware_is_refused_whatever_its_name(what: str) -> None:
    with pytest.raises(InputError):
        parse_image(NO_FIRMWARE[what], "firmware.bin", TARGET.flash_start)


def test_s_records_and_elf_files_are_read_as_an_independent_library_wrote_them() -> None:
    data = os.urandom(3000)
    made = bincopy.BinFile()
    made.add_binary(data, address=TARGET.flash_start + 0x100)
    image = parse_image(made.as_srec(address_length_bits=32).encode(), "x.bin", 0)
    assert image.segments[0].address == TARGET.flash_start + 0x100
    assert image.segments[0].data == data
    with pytest.raises(InputError, match="cut"):
        parse_image(made.as_srec(address_length_bits=32).encode().rsplit(b"\n", 2)[0], "x.s19", 0)


def test_a_vector_table_that_cannot_be_is_said() -> None:
    """ARMv7-M (DDI 0403): word 0 the stack pointer, word 1 the reset address with bit 0 set."""

    def found(stack: int, start: int) -> bool:
        head = stack.to_bytes(4, "little") + start.to_bytes(4, "little")
        image = parse_image(head + bytes(range(256)) * 4, "x.bin", TARGET.flash_start)
        return any(f.rule == "image start" for f in fit_findings(image, TARGET))

    top = TARGET.ram_start + TARGET.ram_bytes
    assert not found(top, TARGET.flash_start + 0x81)
    assert found(top, TARGET.flash_start + 0x80)  # not Thumb
    assert found(top + 8, TARGET.flash_start + 0x81)  # stack beyond the memory
    assert found(0xFFFFFFFF, 0xFFFFFFFF)
    assert found(top, 0x0800_0101)  # built for another address


def test_a_stand_in_ends_with_the_program_that_started_it() -> None:
    code = (
        "import os,sys\nfrom zesty_trace.standins.launch import running\n"
        "with running('target') as said:\n  print(said['port'], flush=True)\n  os.kill(os.getpid(), 9)\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    port = done.stdout.strip()
    end = time.monotonic() + 5
    while os.path.exists(port) and time.monotonic() < end:
        time.sleep(0.05)
    assert not os.path.exists(port)
