"""Bench instruments over SCPI.

A multimeter and a supply that know SCPI-1999 only, and the fixture, a device of its own.

Meter and supply get nothing but standard commands. What they lack (putting probes on, scanning the bus, having the
board switch an output) is done by the fixture, whose commands docs/fixture.md states, or by a person.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from types import TracebackType
from typing import Protocol

from zesty_trace.core.bench.plan import BenchStep, Inlet
from zesty_trace.core.bench.run import OFF_V
from zesty_trace.core.quantities import say
from zesty_trace.devices.scpi import ScpiLink
from zesty_trace.errors import DeviceError
from zesty_trace.names import scpi_string

DISCHARGE_S = 10.0
SETTLE_S = 0.2
STABLE, STABLE_S = 0.01, 20.0
ZERO_READINGS = 3  # in a row, of which each must be near 0 V
NO_INLET = "What is behind a diode or a switch, and in cells, was not measured"


class Hands(Protocol):
    """A person at the bench. Each call waits for the answer; DeviceError if there is none, Cancelled if they stop."""

    def do(self, sentence: str) -> None:
        """Have something done."""

    def read(self, sentence: str, unit: str) -> float:
        """Have something read off and typed in."""

    def see(self, sentence: str) -> bool:
        """Have a yes or no."""

    def list_addresses(self, sentence: str) -> list[int]:
        """Have bus addresses typed in."""


class Meter:
    """A multimeter."""

    def __init__(self, address: str) -> None:
        self.link = ScpiLink(address)

    def ohms(self) -> float:
        """Measure a resistance, Ω; infinite beyond the range."""
        return self.link.number("MEAS:RES?")

    def volts(self) -> float:
        """Measure a direct voltage, V."""
        return self.link.number("MEAS:VOLT:DC?")


class Supply:
    """A supply with a current limit."""

    def __init__(self, address: str) -> None:
        self.link = ScpiLink(address)
        self._says_output = True

    def on(self, volt: float, limit_a: float) -> None:
        """Set voltage and limit, then switch on."""
        self.link.tell(f"VOLT {volt:.4f}")
        self.link.tell(f"CURR {limit_a:.4f}")
        self.link.tell("OUTP ON")

    def reading(self) -> tuple[float, float]:
        """Return volts and amperes now."""
        return self.link.number("MEAS:VOLT?"), self.link.number("MEAS:CURR?")

    def off(self, settle_s: float = SETTLE_S) -> str:
        """Switch off, and wait until there is next to no voltage of either sign left.

        Return how that is known. DeviceError if it is not so, or cannot be told.
        """
        self.link.tell("OUTP OFF")
        volt = near_zero(lambda: self.link.number("MEAS:VOLT?"), "on the supply", self.link.resource, settle_s)
        answer = self._output()
        if answer == "on":
            hint = "Switch it off by hand, and pull its plug"
            raise DeviceError("The supply says that its output is still on", self.link.resource, hint)
        told = "its output off by its own word" if answer == "off" else "it does not say whether its output is off"
        return f"supply {say(volt, 'V')} ({ZERO_READINGS} readings, {told})"

    def _output(self) -> str:
        """Return on or off as the supply says itself; "" if it does not."""
        if not self._says_output:
            return ""
        try:
            answer = self.link.ask("OUTP?").strip().upper()
        except DeviceError:
            self._says_output = False
            return ""
        return {"0": "off", "OFF": "off", "1": "on", "ON": "on"}.get(answer, "")


def near_zero(take: Callable[[], float], where: str, resource: str, settle_s: float) -> float:
    """Return the largest of three readings in a row that are near 0 V, of either sign; wait for them a while.

    DeviceError if they do not come.
    """
    end, last = time.monotonic() + DISCHARGE_S, [take()]
    while len(last) < ZERO_READINGS or max(map(abs, last)) > OFF_V:
        if time.monotonic() > end and len(last) == ZERO_READINGS:
            volt = max(last, key=abs)
            raise DeviceError(f"There are still {say(volt, 'V')} {where}", resource, "Discharge the board")
        time.sleep(settle_s if abs(last[-1]) <= OFF_V else SETTLE_S)
        last = [*last[1 - ZERO_READINGS :], take()]
    return max(last, key=abs)


class Fixture:
    """The device that holds the board: probes, bus, outputs, buttons (docs/fixture.md)."""

    def __init__(self, address: str) -> None:
        self.link = ScpiLink(address)

    def board(self, serial: str) -> None:
        """Say which board is in it."""
        self.link.tell(f"FIXT:BOAR {scpi_string(serial)}")

    def probe(self, a: str, b: str) -> None:
        """Put the meter on two nets."""
        self.link.tell(f"ROUT:PROB {scpi_string(a)},{scpi_string(b)}")

    def feed(self, ref: str) -> None:
        """Lead the supply to a connector."""
        self.link.tell(f"FIXT:FEED {scpi_string(ref)}")

    def outputs(self, nets: Sequence[str], lit: bool) -> None:
        """Have the board's test program switch these outputs on, all others off, its lights lit or dark."""
        self.link.tell(f"FIXT:OUTP {','.join(scpi_string(n) for n in nets)}".strip())
        self.link.tell(f"FIXT:LIT {'ON' if lit else 'OFF'}")

    def press(self, ref: str) -> None:
        """Hold a button down; none with ""."""
        self.link.tell(f"FIXT:PRES {scpi_string(ref)}")

    def scan(self) -> list[int]:
        """Return the addresses that answer on the bus."""
        answer = self.link.ask("BUS:I2C:SCAN?")
        words = [w.strip() for w in answer.split(",")] if answer else []
        if not all(re.fullmatch(r"0[xX][0-9A-Fa-f]{1,2}|\d{1,3}", w) for w in words):
            raise DeviceError(f"“{answer[:40]}” are no bus addresses", self.link.resource, "Check the fixture")
        found = [int(w, 0) for w in words]
        if any(a > 0x7F for a in found):
            raise DeviceError(f"“{answer[:40]}” are no 7-bit addresses", self.link.resource, "Check the fixture")
        return found

    def lights(self) -> int:
        """Return how many lights it sees shining."""
        return round(min(1e6, max(0.0, self.link.number("FIXT:SHIN?"))))

    def answers(self, ref: str) -> bool:
        """Return whether a controller, or a device behind one, answers."""
        answer = self.link.ask(f"FIXT:ANSW? {scpi_string(ref)}")
        if answer not in ("0", "1"):
            raise DeviceError(f"“{answer[:40]}” is neither 0 nor 1", self.link.resource, "Check the fixture")
        return answer == "1"


class Bench:
    """Whatever instruments there are, and a person for what they cannot do. It runs a test plan.

    DeviceError when made, if neither an instrument nor a person can do something that a plan needs.
    """

    def __init__(
        self,
        meter: str = "",
        supply: str = "",
        fixture: str = "",
        hands: Hands | None = None,
        settle_s: float = SETTLE_S,
    ) -> None:
        self.hands, self._settle_s = hands, settle_s
        self._meter: Meter | None = None
        self._supply: Supply | None = None
        self._fixture: Fixture | None = None
        if hands is None and not (meter and supply and fixture):
            raise DeviceError(
                "A meter, a supply and a fixture are needed, or a person in their place",
                "bench",
                "Give the missing address, or measure by hand",
            )
        try:
            self._meter = Meter(meter) if meter else None
            self._supply = Supply(supply) if supply else None
            self._fixture = Fixture(fixture) if fixture else None
        except DeviceError:
            self.close()
            raise
        self._prepared = False
        self._fed = self._pressed = ""

    @property
    def names(self) -> tuple[str, str]:
        """What meter and supply call themselves; "" where a person reads."""
        meter, supply = (d.link.identity if d is not None else "" for d in (self._meter, self._supply))
        return meter, supply

    @property
    def instruments(self) -> list[str]:
        """What the instruments say they are, and where."""
        named = [(d.link.identity, d.link.resource) for d in (self._meter, self._supply, self._fixture) if d]
        words = [f"{identity} at {where}" for identity, where in named]
        return [*words, *(["a person"] if self.hands else [])]

    def __enter__(self) -> Bench:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Switch the supply off and let go of all instruments."""
        if self._supply is not None:
            with suppress(DeviceError):
                self._supply.link.tell("OUTP OFF")
        for device in (self._meter, self._supply, self._fixture):
            if device is not None:
                device.link.close()

    def _person(self) -> Hands:
        if self.hands is None:
            raise DeviceError("A person is needed for this", "bench", "Measure by hand")
        return self.hands

    def select_board(self, serial: str) -> None:
        """Say which board is in the fixture, or ask for it."""
        self._pressed = ""
        if self._fixture:
            self._fixture.board(serial)
        else:
            self._person().do(f"Take board {serial}, with nothing connected to it.")

    def prepare(self, words: tuple[str, ...]) -> None:
        """Have the board set up; the whole list once, then a reminder."""
        if self.hands is None:
            return
        if self._prepared:
            self.hands.do("Set this board up as the one before.")
        else:
            for sentence in words:
                self.hands.do(sentence)
        self._prepared = True

    def _place_probes(self, step: BenchStep, a: str, b: str) -> str:
        if self._fixture:
            if step.press != self._pressed:
                self._fixture.press(step.press)
                self._pressed = step.press
            self._fixture.probe(a, b)
            return ""
        red, black = step.probe or a, step.other_probe or b
        hold = f" Hold {step.press} down." if step.press else ""
        return f"Red on {red} ({a}), black on {black} ({b}).{hold}"

    def resistance(self, step: BenchStep, a: str, b: str) -> float:
        """Ohms between two nets."""
        return self._measured(step, a, b, "Meter on ohms.", "Ω", self._meter.ohms if self._meter else None)

    def voltage(self, step: BenchStep, a: str, b: str) -> float:
        """Volts between two nets."""
        return self._measured(step, a, b, "Meter on DC volts.", "V", self._meter.volts if self._meter else None)

    def _measured(
        self, step: BenchStep, a: str, b: str, words: str, unit: str, take: Callable[[], float] | None
    ) -> float:
        """Have the probes put on, then read the meter, or have it read."""
        sentence = self._place_probes(step, a, b)
        if take is None:
            return self._person().read(f"{words} {sentence} What does it show?".replace("  ", " "), unit)
        if sentence:
            self._person().do(f"{sentence} Hold still.")
            return self._when_stable(take)
        return take()

    def _when_stable(self, take: Callable[[], float]) -> float:
        """Return a reading once three in a row agree."""
        end = time.monotonic() + STABLE_S
        last: list[float] = []
        while time.monotonic() < end:
            last = [*last[-2:], take()]
            if len(last) == 3 and (max(last) == min(last) or max(last) - min(last) <= STABLE * max(map(abs, last))):
                return float(last[-1])
            time.sleep(SETTLE_S)
        raise DeviceError("The reading does not settle", "meter", "Hold the probes still and measure again")

    def power_on(self, step: BenchStep) -> None:
        """Switch the supply on at the step's place, voltage and limit."""
        if step.feed != self._fed:
            if self._fixture:
                self._fixture.feed(step.feed)
            elif self._fed or self._supply is None:
                self._person().do(f"With the supply off: connect it to {step.feed}, and nowhere else.")
            self._fed = step.feed
        if self._supply:
            self._supply.on(step.volt, step.limit_a)
            time.sleep(self._settle_s)
        else:
            volt, amp = say(step.volt, "V"), say(step.limit_a, "A")
            self._person().do(f"Set the supply to {volt} with a limit of {amp}, and switch it on.")

    def supply_reading(self) -> tuple[float, float]:
        """Volts and amperes that the supply gives now."""
        if self._supply:
            return self._supply.reading()
        volt = self._person().read("What voltage does the supply show?", "V")
        return volt, self._person().read("What current does the supply show?", "A")

    def power_off(self, inlets: tuple[Inlet, ...] = (), ground: str = "") -> str:
        """Switch the supply off and wait until the board is discharged: at the supply, then across its inlets.

        The supply is not believed alone: the meter, or a person with one, says what the board itself has.
        """
        self._fed = ""
        if self._supply:
            said = [self._supply.off(self._settle_s)]
        else:
            self._person().do("Switch the supply off, and wait until nothing glows and it shows 0 V.")
            said = ["supply 0 V by a person's word"]
        if not inlets:
            return f"{said[0]}."
        measured = inlets if self._fixture and self._meter else inlets[:1]
        said += [self._zero_at(inlet, ground) for inlet in measured]
        left = ", ".join(i.ref for i in inlets[len(measured) :])
        unknown = f"not measured at {left}. {NO_INLET}" if left else NO_INLET
        return f"{'; '.join(said)}. {unknown[0].upper()}{unknown[1:]}."

    def _zero_at(self, inlet: Inlet, ground: str) -> str:
        """Prove that a board has no voltage at an inlet; return how. DeviceError if it has."""
        where = f"across {inlet.ref} ({inlet.net})"
        if self._meter and self._fixture:
            self._fixture.probe(inlet.net, ground)
            volt = near_zero(self._meter.volts, where, self._meter.link.resource, self._settle_s)
            return f"board {say(volt, 'V')} {where}, {ZERO_READINGS} readings of the meter"
        red, black = inlet.probe or inlet.net, inlet.ground_probe or ground
        probes = f"Red on {red} ({inlet.net}), black on {black} ({ground})"
        if self._meter:
            self._person().do(f"Is the board free of voltage? {probes}. Hold still.")
            volt = near_zero(self._meter.volts, where, self._meter.link.resource, self._settle_s)
            return f"board {say(volt, 'V')} {where}, {ZERO_READINGS} readings of the meter"
        volt = self._person().read(
            f"Is the board free of voltage? Meter on DC volts. {probes}. Read it, read it again after two seconds, "
            "and type the larger one.",
            "V",
        )
        if not abs(volt) <= OFF_V:
            raise DeviceError(f"There are still {say(volt, 'V')} {where}", "board", "Discharge it, and find out why")
        return f"board {say(volt, 'V')} {where}, read twice by a person"

    def switch(self, step: BenchStep) -> None:
        """Have the board's test program switch outputs and lights."""
        if self._fixture:
            self._fixture.outputs(step.drive, step.lit)
            return
        if step.lit:
            words = "Have the test program light all lights."
        elif step.drive:
            words = f"Have the test program switch on {', '.join(step.drive)}, and nothing else."
        else:
            words = "Have the test program switch all outputs off."
        self._person().do(words)

    def bus_answers(self) -> list[int]:
        """Addresses that answer on the bus."""
        if self._fixture:
            return self._fixture.scan()
        return self._person().list_addresses("Have the test program scan the bus. Which addresses answer?")

    def lights(self) -> int:
        """How many lights shine."""
        if self._fixture:
            return self._fixture.lights()
        return round(self._person().read("How many lights shine?", "lights"))

    def answers(self, ref: str) -> bool:
        """Whether a controller, or a device behind one, answers."""
        if self._fixture:
            return self._fixture.answers(ref)
        return self._person().see(f"Does {ref} answer the test program over all its lines?")
