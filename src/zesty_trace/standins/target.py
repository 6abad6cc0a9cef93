"""A stand-in target on a pseudo-terminal: `python -m zesty_trace.standins.target --target zt32-128k [--fault F]`.

Prints one JSON line with its port, then answers the protocol of application note AN3155 until it is ended. Faults:
silent, identity (says it is another chip), drop (closes the port in the middle of writing), bits (a write flips a bit),
protected (read-out protection is on). It ends with the program that started it.
"""

from __future__ import annotations

import argparse
import json
import os
import pty
import sys
import tty
from functools import reduce
from operator import xor

from zesty_trace.core.firmware.targets import Target, find_target
from zesty_trace.standins.parent import add_parent_option, end_with_parent

ACK, NACK = b"\x79", b"\x1f"
FAULTS = ("none", "silent", "identity", "drop", "bits", "protected")
DROP_AFTER_WRITES = 6
UID_PLACE = 1 << 40  # stands for the memory that holds the chip's own number


class StandInTarget:
    """The chip: flash, identity, and a fault if it is to have one."""

    def __init__(self, target: Target, fault: str = "none", uid: bytes = b"", old_erase: bool = False) -> None:
        self.target, self.fault = target, fault
        self.uid = (uid or os.urandom(target.uid_bytes)).ljust(target.uid_bytes, b"\x00")[: target.uid_bytes]
        self.erase_command = 0x43 if old_erase else 0x44
        self.flash = bytearray(b"\xff") * target.flash_bytes
        self.writes = 0
        self.running = False

    def serve(self, descriptor: int) -> None:
        """Answer on a file descriptor until it closes or the fault says so."""
        self._fd = descriptor
        while True:
            first = self._read(1)
            if self.fault == "silent":
                continue
            if first == b"\x7f":
                self._write(ACK)
                continue
            check = self._read(1)
            if first[0] ^ check[0] != 0xFF:
                self._write(NACK)
                continue
            self._answer(first[0])

    def _answer(self, command: int) -> None:
        acts = {
            0x00: self._get,
            0x02: self._get_id,
            0x11: self._read_memory,
            0x21: self._go,
            0x31: self._write_memory,
            self.erase_command: self._erase_short if self.erase_command == 0x43 else self._erase,
        }
        if command not in acts or (self.fault == "protected" and command not in (0x00, 0x02)):
            self._write(NACK)
            return
        self._write(ACK)
        acts[command]()

    def _get(self) -> None:
        commands = bytes([0x00, 0x02, 0x11, 0x21, 0x31, self.erase_command])
        self._write(bytes([len(commands)]) + b"\x31" + commands + ACK)

    def _get_id(self) -> None:
        number = self.target.product_id ^ (0x0F0 if self.fault == "identity" else 0)
        self._write(b"\x01" + number.to_bytes(2, "big") + ACK)

    def _address(self, of_identity: bool = False) -> int | None:
        data = self._read(5)
        where = int.from_bytes(data[:4], "big")
        at = where - self.target.flash_start
        inside = 0 <= at < self.target.flash_bytes
        uid = self.target.uid_address
        if of_identity and self.target.uid_bytes and uid <= where < uid + self.target.uid_bytes:
            inside, at = True, UID_PLACE + where - uid
        if reduce(xor, data[:4]) != data[4] or not inside:
            self._write(NACK)
            return None
        self._write(ACK)
        return at

    def _read_memory(self) -> None:
        at = self._address(of_identity=True)
        if at is None:
            return
        size, check = self._read(2)
        if at >= UID_PLACE and size ^ check == 0xFF:
            self._write(ACK + self.uid[at - UID_PLACE :].ljust(size + 1, b"\x00")[: size + 1])
            return
        if size ^ check != 0xFF or at + size >= self.target.flash_bytes:
            self._write(NACK)
            return
        self._write(ACK + bytes(self.flash[at : at + size + 1]))

    def _write_memory(self) -> None:
        at = self._address()
        if at is None:
            return
        size = self._read(1)
        data = self._read(size[0] + 1)
        check = self._read(1)
        erased = all(b == 0xFF for b in self.flash[at : at + len(data)])
        row = self.target.row_bytes
        erased = erased and at % row == 0 and len(data) % row == 0
        if reduce(xor, size + data) != check[0] or at + len(data) > self.target.flash_bytes or not erased:
            self._write(NACK)
            return
        self.writes += 1
        if self.fault == "drop" and self.writes > DROP_AFTER_WRITES:
            os.close(self._fd)
            sys.exit(0)
        if self.fault == "bits" and self.writes == 3:
            data = bytes([data[0] ^ 0x08]) + data[1:]
        self.flash[at : at + len(data)] = data
        self._write(ACK)

    def _erase(self) -> None:
        head = self._read(2)
        count = int.from_bytes(head, "big")
        if count == 0xFFFF:
            self._read(1)
            self.flash[:] = b"\xff" * len(self.flash)
            self._write(ACK)
            return
        body = self._read(2 * (count + 1))
        check = self._read(1)
        pages = [int.from_bytes(body[k : k + 2], "big") for k in range(0, len(body), 2)]
        size = self.target.page_bytes
        if reduce(xor, head + body) != check[0] or any((p + 1) * size > len(self.flash) for p in pages):
            self._write(NACK)
            return
        for page in pages:
            self.flash[page * size : (page + 1) * size] = b"\xff" * size
        self._write(ACK)

    def _erase_short(self) -> None:
        """Erase by the older command: one byte a page."""
        head = self._read(1)
        if head == b"\xff":
            self._read(1)
            self.flash[:] = b"\xff" * len(self.flash)
            self._write(ACK)
            return
        pages = self._read(head[0] + 1)
        size = self.target.page_bytes
        if reduce(xor, head + pages) != self._read(1)[0] or any((p + 1) * size > len(self.flash) for p in pages):
            self._write(NACK)
            return
        for page in pages:
            self.flash[page * size : (page + 1) * size] = b"\xff" * size
        self._write(ACK)

    def _go(self) -> None:
        self.running = self._address() is not None

    def _read(self, size: int) -> bytes:
        data = b""
        while len(data) < size:
            more = os.read(self._fd, size - len(data))
            if not more:
                raise EOFError
            data += more
        return data

    def _write(self, data: bytes) -> None:
        os.write(self._fd, data)


def main(arguments: list[str] | None = None) -> None:
    """Serve one target on a fresh pseudo-terminal."""
    parser = argparse.ArgumentParser(description="Stand-in target that speaks the USART bootloader protocol (AN3155).")
    parser.add_argument("--target", default="zt32-128k")
    parser.add_argument("--fault", choices=FAULTS, default="none")
    parser.add_argument("--uid", default="", help="the chip's own number, hex digits; by default a random one")
    parser.add_argument("--old-erase", action="store_true", help="knows the older erase command 0x43 only")
    add_parent_option(parser)
    options = parser.parse_args(arguments)
    end_with_parent(options.parent)
    chip = StandInTarget(find_target(options.target), options.fault, bytes.fromhex(options.uid), options.old_erase)
    master, slave = pty.openpty()
    tty.setraw(master)
    tty.setraw(slave)
    print(json.dumps({"port": os.ttyname(slave)}), flush=True)
    try:
        chip.serve(master)
    except (EOFError, OSError, KeyboardInterrupt):
        return


if __name__ == "__main__":
    main()
