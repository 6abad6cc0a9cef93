"""What a painted sheet says, read back from its SVG, and what is wrong with it.

Shares nothing with the arranging of the sheet: the netlist is read again from strokes that touch, dots, flags and the
names on supply lines, and held against the design. Where the pins are is the only thing that is told.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise

import networkx as nx
from shapely import STRtree
from shapely.geometry import LineString, Polygon, box

from benchmarks.svg_strokes import Drawing, Point, Shape, Words

WIRE, RAIL, MARK, BUNDLE, SYMBOL, FLAG = 0.2, 0.4, 0.34, 0.62, 0.16, 0.12  # pens of the drawing, sheet units
TOUCH = 0.06
INK = 0.12  # how much of a text box is air, sheet units


@dataclass(frozen=True)
class Stroke:
    """A straight piece, on the sheet."""

    a: Point
    b: Point
    pen: float

    @property
    def level(self) -> bool:
        return abs(self.a[1] - self.b[1]) < TOUCH


class Painted:
    """A drawing in sheet units. `origin` is where the page has the sheet's (0, 0), `scale` its units a sheet unit."""

    def __init__(self, drawing: Drawing) -> None:
        wires = [s for s in drawing.shapes if abs(s.width - RAIL) < 1e-3 or abs(s.width - WIRE) < 1e-3]
        self.scale = wires[0].scale if wires else 1.0
        self.shapes = drawing.shapes
        self.words = drawing.words
        self.strokes = {pen: self._strokes(pen) for pen in (WIRE, RAIL, MARK, BUNDLE, SYMBOL)}
        self.flags = [s.points for s in self._of(FLAG) if s.closed]
        self.bodies = [s.points for s in self._of(SYMBOL) if s.closed]
        dots = [s for s in drawing.shapes if s.width == 0 and s.closed and s.filled and len(s.points) > 8]
        self.dots = [_middle(s.points) for s in dots]

    def _of(self, pen: float) -> list[Shape]:
        return [s for s in self.shapes if abs(s.width - pen) < 1e-3]

    def _strokes(self, pen: float) -> list[Stroke]:
        found = []
        for s in self._of(pen):
            points = [*s.points, s.points[0]] if s.closed else [*s.points]
            found += [Stroke(a, b, pen) for a, b in pairwise(points) if a != b]
        return found


def _middle(points: Iterable[Point]) -> Point:
    xs, ys = zip(*points, strict=True)
    return (min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2


class Reading:
    """The netlist as the picture has it, and the faults of the picture. `pins` is pin -> (page x, page y)."""

    def __init__(self, painted: Painted, pins: dict[str, Point], nets: dict[str, list[str]], ground: str) -> None:
        self.p, self.pins, self.nets, self.ground = painted, pins, nets, ground
        self.net_of = {pin: net for net, members in nets.items() for pin in members}
        self.touch = TOUCH * painted.scale
        self.faults: Counter[str] = Counter()
        self.examples: dict[str, str] = {}
        self.lines = [s for pen in (WIRE, RAIL, MARK) for s in painted.strokes[pen]]
        self.thick = [LineString([s.a, s.b]) for s in painted.strokes[BUNDLE]]
        self.shapes = [LineString([s.a, s.b]) for s in self.lines]
        self.tree = STRtree(self.shapes)
        self.graph = nx.Graph()

    def fault(self, what: str, where: str) -> None:
        self.faults[what] += 1
        self.examples.setdefault(what, where)

    def run(self) -> Counter[str]:
        """Return how many faults of each sort there are."""
        self._joined()
        self._named()
        self._netlist()
        self._leads()
        self._flags()
        self._texts()
        self._below_ground()
        return self.faults

    # What hangs together ------------------------------------------------------------------------------------------

    def _joined(self) -> None:
        """Join strokes whose ends touch, that lie along each other, or that cross at a dot; count other crossings."""
        self.graph.add_nodes_from(range(len(self.lines)))
        dots = [box(x - self.touch, y - self.touch, x + self.touch, y + self.touch) for x, y in self.p.dots]
        for k, line in enumerate(self.shapes):
            for j in self.tree.query(line.buffer(self.touch)):
                if j <= k:
                    continue
                if self._connected(k, int(j), dots):
                    self.graph.add_edge(k, int(j))
        whole = {k: n for n, group in enumerate(nx.connected_components(self.graph)) for k in group}
        for k, line in enumerate(self.shapes):
            for j in self.tree.query(line):
                if j > k and whole[k] != whole[int(j)] and line.crosses(self.shapes[int(j)]):
                    with_rail = RAIL in (self.lines[k].pen, self.lines[int(j)].pen)
                    self.fault("crossings of supply lines" if with_rail else "crossings", "")
        for thick in self.thick:
            for j in self.tree.query(thick, "crosses"):
                self.fault("crossings of supply lines" if self.lines[int(j)].pen == RAIL else "crossings", "")
        self.whole = whole

    def _connected(self, k: int, j: int, dots: list[Polygon]) -> bool:
        one, two = self.shapes[k], self.shapes[j]
        ends = [(self.lines[k].a, two), (self.lines[k].b, two), (self.lines[j].a, one), (self.lines[j].b, one)]
        for end, other in ends:
            if other.distance(_point(end)) < self.touch:
                return True
        if one.crosses(two):
            spot = one.intersection(two)
            return any(d.intersects(spot) for d in dots)
        return False

    def _at(self, spot: Point) -> set[int]:
        """Return the wholes that touch a spot."""
        near = _point(spot).buffer(self.touch)
        return {self.whole[int(j)] for j in self.tree.query(near) if self.shapes[int(j)].intersects(near)}

    def _named(self) -> None:
        """Give wholes the names of their flags, supply lines and marks; a pin may have a flag of its own."""
        names: dict[int, set[str]] = defaultdict(set)
        self.pin_names: dict[str, set[str]] = defaultdict(set)
        self.flag_net: list[str] = []
        for points in self.p.flags:
            inside = Polygon(points).buffer(self.touch)
            said = [w.text.split(" ›")[0] for w in self.p.words if inside.contains(_point(_centre(w)))]
            name = said[0] if len(said) == 1 else ""
            self.flag_net.append(name)
            if name not in self.nets:
                self.fault("flags without a net's name", f"{said}")
            for whole in self._at(points[0]):
                names[whole].add(name)
            for pin, spot in self.pins.items():
                if _far(spot, points[0]) < self.touch:
                    self.pin_names[pin].add(name)
        for k, stroke in enumerate(self.lines):
            if stroke.pen == RAIL:
                names[self.whole[k]].add(self._nearest_name(stroke, 8.0))
            elif stroke.pen == MARK:
                names[self.whole[k]].add(self._name_over(stroke) or self.ground)
        self._named_by_taps(names)
        self.names = names

    def _named_by_taps(self, names: dict[int, set[str]]) -> None:
        """A slanting stroke into a bundle takes the name that stands over the level stroke that it goes on from."""
        for k, s in enumerate(self.lines):
            slants = s.pen == WIRE and abs(s.a[0] - s.b[0]) > self.touch and abs(s.a[1] - s.b[1]) > self.touch
            if not slants:
                continue
            if not any(t.distance(_point(s.b)) < self.touch for t in self.thick):
                self.fault("taps that reach no bundle", f"{s.a}")
            level = [
                o for o in self.lines if o.pen == WIRE and o.level and min(_far(o.a, s.a), _far(o.b, s.a)) < self.touch
            ]
            said = {
                w.text
                for o in level
                for w in self.p.words
                if w.text in self.nets
                and min(o.a[0], o.b[0]) < _centre(w)[0] < max(o.a[0], o.b[0])
                and 0 < o.a[1] - _centre(w)[1] < 1.2 * self.p.scale
            }
            if len(said) != 1:
                self.fault("taps without a name", f"{sorted(said)}")
            names[self.whole[k]] |= said

    def _name_over(self, bar: Stroke) -> str:
        """Return the name of a net that is centred over or under a local mark; ground has none."""
        x, y = _middle([bar.a, bar.b])
        reach = self.p.scale
        for w in self.p.words:
            at = _centre(w)
            if w.text in self.nets and abs(at[0] - x) < 0.3 * reach and abs(at[1] - y) < 1.6 * reach:
                return w.text
        return ""

    def _nearest_name(self, stroke: Stroke, reach: float) -> str:
        """Return the name of a net that is written nearest to the left end or the middle of a line."""
        ends = [min(stroke.a, stroke.b), _middle([stroke.a, stroke.b])]
        best, found = reach * self.p.scale, ""
        for w in self.p.words:
            if w.text not in self.nets or not (w.top - best < ends[0][1] < w.bottom + best):
                continue
            far = min(box(w.left, w.top, w.right, w.bottom).distance(_point(e)) for e in ends)
            if far < best:
                best, found = far, w.text
        return found

    def _netlist(self) -> None:
        """Hold what the picture joins against the nets."""
        spots: dict[tuple[int, int], str] = {}
        groups: dict[object, set[str]] = defaultdict(set)
        read = nx.Graph()
        for pin, spot in self.pins.items():
            cell = (round(spot[0] / self.p.scale), round(spot[1] / self.p.scale))
            if cell in spots and self.net_of.get(pin) != self.net_of.get(spots[cell]):
                self.fault("pins of different nets on one spot", f"{pin} {spots[cell]}")
            spots[cell] = pin
            read.add_node(("pin", pin))
            for whole in self._at(spot):
                read.add_edge(("pin", pin), ("whole", whole))
            for name in self.pin_names[pin]:
                read.add_edge(("pin", pin), ("name", name))
        for whole, names in self.names.items():
            for name in names:
                read.add_edge(("whole", whole), ("name", name))
        for n, group in enumerate(nx.connected_components(read)):
            groups[n] = {key[1] for key in group if key[0] == "pin"}
        for members in groups.values():
            nets = {self.net_of.get(pin, f"open {pin}") for pin in members}
            if len(nets) > 1:
                self.fault("nets joined", ", ".join(sorted(nets)[:3]))
        where = {pin: n for n, members in groups.items() for pin in members}
        for net, members in self.nets.items():
            drawn = {where[p] for p in members if p in where}
            if len(drawn) > 1:
                self.fault("nets in pieces", net)

    # What is hard to read -----------------------------------------------------------------------------------------

    def _leads(self) -> None:
        """A symbol's own stroke must end at each of its pins."""
        ends = [e for s in self.p.strokes[SYMBOL] for e in (s.a, s.b)]
        cells = {(round(x / self.p.scale * 4), round(y / self.p.scale * 4)) for x, y in ends}
        for pin, (x, y) in self.pins.items():
            at = (round(x / self.p.scale * 4), round(y / self.p.scale * 4))
            if not any((at[0] + i, at[1] + j) in cells for i in (-1, 0, 1) for j in (-1, 0, 1)):
                self.fault("pins without a lead", pin)

    def _flags(self) -> None:
        shrunk = [Polygon(f).buffer(-0.05 * self.p.scale) for f in self.p.flags]
        bodies = [Polygon(b).buffer(-0.05 * self.p.scale) for b in self.p.bodies if len(b) > 2]
        solid = [*bodies, *(LineString([s.a, s.b]) for s in self.p.strokes[SYMBOL])]
        others, parts = STRtree(shrunk), STRtree(solid)
        for k, flag in enumerate(shrunk):
            if len(others.query(flag, "intersects")) > 1:
                self.fault("flags on flags", self.flag_net[k])
            if len(parts.query(flag, "intersects")):
                self.fault("flags on parts", self.flag_net[k])
            near = flag.buffer(BUNDLE / 2 * self.p.scale)
            if len(self.tree.query(flag, "intersects")) or any(t.intersects(near) for t in self.thick):
                self.fault("wires through flags", self.flag_net[k])

    def _texts(self) -> None:
        air = INK * self.p.scale
        boxes = [_inked(w, air) for w in self.p.words]
        tree = STRtree(boxes)
        for k, one in enumerate(boxes):
            for j in tree.query(one):
                if j > k and boxes[int(j)].intersects(one):
                    self.fault("texts on texts", f"{self.p.words[k].text} / {self.p.words[int(j)].text}")
            if any(self.shapes[int(j)].intersects(one) for j in self.tree.query(one)):
                self.fault("wires through texts", self.p.words[k].text)
        for thick in self.thick:
            for j in tree.query(thick.buffer(BUNDLE / 2 * self.p.scale), "intersects"):
                self.fault("wires through texts", self.p.words[int(j)].text)
        for s in self.p.strokes[SYMBOL]:
            line = LineString([s.a, s.b])
            for j in tree.query(line):
                if boxes[int(j)].intersects(line):
                    self.fault("parts through texts", self.p.words[int(j)].text)

    def _below_ground(self) -> None:
        """No wire runs below the ground line of its own band."""
        rails = list(self.p.strokes[RAIL])
        grounds = sorted({s.a[1] for s in rails if self._nearest_name(s, 8.0) == self.ground})
        for s in self.p.strokes[WIRE]:
            high, low = sorted((s.a[1], s.b[1]))
            if any(high <= y + self.touch and low > y + self.touch for y in grounds):
                self.fault("wires below ground", f"{s.a}")


def _inked(w: Words, air: float) -> Polygon:
    thin = min(air, (w.right - w.left) / 4)
    flat = min(air, (w.bottom - w.top) / 4)
    return box(w.left + thin, w.top + flat, w.right - thin, w.bottom - flat)


def _centre(w: Words) -> Point:
    return (w.left + w.right) / 2, (w.top + w.bottom) / 2


def _point(p: Point) -> object:
    from shapely.geometry import Point as ShapelyPoint

    return ShapelyPoint(p)


def _far(a: Point, b: Point) -> float:
    return max(abs(a[0] - b[0]), abs(a[1] - b[1]))
