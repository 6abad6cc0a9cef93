"""A design with its catalogue: read off once, seen anew with another catalogue, and whole in another process."""

from __future__ import annotations

import pickle
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
import pytest

from zesty_trace.core.catalogue.kinds import Catalogue, with_user_parts
from zesty_trace.core.circuit.analysis import analyse
from zesty_trace.core.circuit.wired import Wired, far_pin, pack, unpack
from zesty_trace.core.design import edits
from zesty_trace.core.design.model import Design, Part, Pin
from zesty_trace.errors import InputError
from zesty_trace.journey.measuring import measure_simulated

OWN = """[own_bead]
title = "Own bead"
prefix = "L"
packages = ["L0603"]
pins = [["1", "1", "passive"], ["2", "2", "passive"]]
model = { type = "fixed_resistor", ohm = 0.07 }
"""


@pytest.fixture
def own(tmp_path: Path, catalogue: Catalogue) -> Catalogue:
    (tmp_path / "parts").mkdir()
    package = next(k.packages[0] for k in catalogue.kinds.values() if k.id == "ferrite_bead")
    (tmp_path / "parts" / "bead.toml").write_text(OWN.replace("L0603", package), "utf-8")
    return with_user_parts(catalogue, (tmp_path, "parts"))


def with_bead(mended: Design) -> Design:
    """Return the demo with a part of the user's own kind across its supply's fuse."""
    design = edits.add_part(mended, Part(ref="L90", kind="own_bead"))
    fuse = next(r for r, p in design.parts.items() if p.kind == "polyfuse")
    nets = design.net_of()
    for number in ("1", "2"):
        design = edits.connect(design, Pin("L90", number), nets[Pin(fuse, number)])
    return design


def test_what_is_read_off_agrees_with_the_lists_it_comes_from(mended: Design, catalogue: Catalogue) -> None:
    wired = Wired(mended, catalogue)
    for net, pins in mended.nets.items():
        for pin in pins:
            assert wired.net_of[pin] == net
            spec = next(s for s in catalogue.kinds[mended.parts[pin.ref].kind].pins if s.number == pin.number)
            assert wired.spec(pin) == spec
            assert wired.label(pin) == f"{pin.ref}.{spec.name}"
    assert wired.ground == "GND"
    assert "GND" not in wired.rails
    assert {p for p, _ in wired.pins()} == {
        Pin(r, s.number) for r, part in mended.parts.items() for s in catalogue.kinds[part.kind].pins
    }
    for near in wired.near("SDA", *{type(k.model) for k in catalogue.kinds.values()}):
        assert wired.net_of.get(far_pin(near.pin), "") == near.beyond
    with pytest.raises(KeyError, match=r"U3\.99"):
        wired.spec(Pin("U3", "99"))


def test_many_threads_share_what_is_worked_out_once(mended: Design, catalogue: Catalogue) -> None:
    wired = Wired(mended, catalogue)
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda _k: analyse(wired), range(8)))
    assert len({id(a) for a in found}) == 1
    assert analyse(Wired(mended, catalogue)) is not found[0]
    assert wired.with_design(mended) is wired


def test_another_catalogue_is_another_value(mended: Design, catalogue: Catalogue) -> None:
    hot = {**catalogue.kinds}
    hot["led"] = msgspec.structs.replace(hot["led"], title="Another LED")
    again = Wired(mended, Catalogue(hot, catalogue.packages))
    assert again != Wired(mended, catalogue)
    assert again.kind(next(r for r, p in mended.parts.items() if p.kind == "led")).title == "Another LED"


def test_it_travels_whole(mended: Design, own: Catalogue) -> None:
    wired = Wired(with_bead(mended), own)
    for there in (unpack(pack(wired)), pickle.loads(pickle.dumps(wired))):
        assert there.design == wired.design
        assert there.kind("L90") == wired.kind("L90")
        assert there.package("L90") == wired.package("L90")
        assert analyse(there).highest == pytest.approx(analyse(wired).highest, abs=1e-9)
    for broken in (b"", b"{}", b'{"design":{},"kinds":{},"packages":{}}x', pack(wired)[:-9]):
        with pytest.raises(InputError):
            unpack(broken)


@pytest.mark.campaign
def test_a_board_with_a_kind_of_the_users_own_is_measured(mended: Design, own: Catalogue) -> None:
    results = measure_simulated(Wired(with_bead(mended), own), ["A-001"], None, with_faults=False)
    assert [r.verdict for r in results] == ["pass"]
