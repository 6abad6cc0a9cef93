"""The bench over SCPI: the stand-in process on loopback, and what happens when it goes away."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from zesty_trace.core.bench.plan import BenchStep
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.faults import Fault
from zesty_trace.core.circuit.wired import Wired, pack
from zesty_trace.core.design.model import Design
from zesty_trace.devices.instruments import Bench
from zesty_trace.devices.scpi import ScpiLink
from zesty_trace.errors import DeviceError
from zesty_trace.standins.instruments import fault_argument, parse_fault
from zesty_trace.standins.launch import running


@pytest.fixture
def addresses(mended: Design, tmp_path: Path):
    path = tmp_path / "wired.json"
    path.write_bytes(pack(Wired(mended, shipped())))
    with running("instruments", "--wired", str(path), "--fault", "A-002=short:3V3:GND") as said:
        yield said


def step_of(kind: str, **more) -> BenchStep:
    return replace(
        BenchStep(1, kind, "x", "3V3", None, None, None, "", False, "", feed="J1", volt=12.0, limit_a=0.3), **more
    )


def test_measurements_over_the_wire(addresses: dict[str, str]) -> None:
    assert all("127.0.0.1" in a for a in addresses.values())
    with Bench(**addresses) as bench:
        bench.select_board("A-001")
        assert bench.resistance(step_of("resistance"), "3V3", "GND") > 1e4
        assert bench.voltage(step_of("voltage"), "3V3", "GND") == 0.0
        bench.power_on(step_of("power on"))
        volt, amp = bench.supply_reading()
        assert volt == pytest.approx(12.0)
        assert 0.04 < amp < 0.08
        assert bench.voltage(step_of("voltage"), "3V3", "GND") == pytest.approx(3.3, rel=0.025)
        assert bench.bus_answers() == [0x3C, 0x44, 0x45]
        assert bench.answers("U3")
        bench.switch(step_of("current", drive=("LED_HEAT",)))
        assert bench.supply_reading()[1] > amp
        bench.power_off()
        assert bench.bus_answers() == []
        bench.select_board("A-002")
        assert bench.resistance(step_of("resistance"), "3V3", "GND") < 1.0


def test_identity_and_errors_follow_scpi(addresses: dict[str, str]) -> None:
    link = ScpiLink(addresses["fixture"])
    assert link.identity.startswith("Zesty Trace,")
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
    path = tmp_path / "wired.json"
    path.write_bytes(pack(Wired(mended, shipped())))
    with running("instruments", "--wired", str(path)) as said:
        bench = Bench(**said)
        bench.select_board("A-001")
    with pytest.raises(DeviceError):
        bench.voltage(step_of("voltage"), "3V3", "GND")
    bench.close()


def test_fault_arguments_read_back() -> None:
    for fault in (
        Fault("short", "3V3", "GND"),
        Fault("missing", "U5"),
        Fault("wrong value", "R17", factor=2.0),
        Fault("open", "U3", "SDA", pin="26"),
    ):
        assert parse_fault(fault_argument("A-004", fault)) == ("A-004", fault)


def test_a_stand_in_that_cannot_start_is_told() -> None:
    with pytest.raises(DeviceError, match="did not start"), running("instruments", "--wired", "/nowhere.json"):
        pass
