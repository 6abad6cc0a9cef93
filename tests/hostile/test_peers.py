"""Instruments that lie, stall, flood or vanish: bounded in time and bytes, never a reading, the batch goes on."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from datetime import date, timedelta
from pathlib import Path

import pytest

from zesty_trace.cli import main
from zesty_trace.core.bench.accuracy import Trusted, read_accuracy
from zesty_trace.core.bench.plan import BenchPlan, BenchStep
from zesty_trace.core.bench.run import StillLive, run_plan
from zesty_trace.devices.instruments import Bench
from zesty_trace.devices.scpi import ScpiLink
from zesty_trace.errors import Cancelled, DeviceError, InputError
from zesty_trace.journey.batch import provenance
from zesty_trace.journey.measuring import measure_boards
from zesty_trace.journey.trusting import must_ask, say_instrument, trusted_of
from zesty_trace.store.records import Records

Answer = Callable[[str, socket.socket], bytes | None]


@contextmanager
def peer(answer: Answer) -> Iterator[str]:
    """A TCP peer that answers each line by `answer`; None hangs up."""
    server = socket.create_server(("127.0.0.1", 0))
    server.settimeout(0.1)
    ending = threading.Event()

    def serve(link: socket.socket) -> None:
        link.settimeout(0.1)
        buffer = b""
        with link:
            while not ending.is_set():
                try:
                    data = link.recv(4096)
                except TimeoutError:
                    continue
                except OSError:
                    return
                if not data:
                    return
                buffer += data
                while b"\n" in buffer:
                    line, _, buffer = buffer.partition(b"\n")
                    try:
                        said = answer(line.decode().strip(), link)
                        if said is None:
                            return
                        link.sendall(said)
                    except OSError:
                        return

    def accept() -> None:
        while not ending.is_set():
            try:
                link, _ = server.accept()
            except TimeoutError:
                continue
            threading.Thread(target=serve, args=(link,), daemon=True).start()

    thread = threading.Thread(target=accept, daemon=True)
    thread.start()
    try:
        yield f"TCPIP0::127.0.0.1::{server.getsockname()[1]}::SOCKET"
    finally:
        ending.set()
        thread.join(2)
        server.close()


def standard(line: str, extra: dict[str, str] | None = None) -> bytes:
    """Answer as an SCPI-1999 instrument does.

    Queries get a line, commands none, what is unknown an error in the queue.
    """
    known = {
        "*IDN?": "Maker,Model,0,1",
        "SYST:ERR?": '0,"No error"',
        "MEAS:RES?": "4.7E3",
        "MEAS:VOLT:DC?": "+3.301E+00",
        "OUTP?": "0",
        "MEAS:VOLT?": "0.0",
        "MEAS:CURR?": "0.0",
        **(extra or {}),
    }
    return (known[line] + "\n").encode() if line in known else b""


def flood(_line: str, link: socket.socket) -> bytes:
    for _ in range(4000):
        link.sendall(b"9" * 65536)
    return b""


def trickle(_line: str, link: socket.socket) -> bytes:
    for _ in range(200):
        link.sendall(b"1")
        time.sleep(0.05)
    return b""


BAD = {
    "comma": "3,300",
    "text": "ERR",
    "empty": "",
    "two numbers": "1.0,2.0",
    "unit": "3.3 V",
    "half": "3.3E",
    "hex": "0x10",
    "nan": "NAN",
    "not a number": "9.91E37",
    "infinite word": "inf",
    "brackets": "[3.3]",
    "controls": "\x01\x02",
    "é": "é",
}


@pytest.mark.parametrize("what", BAD)
def test_an_answer_that_is_no_number_is_never_a_reading(what: str) -> None:
    with peer(lambda line, _l: standard(line, {"MEAS:RES?": BAD[what]})) as address:
        link = ScpiLink(address, 0.5)
        with pytest.raises(DeviceError):
            link.number("MEAS:RES?")
        link.close()


SLOW: dict[str, Answer] = {
    "silent": lambda line, _l: standard(line) if "MEAS" not in line else b"",
    "no line end": lambda line, _l: standard(line) if "MEAS" not in line else b"4.7E3",
    "hangs up": lambda line, _l: standard(line) if "MEAS" not in line else None,
    "floods": lambda line, link: standard(line) if "MEAS" not in line else flood(line, link),
    "trickles": lambda line, link: standard(line) if "MEAS" not in line else trickle(line, link),
    "answers twice": lambda line, _l: standard(line) * (2 if "MEAS" in line else 1),
}


@pytest.mark.parametrize("what", SLOW)
def test_no_peer_holds_the_bench_up(what: str) -> None:
    with peer(SLOW[what]) as address:
        link = ScpiLink(address, 0.5)
        start = time.monotonic()
        with pytest.raises(DeviceError):
            link.number("MEAS:RES?")
        assert time.monotonic() - start < 3.0
        link.close()


def test_a_late_answer_is_not_taken_for_the_next_one() -> None:
    asked: list[str] = []

    def late(line: str, _link: socket.socket) -> bytes:
        asked.append(line)
        if line == "MEAS:RES?" and asked.count(line) == 1:
            time.sleep(0.8)
            return b"1.0E0\n"
        return standard(line)

    with peer(late) as address:
        link = ScpiLink(address, 0.4)
        with pytest.raises(DeviceError):
            link.number("MEAS:RES?")
        time.sleep(0.6)
        assert link.number("MEAS:RES?") == pytest.approx(4700.0)
        assert link.number("MEAS:VOLT:DC?") == pytest.approx(3.301)
        link.close()


class Person:
    """Hands that do what is asked and read what is given."""

    def __init__(self, reading: float = 4700.0, inlet_v: float = 0.0) -> None:
        self.asked: list[str] = []
        self.reading, self.inlet_v = reading, inlet_v

    def do(self, sentence: str) -> None:
        self.asked.append(sentence)

    def read(self, sentence: str, unit: str) -> float:
        self.asked.append(sentence)
        if "free of voltage" in sentence:
            return self.inlet_v
        return {"Ω": self.reading, "V": 3.3, "A": 0.01}.get(unit, 0.0)

    def see(self, sentence: str) -> bool:
        return True

    def list_addresses(self, sentence: str) -> list[int]:
        return [0x44]


def step(number: int, kind: str, **more: object) -> BenchStep:
    fields = {"low": None, "high": None, "expected": None, "unit": "", "stops": False, "why": "", **more}
    return BenchStep(number, kind, f"step {number}", "3V3", **fields)  # type: ignore[arg-type]


PLAN = BenchPlan(
    "",
    "GND",
    "3V3",
    3.3,
    0.1,
    (
        step(1, "resistance", low=10.0, unit="Ω", stops=True, probe="TP3", other_probe="TP4"),
        step(2, "power on", high=0.1, unit="A", stops=True, volt=3.3, limit_a=0.1, feed="J1"),
        step(
            3, "voltage", low=3.2, high=3.4, unit="V", volt=3.3, limit_a=0.1, feed="J1", probe="TP3", other_probe="TP4"
        ),
        step(4, "bus", addresses=(0x44,), volt=3.3, limit_a=0.1, feed="J1"),
        step(5, "controller", ref="U1", volt=3.3, limit_a=0.1, feed="J1"),
    ),
    ("Connect the bench supply to J1.",),
)


def test_a_standard_meter_is_sent_standard_commands_only() -> None:
    sent: list[str] = []
    person = Person()

    def meter(line: str, _link: socket.socket) -> bytes:
        sent.append(line)
        off = any("free of voltage" in s for s in person.asked[-1:])
        return standard(line, {"MEAS:VOLT:DC?": "-1.0E-3"} if off else None)

    with peer(meter) as address, Bench(meter=address, hands=person) as bench:
        result = run_plan(PLAN, bench, "A-001", lambda _s, _t: True)
    assert result.passed, result.summary()
    assert set(sent) == {"*CLS", "*IDN?", "MEAS:RES?", "MEAS:VOLT:DC?"}
    assert sent[0] == "*CLS"
    assert any("Red on TP3" in s and "black on TP4" in s for s in person.asked)


def test_the_whole_plan_works_by_hand_alone() -> None:
    person = Person()
    with Bench(hands=person) as bench:
        result = run_plan(PLAN, bench, "A-001", lambda _s, _t: True)
    assert result.passed, result.summary()
    assert person.asked[-2].startswith("Switch the supply off")
    assert person.asked[-1].startswith("Is the board free of voltage?")
    assert "0 V across J1 (3V3), read twice by a person" in result.zero
    assert "was not measured" in result.zero
    ohms = next(k for k, s in enumerate(person.asked) if "Meter on ohms" in s)
    assert any("Switch the supply off" in s for s in person.asked[:ohms])
    assert "Connect the bench supply to J1." in person.asked


def test_instruments_that_are_not_there_are_asked_for_not_simulated() -> None:
    with pytest.raises(DeviceError, match="are needed"):
        Bench()


class Supply:
    """A standard supply: follows OUTP, holds a charge for a while, and may refuse to switch off."""

    def __init__(self, stuck: bool = False, charge: int = 0, shows: float | None = None, says: str = "") -> None:
        self.on, self.volt, self.stuck, self.charge = True, 12.0, stuck, charge
        self.shows, self.says = shows, says  # what it reads whenever it is told to be off, and says of its output
        self.told_off = False
        self.sent: list[bytes] = []

    def __call__(self, line: str, _link: socket.socket) -> bytes:
        self.sent.append(line)
        if line.startswith("VOLT "):
            self.volt = float(line.split()[1])
        elif line == "OUTP?":
            return f"{self.says or int(self.on)}\n".encode()
        elif line.startswith("OUTP"):
            self.on = self.stuck or line.endswith("ON")
            self.told_off = line.endswith("OFF")
        elif line == "MEAS:VOLT?" and self.shows is not None and self.told_off:
            return f"{self.shows:.4E}\n".encode()
        elif line == "MEAS:VOLT?":
            self.charge -= 0 if self.on else 1
            return f"{self.volt if self.on or self.charge > 0 else 0.0:.4E}\n".encode()
        elif line == "MEAS:CURR?":
            return b"1.0E-2\n"
        return standard(line)


def test_the_supply_is_off_and_discharged_before_resistances_and_after_all() -> None:
    supply = Supply(charge=3)
    with peer(supply) as address, Bench(supply=address, hands=Person()) as bench:
        result = run_plan(PLAN, bench, "A-001", lambda _s, _t: True)
    assert result.passed, result.summary()
    assert supply.sent.index("OUTP OFF") < supply.sent.index("OUTP ON")
    assert supply.sent.count("MEAS:VOLT?") > 4
    assert not supply.on


def test_a_supply_that_does_not_switch_off_is_said_loudly(monkeypatch) -> None:
    monkeypatch.setattr("zesty_trace.devices.instruments.DISCHARGE_S", 0.2)
    with peer(Supply(stuck=True)) as address, Bench(supply=address, hands=Person()) as bench:
        results = measure_boards(PLAN, bench, ["A-001", "A-002"], None)
    assert len(results) == 1  # nobody is to change boards on a live bench
    assert "MAY STILL BE ON" in results[0].live
    assert "MAY STILL BE ON" in results[0].summary()
    assert not results[0].passed


@pytest.mark.parametrize(
    ("shows", "says"), [(-5.0, ""), (5.0, ""), (-0.31, ""), (0.0, "1"), (0.0, "ON")],
    ids=["reads -5 V", "reads 5 V", "reads -0.31 V", "reads 0 V, says 1", "reads 0 V, says ON"],
)  # fmt: skip
def test_a_supply_that_ignores_off_is_not_believed(monkeypatch, shows: float, says: str) -> None:
    monkeypatch.setattr("zesty_trace.devices.instruments.DISCHARGE_S", 0.2)
    with peer(Supply(stuck=True, shows=shows, says=says)) as address, Bench(supply=address, hands=Person()) as bench:
        (result,) = measure_boards(PLAN, bench, ["A-001"], None)
    assert "MAY STILL BE ON" in result.live
    assert not any(r.value is not None for r in result.readings)


@pytest.mark.parametrize("inlet_v", [5.0, -5.0, 0.4, float("nan")])
def test_a_supply_that_lies_all_through_is_found_out_at_the_board(inlet_v: float) -> None:
    """It reads 0 V and says that it is off; a person with a meter across the inlet sees what the board has."""
    with (
        peer(Supply(stuck=True, shows=0.0, says="0")) as address,
        Bench(supply=address, hands=Person(inlet_v=inlet_v)) as bench,
    ):
        (result,) = measure_boards(PLAN, bench, ["A-001"], None)
    assert result.verdict == "open"
    assert "not measured" in result.summary()
    assert "MAY STILL BE ON" in result.live
    assert not any(r.value is not None for r in result.readings)


def test_the_meter_is_asked_at_the_board_more_than_once(monkeypatch) -> None:
    monkeypatch.setattr("zesty_trace.devices.instruments.DISCHARGE_S", 0.2)
    readings = iter(["0.0", "0.1", "4.9", *["5.0"] * 400])
    person = Person()

    def meter(line: str, _link: socket.socket) -> bytes:
        return standard(line, {"MEAS:VOLT:DC?": next(readings)} if line == "MEAS:VOLT:DC?" else None)

    with peer(meter) as address, Bench(meter=address, hands=person) as bench:
        (result,) = measure_boards(PLAN, bench, ["A-001"], None)
    assert result.verdict == "open"
    assert "There are still 5.00 V across J1" in result.live


def test_what_stays_unknown_is_written_down(tmp_path: Path) -> None:
    with closing(Records(tmp_path)) as records:
        records.add_boards("A", "", [1])
        with peer(Supply(says="no idea")) as address, Bench(supply=address, hands=Person()) as bench:
            measure_boards(PLAN, bench, ["A-001"], records, instruments=bench.instruments)
        told = records.boards()[0].events[-1].measurement
    assert "it does not say whether its output is off" in told.zero
    assert "cells, was not measured" in told.zero
    assert told.zero.startswith("Before and after: supply 0 V (3 readings")
    assert "board 0 V across J1" in told.zero
    assert "calibration is not known" in told.meter


# How far a meter may be off -------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("volt", "verdict"),
    [
        (3.30, "pass"),
        (3.379, "pass"),
        (3.385, "open"),
        (3.399, "open"),
        (3.41, "fail"),
        (3.215, "open"),
        (3.19, "fail"),
    ],
)
def test_limits_are_guarded_by_what_the_meter_may_be_off(volt: float, verdict: str) -> None:
    """3.2 to 3.4 V; ±(0.5 % + 3 mV) is 0.020 V there: between 3.22 and 3.38 V it is proved (ISO 14253-1)."""
    trusted = Trusted("a meter", volt=read_accuracy("0.5 % + 3 mV", "V"), calibrated=date(2026, 3, 1))
    person = Person()
    with peer(lambda line, _l: standard(line)) as address, Bench(meter=address, hands=person) as bench:
        bench._meter.volts = lambda: 0.0 if "free of voltage" in person.asked[-1] else volt  # type: ignore[union-attr,method-assign]
        result = run_plan(PLAN, bench, "A-001", lambda _s, _t: True, trusted=trusted)
    assert result.verdict == verdict, result.summary()
    assert ("too near to" in result.summary()) == (verdict == "open")


def test_what_is_known_of_the_meter_is_asked_once_a_year_and_said_when_missing(capsys) -> None:
    today = date(2026, 12, 2)
    assert must_ask("", today)
    assert "limits are not guarded" in trusted_of().words(today)
    say_instrument("", today, volt="0.5 % + 2 mV", ohm="1% + 0.3 ohm")
    assert not must_ask("", today + timedelta(days=300))
    assert must_ask("", today + timedelta(days=366))
    assert "calibration is not known" in trusted_of().words(today)
    say_instrument("", today, calibrated="2026-03-01")
    assert not must_ask("", date(2027, 2, 1))
    assert must_ask("", date(2027, 12, 10))
    assert trusted_of().due(date(2027, 12, 10))
    assert trusted_of().off(10.0, "V") == pytest.approx(0.052)
    assert trusted_of().off(1000.0, "Ω") == pytest.approx(10.3)
    assert trusted_of().unknown == ("A",)
    for field, text in (("volt", "banana"), ("volt", "60 %"), ("ohm", "1 V"), ("calibrated", "2027-01-01")):
        with pytest.raises(InputError):
            say_instrument("", today, **{field: text})
    assert main(["meter", "--amps", "1 % + 5 mA"]) == 0
    assert main(["me", "--name", "Mara", "--bench", "window bench"]) == 0
    assert "Mara at window bench" in capsys.readouterr().out
    told = provenance("person")
    assert (told.who, told.bench) == ("Mara", "window bench")


def test_power_is_off_after_cancel() -> None:
    supply = Supply()
    with peer(supply) as address, Bench(supply=address, hands=Person()) as bench, pytest.raises(Cancelled):
        run_plan(PLAN, bench, "A-001", lambda _s, text: "step 4" not in text)
    assert not supply.on


def test_a_board_whose_meter_fails_is_left_open_and_the_next_is_measured() -> None:
    count = [0]

    person = Person()

    def flaky(line: str, _link: socket.socket) -> bytes | None:
        count[0] += "MEAS" in line
        off = any("free of voltage" in s for s in person.asked[-1:])
        return None if "MEAS" in line and count[0] <= 1 else standard(line, {"MEAS:VOLT:DC?": "0"} if off else None)

    with peer(flaky) as address, Bench(meter=address, hands=person) as bench:
        first, second = measure_boards(PLAN, bench, ["A-001", "A-002"], None)
    assert first.verdict == "open"
    assert "not measured" in first.summary()
    assert second.passed, second.summary()


def test_a_test_that_is_stopped_says_that_the_supply_may_still_be_on(monkeypatch) -> None:
    monkeypatch.setattr("zesty_trace.devices.instruments.DISCHARGE_S", 0.2)
    with peer(Supply(stuck=True)) as address, Bench(supply=address, hands=Person()) as bench:
        bench._supply.off = lambda _settle: "supply off"  # type: ignore[union-attr,method-assign]
        with pytest.raises(StillLive, match="MAY STILL BE ON"):
            run_plan(PLAN, bench, "A-001", stop_at("step 4", bench))


def stop_at(title: str, bench: Bench) -> Callable[[float, str], bool]:
    """Cancel at a step, from where on the supply does not switch off any more."""

    def report(_share: float, text: str) -> bool:
        if title in text:
            del bench._supply.off  # type: ignore[union-attr]
        return title not in text

    return report


class Leaving(Person):
    """A person who goes away once the power is on."""

    def do(self, sentence: str) -> None:
        super().do(sentence)
        if any("switch it on" in s for s in self.asked[:-1]):
            raise Cancelled


def test_a_person_who_leaves_with_the_power_on_is_called_back() -> None:
    with Bench(hands=Leaving()) as bench, pytest.raises(StillLive, match="nobody has confirmed"):
        run_plan(PLAN, bench, "A-001", lambda _s, text: "step 4" not in text)


def test_a_person_who_leaves_before_power_is_let_go() -> None:
    with Bench(hands=Person()) as bench, pytest.raises(Cancelled):
        run_plan(PLAN, bench, "A-001", lambda _s, text: "step 1" not in text)
