"""The stand-in target refuses what a real bootloader refuses."""

from __future__ import annotations

import threading
from functools import reduce
from operator import xor

import pytest

from zesty_trace.core.firmware.targets import find_target
from zesty_trace.standins.target import StandInTarget

TARGET = find_target("zt32-64k")
ACK, NACK = b"\x79", b"\x1f"


class Wire:
    """Two pipes made one descriptor for the target, and our ends of them."""

    def __init__(self) -> None:
        import socket

        self.ours, self.theirs = socket.socketpair()
        self.ours.settimeout(2)
        self.chip = StandInTarget(TARGET)
        self.thread = threading.Thread(target=self._serve, daemon=True)
        self.thread.start()

    def _serve(self) -> None:
        try:
            self.chip.serve(self.theirs.fileno())
        except (EOFError, OSError):
            return

    def ask(self, data: bytes, size: int = 1) -> bytes:
        self.ours.sendall(data)
        out = b""
        while len(out) < size:
            out += self.ours.recv(size - len(out))
        return out


@pytest.fixture
def wire():
    made = Wire()
    yield made
    made.ours.close()
    made.thread.join(5)  # the descriptor's number must not be reused while the target still reads it
    assert not made.thread.is_alive()
    made.theirs.close()


def address(at: int) -> bytes:
    data = at.to_bytes(4, "big")
    return data + bytes([reduce(xor, data)])


def test_wrong_complement_and_unknown_command_get_nack(wire: Wire) -> None:
    assert wire.ask(b"\x7f") == ACK
    assert wire.ask(b"\x02\x02") == NACK
    assert wire.ask(b"\x99\x66") == NACK


def test_address_outside_the_flash_or_with_a_bad_checksum_gets_nack(wire: Wire) -> None:
    for at in (address(0), address(TARGET.flash_end), address(TARGET.flash_start)[:-1] + b"\x00"):
        assert wire.ask(b"\x11\xee") == ACK
        assert wire.ask(at) == NACK


def test_writing_twice_without_erasing_is_refused(wire: Wire) -> None:
    data = b"\x07abcdefgh"
    body = data + bytes([reduce(xor, data)])
    for reply in (ACK, NACK):
        assert wire.ask(b"\x31\xce") == ACK
        assert wire.ask(address(TARGET.flash_start)) == ACK
        assert wire.ask(body) == reply
    erase = b"\x00\x00\x00\x00"
    assert wire.ask(b"\x44\xbb") == ACK
    assert wire.ask(erase + bytes([reduce(xor, erase)])) == ACK
    assert wire.chip.flash == bytearray(b"\xff") * TARGET.flash_bytes


def test_bad_data_checksum_and_a_page_too_far_are_refused(wire: Wire) -> None:
    assert wire.ask(b"\x31\xce") == ACK
    assert wire.ask(address(TARGET.flash_start)) == ACK
    assert wire.ask(b"\x03abcd\x00") == NACK
    erase = b"\x00\x00\xff\xf0"
    assert wire.ask(b"\x44\xbb") == ACK
    assert wire.ask(erase + bytes([reduce(xor, erase)])) == NACK


def test_go_starts_the_application(wire: Wire) -> None:
    assert wire.ask(b"\x21\xde") == ACK
    assert wire.ask(address(TARGET.flash_start)) == ACK
    assert wire.ask(b"\x7f") == ACK
    assert wire.chip.running
