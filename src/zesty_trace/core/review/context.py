"""What every electrical rule is given."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.catalogue.kinds import Catalogue, Kind, PinSpec
from zesty_trace.core.circuit.analysis import Analysis, analyse
from zesty_trace.core.circuit.topology import (
    Neighbour,
    ground_net,
    kind_of,
    neighbours,
    pin_label,
    spec_of,
    supply_nets,
)
from zesty_trace.core.design.model import Design, Pin


@dataclass(frozen=True)
class Context:
    """A design, the catalogue, and what is read off them once."""

    design: Design
    catalogue: Catalogue
    analysis: Analysis = field(repr=False)

    @cached_property
    def net_of(self) -> dict[Pin, str]:
        """Pin -> net."""
        return self.design.net_of()

    @cached_property
    def ground(self) -> str:
        """The ground net."""
        return ground_net(self.design, self.catalogue)

    @cached_property
    def rails(self) -> list[str]:
        """Supply nets, ground left out."""
        return supply_nets(self.design, self.catalogue)

    @cached_property
    def highest(self) -> dict[str, float]:
        """Net -> its highest solved voltage over all operating states, V."""
        found: dict[str, float] = {}
        for operating in self.analysis.all():
            for net, volt in operating.net_voltages().items():
                found[net] = max(found.get(net, volt), volt)
        return found

    def kind(self, ref: str) -> Kind:
        """Return the kind of a part."""
        return kind_of(self.design, self.catalogue, ref)

    def label(self, pin: Pin) -> str:
        """Return `U4.ADR`."""
        return pin_label(self.design, self.catalogue, pin)

    def spec(self, pin: Pin) -> PinSpec:
        """Return a pin's name and role."""
        return spec_of(self.design, self.catalogue, pin)

    def pin(self, ref: str, name: str) -> Pin:
        """Return the pin of this name. KeyError if the kind has none."""
        return Pin(ref, self.kind(ref).pin_named(name).number)

    def near(self, net: str, *models: type[m.Model]) -> list[Neighbour]:
        """Return the two-pin parts of these models on a net."""
        return neighbours(self.design, self.catalogue, self.net_of, net, *models)

    def of_model(self, *models: type[m.Model]) -> list[str]:
        """Return the references of parts of these models."""
        return [ref for ref in self.design.parts if self.kind(ref).is_a(*models)]

    def supply_of(self, ref: str) -> str | None:
        """Return the net that feeds a part's supply pin."""
        feed = self.kind(ref).supply_pins()
        return self.net_of.get(Pin(ref, feed[0].number)) if feed else None

    def resistors_between(self, a: str, b: str) -> list[Pin]:
        """Return the pins on `b` of resistors that join nets `a` and `b`."""
        near = [n for n in self.near(a, m.Resistor) if n.beyond == b]
        return [Pin(n.ref, "2" if n.pin.number == "1" else "1") for n in near]


def make_context(design: Design, catalogue: Catalogue) -> Context:
    """Return the context of a design."""
    return Context(design, catalogue, analyse(design, catalogue))
