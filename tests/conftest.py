"""Shared values: the catalogue, the demo design as imported, mended, placed and routed (each worked out once)."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from datetime import date

import pytest

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from importlib.resources import files

from tests import leaks
from tests.speed import slowness
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.board.router import RouteResult, route
from zesty_trace.core.catalogue.kinds import Catalogue, shipped
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.review.rules import review
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.journey.demos import demo_base

TODAY = date(2026, 11, 25)


@pytest.fixture(autouse=True)
def own_folder(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """Keep the user's own parts and words away from the tests, and the tests' away from the user."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path_factory.mktemp("config")))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path_factory.mktemp("data")))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))


@pytest.fixture(autouse=True)
def nothing_left_behind() -> Iterator[None]:
    """Fail a test that leaves a thread or a process; an open socket or file fails it as a warning."""
    before = leaks.threads(), leaks.processes()
    yield
    found = leaks.left_behind(*before)
    assert not found, f"left behind: {', '.join(found)}"


# The files that take longest, in seconds together: begun first, so that both cores are busy to the end.
LONG = (
    *("test_sheet.py", "test_window.py", "test_stations.py", "test_corpus.py", "test_journey.py", "test_cli.py"),
    *("test_coverage.py", "test_wheel.py", "test_losing.py", "test_hand.py", "test_brute_force.py", "test_placing.py"),
    *("test_determinism.py", "test_safe_window.py", "test_layout_by_hand.py", "test_flashing.py", "test_bench.py"),
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Put the long files first."""
    place = {name: k for k, name in enumerate(LONG)}
    items.sort(key=lambda item: place.get(item.path.name, len(LONG)))


CEILING_S = 2.0  # of processor time, at this machine's full speed, for one test of the core


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item: pytest.Item) -> Iterator[None]:
    """Hold the tests of the core to a time; campaigns over many boards or circuits are marked so."""
    start = time.process_time()
    yield
    took = time.process_time() - start
    core = "core" in item.path.parts and item.get_closest_marker("campaign") is None
    if core and took > CEILING_S and took > CEILING_S * slowness():
        pytest.fail(f"it took {took:.1f} s, a test of the core may take {CEILING_S:g} s")


@pytest.fixture(scope="session")
def catalogue() -> Catalogue:
    """The shipped catalogue."""
    return shipped()


@pytest.fixture(scope="session")
def demo_tables() -> tuple[str, str]:
    """The two CSV files of the demo."""
    root = files("zesty_trace") / "data" / "demo" / "proofing"
    return (root / "parts.csv").read_text("utf-8"), (root / "wiring.csv").read_text("utf-8")


@pytest.fixture(scope="session")
def demo(catalogue: Catalogue, demo_tables: tuple[str, str]) -> Design:
    """The demo as it opens, mistakes included."""
    return import_prototype(*demo_tables, catalogue, demo_base(TODAY))


@pytest.fixture(scope="session")
def mended(demo: Design, catalogue: Catalogue) -> Design:
    """The demo with every mend applied."""
    design = demo
    for finding in review(Wired(design, catalogue)):
        if finding.mend:
            design = finding.mend.apply(design)
    return design


@pytest.fixture(scope="session")
def route_result(mended: Design, catalogue: Catalogue) -> RouteResult:
    """The mended demo, placed and routed."""
    return route(Wired(place_rest(Wired(mended, catalogue)), catalogue))


@pytest.fixture(scope="session")
def routed(route_result: RouteResult) -> Design:
    """The routed demo board."""
    return route_result.design
