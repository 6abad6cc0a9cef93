"""Solder mask: the web that stays between two openings, and openings that lay bare what is beside the pad."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_trace.core.board.copper import (
    BoardPad,
    board_pads,
    copper_items,
    hole_items,
    hole_shapes,
    pad_shape,
    pad_shapes,
)
from zesty_trace.core.board.shorts import ROUNDING_MM
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES
from zesty_trace.core.findings import Finding, Severity, Subject, of_part, rule
from zesty_trace.core.geometry import Point
from zesty_trace.core.quantities import mm

WEB = rule(
    "mask web",
    Severity.NOTE,
    "A web of mask that is too thin breaks off, and solder bridges from pad to pad.",
    "board rules of the project; 0.1 mm is common practice",
    limits="least web of the board rules between openings of two nets",
    station="layout",
)
BARE = rule(
    "bare beside a pad",
    Severity.FIX,
    "Copper that the opening of a foreign pad lays bare takes solder, and is a short under it.",
    "common practice",
    limits="no copper of another net in the opening of a pad",
    station="layout",
)


WICK = rule(
    "via beside a pad",
    Severity.NOTE,
    "Where no web of mask is left between a pad and a hole, solder runs down the hole and starves the joint.",
    "common practice: a web of mask between the opening and the hole; more so beside pads at a module's edge",
    limits="least web of the board rules between an opening and a hole of the same net",
    station="layout",
)


def _wicks(wired: Wired) -> Iterator[Finding]:
    """Yield surface pads with a via of their net in their opening, or with no web between; one finding a part."""
    from shapely import STRtree

    rules = wired.design.board.rules
    margin, web = mm(rules.mask_margin_nm), mm(rules.mask_web_nm)
    vias = wired.design.board.vias
    pads = [p for p in board_pads(wired) if p.layers and not p.drill_nm and p.paste]
    if not vias or not pads:
        return
    openings = pad_shapes(pads, margin)
    holes = hole_shapes(hole_items(wired)[-len(vias) :])
    inner = pad_shapes(pads)
    seen: dict[str, tuple[float, BoardPad, list[str]]] = {}
    for v, k in STRtree(openings).query(holes, predicate="dwithin", distance=web - ROUNDING_MM).T.tolist():
        pad = pads[k]
        if vias[v].net != pad.net or holes[v].intersects(inner[k]):
            continue  # in the pad itself: another rule says so
        gap = float(holes[v].distance(openings[k]))
        near = seen.setdefault(pad.pin.ref, (gap, pad, []))
        near[2].append(str(pad.pin))
        if gap < near[0]:
            seen[pad.pin.ref] = (gap, pad, near[2])
    for ref, (gap, pad, pins) in seen.items():
        yield WICK.found(
            of_part(ref),
            f"Holes stand {gap:.2f} mm from the openings of {ref}",
            f"{', '.join(sorted(set(pins))[:8])}: keep {web:g} mm of mask between, or have the vias covered.",
            at=(Point(pad.x_nm, pad.y_nm),),
            value=gap,
            limit=web,
            unit="mm",
        )


def check_masks(wired: Wired) -> Iterator[Finding]:
    """Yield webs that are too thin, one finding a part, and copper of other nets in the opening of a pad."""
    from shapely import STRtree

    yield from _wicks(wired)
    rules = wired.design.board.rules
    margin, least = mm(rules.mask_margin_nm), mm(rules.mask_web_nm)
    for layer in FACES:
        pads = [p for p in board_pads(wired) if layer in p.layers]
        if not pads:
            continue
        openings = pad_shapes(pads, margin)
        tree = STRtree(openings)
        left, right = tree.query(openings, predicate="dwithin", distance=max(0.0, least - ROUNDING_MM))
        thin: dict[tuple[str, str], tuple[float, int, int]] = {}
        for a, b in zip(left.tolist(), right.tolist(), strict=True):
            if a >= b or (pads[a].net and pads[a].net == pads[b].net) or pads[a].pin == pads[b].pin:
                continue
            web = float(openings[a].distance(openings[b]))
            key = (min(pads[a].pin.ref, pads[b].pin.ref), max(pads[a].pin.ref, pads[b].pin.ref))
            if web < least - ROUNDING_MM and web < thin.get(key, (1e9, 0, 0))[0]:
                thin[key] = (web, a, b)
        for (one, two), (web, a, b) in thin.items():
            where = f"between pads of {one}" if one == two else f"between {one} and {two}"
            yield WEB.found(
                Subject(refs=(one,) if one == two else (one, two), which=layer),
                f"The mask {where} is {web:.2f} mm wide",
                f"{pads[a].pin} and {pads[b].pin}: the house keeps a web from {least:g} mm. Without one, mind bridges.",
                at=(Point(pads[a].x_nm, pads[a].y_nm),),
                value=web,
                limit=least,
                unit="mm",
            )
        copper = [i for i in copper_items(wired, layer) if i.node[0] != "pad"]
        seen: set[tuple[str, str]] = set()
        k_left, k_right = tree.query([i.shape for i in copper], predicate="intersects") if copper else ((), ())
        for c, k in zip(list(k_left), list(k_right), strict=True):
            item, pad = copper[int(c)], pads[int(k)]
            if item.net == pad.net or (item.net, pad.pin.ref) in seen:
                continue
            seen.add((item.net, pad.pin.ref))
            yield BARE.found(
                Subject(pins=(pad.pin,), nets=(item.net,), which=layer),
                f"The opening of {pad.pin} lays {item.net} bare",
                f"A {item.what} on {layer} is nearer than the {margin:g} mm that the opening reaches beyond the pad.",
                at=(Point(pad.x_nm, pad.y_nm),),
                value=float(item.shape.distance(pad_shape(pad))),
                limit=margin,
                unit="mm",
            )
