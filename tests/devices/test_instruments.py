"""The bench over SCPI: the stand-in process on loopback, and what happens when it goes away."""

from __future__ import annotations

from pathlib import Path

import pytest

from zesty_trace.core.circuit.faults import Fault
from zesty_trace.core.design.model import Design, to_json
from zesty_trace.devices.instruments import ScpiBench, ScpiLink
from zesty_trace.errors import DeviceError
from zesty_trace.standins.instruments import fault_argument, parse_fault
from zesty_trace.standins.launch import running


@pytest.fixture
def addresses(mended: Design, tmp_path: Path):
    path = tmp_path / "design.json"
    path.write_bytes(to_json(mended))
    with running("instruments", "--design", str(path), "--fault", "A-002=short:3V3:GND") as said:
        yield said


def test_measurements_over_the_wire(addresses: dict[str, str]) -> None:
    assert all("127.0.0.1" in a for a in addresses.values())
    with ScpiBench(**addresses) as bench:
        bench.select_board("A-001")
        assert bench.resistance("3V3", "GND") > 1e4
        assert bench.voltage("3V3", "GND") == 0.0
        bench.power_on(12.0, 0.3)
        volt, amp = bench.supply_reading()
        assert volt == pytest.approx(12.0)
        assert 0.04 < amp < 0.08
        assert bench.voltage("3V3", "GND") == pytest.approx(3.3, rel=0.025)
        assert bench.bus_answers() == [0x3C, 0x44, 0x45]
        bench.power_off()
        assert bench.bus_answers() == []
        bench.select_board("A-002")
        assert bench.resistance("3V3", "GND") < 1.0


def test_identity_and_errors_follow_scpi(addresses: dict[str, str]) -> None:
    link = ScpiLink(addresses["meter"])
    assert link.ask("*IDN?").startswith("Zesty Trace,")
    with pytest.raises(DeviceError, match="refused"):
        link.tell('ROUT:PROB "NOWHERE","GND"')
    with pytest.raises(DeviceError, match="refused"):
        link.tell("DANCE 1")
    link.tell('ROUT:PROB "3V3","GND"')
    link.close()


def test_an_instrument_that_is_not_there_is_told() -> None:
    with pytest.raises(DeviceError, match="cannot be reached") as caught:
        ScpiLink("TCPIP0::127.0.0.1::1::SOCKET")
    assert "address" in caught.value.hint


def test_an_instrument_that_goes_away_in_the_middle_is_told(mended: Design, tmp_path: Path) -> None:
    path = tmp_path / "design.json"
    path.write_bytes(to_json(mended))
    with running("instruments", "--design", str(path)) as said:
        bench = ScpiBench(**said)
        bench.select_board("A-001")
    with pytest.raises(DeviceError, match="No answer"):
        bench.voltage("3V3", "GND")
    bench.close()


def test_fault_arguments_read_back() -> None:
    for fault in (Fault("short", "3V3", "GND"), Fault("missing", "U5"), Fault("wrong value", "R17", factor=2.0)):
        assert parse_fault(fault_argument("A-004", fault)) == ("A-004", fault)


def test_a_stand_in_that_cannot_start_is_told() -> None:
    with pytest.raises(DeviceError, match="did not start"), running("instruments", "--design", "/nowhere.json"):
        pass
