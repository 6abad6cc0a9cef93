"""Keys, wheel and pointer on both drawings: what a hand that is not on the mouse needs, and what must not happen."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication

from zesty_trace.core.design.model import Pin
from zesty_trace.desktop.schematic import edits as sheet_edits
from zesty_trace.desktop.window.shell import MainWindow

KEY = Qt.Key
LEFT, MIDDLE = Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton


@pytest.fixture
def sheet(window: MainWindow, settle):
    window.go("schematic")
    settle(window)
    window.station.canvas.setFocus()
    return window.station


@pytest.fixture
def board(routed_window: MainWindow, settle):
    routed_window.go("layout")
    settle(routed_window)
    routed_window.station.canvas.setFocus()
    return routed_window.station


def wheel(canvas, at: QPointF, steps: int) -> None:
    event = QWheelEvent(
        at,
        canvas.mapToGlobal(at),
        QPoint(),
        QPoint(0, 120 * steps),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(canvas, event)


def test_arrows_move_the_selected_parts_by_one_grid_step_each(sheet, qtbot) -> None:
    canvas, session = sheet.canvas, sheet.session
    spot = canvas.symbol("R14")
    canvas.select(["R14"])
    for key in (KEY.Key_Right, KEY.Key_Right, KEY.Key_Down, KEY.Key_Left):
        qtbot.keyClick(canvas, key)
    moved = session.design.sheet["R14"]
    assert (moved.x, moved.y) == (spot.x + 1, spot.y + 1)
    for _ in range(4):
        session.undo()
    assert "R14" not in session.design.sheet


def test_arrows_without_a_selection_change_nothing(sheet, qtbot) -> None:
    before = sheet.session.design
    qtbot.keyClick(sheet.canvas, KEY.Key_Right)
    qtbot.keyClick(sheet.canvas, KEY.Key_Delete)
    assert sheet.session.design is before


def test_delete_takes_the_selected_parts_out_and_undo_brings_them_back(sheet, qtbot) -> None:
    canvas, session = sheet.canvas, sheet.session
    before = session.design
    canvas.select(["R14", "D4"])
    qtbot.keyClick(canvas, KEY.Key_Delete)
    assert not {"R14", "D4"} & set(session.design.parts)
    assert sheet.model.selection == ()
    session.undo()
    assert session.design == before


def test_enter_edits_the_value_and_escape_lets_go(sheet, qtbot) -> None:
    canvas = sheet.canvas
    canvas.select(["R14"])
    qtbot.keyClick(canvas, KEY.Key_Return)
    assert canvas.editor.isVisible()
    assert canvas.editor.selectedText() == sheet.session.design.parts["R14"].value
    qtbot.keyClicks(canvas.editor, "2k2")
    qtbot.keyClick(canvas.editor, KEY.Key_Return)
    assert sheet.session.design.parts["R14"].value == "2k2"
    qtbot.keyClick(canvas, KEY.Key_Escape)
    assert sheet.model.selection == () == tuple(canvas.selection)


def test_a_drag_that_ends_beside_a_pin_connects_nothing(sheet, qtbot) -> None:
    canvas, session = sheet.canvas, sheet.session
    before = session.design
    spots = canvas.view.sheet.spots()
    start = canvas.to_view(QPointF(*spots[Pin("R14", "1")])).toPoint()
    qtbot.mousePress(canvas, LEFT, Qt.KeyboardModifier.NoModifier, start)
    qtbot.mouseMove(canvas, QPoint(3, 3))
    qtbot.mouseRelease(canvas, LEFT, Qt.KeyboardModifier.NoModifier, QPoint(3, 3))
    assert session.design is before


def test_the_pin_under_the_pointer_is_named_with_its_net(sheet, qtbot) -> None:
    canvas = sheet.canvas
    pin, spot = next((p, s) for p, s in canvas.view.sheet.spots().items() if p.ref == "U3")
    qtbot.mouseMove(canvas, canvas.to_view(QPointF(*spot)).toPoint())
    assert canvas.toolTip().startswith(f"{pin}: ")
    assert "Drag to another pin" in canvas.toolTip()
    qtbot.mouseMove(canvas, QPoint(1, canvas.height() - 1))
    assert canvas.toolTip() == ""


@pytest.mark.parametrize("name", ["sheet", "board"])
def test_the_wheel_zooms_about_the_pointer_and_home_shows_all(name: str, request, qtbot) -> None:
    canvas = request.getfixturevalue(name).canvas
    at = QPointF(canvas.width() / 3, canvas.height() / 4)
    scale, under = canvas.scale, canvas.to_scene(at)
    wheel(canvas, at, 3)
    assert canvas.scale == pytest.approx(scale * 1.2**3)
    assert (canvas.to_scene(at) - under).manhattanLength() < 1e-6
    wheel(canvas, at, -5)
    assert canvas.scale == pytest.approx(scale * 1.2**-2)
    qtbot.keyClick(canvas, KEY.Key_Home)
    assert canvas.scale == pytest.approx(scale)


@pytest.mark.parametrize("name", ["sheet", "board"])
def test_the_middle_button_pans_and_moves_no_part(name: str, request, qtbot) -> None:
    station = request.getfixturevalue(name)
    canvas, before = station.canvas, station.session.design
    corner = canvas.to_scene(QPointF(0, 0))
    middle = QPoint(canvas.width() // 2, canvas.height() // 2)
    qtbot.mousePress(canvas, MIDDLE, Qt.KeyboardModifier.NoModifier, middle)
    qtbot.mouseMove(canvas, middle + QPoint(40, 25))
    qtbot.mouseRelease(canvas, MIDDLE, Qt.KeyboardModifier.NoModifier, middle + QPoint(40, 25))
    moved = canvas.to_scene(QPointF(40, 25)) - corner
    assert moved.manhattanLength() < 1e-6
    assert station.session.design is before


def test_a_board_part_is_nudged_by_a_tenth_of_a_millimetre(board, qtbot) -> None:
    canvas, session = board.canvas, board.session
    ref = next(r for r, s in session.design.board.placements.items() if not s.fixed and r.startswith("R"))
    before = session.design.board.placements[ref]
    spot = canvas.to_view(QPointF(before.x_nm / 1e6, before.y_nm / 1e6)).toPoint()
    qtbot.mouseClick(canvas, LEFT, Qt.KeyboardModifier.NoModifier, spot)
    assert board.detail.text().startswith(ref)
    for key in (KEY.Key_Right, KEY.Key_Up, KEY.Key_Up):
        qtbot.keyClick(canvas, key)
    after = session.design.board.placements[ref]
    assert (after.x_nm - before.x_nm, after.y_nm - before.y_nm) == (100_000, 200_000)


def test_a_click_beside_the_parts_tells_the_rules_of_the_board(board, qtbot) -> None:
    canvas = board.canvas
    qtbot.mouseClick(canvas, LEFT, Qt.KeyboardModifier.NoModifier, QPoint(2, 2))
    assert board.detail.text().startswith("Rules: gap 0.20 mm")
    assert "drill" in board.detail.text()


def test_copper_of_a_side_is_hidden_and_shown_again(board, settle) -> None:
    canvas = board.canvas
    both = canvas.grab().toImage()
    board.layer_toggles["bottom"].click()
    assert "bottom" in canvas.view.hidden_layers
    assert canvas.grab().toImage() != both
    board.layer_toggles["bottom"].click()
    assert canvas.grab().toImage() == both


def test_copper_is_taken_off_and_one_undo_brings_all_of_it_back(board, qtbot, settle) -> None:
    session = board.session
    before = session.design
    board.rip_button.click()
    settle(board.window())
    assert session.design.board.tracks == ()
    assert "still to route" in board.hint.text()
    assert not board.rip_button.isEnabled()
    session.undo()
    assert session.design == before


def test_a_part_is_put_by_saying_where(board, qtbot, settle) -> None:
    board.line.setText("R5 at 20, 14.5")
    board.line.textEdited.emit(board.line.text())
    qtbot.waitUntil(lambda: "R5" in board.preview.text(), timeout=3000)
    qtbot.keyClick(board.line, KEY.Key_Return)
    spot = board.session.design.board.placements["R5"]
    assert (spot.x_nm, spot.y_nm) == (20_000_000, 14_500_000)
    assert board.line.text() == ""


def test_a_place_that_is_no_place_is_told_and_changes_nothing(board, qtbot) -> None:
    before = board.session.design
    told: list[object] = []
    board.session.failed.connect(told.append)
    board.line.setText("R5 at over there")
    qtbot.keyClick(board.line, KEY.Key_Return)
    assert board.session.design is before
    assert told
    assert board.line.text() == "R5 at over there"  # what was typed stays, to be mended


def test_the_picked_part_follows_a_reading_of_the_sheet_in_every_drawer(sheet, settle) -> None:
    """The selection is the model's: canvas and drawers each see the one that the other made."""
    sheet.drawers.open("part")
    sheet.model.select(["R14"])
    assert sheet.canvas.selection == ["R14"]
    sheet.canvas.select(["R15", "R16"])
    assert sheet.model.selection == ("R15", "R16")
    assert sheet.drawers.made["part"].refs == ["R15", "R16"]
    sheet_edits.delete_parts(sheet.model, ["R15"])
    assert sheet.model.selection == ("R16",)
