"""Functional blocks: which parts belong together on the sheet, by the user's word or proposed from the netlist."""

from __future__ import annotations

from collections import Counter

from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.wired import SWITCHES, Wired
from zesty_trace.core.design.model import Pin

CHIP_PINS, LEAST_LINES, SERVED_SHARE = 5, 3, 0.6  # a connector that serves one chip
ORDER = ("Power", "Controller", "Bus", "Display", "Lights", "Outputs", "Panel", "Ports", "Other")


def propose_blocks(wired: Wired) -> dict[str, str]:
    """Return ref -> block name for every part that is drawn on the sheet (mounting holes are not)."""
    return _Proposal(wired).run()


def block_order(names: set[str]) -> list[str]:
    """Return block names in reading order; the user's own come after the proposed ones."""
    return [n for n in ORDER if n in names] + sorted(names - set(ORDER))


class _Proposal:
    def __init__(self, wired: Wired) -> None:
        design = wired.design
        self.wired, self.design = wired, design
        self.net_of = wired.net_of
        self.rails = {*wired.rails, wired.ground}
        self.block: dict[str, str] = {}

    def run(self) -> dict[str, str]:
        drawn = [r for r in self.design.parts if self.wired.kind(r).pins]
        for ref in drawn:
            seed = self.design.parts[ref].block or self._seed(ref)
            if seed:
                self.block[ref] = seed
        for ref in drawn:
            if self.block.get(ref) == "Ports" and not self.design.parts[ref].block:
                self.block[ref] = self.block.get(self._served(ref), "Ports")
        for ref in drawn:
            if self.block.get(ref) == "Switch":
                self.block[ref] = self._switch_block(ref)
        for _ in range(4):
            for ref in drawn:
                if ref not in self.block:
                    near = self._neighbour_block(ref)
                    if near:
                        self.block[ref] = near
        for k, ref in enumerate(drawn):
            if ref not in self.block:
                self.block[ref] = self._bypass_block(drawn, k)
        return self.block

    def _seed(self, ref: str) -> str:
        kind = self.wired.kind(ref)
        supplies = kind.is_a(m.Inlet, m.Supply, m.Battery) or kind.facts.charge_factor_v is not None
        if supplies or kind.prefix in ("F", "TP"):
            return "Power"
        if kind.is_a(m.Controller):
            return "Controller"
        if kind.is_a(*SWITCHES):
            return "Switch"
        if kind.facts.light:
            return "Lights"
        if kind.bus and kind.bus.role == "device":
            return "Display" if kind.connector else "Bus"
        if kind.external or kind.prefix == "BZ":
            return "Outputs"
        if kind.prefix == "SW" or kind.is_a(m.Led):
            return "Panel"
        return "Ports" if kind.connector else ""

    def _nets(self, ref: str) -> list[str]:
        pins = self.wired.kind(ref).pins
        nets = (self.net_of.get(Pin(ref, p.number)) for p in pins)
        return [n for n in nets if n and n not in self.rails]

    def _served(self, ref: str) -> str:
        """Return the chip that a connector mostly leads to, or "": the two are then drawn beside each other."""
        nets = self._nets(ref)
        lines: Counter[str] = Counter()
        for net in nets:
            lines.update({p.ref for p in self.design.nets[net] if len(self.wired.kind(p.ref).pins) >= CHIP_PINS})
        chips = [(n, chip) for chip, n in lines.items() if chip != ref and not self.wired.kind(chip).connector]
        most, chip = max(chips, default=(0, ""))
        return chip if most >= LEAST_LINES and most >= SERVED_SHARE * len(nets) else ""

    def _switch_block(self, ref: str) -> str:
        for net in self._nets(ref):
            for pin in self.design.nets[net]:
                near = self.block.get(pin.ref)
                if near in ("Display", "Outputs"):
                    return near
        return "Outputs"

    def _neighbour_block(self, ref: str) -> str:
        """Return the block reached over the smallest signal net, the controller only if nothing else is there."""
        choices = []
        for net in self._nets(ref):
            for pin in self.design.nets[net]:
                near = self.block.get(pin.ref)
                if pin.ref != ref and near:
                    choices.append((near == "Controller", len(self.design.nets[net]), near))
        return min(choices)[2] if choices else ""

    def _bypass_block(self, drawn: list[str], index: int) -> str:
        """Return the block of the part listed before this one that has the same supply."""
        own = {self.net_of.get(Pin(drawn[index], p)) for p in ("1", "2")}
        ground = self.wired.ground
        for ref in reversed(drawn[:index]):
            kind = self.wired.kind(ref)
            supplies = {self.net_of.get(Pin(ref, p.number)) for p in kind.pins} - {ground}
            if len(kind.pins) > 2 and supplies & own:
                return self.block.get(ref, "Other")
        return "Power" if own & self.rails else "Other"
