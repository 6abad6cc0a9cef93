"""Heat and current in copper against closed forms: bars, discs, fins, plates, barrels."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.special import k0, k1
from shapely import Polygon, affinity, box
from shapely.geometry import LineString, Point

from tests.corpus import cases
from zesty_trace.core.board.fields.conduction import _Hole, barrel_ohm, resistance, sheet_ohm, solve
from zesty_trace.core.board.fields.density import Flow
from zesty_trace.core.board.fields.heat import AIR_W_M2K, heat_picture, solve_plate
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.board.router import route
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Pin
from zesty_trace.errors import EditError

pytestmark = pytest.mark.campaign
EMPTY = Polygon()


def between(area, one, two, holes=(), other=EMPTY, far="top") -> float | None:
    solved = solve({"top": area, "bottom": other}, list(holes), ([("top", one)], [(far, two)]), [1.0, 1.0], 1.6)
    return solved.resistance_ohm if solved else None


def test_a_square_of_copper_is_half_a_milliohm() -> None:
    assert sheet_ohm(35) == pytest.approx(0.49e-3, rel=0.01)  # common practice: 0.5 mohm a square at 35 um
    # 0.3 mm drill, 25 um plating, 1.6 mm: about 1.2 mohm by rho L / (pi d t)
    assert barrel_ohm(0.3, 1.6) == pytest.approx(1.7241e-8 * 1.6e-3 / (math.pi * 0.3e-3 * 25e-6))


@pytest.mark.parametrize("angle", [0, 30, 45])
@pytest.mark.parametrize("squares", [1, 10, 40])
def test_a_bar_has_as_many_squares_as_it_is_long(squares: int, angle: int) -> None:
    wide = 0.5
    bar = box(0, 0, squares * wide, wide)
    ends = box(-0.01, 0, 0.001, wide), box(squares * wide - 0.001, 0, squares * wide + 0.01, wide)
    turned = [affinity.rotate(s, angle, origin=(0, 0)) for s in (bar, *ends)]
    assert between(*turned) == pytest.approx(squares, rel=0.02)


def test_a_ring_conducts_by_the_logarithm_of_its_radii() -> None:
    inner, outer = 1.0, 8.0
    ring = Point(0, 0).buffer(outer, quad_segs=64).difference(Point(0, 0).buffer(inner, quad_segs=64))
    rim = Point(0, 0).buffer(outer + 0.1, quad_segs=64).difference(Point(0, 0).buffer(outer - 0.005, quad_segs=64))
    hub = Point(0, 0).buffer(inner + 0.005, quad_segs=64)
    assert between(ring, hub, rim) == pytest.approx(math.log(outer / inner) / (2 * math.pi), rel=0.02)


def test_two_ways_side_by_side_have_half_the_resistance() -> None:
    ways = [LineString([(0, 0), (0, y), (10, y), (10, 0)]).buffer(0.2, cap_style="square") for y in (4, -4)]
    ends = Point(0, 0).buffer(0.3), Point(10, 0).buffer(0.3)
    alone = between(ways[0], *ends)
    both = between(ways[0].union(ways[1]), *ends)
    assert alone is not None
    assert both == pytest.approx(alone / 2, rel=0.03)


def test_a_via_adds_its_barrel() -> None:
    hole = _Hole(9.5, 0.5, 0.8, 0.3)
    top, bottom = box(0, 0, 10, 1), box(9, 0, 19, 1)
    ends = box(-0.01, 0, 0.001, 1), box(18.999, 0, 19.01, 1)
    through = between(top, *ends, holes=[hole], other=bottom, far="bottom")
    assert through is not None
    assert through == pytest.approx(18 + barrel_ohm(0.3, 1.6), rel=0.05)  # 9 squares each way to the ring, at 1 ohm
    assert between(top, *ends, other=bottom, far="bottom") is None  # without the hole nothing joins them


def test_pins_of_a_routed_board() -> None:
    wired = cases.faultless(list(cases.prototypes())[20])
    wired = wired.with_design(route(wired.with_design(place_rest(wired))).design)
    net = next(n for n, pins in wired.design.nets.items() if len(pins) > 1 and n != wired.ground)
    a, b = wired.design.nets[net][:2]
    found = resistance(wired, a, b).resistance_ohm
    assert 1e-5 < found < 0.5
    assert resistance(wired, b, a).resistance_ohm == pytest.approx(found, rel=2e-3)
    with pytest.raises(EditError, match="not two places"):
        resistance(wired, a, next(p for n, pins in wired.design.nets.items() if n != net for p in pins))
    with pytest.raises(EditError, match="no pad"):
        resistance(wired, a, Pin("X9", "1"))


def test_between_two_places_of_a_bar_there_are_so_many_squares() -> None:
    """R = rho l / (w t): what the tips themselves add is the same wherever they touch, and falls out."""
    from tests.core.test_four_layers import bar
    from zesty_trace.core.board.fields.conduction import Probe

    wired = bar("bottom")
    (track,) = wired.design.board.tracks
    (x0, y0), (x1, _) = ((x / 1e6, y / 1e6) for x, y in track.points)
    a, near, far = (Probe(min(x0, x1) + dx, y0, "bottom") for dx in (4.0, 8.0, 14.0))
    short, long = (resistance(wired, a, b).resistance_ohm for b in (near, far))
    assert long - short == pytest.approx(sheet_ohm(35.0) * 6.0 / 0.5, rel=0.01)
    with pytest.raises(EditError, match="no copper at 4, -30 mm on bottom"):
        resistance(wired, a, Probe(4.0, -30.0, "bottom"))
    with pytest.raises(EditError, match="no copper"):
        resistance(wired, a, Probe(near.x_mm, near.y_mm, "top"))


def test_a_fin_cools_by_the_hyperbolic_cotangent() -> None:
    """A bar heated at one end: rise = P / (w sqrt(h k t)) coth(m L), m = sqrt(h / (k t)), h of both faces together."""
    cell, sheet, air, power = 0.25, 0.03, 20.0, 0.5
    inside = np.ones((8, 400), dtype=bool)
    source = np.zeros(inside.shape)
    source[:, 0] = power / 8
    rise = solve_plate(np.full(inside.shape, sheet), source, inside, air, cell)
    wide, long, m = 8 * cell * 1e-3, 400 * cell * 1e-3, math.sqrt(air / sheet)
    assert rise[0, 0] == pytest.approx(power / (wide * math.sqrt(air * sheet)) / math.tanh(m * long), rel=0.02)
    assert rise[0, 200] / rise[0, 0] == pytest.approx(math.cosh(m * long / 2) / math.cosh(m * long), rel=0.02)


def test_a_disc_of_heat_in_a_wide_plate() -> None:
    """Rise at the rim of a heated disc: P / (2 pi r k t m) K0(m r) / K1(m r)."""
    cell, sheet, air, power, radius = 0.5, 0.02, 40.0, 1.0, 5.0
    n = 280
    at = (np.arange(n) + 0.5) * cell - n * cell / 2
    off = np.hypot(at[None, :], at[:, None])
    ring = np.abs(off - radius) < cell / 2  # all of it goes in at the rim
    rise = solve_plate(np.full((n, n), sheet), ring * power / ring.sum(), np.ones((n, n), dtype=bool), air, cell)
    m, r = math.sqrt(air / sheet), radius * 1e-3
    hollow = power / (2 * math.pi * r * sheet * m) * k0(m * r) / k1(m * r)  # none flows inwards
    inner = 2 * math.pi * r * air * r / 2 / (power / hollow)  # the disc within loses some as well
    assert rise[ring].mean() == pytest.approx(hollow / (1 + inner), rel=0.02)


def test_all_that_goes_in_comes_out(mended_board: Wired) -> None:
    picture = heat_picture(mended_board)
    inside = np.isfinite(picture.rise_k)
    out = float(picture.rise_k[inside].sum()) * 2 * AIR_W_M2K * (picture.cell_mm * 1e-3) ** 2
    placed = mended_board.design.board.placements
    assert out == pytest.approx(sum(h.power_w for h in analyse(mended_board).heats() if h.ref in placed), rel=1e-6)
    assert picture.parts[0].rise_k == max(p.rise_k for p in picture.parts)
    assert picture.hottest_k == pytest.approx(picture.parts[0].rise_k)


@pytest.fixture(scope="module")
def mended_board() -> Wired:
    wired = cases.faultless(list(cases.prototypes())[1])
    return wired.with_design(place_rest(wired))


def in_the_middle(flow: Flow) -> float:
    """The density in the middle of the bar, where nothing disturbs it."""
    x = flow.mesh.points[flow.mesh.triangles].mean(axis=1)[:, 0]
    layer = flow.mesh.layer_of[flow.mesh.triangles[:, 0]]
    there = (x > 14) & (x < 25) & (layer == flow.layers.index(flow.densest_on))
    assert np.ptp(flow.density_a_mm2[there]) < 0.01
    return float(flow.density_a_mm2[there].mean())


def test_the_density_of_a_bar_is_its_current_over_its_section() -> None:
    from tests.core.test_four_layers import bar
    from zesty_trace.core.board.fields.density import _solved
    from zesty_trace.core.design.model import Pin

    wired = bar("bottom")
    flow = _solved(wired, "A", "", {Pin("R1", "1"): -1.0, Pin("R2", "1"): 1.0}, 1.0)
    assert in_the_middle(flow) == pytest.approx(1.0 / (0.5 * 0.035), rel=1e-4)  # A over width and thickness
    ohm = resistance(wired, Pin("R1", "1"), Pin("R2", "1")).resistance_ohm
    assert flow.drop_v == pytest.approx(ohm, rel=1e-6)  # 1 A
    assert flow.loss_w == pytest.approx(ohm, rel=1e-6)
    thin = _solved(bar("inner1"), "A", "", {Pin("R1", "1"): -2.0, Pin("R2", "1"): 2.0}, 2.0)
    assert in_the_middle(thin) == pytest.approx(2.0 / (0.5 * 0.0175), rel=1e-4)
    assert thin.densest_on == "inner1"


@pytest.mark.campaign
def test_the_flow_of_the_demo_is_that_of_its_heater(routed: Design, catalogue: Catalogue) -> None:
    from zesty_trace.core.board.fields.density import busiest_net, flow_of

    wired = Wired(routed, catalogue)
    flow = flow_of(wired, busiest_net(wired))
    peaks = analyse(wired).pin_peaks()
    assert flow.current_a <= sum(peaks[p] for p in wired.design.nets[flow.net] if p in peaks)
    assert flow.loss_w <= flow.current_a * flow.drop_v * 1.001
    assert 0 < flow.drop_v < 0.5
    widest = max(t.width_nm for t in routed.board.tracks if t.net == flow.net) / 1e6
    assert flow.most_a_mm2 > 0.5 * flow.current_a / (widest * 0.035)
    with pytest.raises(EditError, match="no net"):
        flow_of(wired, "NOWHERE")
