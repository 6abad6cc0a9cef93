"""Bench instruments over SCPI on TCP (SCPI-1999 command style), through VISA resource strings.

A multimeter with a probe selector, a supply with current limit, and a bus adapter. Each may be a separate address.
"""

from __future__ import annotations

from types import TracebackType
from typing import Any

from zesty_trace.errors import DeviceError

TIMEOUT_MS = 3000


class ScpiLink:
    """One instrument. DeviceError when it cannot be reached or does not answer."""

    def __init__(self, resource: str) -> None:
        import pyvisa

        self.resource = resource
        try:
            self._manager = pyvisa.ResourceManager("@py")
            self._session: Any = self._manager.open_resource(
                resource, read_termination="\n", write_termination="\n", open_timeout=TIMEOUT_MS
            )
            self._session.timeout = TIMEOUT_MS
            session: Any = self._session
            self.identity = str(session.query("*IDN?")).strip()
        except Exception as error:  # the backend raises many unrelated types here
            raise DeviceError(
                "The instrument cannot be reached", resource, "Switch it on and check its address"
            ) from error

    def ask(self, question: str) -> str:
        """Return the answer to a query."""
        import pyvisa

        try:
            return str(self._session.query(question)).strip()
        except (pyvisa.errors.Error, OSError) as error:
            raise DeviceError(
                f"No answer to {question}", self.resource, "Check the instrument, then start again"
            ) from error

    def tell(self, command: str) -> None:
        """Send a command and check that the instrument took it."""
        answer = self.ask(f"{command};:SYST:ERR?")
        if not answer.startswith(("0,", "+0,")):
            raise DeviceError(f"The instrument refused {command}: {answer}", self.resource, "Check the net names")

    def close(self) -> None:
        """Let go of the instrument."""
        self._session.close()
        self._manager.close()


class ScpiBench:
    """A bench of three instruments that can run a test plan."""

    def __init__(self, meter: str, supply: str, bus: str) -> None:
        self._links: list[ScpiLink] = []
        try:
            for address in (meter, supply, bus):
                self._links.append(ScpiLink(address))
        except DeviceError:
            self.close()
            raise
        self._meter, self._supply, self._bus = self._links

    def __enter__(self) -> ScpiBench:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Let go of all instruments."""
        for link in self._links:
            link.close()

    def select_board(self, serial: str) -> None:
        """Say which board is in the fixture."""
        self._meter.tell(f'FIXT:BOAR "{serial}"')

    def _probe(self, a: str, b: str) -> None:
        self._meter.tell(f'ROUT:PROB "{a}","{b}"')

    def resistance(self, a: str, b: str) -> float:
        """Ohms between two nets."""
        self._probe(a, b)
        return float(self._meter.ask("MEAS:RES?"))

    def voltage(self, a: str, b: str) -> float:
        """Volts between two nets."""
        self._probe(a, b)
        return float(self._meter.ask("MEAS:VOLT:DC?"))

    def power_on(self, volt: float, limit_a: float) -> None:
        """Set voltage and limit, then switch on."""
        self._supply.tell(f"VOLT {volt:.4f}")
        self._supply.tell(f"CURR {limit_a:.4f}")
        self._supply.tell("OUTP ON")

    def supply_reading(self) -> tuple[float, float]:
        """Volts and amperes now."""
        return float(self._supply.ask("MEAS:VOLT?")), float(self._supply.ask("MEAS:CURR?"))

    def power_off(self) -> None:
        """Switch the supply off."""
        self._supply.tell("OUTP OFF")

    def bus_answers(self) -> list[int]:
        """Addresses that answer."""
        answer = self._bus.ask("BUS:I2C:SCAN?")
        return [int(word, 0) for word in answer.split(",") if word]
