"""What answers on a board: controllers, devices on a bus, devices behind a controller, lights in a chain.

Each through its own pins: a pin that is not soldered, a line that is stuck or bridged, a strap that floats, a supply
that is missing all count. Voltages are those of the solved circuit.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.facts import stated
from zesty_trace.core.catalogue.kinds import Kind
from zesty_trace.core.circuit.faults import Joints
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin

RESET_NAMES = ("NRST", "RST", "RESET", "NRESET", "EN", "CHIP_EN")
BOOT_NAMES = ("BOOT", "BOOT0")
Volts = Callable[[str], float]  # net -> V against ground
_SIGNALS = ("input", "output", "bidirectional", "open_drain")


@dataclass(frozen=True)
class Talk:
    """The board's talking parts, with the joints as they really are and the voltages at rest."""

    wired: Wired
    joints: Joints
    volt: Volts

    def _kind(self, ref: str) -> Kind:
        return self.wired.kind(ref)

    def _at(self, pin: Pin) -> float:
        net = self.joints.net(pin)
        return self.volt(net) if net else 0.0

    def _supply_v(self, ref: str) -> float:
        kind = self._kind(ref)
        feed = kind.supply_pins()
        if feed is None:
            return 0.0
        plus, minus = (Pin(ref, spec.number) for spec in feed)
        if self.joints.net(plus) is None or self.joints.net(minus) is None:
            return 0.0
        return self._at(plus) - self._at(minus)

    def powered(self, ref: str) -> bool:
        """Whether a part is there and its supply is within its range."""
        facts, supply = self._kind(ref).facts, self._supply_v(ref)
        return stated(facts.supply_min_v, 0.5) * 0.98 <= supply <= stated(facts.supply_max_v, 100.0) * 1.1

    def running(self, ref: str) -> bool:
        """Whether a controller runs its program: powered, not held in reset, not in its boot mode."""
        if not self.powered(ref):
            return False
        half = 0.5 * self._supply_v(ref)
        for spec in self._kind(ref).pins:
            pin = Pin(ref, spec.number)
            if self.joints.net(pin) is None:
                continue  # an open reset or boot pin is held by the chip itself
            if spec.name in RESET_NAMES and self._at(pin) < half:
                return False
            if spec.name in BOOT_NAMES and self._at(pin) > half:
                return False
        return True

    def _clean(self, pins: list[Pin]) -> bool:
        """Whether pins sit where they should, on lines of their own."""
        return all(self.joints.whole(p) and not self.joints.bridged(self.joints.wiring[p]) for p in pins)

    def controller_answers(self, ref: str) -> bool:
        """Whether a controller runs and can be spoken to over all lines that go from it to a connector."""
        return self.running(ref) and self._clean([p for ends in link_lines(self.wired, ref) for p in ends])

    def device_answers(self, ref: str) -> bool:
        """Whether a device that a controller speaks to over lines of its own is there and can be reached."""
        lines = device_lines(self.wired, ref)
        if not lines:
            return False
        hosts = {host.ref for _, host in lines}
        return (
            self.powered(ref)
            and all(self.running(h) for h in hosts)
            and self._clean([p for ends in lines for p in ends])
        )

    def bus_answers(self) -> list[int]:
        """Return the addresses that answer, each as often as devices answer there."""
        found = []
        for ref in bus_devices(self.wired):
            address = self._address(ref)
            if address is not None:
                found.append(address)
        return sorted(found)

    def _bus_pins(self, ref: str) -> tuple[Pin, Pin]:
        bus = self._kind(ref).bus
        assert bus is not None
        return Pin(ref, self._kind(ref).pin_named(bus.sda).number), Pin(ref, self._kind(ref).pin_named(bus.scl).number)

    def _address(self, ref: str) -> int | None:
        kind = self._kind(ref)
        pins = self._bus_pins(ref)
        supply = self._supply_v(ref)
        if kind.bus is None or not self.powered(ref) or not self._clean(list(pins)):
            return None
        threshold = stated(kind.facts.input_high_share, 0.7) * supply
        if min(self._at(p) for p in pins) <= threshold or not self._host_reaches(pins):
            return None
        address = kind.bus.address
        for strap in kind.bus.straps:
            high = self._at(Pin(ref, kind.pin_named(strap.pin).number)) > 0.5 * supply
            address += strap.high if high else strap.low
        return address

    def _host_reaches(self, pins: tuple[Pin, Pin]) -> bool:
        """Whether a running host sits on the lines of a device, or beyond level shifters that are whole."""
        wanted = [self._reach(self.joints.wiring[p]) for p in pins]
        for ref in self.wired.design.parts:
            bus = self._kind(ref).bus
            if bus is None or bus.role != "host":
                continue
            own = self._bus_pins(ref)
            if not self.running(ref) or not self._clean(list(own)):
                continue
            if all(self.joints.wiring[p] in nets for p, nets in zip(own, wanted, strict=True)):
                return True
        return all(not (b := self._kind(r).bus) or b.role != "host" for r in self.wired.design.parts)

    def _reach(self, net: str) -> set[str]:
        """Return the nets that a line reaches through transistor channels that are whole, itself included."""
        rails = {*self.wired.rails}
        reached, waiting = {net}, [net]
        while waiting:
            here = waiting.pop()
            for ref in self.wired.design.parts:
                kind = self._kind(ref)
                if not kind.is_a(m.Nmos):
                    continue
                d, g, s = (Pin(ref, kind.pin_named(n).number) for n in ("D", "G", "S"))
                ends = {self.joints.wiring.get(d, ""), self.joints.wiring.get(s, "")}
                if here not in ends or not self._clean_channel(d, g, s):
                    continue
                for other in ends - reached - rails - {""}:
                    reached.add(other)
                    waiting.append(other)
        return reached

    def _clean_channel(self, d: Pin, g: Pin, s: Pin) -> bool:
        return self._clean([d, s]) and self.joints.whole(g)

    def lit(self, lights: frozenset[str]) -> frozenset[str]:
        """Return the lights that hear what they are told: powered, and reached by the data from the controller on."""
        reached: set[str] = set()
        fed = {
            self.joints.net(Pin(ref, s.number))
            for ref in self.wired.design.parts
            if self._kind(ref).is_a(m.Controller) and self.running(ref)
            for s in self._kind(ref).pins
            if s.role in ("bidirectional", "output")
        }
        fed |= self._beyond_resistors(fed)
        moved = True
        while moved:
            moved = False
            for ref in lights - reached:
                kind = self._kind(ref)
                data = next((Pin(ref, s.number) for s in kind.pins if s.role == "input"), None)
                net = self.joints.net(data) if data else None
                if net is None or net not in fed or self.joints.bridged(net) or not self.powered(ref):
                    continue
                reached.add(ref)
                fed |= {self.joints.net(Pin(ref, s.number)) for s in kind.pins if s.role == "output"}
                moved = True
        return frozenset(reached)

    def _beyond_resistors(self, nets: set[str | None]) -> set[str | None]:
        found: set[str | None] = set()
        for ref in self.wired.design.parts:
            if not self._kind(ref).is_a(m.Resistor) or len(self._kind(ref).pins) != 2:
                continue
            ends = [self.joints.net(Pin(ref, n)) for n in ("1", "2")]
            if None not in ends and set(ends) & nets:
                found |= set(ends)
        return found - set(self.wired.rails)


def bus_devices(wired: Wired) -> list[str]:
    """Return the devices that sit on a two-wire bus with both lines wired."""
    design = wired.design
    net_of = wired.net_of
    found = []
    for ref in design.parts:
        kind = wired.kind(ref)
        if kind.bus and kind.bus.role == "device":
            pins = [Pin(ref, kind.pin_named(n).number) for n in (kind.bus.sda, kind.bus.scl)]
            if all(p in net_of for p in pins):
                found.append(ref)
    return found


def controllers(wired: Wired) -> list[str]:
    """Return the controllers."""
    design = wired.design
    return [r for r in design.parts if wired.kind(r).is_a(m.Controller)]


def _signals(wired: Wired, ref: str) -> dict[str, Pin]:
    """Return net -> pin of a part's signals, reset and boot left out."""
    net_of = wired.net_of
    found = {}
    for spec in wired.kind(ref).pins:
        pin = Pin(ref, spec.number)
        if spec.role in (*_SIGNALS, "passive") and spec.name not in (*RESET_NAMES, *BOOT_NAMES) and pin in net_of:
            found[net_of[pin]] = pin
    return found


def link_lines(wired: Wired, ref: str) -> list[tuple[Pin, Pin]]:
    """Return (controller pin, connector pin) of each line by which a connector speaks to a controller."""
    design = wired.design
    own = _signals(wired, ref)
    rails = {*wired.rails, wired.ground}
    found = []
    for other in design.parts:
        kind = wired.kind(other)
        if kind.connector and kind.is_a(m.Open):
            found += [(own[n], p) for n, p in _signals(wired, other).items() if n in own and n not in rails]
    return found


def device_lines(wired: Wired, ref: str) -> list[tuple[Pin, Pin]]:
    """Return (device pin, controller pin) of each line from a controller to a device without a bus address."""
    kind = wired.kind(ref)
    if not kind.is_a(m.Load) or kind.bus or kind.facts.light:
        return []
    own = _signals(wired, ref)
    rails = {*wired.rails, wired.ground}
    lines = []
    for host in controllers(wired):
        lines += [(own[n], p) for n, p in _signals(wired, host).items() if n in own and n not in rails]
    return lines if len(lines) >= 2 else []
