"""The board as a drawing, read back by ezdxf and by our own reader of outlines."""

from __future__ import annotations

from io import StringIO

import ezdxf
import numpy as np
import pytest
from benchmarks.random_boards import random_board
from shapely import Polygon
from shapely.geometry import LineString

from zesty_trace.core.board.board_dxf import board_dxf
from zesty_trace.core.board.copper import board_pads, hole_items, pad_shape
from zesty_trace.core.board.outline import rings_from_dxf
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.router import route
from zesty_trace.core.catalogue.kinds import shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.errors import EditError


@pytest.mark.campaign
def test_all_of_a_board_is_in_the_drawing() -> None:
    wired = random_board(8, 2)
    wired = wired.with_design(route(wired).design)
    drawing = ezdxf.read(StringIO(board_dxf(wired)))
    assert drawing.units == ezdxf.units.MM
    space = drawing.modelspace()
    board = wired.design.board
    (ring,) = space.query('LWPOLYLINE[layer=="OUTLINE"]')
    assert [(round(x * 1e6), round(y * 1e6)) for x, y in ring.get_points("xy")] == [tuple(p) for p in board.outline]
    round_holes = [h for h in hole_items(wired) if not h.slot]
    holes = sorted((c.dxf.center.x, c.dxf.center.y, 2 * c.dxf.radius) for c in space.query('CIRCLE[layer=="HOLES"]'))
    mine = sorted((h.x_nm / 1e6, h.y_nm / 1e6, h.drill_nm / 1e6) for h in round_holes)
    assert np.array(holes) == pytest.approx(np.array(mine))
    (outline,) = rings_from_dxf(board_dxf(wired))  # other layers are not taken for the outline
    assert set(outline) == set(board.outline)
    for layer in ("top", "bottom"):
        drawn = space.query(f'LWPOLYLINE[layer=="{layer.upper()}"]')
        long = sum(LineString(t.get_points("xy")).length for t in drawn)
        mine = [t for t in board.tracks if t.layer == layer]
        assert len(drawn) == len(mine)
        assert long == pytest.approx(sum(LineString(t.points).length for t in mine) / 1e6)
        assert {round(t.dxf.const_width, 6) for t in drawn} == {t.width_nm / 1e6 for t in mine}
        pads = space.query(f'LWPOLYLINE[layer=="{layer.upper()} PADS"]')
        area = sum(Polygon(p.get_points("xy")).area for p in pads)
        assert area == pytest.approx(sum(pad_shape(p).area for p in board_pads(wired) if layer in p.layers), rel=1e-6)
    rings = sum(len(a.geoms) + sum(len(g.interiors) for g in a.geoms) for _, a in pour_shapes(wired, "bottom"))
    assert len(space.query('LWPOLYLINE[layer=="BOTTOM POUR"]')) == rings > 0


def test_a_board_without_an_outline_is_refused() -> None:
    with pytest.raises(EditError, match="no outline"):
        board_dxf(Wired(Design(), shipped()))
