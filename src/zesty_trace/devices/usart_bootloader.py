"""Client of the USART bootloader protocol of application note AN3155: 8 data bits, even parity, ACK 0x79, NACK 0x1F.

Every command is followed by its complement; addresses and data by an XOR checksum; memory moves in blocks of 256.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import reduce
from operator import xor
from types import TracebackType
from typing import Any, Protocol, TypeVar

from zesty_trace.core.progress import Report
from zesty_trace.errors import Cancelled, DeviceError

T = TypeVar("T")
SYNC, ACK, NACK = 0x7F, 0x79, 0x1F
GET, GET_ID, READ, GO, WRITE, ERASE, EXTENDED_ERASE = 0x00, 0x02, 0x11, 0x21, 0x31, 0x43, 0x44
BLOCK = 256
MOST_PAGES = 250  # erased by one command: some targets take no more
GUARDED = (READ, WRITE, ERASE, EXTENDED_ERASE, GO)  # refused, by AN3155, while read-out protection is on


TRIES = 3  # of a command that is refused: one stray byte on the line is no protection
NO_ADDRESS = bytes([0, 0, 0, 0, 0xFF])  # with a checksum that is wrong: ends a command that was let in


class Refused(DeviceError):
    """The target has answered NACK."""


class ReadProtected(DeviceError):
    """The target answers, but keeps its memory closed as read-out protection does."""


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
        data = self._got()
        self.version = f"{data[0] >> 4}.{data[0] & 15}"
        self.commands = frozenset(data[1:])

    def _get(self) -> None:
        self._once(GET)
        self._got()

    def _got(self) -> bytes:
        """Return what follows Get: version and commands."""
        count = self._take(1)[0]
        data = self._take(count + 1)
        self._expect_ack("after Get")
        return data

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
            body = (len(some) - 1).to_bytes(width, "big") + b"".join(p.to_bytes(width, "big") for p in some)

            def once(command: int = command, body: bytes = body) -> None:
                self._command(command)
                self._send(body + bytes([reduce(xor, body)]))
                self._expect_ack("while erasing", tries=30)

            self._until_taken(once)

    def unique_identity(self, address: int, size: int) -> str:
        """Return the number that each chip has of its own, as hex digits; "" if it cannot be read or says nothing."""
        try:
            data = self.read(address, size)
        except Refused:
            return ""
        return "" if len(set(data)) <= 1 else data.hex()

    def write(self, address: int, data: bytes) -> None:
        """Write up to 256 bytes."""
        if not 0 < len(data) <= BLOCK:
            raise ValueError("a block has 1 to 256 bytes")
        data = data + b"\xff" * (-len(data) % 4)
        body = bytes([len(data) - 1]) + data

        def once() -> None:
            self._command(WRITE)
            self._address(address)
            self._send(body + bytes([reduce(xor, body)]))
            self._expect_ack(f"writing 0x{address:08X}", tries=5)

        self._until_taken(once)

    def read(self, address: int, size: int) -> bytes:
        """Read up to 256 bytes."""
        if not 0 < size <= BLOCK:
            raise ValueError("a block has 1 to 256 bytes")

        def once() -> bytes:
            self._command(READ)
            self._address(address)
            self._send(bytes([size - 1, (size - 1) ^ 0xFF]))
            self._expect_ack(f"reading 0x{address:08X}")
            return self._take(size)

        return self._until_taken(once)

    def go(self, address: int) -> None:
        """Start the application."""
        self._command(GO)
        self._address(address)

    def _address(self, address: int) -> None:
        body = address.to_bytes(4, "big")
        self._send(body + bytes([reduce(xor, body)]))
        self._expect_ack(f"at address 0x{address:08X}")

    def _until_taken(self, once: Callable[[], T]) -> T:
        """Do something again that was refused within: a byte that came wrong is refused by its checksum."""
        for left in range(TRIES - 1, -1, -1):
            try:
                return once()
            except Refused:
                if not left:
                    raise
        raise AssertionError("unreachable")

    def _command(self, code: int) -> None:
        """Send a command; one that is refused is tried again, and what stands behind a refusal is looked for."""
        for _ in range(TRIES):
            try:
                self._once(code)
                return
            except Refused:
                continue
        raise self._why_refused(code) if code in GUARDED else self._refusal(code, "")

    def _once(self, code: int) -> None:
        self._send(bytes([code, code ^ 0xFF]))
        self._expect_ack(f"to command 0x{code:02X}")

    def _refusal(self, code: int, more: str) -> Refused:
        said = f"The target refused command 0x{code:02X} {TRIES} times{more}"
        return Refused(said, self.where, "Check plug, speed and power; start over in boot mode")

    def _why_refused(self, code: int) -> DeviceError:
        """Return what is known of a target that refuses a command again and again.

        AN3155: under read-out protection Get and Get ID are answered, and Read and Write Memory both refused.
        """
        try:
            self._get()
        except DeviceError:
            return self._refusal(code, ", and does not answer Get either: it is out of step")
        shut = [c for c in (READ, WRITE) if c != code and not self._lets_in(c)]
        if (code in (READ, WRITE) and len(shut) == 1) or len(shut) == 2:
            return ReadProtected(
                f"The target answers Get, and refused Read and Write Memory (and 0x{code:02X}) {TRIES} times each: "
                "that is how read-out protection looks",
                self.where,
                "Try again with another plug and speed first. If it stays, the protection has to be taken off with the "
                "maker's tool, which erases the chip",
            )
        return self._refusal(code, ", but lets other commands in: that is not read-out protection")

    def _lets_in(self, code: int) -> bool:
        """Whether a command is let in at all; it is ended by an address that cannot be."""
        for _ in range(TRIES):
            try:
                self._once(code)
            except Refused:
                continue
            self._send(NO_ADDRESS)
            with suppress(Refused):
                self._expect_ack("at no address")
            return True
        return False

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

    def _expect_ack(self, doing: str, tries: int = 1) -> None:
        answer = b""
        for _ in range(tries):
            answer = self._link_read(1)
            if answer:
                break
        if not answer:
            raise DeviceError(f"No answer {doing}", self.where, "Check the plug and the power; start over")
        if answer[0] == NACK:
            raise Refused(f"The target answered NACK {doing}", self.where, "Check plug, speed and power; start over")
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


def confirm(boot: Bootloader, chip: Chip, uid_address: int = 0, uid_bytes: int = 0) -> None:
    """Make sure that the chip that was read back is the one that was identified before. DeviceError if it is not."""
    again = Chip(boot.product_id(), boot.unique_identity(uid_address, uid_bytes) if uid_bytes else "", chip.bootloader)
    if again == chip:
        return
    before, after = (c.identity or f"0x{c.product_id:03X}" for c in (chip, again))
    if chip.identity and not again.identity and again.product_id == chip.product_id:
        hint = "Nothing is verified. Check the plug, and flash it again"
        raise DeviceError(f"The number {before} of the chip could not be read a second time", boot.where, hint)
    raise DeviceError(
        f"The chip was exchanged: {before} was identified, {after} is there after reading back",
        boot.where,
        "Nothing is verified. Put the board in, leave it in, and flash it again",
    )


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
