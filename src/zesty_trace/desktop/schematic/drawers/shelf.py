"""The shelf: every kind of part, found by words; Enter or a drag puts one on the sheet."""

from __future__ import annotations

from PySide6.QtCore import QMimeData, QPoint, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QDrag, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QComboBox, QLineEdit, QListWidget, QListWidgetItem, QSizePolicy, QWidget

from zesty_trace.core.catalogue.kinds import Kind
from zesty_trace.core.catalogue.shelf import search, space_mm2
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Part
from zesty_trace.core.ordering.quote import Offer, cheapest
from zesty_trace.core.quantities import mm
from zesty_trace.core.schematic.amend import plain_symbol
from zesty_trace.core.schematic.sheet import PlacedSymbol, Sheet
from zesty_trace.core.schematic.strips import extent
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.text import tip
from zesty_trace.desktop.kit.widgets import button, label, row
from zesty_trace.desktop.schematic import edits as sheet_edits
from zesty_trace.desktop.schematic.canvas import KIND_FORMAT
from zesty_trace.desktop.schematic.drawers.base import Drawer, wrapped
from zesty_trace.desktop.schematic.painter import SheetPainter
from zesty_trace.desktop.schematic.view import SheetView
from zesty_trace.errors import ZestyError
from zesty_trace.journey.ordering import offers_for

MOST_PX = 9.0  # of a grid unit in the preview
PINS_SAID = 24


class ShelfDrawer(Drawer):
    """Search above, what is found below it, the picked one at the bottom."""

    key, title, tip = "shelf", "Add a part", "Find a part by words and put it on the sheet"

    def build(self) -> None:
        """Make the search, the list and the picture."""
        self.words = QLineEdit()
        self.words.setPlaceholderText("relay, temperature, 5 V regulator …")
        self.words.setAccessibleName("Find a kind of part")
        self.words.setClearButtonEnabled(True)
        self.found = _KindList()
        self.found.setFixedHeight(150)
        self.counted = label("", "muted")
        self.picture = _Preview()
        self.said = wrapped()
        self.package = QComboBox()
        self.package.setAccessibleName("Package")
        self.space = wrapped()
        self.value = QLineEdit()
        self.value.setAccessibleName("Value of the new part")
        self.add = button("Put on the sheet", self.put, primary=True, tip="Enter does it too; or drag it there")
        for each in (
            self.words,
            self.counted,
            self.found,
            row(self.value, self.add),
            self.picture,
            row(label("Package"), self.package, None),
            self.space,
            self.said,
        ):
            self.body.addWidget(each)
        self.body.addStretch(1)
        self.words.textChanged.connect(lambda _t: self._search())
        self.words.returnPressed.connect(self.put)
        self.value.returnPressed.connect(self.put)
        self.found.currentItemChanged.connect(lambda *_: self._picked())
        self.found.itemActivated.connect(lambda _i: self.put())
        self.package.currentTextChanged.connect(lambda _t: self._weigh())
        self.words.installEventFilter(self)
        self._kinds: list[Kind] = []
        self._offer: Offer | None = None

    def pull(self) -> None:
        """Show what the words find."""
        self._ask_price()
        if not self._kinds:
            self._search()
        self._weigh()
        self.words.setFocus()

    def eventFilter(self, watched: object, event: object) -> bool:  # type: ignore[override]
        """Up and down go through the list while one types."""
        if watched is self.words and isinstance(event, QKeyEvent) and event.type() == QKeyEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step and self.found.count():
                self.found.setCurrentRow(max(0, min(self.found.count() - 1, self.found.currentRow() + step)))
                return True
        return super().eventFilter(watched, event)  # type: ignore[arg-type]

    @property
    def kind(self) -> Kind | None:
        """The picked kind."""
        at = self.found.currentRow()
        return self._kinds[at] if 0 <= at < len(self._kinds) else None

    def _search(self) -> None:
        catalogue = self.session.wired.catalogue
        self._kinds = search(catalogue, self.words.text(), most=400)
        self.found.clear()
        for kind in self._kinds:
            item = QListWidgetItem(kind.title)
            item.setData(Qt.ItemDataRole.UserRole, kind.id)
            item.setToolTip(tip(f"{kind.title}: {kind.id}"))
            self.found.addItem(item)
        none = "No kind has these words. Another word, or make it yourself under “Make a part”."
        self.counted.setText(f"{len(self._kinds)} kinds" if self._kinds else none)
        self.counted.setWordWrap(not self._kinds)
        self.found.setCurrentRow(0)
        self._picked()

    def _picked(self) -> None:
        kind = self.kind
        for widget in (self.picture, self.said, self.package, self.space, self.value, self.add):
            widget.setEnabled(kind is not None)
        if kind is None:
            self.picture.show_kind(None)
            self.said.setText("")
            self.space.setText("")
            return
        self.picture.show_kind(self.session.wired.with_design(_alone(kind)))
        pins = ", ".join(p.name if p.name == p.number else f"{p.number} {p.name}" for p in kind.pins[:PINS_SAID])
        more = f" and {len(kind.pins) - PINS_SAID} more" if len(kind.pins) > PINS_SAID else ""
        self.said.setText(f"{len(kind.pins)} pins: {pins}{more}" if kind.pins else "No pins")
        self.value.setPlaceholderText("value, for example 10k" if kind.value_needed else "value (not needed)")
        self.package.clear()
        self.package.addItems(list(self.session.wired.catalogue.packages_for(kind)))
        self._weigh()

    def _weigh(self) -> None:
        """Say what the package takes of the board."""
        if self.kind is None or not self.package.currentText():
            return
        area = space_mm2(self.session.wired.catalogue, self.package.currentText())
        b = self.session.design.brief
        board = mm(b.case_width_nm) * mm(b.case_height_nm)
        share = f", {area / board:.1%} of {mm(b.case_width_nm):.0f} x {mm(b.case_height_nm):.0f} mm" if board else ""
        self.space.setText(f"Takes {area:.0f} mm² of the board{share}{self._price(area, board)}")

    def _price(self, area_mm2: float, board_mm2: float) -> str:
        """Return what that room costs on each board, by the cheapest offer."""
        if self._offer is None or not board_mm2:
            return ""
        each = float(self._offer.total.amount) / self._offer.boards * area_mm2 / board_mm2
        return f", about {each:.2f} {self._offer.total.currency} a board by the cheapest offer"

    def _ask_price(self) -> None:
        """Read the price sheets once for a design, not for each kind that is picked."""
        try:
            self._offer = cheapest(offers_for(self.session.wired, self.session.today, self.session.path))
        except ZestyError:
            self._offer = None

    def put(self) -> None:
        """Put the picked kind on the sheet."""
        if self.kind is not None:
            sheet_edits.add_kind(self.model, self.kind.id, self.value.text().strip(), self.package.currentText())
            self.value.clear()


def _alone(kind: Kind) -> Design:
    ref = f"{kind.prefix}1"
    return Design(parts={ref: Part(ref=ref, kind=kind.id)})


class _KindList(QListWidget):
    """A list from which kinds are dragged."""

    def __init__(self) -> None:
        super().__init__()
        self.setDragEnabled(True)
        self.setUniformItemSizes(True)
        self.setAccessibleName("Kinds of parts")

    def startDrag(self, _actions: Qt.DropAction) -> None:
        """Carry the kind's name to the sheet."""
        item = self.currentItem()
        if item is not None:
            drag = QDrag(self)
            drag.setMimeData(kind_data(item.data(Qt.ItemDataRole.UserRole)))
            drag.exec(Qt.DropAction.CopyAction)


def kind_data(kind_id: str) -> QMimeData:
    """Return what a drag of a kind carries."""
    data = QMimeData()
    data.setData(KIND_FORMAT, kind_id.encode())
    return data


class _Preview(QWidget):
    """A kind's symbol, as the sheet draws it."""

    def __init__(self) -> None:
        super().__init__()
        self._view: SheetView | None = None
        self.setMinimumHeight(110)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Symbol")

    def sizeHint(self) -> QSize:
        """Return the natural size."""
        return QSize(320, 120)

    def show_kind(self, wired: Wired | None) -> None:
        """Show the one part of a design, or nothing."""
        self._view = None
        if wired is not None and (ref := next(iter(wired.design.parts))) and wired.kind(ref).pins:
            symbol = PlacedSymbol(ref, plain_symbol(wired, ref), 0, 0, 0, "")
            self._view = SheetView(wired, Sheet((symbol,), (), (), (), (), (), 0, 0), "")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw it in the middle."""
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(event.rect(), theme.current().color("sheet"))
        if self._view is not None:
            around = extent(self._view.sheet)
            scale = min(self.width() / around.width, self.height() / around.height, MOST_PX)
            p.translate(QPointF(self.width() / 2, self.height() / 2))
            p.scale(scale, scale)
            p.translate(-around.middle[0], -around.middle[1])
            SheetPainter(self._view).draw(p, QRectF(around.x0, around.y0, around.width, around.height))
        p.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Begin a drag of what is shown."""
        if self._view is not None and event.button() == Qt.MouseButton.LeftButton:
            kind = next(iter(self._view.design.parts.values())).kind
            drag = QDrag(self)
            drag.setMimeData(kind_data(kind))
            drag.setPixmap(self.grab())
            drag.setHotSpot(QPoint(self.width() // 2, self.height() // 2))
            drag.exec(Qt.DropAction.CopyAction)
