"""The palette: every action of the window and the station, found by typing."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from zesty_trace.desktop.kit.actions import Action
from zesty_trace.desktop.kit.text import Words


class Palette(QDialog):
    """Type some letters of each word; Enter runs the first that is left."""

    def __init__(self, actions: list[Action], parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Popup | Qt.WindowType.FramelessWindowHint)
        self.setMinimumSize(520, 420)
        self._actions = actions
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 12, 12, 12)
        self.field = QLineEdit()
        self.field.setPlaceholderText("What do you want to do?")
        self.list = QListWidget()
        self.chosen: Action | None = None
        layout.addWidget(self.field)
        layout.addWidget(self.list)
        hint = Words("Enter does it · Esc leaves")
        hint.setObjectName("muted")
        layout.addWidget(hint)
        self.field.textChanged.connect(self._filter)
        self.list.itemActivated.connect(lambda _i: self.run())
        self.list.itemClicked.connect(lambda _i: self.run())
        self._filter("")

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        self.list.clear()
        for action in self._actions:
            if all(w in action.title.lower() for w in words):
                item = QListWidgetItem(f"{action.title}    {action.shortcut}" if action.shortcut else action.title)
                item.setData(Qt.ItemDataRole.UserRole, self._actions.index(action))
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def run(self) -> None:
        """Close and remember what was chosen."""
        item = self.list.currentItem()
        if item:
            self.chosen = self._actions[item.data(Qt.ItemDataRole.UserRole)]
        self.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down choose, Enter runs, Esc leaves."""
        key = event.key()
        if key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            step = 1 if key == Qt.Key.Key_Down else -1
            self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + step)))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.run()
        else:
            super().keyPressEvent(event)
