"""Client of the USART bootloader protocol of application note AN3155: 8 data bits, even parity, ACK 0x79, NACK 0x1F.

Every command is followed by its complement; addresses and data by an XOR checksum; memory moves in blocks of 256.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import reduce
from operator import xor
from types import TracebackType
from typing import Any, Protocol

from zesty_trace.core.progress import Report
from zesty_trace.errors import Cancelled, DeviceError

SYNC, ACK, NACK = 0x7F, 0x79, 0x1F
GET, GET_ID, READ, GO, WRITE, ERASE, EXTENDED_ERASE = 0x00, 0x02, 0x11, 0x21, 0x31, 0x43, 0x44
BLOCK = 256
MOST_PAGES = 250  # erased by one command: some targets take no more
GUARDED = (READ, WRITE, ERASE, EXTENDED_ERASE, GO)  # refused, by AN3155, while read-out protection is on


class ReadProtected(DeviceError):
    """The target answers, but read-out protection keeps its memory closed."""


class Link(Protocol):
    """What the client needs of a serial port."""

    def read(self, size: int = 1) -> bytes:
        """Return up to `size` bytes, fewer after the time-out."""

    def write(self, data: bytes) -> Any:
        """Send bytes."""

    def close(self) -> None:
        """Let go of the port."""


def open_port(port: str, baud: int = 115_200, timeout_s: float = 1.0) -> Link:
    """Open a serial port as the protocol asks. DeviceError if it cannot be opened."""
    import termios

    import serial

    try:
        try:
            made: Link = serial.Serial(
                port, baud, parity=serial.PARITY_EVEN, timeout=timeout_s, write_timeout=timeout_s
            )
            return made
        except termios.error:  # a pseudo-terminal has no parity bit to set
            return serial.Serial(port, baud, timeout=timeout_s, write_timeout=timeout_s)  # type: ignore[no-any-return]
    except (serial.SerialException, termios.error, OSError, ValueError, OverflowError) as error:
        raise DeviceError(
            "The serial port cannot be opened", port, "Plug the programmer in and choose its port"
        ) from error


class Bootloader:
    """A target in its bootloader, behind a link."""

    def __init__(self, link: Link, where: str = "target") -> None:
        self._link, self.where = link, where
        self.commands: frozenset[int] = frozenset()
        self.version = ""

    def __enter__(self) -> Bootloader:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        self._link.close()

    def connect(self) -> None:
        """Synchronise and read the version and commands. DeviceError if nothing answers."""
        for _ in range(2):
            self._send(bytes([SYNC]))
            answer = self._link_read(1)
            if answer and answer[0] in (ACK, NACK):  # NACK: it was in step already
                break
        else:
            raise DeviceError(
                "The target does not answer", self.where, "Put it in boot mode: hold BOOT, tap RESET, let BOOT go"
            )
        self._command(GET)
        count = self._take(1)[0]
        data = self._take(count + 1)
        self._expect_ack("after Get")
        self.version = f"{data[0] >> 4}.{data[0] & 15}"
        self.commands = frozenset(data[1:])

    def product_id(self) -> int:
        """Return the identity of the chip."""
        self._command(GET_ID)
        count = self._take(1)[0]
        data = self._take(count + 1)
        self._expect_ack("after Get ID")
        return int.from_bytes(data, "big")

    def erase(self, pages: list[int]) -> None:
        """Erase flash pages, by the command that the target's Get names. ValueError for an empty list."""
        if not pages:
            raise ValueError("no pages to erase")
        if not self.commands or EXTENDED_ERASE in self.commands:
            command, width = EXTENDED_ERASE, 2
        elif ERASE in self.commands:
            command, width = ERASE, 1
            if max(pages) > 0xFF:
                raise DeviceError(
                    f"The target erases pages 0 to 255 only, the image needs page {max(pages)}",
                    self.where,
                    "Check the target",
                )
        else:
            raise DeviceError("The target has no command to erase", self.where, "It cannot be flashed this way")
        for start in range(0, len(pages), MOST_PAGES):
            some = pages[start : start + MOST_PAGES]
            self._command(command)
            body = (len(some) - 1).to_bytes(width, "big") + b"".join(p.to_bytes(width, "big") for p in some)
            self._send(body + bytes([reduce(xor, body)]))
            self._expect_ack("while erasing", tries=30)

    def unique_identity(self, address: int, size: int) -> str:
        """Return the number that each chip has of its own, as hex digits; "" if it cannot be read or says nothing."""
        try:
            data = self.read(address, size)
        except ReadProtected:
            raise
        except DeviceError:
            return ""
        return "" if len(set(data)) <= 1 else data.hex()

    def write(self, address: int, data: bytes) -> None:
        """Write up to 256 bytes."""
        if not 0 < len(data) <= BLOCK:
            raise ValueError("a block has 1 to 256 bytes")
        data = data + b"\xff" * (-len(data) % 4)
        self._command(WRITE)
        self._address(address)
        body = bytes([len(data) - 1]) + data
        self._send(body + bytes([reduce(xor, body)]))
        self._expect_ack(f"writing 0x{address:08X}", tries=5)

    def read(self, address: int, size: int) -> bytes:
        """Read up to 256 bytes."""
        if not 0 < size <= BLOCK:
            raise ValueError("a block has 1 to 256 bytes")
        self._command(READ)
        self._address(address)
        self._send(bytes([size - 1, (size - 1) ^ 0xFF]))
        self._expect_ack(f"reading 0x{address:08X}")
        return self._take(size)

    def go(self, address: int) -> None:
        """Start the application."""
        self._command(GO)
        self._address(address)

    def _address(self, address: int) -> None:
        body = address.to_bytes(4, "big")
        self._send(body + bytes([reduce(xor, body)]))
        self._expect_ack(f"at address 0x{address:08X}")

    def _command(self, code: int) -> None:
        self._send(bytes([code, code ^ 0xFF]))
        if code in GUARDED:
            self._expect_ack(f"to command 0x{code:02X}", refused=ReadProtected)
        else:
            self._expect_ack(f"to command 0x{code:02X}")

    def _send(self, data: bytes) -> None:
        try:
            self._link.write(data)
        except (OSError, ValueError, TypeError) as error:
            raise DeviceError("The programmer is gone", self.where, "Plug it in again and start over") from error

    def _link_read(self, size: int) -> bytes:
        try:
            return self._link.read(size)
        except (OSError, ValueError, TypeError) as error:
            raise DeviceError("The programmer is gone", self.where, "Plug it in again and start over") from error

    def _take(self, size: int) -> bytes:
        data = self._link_read(size)
        if len(data) < size:
            raise DeviceError(
                f"The target stopped answering ({len(data)} of {size} bytes)", self.where, "Check the plug; start over"
            )
        return data

    def _expect_ack(self, doing: str, tries: int = 1, refused: type[DeviceError] = DeviceError) -> None:
        answer = b""
        for _ in range(tries):
            answer = self._link_read(1)
            if answer:
                break
        if not answer:
            raise DeviceError(f"No answer {doing}", self.where, "Check the plug and the power; start over")
        if answer[0] == NACK and refused is ReadProtected:
            raise ReadProtected(
                f"The target answers, but refuses access to its memory {doing}: read-out protection is on",
                self.where,
                "Take the protection off with the maker's tool (that erases the chip), then flash it",
            )
        if answer[0] == NACK:
            raise DeviceError(f"The target refused {doing}", self.where, "Is the chip protected, or another chip?")
        if answer[0] != ACK:
            raise DeviceError(f"Answer 0x{answer[0]:02X} makes no sense {doing}", self.where, "Check speed and wiring")


@dataclass(frozen=True)
class Chip:
    """The chip that answered: the number of its kind, its own number ("" if it has none to read), its bootloader."""

    product_id: int
    identity: str
    bootloader: str


def identify(boot: Bootloader, product_id: int, uid_address: int = 0, uid_bytes: int = 0) -> Chip:
    """Connect and return which chip is there. DeviceError if none answers, or it is of another kind."""
    boot.connect()
    found = boot.product_id()
    if found != product_id:
        raise DeviceError(
            f"The chip says it is 0x{found:03X}, this image is for 0x{product_id:03X}",
            boot.where,
            "Check which board is plugged in, and which way round the chip sits",
        )
    return Chip(found, boot.unique_identity(uid_address, uid_bytes) if uid_bytes else "", boot.version)


def write_verified(boot: Bootloader, blocks: list[tuple[int, bytes]], pages: list[int], report: Report) -> None:
    """Erase, write all blocks, read all back and compare.

    `blocks` are (address, up to 256 bytes). DeviceError at the first thing wrong; Cancelled if `report` says so.
    """

    def tell(share: float, text: str) -> None:
        if not report(share, text):
            raise Cancelled

    tell(0.05, f"erasing {len(pages)} pages")
    boot.erase(pages)
    for k, (address, data) in enumerate(blocks):
        tell(0.1 + 0.5 * k / len(blocks), f"writing 0x{address:08X}")
        boot.write(address, data)
    for k, (address, data) in enumerate(blocks):
        tell(0.6 + 0.4 * k / len(blocks), f"reading back 0x{address:08X}")
        back = boot.read(address, len(data))
        if back != data:
            at = next((i for i, (a, b) in enumerate(zip(back, data, strict=False)) if a != b), 0)
            raise DeviceError(
                f"Read back 0x{back[at]:02X} at 0x{address + at:08X}, wrote 0x{data[at]:02X}",
                boot.where,
                "Flash it again; if it stays, the chip is bad",
            )


def blocks_of(segments: list[tuple[int, bytes]], row_bytes: int = 4) -> list[tuple[int, bytes]]:
    """Return segments as blocks of at most 256 bytes made of whole rows; segments that share a row become one.

    What the rows hold beyond the segments is 0xFF, the erased state. ValueError if segments overlap.
    """
    row = max(4, row_bytes)
    runs: list[tuple[int, bytearray]] = []
    end = -1
    for address, data in sorted(segments):
        if address < end:
            raise ValueError(f"two segments hold 0x{address:08X}")
        end = address + len(data)
        start = address - address % row
        if not runs or start >= runs[-1][0] + len(runs[-1][1]):
            runs.append((start, bytearray()))
        base, run = runs[-1]
        run.extend(b"\xff" * (address - base - len(run)))
        run[address - base : end - base] = data
        run.extend(b"\xff" * (-len(run) % row))
    step = BLOCK - BLOCK % row
    return [(base + k, bytes(run[k : k + step])) for base, run in runs for k in range(0, len(run), step)]
