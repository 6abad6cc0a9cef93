"""Which nets are ground and supply, what drives what: read off the design and the kinds, before anything is solved."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator
from functools import wraps
from threading import Lock
from typing import NamedTuple, TypeVar

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Catalogue, Kind, PinSpec
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.core.quantities import leading_value

_Read = TypeVar("_Read")
_KEEP = 16


def kept(read: Callable[[Design, Catalogue], _Read]) -> Callable[[Design, Catalogue], _Read]:
    """Keep what `read` gives for the last few designs and catalogues, by identity: they are frozen values."""
    found: OrderedDict[tuple[int, int], tuple[Design, Catalogue, _Read]] = OrderedDict()
    lock = Lock()

    @wraps(read)
    def remembered(design: Design, catalogue: Catalogue) -> _Read:
        key = (id(design), id(catalogue))
        with lock:
            known = found.get(key)
            if known is not None and known[0] is design and known[1] is catalogue:
                found.move_to_end(key)
                return known[2]
        answer = read(design, catalogue)
        with lock:
            known = found.get(key)
            if known is not None and known[0] is design and known[1] is catalogue:
                return known[2]  # another thread was faster: all are to share one answer
            found[key] = (design, catalogue, answer)
            while len(found) > _KEEP:
                found.popitem(last=False)
        return answer

    return remembered


SWITCHES = (m.FieldEffect, m.Bipolar)


def kind_of(design: Design, catalogue: Catalogue, ref: str) -> Kind:
    """Return the kind of a part."""
    return catalogue.kind(design.parts[ref].kind)


def spec_of(design: Design, catalogue: Catalogue, pin: Pin) -> PinSpec:
    """Return the pin's name and role. KeyError if the kind has no such pin."""
    for spec in kind_of(design, catalogue, pin.ref).pins:
        if spec.number == pin.number:
            return spec
    raise KeyError(str(pin))


def pin_label(design: Design, catalogue: Catalogue, pin: Pin) -> str:
    """Return `U4.ADR`."""
    return f"{pin.ref}.{spec_of(design, catalogue, pin).name}"


def all_pins(design: Design, catalogue: Catalogue) -> Iterator[tuple[Pin, PinSpec]]:
    """Yield every pin of every part."""
    for ref in design.parts:
        for spec in kind_of(design, catalogue, ref).pins:
            yield Pin(ref, spec.number), spec


@kept
def ground_net(design: Design, catalogue: Catalogue) -> str:
    """Return the net that holds most ground pins, else one called GND, else ""."""
    best, count = "GND" if "GND" in design.nets else "", 0
    for name, pins in design.nets.items():
        grounds = sum(spec_of(design, catalogue, p).role == "ground" for p in pins)
        if grounds > count:
            best, count = name, grounds
    return best


def supply_nets(design: Design, catalogue: Catalogue) -> list[str]:
    """Return nets that feed supply pins, or that a supply gives out, ground left out; in the order of the design."""
    return list(_supply_nets(design, catalogue))


@kept
def _supply_nets(design: Design, catalogue: Catalogue) -> list[str]:
    """Return nets that feed supply pins, or that a supply gives out, ground left out; in the order of the design."""
    ground = ground_net(design, catalogue)
    found = []
    for name, pins in design.nets.items():
        roles = {spec_of(design, catalogue, p).role for p in pins}
        if name != ground and roles & {"supply_in", "supply_out"}:
            found.append(name)
    return found


def two_terminal(design: Design, catalogue: Catalogue, ref: str) -> bool:
    """Whether the part has just two pins, both passive."""
    pins = kind_of(design, catalogue, ref).pins
    return len(pins) == 2 and all(p.role == "passive" for p in pins)


def other_net(design: Design, net_of: dict[Pin, str], pin: Pin) -> str | None:
    """Return the net at the other end of a two-pin part."""
    return net_of.get(Pin(pin.ref, "2" if pin.number == "1" else "1"))


class Neighbour(NamedTuple):
    """A two-pin part on a net: its pin there, its value (0.0 if none is stated), and the net beyond ("" if open)."""

    pin: Pin
    value: float
    beyond: str

    @property
    def ref(self) -> str:
        """The part's reference."""
        return self.pin.ref


def neighbours(
    design: Design, catalogue: Catalogue, net_of: dict[Pin, str], net: str, *models: type[m.Model]
) -> list[Neighbour]:
    """Return the two-pin parts of these models on a net."""
    found = []
    for pin in design.nets.get(net, ()):
        kind = kind_of(design, catalogue, pin.ref)
        if len(kind.pins) == 2 and kind.is_a(*models):
            value = leading_value(design.parts[pin.ref].value) or 0.0
            found.append(Neighbour(pin, value, other_net(design, net_of, pin) or ""))
    return found


@kept
def controller_outputs(design: Design, catalogue: Catalogue) -> list[Pin]:
    """Return the controller pins that can only be meant as outputs: they reach a gate, a base or an LED, directly or
    through one series part."""
    net_of = design.net_of()
    rails = {*supply_nets(design, catalogue), ground_net(design, catalogue)}
    found = []
    for pin, spec in all_pins(design, catalogue):
        kind = kind_of(design, catalogue, pin.ref)
        net = net_of.get(pin)
        if not kind.is_a(m.Controller) or spec.role != "bidirectional" or net is None:
            continue
        nets = {net}
        for near in design.nets[net]:
            if near.ref != pin.ref and two_terminal(design, catalogue, near.ref):
                beyond = other_net(design, net_of, near)
                if beyond and beyond not in rails:
                    nets.add(beyond)
        if any(_is_driven(design, catalogue, p) for n in nets for p in design.nets[n]):
            found.append(pin)
    return found


def _is_driven(design: Design, catalogue: Catalogue, pin: Pin) -> bool:
    kind = kind_of(design, catalogue, pin.ref)
    if kind.is_a(m.Led):
        return True
    return kind.is_a(*SWITCHES) and spec_of(design, catalogue, pin).role == "input"
