"""The test plan, generated from the design: what to measure, where, and within which limits.

Limits come from the same circuit model that reviews the design: nominal value and worst-case spread of the part
tolerances, plus the meter's own error. Nothing is typed in.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.analysis import branch_spread, worst_case
from zesty_trace.core.circuit.build import build_network, resting
from zesty_trace.core.circuit.network import Element, Network
from zesty_trace.core.circuit.solver import solve
from zesty_trace.core.circuit.topology import ground_net, kind_of, other_net, supply_nets, two_terminal
from zesty_trace.core.design.model import Design
from zesty_trace.core.quantities import say
from zesty_trace.core.review.bus import bus_addresses
from zesty_trace.errors import EditError

StepKind = Literal["resistance", "power on", "voltage", "current", "bus"]
METER_ERROR = 0.005
CURRENT_MARGIN = 0.10  # the model's supply currents are typical figures
SHORT_OHM = 10.0
TEST_VOLT, TEST_OHM = 0.2, 1000.0
RESISTANCE_SHARE = 0.2  # parts have paths that the model leaves out, common practice


@dataclass(frozen=True)
class BenchStep:
    """One measurement: its limits, and whether a failure ends the test of this board."""

    number: int
    kind: StepKind
    title: str
    net: str
    low: float | None
    high: float | None
    expected: float | None
    unit: str
    stops: bool
    why: str
    addresses: tuple[int, ...] = ()
    probe: str = ""


@dataclass(frozen=True)
class BenchPlan:
    """All steps for one variant, and what the bench supply is set to."""

    variant: str
    ground: str
    supply_net: str
    supply_v: float
    current_limit_a: float
    steps: tuple[BenchStep, ...]


def supply_entry(design: Design, catalogue: Catalogue) -> str:
    """Return the net at the board's inlet. EditError if there is none."""
    for ref in design.parts:
        kind = kind_of(design, catalogue, ref)
        if kind.model.get("type") == "inlet":
            for spec in kind.pins:
                if spec.role == "supply_out":
                    for net, pins in design.nets.items():
                        if any(p.ref == ref and p.number == spec.number for p in pins):
                            return net
    raise EditError("The board has no supply inlet", "schematic", "Add a barrel jack or another inlet")


def without_source(network: Network) -> Network:
    """Return the network with its supply unplugged."""
    return Network(tuple(e for e in network.elements if e.type != "source"), network.ground)


def resistance_ohm(network: Network, a: str, b: str) -> float:
    """Return what an ohmmeter reads between two nets: 0.2 V through 1 kΩ, so that no junction conducts."""
    meter = (
        Element("meter", "source", ("meter", b), {"volt": TEST_VOLT, "ohm": 1e-3}),
        Element("shunt", "resistor", ("meter", a), {"ohm": TEST_OHM}),
    )
    solution = solve(without_source(network).with_elements(meter))
    volt = solution.voltage(a) - solution.voltage(b)
    amp = (solution.voltage("meter") - solution.voltage(a)) / TEST_OHM
    return volt / amp if amp > 1e-15 else 1e9


def divider_nets(design: Design, catalogue: Catalogue) -> list[str]:
    """Return nets that two or more resistors hold between supplies."""
    net_of = design.net_of()
    rails = {*supply_nets(design, catalogue), ground_net(design, catalogue)}
    found = []
    for net, pins in design.nets.items():
        ends = {
            other_net(design, net_of, p)
            for p in pins
            if two_terminal(design, catalogue, p.ref) and kind_of(design, catalogue, p.ref).model["type"] == "resistor"
        }
        if net not in rails and len(ends & rails) >= 2:
            found.append(net)
    return found


def make_plan(design: Design, catalogue: Catalogue, variant: str = "") -> BenchPlan:
    """Return the test plan for boards of `variant`. EditError without a supply inlet; SolveError if unsolvable."""
    design = design.fitted(variant)
    entry, ground = supply_entry(design, catalogue), ground_net(design, catalogue)
    rest = resting(design, catalogue)
    network = build_network(design, catalogue, rest)
    solution, spreads = worst_case(network)
    source = next(k for k, e in enumerate(network.elements) if e.type == "source")
    drawn = branch_spread(solution, source, 1)
    rails = [n for n in supply_nets(design, catalogue) if n != ground]
    probes = _probes(design, catalogue)
    steps: list[BenchStep] = []

    def add(kind: StepKind, title: str, net: str, why: str, **more: object) -> None:
        steps.append(_step(len(steps) + 1, kind, title, net, why, probes.get(net, ""), more))

    for net in rails:
        ohm = resistance_ohm(network, net, ground)
        add(
            "resistance", f"{net} to {ground}", net,
            "A short found now costs a minute; with power on it costs parts.",
            low=max(SHORT_OHM, RESISTANCE_SHARE * min(ohm, 1e6)), expected=ohm, unit="Ω", stops=True,
        )  # fmt: skip
    limit = round(max(0.05, drawn.high * 1.5 + 0.02), 2)
    add(
        "power on", f"Power on, {say(design.brief.supply_v, 'V')}", entry,
        "A limited supply keeps a fault from becoming smoke.", high=limit, unit="A", stops=True,
    )  # fmt: skip
    for net in [*rails, *divider_nets(design, catalogue)]:
        s = spreads[net]
        add(
            "voltage", f"{net}", net, f"Worst-case sum of part tolerances and the meter's {METER_ERROR:.1%}.",
            low=s.low - abs(s.nominal) * METER_ERROR, high=s.high + abs(s.nominal) * METER_ERROR, expected=s.nominal,
            unit="V", stops=False,
        )  # fmt: skip
    add(
        "current", "Supply current at rest", entry,
        f"Part tolerances, and {CURRENT_MARGIN:.0%} since supply currents are typical figures.",
        low=drawn.low * (1 - CURRENT_MARGIN), high=drawn.high * (1 + CURRENT_MARGIN), expected=drawn.nominal, unit="A",
        stops=False,
    )  # fmt: skip
    found = sorted(a for a in bus_addresses(design, catalogue).values() if a is not None)
    if found:
        add(
            "bus", "Bus answers", "", "Every device must answer at its own address, and no other.",
            expected=float(len(found)), unit="devices", addresses=tuple(found), stops=False,
        )  # fmt: skip
    return BenchPlan(variant, ground, entry, design.brief.supply_v, limit, tuple(steps))


def _step(
    number: int, kind: StepKind, title: str, net: str, why: str, probe: str, more: dict[str, object]
) -> BenchStep:
    return BenchStep(
        number, kind, title, net, more.get("low"), more.get("high"), more.get("expected"),  # type: ignore[arg-type]
        str(more["unit"]), bool(more["stops"]), why, more.get("addresses", ()), probe,  # type: ignore[arg-type]
    )  # fmt: skip


def _probes(design: Design, catalogue: Catalogue) -> dict[str, str]:
    """Return net -> the test point, else the through-hole pin, where a probe can touch it."""
    from zesty_trace.core.board.copper import pattern_of

    found: dict[str, str] = {}
    for net, pins in design.nets.items():
        points = [p for p in pins if kind_of(design, catalogue, p.ref).prefix == "TP"]
        holes = [p for p in pins if any(q.drill_nm for q in pattern_of(design, catalogue, p.ref).pads)]
        best = (points or holes or list(pins))[:1]
        found[net] = str(best[0]) if best and best[0] not in points else (best[0].ref if best else "")
    return found
