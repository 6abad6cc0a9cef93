"""The demo projects: imported like a user's own, with realistic mistakes in them, drawn and routed without fault."""

from __future__ import annotations

from importlib.resources import files

import pytest

from zesty_trace.core.board.check import check_board
from zesty_trace.core.board.place import place_rest
from zesty_trace.core.board.router import route
from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design
from zesty_trace.core.findings import Severity
from zesty_trace.core.review.rules import review
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.schematic.quality import wire_quality
from zesty_trace.core.tables.importing import import_prototype
from zesty_trace.errors import InputError
from zesty_trace.journey.demos import create_demo, demo_base
from zesty_trace.stations import DEMOS

from ..conftest import TODAY

PLANTED = {
    "proofing": {"heat", "level clash", "bus address"},
    "tide-dial": {"supply overload", "bus address", "high too low", "decoupling"},
    "sensor-node": {"LED current", "level clash", "pull-up missing", "decoupling"},
}


@pytest.fixture(scope="module", params=sorted(DEMOS))
def named(request: pytest.FixtureRequest, catalogue: Catalogue) -> tuple[str, Design]:
    root = files("zesty_trace") / "data" / "demo" / request.param
    texts = [(root / n).read_text("utf-8") for n in ("parts.csv", "wiring.csv")]
    return request.param, import_prototype(*texts, catalogue, demo_base(TODAY, request.param))


def test_at_least_three_planted_mistakes_are_found(named: tuple[str, Design], catalogue: Catalogue) -> None:
    name, design = named
    found = {f.rule for f in review(Wired(design, catalogue)) if f.severity <= Severity.FIX}
    assert found >= PLANTED[name]
    assert len(PLANTED[name]) >= 3


def test_every_mend_takes_its_own_finding_away(named: tuple[str, Design], catalogue: Catalogue) -> None:
    _, design = named
    for finding in review(Wired(design, catalogue)):
        if finding.mend:
            after = finding.mend.apply(design)
            assert finding.identity not in {f.identity for f in review(Wired(after, catalogue))}, finding.title


def test_the_sheet_has_no_overlap_and_no_wire_through_a_part(named: tuple[str, Design], catalogue: Catalogue) -> None:
    _, design = named
    sheet = arrange(Wired(design, catalogue))
    quality = wire_quality(sheet.wires, sheet.symbols)
    assert (quality["overlaps"], quality["through parts"]) == (0, 0)
    assert sheet.width < 260


@pytest.mark.campaign
def test_the_board_routes_without_a_clearance_finding(named: tuple[str, Design], catalogue: Catalogue) -> None:
    name, design = named
    if name == "proofing":
        pytest.skip("the demo board of the other tests")
    result = route(Wired(place_rest(Wired(design, catalogue)), catalogue))
    assert (result.missing, result.conflicts) == (0, 0)
    assert not {f.rule for f in check_board(Wired(result.design, catalogue))} & {
        "clearance",
        "unrouted",
        "edge",
        "overlap",
    }


def test_unknown_demo_is_told(tmp_path) -> None:
    with pytest.raises(InputError, match="There is no demo"):
        create_demo(tmp_path / "x", TODAY, "toaster")
