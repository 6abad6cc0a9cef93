"""What goes into each image file and each drill file."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from zesty_trace.core.board.copper import BoardPad, Hole, board_pads, hole_items, paste_windows
from zesty_trace.core.board.pour import pour_shapes
from zesty_trace.core.board.silk import PEN_MM, silk_screen
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, Design, Face, LayerName
from zesty_trace.core.fabrication.roles import OUTLINE, Image, drill_name
from zesty_trace.core.gerber.writing import GerberWriter
from zesty_trace.core.quantities import mm

OUTLINE_PEN_MM = 0.1
ROUND_MM = 1e-6  # pads whose sides differ by less are round ones


def copper_file(wired: Wired, layer: LayerName) -> str:
    """Return the copper image of a layer: fill first, then tracks, pads and vias over it."""
    design = wired.design
    stack = design.board.stack
    name = {"top": "Top", "bottom": "Bot"}.get(layer, "Inr")
    writer = GerberWriter(f"Copper,L{stack.index(layer) + 1},{name}")
    for net, area in pour_shapes(wired, layer):
        writer.attributes(net=net)
        writer.fill(getattr(area, "geoms", []), "Conductor")
    for track in design.board.tracks:
        if track.layer == layer:
            writer.attributes(net=track.net)
            writer.draw([(mm(x), mm(y)) for x, y in track.points], mm(track.width_nm))
    for pad in board_pads(wired):
        if layer in pad.layers:
            writer.attributes(net=pad.net, ref=pad.pin.ref, pin=pad.pin.number)
            _flash_pad(writer, pad, 0.0, pad_function(wired, pad))
    for via in design.board.vias:
        writer.attributes(net=via.net)
        size = mm(via.diameter_nm)
        writer.flash("round", mm(via.x_nm), mm(via.y_nm), size, size, "ViaPad")
    return writer.text()


def pad_function(wired: Wired, pad: BoardPad) -> str:
    """Return what a pad is for, in the words of the format."""
    kind = wired.design.parts[pad.pin.ref].kind
    if pad.drill_nm:
        return "ComponentPad"
    return {"test_point": "TestPad", "fiducial": "FiducialPad,Local"}.get(kind, "SMDPad,CuDef")


def _flash_pad(writer: GerberWriter, pad: BoardPad, grow_mm: float, function: str) -> None:
    w, h = mm(pad.width_nm) + 2 * grow_mm, mm(pad.height_nm) + 2 * grow_mm
    if pad.angle_mdeg % 90_000 and (pad.shape == "rect" or abs(w - h) > ROUND_MM):
        x, y = mm(pad.x_nm), mm(pad.y_nm)
        writer.flash_turned(pad.shape, x, y, w, h, pad.angle_mdeg / 1000, function)
        return
    if pad.angle_mdeg % 180_000:
        w, h = h, w
    writer.flash(pad.shape, mm(pad.x_nm), mm(pad.y_nm), w, h, function)


def mask_file(wired: Wired, layer: Face) -> str:
    """Return the solder mask openings of a side; vias are covered."""
    design = wired.design
    writer = GerberWriter(f"Soldermask,{'Top' if layer == 'top' else 'Bot'}", "Negative")
    margin = mm(design.board.rules.mask_margin_nm)
    for pad in board_pads(wired):
        if layer in pad.layers or pad.drill_nm:
            _flash_pad(writer, pad, margin, "")
    return writer.text()


def paste_pads(wired: Wired, layer: Face, variant: str = "") -> list[BoardPad]:
    """Return the openings of the stencil: the surface pads of fitted parts, and windows over the large ones."""
    design = wired.design
    fitted = design.fitted(variant).parts
    there = [r for r in fitted if r in design.board.placements and wired.kind(r).assembled]
    pads = [p for p in board_pads(wired, there) if p.paste and not p.drill_nm]
    return [p for p in (*pads, *(w for r in there for w in paste_windows(wired, r))) if layer in p.layers]


def paste_file(wired: Wired, layer: Face) -> str:
    """Return the paste image of a side."""
    writer = GerberWriter(f"Paste,{'Top' if layer == 'top' else 'Bot'}")
    for pad in paste_pads(wired, layer):
        _flash_pad(writer, pad, 0.0, "")
    return writer.text()


def silk_file(wired: Wired, layer: Face) -> str:
    """Return the legend of a side."""
    writer = GerberWriter(f"Legend,{'Top' if layer == 'top' else 'Bot'}")
    for line in silk_screen(wired, layer).lines:
        writer.draw(line, PEN_MM, "")
    return writer.text()


def outline_file(design: Design) -> str:
    """Return the board's profile, its cut-outs too."""
    writer = GerberWriter("Profile,NP")
    arcs = design.board.form is None or design.board.form.shape != "polygon"
    for ring in (design.board.outline, *design.board.cutouts):
        points = [(mm(x), mm(y)) for x, y in ring]
        writer.draw([*points, points[0]], OUTLINE_PEN_MM, "Profile", arcs)
    return writer.text()


def drill_file(holes: Iterable[Hole], plated: bool, layers: int = 2, vias: Collection[tuple[int, int]] = ()) -> str:
    """Return the drill file of the plated or the bare holes in millimetres (XNC format 2021); slots are routed.

    Holes at `vias` have drills of their own, so that the house can tell them from those that parts stand in.
    """
    chosen = sorted(h for h in holes if h.plated == plated)
    kind = {h: "ViaDrill" if (h.x_nm, h.y_nm) in vias else "ComponentDrill" for h in chosen}
    tools = sorted({(h.drill_nm, kind[h] if plated else "MechanicalDrill") for h in chosen})
    function = f"Plated,1,{layers},PTH" if plated else f"NonPlated,1,{layers},NPTH"
    lines = ["M48", f"; #@! TF.FileFunction,{function}", "METRIC"]
    for k, (size, use) in enumerate(tools):
        lines.append(f"; #@! TA.AperFunction,{'Plated,PTH' if plated else 'NonPlated,NPTH'},{use}")
        lines.append(f"T{k + 1:02d}C{mm(size):.3f}")
    lines += ["; #@! TD", "%", "G05"] if tools else ["%", "G05"]
    for k, (size, use) in enumerate(tools):
        lines.append(f"T{k + 1:02d}")
        mine = [h for h in chosen if h.drill_nm == size and (not plated or kind[h] == use)]
        lines += [_at(h.x_nm, h.y_nm) for h in mine if not h.slot]
        for h in mine:
            if h.slot:
                lines += [f"G00{_at(h.x_nm, h.y_nm)}", "M15", f"G01{_at(h.x2_nm, h.y2_nm)}", "M16", "G05"]
    return "\n".join([*lines, "M30", ""])


def _at(x_nm: int, y_nm: int) -> str:
    return f"X{mm(x_nm):.4f}Y{mm(y_nm):.4f}"


def all_files(wired: Wired) -> dict[str, str]:
    """Return file name -> text of every image and drill file."""
    design = wired.design
    holes, vias = hole_items(wired), {(v.x_nm, v.y_nm) for v in design.board.vias}
    files: dict[str, str] = {}
    for layer in design.board.stack:
        files[Image("copper", layer).file] = copper_file(wired, layer)
    for layer in FACES:
        files[Image("mask", layer).file] = mask_file(wired, layer)
        files[Image("paste", layer).file] = paste_file(wired, layer)
        files[Image("silk", layer).file] = silk_file(wired, layer)
    files[OUTLINE.file] = outline_file(design)
    for plated in (True, False):
        files[drill_name(plated)] = drill_file(holes, plated, len(design.board.stack), vias)
    return files
