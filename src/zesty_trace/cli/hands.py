"""A person at the terminal, who does and reads what no instrument does."""

from __future__ import annotations

import sys

from zesty_trace.core.quantities import read_addresses, read_off
from zesty_trace.errors import Cancelled, DeviceError, InputError


class TerminalHands:
    """Sentences on stderr, answers from stdin. DeviceError when nobody answers."""

    def _line(self, sentence: str) -> str:
        print(f"{sentence} ", end="", file=sys.stderr, flush=True)
        line = sys.stdin.readline()
        if line == "":
            raise DeviceError("Nobody answers", "terminal", "Run it in a terminal")
        if line.strip().lower() in ("q", "quit", "stop"):
            raise Cancelled
        return line.strip()

    def do(self, sentence: str) -> None:
        """Have something done."""
        self._line(f"{sentence} [Enter when done, q to stop]")

    def read(self, sentence: str, unit: str) -> float:
        """Have something read off and typed in; “skip” leaves it unmeasured."""
        while True:
            answer = self._line(f"{sentence} [{unit}]")
            if answer.lower() == "skip":
                raise DeviceError("skipped", "terminal", "Measure it later")
            try:
                return read_off(answer, unit)
            except InputError as error:
                print(error, file=sys.stderr)

    def see(self, sentence: str) -> bool:
        """Have a yes or no."""
        while True:
            answer = self._line(f"{sentence} [y/n]").lower()
            if answer in ("y", "yes", "n", "no"):
                return answer.startswith("y")
            if answer == "skip":
                raise DeviceError("skipped", "terminal", "Look at it later")

    def list_addresses(self, sentence: str) -> list[int]:
        """Have bus addresses typed in."""
        while True:
            answer = self._line(f"{sentence} [for example 0x3C 0x44, or none]")
            if answer.lower() == "skip":
                raise DeviceError("skipped", "terminal", "Scan it later")
            try:
                return read_addresses(answer)
            except InputError as error:
                print(error, file=sys.stderr)
