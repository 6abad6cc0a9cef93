"""Chips that are exchanged in the middle, and lines that disturb a byte: nothing verified for the wrong chip, no advice
to erase on the strength of one stray byte.
"""

from __future__ import annotations

import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, suppress

import pytest

from tests.hostile.test_flashing import content
from zesty_trace.core.firmware.targets import find_target
from zesty_trace.devices.usart_bootloader import TRIES, Bootloader, ReadProtected, Refused, identify
from zesty_trace.errors import DeviceError
from zesty_trace.journey.flashing import FlashJob, flash_board
from zesty_trace.standins.target import StandInTarget
from zesty_trace.store.records import Records

TARGET = find_target("zt32-128k")
NACK = b"\x1f"


class Wire:
    """A chip in this process behind a link; `before` sees what is sent, `after` may change what comes back."""

    def __init__(self, uid: str = "0a17" * 6, fault: str = "none") -> None:
        self.chip = StandInTarget(TARGET, fault, bytes.fromhex(uid))
        self.ours, theirs = socket.socketpair()
        self.ours.settimeout(0.3)
        self.thread = threading.Thread(target=self._serve, args=(theirs,), daemon=True)
        self.thread.start()
        self.sent = 0
        self.before: Callable[[bytes], bytes] = lambda data: data
        self.after: Callable[[bytes], bytes] = lambda data: data

    def _serve(self, theirs: socket.socket) -> None:
        with suppress(EOFError, OSError):
            self.chip.serve(theirs.fileno())
        theirs.close()

    def write(self, data: bytes) -> None:
        self.sent += 1
        self.ours.sendall(self.before(data))

    def read(self, size: int = 1) -> bytes:
        out = b""
        while len(out) < size:
            try:
                more = self.ours.recv(size - len(out))
            except TimeoutError:
                break
            if not more:
                break
            out += more
        return self.after(out)

    def close(self) -> None:
        self.ours.close()
        self.thread.join(2)


class Exchanged:
    """A link on which another chip is put in after so many writes."""

    def __init__(self, first: Wire, second: Wire, at: int) -> None:
        self.first, self.second, self.at, self.count = first, second, at, 0
        self.now = first

    def write(self, data: bytes) -> None:
        self.count += 1
        command = len(data) == 2 and data[0] ^ data[1] == 0xFF and data[0] in (0x11, 0x31, 0x44, 0x02)
        if self.count > self.at and command and self.now is self.first:
            self.now = self.second
            self.second.write(b"\x7f")  # the person has put it into boot mode
            self.second.read(1)
        self.now.write(data)

    def read(self, size: int = 1) -> bytes:
        return self.now.read(size)

    def close(self) -> None:
        self.first.close()
        self.second.close()


@pytest.fixture
def wire() -> Iterator[Wire]:
    made = Wire()
    with closing(made):
        yield made


def writes_of(job: FlashJob, records: Records) -> int:
    """Return how many times something is sent when all goes well."""
    link = Wire("0c17" * 6)
    flash_board(link, "wire", job, "A-003", records)
    return link.sent


@pytest.mark.parametrize("share", [0.02, 0.2, 0.5, 0.7, 0.9, 0.97])
def test_a_chip_exchanged_after_it_was_identified_is_never_verified(
    records: Records,
    job: FlashJob,
    share: float,
) -> None:
    at = max(8, round(share * writes_of(job, records)))
    second = Wire("0e17" * 6)
    flash_board(Wire("0e17" * 6), "wire", job, "A-005", records)
    for segment in job.image.segments:  # the second chip holds the image already
        start = segment.address - TARGET.flash_start
        second.chip.flash[start : start + len(segment.data)] = segment.data
    records.add("A-005", "reworked", "chip replaced")
    with pytest.raises(DeviceError) as error:
        flash_board(Exchanged(Wire("0d17" * 6), second, at), "wire", job, "A-004", records)
    assert content(records, "A-004") == "fail"
    if share > 0.6:
        assert "exchanged" in str(error.value)
    board = next(b for b in records.boards() if b.serial == "A-004")
    assert all("verified, sha256" not in e.summary for e in board.events)


def test_what_was_verified_names_the_chip(records: Records, job: FlashJob) -> None:
    flash_board(Wire("0a17" * 6), "wire", job, "A-001", records)
    board = next(b for b in records.boards() if b.serial == "A-001")
    assert "chip " + "0a17" * 6 in board.events[-1].summary


@pytest.mark.parametrize("at", range(4, 40, 3))
def test_a_byte_that_is_disturbed_is_sent_again(at: int, wire: Wire) -> None:
    count = [0]

    def disturb(data: bytes) -> bytes:
        count[0] += 1
        return bytes([data[0] ^ 0x10, *data[1:]]) if count[0] == at and len(data) > 2 else data

    boot = Bootloader(wire, "wire")
    identify(boot, TARGET.product_id)
    wire.before = disturb
    boot.erase([0])
    data = bytes(range(256))
    for k in range(4):
        boot.write(TARGET.flash_start + 256 * k, data)
    for k in range(4):
        assert boot.read(TARGET.flash_start + 256 * k, 256) == data


@pytest.mark.parametrize("command", [0x11, 0x31, 0x44])
def test_one_refusal_is_tried_again_and_is_no_protection(command: int, wire: Wire) -> None:
    boot = Bootloader(wire, "wire")
    identify(boot, TARGET.product_id)
    left = [1]

    def once(data: bytes) -> bytes:
        if len(data) == 2 and data[0] == command and left[0]:
            left[0] -= 1
            return bytes([data[0], data[1] ^ 1])  # the check byte comes wrong: the target answers NACK
        return data

    wire.before = once
    boot.erase([0])
    boot.write(TARGET.flash_start, b"abcdefgh")
    assert boot.read(TARGET.flash_start, 8) == b"abcdefgh"
    assert left == [0]


def test_a_stray_answer_is_told_as_what_it_is(wire: Wire) -> None:
    boot = Bootloader(wire, "wire")
    identify(boot, TARGET.product_id)
    left = [1]

    def stray(data: bytes) -> bytes:
        if left[0]:
            left[0] -= 1
            return NACK
        return data

    wire.after = stray
    with pytest.raises(DeviceError, match=r"out of step|No answer") as error:
        boot.read(TARGET.flash_start, 4)
    assert not isinstance(error.value, ReadProtected)
    assert "rotection" not in str(error.value)
    assert "erase" not in error.value.hint


def test_protection_is_claimed_where_its_own_signs_are_there() -> None:
    """AN3155: Get and Get ID are answered, Read, Write and Erase Memory are not."""
    with closing(Wire(fault="protected")) as link:
        boot = Bootloader(link, "wire")
        identify(boot, TARGET.product_id)
        with pytest.raises(ReadProtected, match=f"refused Read and Write Memory .* {TRIES} times"):
            boot.read(TARGET.flash_start, 4)


def test_a_target_that_refuses_one_command_only_is_not_called_protected(wire: Wire) -> None:
    boot = Bootloader(wire, "wire")
    identify(boot, TARGET.product_id)
    wire.before = lambda data: bytes([0x45, 0xBA]) if data == b"\x44\xbb" else data  # a command that it does not know
    with pytest.raises(Refused, match="that is not read-out protection") as error:
        boot.erase([0])
    assert not isinstance(error.value, ReadProtected)
    assert boot.read(TARGET.flash_start, 4) == b"\xff" * 4  # it is still in step
