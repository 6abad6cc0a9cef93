"""Twelve boards in two variants: planned, ordered, unpacked with a shortage and a substitute, cut; by real widgets."""

from __future__ import annotations

from collections import Counter
from importlib.resources import files as packaged
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractSpinBox

from tests.desktop.test_journey import click
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.desktop.kit.widgets import cell
from zesty_trace.desktop.window.shell import MainWindow
from zesty_trace.files import write_inside
from zesty_trace.journey.buying import load_losses, load_order, load_stock, orders
from zesty_trace.journey.hours import load_own
from zesty_trace.journey.ordering import load_ordered

DATA = packaged("zesty_trace") / "data"


def type_in(qtbot, box: QAbstractSpinBox, text: str) -> None:
    box.selectAll()
    qtbot.keyClicks(box, text)
    qtbot.keyClick(box, Qt.Key.Key_Return)


def in_drawers(path: Path) -> Counter[Sort]:
    found: Counter[Sort] = Counter()
    for drawer in load_stock(path):
        found[drawer.sort] += drawer.count
    return +found


def test_a_batch_of_two_variants_is_bought_unpacked_and_cut(routed_window: MainWindow, settle, qtbot) -> None:
    window, session = routed_window, routed_window.session
    for entry in (DATA / "suppliers").iterdir():
        write_inside(session.path, f"suppliers/{entry.name}", entry.read_bytes())
    write_inside(session.path, "suppliers/odd.toml", b'name = "Odd"\n')
    write_inside(session.path, "stock.csv", (DATA / "demo" / "proofing" / "stock.csv").read_bytes())
    window.go("order")
    settle(window)
    order = window.station
    click(qtbot, order.card_buttons[1])
    settle(window)
    parts = order.parts

    parts.view_box.setCurrentText("Boards, spares, losses")
    type_in(qtbot, parts.batch.counts["Full"], "8")
    settle(window)
    type_in(qtbot, parts.batch.counts["Basic"], "4")
    settle(window)
    assert session.design.build.batch == {"Full": 8, "Basic": 4}
    assert session.design.brief.quantity == 12
    assert parts.title.text() == "Parts for 4 Basic, 8 Full"
    losses = parts.batch.losses
    before = next(n for n in parts.market.needs if n.sort.package == "R0603").loss
    row = next(r for r in range(losses.rowCount()) if cell(losses, r, 0).text() == "*0603")
    cell(losses, row, 2).setText("7")
    settle(window)
    assert load_losses(session.path)[0].least == 7
    assert next(n for n in parts.market.needs if n.sort.package == "R0603").loss == before + 2
    type_in(qtbot, parts.batch.line, "0.3")
    settle(window)
    assert str(load_own(session.path).order_line_eur) == "0.3"

    parts.view_box.setCurrentText("The plan")
    settle(window)
    assert set(parts.plans) == {"cheapest", "soonest", "fewest parcels"}
    for goal, tile in parts.tiles.tiles.items():
        assert str(parts.plans[goal].total) in tile.text()
    for goal in ("soonest", "fewest parcels", "cheapest"):
        click(qtbot, parts.tiles.tiles[goal])
        assert parts.plan is parts.plans[goal]
        assert "no plan is better" in parts.summary.text()
        assert "Left out: odd.toml: It needs a freight" in parts.summary.text()
    plan = parts.plan
    assert len(plan.parcels) > 1
    assert not plan.short
    parts.lines.selectRow(0)
    assert plan.lines[0].offer.number in parts.why.text()
    had = in_drawers(session.path)
    click(qtbot, parts.place_button)
    settle(window)
    assert len(orders(session.path)) == len(plan.parcels)
    assert "Nothing needs to be bought" in parts.summary.text()
    assert "on the way" in parts.summary.text()

    wanted = Counter(had)
    for line in plan.lines:
        wanted[line.offer.sort] += line.count
    parts.view_box.setCurrentText("Unpack a parcel")
    unpacking = parts.unpacking
    short, other = None, None
    for k, name in enumerate(orders(session.path)):
        unpacking.order.setCurrentText(name)
        lines = load_order(session.path, name)
        if k == 0:
            unpacking.lines.selectRow(0)
            unpacking.count.setValue(lines[0].count - 1)
            click(qtbot, unpacking.one_button)
            settle(window)
            short = lines[0].sort
            assert unpacking.words.text().startswith("On the way") == (len(lines) > 1)
            assert "Came short, the plan buys it again: 1 x" in unpacking.words.text()
            swapped = next(n for n, x in enumerate(lines[1:], 1) if x.sort.kind in ("led", "resistor"))
            unpacking.lines.selectRow(swapped)
            offered = [unpacking.instead.itemText(n) for n in range(1, unpacking.instead.count())]
            assert offered
            assert all(o.startswith(lines[swapped].sort.kind) for o in offered)
            unpacking.instead.setEditText("resistor 12k R0603")
            unpacking.place.setText("bag 7")
            click(qtbot, unpacking.one_button)
            settle(window)
            other = lines[swapped]
        click(qtbot, unpacking.all_button)
        settle(window)
    wanted[short] -= 1
    wanted[other.sort] -= other.count
    wanted[Sort("resistor", "12k", "R0603")] += other.count
    assert in_drawers(session.path) == +wanted
    assert [d.place for d in load_stock(session.path) if d.sort.value == "12k"] == ["bag 7"]

    parts.view_box.setCurrentText("The plan")
    settle(window)
    again = {line.need.sort for line in parts.plan.lines}
    assert short in again
    assert again <= {short, other.sort}
    parts.view_box.setCurrentText("Strips to cut")
    assert parts.strips.view.lists
    assert not parts.strips.view.grab().isNull()
    strips = {s: n for s, n in in_drawers(session.path).items() if s.kind == "header_40"}
    assert sum(strips.values()) > 0
    before_cut, drawers = positions(session.path), in_drawers(session.path)
    click(qtbot, parts.strips.cut_button)
    settle(window)
    assert positions(session.path) == before_cut  # a pin header loses nothing
    assert in_drawers(session.path)[Sort("serial_header", "", "Header-1x5")] == 12
    assert parts.strips.words.text() == "No headers or sockets have to be cut."
    undo = order.steps.undo_button
    assert undo.text() == "Undo: cutting strips"
    click(qtbot, undo)
    settle(window)
    assert in_drawers(session.path) == drawers
    assert parts.strips.cut_button.isEnabled()
    while undo.isVisible():
        click(qtbot, undo)
        settle(window)
    assert in_drawers(session.path) == had
    assert not orders(session.path)
    assert not (session.path / "losses.csv").exists()
    click(qtbot, order.card_buttons[0])


def positions(path: Path) -> int:
    """Return how many positions of pin headers are in the drawers, as strips or as pieces."""
    found = ((s, n) for s, n in in_drawers(path).items() if s.package.startswith("Header-1x"))
    return sum(int(s.package.removeprefix("Header-1x")) * n for s, n in found)


def test_boards_are_ordered_waited_for_and_taken_back(routed_window: MainWindow, settle, qtbot) -> None:
    window, session = routed_window, routed_window.session
    window.go("order")
    settle(window)
    order = window.station
    card = order.card
    click(qtbot, card.every_button)
    settle(window)
    blue = next(k for k, o in enumerate(card.shown) if o.order.colour == "blue" and o.order.finish == "gold")
    card.pick(blue)
    picked = card.picked
    click(qtbot, card.take_button)
    settle(window)
    assert (session.design.build.colour, session.design.build.finish) == ("blue", "gold")
    (taken,) = load_ordered(session.path)
    assert (taken.how, taken.total, taken.expected) == (picked.how, picked.total, picked.arrives)
    assert f"expected {picked.arrives:%a %d %b}" in card.taken.text()
    assert card.take_button.text() == "Order more of these"
    click(qtbot, order.card_buttons[2])
    settle(window)
    calendar = order.calendar
    waiting = calendar.plan.schedule.task("boards")
    assert (waiting.title, waiting.end) == ("Boards on the way", picked.arrives)
    click(qtbot, order.card_buttons[0])
    click(qtbot, card.here_button)
    settle(window)
    assert load_ordered(session.path).here
    click(qtbot, card.back_button)  # they are not here after all
    settle(window)
    assert load_ordered(session.path).coming
    click(qtbot, card.take_button)
    settle(window)
    assert len(load_ordered(session.path).standing) == 2
    assert load_ordered(session.path).boards > picked.boards
    assert "In all" in card.taken.text()
    assert card.which.isVisible()
    for left in (1, 0):
        click(qtbot, card.back_button)
        settle(window)
        assert len(load_ordered(session.path).standing) == left
    assert card.take_button.text() == "These are ordered"


def test_hours_are_kept_and_move_the_day(routed_window: MainWindow, settle, qtbot) -> None:
    window, session = routed_window, routed_window.session
    for name in ("saltmarsh", "harbour"):
        (session.path / "suppliers" / f"{name}.toml").unlink()
    window.go("order")
    settle(window)
    order = window.station
    click(qtbot, order.card_buttons[2])
    settle(window)
    calendar = order.calendar
    ready = calendar.plan.schedule.ready
    click(qtbot, calendar.hours_button)
    hours = calendar.hours
    hours.off.setText("2026-13-40")
    said: list[object] = []
    session.failed.connect(said.append)
    hours.keep()
    settle(window)
    assert said
    assert not (session.path / "hours.toml").exists()
    hours.off.setText("2026-12-01..2027-03-31")
    hours.rate.setValue(20)
    click(qtbot, hours.findChild(type(calendar.hours_button)))
    settle(window)
    own = load_own(session.path)
    assert own.maker.rate_eur_per_h == 20
    assert calendar.plan.schedule.ready > ready
    assert calendar.plan.costs["hours"] > 0
    assert calendar.pages.currentIndex() == 0
    (session.path / "hours.toml").write_text("spare_days = 9\n")  # by hand, since
    click(qtbot, order.steps.undo_button)
    settle(window)
    assert "was changed since" in str(said[-1])
    assert load_own(session.path).maker.spare_days == 9


def test_placing_is_timed_from_step_to_step(routed_window: MainWindow, settle, qtbot) -> None:
    window, session = routed_window, routed_window.session
    window.go("assembly")
    settle(window)
    assembly = window.station
    click(qtbot, assembly.next_button)
    assert not (session.path / "pace.csv").exists()  # nobody asked for it
    click(qtbot, assembly.time_button)
    step = assembly.steps[assembly.index]
    qtbot.wait(120)
    click(qtbot, assembly.next_button)
    settle(window)
    package = session.wired.package(step.refs[0]).id
    seconds = dict(load_own(session.path).timed)[package]
    assert 0.1 / len(step.refs) <= seconds < 60
    own = load_own(session.path)
    assert own.placing == own.timed
