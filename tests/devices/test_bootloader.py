"""The bootloader client: scripted conversations byte by byte, and the stand-in over a real pseudo-terminal."""

from __future__ import annotations

import os
from collections import deque
from functools import reduce
from operator import xor

import pytest

from zesty_trace.core.firmware.image import pages_of, parse_image
from zesty_trace.core.firmware.targets import find_target
from zesty_trace.devices.usart_bootloader import (
    Bootloader,
    ReadProtected,
    blocks_of,
    identify,
    open_port,
    write_verified,
)
from zesty_trace.errors import Cancelled, DeviceError
from zesty_trace.standins.launch import running

TARGET = find_target("zt32-128k")
ACK, NACK = b"\x79", b"\x1f"


class ScriptedLink:
    """Answers exactly what the script says to exactly what it expects."""

    def __init__(self, *pairs: tuple[bytes, bytes]) -> None:
        self._left, self._waiting = deque(pairs), b""

    def write(self, data: bytes) -> None:
        want, reply = self._left.popleft() if self._left else (b"nothing more", b"")
        assert data == want
        self._waiting += reply

    def read(self, size: int = 1) -> bytes:
        out, self._waiting = self._waiting[:size], self._waiting[size:]
        return out

    def close(self) -> None:
        self.closed = True

    @property
    def finished(self) -> bool:
        return not self._left and not self._waiting


def test_connect_get_and_get_id_as_the_application_note_writes_them() -> None:
    """AN3155: 0x7F, then command and complement; Get gives count, version, commands; Get ID gives 1 and two bytes."""
    link = ScriptedLink(
        (b"\x7f", ACK),
        (b"\x00\xff", ACK + b"\x06\x31" + bytes([0x00, 0x02, 0x11, 0x21, 0x31, 0x44]) + ACK),
        (b"\x02\xfd", ACK + b"\x01\x05\xa2" + ACK),
    )
    boot = Bootloader(link)
    boot.connect()
    assert boot.version == "3.1"
    assert boot.commands == {0x00, 0x02, 0x11, 0x21, 0x31, 0x44}
    assert boot.product_id() == 0x5A2
    assert link.finished


def test_write_read_erase_and_go_carry_their_checksums() -> None:
    address = b"\x10\x00\x01\x00"
    check = bytes([reduce(xor, address)])
    data = b"\x03abcd"
    erase = b"\x00\x01\x00\x03\x00\x04"
    link = ScriptedLink(
        (b"\x31\xce", ACK),
        (address + check, ACK),
        (data + bytes([reduce(xor, data)]), ACK),
        (b"\x11\xee", ACK),
        (address + check, ACK),
        (b"\x03\xfc", ACK + b"abcd"),
        (b"\x44\xbb", ACK),
        (erase + bytes([reduce(xor, erase)]), ACK),
        (b"\x21\xde", ACK),
        (address + check, ACK),
    )
    boot = Bootloader(link)
    boot.write(0x10000100, b"abcd")
    assert boot.read(0x10000100, 4) == b"abcd"
    boot.erase([3, 4])
    boot.go(0x10000100)
    assert link.finished


def test_short_blocks_are_padded_to_four_bytes() -> None:
    assert blocks_of([(0x10000002, b"xy")]) == [(0x10000000, b"\xff\xffxy")]
    assert [len(d) for _, d in blocks_of([(0x10000000, bytes(600))])] == [256, 256, 88]


def test_segments_that_share_a_row_become_one_block() -> None:
    pieces = [(0x1000_0000, b"abc"), (0x1000_0003, b"de"), (0x1000_0020, b"z")]
    assert blocks_of(pieces, 8) == [(0x1000_0000, b"abcde\xff\xff\xff"), (0x1000_0020, b"z" + b"\xff" * 7)]
    with pytest.raises(ValueError, match="two segments"):
        blocks_of([(0, b"abcd"), (2, b"x")])


def test_the_older_erase_command_is_used_where_get_names_it() -> None:
    """AN3155, erase memory (0x43): the count less one, page numbers of one byte, XOR of all."""
    body = b"\x01\x03\x04"
    link = ScriptedLink(
        (b"\x7f", ACK),
        (b"\x00\xff", ACK + b"\x05\x22" + bytes([0x00, 0x02, 0x11, 0x31, 0x43]) + ACK),
        (b"\x43\xbc", ACK),
        (body + bytes([reduce(xor, body)]), ACK),
    )
    boot = Bootloader(link)
    boot.connect()
    boot.erase([3, 4])
    assert link.finished
    with pytest.raises(DeviceError, match="pages 0 to 255"):
        boot.erase([300])


def test_read_out_protection_is_told_apart_from_silence() -> None:
    """AN3155: with read protection on, Read, Write and Erase are answered with NACK; Get and Get ID are not."""
    get = (b"\x00\xff", ACK + b"\x02\x31\x11\x31" + ACK)
    refused = [(b"\x11\xee", NACK)] * 3 + [get] + [(b"\x31\xce", NACK)] * 3
    with pytest.raises(ReadProtected, match="read-out protection"):
        Bootloader(ScriptedLink(*refused), "/dev/x").read(0x1000_0000, 4)
    with pytest.raises(DeviceError, match="No answer"):
        Bootloader(ScriptedLink((b"\x11\xee", b"")), "/dev/x").read(0x1000_0000, 4)
    with pytest.raises(ReadProtected):
        flash("protected")


@pytest.mark.parametrize(
    ("reply", "words"),
    [(NACK, "refused"), (b"\x42", "makes no sense"), (b"", "No answer")],
)
def test_every_other_answer_is_an_error_with_advice(reply: bytes, words: str) -> None:
    with pytest.raises(DeviceError, match=words) as caught:
        Bootloader(ScriptedLink(*[(b"\x02\xfd", reply)] * 3), "/dev/x").product_id()
    assert caught.value.where == "/dev/x"
    assert caught.value.hint


def test_a_target_already_in_step_answers_nack_to_sync() -> None:
    link = ScriptedLink((b"\x7f", NACK), (b"\x00\xff", ACK + b"\x00\x31" + ACK))
    Bootloader(link).connect()
    assert link.finished


@pytest.mark.parametrize("size", [0, 257])
def test_block_sizes_out_of_range_are_refused(size: int) -> None:
    boot = Bootloader(ScriptedLink())
    with pytest.raises(ValueError, match="1 to 256"):
        boot.write(0, bytes(size))
    with pytest.raises(ValueError, match="1 to 256"):
        boot.read(0, size)


def flash(fault: str, report=lambda share, text: True) -> None:
    image = parse_image(os.urandom(9001), "a.bin", TARGET.flash_start)
    blocks = blocks_of([(s.address, s.data) for s in image.segments], TARGET.row_bytes)
    with (
        running("target", "--fault", fault) as said,
        Bootloader(open_port(said["port"], timeout_s=0.5), "stand-in") as boot,
    ):
        report(0.0, "connecting")
        chip = identify(boot, TARGET.product_id, TARGET.uid_address, TARGET.uid_bytes)
        assert len(chip.identity) == 24
        write_verified(boot, blocks, pages_of(image, TARGET), report)
        report(1.0, "verified")
        assert b"".join(boot.read(a, len(d)) for a, d in blocks) == b"".join(d for _, d in blocks)


def test_stand_in_is_erased_written_and_verified_over_its_port() -> None:
    shares: list[float] = []
    flash("none", lambda share, text: shares.append(share) is None)
    assert shares == sorted(shares)
    assert shares[-1] == 1.0


@pytest.mark.parametrize(
    ("fault", "words"),
    [
        ("silent", "does not answer"),
        ("identity", "says it is 0x552"),
        ("drop", "gone|stopped answering|No answer"),
        ("bits", "Read back"),
    ],
)
def test_faulty_stand_ins_fail_with_the_right_words(fault: str, words: str) -> None:
    with pytest.raises(DeviceError, match=words):
        flash(fault)


def test_cancel_is_heard_between_blocks() -> None:
    with pytest.raises(Cancelled):
        flash("none", lambda share, text: share < 0.3)


def test_a_port_that_is_not_there_is_told() -> None:
    with pytest.raises(DeviceError, match="cannot be opened"):
        open_port("/dev/does-not-exist")
