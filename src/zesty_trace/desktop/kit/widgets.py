"""Cards, rows, buttons and tables: what every station and panel is put together from."""

from __future__ import annotations

import heapq
from collections.abc import Callable
from weakref import WeakKeyDictionary

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QBoxLayout,
    QComboBox,
    QCompleter,
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from zesty_trace.desktop.kit import text as plain
from zesty_trace.desktop.kit import theme
from zesty_trace.desktop.kit.text import Words


def label(text: str = "", name: str = "", wrap: bool = False) -> QLabel:
    """Return a label with an object name for the style sheet."""
    made = Words(text)
    made.setObjectName(name)
    made.setWordWrap(wrap)
    return made


def button(text: str, run: Callable[[], object], primary: bool = False, tip: str = "") -> QPushButton:
    """Return a button."""
    made = QPushButton(text)
    if primary:
        made.setObjectName("primary")
    made.setToolTip(plain.tip(tip))
    made.clicked.connect(lambda _checked=False: run())
    return made


def card(*widgets: QWidget, name: str = "card") -> QFrame:
    """Return a card with widgets below each other."""
    frame = QFrame()
    frame.setObjectName(name)
    layout = QVBoxLayout(frame)
    layout.setContentsMargins(14, 12, 14, 12)
    layout.setSpacing(8)
    for widget in widgets:
        layout.addWidget(widget)
    return frame


def row(*widgets: QWidget | None) -> QWidget:
    """Return widgets beside each other; None is a stretch."""
    holder = QWidget()
    layout = QHBoxLayout(holder)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(8)
    for widget in widgets:
        if widget is None:
            layout.addStretch(1)
        else:
            layout.addWidget(widget)
    return holder


def number(
    value: float, low: float, high: float, step: float, unit: str, name: str, decimals: int = 2
) -> QDoubleSpinBox:
    """Return a field for a figure with its unit; `name` is what a reader of the screen says."""
    box = QDoubleSpinBox()
    box.setDecimals(decimals)
    box.setRange(low, high)
    box.setSingleStep(step)
    box.setValue(value)
    box.setSuffix(f" {unit}" if unit else "")
    box.setAccessibleName(name)
    return box


def count(value: int, low: int, high: int, name: str) -> QSpinBox:
    """Return a field for a number of things."""
    box = QSpinBox()
    box.setRange(low, high)
    box.setValue(value)
    box.setAccessibleName(name)
    return box


def lines_of(widget: QWidget) -> QBoxLayout:
    """Return the layout of a card or a row."""
    layout = widget.layout()
    assert isinstance(layout, QBoxLayout)
    return layout


def line_of(box: QComboBox) -> QLineEdit:
    """Return the line of a box in which one can type."""
    line = box.lineEdit()
    assert line is not None
    return line


def popup_of(completer: QCompleter) -> QAbstractItemView:
    """Return the list of a completer."""
    popup = completer.popup()
    assert popup is not None
    return popup


def cell(widget: QTableWidget, r: int, c: int) -> QTableWidgetItem:
    """Return a cell of a filled table. IndexError outside of it."""
    item = widget.item(r, c)
    if item is None:
        raise IndexError(f"no cell in row {r}, column {c}")
    return item


def table(*headers: str) -> QTableWidget:
    """Return a read-only table."""
    made = QTableWidget(0, len(headers))
    made.setHorizontalHeaderLabels(list(headers))
    made.verticalHeader().hide()
    made.verticalHeader().setDefaultSectionSize(32)
    made.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
    made.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
    made.setAlternatingRowColors(True)
    made.setWordWrap(False)
    made.setShowGrid(False)
    made.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    return made


def fit_height(widget: QTableWidget, most: int = 8) -> None:
    """Make a table as high as its rows, up to `most` of them."""
    rows = min(widget.rowCount(), most)
    high = sum(widget.rowHeight(r) for r in range(rows)) + widget.horizontalHeader().sizeHint().height() + 8
    widget.setFixedHeight(max(high, 72))


WIDEST_PX, BESIDE_STRETCH_PX = 460, 150


LOOKED_AT = 60  # rows by which a column's width is judged


def fit_columns(widget: QTableWidget, rows: list[list[str]]) -> None:
    """Make columns that are not stretched as wide as their text; of a long table the longest texts are looked at.

    Headers that fit themselves to their contents measure every cell at every change: a table of a thousand boards would
    take minutes.
    """
    head = widget.horizontalHeader()
    metrics = widget.fontMetrics()
    last = widget.columnCount() - 1
    shared = any(head.sectionResizeMode(c) == QHeaderView.ResizeMode.Stretch for c in range(last + 1))
    widest = WIDEST_PX if not shared else BESIDE_STRETCH_PX
    for c in range(widget.columnCount()):
        if head.sectionResizeMode(c) == QHeaderView.ResizeMode.Stretch or (c == last and head.stretchLastSection()):
            continue
        longest = heapq.nlargest(LOOKED_AT, (row[c] for row in rows if c < len(row)), key=len)
        title = widget.horizontalHeaderItem(c)
        wide = max((metrics.horizontalAdvance(t) for t in longest), default=0)
        wide = max(wide, metrics.horizontalAdvance(title.text()) if title else 0)
        head.resizeSection(c, min(widest, wide + 20))


def fill(widget: QTableWidget, rows: list[list[str]], numbers: tuple[int, ...] = ()) -> list[int]:
    """Fill a table; columns in `numbers` are right-aligned. Return the rows that are new, to be tinted or given tips.

    A row that says what it said before, under the same theme, is left as it is.
    """
    themed, before = _FILLED.get(widget, ("", []))
    typed_in = widget.editTriggers() != QTableWidget.EditTrigger.NoEditTriggers  # what is typed may not be what is held
    same = themed == theme.current().name and widget.rowCount() == len(before) and not typed_in
    fresh = [r for r, cells in enumerate(rows) if not same or r >= len(before) or before[r] != cells]
    _FILLED[widget] = (theme.current().name, rows)
    if fresh or len(rows) != len(before):
        widget.setUpdatesEnabled(False)
        try:
            _fill(widget, rows, fresh, numbers)
            fit_columns(widget, rows)
        finally:
            widget.setUpdatesEnabled(True)
    return fresh


_FILLED: WeakKeyDictionary[QTableWidget, tuple[str, list[list[str]]]] = WeakKeyDictionary()


def _fill(widget: QTableWidget, rows: list[list[str]], fresh: list[int], numbers: tuple[int, ...]) -> None:
    if widget.rowCount() != len(rows):
        widget.setRowCount(len(rows))
    for r in fresh:
        for c, text in enumerate(rows[r]):
            item = QTableWidgetItem(text)
            if c in numbers:
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            widget.setItem(r, c, item)
    for c in numbers:
        head = widget.horizontalHeaderItem(c)
        if head:
            head.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
