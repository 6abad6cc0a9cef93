"""Drawings that go with the files: where each part sits and which way round, and which hole is which."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import count

from zesty_trace.core.board.copper import Hole, board_pads, hole_items, pad_shape, pattern_of, to_board
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import FACES, Face, Outline, Placement
from zesty_trace.core.fabrication.paper import (
    MARGIN_MM,
    Circle,
    Path,
    Sheet,
    Spot,
    Words,
    page_for,
    pdf_of,
    scale_for,
    svg_of,
)
from zesty_trace.core.geometry import Box, box_of
from zesty_trace.core.quantities import mm, say_count

HEAD_MM, FOOT_MM = 14.0, 12.0
TABLE_MM = 78.0
PAD_INK, LEFT_OUT_INK = "#8c8470", "#a0a0a0"
LEAST_MM, MOST_MM = 0.7, 3.0  # height of references
BAR_MM = 10.0


class View:
    """How a board lies on a sheet: at a scale, its back mirrored left to right."""

    def __init__(self, edge: Box, corner: Spot, scale: float, mirrored: bool) -> None:
        self.edge, self.corner, self.scale, self.mirrored = edge, corner, scale, mirrored

    def put(self, x: float, y: float) -> Spot:
        """Return where a place of the board, mm, is on the sheet."""
        across = self.edge.x1 - x if self.mirrored else x - self.edge.x0
        return self.corner[0] + across * self.scale, self.corner[1] + (y - self.edge.y0) * self.scale


def edge_of(outline: Outline) -> Box:
    """Return the box round an outline, mm."""
    return box_of((mm(x), mm(y)) for x, y in outline)


def begin(wired: Wired, title: str, beside: float, mirrored: bool = False) -> tuple[Sheet, View]:
    """Return a sheet with title, outline and scale bar, and how the board lies on it; `beside` mm are kept free."""
    design = wired.design
    edge = edge_of(design.board.outline)
    around = HEAD_MM + FOOT_MM
    width, height = page_for(edge.width + beside, edge.height + around)
    room = (width - 2 * MARGIN_MM - beside, height - 2 * MARGIN_MM - around)
    scale = scale_for(edge.width, edge.height, room)
    sheet = Sheet(width, height)
    view = View(edge, (MARGIN_MM, height - MARGIN_MM - HEAD_MM - edge.height * scale), scale, mirrored)
    top = height - MARGIN_MM
    said = f"{design.name}, revision {design.revision}: {title}"
    sheet.items.append(Words((MARGIN_MM, top - 2.5), said, 4.0, bold=True))
    size = f"{edge.width:.2f} x {edge.height:.2f} mm, drawn {scale:g}:1"
    back = "; seen from behind: left and right change places" if mirrored else ""
    sheet.items.append(Words((MARGIN_MM, top - 8), size + back, 2.8))
    for ring in (design.board.outline, *design.board.cutouts):
        sheet.items.append(Path(tuple(view.put(mm(x), mm(y)) for x, y in ring), pen=0.3, close=True))
    x, y = MARGIN_MM, MARGIN_MM + 2
    bar = BAR_MM * scale
    sheet.items += [Path(((x, y + 1.5), (x, y), (x + bar, y), (x + bar, y + 1.5)), pen=0.25)]
    sheet.items.append(Words((x + bar + 2, y), f"{BAR_MM:g} mm", 2.5))
    return sheet, view


def assembly_sheet(wired: Wired, face: Face, variant: str = "") -> Sheet:
    """Return where the parts of a face sit: bodies, pads, pin 1, references; parts left off are dashed."""
    design = wired.design
    title = f"assembly of the {face}" + (f", {variant}" if variant else "")
    sheet, view = begin(wired, title, 0.0, face == "bottom")
    there = [r for r, s in design.board.placements.items() if r in design.parts and s.side == face]
    fitted = design.fitted(variant).parts
    for pad in board_pads(wired, there):
        for part in getattr(pad_shape(pad), "geoms", [pad_shape(pad)]):
            ring = tuple(view.put(x, y) for x, y in part.exterior.coords)
            sheet.items.append(Path(ring, ink=PAD_INK, pen=0.1, close=True))
    for ref in there:
        sheet.items += _part(wired, ref, view, ref in fitted)
    left_off = [r for r in there if r not in fitted and wired.kind(r).assembled]
    words = (
        f"{say_count(len([r for r in there if r in fitted and wired.kind(r).assembled]), 'part')}; a dot is at pin 1"
    )
    if left_off:
        words += f"; dashed and not fitted: {', '.join(sorted(left_off)[:14])}{' ...' if len(left_off) > 14 else ''}"
    sheet.items.append(Words((sheet.width - MARGIN_MM, MARGIN_MM + 2), words, 2.5, "end"))
    return sheet


def _part(wired: Wired, ref: str, view: View, fitted: bool) -> Iterator[Path | Circle | Words]:
    if not wired.kind(ref).pins:
        return  # a hole is drawn as its pad
    spot = wired.design.board.placements[ref]
    pattern = pattern_of(wired, ref)
    put = _putter(spot, view)
    x0, y0, x1, y1 = pattern.body
    corners = tuple(put(x, y) for x, y in ((x0, y0), (x1, y0), (x1, y1), (x0, y1)))
    ink = "#000000" if fitted else LEFT_OUT_INK
    middle = put((x0 + x1) / 2, (y0 + y1) / 2)
    if pattern.round_body:
        yield Circle(middle, mm(max(x1 - x0, y1 - y0)) / 2 * view.scale, ink, 0.2)
    elif x1 > x0 and y1 > y0:
        yield Path(corners, ink, 0.2, close=True, dashed=not fitted)
    if pattern.mark is not None and fitted and len(pattern.pads) > 1:
        yield Circle(put(*pattern.mark), 0.35 * view.scale**0.5, "", 0.0, fill="#000000")
    xs, ys = zip(*corners, strict=True)
    wide, high = max(xs) - min(xs), max(ys) - min(ys)
    size = max(LEAST_MM * view.scale**0.5, min(MOST_MM, high * 0.7, wide / (0.62 * len(ref))))
    yield Words(middle, ref, round(size, 2), "middle", bold=fitted)


def _putter(spot: Placement, view: View) -> Callable[[float, float], Spot]:
    def put(x: float, y: float) -> Spot:
        bx, by = to_board(spot, x, y)
        return view.put(bx / 1e6, by / 1e6)

    return put


def drill_sheet(wired: Wired) -> Sheet:
    """Return every hole with the letter of its tool, seen from the top, and the table of tools."""
    sheet, view = begin(wired, "holes", TABLE_MM)
    tools: dict[tuple[int, bool, bool], list[Hole]] = {}
    for hole in sorted(hole_items(wired), key=lambda h: (h.drill_nm, not h.plated, h.slot, h.x_nm, h.y_nm)):
        tools.setdefault((hole.drill_nm, hole.plated, hole.slot), []).append(hole)
    names = _letters()
    x, y = sheet.width - MARGIN_MM - TABLE_MM + 6, sheet.height - MARGIN_MM - HEAD_MM
    columns = (0.0, 14.0, 42.0, 58.0)
    head = ("Letter", "Finished, mm", "Plated", "Count")
    sheet.items += [Words((x + c, y), w, 2.5, bold=True) for c, w in zip(columns, head, strict=True)]
    for (drill, plated, slot), holes in tools.items():
        name = next(names)
        y -= 5.0
        words = (name, f"{mm(drill):.3f}" + (" slot" if slot else ""), "yes" if plated else "no", str(len(holes)))
        sheet.items += [Words((x + c, y), w, 2.5) for c, w in zip(columns, words, strict=True)]
        for h in holes:
            sheet.items += _hole(h, name, view)
    y -= 7.0
    total = sum(map(len, tools.values()))
    sheet.items.append(Words((x, y), f"{say_count(total, 'hole')} in all; +0.1 / -0.05 mm unless agreed", 2.5))
    return sheet


def _hole(hole: Hole, name: str, view: View) -> Iterator[Path | Circle | Words]:
    a, b = view.put(mm(hole.x_nm), mm(hole.y_nm)), view.put(mm(hole.x2_nm), mm(hole.y2_nm))
    radius = mm(hole.drill_nm) / 2 * view.scale
    yield Circle(a, radius, pen=0.12)
    if hole.slot:
        yield Circle(b, radius, pen=0.12)
        yield Path((a, b), pen=0.12)
    yield Words((a[0] + radius + 0.3, a[1] + radius * 0.7 + 0.4), name, 1.6)


def _letters() -> Iterator[str]:
    """Yield A to Z, then A2, B2 and so on."""
    for k in count():
        yield chr(ord("A") + k % 26) + (str(k // 26 + 1) if k >= 26 else "")


def drawings(wired: Wired, suffixes: dict[str, str]) -> dict[str, bytes]:
    """Return file name -> content of all drawings, as PDF and SVG; `suffixes` has variant -> end of the file name."""
    name = f"{wired.design.name} {wired.design.revision}"
    holes = drill_sheet(wired)
    files = {"drill.svg": svg_of(holes).encode(), "drill.pdf": pdf_of([holes], f"{name}: holes")}
    for variant, suffix in suffixes.items():
        sheets = {face: assembly_sheet(wired, face, variant) for face in FACES}
        files[f"assembly{suffix}.pdf"] = pdf_of(list(sheets.values()), f"{name}: assembly {variant}".strip())
        for face, sheet in sheets.items():
            files[f"assembly{suffix}-{face}.svg"] = svg_of(sheet).encode()
    return files
