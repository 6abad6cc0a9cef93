"""Stand-in instruments on loopback TCP: `python -m zesty_trace.standins.instruments --project FOLDER`.

A multimeter with a probe selector, a supply with current limit and a bus adapter, all on simulated boards. Prints one
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

from zesty_trace.core.bench.simulated import SimulatedBoard
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.faults import Fault
from zesty_trace.core.design.model import Design, from_json

OK, ERROR = '0,"No error"', '-224,"Illegal parameter value"'


class Fixture:
    """The board in the fixture, shared by the three instruments."""

    def __init__(self, design: Design, faults: dict[str, Fault]) -> None:
        self.design, self.faults = design, faults
        self.lock = threading.Lock()
        self.board = self._make("none")
        self.volt, self.limit = 0.0, 0.0
        self.probes = ("", "")

    def _make(self, serial: str) -> SimulatedBoard:
        return SimulatedBoard(self.design, shipped(), serial, self.faults.get(serial))

    def meter(self, command: str) -> str | None:
        """Answer one multimeter command."""
        if match := re.match(r'FIXT:BOAR "([\w-]+)"$', command):
            self.board = self._make(match.group(1))
            return None
        if match := re.match(r'ROUT:PROB "([^"]+)","([^"]+)"$', command):
            a, b = match.groups()
            known = {*self.board.network.nodes(), self.board.ground}
            if a not in known or b not in known:
                raise ValueError(f"no net {a} or {b}")
            self.probes = (a, b)
            return None
        if command == "MEAS:RES?":
            return f"{self.board.resistance(*self.probes):.6E}"
        if command == "MEAS:VOLT:DC?":
            return f"{self.board.voltage(*self.probes):.6E}"
        return self._common(command, "Stand-in multimeter")

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
        if command == "MEAS:VOLT?":
            return f"{self.board.supply_v:.6E}"
        if command == "MEAS:CURR?":
            return f"{self.board.supply_a:.6E}"
        return self._common(command, "Stand-in supply")

    def bus(self, command: str) -> str | None:
        """Answer one bus adapter command."""
        if command == "BUS:I2C:SCAN?":
            return ",".join(f"0x{a:02X}" for a in self.board.bus_answers())
        return self._common(command, "Stand-in bus adapter")

    def _common(self, command: str, name: str) -> str:
        if command == "*IDN?":
            return f"Zesty Trace,{name},0,1"
        raise ValueError(f"unknown command {command}")


def _handler(fixture: Fixture, act: Callable[[str], str | None]) -> type[socketserver.StreamRequestHandler]:
    class Handler(socketserver.StreamRequestHandler):
        def handle(self) -> None:
            for raw in self.rfile:
                answers = []
                error = OK
                for command in raw.decode("ascii", errors="replace").strip().split(";"):
                    word = command.strip().removeprefix(":")
                    if word == "SYST:ERR?":
                        answers.append(error)
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
    kind, target, other, factor = (*rest.split(":"), "", "", "")[:4]
    return serial, Fault(kind, target, other, float(factor or 1.0))


def fault_argument(serial: str, fault: Fault) -> str:
    """Return the argument that plants a fault; parse_fault reads it back."""
    return f"{serial}={fault.kind}:{fault.target}:{fault.other}:{fault.factor:g}"


def main(arguments: list[str] | None = None) -> None:
    """Serve the three instruments on loopback until ended."""
    parser = argparse.ArgumentParser(description="Stand-in bench instruments on loopback TCP (SCPI).")
    parser.add_argument("--design", required=True, type=Path, help="a design.json")
    parser.add_argument("--variant", default="")
    parser.add_argument("--fault", action="append", default=[])
    options = parser.parse_args(arguments)
    design = from_json(options.design.read_bytes()).fitted(options.variant)
    fixture = Fixture(design, dict(parse_fault(f) for f in options.fault))
    servers = {
        name: _Server(("127.0.0.1", 0), _handler(fixture, act))
        for name, act in (("meter", fixture.meter), ("supply", fixture.supply), ("bus", fixture.bus))
    }
    for server in servers.values():
        threading.Thread(target=server.serve_forever, daemon=True).start()
    addresses = {n: f"TCPIP0::127.0.0.1::{s.server_address[1]}::SOCKET" for n, s in servers.items()}
    print(json.dumps(addresses), flush=True)
    signal.sigwait({signal.SIGTERM, signal.SIGINT})


if __name__ == "__main__":
    main()
