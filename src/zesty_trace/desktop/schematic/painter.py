"""Drawing a sheet: supply lines, wires in the colour of their voltage, symbols, tags. Scene units are sheet units."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from zesty_trace.core.design.model import Pin
from zesty_trace.core.quantities import say
from zesty_trace.core.schematic.labels import TAG_UNITS, WIDE_LETTER, LabelRooms, row_size, size_in_room
from zesty_trace.core.schematic.sheet import PlacedSymbol, Sheet
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.lettering import LARGEST_SHARE, Lettering, draw_in_pixels, draw_text, on_screen
from zesty_trace.desktop.schematic.view import SheetView

PEN = 0.16


LIGHT_COLORS = {
    "red": "#e8412f",
    "green": "#35b04a",
    "blue": "#3c7df0",
    "yellow": "#f2c200",
    "amber": "#f59a1b",
    "orange": "#f07f1b",
    "white": "#fff6d6",
}
FULL_LIGHT_A = 0.010  # an indicator LED looks fully lit from here: common practice
RAIL_NAMES = 7.0  # room left of the supply lines for their names, grid units
LABELS = 16.0  # how far what is written beside a part reaches at most, grid units
REF_PX, NAME_PX, VALUE_PX = 8.5, 6.5, 6.0
NAME_MOST = 1.8  # far out, names of pins and nets grow to this many sheet units at most: they have no more room


_last_rooms: list[tuple[Sheet, LabelRooms]] = []


def _rooms_of(sheet: Sheet) -> LabelRooms:
    """Return the label rooms of a sheet; those of the last one are kept, as it is painted many times."""
    if not _last_rooms or _last_rooms[0][0] is not sheet:
        _last_rooms[:] = [(sheet, LabelRooms(sheet))]
    return _last_rooms[0][1]


class SheetPainter:
    """Draws one view of a sheet."""

    def __init__(self, view: SheetView) -> None:
        self.view, self.theme = view, theme.current()
        self._rails = {r.net for r in view.sheet.rails}
        self._pens: dict[tuple[str, float], QPen] = {}
        self._nets = view.design.net_of()
        self._rooms = _rooms_of(view.sheet)

    def draw(self, p: QPainter, seen: QRectF | None = None) -> None:
        """Draw all, or what reaches into `seen`."""
        left, top, right, bottom = (-1e9, -1e9, 1e9, 1e9)
        if seen is not None:
            left, top, right, bottom = seen.left(), seen.top(), seen.right(), seen.bottom()
        self._zoom = abs(p.transform().m11()) or 1.0
        self._late, self._faint = on_screen(p), False
        self._texts: list[Lettering] = []
        for rail in self.view.sheet.rails:
            self._rail(p, rail.net, rail.left, rail.right, rail.y)
        for wire in self.view.sheet.wires:
            x0, y0, x1, y1 = wire.bounds
            if x1 < left or x0 > right or y1 < top or y0 > bottom:
                continue
            p.setPen(self._pen(wire.net, 0.2))
            p.drawPolyline(QPolygonF([QPointF(x, y) for x, y in wire.points]))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.current().color("ink"))
        for x, y in self.view.sheet.junctions:
            if left - 1 < x < right + 1 and top - 1 < y < bottom + 1:
                p.drawEllipse(QPointF(x, y), 0.32, 0.32)
        for symbol in self.view.sheet.symbols:
            near_x, near_y, far_x, far_y = symbol.body()
            if far_x + LABELS > left and near_x - LABELS < right and far_y + LABELS > top and near_y - LABELS < bottom:
                self._symbol(p, symbol)
        for tag in self.view.sheet.tags:
            x, y = tag.at
            if not (left - 2 * LABELS < x < right + 2 * LABELS and top - 2 < y < bottom + 2):
                continue
            self._tag(p, tag.net, tag.at, tag.side, tag.mark)
        for title in self.view.sheet.titles:
            self._text(p, Lettering(title.x, title.y, title.text, 1.8, "muted", bold=True, least_px=9.0))
        if self.view.overlay:
            self._overlay(p)
        draw_in_pixels(p, self._texts)

    def _text(self, p: QPainter, words: Lettering) -> None:
        """Keep text for the end where it can be drawn in pixels, else draw it."""
        words = replace(words, color="muted") if self._faint else words
        if self._late:
            self._texts.append(words)
        else:
            draw_text(p, words)

    def _color(self, net: str) -> str:
        return theme.voltage_color(self._supply_volt(net), net == self.view.ground)

    def _supply_volt(self, net: str) -> float | None:
        return self.view.volts.get(net) if net in self._rails or net.endswith("_IN") else None

    def _pen(self, net: str, width: float) -> QPen:
        if (net, width) not in self._pens:
            self._pens[net, width] = self._make_pen(net, width)
        return self._pens[net, width]

    def _make_pen(self, net: str, width: float) -> QPen:
        lit = net in self.view.lit_nets
        pen = QPen(theme.current().color("lime" if lit else self._color(net)), width * (2.2 if lit else 1))
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        return pen

    def _rail(self, p: QPainter, net: str, left: int, right: int, y: int) -> None:
        p.setPen(self._pen(net, 0.4))
        p.drawLine(QPointF(left, y), QPointF(right, y))
        color = self._color(net)
        color = "ink" if color == "lemon" else color
        edge = -p.transform().dx() / p.transform().m11() + 0.4  # of what is seen
        if edge > left - RAIL_NAMES:  # names stay in sight when zoomed in
            self._text(p, Lettering(max(left, edge) + 0.1, y - 1.0, net, 1.6, color, bold=True, least_px=7.5))
        else:
            size = max(1.6, min(1.95, 7.5 / self._zoom))
            self._text(p, Lettering(left - 0.6, y, net, size, color, "right", bold=True))

    # Symbols ------------------------------------------------------------------------------------------------------

    def _symbol(self, p: QPainter, s: PlacedSymbol) -> None:
        t = theme.current()
        lit = s.ref in self.view.lit_refs
        pen = QPen(t.color("lime" if lit else "ink"), PEN * (2.4 if lit else 1))
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        draw = {
            "resistor": self._resistor,
            "fuse": self._fuse,
            "capacitor": self._capacitor,
            "diode": self._diode,
            "led": self._diode,
            "sounder": self._sounder,
            "button": self._button,
            "switch": self._switch,
            "point": self._point,
            "coil": self._resistor,
        }.get(s.symbol.look, self._box)
        absent = not self.view.design.parts[s.ref].fitted(self.view.variant)
        self._faint = absent
        p.save()
        p.setOpacity(0.3 if absent else 1.0)
        p.translate(s.x, s.y)
        p.setPen(pen)
        p.setBrush(t.color("part"))
        if s.symbol.turned and s.symbol.look != "switch":
            p.rotate(-90 if s.symbol.pins[0].x < 0 else 90)
        draw(p, s)
        if self.view.lights and s.symbol.look != "led" and s.ref in self.view.lights:
            self._glow(p, s, self.view.lights[s.ref])
        p.restore()
        self._labels(p, s)
        self._faint = False
        if absent:
            left, top, right, bottom = s.body()
            p.setPen(QPen(t.color("stop", 150), PEN * 1.4))
            p.drawLine(QPointF(left, top), QPointF(right, bottom))
            p.drawLine(QPointF(left, bottom), QPointF(right, top))
        if s.ref in self.view.badges:
            self._badge(p, s, *self.view.badges[s.ref])

    def _stubs(self, p: QPainter) -> None:
        p.drawLine(QPointF(0, -2), QPointF(0, -1.2))
        p.drawLine(QPointF(0, 1.2), QPointF(0, 2))

    def _resistor(self, p: QPainter, s: PlacedSymbol) -> None:
        self._stubs(p)
        p.drawRect(QRectF(-0.55, -1.2, 1.1, 2.4))

    def _fuse(self, p: QPainter, s: PlacedSymbol) -> None:
        self._resistor(p, s)
        p.drawLine(QPointF(0, -1.2), QPointF(0, 1.2))

    def _capacitor(self, p: QPainter, s: PlacedSymbol) -> None:
        p.drawLine(QPointF(0, -2), QPointF(0, -0.3))
        p.drawLine(QPointF(0, 0.3), QPointF(0, 2))
        pen = p.pen()
        thick = QPen(pen)
        thick.setWidthF(pen.widthF() * 1.8)
        p.setPen(thick)
        p.drawLine(QPointF(-0.9, -0.3), QPointF(0.9, -0.3))
        p.drawLine(QPointF(-0.9, 0.3), QPointF(0.9, 0.3))
        p.setPen(pen)
        if any(pin.name == "+" for pin in s.symbol.pins):
            side = -1 if s.symbol.pins[0].name == "+" else 1
            p.drawLine(QPointF(-1.2, side * 1.0), QPointF(-0.6, side * 1.0))
            p.drawLine(QPointF(-0.9, side * 1.0 - 0.3), QPointF(-0.9, side * 1.0 + 0.3))

    def _diode(self, p: QPainter, s: PlacedSymbol) -> None:
        self._stubs(p)
        p.save()
        if s.symbol.pins[0].name == "K":
            p.rotate(180)
        if s.symbol.look == "led":
            self._light(p, s)
        p.drawLine(QPointF(0, -1.2), QPointF(0, -0.8))
        p.drawLine(QPointF(0, 0.7), QPointF(0, 1.2))
        p.drawPolygon(QPolygonF([QPointF(-0.85, -0.8), QPointF(0.85, -0.8), QPointF(0, 0.7)]))
        p.drawLine(QPointF(-0.85, 0.7), QPointF(0.85, 0.7))
        p.restore()

    def _light(self, p: QPainter, s: PlacedSymbol) -> None:
        """Set the fill of an LED; while a state is played, one that carries current glows in its colour."""
        if self.view.lights is None:
            p.setBrush(theme.current().color("lemon"))
        elif (amp := self.view.lights.get(s.ref, 0.0)) > 0:
            p.setBrush(self._glow(p, s, amp))

    def _glow(self, p: QPainter, s: PlacedSymbol, amp: float) -> QColor:
        """Draw the glow of a lit part about its middle, and return the colour of its light."""
        said = f"{self.view.design.parts[s.ref].value} {self.view.wired.kind(s.ref).title}".lower()
        color = QColor(next((c for word, c in LIGHT_COLORS.items() if word in said), LIGHT_COLORS["amber"]))
        share = min(1.0, (amp / FULL_LIGHT_A) ** 0.5)
        pen = p.pen()
        p.setPen(Qt.PenStyle.NoPen)
        for radius, alpha in ((3.4, 50), (2.4, 80), (1.6, 140)):
            color.setAlphaF(share * alpha / 255)
            p.setBrush(color)
            p.drawEllipse(QPointF(0, 0), radius, radius)
        color.setAlphaF(0.3 + 0.7 * share)
        p.setPen(pen)
        return color

    def _sounder(self, p: QPainter, s: PlacedSymbol) -> None:
        self._stubs(p)
        p.drawEllipse(QPointF(0, 0), 1.2, 1.2)
        p.drawArc(QRectF(-0.6, -0.6, 1.2, 1.2), -60 * 16, 120 * 16)

    def _button(self, p: QPainter, s: PlacedSymbol) -> None:
        p.drawLine(QPointF(0, -2), QPointF(0, -0.9))
        p.drawLine(QPointF(0, 0.9), QPointF(0, 2))
        p.drawLine(QPointF(0.55, -1.0), QPointF(0.55, 1.0))
        p.drawLine(QPointF(0.55, 0), QPointF(1.1, 0))
        for y in (-0.9, 0.9):
            p.drawEllipse(QPointF(0, y), 0.2, 0.2)

    def _switch(self, p: QPainter, s: PlacedSymbol) -> None:
        for pin in s.symbol.pins:
            length = (pin.x**2 + pin.y**2) ** 0.5
            p.drawLine(QPointF(pin.x, pin.y), QPointF(pin.x / length * 1.6, pin.y / length * 1.6))
        p.drawEllipse(QPointF(0, 0), 1.6, 1.6)

    def _point(self, p: QPainter, s: PlacedSymbol) -> None:
        pin = s.symbol.pins[0]
        p.drawLine(QPointF(pin.x, pin.y), QPointF(0, pin.y * 0.35))
        p.drawEllipse(QPointF(0, 0), 0.7, 0.7)

    def _box(self, p: QPainter, s: PlacedSymbol) -> None:
        b = s.symbol
        for pin in b.pins:
            edge = QPointF(min(max(pin.x, b.left), b.right), min(max(pin.y, b.top), b.bottom))
            p.drawLine(QPointF(pin.x, pin.y), edge)
        p.drawRoundedRect(QRectF(b.left, b.top, b.right - b.left, b.bottom - b.top), 0.7, 0.7)

    def _labels(self, p: QPainter, s: PlacedSymbol) -> None:
        part = self.view.design.parts[s.ref]
        value = part.value_in(self.view.variant).split(" ")[0]
        look = s.symbol.look
        if look == "box":
            self._box_labels(p, s)
        elif look == "switch":
            self._text(p, Lettering(s.x, s.y, s.ref, 1.3, "ink", "center", True, least_px=6.5))
        elif s.symbol.turned:
            self._text(p, Lettering(s.x, s.y - 1.5, s.ref, 1.5, "ink", "center", True, REF_PX))
            line, color, least = self._second_line(s, value)
            self._text(
                p, Lettering(s.x, s.y + 1.5, line, 1.35, color, "center", False, least, 0.0 if least else VALUE_PX)
            )
        else:
            self._side_labels(p, s, value)

    def _side_labels(self, p: QPainter, s: PlacedSymbol, value: str) -> None:
        """Write reference and value right of a part, as large as the room there allows."""
        line, color, least = self._second_line(s, value)
        room = self._rooms.right_of(s.ref) - 0.4
        size = size_in_room(room, s.ref, max(1.5, min(LARGEST_SHARE, REF_PX / self._zoom)), 1.5)
        shown = line and (least or 1.35 * self._zoom >= VALUE_PX)
        apart = max(0.75, 4.5 / self._zoom) if shown else 0.0
        right = s.body()[2] + (0.7 if s.symbol.look == "button" else 0.3)
        self._text(p, Lettering(right, s.y - apart, s.ref, size, "ink", bold=True))
        if shown:
            self._text(
                p,
                Lettering(
                    right, s.y + apart + 0.1, line, size_in_room(room, line, max(1.35, least / self._zoom), 1.35), color
                ),
            )

    def _box_labels(self, p: QPainter, s: PlacedSymbol) -> None:
        left, top, right, bottom = s.body()
        kind = self.view.wired.kind(s.ref)
        far = max(1.25, min(NAME_MOST, NAME_PX / self._zoom))
        across = {side: row_size([q for q in s.symbol.pins if q.side == side], far) for side in ("top", "bottom")}
        wide = {"left": 0.0, "right": 0.0}  # how far the names reach in
        for pin in s.symbol.pins:
            x, y = s.pin_at(pin)
            connected = Pin(s.ref, pin.number) in self._nets
            if pin.side in wide and connected:
                wide[pin.side] = max(wide[pin.side], 0.35 + len(pin.name) * far * WIDE_LETTER)
            size, color, hide = (far, "ink", 0.0) if connected else (0.85, "muted", 4.5)
            if pin.side == "left":
                self._text(p, Lettering(left + 0.35, y, pin.name, size, color, "left", False, 0.0, hide))
            elif pin.side == "right":
                self._text(p, Lettering(right - 0.35, y, pin.name, size, color, "right", False, 0.0, hide))
            else:
                edge = top + 0.85 if pin.side == "top" else bottom - 0.85
                fits = min(size, across[pin.side])
                self._text(p, Lettering(x, edge, pin.name, fits, color, "center", False, 0.0, max(hide, 3.6)))
            if connected and pin.side in wide:
                self._text(
                    p,
                    Lettering(
                        x, y - 0.55, pin.number, 0.62, "muted", "right" if pin.side == "left" else "left", hide_px=5.0
                    ),
                )
        size = max(1.7, min(LARGEST_SHARE, REF_PX / self._zoom))
        room = right - left - wide["left"] - wide["right"]
        if kind.connector or room < len(s.ref) * size * WIDE_LETTER + 0.8:
            self._text(p, Lettering(right, bottom + 0.9, s.ref, 1.5, "ink", "right", True, REF_PX))
            return
        middle = (left + wide["left"] + right - wide["right"]) / 2
        centre = (top + bottom) / 2 - (0.6 if bottom - top >= 7 else 0.0)
        self._text(p, Lettering(middle, centre, s.ref, size, "ink", "center", True))
        title = kind.title.split(",")[0]
        if bottom - top >= 7 and len(title) * 0.5 < room - 1:
            self._text(p, Lettering(middle, y + 1.6, title, 0.95, "muted", "center", hide_px=5.5))

    def _tag(self, p: QPainter, net: str, at: tuple[int, int], side: str, mark: str) -> None:
        t = theme.current()
        x, y = at
        said = net + mark
        room = (len(said) * TAG_UNITS + 0.8) / (len(said) * 0.63)
        size = max(1.2, min(NAME_MOST, room, NAME_PX / self._zoom))
        wide = len(said) * size * 0.63 + 1.2
        way = -1 if side == "left" else 1
        p.setPen(QPen(t.color("lime" if net in self.view.lit_nets else "muted"), 0.12))
        p.setBrush(t.color("faint"))
        path = QPainterPath(QPointF(x, y))
        for dx, dy in ((0.5, -0.85), (wide, -0.85), (wide, 0.85), (0.5, 0.85)):
            path.lineTo(x + way * dx, y + dy)
        path.closeSubpath()
        p.drawPath(path)
        if way > 0:
            self._text(p, Lettering(x + 0.7, y, said, size, "ink"))
        else:
            self._text(p, Lettering(x - 0.7, y, said, size, "ink", "right"))

    def _badge(self, p: QPainter, s: PlacedSymbol, number: int, severity: str) -> None:
        t = theme.current()
        left, top, _, _ = s.body()
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(t.color(severity))
        p.drawEllipse(QPointF(left, top), 1.5, 1.5)
        self._text(
            p, Lettering(left, top, str(number), 1.6, "on_accent" if severity != "fix" else "paper", "center", True)
        )

    def _overlay(self, p: QPainter) -> None:
        """Write the voltage of each net on its line or its longest level wire."""
        spots: dict[str, tuple[float, float]] = {}
        longest: dict[str, float] = {}
        for wire in self.view.sheet.wires:
            for (x0, y0), (x1, y1) in zip(wire.points, wire.points[1:], strict=False):
                if y0 == y1 and abs(x1 - x0) > longest.get(wire.net, 3.0):
                    longest[wire.net] = abs(x1 - x0)
                    spots[wire.net] = ((x0 + x1) / 2, y0 - 1.2)
        for rail in self.view.sheet.rails:
            spots.pop(rail.net, None)
        for net, (x, y) in spots.items():
            if net in self.view.unknown:
                self._bubble(p, x, y, "not modelled")
            elif net in self.view.volts:
                self._bubble(p, x, y, say(self.view.volts[net], "V"))
        for rail in self.view.sheet.rails:
            if rail.net in self.view.volts:
                self._bubble(p, rail.right - 4.0, rail.y, say(self.view.volts[rail.net], "V"))

    def _second_line(self, s: PlacedSymbol, value: str) -> tuple[str, str, float]:
        """Return what stands below a reference: the value, or with voltages shown, the part's current."""
        if self.view.overlay and len(s.symbol.pins) == 2:
            amp = abs(self.view.amps.get(Pin(s.ref, s.symbol.pins[0].number), 0.0))
            return (say(amp, "A", 2), "teal", NAME_PX) if amp > 1e-6 else ("", "teal", 0.0)
        return value, "muted", 0.0

    def _bubble(self, p: QPainter, x: float, y: float, text: str) -> None:
        t = theme.current()
        size = max(1.2, NAME_PX / self._zoom)
        wide = len(text) * size * 0.6 + 0.6
        p.setPen(QPen(t.color("muted"), 0.08))
        p.setBrush(t.color("lemon"))
        p.drawRoundedRect(QRectF(x - wide / 2, y - size * 0.68, wide, size * 1.36), 0.5, 0.5)
        self._text(p, Lettering(x, y, text, size, "ink" if t.name == "light" else "on_accent", "center"))
