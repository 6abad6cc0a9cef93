"""Drawing a sheet: supply lines, wires in the colour of their voltage, symbols, tags. Scene units are sheet units."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from zesty_trace.core.catalogue.kinds import Kind
from zesty_trace.core.design.model import Pin
from zesty_trace.core.geometry import Box
from zesty_trace.core.quantities import say
from zesty_trace.core.schematic.labels import (
    MARK_HALF_WIDE,
    TAG_HALF_HIGH,
    Label,
    labels_on,
    rail_name,
    tag_box,
    tag_width,
    text_width,
)
from zesty_trace.core.schematic.letters import TAG_SIZE, TITLE_SIZE, VALUE_SIZE
from zesty_trace.core.schematic.sheet import Bundle, PlacedSymbol, Rail, Tag
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.lettering import Lettering, draw_in_pixels, draw_text, on_screen
from zesty_trace.desktop.schematic import glyphs
from zesty_trace.desktop.schematic.marks import Marks
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
LABELS = 20.0  # how far what is written beside a part reaches at most, grid units
MARK_PEN, BUNDLE_PEN = 0.34, 0.62
SMALLEST_A = 1e-6  # of a current that is written
COLORS = {"ref": "ink", "value": "muted", "pin": "ink", "open": "muted", "number": "muted"}
HIDE_PX = {"ref": 4.0, "value": 4.5, "pin": 4.0, "open": 5.5, "number": 5.5}  # too small to be read


class SheetPainter:
    """Draws one view of a sheet."""

    def __init__(self, view: SheetView) -> None:
        self.view, self.theme = view, theme.current()
        self._rails = {r.net for r in view.sheet.rails}
        self._pens: dict[tuple[str, float], QPen] = {}
        self._nets = view.design.net_of()
        self._marks = Marks(view)

    def draw(self, p: QPainter, seen: QRectF | None = None) -> None:
        """Draw all, or what reaches into `seen`."""
        near = Box(-1e9, -1e9, 1e9, 1e9)
        if seen is not None:
            near = Box(seen.left(), seen.top(), seen.right(), seen.bottom())
        self._zoom = abs(p.transform().m11()) or 1.0
        self._late, self._faint = on_screen(p), False
        self._texts: list[Lettering] = []
        self._lines(p, near)
        around = near.grown(LABELS)
        for tag in self.view.sheet.tags:
            if around.meets(tag_box(tag)):
                self._tag(p, tag)
        for symbol, labels in labels_on(self.view.sheet.symbols, self.view.wired, self._nets, self.view.variant):
            if around.meets(symbol.body()):
                self._symbol(p, symbol)
                self._labels(p, symbol, labels)
        for title in self.view.sheet.titles:
            self._text(p, Lettering(title.x, title.y, title.text, TITLE_SIZE, "muted", bold=True))
        if self.view.overlay:
            self._overlay(p)
        draw_in_pixels(p, self._texts)

    def _lines(self, p: QPainter, near: Box) -> None:
        """Draw supply lines, wires, bundles and dots."""
        for rail in self.view.sheet.rails:
            self._rail(p, rail)
        around = near.grown(1.0)
        for wire in self.view.sheet.wires:
            if around.meets(wire.bounds.grown(0.2)):
                p.setPen(self._pen(wire.net, 0.2))
                p.drawPolyline(QPolygonF([QPointF(x, y) for x, y in wire.points]))
        for bundle in self.view.sheet.bundles:
            self._bundle(p, bundle)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(theme.current().color("ink"))
        for x, y in self.view.sheet.junctions:
            if around.meets(Box(x, y, x, y).grown(0.4)):
                p.drawEllipse(QPointF(x, y), 0.32, 0.32)

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

    def _rail(self, p: QPainter, rail: Rail) -> None:
        p.setPen(self._pen(rail.net, 0.4))
        p.drawLine(QPointF(rail.left, rail.y), QPointF(rail.right, rail.y))
        name = rail_name(rail)
        edge = -p.transform().dx() / p.transform().m11() + 0.4  # of what is seen
        if edge > name.box().x0 and on_screen(p):  # names stay in sight when the sheet is moved
            said = Lettering(max(rail.left, edge) + 0.1, rail.y - 1.0, rail.net, 1.3, self._ink(rail.net), bold=True)
            self._text(p, said)
        else:
            self._text(p, Lettering(name.x, name.y, name.text, name.size, self._ink(rail.net), name.align, bold=True))

    # Symbols ------------------------------------------------------------------------------------------------------

    def _symbol(self, p: QPainter, s: PlacedSymbol) -> None:
        t = theme.current()
        lit = s.ref in self.view.lit_refs
        pen = QPen(t.color("lime" if lit else "ink"), PEN * (2.4 if lit else 1))
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        absent = not self.view.design.parts[s.ref].fitted(self.view.variant)
        self._faint = absent
        p.save()
        p.setOpacity(0.3 if absent else 1.0)
        p.translate(s.x, s.y)
        p.setPen(pen)
        p.setBrush(t.color("part"))
        if s.symbol.turned and s.symbol.look != "switch":
            p.rotate(-90 if s.symbol.pins[0].x < 0 else 90)
        self._glyph(p, s)
        if self.view.lights and s.symbol.look != "led" and s.ref in self.view.lights:
            self._glow(p, s, self.view.lights[s.ref])
        p.restore()
        self._faint = False
        if absent:
            left, top, right, bottom = s.body()
            p.setPen(QPen(t.color("stop", 150), PEN * 1.4))
            p.drawLine(QPointF(left, top), QPointF(right, bottom))
            p.drawLine(QPointF(left, bottom), QPointF(right, top))

    def _glyph(self, p: QPainter, s: PlacedSymbol) -> None:
        kind, look = self.view.wired.kind(s.ref), s.symbol.look
        joined = frozenset(q.number for q in s.symbol.pins if Pin(s.ref, q.number) in self._nets)
        plain = {
            "resistor": glyphs.resistor,
            "adjustable": glyphs.adjustable,
            "lit resistor": glyphs.lit_resistor,
            "fuse": glyphs.fuse,
            "coil": glyphs.coil,
            "crystal": glyphs.crystal,
            "sounder": glyphs.sounder,
            "button": glyphs.button,
            "generic": glyphs.generic,
        }.get(look)
        if look == "box":
            glyphs.box(p, s.symbol, joined)
            return
        if plain:
            plain(p)
        elif look == "capacitor":
            polar = any(pin.name == "+" for pin in s.symbol.pins)
            glyphs.capacitor(p, (-1 if s.symbol.pins[0].name == "+" else 1) if polar else 0)
        elif look == "switch":
            glyphs.transistor(p, s.symbol, kind)
        elif look == "point":
            glyphs.point(p, s.symbol.pins[0].y)
        else:
            self._diode(p, s, kind)
        if not joined.issuperset(q.number for q in s.symbol.pins):
            if s.symbol.turned and look != "switch":
                p.rotate(90 if s.symbol.pins[0].x < 0 else -90)
            glyphs.crosses(p, s.symbol, joined)

    def _diode(self, p: QPainter, s: PlacedSymbol, kind: Kind) -> None:
        p.save()
        if s.symbol.pins[0].name == "K":
            p.rotate(180)
        if s.symbol.look == "led":
            self._light(p, s)
            glyphs.led(p, 1 if s.symbol.pins[0].name == "K" else -1)
        else:
            glyphs.diode(p, kind)
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

    def _labels(self, p: QPainter, s: PlacedSymbol, labels: tuple[Label, ...]) -> None:
        self._faint = not self.view.design.parts[s.ref].fitted(self.view.variant)
        for label in labels:
            text, color = label.text, COLORS[label.role]
            if label.role == "value" and self.view.overlay and s.symbol.look != "box":
                continue
            p_text = Lettering(
                label.x,
                label.y,
                text,
                label.size,
                color,
                label.align,
                label.bold,
                hide_px=HIDE_PX[label.role] if self._late else 0.0,
            )
            self._text(p, p_text)
        if self.view.overlay and s.symbol.look != "box" and len(s.symbol.pins) == 2:
            self._current(p, s, labels[0])
        self._faint = False
        if s.ref in self.view.badges:
            self._badge(p, s, *self.view.badges[s.ref])

    def _current(self, p: QPainter, s: PlacedSymbol, ref: Label) -> None:
        """Write a part's current where its value stands when no voltages are shown."""
        amp = abs(self.view.amps.get(Pin(s.ref, s.symbol.pins[0].number), 0.0))
        if amp <= SMALLEST_A:
            return
        if ref.align == "left" and not s.symbol.turned:
            self._text(p, Lettering(ref.x, s.y + 0.85, say(amp, "A", 2), VALUE_SIZE, "teal"))
        else:
            self._text(p, Lettering(ref.box().x1 + 0.5, ref.y + 0.05, say(amp, "A", 2), VALUE_SIZE, "teal"))

    def _bundle(self, p: QPainter, bundle: Bundle) -> None:
        """Draw the thick line of a group of signals, its name, and each tap with the signal's name over it."""
        pen = QPen(theme.current().color("muted"), BUNDLE_PEN)
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        p.setPen(pen)
        for points in bundle.lines:
            p.drawPolyline(QPolygonF([QPointF(x, y) for x, y in points]))
        for x, y in bundle.names_at:
            self._text(p, Lettering(x, y, bundle.name, TAG_SIZE, "ink", "center", True))
        for tap in bundle.taps:
            p.setPen(self._pen(tap.net, 0.2))
            p.drawPolyline(QPolygonF([QPointF(*tap.end), QPointF(*tap.on)]))
            self._text(p, Lettering(*tap.name_at, tap.net, TAG_SIZE, "ink", "center"))

    def _mark(self, p: QPainter, tag: Tag) -> None:
        """Draw a piece of a supply line right at a pin, with its name; of ground, the bar alone."""
        x, y = tag.at
        dy = -1 if tag.side == "top" else 1
        p.setPen(self._pen(tag.net, 0.2))
        p.drawLine(QPointF(x, y), QPointF(x, y + dy))
        p.setPen(self._pen(tag.net, MARK_PEN))
        p.drawLine(QPointF(x - MARK_HALF_WIDE, y + dy), QPointF(x + MARK_HALF_WIDE, y + dy))
        if tag.named:
            self._text(p, Lettering(x, y + 2.05 * dy, tag.net, TAG_SIZE, self._ink(tag.net), "center", True))

    def _ink(self, net: str) -> str:
        """Return the colour of a net's name: yellow would not be read."""
        color = self._color(net)
        return "ink" if color == "lemon" else color

    def _tag(self, p: QPainter, tag: Tag) -> None:
        if tag.side in ("top", "bottom"):
            self._mark(p, tag)
            return
        t = theme.current()
        (x, y), said = tag.at, tag.net + tag.mark
        wide = tag_width(said)
        way = -1 if tag.side == "left" else 1
        p.setPen(QPen(t.color("lime" if tag.net in self.view.lit_nets else "muted"), 0.12))
        p.setBrush(t.color("faint"))
        corners = ((0.5, -TAG_HALF_HIGH), (wide, -TAG_HALF_HIGH), (wide, TAG_HALF_HIGH), (0.5, TAG_HALF_HIGH))
        p.drawPolygon(QPolygonF([QPointF(x, y), *(QPointF(x + way * dx, y + dy) for dx, dy in corners)]))
        self._text(p, Lettering(x + way * 0.8, y, said, TAG_SIZE, "ink", "left" if way > 0 else "right"))

    def _badge(self, p: QPainter, s: PlacedSymbol, number: int, severity: str) -> None:
        """Draw a finding's number beside a part, at a corner where nothing is drawn or written."""
        t = theme.current()
        x, y = self._marks.badge_at(s.ref)
        p.setPen(QPen(t.color("paper"), 0.2))
        p.setBrush(t.color(severity))
        p.drawEllipse(QPointF(x, y), 1.2, 1.2)
        self._text(p, Lettering(x, y, str(number), 1.4, "on_accent" if severity != "fix" else "paper", "center", True))

    def _overlay(self, p: QPainter) -> None:
        """Write the voltage of each net where there is room on its line or along one of its wires."""
        for x, y, said in self._marks.bubbles:
            self._bubble(p, x, y, said)

    def _bubble(self, p: QPainter, x: float, y: float, text: str) -> Box:
        """Draw a voltage, and return what it covers."""
        t = theme.current()
        wide = text_width(text, VALUE_SIZE) + 0.8
        p.setPen(QPen(t.color("muted"), 0.08))
        p.setBrush(t.color("lemon"))
        p.drawRoundedRect(QRectF(x - wide / 2, y - 0.75, wide, 1.5), 0.5, 0.5)
        self._text(p, Lettering(x, y, text, VALUE_SIZE, "ink" if t.name == "light" else "on_accent", "center"))
        return Box(x - wide / 2, y - 0.75, x + wide / 2, y + 0.75)
