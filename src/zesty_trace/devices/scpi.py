"""One SCPI instrument through a VISA resource string, held on a short leash.

Every answer is bounded in bytes and time.
"""

from __future__ import annotations

import re
import socket
import time
from contextlib import suppress
from typing import Any

from zesty_trace.errors import DeviceError

TIMEOUT_S = 3.0
MOST_BYTES = 512
# IEEE 488.2-1992, 7.7.2 and 8.7: decimal numeric response data; SCPI-1999, vol. 1, 7.2.1: what stands for no number
_NUMBER = re.compile(r"[-+]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d{1,3})?\Z")
INFINITE, NOT_A_NUMBER = 9.9e37, 9.91e37
_PRINTABLE = re.compile(r"[ -~]*\Z")


class ScpiLink:
    """One instrument. DeviceError when it cannot be reached or does not answer as it should.

    After any trouble the link is opened anew before the next use: what comes late must not be taken for an answer.
    """

    def __init__(self, resource: str, timeout_s: float = TIMEOUT_S) -> None:
        self.resource, self._timeout_s = resource, timeout_s
        self._manager: Any = None
        self._session: Any = None
        self.identity = ""
        self._open()

    def _open(self) -> None:
        import pyvisa

        try:
            self._manager = pyvisa.ResourceManager("@py")
            self._session = self._manager.open_resource(self.resource, open_timeout=round(1000 * self._timeout_s))
            self._without_delay()
            self._exchange("*CLS")
            self.identity = self._exchange("*IDN?")[:120]
        except Exception as error:  # the backend raises many unrelated types here
            self.close()
            said = f" ({error.message})" if isinstance(error, DeviceError) else ""
            raise DeviceError(
                f"The instrument cannot be reached{said}", self.resource, "Switch it on and check its address"
            ) from error

    def _without_delay(self) -> None:
        """Send each line at once over TCP: otherwise a command and the question after it wait for each other."""
        import pyvisa

        with suppress(pyvisa.errors.Error, AttributeError, KeyError, OSError):
            inner = self._session.visalib.sessions[self._session.session]
            inner.interface.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def ask(self, question: str) -> str:
        """Return the answer to a query."""
        if self._session is None:
            self._open()
        try:
            return self._exchange(question)
        except DeviceError:
            self.close()
            raise
        except Exception as error:  # as above
            self.close()
            raise DeviceError(f"No answer to {question}", self.resource, "Check the instrument") from error

    def number(self, question: str) -> float:
        """Return the number that a query gives; infinite for an overload.

        DeviceError if the answer is no single number.
        """
        answer = self.ask(question)
        if not _NUMBER.match(answer):
            self.close()
            raise DeviceError(f"“{answer[:40]}” is no answer to {question}", self.resource, "Check the instrument")
        value = float(answer)
        if abs(value) >= NOT_A_NUMBER:
            raise DeviceError("The instrument says that it has no number", self.resource, "Measure again")
        return value if abs(value) < INFINITE else float("inf") if value > 0 else float("-inf")

    def tell(self, command: str) -> None:
        """Send a command and check that the instrument took it."""
        if self._session is None:
            self._open()
        try:
            self._exchange(command)
        except DeviceError:
            self.close()
            raise
        except Exception as error:
            self.close()
            raise DeviceError(f"{command} could not be sent", self.resource, "Check the instrument") from error
        answer = self.ask("SYST:ERR?")
        if not re.match(r"[+-]?0\s*(,|$)", answer):
            with suppress(DeviceError):
                self.ask("*CLS")
            raise DeviceError(f"The instrument refused {command}: {answer[:80]}", self.resource, "Check its manual")

    def _exchange(self, text: str) -> str:
        """Send one line; for a query, return the line that comes back."""
        if not _PRINTABLE.match(text) or len(text) > MOST_BYTES:
            raise DeviceError("This cannot be sent to an instrument", self.resource, "Check the names in the design")
        self._session.write_raw(text.encode("ascii") + b"\n")
        return self._line(text) if "?" in text else ""

    def _line(self, question: str) -> str:
        end, data = time.monotonic() + self._timeout_s, bytearray()
        while not data.endswith(b"\n"):
            left = end - time.monotonic()
            if left <= 0:
                raise DeviceError(f"No whole answer to {question} in {self._timeout_s:g} s", self.resource, "Check it")
            if len(data) >= MOST_BYTES:
                raise DeviceError(f"An endless answer to {question}", self.resource, "Check the instrument")
            data += self._byte(left)
        if self._byte(0.002):
            raise DeviceError(f"More than one answer to {question}", self.resource, "Check the instrument")
        answer = data.decode("ascii", errors="replace").strip()
        if not _PRINTABLE.match(answer):
            raise DeviceError(f"Garbage for an answer to {question}", self.resource, "Check the plug and the speed")
        return answer

    def _byte(self, wait_s: float) -> bytes:
        from pyvisa import constants, errors

        self._session.timeout = max(1, round(1000 * wait_s))
        try:
            with self._session.ignore_warning(constants.StatusCode.success_max_count_read):
                data, _ = self._session.visalib.read(self._session.session, 1)
        except errors.VisaIOError as error:
            if error.error_code == constants.StatusCode.error_timeout:
                return b""
            raise
        return bytes(data)

    def close(self) -> None:
        """Let go of the instrument."""
        for thing in (self._session, self._manager):
            with suppress(Exception):
                if thing is not None:
                    thing.close()
        self._session = self._manager = None
