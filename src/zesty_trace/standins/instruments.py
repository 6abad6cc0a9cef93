"""Stand-in instruments on loopback TCP: `python -m zesty_trace.standins.instruments --project FOLDER`.

A multimeter, a supply with current limit and a fixture (probes, bus, outputs), all on simulated boards. Prints one
JSON line with the VISA address of each. A fault is planted with `--fault A-004=short:3V3:GND`.
"""

from __future__ import annotations

import argparse
import json
import re
import signal
import socketserver
import threading
from collections.abc import Callable
from pathlib import Path

from zesty_trace.core.bench.circuit import OPEN_OHM
from zesty_trace.core.bench.simulated import SimulatedBoard
from zesty_trace.core.circuit.faults import FAULT_KINDS, Fault
from zesty_trace.core.circuit.wired import Wired, unpack
from zesty_trace.errors import InputError
from zesty_trace.standins.parent import add_parent_option, end_with_parent

OK, ERROR = '0,"No error"', '-224,"Illegal parameter value"'


class Fixture:
    """The board in the fixture, shared by the three instruments."""

    def __init__(self, wired: Wired, faults: dict[str, Fault]) -> None:
        self.wired, self.faults = wired, faults
        self.lock = threading.Lock()
        self.board = self._make("none")
        self.volt, self.limit = 0.0, 0.0
        self.probes = ("", "")
        self.pressed = ""

    def _make(self, serial: str) -> SimulatedBoard:
        return SimulatedBoard(self.wired, serial, self.faults.get(serial))

    def meter(self, command: str) -> str | None:
        """Answer one multimeter command."""
        if command == "MEAS:RES?":
            self.board.pressed = self.pressed
            return f"{self._ohms():.6E}"
        if command == "MEAS:VOLT:DC?":
            return f"{self.board.voltage(*self.probes):.6E}"
        return self._common(command, "Stand-in multimeter")

    def _ohms(self) -> float:
        if self.board.powered is not None:
            raise ValueError("the board has power")
        ohm = self.board.resistance(*self.probes)
        return 9.9e37 if ohm >= OPEN_OHM else ohm

    def supply(self, command: str) -> str | None:
        """Answer one supply command."""
        if match := re.match(r"VOLT ([\d.]+)$", command):
            self.volt = float(match.group(1))
            return None
        if match := re.match(r"CURR ([\d.]+)$", command):
            self.limit = float(match.group(1))
            return None
        if command == "OUTP ON":
            self.board.power(self.volt, self.limit)
            return None
        if command == "OUTP OFF":
            self.board.power_off()
            return None
        if command == "OUTP?":
            return "0" if self.board.powered is None else "1"
        if command == "MEAS:VOLT?":
            return f"{self.board.supply_v:.6E}"
        if command == "MEAS:CURR?":
            return f"{self.board.supply_a:.6E}"
        return self._common(command, "Stand-in supply")

    def fixture(self, command: str) -> str | None:
        """Answer one command to the fixture (docs/fixture.md)."""
        word, _, rest = command.partition(" ")
        names = re.findall(r'"([^"]*)"', rest)
        if word == "FIXT:BOAR" and len(names) == 1:
            self.board, self.pressed = self._make(names[0]), ""
        elif word == "ROUT:PROB" and len(names) == 2:
            if not {*names} <= self.board.nets:
                raise ValueError(f"no net {' or '.join(names)}")
            self.probes = (names[0], names[1])
        elif word == "FIXT:FEED" and len(names) == 1 and names[0] in self.board.feeds:
            self.board.plug_into(names[0])
        elif word == "FIXT:PRES" and len(names) == 1:
            self.pressed = names[0]
        elif word == "FIXT:OUTP":
            self._switch(frozenset(names), self.board.drive[1])
        elif command in ("FIXT:LIT ON", "FIXT:LIT OFF"):
            self._switch(self.board.drive[0], command.endswith("ON"))
        elif command == "BUS:I2C:SCAN?":
            return ",".join(f"0x{a:02X}" for a in self.board.bus_answers())
        elif command == "FIXT:SHIN?":
            return str(self.board.shining())
        elif word == "FIXT:ANSW?" and len(names) == 1:
            return str(int(self.board.answers(names[0])))
        else:
            return self._common(command, "Stand-in fixture")
        return None

    def _switch(self, nets: frozenset[str], lit: bool) -> None:
        self.board.switch(nets, lit)
        if self.board.powered is not None:
            self.board.power(self.volt, self.limit)

    def _common(self, command: str, name: str) -> str | None:
        if command == "*CLS":
            return None
        if command == "*IDN?":
            return f"Zesty Trace,{name},0,1"
        raise ValueError(f"unknown command {command}")


def _handler(fixture: Fixture, act: Callable[[str], str | None]) -> type[socketserver.StreamRequestHandler]:
    class Handler(socketserver.StreamRequestHandler):
        def handle(self) -> None:
            error = OK
            while raw := self.rfile.readline(4096):
                answers = []
                for command in raw.decode("ascii", errors="replace").strip().split(";"):
                    word = command.strip().removeprefix(":")
                    if word == "SYST:ERR?":
                        answers.append(error)
                        error = OK
                        continue
                    if word == "*CLS":
                        error = OK
                        continue
                    try:
                        with fixture.lock:
                            answer = act(word)
                    except Exception as problem:
                        error = ERROR[:-1] + f'; {problem}"'
                        continue
                    if answer is not None:
                        answers.append(answer)
                if answers or raw.strip().endswith(b"?"):
                    self.wfile.write((";".join(answers) + "\n").encode("ascii", errors="replace"))

    return Handler


class _Server(socketserver.ThreadingTCPServer):
    allow_reuse_address = True
    daemon_threads = True


def parse_fault(text: str) -> tuple[str, Fault]:
    """Return (serial, fault) of `A-004=short:3V3:GND`, `A-007=missing:U5` or `A-010=wrong value:R18::2`."""
    serial, _, rest = text.partition("=")
    kind, target, other, factor, pin = (*rest.split(":"), "", "", "", "")[:5]
    known = next((k for k in FAULT_KINDS if k == kind), None)
    if known is None:
        raise InputError(f"“{kind}” is no fault", "--fault", f"Known: {', '.join(FAULT_KINDS)}")
    return serial, Fault(known, target, other, float(factor or 1.0), pin)


def fault_argument(serial: str, fault: Fault) -> str:
    """Return the argument that plants a fault; parse_fault reads it back."""
    return f"{serial}={fault.kind}:{fault.target}:{fault.other}:{fault.factor:g}:{fault.pin}"


def main(arguments: list[str] | None = None) -> None:
    """Serve the three instruments on loopback until ended."""
    parser = argparse.ArgumentParser(description="Stand-in bench instruments on loopback TCP (SCPI).")
    parser.add_argument(
        "--wired", required=True, type=Path, help="a design with the part kinds that it uses, in one file"
    )
    parser.add_argument("--variant", default="")
    parser.add_argument("--fault", action="append", default=[])
    add_parent_option(parser)
    options = parser.parse_args(arguments)
    end_with_parent(options.parent)
    wired = unpack(options.wired.read_bytes())
    fitted = wired.with_design(wired.design.fitted(options.variant))
    fixture = Fixture(fitted, dict(parse_fault(f) for f in options.fault))
    servers = {
        name: _Server(("127.0.0.1", 0), _handler(fixture, act))
        for name, act in (("meter", fixture.meter), ("supply", fixture.supply), ("fixture", fixture.fixture))
    }
    for server in servers.values():
        threading.Thread(target=server.serve_forever, daemon=True).start()
    addresses = {n: f"TCPIP0::127.0.0.1::{s.server_address[1]}::SOCKET" for n, s in servers.items()}
    print(json.dumps(addresses), flush=True)
    signal.sigwait({signal.SIGTERM, signal.SIGINT})


if __name__ == "__main__":
    main()
