"""Eight processes change one table of a project at the same moment: nothing that one of them did is lost."""

from __future__ import annotations

import os
import subprocess
import sys
from contextlib import ExitStack
from datetime import date
from pathlib import Path

import pytest

from zesty_trace.core.ordering.parts.placed import Line, order_csv
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import Drawer
from zesty_trace.errors import StoreError
from zesty_trace.files import changing
from zesty_trace.journey.buying import keep_stock, load_order, load_stock, orders
from zesty_trace.journey.demos import create_demo
from zesty_trace.journey.hours import PACE, load_own
from zesty_trace.journey.ordering import load_ordered
from zesty_trace.store.project import read_project

HOW_MANY = 8
TODAY = date(2026, 12, 2)
HEAD = """
import sys
from dataclasses import replace
from datetime import date
from decimal import Decimal
from pathlib import Path
from zesty_trace.core.ordering.money import money
from zesty_trace.core.ordering.ordered import BoardsOrdered
from zesty_trace.core.ordering.parts.buying import Purchase
from zesty_trace.core.ordering.parts.need import Loss
from zesty_trace.core.ordering.parts.placed import Came
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import put
from zesty_trace.journey import buying, hours, ordering
project, me, today = Path(sys.argv[1]), int(sys.argv[2]), date(2026, 12, 2)
print("ready", flush=True)
sys.stdin.readline()
"""


def at_once(project: Path, action: str, head: str = HEAD) -> list[str]:
    """Run an action in eight processes that begin together; return what they printed. `me` is 0 to 7."""
    code = head + action
    started = [
        subprocess.Popen(
            [sys.executable, "-c", code, str(project), str(k)],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=dict(os.environ),
        )
        for k in range(HOW_MANY)
    ]  # fmt: skip
    with ExitStack() as stack:
        for p in started:
            stack.enter_context(p)
        return _together(started)


def _together(started: list[subprocess.Popen[str]]) -> list[str]:
    for p in started:
        assert p.stdout is not None
        assert p.stdout.readline() == "ready\n", p.stderr.read() if p.stderr else ""
    for p in started:
        assert p.stdin is not None
        p.stdin.write("\n")
        p.stdin.flush()
    said = []
    for p in started:
        out, wrong = p.communicate(timeout=120)
        said.append((p.returncode, out, wrong))
    assert all(code == 0 for code, _, _ in said), [wrong[-800:] for _, _, wrong in said]
    return [out for _, out, _ in said]


def test_drawers_hold_what_all_put_in(tmp_path: Path) -> None:
    keep_stock(tmp_path, [Drawer(Sort("resistor", "10k", "R0603"), 5)])
    at_once(
        tmp_path,
        "for _ in range(10): buying.change_stock(project, lambda d: put(d, Sort('resistor', '10k', 'R0603'), 1))",
    )
    assert [d.count for d in load_stock(tmp_path)] == [5 + 10 * HOW_MANY]


def test_an_order_is_unpacked_once_by_each(tmp_path: Path) -> None:
    (tmp_path / "orders").mkdir()
    sort = Sort("resistor", "10k", "R0603")
    lines = [Line("A-1", sort, 100, "0.1", "R1")]  # type: ignore[arg-type]
    (tmp_path / "orders" / "2026-12-01-quay.csv").write_text(order_csv(lines))
    at_once(tmp_path, "for _ in range(5): buying.unpack(project, '2026-12-01-quay.csv', [Came(1, 1)])")
    assert load_order(tmp_path, "2026-12-01-quay.csv")[0].received == 5 * HOW_MANY
    assert [d.count for d in load_stock(tmp_path)] == [5 * HOW_MANY]


def test_orders_of_parts_get_names_of_their_own(tmp_path: Path) -> None:
    action = """
from types import SimpleNamespace as N
offer = N(number=f"A-{me}", sort=Sort("led", "red", "LED0603"))
line = N(supplier="Quay", offer=offer, count=me + 1, price=Decimal("0.1"), need=N(refs=("D1",)))
plan = N(lines=[line], parcels=[])
buying.place_orders(plan, project, today)
"""
    at_once(tmp_path, action)
    counts = sorted(load_order(tmp_path, n)[0].count for n in orders(tmp_path))
    assert counts == list(range(1, HOW_MANY + 1))


def test_orders_of_boards_stand_beside_each_other(tmp_path: Path) -> None:
    action = """
made = BoardsOrdered(f"Quay {me}", 5, money("17.50"), today, today, today)
ordering.take_boards(project, made)
"""
    at_once(tmp_path, action)
    found = load_ordered(tmp_path)
    assert sorted(o.how for o in found) == [f"Quay {k}" for k in range(HOW_MANY)]
    assert sorted(o.number for o in found) == list(range(1, HOW_MANY + 1))


def test_figures_and_times_of_all_are_kept(tmp_path: Path) -> None:
    action = """
for _ in range(5):
    hours.note_pace(project, today, f"R{me:04d}", 1, 10.0 + me)
    hours.change_own(project, lambda own: replace(own, seconds=(*own.seconds, (f"P{me}-{len(own.seconds)}", 1.0))))
"""
    at_once(tmp_path, action)
    own = load_own(tmp_path)
    assert len(own.seconds) == 5 * HOW_MANY
    assert dict(own.timed) == {f"R{k:04d}": 10.0 + k for k in range(HOW_MANY)}
    assert len((tmp_path / PACE).read_text().splitlines()) == 1 + 5 * HOW_MANY


def test_of_changes_to_the_same_losses_one_goes_ahead(tmp_path: Path) -> None:
    action = """
shown = buying.load_losses(project)
print("ready", flush=True)
sys.stdin.readline()
try:
    buying.keep_losses(project, [Loss(f"P{me}", 5, 5)], shown)
    print("kept", me)
except ValueError as error:
    print("changed meanwhile" if "changed meanwhile" in str(error) else error)
"""
    head = HEAD.replace('print("ready", flush=True)\nsys.stdin.readline()\n', "")
    said = at_once(tmp_path, action, head)
    assert sum("kept" in s for s in said) == 1
    assert sum("changed meanwhile" in s for s in said) == HOW_MANY - 1


@pytest.mark.campaign
def test_commands_wait_for_each_other(tmp_path: Path) -> None:
    """Drawers, strips and the batch by the command line itself."""
    project = tmp_path / "board"
    create_demo(project, TODAY)
    before = {d.sort.package: d.count for d in load_stock(project) if d.sort.kind == "resistor"}["R0603"]
    at_once(
        project,
        "assert main(['stock', str(project), '--put', 'resistor', '22R', 'R0603', '10']) == 0\n"
        "assert main(['buy', str(project), '--batch', f'Full={me + 1}', 'Basic=1', '--today', '2026-12-02',"
        " '--by', '2027-03-01']) in (0, 1)\n"
        "assert main(['cut', str(project), '--done']) in (0, 2)",
        "import sys\nfrom pathlib import Path\nfrom zesty_trace.cli import main\n"
        "project, me = Path(sys.argv[1]), int(sys.argv[2])\nprint('ready', flush=True)\nsys.stdin.readline()\n",
    )
    found = {d.sort.value: d.count for d in load_stock(project) if d.sort.kind == "resistor"}
    assert found["22R"] == 10 * HOW_MANY
    assert before
    assert read_project(project).design.build.batch["Full"] in range(1, HOW_MANY + 1)


def test_who_waits_too_long_is_told(tmp_path: Path) -> None:
    holder = subprocess.Popen(
        [sys.executable, "-c", "import sys\nfrom pathlib import Path\nfrom zesty_trace.files import changing\n"
         "with changing(Path(sys.argv[1])):\n print('held', flush=True)\n sys.stdin.readline()", str(tmp_path)],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert holder.stdout is not None
    assert holder.stdout.readline() == "held\n"
    with pytest.raises(StoreError, match="held the tables"), changing(tmp_path, wait_s=0.1):
        pass
    holder.communicate("\n")
    with changing(tmp_path), changing(tmp_path, wait_s=0.1):  # the same thread may enter again
        pass
