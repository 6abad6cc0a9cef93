"""The test plan, generated from the design: what to measure, where, in which state, and within which limits.

Limits come from the same circuit model that reviews the design: nominal value and worst-case spread of the part
tolerances, plus the meter's own error. Nothing is typed in. Order: without power every supply and every net that a
probe reaches; then power, voltages and current at rest; what answers; each output alone, all together; each other
place where the board can be fed.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable
from dataclasses import asdict, dataclass, field, replace
from itertools import combinations
from typing import Literal

import msgspec

from zesty_trace.core.bench.circuit import (
    OPEN_OHM,
    Feed,
    bench_network,
    feeds,
    lights_of,
    output_nets,
    resistances,
)
from zesty_trace.core.bench.talk import bus_devices, controllers, device_lines, link_lines
from zesty_trace.core.board.rules.access import PROBE_MM
from zesty_trace.core.catalogue import models as m
from zesty_trace.core.circuit.analysis import Spread, branch_spread, worst_case
from zesty_trace.core.circuit.bus import bus_addresses
from zesty_trace.core.circuit.network import Element, Network
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Pin
from zesty_trace.core.design.variants import known_variant
from zesty_trace.core.progress import Report, quiet
from zesty_trace.core.quantities import mm, say
from zesty_trace.errors import Cancelled

StepKind = Literal["resistance", "power on", "voltage", "current", "bus", "controller", "device", "lights"]
METER_ERROR = 0.005
OHM_ERROR, LEADS_OHM = 0.01, 0.5
CURRENT_MARGIN = 0.10  # the model's supply currents are typical figures
SHORT_OHM = 10.0
RESISTANCE_SHARE = 0.2  # parts have paths that the model leaves out, common practice
WIDEST_SPREAD = 0.3  # a voltage that part tolerances move further says little
CHANGE_V = 0.3
METER_INPUT_OHM = 1e7  # common practice for a digital multimeter on a voltage range
CHIPS = (m.Supplied, m.Supply, m.Charger)
PRESS_OHM = 5.0
PIN_OHM = 1e5  # what the pin of an unpowered chip may conduct, common practice
CHIP_OHM = 3.0  # under this a net hangs on a chip, which is taken to conduct through 1 Ω
METER_COUNTS_V = 0.0005


@dataclass(frozen=True)
class BenchStep:
    """One measurement: its limits, the state that the board must be in, and whether a failure ends this board's test.

    `drive` are the outputs that the controller has on, `lit` tells that its lights are to shine, `press` is a button
    to hold down, `feed` where the supply goes in. `unclear` are devices that this step cannot tell apart.
    """

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
    other: str = ""
    other_probe: str = ""
    feed: str = ""
    volt: float = 0.0
    limit_a: float = 0.0
    drive: tuple[str, ...] = ()
    lit: bool = False
    press: str = ""
    ref: str = ""
    unclear: tuple[str, ...] = ()

    @property
    def powered(self) -> bool:
        """Whether the board must have power for it."""
        return self.kind != "resistance"


@dataclass(frozen=True)
class Inlet:
    """A place where the board is fed: the connector, its net, and where probes touch that and ground."""

    ref: str
    net: str
    probe: str = ""
    ground_probe: str = ""


@dataclass(frozen=True)
class BenchPlan:
    """All steps for one variant, what must be plugged in for them, and what no step can see."""

    variant: str
    ground: str
    supply_net: str
    supply_v: float
    current_limit_a: float
    steps: tuple[BenchStep, ...]
    setup: tuple[str, ...] = ()
    unreached: tuple[str, ...] = ()
    checksum: str = field(default="", compare=False)

    @property
    def inlets(self) -> tuple[Inlet, ...]:
        """Where the plan feeds the board, the first place first: there it is proved to have no voltage."""
        found = {
            s.feed: Inlet(s.feed, s.net, s.probe, s.other_probe) for s in reversed(self.steps) if s.kind == "power on"
        }
        first = [i for i in found.values() if i.net == self.supply_net]
        return (*first, *(i for i in reversed(found.values()) if i.net != self.supply_net))


def supply_entry(wired: Wired) -> str:
    """Return the net at the board's inlet. EditError if there is none."""
    return feeds(wired)[0].net


def divider_nets(wired: Wired) -> list[str]:
    """Return nets that two or more resistors hold between supplies."""
    design = wired.design
    rails = {*wired.rails, wired.ground}
    found = []
    for net, pins in design.nets.items():
        ends = {wired.beyond(p) for p in pins if wired.two_terminal(p.ref) and wired.kind(p.ref).is_a(m.Resistor)}
        if net not in rails and len(ends & rails) >= 2:
            found.append(net)
    return found


def make_plan(wired: Wired, variant: str = "", report: Report = quiet) -> BenchPlan:
    """Return the test plan for boards of `variant`.

    EditError without a supply inlet; SolveError if unsolvable; Cancelled if `report` returns False.
    """
    design = wired.design
    design = design.fitted(known_variant(design, variant))
    planner = _Planner(wired.with_design(design), report)
    entry = planner.feeds[0]
    planner.without_power()
    limit = planner.at_rest(entry)
    planner.talking(entry)
    planner.outputs(entry)
    for feed in planner.feeds[1:]:
        planner.at_rest(feed)
    steps = tuple(planner.steps)
    plan = BenchPlan(
        variant, planner.ground, entry.net, entry.volt, limit, steps, planner.setup(), tuple(planner.unreached)
    )
    return replace(plan, checksum=_checksum(plan))


def _checksum(plan: BenchPlan) -> str:
    """Return a checksum of what is measured and within which limits, to three digits: readings belong to one plan."""

    def rounded(value: object) -> object:
        return float(f"{value:.3g}") if isinstance(value, float) else value

    rows = [
        {k: rounded(v) for k, v in asdict(s).items() if k not in ("why", "probe", "other_probe")} for s in plan.steps
    ]
    return hashlib.sha256(msgspec.json.encode([plan.variant, plan.ground, rows])).hexdigest()[:16]


@dataclass(frozen=True)
class _Ohms:
    """A resistance, Ω: with the usual leakage of chips, without any, and with every chip conducting.

    Spreads as shares.
    """

    nominal: float
    most: float
    spread: float
    least: float
    least_spread: float


class _Planner:
    """Collects the steps."""

    def __init__(self, wired: Wired, report: Report) -> None:
        design = wired.design
        self.wired, self.design, self._report = wired, design, report
        self.ground = wired.ground or "GND"
        self.drivers = frozenset(controllers(wired))
        self.feeds = feeds(wired)
        self.rails = [n for n in wired.rails if n != self.ground]
        self.probes, reached = _probes(wired)
        self.reached = [n for n in design.nets if n != self.ground and n in reached]
        self.unreached = [n for n in design.nets if n != self.ground and n not in reached]
        self.thevenin: dict[str, float] = {}
        self.steps: list[BenchStep] = []

    def _tell(self, share: float, text: str) -> None:
        if not self._report(share, text):
            raise Cancelled

    def add(self, kind: StepKind, title: str, net: str, why: str, **more: object) -> None:
        fields: dict[str, object] = {"low": None, "high": None, "expected": None, "unit": "", "stops": False, **more}
        other = str(fields.get("other") or "")
        self.steps.append(
            BenchStep(
                number=len(self.steps) + 1,
                kind=kind,
                title=title,
                net=net,
                why=why,
                probe=self.probes.get(net, ""),
                other_probe=self.probes.get(other or self.ground, ""),
                **fields,  # type: ignore[arg-type]
            )
        )

    # Without power ------------------------------------------------------------------------------------------------

    def without_power(self) -> None:
        """Add every supply to ground and to every other supply, then every other net that a probe reaches to ground."""
        self._tell(0.0, "resistances")
        network = bench_network(self.wired, self.feeds[0])
        others = [n for n in self.reached if n not in self.rails]
        held = self._held_up()
        pairs = [(n, self.ground) for n in (*self.rails, *others)] + list(combinations(self.rails, 2)) + held
        nominal = resistances(network, pairs, self.drivers)
        most = resistances(network, pairs, self.drivers, leaks=False)
        least = resistances(self._chips_conducting(network), pairs, self.drivers)
        ohms = {
            p: _Ohms(*(float(x) for x in row))
            for p, *row in zip(pairs, nominal.ohm, most.ohm, most.spread, least.ohm, least.spread, strict=True)
        }
        self.thevenin = {a: ohms[a, b].nominal for a, b in pairs if b == self.ground and a not in self.rails}
        for net in self.rails:
            why = "A short found now costs a minute; with power on it costs parts."
            self._resistance(net, self.ground, ohms[net, self.ground], why, True)
        for a, b in combinations(self.rails, 2):
            why = "Two supplies that touch kill what hangs on the lower one."
            self._resistance(a, b, ohms[a, b], why, True)
        for net in others:
            why = "Compared with the model: a missing, wrong or bridged part shows here."
            self._resistance(net, self.ground, ohms[net, self.ground], why, False)
        for net, rail in held:
            why = "The resistor that holds it up, measured across itself."
            self._resistance(net, rail, ohms[net, rail], why, False)
        self._buttons()

    def _held_up(self) -> list[tuple[str, str]]:
        """Return (net, supply) of each net that one resistor holds to a supply."""
        net_of = self.design.net_of()
        found = []
        for ref in self.design.parts:
            kind = self.wired.kind(ref)
            if not kind.is_a(m.Resistor) or len(kind.pins) != 2 or kind.connector:
                continue
            ends = [net_of.get(Pin(ref, s.number), "") for s in kind.pins]
            for net, rail in (ends, ends[::-1]):
                if rail in self.rails and net in self.reached and net not in self.rails:
                    found.append((net, rail))
        return list(dict.fromkeys(found))

    def _chips_conducting(self, network: Network) -> Network:
        """Return the circuit with every pin of a chip held to ground: no real board can read lower than that."""
        extra = []
        for net in self.reached:
            if any(self.wired.kind(p.ref).is_a(*CHIPS) for p in self.design.nets[net]):
                extra.append(Element(f"leak {net}", "resistor", (net, self.ground), {"ohm": 1.0}))
        return network.with_elements(extra)

    def _resistance(self, a: str, b: str, ohms: _Ohms, why: str, stops: bool) -> None:
        chip = ohms.least < CHIP_OHM
        if stops or chip:
            low = RESISTANCE_SHARE * min(ohms.nominal, PIN_OHM)
            low = max(SHORT_OHM, low) if low >= SHORT_OHM else min(SHORT_OHM, 0.5 * ohms.nominal)
        else:
            low = ohms.least * (1 - ohms.least_spread - OHM_ERROR) - LEADS_OHM
        if ohms.nominal < 2 * LEADS_OHM:
            low = 0.0  # joined on purpose, by a fuse or a link
        high = None if ohms.most >= OPEN_OHM else ohms.most * (1 + ohms.spread + OHM_ERROR) + LEADS_OHM
        if low <= 0 and high is None:
            return
        self.add(
            "resistance",
            f"{a} to {b}",
            a,
            why,
            low=max(0.0, low),
            high=high,
            expected=ohms.nominal,
            unit="Ω",
            stops=stops,
            other="" if b == self.ground else b,
        )

    def _buttons(self) -> None:
        net_of = self.design.net_of()
        for ref in self.design.parts:
            kind = self.wired.kind(ref)
            ends = [p for p in (Pin(ref, s.number) for s in kind.pins) if p in net_of]
            if kind.prefix != "SW" or len(kind.pins) != 2 or len(ends) != 2 or not kind.flipped:
                continue
            a, b = net_of[ends[0]], net_of[ends[1]]
            a, b = (b, a) if a == self.ground else (a, b)
            if a in (b, self.ground):
                continue
            self.add(
                "resistance",
                f"{ref} held down: {a} to {b}",
                a,
                "A button that does not close, or closes onto another net.",
                high=PRESS_OHM,
                expected=0.1,
                unit="Ω",
                other="" if b == self.ground else b,
                press=ref,
            )

    # With power ---------------------------------------------------------------------------------------------------

    def at_rest(self, feed: Feed) -> float:
        """Add power on, voltages and current at rest, fed at one place; return the current limit."""
        self._tell(0.2, f"fed at {feed.ref}")
        solution, spreads = worst_case(network := bench_network(self.wired, feed))
        drawn = branch_spread(solution, _source(network, feed), 1)
        limit = round(max(0.05, drawn.high * 1.5 + 0.02), 2)
        state = {"feed": feed.ref, "volt": feed.volt, "limit_a": limit}
        first = feed is self.feeds[0]
        self.add(
            "power on",
            f"Power on at {feed.ref}, {say(feed.volt, 'V')}",
            feed.net,
            "A limited supply keeps a fault from becoming smoke.",
            high=limit,
            unit="A",
            stops=first,
            **state,
        )
        for net in [*self.rails, *(n for n in self.reached if n not in self.rails)]:
            spread = spreads.get(net)
            if spread and (net in self.rails or _telling(spread)):
                if not first and spread.nominal < CHANGE_V:
                    continue
                self._voltage(net, spread, net, **state)
        self.add(
            "current",
            "Supply current at rest" if first else f"Supply current, fed at {feed.ref}",
            feed.net,
            f"Part tolerances, and {CURRENT_MARGIN:.0%} since supply currents are typical figures.",
            low=drawn.low * (1 - CURRENT_MARGIN),
            high=drawn.high * (1 + CURRENT_MARGIN),
            expected=drawn.nominal,
            unit="A",
            **state,
        )
        return limit

    def _voltage(self, net: str, s: Spread, title: str, **state: object) -> None:
        own = abs(s.nominal) * METER_ERROR + METER_COUNTS_V
        through = self.thevenin.get(net, 0.0)
        loaded = abs(s.nominal) * (through / (through + METER_INPUT_OHM) if through < OPEN_OHM else 0.5)
        self.add(
            "voltage",
            title,
            net,
            f"Worst-case sum of part tolerances, the meter's {METER_ERROR:.1%} and its input.",
            low=s.low - own - loaded,
            high=s.high + own,
            expected=s.nominal,
            unit="V",
            **state,
        )

    def talking(self, feed: Feed) -> None:
        """Add what must answer: controllers, devices on the bus, devices behind a controller."""
        state = {"feed": feed.ref, "volt": feed.volt, "limit_a": self.steps[-1].limit_a}
        for ref in controllers(self.wired):
            if link_lines(self.wired, ref):
                why = "Over each of its lines to a connector, so that none of them is open or bridged."
                self.add(
                    "controller", f"{ref} answers", "", why, unit="answer", expected=1.0, low=1.0, ref=ref, **state
                )
        devices = bus_devices(self.wired)
        addresses = {r: a for r, a in bus_addresses(self.wired).items() if r in devices}
        found = sorted({a for a in addresses.values() if a is not None})
        if addresses:
            twice = {a for a, n in Counter(addresses.values()).items() if n > 1}
            unclear = tuple(r for r, a in addresses.items() if a is None or a in twice)
            self.add(
                "bus",
                "Bus answers",
                "",
                "Every device must answer at its own address, and no other.",
                expected=float(len(found)),
                unit="devices",
                addresses=tuple(found),
                unclear=unclear,
                **state,
            )
        for ref in self.design.parts:
            if device_lines(self.wired, ref):
                why = "The controller reaches it over all its lines."
                self.add("device", f"{ref} answers", "", why, unit="answer", expected=1.0, low=1.0, ref=ref, **state)

    def outputs(self, feed: Feed) -> None:
        """Add each output on by itself, all on together, and all lights lit."""
        outputs = output_nets(self.wired)
        rest = worst_case(bench_network(self.wired, feed))[1]
        chosen: list[tuple[str, tuple[str, ...], bool]] = [(f"{n} on", (n,), False) for n in outputs]
        if len(outputs) > 1:
            chosen.append(("all outputs on", tuple(outputs), False))
        if lights_of(self.wired):
            chosen.append(("all lights lit", (), True))
        for k, (title, nets, lit) in enumerate(chosen):
            self._tell(0.4 + 0.6 * k / len(chosen), title)
            high = frozenset(p for n in nets for p in outputs[n])
            dark: frozenset[str] | None = frozenset() if lit else None
            solution, spreads = worst_case(network := bench_network(self.wired, feed, high, dark))
            drawn = branch_spread(solution, _source(network, feed), 1)
            state: dict[str, object] = {
                "feed": feed.ref,
                "volt": feed.volt,
                "limit_a": round(max(0.05, drawn.high * 1.5 + 0.02), 2),
                "drive": nets,
                "lit": lit,
            }
            self.add(
                "current",
                f"Supply current, {title}",
                feed.net,
                "What this output switches shows in the supply.",
                low=drawn.low * (1 - CURRENT_MARGIN),
                high=drawn.high * (1 + CURRENT_MARGIN),
                expected=drawn.nominal,
                unit="A",
                **state,
            )
            if lit:
                count = len(lights_of(self.wired))
                self.add(
                    "lights",
                    "Lights that shine",
                    "",
                    "A light without supply, or without data, stays dark.",
                    low=float(count),
                    high=float(count),
                    expected=float(count),
                    unit="lights",
                    **state,
                )
            for net in self._moved(rest, spreads) if len(nets) == 1 else ():
                self._voltage(net, spreads[net], f"{net}, {title}", **state)

    def _moved(self, rest: dict[str, Spread], now: dict[str, Spread]) -> Iterable[str]:
        """Return the nets on which this output shows, at the load above all."""
        for net in self.reached:
            if net in rest and net in now and abs(now[net].nominal - rest[net].nominal) > CHANGE_V:
                yield net

    def setup(self) -> tuple[str, ...]:
        """Return what must be plugged in, taken out and set before the test, in sentences."""
        entry = self.feeds[0]
        words = [
            f"Connect the bench supply to {entry.ref} ({say(entry.volt, 'V')}), plus on {entry.net}; leave it off."
        ]
        words += [f"Leave {f.ref} unplugged until it is asked for." for f in self.feeds[1:] if not self._is_cell(f)]
        words += [f"Take the cell out of {f.ref}." for f in self.feeds if self._is_cell(f)]
        for ref, part in self.design.parts.items():
            kind = self.wired.kind(ref)
            if kind.connector and kind.is_a(m.Load, m.CurrentLoad, m.Resistor):
                rated = f" ({part.value})" if part.value else ""
                words.append(f"Plug in at {ref}: {kind.title}{rated}.")
        if lights_of(self.wired):
            words.append("The lights must be dark until they are asked for.")
        if output_nets(self.wired):
            words.append("All outputs must be off until they are asked for: the board needs its test program.")
        return tuple(words)

    def _is_cell(self, feed: Feed) -> bool:
        return self.wired.kind(feed.ref).is_a(m.Battery)


def _telling(s: Spread) -> bool:
    return abs(s.nominal) > 0.05 and (s.high - s.low) < WIDEST_SPREAD * abs(s.nominal)


def _source(network: Network, feed: Feed) -> int:
    return next(k for k, e in enumerate(network.elements) if e.type == "source" and e.name == feed.ref)


def _probes(wired: Wired) -> tuple[dict[str, str], set[str]]:
    """Return net -> where a probe touches it best, and the nets that a hand-held probe can reach at all.

    A test point first, then a through-hole pin, then the widest pad.
    """
    design = wired.design
    from zesty_trace.core.board.copper import pattern_of

    found: dict[str, str] = {}
    reached: set[str] = set()
    for net, pins in design.nets.items():
        best, score = "", 0.0
        for p in pins:
            point = wired.kind(p.ref).prefix == "TP"
            pads = [q for q in pattern_of(wired, p.ref).pads if q.number == p.number]
            width = max((mm(min(q.width_nm, q.height_nm)) for q in pads), default=0.0)
            hole = any(q.drill_nm for q in pads)
            rank = 1000.0 if point else 100.0 + width if hole else width
            if point or hole or width >= PROBE_MM:
                reached.add(net)
            if rank > score:
                best, score = (p.ref if point else str(p)), rank
        found[net] = best
    return found, reached
