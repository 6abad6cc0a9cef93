# ruff: noqa: E501
"""Fabrication files as a board house gets them: of this tool and of others, whole and with planted faults."""

from __future__ import annotations

import io
import re
import zipfile

import pytest

from tests.core.planted_files import PLANTED, Files, pads_of_nets
from tests.core.small_board import routed
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design import edits
from zesty_trace.core.fabrication.contacts import contacts_of
from zesty_trace.core.fabrication.finished import read_set
from zesty_trace.core.fabrication.guessing import said_by_name
from zesty_trace.core.fabrication.looking.compare import compare
from zesty_trace.core.fabrication.looking.intake import intake
from zesty_trace.core.fabrication.looking.measures import Measures
from zesty_trace.core.fabrication.looking.tracing import trace, what_should_be
from zesty_trace.core.fabrication.netlist356 import netlist_text, read_netlist, records_of
from zesty_trace.core.fabrication.package import fabrication_files
from zesty_trace.core.fabrication.sources import told_format, told_role
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.findings import Severity
from zesty_trace.errors import InputError


@pytest.fixture(scope="module")
def board() -> Wired:
    return routed()


@pytest.fixture(scope="module")
def files(board: Wired) -> Files:
    return fabrication_files(board)


def foreign(files: Files, netlist: bool = False) -> Files:
    """Return the set as an older tool writes it: inches, no attributes, macros, zeros left out, other names."""
    names = {
        "copper-top.gbr": "board.GTL", "copper-bottom.gbr": "board.GBL", "mask-top.gbr": "board.GTS",
        "mask-bottom.gbr": "board.GBS", "paste-top.gbr": "board.GTP", "paste-bottom.gbr": "board.GBP",
        "silk-top.gbr": "board.GTO", "silk-bottom.gbr": "board.GBO", "outline.gbr": "board.GKO",
    }  # fmt: skip
    found = {f"job/{names[n]}": _old_gerber(t) for n, t in files.items() if n in names}
    found["job/board.TXT"] = _old_drill(files["drill-plated.xnc"])
    found["job/board-npth.TXT"] = _old_drill(files["drill-bare.xnc"])
    if netlist:
        found["job/board.ipc"] = files["netlist.ipc"]
    return found


def _inch(digits: str) -> str:
    return str(round(int(digits) / 25.4 / 10))


def _old_gerber(text: str) -> str:
    text = (
        re.sub(r"%T[FAOD][^%]*%\n?", "", text).replace("%MOMM*%", "%MOIN*%").replace("%FSLAX46Y46*%", "%FSLAX25Y25*%")
    )
    text = re.sub(r"^X(-?\d+)Y(-?\d+)D", lambda m: f"X{_inch(m[1])}Y{_inch(m[2])}D", text, flags=re.M)
    arc = re.compile(r"^X(-?\d+)Y(-?\d+)I(-?\d+)J(-?\d+)D", re.M)
    text = arc.sub(lambda m: "X{}Y{}I{}J{}D".format(*map(_inch, m.groups())), text)

    def aperture(match: re.Match[str]) -> str:
        sizes = [float(v) / 25.4 for v in match[3].split("X")]
        if match[2] == "R":
            return f"%ADD{match[1]}BOX,{sizes[0]:.7f}X{sizes[1]:.7f}*%"
        return f"%ADD{match[1]}{match[2]}," + "X".join(f"{s:.7f}" for s in sizes) + "*%"

    def turned(match: re.Match[str]) -> str:
        sizes = [v if k == 2 else f"{float(v) / 25.4:.7f}" for k, v in enumerate(match[2].split("X"))]
        return f"{match[1]}{'X'.join(sizes)}*%"

    text = re.sub(r"%ADD(\d+)([CRO]),([\d.X]+)\*%", aperture, text)
    text = re.sub(r"(%ADD\d+T[RO],)([-\d.X]+)\*%", turned, text)
    return "G04 made long ago*\n%ASAXBY*%\n%IPPOS*%\n%AMBOX*\n21,1,$1,$2,0,0,0*%\n" + text.replace(
        "G01*", "G70*\nG90*\nG01*"
    )


def _old_drill(text: str) -> str:
    body = [line for line in text.splitlines() if not line.startswith(";")]

    def size(match: re.Match[str]) -> str:
        return f"{match[1]}C{float(match[2]) / 25.4:.4f}"

    def place(match: re.Match[str]) -> str:
        found = ""
        for axis, value in (("X", match[1]), ("Y", match[2])):
            digits = f"{round(abs(float(value)) / 25.4 * 1e4):06d}".rstrip("0") or "0"
            found += axis + ("-" if float(value) < 0 else "") + digits
        return found

    lines = [re.sub(r"^(T\d+)C([\d.]+)", size, line).replace("METRIC", "INCH,LZ") for line in body]
    return "\n".join(re.sub(r"X(-?[\d.]+)Y(-?[\d.]+)", place, line) for line in lines) + "\n"


@pytest.mark.campaign
def test_the_own_set_passes_and_traces_to_the_design(board: Wired, files: Files) -> None:
    read = read_set(files)
    found = intake(read, contacts=contacts_of(board), source="the design")
    assert found.passed, found.queries
    assert found.traced is not None
    assert found.traced.same
    assert found.traced.nets == len({p.net for p in contacts_of(board)})
    contacts, name = what_should_be(read)
    assert name == "netlist.ipc"
    assert trace(read, contacts, name).same
    assert not read.remarks()


@pytest.mark.campaign
@pytest.mark.parametrize("name", PLANTED)
def test_each_planted_fault_is_found(files: Files, name: str) -> None:
    plant, rules = PLANTED[name]
    found = intake(read_set(plant(files)))
    said = {q.rule for q in found.queries if q.severity < Severity.NOTE}
    assert said & rules, (said, found.verdict)
    assert not found.passed


@pytest.mark.campaign
def test_an_older_set_is_read_as_the_same_board(board: Wired, files: Files) -> None:
    own, old = read_set(files), read_set(foreign(files, netlist=True))
    assert not old.broken
    assert old.layers == ["top", "bottom"]
    assert old.edges.size_mm == pytest.approx(own.edges.size_mm, abs=0.002)
    assert Measures(old).areas == pytest.approx(Measures(own).areas, rel=1e-3)
    assert sorted((round(h.diameter, 2), h.plated) for h in old.holes if h.plated is False) == sorted(
        (round(h.diameter, 2), h.plated) for h in own.holes if h.plated is False
    )
    assert [h.points[0] for h in old.holes] == [pytest.approx(h.points[0], abs=0.003) for h in own.holes]
    assert trace(old, contacts_of(board), "the design").same
    contacts, name = what_should_be(old)
    assert name == "job/board.ipc"
    found = intake(old, contacts=contacts, source=name)
    assert found.passed, found.queries
    assert not compare(own, own).layers[0].only_first_mm2
    differences = compare(own, old)
    assert all(k.same for k in differences.layers), differences.layers
    assert not differences.added + differences.removed


def test_a_set_without_names_of_nets_says_that_the_netlist_is_not_checked(files: Files) -> None:
    found = intake(
        read_set(
            {n: t for n, t in foreign(files).items() if "BL" not in n and "TL" not in n}
            | {n: t for n, t in foreign(files).items() if n.endswith(("GTL", "GBL"))}
        )
    )
    assert any("netlist" in words for words in found.unchecked)
    assert "Not checked" in found.verdict or not found.passed
    assert found.traced is None


OLD = ("closed mask", "no top copper", "no bottom copper", "no outline", "drills shifted", "drills in inches",
       "ring too small", "silk on a pad", "open outline", "paste on a hole", "copper swapped in silence")  # fmt: skip


@pytest.mark.campaign
@pytest.mark.parametrize("name", OLD)
def test_faults_of_an_older_set_are_found_too(files: Files, name: str) -> None:
    plant, rules = PLANTED[name]
    found = intake(read_set(foreign(plant(files))))
    said = {q.rule for q in found.queries if q.severity < Severity.NOTE}
    assert said & (rules | {"drill", "hole to hole", "doubt"}), (said, found.verdict)


def test_a_drill_file_that_says_nothing_is_read_as_its_holes_lie_on_pads(files: Files) -> None:
    old = foreign(files)
    text = old["job/board.TXT"].replace("INCH,LZ\n", "")
    read = read_set(old | {"job/board.TXT": text})
    assert any("then lie on pads" in d for d in read.doubts)
    assert [h.points[0] for h in read.holes if h.file == "job/board.TXT"][:5] == [
        pytest.approx(h.points[0], abs=0.003) for h in read_set(old).holes if h.file == "job/board.TXT"
    ][:5]
    assert not intake(read).passed  # a person is to confirm it


def test_what_moved_between_two_revisions_is_said_with_numbers(board: Wired, files: Files) -> None:
    b = board.design.board
    via = b.vias[0]
    moved = edits.set_copper(board.design, b.tracks[1:], [*b.vias[1:]], b.pours)
    after = read_set(fabrication_files(board.with_design(moved)))
    found = compare(read_set(files), after)
    assert [h.points[0] for h in found.removed] == [pytest.approx((via.x_nm / 1e6, via.y_nm / 1e6))]
    assert not found.added
    copper = [k for k in found.layers if k.role == "copper"]
    assert any(k.only_first_mm2 > 0.1 or k.only_second_mm2 > 0.1 for k in copper)
    assert all(k.same for k in found.layers if k.role in ("paste", "outline"))


def test_the_netlist_file_has_its_columns_and_comes_back(board: Wired) -> None:
    records = records_of(board)
    text = netlist_text("a board", records)
    for line in text.splitlines():
        if line.startswith(("317", "327")):
            assert line[26] in "- "
            assert line[38] == "A"
            assert (line[41], line[49]) == ("X", "Y")
            assert line[3:17].strip()
    back = read_netlist(text)
    assert [(r.net, r.ref, r.pin, r.drill > 0) for r in back] == [(r.net, r.ref, r.pin, r.drill > 0) for r in records]
    assert [(r.x, r.y) for r in back] == [pytest.approx((r.x, r.y), abs=6e-4) for r in records]
    long = records[0].__class__(**{**records[0].__dict__, "net": "A_NET_WITH_A_LONG_NAME"})
    assert read_netlist(netlist_text("x", [long]))[0].net == "A_NET_WITH_A_LONG_NAME"
    inches = f"P  UNITS CUST 0\n327{'GND':<14}   {'R1':<6}-{'1':<4}       A01X+010000Y-005000X0500Y0300R000\n999\n"
    (record,) = read_netlist(inches)
    assert (record.x, record.y, record.width) == pytest.approx((25.4, -12.7, 1.27))
    with pytest.raises(InputError, match="line 2"):
        read_netlist("P  UNITS CUST 1\n327GND   what\n")


@pytest.mark.parametrize(
    ("name", "wanted"),
    [
        ("front copper.gbr", ("copper", "top")),
        ("board-back-mask.gbr", ("mask", "bottom")),
        ("top_silkscreen.ger", ("silk", "top")),
        ("Bottom Paste.gbr", ("paste", "bottom")),
        ("board_outline.gbr", ("outline", "")),
        ("inner_1.gbr", ("copper", "inner1")),
        ("x.g2", ("copper", "inner2")),
        ("top_copper.art", ("copper", "top")),
        ("soldermask-bot.pho", ("mask", "bottom")),
        ("x.gtl", ("copper", "top")),
        ("board edge.gbr", ("outline", "")),
        ("holes-npth.gbr", ("drill", "bare")),
    ],
)  # fmt: skip
def test_names_of_layers_of_other_tools(name: str, wanted: tuple[str, str]) -> None:
    found = said_by_name(name)
    assert found is not None
    assert (found.role, found.side) == wanted


def test_what_is_said_of_files_counts_more_than_names(files: Files) -> None:
    renamed = {("layer_a.gbr" if n == "copper-top.gbr" else n): t for n, t in foreign(files).items()}
    odd = {("job/a.gbr" if n.endswith("GTL") else n): t for n, t in renamed.items()}
    assert "top" not in read_set(odd).layers
    assert any(q.rule == "unknown file" for q in intake(read_set(odd)).queries)
    told = read_set(odd, told=dict([told_role("job/a.gbr=copper,top")]))
    assert told.layers == ["top", "bottom"]
    for words in ("a", "a=copper", "a=nothing,top", "a=copper,middle"):
        with pytest.raises(InputError):
            told_role(words)
    assert told_format("d.txt=inch,2.4,leading")[1].unit == 25.4
    for words in ("d.txt=inch", "d.txt=furlong,2.4,leading", "d.txt=mm,2,leading"):
        with pytest.raises(InputError):
            told_format(words)


@pytest.mark.parametrize(
    ("name", "data"),
    [("run.exe", b"x"), ("board.gbr", b"MZ\x90\x00"), ("x/readme.txt", b"\x7fELF\x02"), ("go.txt", b"#!/bin/sh\nrm"), ("C:evil.gbr", b"G04*")],
)  # fmt: skip
def test_programs_and_odd_paths_in_a_zip_are_refused(name: str, data: bytes) -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr(name, data)
    with pytest.raises(InputError, match=r"program|outside"):
        read_zip(out.getvalue())


def test_an_outline_of_which_nothing_tells_is_known_by_its_line_round_all_the_rest(files: Files) -> None:
    old = {n.replace("board.GKO", "drawing7.dat"): t for n, t in foreign(files).items()}
    read = read_set(old)
    assert read.guesses["job/drawing7.dat"].role == "outline"
    assert read.edges.size_mm == pytest.approx(read_set(files).edges.size_mm, abs=0.002)


def test_what_one_says_of_a_file_holds_for_drills_too_and_must_name_a_file(files: Files) -> None:
    old = foreign(files)
    read = read_set(old, told={"job/board-npth.TXT": ("drill", "plated")})
    assert not read.broken
    assert read.guesses["job/board-npth.TXT"].side == "plated"
    with pytest.raises(InputError, match=r"no typo\.gbr in the set"):
        read_set(old, told={"typo.gbr": ("copper", "top")})


def test_a_netlist_that_cannot_be_read_stops_the_set_with_its_line(files: Files) -> None:
    found = intake(read_set(files | {"netlist.ipc": "P  UNITS CUST 1\n327GND   what\n"}))
    assert any(q.rule == "unreadable" and "netlist.ipc line 2" in q.detail for q in found.queries)


def test_copper_that_is_left_out_for_its_drill_is_joined_by_the_wall_all_the_same(files: Files) -> None:
    """Some tools clear the copper in the hole, a little wider than the drill."""
    read = read_set(files)
    holes = [h for h in read.holes if h.plated and not h.slot]
    pen = max(h.diameter for h in holes) + 0.02
    cut = dict(files)
    for layer in ("top", "bottom"):
        text = cut[f"copper-{layer}.gbr"].replace("G01*\n", f"%ADD98C,{pen:.6f}*%\nG01*\n", 1)
        wide = [h for h in holes if h.diameter + 0.02 == pytest.approx(pen)]
        marks = "".join(f"X{round(h.points[0][0] * 1e6)}Y{round(h.points[0][1] * 1e6)}D03*\n" for h in wide)
        cut[f"copper-{layer}.gbr"] = text.replace("M02*", f"%TD*%\n%LPC*%\nD98*\n{marks}M02*")
    again = read_set(cut)
    assert again.copper("top").area < read.copper("top").area - 0.1
    contacts, name = what_should_be(again)
    assert trace(again, contacts, name).same


def test_pads_of_no_net_are_no_net_in_pieces(files: Files) -> None:
    nets = list(pads_of_nets(files["copper-top.gbr"]))
    bare = {n: t.replace(f"TO.N,{nets[1]}*", "TO.N,N/C*") for n, t in files.items() if n != "netlist.ipc"}
    found = intake(read_set(bare))
    assert found.traced is not None
    assert "N/C" not in {o.net for o in found.traced.opens}


def test_pads_have_nets_in_the_files(files: Files) -> None:
    assert len(pads_of_nets(files["copper-top.gbr"])) > 3
