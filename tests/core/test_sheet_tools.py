"""Netlists, finding, reading order, label room, edits drawn at once, heat with copper, spread of currents."""

from __future__ import annotations

import csv
import io
import json
import math
import random
import re
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import networkx as nx
import numpy as np
import pytest
from PIL import ImageFont

import zesty_trace
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit import analysis
from zesty_trace.core.circuit.build import build_network, build_networks
from zesty_trace.core.circuit.network import Element, Network, shape_of
from zesty_trace.core.circuit.solver import solve, solve_alike
from zesty_trace.core.circuit.states import operating_states
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Brief, Design, Part, Pin
from zesty_trace.core.review.heat import _with_copper
from zesty_trace.core.review.rules import review
from zesty_trace.core.schematic.amend import amend
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.labels import labels_on
from zesty_trace.core.schematic.letters import LEAST_SIZE, text_width
from zesty_trace.core.schematic.quality import wire_quality
from zesty_trace.core.schematic.sheet import reading_order
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.core.tables.netlist import netlist_csv, netlist_json
from zesty_trace.core.tables.rows import ImportFailed
from zesty_trace.core.wording.find import find
from zesty_trace.core.wording.sentences import say
from zesty_trace.errors import Cancelled, ZestyError

from .test_schematic import check_connections

# Netlist and finding --------------------------------------------------------------------------------------------------


def test_netlists_say_the_same_as_the_design(mended: Design, catalogue: Catalogue) -> None:
    """networkx: the components of both files' pin graphs are the design's nets."""
    rows = list(csv.DictReader(io.StringIO(netlist_csv(Wired(mended, catalogue)))))
    data = json.loads(netlist_json(Wired(mended, catalogue)))
    graph = nx.Graph()
    graph.add_edges_from((("net", r["net"]), (r["ref"], r["pin"])) for r in rows)
    from_csv = {frozenset(n for n in c if n[0] != "net") for c in nx.connected_components(graph)}
    from_json = {frozenset((p["ref"], p["pin"]) for p in pins) for pins in data["nets"].values()}
    assert from_csv == from_json == {frozenset((p.ref, p.number) for p in pins) for pins in mended.nets.values()}
    assert data["parts"]["U2"]["kind"] == "regulator_3v3"


def test_find_by_reference_value_net_and_marking(mended: Design, catalogue: Catalogue) -> None:
    assert find("u3", Wired(mended, catalogue))[0].ref == "U3"
    assert {f.ref for f in find("330", Wired(mended, catalogue))[:3]} == {"R14", "R15", "R16"}
    assert find("HEATER", Wired(mended, catalogue))[0].net == "HEATER"
    by_bands = [f.ref for f in find("orange orange brown gold", Wired(mended, catalogue))]
    assert set(by_bands) == {"R14", "R15", "R16"}  # IEC 60062: 33 x 10 Ω
    assert "R17" in {f.ref for f in find("473", Wired(mended, catalogue))}  # 47 k
    assert find("   ", Wired(mended, catalogue)) == []
    assert find("no such thing", Wired(mended, catalogue)) == []


def test_reading_order_goes_down_the_bands_and_to_the_right(mended: Design, catalogue: Catalogue) -> None:
    sheet = arrange(Wired(mended, catalogue))
    order = reading_order(sheet)
    spot = {s.ref: (s.band, s.x) for s in sheet.symbols}
    assert [spot[r] for r in order] == sorted(spot.values())


# Labels ---------------------------------------------------------------------------------------------------------------


def test_nothing_is_written_over_anything(mended: Design, catalogue: Catalogue) -> None:
    """By the rectangles of all letters: none meets another, a body of another part, or a piece of wire."""
    wired = Wired(mended, catalogue)
    sheet = arrange(wired)
    said = [(s.ref, label) for s, labels in labels_on(sheet.symbols, wired, wired.net_of) for label in labels]
    pieces = [b for w in sheet.wires for b in w.pieces]
    for k, (ref, label) in enumerate(said):
        box = label.box()
        assert not any(box.meets(other.box()) for _, other in said[:k]), label
        assert not any(s.ref != ref and s.body().meets(box) for s in sheet.symbols), label
        assert not any(p.grown(0.05).meets(box) for p in pieces), label
        assert label.size >= LEAST_SIZE


def test_widths_of_letters_are_those_of_the_font() -> None:
    """Against Pillow, which reads the shipped font itself; one hundredth is lost to rounding for each letter."""
    folder = Path(zesty_trace.__file__).parent / "data" / "fonts"
    for name, bold in (("Inter-Regular", False), ("Inter-Bold", True)):
        font = ImageFont.truetype(str(folder / f"{name}.otf"), 1000)
        for text in ("R14", "470u 50 V", "LED_READY", "Humidity and temp", "NRST"):
            assert text_width(text, 1.0, bold) == pytest.approx(font.getlength(text) / 1000, abs=0.03 * len(text))


# Edits drawn at once --------------------------------------------------------------------------------------------------


def _some_edit(rng: random.Random, design: Design, catalogue: Catalogue, step: int) -> Design:
    pins = [p for p, _ in Wired(design, catalogue).pins()]
    pin, net = rng.choice(pins), rng.choice(list(design.nets))
    kind = rng.randrange(5)
    if kind == 0:
        return edits.disconnect(design, rng.choice(list(design.net_of())))
    if kind == 1:
        return edits.connect(edits.disconnect(design, pin) if pin in design.net_of() else design, pin, net)
    if kind == 2:
        return edits.remove_part(design, rng.choice(list(design.parts)))
    if kind == 3:
        return edits.join_pins(design, pin, rng.choice(pins))
    return say(f"{pin} - R{900 + step} 1k - {net}", Wired(design, catalogue))


@pytest.mark.parametrize("name", ["proofing", "tide-dial", "sensor-node"])
@pytest.mark.parametrize("seed", range(3))
def test_any_run_of_edits_is_drawn_as_the_nets_say(name: str, seed: int, catalogue: Catalogue) -> None:
    from importlib.resources import files

    root = files("zesty_trace") / "data" / "demo" / name
    design = import_prototype(*((root / f).read_text("utf-8") for f in ("parts.csv", "wiring.csv")), catalogue)
    sheet, rng = arrange(Wired(design, catalogue)), random.Random(seed)
    done = 0
    for step in range(14):
        try:
            after = _some_edit(rng, design, catalogue, step)
        except ZestyError:
            continue
        sheet = amend(sheet, design, Wired(after, catalogue))
        design = after
        assert wire_quality(sheet.wires, sheet.symbols)["overlaps"] == 0
        check_connections(sheet, design)
        done += 1
    assert done > 4


def test_arranging_reports_and_can_be_stopped(mended: Design, catalogue: Catalogue) -> None:
    shares: list[float] = []
    arrange(Wired(mended, catalogue), report=lambda share, _text: shares.append(share) is None)
    assert shares == sorted(shares)
    assert len(shares) > 10
    with pytest.raises(Cancelled):
        arrange(Wired(mended, catalogue), report=lambda share, _text: share < 0.3)


def test_pins_that_share_several_signals_face_each_other(catalogue: Catalogue) -> None:
    """The radio of the sensor node: its serial lines run straight to the controller."""
    from importlib.resources import files

    root = files("zesty_trace") / "data" / "demo" / "sensor-node"
    design = import_prototype(*((root / f).read_text("utf-8") for f in ("parts.csv", "wiring.csv")), catalogue)
    sheet = arrange(Wired(design, catalogue))
    straight = [w for w in sheet.wires if w.net in ("SCK", "MOSI", "MISO") and len(w.points) == 2]
    assert len(straight) == 3


# Circuit --------------------------------------------------------------------------------------------------------------


def test_states_solved_together_are_as_solved_alone(mended: Design, catalogue: Catalogue) -> None:
    networks = build_networks(Wired(mended, catalogue), operating_states(Wired(mended, catalogue)))
    assert len({shape_of(n) for n in networks}) == 1
    for network, together in zip(networks, solve_alike(networks), strict=True):
        alone = solve(network)
        for node in network.nodes():
            assert together.voltage(node) == pytest.approx(alone.voltage(node), abs=1e-7)


def test_current_spread_of_a_divider_is_that_of_its_resistors() -> None:
    """Analytic: I = V / (R1 + R2).

    With tolerance t at three sigma, sigma_I / I = t / 3 x sqrt(R1^2 + R2^2) / (R1 + R2).
    """
    elements = (
        Element("V", "source", ("a", "0"), {"volt": 10, "ohm": 1e-6}),
        Element("R1", "resistor", ("a", "b"), {"ohm": 3000}, (Pin("R1", "1"), Pin("R1", "2")), {"ohm": 0.05}),
        Element("R2", "resistor", ("b", "0"), {"ohm": 1000}, (Pin("R2", "1"), Pin("R2", "2")), {"ohm": 0.05}),
    )
    solution, _ = analysis.monte_carlo(Network(elements, "0"), 20_000)
    spread = analysis.current_spreads(solution)["R1"]
    sigma = 0.0025 * 0.05 / 3 * math.hypot(3000, 1000) / 4000
    assert spread.nominal == pytest.approx(0.0025, rel=1e-3)
    assert spread.high - spread.nominal == pytest.approx(3.09 * sigma, rel=0.1)  # 99.9 % of a normal distribution


def test_copper_takes_heat_away_as_application_notes_show(catalogue: Catalogue) -> None:
    """A small tab package, about 150 °C/W bare, comes to some 65 °C/W on a square inch (from memory)."""
    assert analysis.theta_with_copper(150, 0) == 150
    assert 55 < analysis.theta_with_copper(150, 645) < 75
    areas = np.array([analysis.theta_with_copper(150, a) for a in (0, 50, 100, 300, 1000)])
    assert (np.diff(areas) < 0).all()
    assert analysis.copper_mm2(Part(ref="U1", kind="x", notes="spare, 300 mm2 copper")) == 300
    assert analysis.copper_mm2(Part(ref="U1", kind="x", notes="200 mm² of copper")) == 200
    assert analysis.copper_mm2(Part(ref="U1", kind="x", notes="copper")) == 0


def test_stated_copper_cools_the_regulator_of_the_demo(demo: Design, catalogue: Catalogue) -> None:
    def hottest(design: Design) -> float:
        return next(h.temperature_c for h in analysis.analyse(Wired(design, catalogue)).heats() if h.ref == "U2")

    noted = edits.change_part(demo, "U2", notes="400 mm2 copper")
    assert hottest(noted) < 100 < hottest(demo)
    assert "heat" in {f.rule for f in review(Wired(demo, catalogue))}
    assert "heat" not in {f.rule for f in review(Wired(noted, catalogue))}


def test_a_board_network_keeps_its_shape_whatever_is_high(mended: Design, catalogue: Catalogue) -> None:
    states = operating_states(Wired(mended, catalogue))
    first, last = (build_network(Wired(mended, catalogue), s) for s in (states[0], states[-1]))
    assert shape_of(first) == shape_of(last)
    assert first != last


# Import ---------------------------------------------------------------------------------------------------------------

USB_PARTS = "ref,kind,value\nJ1,usb_c_inlet,\nR1,resistor,5k1\nR2,resistor,5k1\n"
USB_WIRES = "net,ref,pin\n5V,J1,VBUS\n5V,J1,VBUS2\nGND,J1,GND\nGND,J1,GND2\n"
USB_WIRES += "A,J1,CC1\nA,R1,1\nB,J1,CC2\nB,R2,1\nGND,R1,2\nGND,R2,2\n"


def test_the_inlet_sets_the_supply_that_nobody_has_set(catalogue: Catalogue) -> None:
    from zesty_trace.core.review.brief import brief_findings

    fresh = import_prototype(USB_PARTS, USB_WIRES, catalogue)
    assert fresh.brief.supply_v == 5.0
    said = Design(brief=Brief(supply_v=9.0))
    kept = import_prototype(USB_PARTS, USB_WIRES, catalogue, said)
    assert kept.brief.supply_v == 9.0
    finding = next(f for f in brief_findings(Wired(kept, catalogue)) if f.rule == "own supply")
    assert "9 V" in finding.title
    assert finding.mend.apply(kept).brief.supply_v == 5.0
    assert not any(f.rule == "own supply" for f in brief_findings(Wired(fresh, catalogue)))


def test_an_unknown_kind_is_not_told_again_for_each_of_its_wires(catalogue: Catalogue) -> None:
    with pytest.raises(ImportFailed) as failed:
        import_prototype(USB_PARTS.replace("R1,resistor", "R1,resistorr"), USB_WIRES, catalogue)
    assert [(p.file, p.line) for p in failed.value.problems] == [("parts.csv", 3)]


def test_copper_that_is_stated_already_is_not_counted_twice(demo: Design, catalogue: Catalogue) -> None:
    """T = ambient + P x R0 (1 + A / 30 mm2)^-0.28, by hand from the bare part's own figures."""
    hot = edits.set_brief(demo, ambient_c=40.0)
    for notes in ("", "50 mm2 copper"):
        design = edits.change_part(hot, "U2", notes=notes)
        heat = next(h for h in analysis.analyse(Wired(design, catalogue)).heats() if h.ref == "U2")
        stated = analysis.copper_mm2(design.parts["U2"])
        bare = heat.theta_c_per_w * (1 + stated / 30) ** 0.28
        said = _with_copper(Wired(design, catalogue), heat)
        match = re.search(r"With (\d+) mm² of copper on its tab: (\d+) °C", said)
        assert match, said
        area, temperature = map(int, match.groups())
        assert area > stated
        assert temperature == round(40 + heat.power_w * bare * (1 + area / 30) ** -0.28)


def test_threads_that_ask_at_once_share_one_analysis(demo: Design, catalogue: Catalogue) -> None:
    fresh = Wired(edits.set_brief(demo, humidity_pct=51), catalogue)
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda _k: analysis.analyse(fresh), range(8)))
        solved = list(pool.map(lambda a: a.all(), found))
    assert len({id(a) for a in found}) == 1
    assert all(s[0] is solved[0][0] for s in solved)
