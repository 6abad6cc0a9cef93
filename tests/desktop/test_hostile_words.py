"""A stranger's words are shown as they are: mark-up in every text field, and no place that takes it for mark-up."""

from __future__ import annotations

import ast
import json
import shutil
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import QAbstractItemModel, QAbstractListModel, QModelIndex, Qt
from PySide6.QtGui import QAction
from PySide6.QtGui import Qt as QtText
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QGraphicsTextItem, QGraphicsView, QLabel, QWidget

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.reading import from_json
from zesty_trace.core.ordering.parts.placed import Line, order_csv
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.desktop.kit.text import rich, tip
from zesty_trace.desktop.schematic.drawers.stack import DRAWERS
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.errors import InputError, ZestyError
from zesty_trace.journey.kinds import check_known, project_catalogue
from zesty_trace.stations import STATIONS
from zesty_trace.store.payloads import FlashTold, Told
from zesty_trace.store.records import Records

DESKTOP = Path(__file__).parents[2] / "src" / "zesty_trace" / "desktop"
EVIL = "<img src='/dev/zero'><b>&amp;</b>"
KIND = """[evil_part]
title = "{0}"
prefix = "U"
packages = ["SOT-23"]
pins = [["1", "A", "passive"], ["2", "B", "passive"], ["3", "C", "passive"]]
model = {{ type = "open" }}
"""
EVIL_NAMES = (EVIL, "<img src='/dev/zero'>", "<i>x</i>")


def leaves(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, item in items:
        if isinstance(item, str):
            yield (*path, key)
        else:
            yield from leaves(item, (*path, key))


def changed(raw: Any, path: tuple[Any, ...], text: str) -> Any:
    copy = json.loads(json.dumps(raw))
    at = copy
    for key in path[:-1]:
        at = at[key]
    at[path[-1]] = text
    return copy


def poisoned(folder: Path) -> list[tuple[Any, ...]]:
    """Write mark-up into every text of the design that may be free; return which those are."""
    file = folder / "design.json"
    raw = json.loads(file.read_text())
    first = next(iter(raw["parts"]))
    raw["parts"][first]["notes"] = raw["parts"][first].get("notes") or "a note"
    raw["brief"] |= {"purpose": "x", "facts": {"a fact": "x"}, "options_wanted": "x"}
    raw["changes"] = [{"text": "x"}]
    raw["accepted"] = [{"rule": "static", "reason": "x", "which": "J5.TXD"}]
    catalogue = project_catalogue(folder)
    done, seen = [], set()
    for path in list(leaves(raw)):
        shape = tuple(k for k in path if isinstance(k, str) and k not in raw["parts"])
        if seen and (shape, done.count(shape) > 3) in seen:
            continue
        trial = changed(raw, path, EVIL)
        try:
            check_known(Wired(from_json(json.dumps(trial).encode()), catalogue))
        except InputError:
            continue
        raw = trial
        done.append(path)
    file.write_text(json.dumps(raw))
    for name in ("design.last-good.json", "design.journal"):
        (folder / name).unlink(missing_ok=True)
    return done


@pytest.fixture
def evil_project(demo_project: Path, tmp_path: Path) -> Path:
    folder = tmp_path / "evil"
    shutil.copytree(demo_project, folder)
    done = poisoned(folder)
    assert len(done) > 20
    assert {("name",), ("brief", "purpose"), ("changes", 0, "text")} <= set(done)
    (folder / "parts").mkdir(exist_ok=True)
    (folder / "parts" / "evil.toml").write_text(KIND.format(EVIL))
    (folder / "suppliers" / "evil.toml").write_text(
        f'name = "{EVIL}"\n[[freight]]\nname = "{EVIL}"\ndays = 2\ncost = 3\n'
        f'[[offers]]\nnumber = "{EVIL}"\nkind = "led"\nvalue = "red"\nsteps = [[1, 0.001]]\nnote = "{EVIL}"\n'
    )
    (folder / "stock.csv").write_text(f'kind,value,package,count,place,note\nled,red,LED0603,5,"{EVIL}","{EVIL}"\n')
    (folder / "orders").mkdir(exist_ok=True)
    order = order_csv([Line(EVIL, Sort("led", EVIL, "LED0603"), 3, "0.1", EVIL, note=EVIL, came_as=EVIL)])  # type: ignore[arg-type]
    (folder / "orders" / "2026-12-01-evil.csv").write_text(order)
    records = Records(folder)
    records.add_boards("A", "Full", [1, 2])
    records.add("A-001", "note", EVIL)
    records.add("A-001", "flashed", EVIL, "fail", FlashTold(source="real", who=EVIL, image=EVIL))
    records.add("A-002", "measured", EVIL, "fail", Told(source="real", who=EVIL, bench=EVIL))
    records.close()
    return folder


def bare(text: str) -> str:
    for tag in ("<qt>", "</qt>", "<br>"):
        text = text.replace(tag, "")
    return text


def is_safe(text: str) -> bool:
    """Whether a text in a place that takes mark-up is either no mark-up to Qt, or went through the door."""
    return not QtText.mightBeRichText(text) or (text.startswith("<qt>") and "<" not in bare(text))


def cells(model: QAbstractItemModel, parent: QModelIndex | None = None) -> Iterator[str]:
    parent = parent or QModelIndex()
    for r in range(min(model.rowCount(parent), 400)):
        wide = 1 if isinstance(model, QAbstractListModel) else model.columnCount(parent)
        for c in range(wide):
            index = model.index(r, c, parent)
            said = model.data(index, Qt.ItemDataRole.ToolTipRole)
            if isinstance(said, str):
                yield said
        if not isinstance(model, QAbstractListModel):
            yield from cells(model, model.index(r, 0, parent))


def unsafe(window: QWidget) -> list[str]:
    found = []
    for widget in [window, *window.findChildren(QWidget)]:
        texts = [widget.toolTip(), widget.statusTip(), widget.whatsThis()]
        if isinstance(widget, QLabel) and widget.textFormat() != Qt.TextFormat.PlainText:
            texts.append(widget.text())
        if isinstance(widget, QAbstractItemView | QComboBox) and widget.model() is not None:
            texts += cells(widget.model())
        if isinstance(widget, QGraphicsView) and widget.scene() is not None:
            drawn = [i.toHtml() for i in widget.scene().items() if isinstance(i, QGraphicsTextItem)]
            found += [f"{type(widget).__name__}: {t[:200]}" for t in drawn if "<img" in t]
        texts += [a.toolTip() for a in widget.actions() if isinstance(a, QAction)]
        found += [f"{type(widget).__name__} {widget.objectName()}: {t[:120]}" for t in texts if not is_safe(t)]
    return found


def test_the_door_itself() -> None:
    for text in EVIL_NAMES:
        assert is_safe(tip(text)), text
        assert "<img" not in rich(text)
    assert tip("plain words") == "plain words"
    assert "\x1b" not in tip("\x1b[2J")
    assert not is_safe(EVIL)


def pages_of(station: Any) -> list[Callable[[], object]]:
    """Return what shows each page of a station."""
    if hasattr(station, "turn"):
        return [partial(station.turn, k) for k in range(3)]
    if hasattr(station, "drawers"):
        keys = getattr(station.drawers, "TITLES", DRAWERS)
        return [partial(station.drawers.open, key) for key in keys]
    return [lambda: None]


def test_no_widget_takes_a_strangers_words_for_mark_up(open_window, evil_project: Path, settle, qtbot) -> None:
    window: MainWindow = open_window(evil_project)
    seen = ""
    for key in STATIONS:
        window.go(key)
        settle(window)
        for page in pages_of(window.station):
            page()
            settle(window)
            assert unsafe(window) == []
        seen += " ".join(w.text() for w in window.findChildren(QLabel)) + " ".join(
            str(v.model().data(v.model().index(r, c)))
            for v in window.findChildren(QAbstractItemView)
            for r in range(min(50, v.model().rowCount()))
            for c in range(1 if isinstance(v.model(), QAbstractListModel) else v.model().columnCount())
        )
    assert EVIL in seen  # it was there to be seen, as it is


def test_the_shelf_shows_a_strangers_part(open_window, evil_project: Path, settle) -> None:
    window: MainWindow = open_window(evil_project)
    window.go("schematic")
    settle(window)
    window.station.drawers.open("shelf")
    settle(window)
    assert unsafe(window) == []
    tips = [t for v in window.findChildren(QAbstractItemView) for t in cells(v.model())]
    assert any("img" in t for t in tips), "the part's title was to stand in a tool tip"


def test_only_the_door_leads_to_rich_text() -> None:
    """Every text of a tool tip is a constant or goes through `tip`; labels and dialogs are those of the kit."""
    wrong = []
    for path in DESKTOP.rglob("*.py"):
        tree = ast.parse(path.read_text("utf-8"))
        for node in ast.walk(tree):
            if not isinstance(node, ast.Call):
                continue
            name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
            where = f"{path.relative_to(DESKTOP)}:{node.lineno} {name}"
            if name in ("setToolTip", "setStatusTip", "setWhatsThis", "showText"):
                said = node.args[-1] if name != "showText" else node.args[1]
                called = said.func if isinstance(said, ast.Call) else None
                through = called is not None and getattr(called, "attr", getattr(called, "id", "")) == "tip"
                if not isinstance(said, ast.Constant) and not through:
                    wrong.append(where)
            if name in ("QLabel", "QMessageBox", "QTextBrowser", "setHtml", "insertHtml", "QTextDocument"):
                inside = path.name == "text.py" and path.parent.name == "kit"
                if not inside:
                    wrong.append(where)
    assert wrong == []


def test_kinds_with_control_characters_are_refused(tmp_path: Path) -> None:
    folder = tmp_path / "parts"
    folder.mkdir()
    (folder / "mine.toml").write_text(KIND.format("a\\u001b[2J"))
    with pytest.raises(ZestyError, match="control characters"):
        project_catalogue(tmp_path)
