"""Several boards on one panel: placed, held by tabs or scored apart, with rails; written as one set of files.

A panel is worked out from sets of files, own or somebody's; it is never kept in a design. Each copy's nets and parts
have the number of the copy in front, so that the copper of the panel can be traced like that of a board.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple

from zesty_trace.core.fabrication.finished import BoardSet
from zesty_trace.core.geometry import buffered
from zesty_trace.errors import EditError

Spot = tuple[float, float]
Cut = Literal["score", "tabs"]
STRAIGHT_MM = 0.01  # a score runs along edges that leave a straight line by no more
BITE_MM, BITE_PITCH_MM = 0.5, 0.8  # break-off holes: common practice
TOOLING_MM, FIDUCIAL_MM, FIDUCIAL_OPENING_MM = 3.0, 1.0, 2.0
MOST_BOARDS = 400
LARGEST_MM = 500.0


@dataclass(frozen=True)
class PanelPlan:
    """How boards are put together, mm. With scores they touch; with tabs a mill of `gap` runs between them."""

    cut: Cut = "tabs"
    gap: float = 2.0
    rail: float = 5.0
    columns: int = 0  # 0: as many as are needed for about a square
    tab: float = 4.0
    tabs_a_side: int = 1
    marks: bool = True  # fiducials and tooling holes in the rails


class Placed(NamedTuple):
    """One copy of a board: which, its number, and how far its files are shifted."""

    name: str
    board: BoardSet
    number: int
    dx: float
    dy: float

    @property
    def shape(self) -> Any:
        """The area of the board on the panel."""
        from shapely import affinity

        return affinity.translate(self.board.edges.board, self.dx, self.dy)


@dataclass(frozen=True)
class Panel:
    """Boards with their places, the size over all, what is cut away, scored and drilled, and why it would not work."""

    plan: PanelPlan
    placed: tuple[Placed, ...]
    width: float
    height: float
    channels: tuple[Any, ...]
    scores: tuple[tuple[tuple[float, float], tuple[float, float]], ...]
    bites: tuple[tuple[float, float], ...]
    tooling: tuple[tuple[float, float], ...]
    fiducials: tuple[tuple[float, float], ...]
    faults: tuple[str, ...]

    @property
    def used(self) -> float:
        """The share of the panel that is boards."""
        return float(sum(p.shape.area for p in self.placed)) / (self.width * self.height)


def panel_of(boards: Sequence[tuple[str, BoardSet, int]], plan: PanelPlan | None = None) -> Panel:
    """Return a panel of (name, files, how many). EditError for boards without an edge, or what no panel can be."""
    plan = plan or PanelPlan()
    _refuse(boards, plan)
    gap = 0.0 if plan.cut == "score" else plan.gap
    placed, width, height = _put(boards, plan, gap)
    if max(width, height) > LARGEST_MM:
        raise EditError(f"The panel is {width:.0f} x {height:.0f} mm", "panel", f"Up to {LARGEST_MM:g} mm are made")
    tooling, fiducials = _marks(plan, width, height)
    channels: list[Any] = []
    bites: list[Spot] = []
    scores: list[tuple[Spot, Spot]] = []
    if plan.cut == "tabs":
        channels, bites, faults = _milled(placed, plan, width, height)
    else:
        scores, faults = _scored(placed, width, height)
    faults += _overhang(placed, plan, gap)
    return Panel(
        plan, tuple(placed), width, height, tuple(channels), tuple(scores), tuple(bites), tuple(tooling),
        tuple(fiducials), tuple(faults),
    )  # fmt: skip


def _refuse(boards: Sequence[tuple[str, BoardSet, int]], plan: PanelPlan) -> None:
    count = sum(n for _, _, n in boards)
    if not 1 <= count <= MOST_BOARDS or any(n < 1 for _, _, n in boards):
        raise EditError(f"A panel holds 1 to {MOST_BOARDS} boards, not {count}", "panel", "Name fewer")
    for name, board, _ in boards:
        if board.edges.board is None or board.edges.boards != 1:
            raise EditError(f"{name} has no edge that is closed", name, "Put its outline right first")
    if not (0 <= plan.rail <= 30 and 0.8 <= plan.gap <= 20 and 1 <= plan.tab <= 20 and 1 <= plan.tabs_a_side <= 10):
        raise EditError("The panel cannot be so", "panel", "Rails to 30 mm, gaps 0.8 to 20 mm, tabs 1 to 20 mm wide")


def _put(boards: Sequence[tuple[str, BoardSet, int]], plan: PanelPlan, gap: float) -> tuple[list[Placed], float, float]:
    """Return boards in rows, the highest first, and the size of the panel with rails all round: about a square.

    With `plan.columns` the rows are as wide as so many of the widest board.
    """
    copies = [(name, board) for name, board, count in boards for _ in range(count)]
    widest = max((board.edges.size_mm or (0.0, 0.0))[0] for _, board in copies) + gap
    tries = [plan.columns] if plan.columns else range(1, len(copies) + 1)
    laid = [_in_rows(copies, columns * widest, plan.rail + gap, gap) for columns in tries]
    return min(laid, key=lambda found: (max(found[1:]), found[1] * found[2]))


def _in_rows(
    copies: Sequence[tuple[str, BoardSet]], wide: float, edge: float, gap: float
) -> tuple[list[Placed], float, float]:
    """Return boards in rows up to `wide`, and the size over all."""
    sizes = [board.edges.size_mm or (0.0, 0.0) for _, board in copies]
    order = sorted(range(len(copies)), key=lambda k: (-sizes[k][1], copies[k][0], k))
    x, y, row = edge, edge, 0.0
    placed, right = [], 0.0
    for number, k in enumerate(order, 1):
        (name, board), (w, h) = copies[k], sizes[k]
        if x > edge and x + w > wide + edge + 1e-6:
            x, y, row = edge, y + row + gap, 0.0
        x0, y0, _, _ = board.edges.board.bounds
        placed.append(Placed(name, board, number, x - x0, y - y0))
        right, row = max(right, x + w), max(row, h)
        x += w + gap
    return placed, right + edge, y + row + edge


def _marks(plan: PanelPlan, width: float, height: float) -> tuple[list[tuple[float, float]], list[tuple[float, float]]]:
    """Return tooling holes and fiducials in the rails: three fiducials, so that the panel cannot be put in turned."""
    if not plan.marks or plan.rail < TOOLING_MM + 1.5:
        return [], []
    y0, y1 = plan.rail / 2, height - plan.rail / 2
    tooling = [(x, y) for y in (y0, y1) for x in (5.0, width - 5.0)]
    return tooling, [(12.0, y0), (width - 12.0, y0), (12.0, y1)]


def _milled(
    placed: list[Placed], plan: PanelPlan, width: float, height: float
) -> tuple[list[Any], list[tuple[float, float]], list[str]]:
    """Return the channels that are milled, the break-off holes, and what does not hold."""
    from shapely import LineString, Point, box, get_parts, union_all

    shapes = [p.shape for p in placed]
    solid = union_all([s if not s.interiors else type(s)(s.exterior) for s in shapes])
    rail = plan.rail
    frame = box(rail, rail, width - rail, height - rail)
    tabs, bites = [], []
    for shape in shapes:
        x0, y0, x1, y1 = shape.bounds
        for k in range(plan.tabs_a_side):
            share = (k + 1) / (plan.tabs_a_side + 1)
            cx = x0 + (x1 - x0) * share
            for y, into in ((y0, -1.0), (y1, 1.0)):
                hit = LineString([(cx, (y0 + y1) / 2), (cx, y + into * plan.gap)]).intersection(shape.exterior)
                if hit.is_empty:
                    continue
                ys = [into * p.y for p in get_parts(hit).tolist()]
                spot = Point(cx, into * max(ys))
                low, high = sorted((spot.y, y + into * (plan.gap + 0.01)))
                tabs.append(box(cx - plan.tab / 2, low - 0.2, cx + plan.tab / 2, high))
                count = int((plan.tab - BITE_MM) / BITE_PITCH_MM) + 1
                first = cx - (count - 1) * BITE_PITCH_MM / 2
                bites += [(first + n * BITE_PITCH_MM, spot.y) for n in range(count)]
    room = union_all([s.buffer(plan.gap, join_style="mitre") for s in shapes]).intersection(frame)
    empty = room.difference(solid).difference(union_all(tabs) if tabs else Point())
    whole = box(0, 0, width, height)
    left = get_parts(whole.difference(empty)).tolist()
    loose = [p for p in left if not p.intersects(whole.exterior) and p.intersection(solid).area < 0.05 * p.area]
    empty = union_all([empty, *loose])  # crumbs between corners are milled away as well
    channels = [p for p in get_parts(empty).tolist() if p.area > 0.05]
    parts = [p for p in get_parts(whole.difference(union_all(channels))).tolist() if p.area > 0.5]
    faults = []
    if len(parts) > 1:
        faults.append(f"The panel falls into {len(parts)} pieces: give it rails, or more tabs")
    return channels, bites, faults


def _scored(
    placed: list[Placed], width: float, height: float
) -> tuple[list[tuple[tuple[float, float], tuple[float, float]]], list[str]]:
    """Return the score lines, edge to edge of the panel, and the boards that they would cut or cannot free."""
    from shapely import LineString, box

    faults, xs, ys = [], set(), set()
    for p in placed:
        shape = p.shape
        x0, y0, x1, y1 = shape.bounds
        if box(x0, y0, x1, y1).symmetric_difference(type(shape)(shape.exterior)).area > STRAIGHT_MM * (
            x1 - x0 + y1 - y0
        ):
            faults.append(f"{p.name} is no rectangle: scores leave its corners; use tabs")
        xs |= {round(x0, 4), round(x1, 4)}
        ys |= {round(y0, 4), round(y1, 4)}
    lines = [((x, 0.0), (x, height)) for x in sorted(xs) if 0 < x < width]
    lines += [((0.0, y), (width, y)) for y in sorted(ys) if 0 < y < height]
    for p in placed:
        inner = buffered(p.shape, -0.05)
        if any(LineString(line).intersects(inner) for line in lines):
            faults.append(f"A score runs through {p.name}, copy {p.number}: scored boards stand in straight rows")
    return lines, sorted(set(faults))


def _overhang(placed: list[Placed], plan: PanelPlan, gap: float) -> list[str]:
    """Say whose copper or print reaches beyond its edge, onto the neighbour."""
    found = []
    for name, board in {p.name: p.board for p in placed}.items():
        edge = buffered(board.edges.board, max(gap, 0.01))
        drawn = [(r, board.shape(r, k)) for r, k in board.images if r in ("copper", "silk")]
        beyond = [r for r, shape in drawn if not shape.is_empty and not edge.covers(shape)]
        if beyond:
            found.append(f"{name}: {' and '.join(sorted(set(beyond)))} reach beyond the edge, onto the next board")
    if plan.cut == "score":
        for name, board in {p.name: p.board for p in placed}.items():
            rim = buffered(board.edges.board.boundary, 0.4)
            if any(rim.intersects(board.copper(k)) for k in board.layers):
                found.append(f"{name}: copper is nearer than 0.4 mm to the edge, where the score cuts")
    return found
