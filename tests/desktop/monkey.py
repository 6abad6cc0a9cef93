"""Random clicks, drags, wheels, keys and actions on a window; what keeps its thread busy for long is noted.

Only the thread's own processor time counts, so a busy machine is not blamed on the window. The seed says it all again.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QComboBox,
    QFileDialog,
    QLineEdit,
    QMenu,
    QMessageBox,
    QWidget,
)

from zesty_trace.desktop.kit.canvas import Canvas
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.stations import STATIONS

KEYS = (
    *(Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Delete, Qt.Key.Key_R, Qt.Key.Key_V, Qt.Key.Key_W, Qt.Key.Key_M),
    *(
        Qt.Key.Key_F,
        Qt.Key.Key_Home,
        Qt.Key.Key_End,
        Qt.Key.Key_Plus,
        Qt.Key.Key_Minus,
        Qt.Key.Key_Tab,
        Qt.Key.Key_Space,
    ),
    *(Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Left, Qt.Key.Key_Right),
)
WORDS = ("R5 at 20, 14", "U3.P4 - R20 330 - D7 red - GND", "delete R8", "flip U3", "4k7", "x", "", "12", "R1")
LEAVES = ("quit", "close", "open another", "another window", "open the project", "new window")  # what ends the window


@dataclass
class Monkey:
    """What it has done, and what took the window's own time: (seconds, what), longest first in `slow`."""

    window: MainWindow
    seed: int
    limit_s: float = 0.25
    done: int = 0
    slow: list[tuple[float, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.rng = random.Random(self.seed)
        self._dragging = False

    def play(self, actions: int, settle_every: int = 40) -> None:
        """Do so many random things."""
        with quiet_dialogs():
            for _ in range(actions):
                self.one()
                if self.done % settle_every == 0:
                    self.rest()
            self.rest()
        self.slow.sort(reverse=True)

    def rest(self) -> None:
        """Let jobs end, noting what their answers cost the window."""
        end = time.monotonic() + 120
        while time.monotonic() < end and (self.window.session.jobs.busy() or not self.window.session.settled):
            self._timed("answers of jobs", QApplication.processEvents)
            time.sleep(0.005)

    def one(self) -> None:
        """Do one random thing."""
        if not self.window.isVisible():
            raise AssertionError(f"the window is gone after {self.done} actions, seed {self.seed}")
        act = self.rng.choices(
            (self._station, self._button, self._canvas, self._key, self._type, self._row, self._combo, self._palette),
            (1, 5, 8, 4, 2, 3, 2, 2),
        )[0]
        self.done += 1
        act()
        self._timed("events", QApplication.processEvents)
        popup = QApplication.activePopupWidget() or QApplication.activeModalWidget()
        if popup is not None and popup is not self.window:
            popup.close()

    def _timed(self, what: str, work: Callable[[], Any]) -> None:
        start = time.thread_time()
        work()
        took = time.thread_time() - start
        if took > self.limit_s:
            self.slow.append((took, f"{self.done}: {self.window.current}: {what}"))

    def _visible(self, sort: type[QWidget]) -> list[Any]:
        return [w for w in self.window.findChildren(sort) if w.isVisible() and w.isEnabled()]

    def _station(self) -> None:
        key = self.rng.choice(list(STATIONS))
        self._timed(f"go to {key}", lambda: self.window.go(key))

    def _button(self) -> None:
        buttons = self._visible(QAbstractButton)
        if buttons:
            made = self.rng.choice(buttons)
            words = made.text() or made.toolTip() or type(made).__name__
            self._timed(f"button {words[:40]!r}", lambda: QTest.mouseClick(made, Qt.MouseButton.LeftButton))

    def _canvas(self) -> None:
        canvases = self._visible(Canvas)
        if not canvases:
            return
        canvas = self.rng.choice(canvases)
        name = type(canvas).__name__
        at = self._spot(canvas)
        kind = self.rng.randrange(5)
        if kind == 0:
            self._timed(f"click on {name}", lambda: QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=at))
        elif kind == 1:
            self._timed(f"wheel on {name}", lambda: self._wheel(canvas, at))
        elif kind == 2:
            self._timed(f"move on {name}", lambda: QTest.mouseMove(canvas, at))
        elif kind == 3:
            self._timed(f"double click on {name}", lambda: QTest.mouseDClick(canvas, Qt.MouseButton.LeftButton, pos=at))
        else:
            self._drag(canvas, name, at)

    def _drag(self, canvas: QWidget, name: str, at: QPoint) -> None:
        self._timed(f"press on {name}", lambda: QTest.mousePress(canvas, Qt.MouseButton.LeftButton, pos=at))
        for _ in range(self.rng.randint(1, 5)):
            to = self._spot(canvas)
            self._timed(f"drag on {name}", lambda to=to: QTest.mouseMove(canvas, to))
            self._timed(f"drag on {name}, events", QApplication.processEvents)
            at = to
        self._timed(f"release on {name}", lambda: QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=at))

    def _spot(self, widget: QWidget) -> QPoint:
        return QPoint(self.rng.randrange(max(1, widget.width())), self.rng.randrange(max(1, widget.height())))

    def _wheel(self, widget: QWidget, at: QPoint) -> None:
        turn = QPoint(0, self.rng.choice((120, -120)))
        spot = QPointF(at)
        event = QWheelEvent(
            spot, QPointF(widget.mapToGlobal(at)), QPoint(), turn, Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(widget, event)

    def _key(self) -> None:
        key = self.rng.choice(KEYS)
        to = QApplication.focusWidget() or self.window
        held = self.rng.choice((Qt.KeyboardModifier.NoModifier,) * 3 + (Qt.KeyboardModifier.ControlModifier,))
        self._timed(f"key {key.name}", lambda: QTest.keyClick(to, key, held))

    def _type(self) -> None:
        fields = self._visible(QLineEdit)
        if fields:
            line = self.rng.choice(fields)
            text = self.rng.choice(WORDS)

            line.setFocus()
            line.selectAll()
            for letter in text:
                where = line.accessibleName() or line.placeholderText()
                self._timed(f"{letter!r} of {text!r} into {where!r}", lambda c=letter: QTest.keyClicks(line, c))
            self._timed(f"enter {text!r}", lambda: QTest.keyClick(line, Qt.Key.Key_Return))

    def _row(self) -> None:
        views = [v for v in self._visible(QAbstractItemView) if v.model() is not None and v.model().rowCount()]
        if views:
            view = self.rng.choice(views)
            index = view.model().index(self.rng.randrange(view.model().rowCount()), 0)
            self._timed("a row", lambda: view.setCurrentIndex(index))

    def _combo(self) -> None:
        boxes = [b for b in self._visible(QComboBox) if b.count()]
        if boxes:
            box = self.rng.choice(boxes)
            at = self.rng.randrange(box.count())

            def chosen() -> None:
                box.setCurrentIndex(at)
                box.activated.emit(at)

            self._timed(f"choose {box.itemText(at)[:30]!r}", chosen)

    def _palette(self) -> None:
        actions = [
            a
            for a in [*self.window.window_actions(), *self.window.station.actions_here()]
            if not any(w in a.title.lower() for w in LEAVES)
        ]
        action = self.rng.choice(actions)
        self._timed(f"action {action.title[:50]!r}", action.run)


class quiet_dialogs:
    """Nothing that asks stops the monkey: files are not chosen, questions are answered with no, menus do not stay."""

    def __enter__(self) -> None:
        from PySide6.QtPrintSupport import QPrintDialog  # type: ignore[import-not-found,unused-ignore]

        self._kept: list[tuple[Any, str, Any]] = []
        for owner, name, answer in (
            (QFileDialog, "getOpenFileName", lambda *_a, **_k: ("", "")),
            (QFileDialog, "getOpenFileNames", lambda *_a, **_k: ([], "")),
            (QFileDialog, "getSaveFileName", lambda *_a, **_k: ("", "")),
            (QFileDialog, "getExistingDirectory", lambda *_a, **_k: ""),
            (QMessageBox, "exec", lambda *_a: QMessageBox.StandardButton.No),
            (QMenu, "exec", lambda *_a: None),
            (QPrintDialog, "exec", lambda *_a: QPrintDialog.DialogCode.Rejected),
        ):
            self._kept.append((owner, name, getattr(owner, name)))
            setattr(owner, name, answer)

    def __exit__(self, *_error: object) -> None:
        for owner, name, before in self._kept:
            setattr(owner, name, before)
