"""What is fuzzed: every reader with valid seeds, and what must hold whatever it is given.

Own errors only; where something is accepted it reads back the same. Time and memory are looked at by the callers.
"""

from __future__ import annotations

import copy
import io
import math
import random
import tempfile
import tomllib
import zipfile
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import cache
from importlib.resources import files
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import tomli_w

from zesty_trace.core.board.copper import board_pads
from zesty_trace.core.board.object import read_object
from zesty_trace.core.board.outline import dxf_of, rings_from_dxf, rings_from_svg
from zesty_trace.core.board.words.say_place import understand_placing
from zesty_trace.core.catalogue.kinds import Catalogue, Kind, kinds_of, shipped
from zesty_trace.core.catalogue.lands.own_dxf import spec_from_dxf
from zesty_trace.core.catalogue.make_part import write_kind
from zesty_trace.core.catalogue.markings import read_bands, read_chip
from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Design, Part, Pin, Placement, to_json
from zesty_trace.core.design.reading import from_json
from zesty_trace.core.fabrication.adopting.adopt import adopt
from zesty_trace.core.fabrication.adopting.tables_in import read_bom, read_centroid
from zesty_trace.core.fabrication.finished import BoardSet, read_set
from zesty_trace.core.fabrication.package import fabrication_files, zip_bytes
from zesty_trace.core.fabrication.zips import read_zip
from zesty_trace.core.firmware.image import fit_findings, pages_of, parse_image
from zesty_trace.core.firmware.targets import find_target
from zesty_trace.core.gerber.drill import read_drill
from zesty_trace.core.gerber.reading import read_gerber
from zesty_trace.core.ordering.houses import read_house
from zesty_trace.core.ordering.maker import Own, maker_toml, read_maker, read_pace
from zesty_trace.core.ordering.money import money, read_rates
from zesty_trace.core.ordering.ordered import BoardOrders, BoardsOrdered, ordered_toml, read_ordered
from zesty_trace.core.ordering.parts.need import LOSSES, losses_csv, read_losses
from zesty_trace.core.ordering.parts.placed import Line, order_csv, read_order
from zesty_trace.core.ordering.parts.sorts import Sort
from zesty_trace.core.ordering.parts.stock import read_stock, stock_csv
from zesty_trace.core.ordering.parts.suppliers import read_offers, read_supplier
from zesty_trace.core.ordering.quote import Order, quote
from zesty_trace.core.ordering.schedule import Maker
from zesty_trace.core.quantities import parse_address, parse_length_nm, read_addresses, read_off, say
from zesty_trace.core.review.rules import review
from zesty_trace.core.schematic.arrange import arrange
from zesty_trace.core.stated import parse_value
from zesty_trace.core.tables.encoding import table_text
from zesty_trace.core.tables.importing import export_parts, export_wiring, import_prototype
from zesty_trace.core.tables.repair import preview_import
from zesty_trace.core.wording.sentences import understand
from zesty_trace.core.wording.wiring_list import read_list, write_list
from zesty_trace.devices.scpi import ScpiLink
from zesty_trace.devices.usart_bootloader import blocks_of
from zesty_trace.errors import ZestyError
from zesty_trace.files import text_of
from zesty_trace.journey.demos import demo_base
from zesty_trace.journey.kinds import check_known
from zesty_trace.store.board import parse_serial
from zesty_trace.store.own import load_names
from zesty_trace.store.payloads import MeasureTold, ReadingTold
from zesty_trace.store.project import JOURNAL, ProjectFolder, read_project
from zesty_trace.store.records import FILE, Records

TODAY = date(2026, 11, 26)


@dataclass(frozen=True)
class Target:
    """One reader: valid inputs to start from, and `act`, which raises ZestyError or nothing."""

    seeds: Callable[[], list[bytes]]
    act: Callable[[bytes], None]
    examples: int = 150


@cache
def demo_design() -> Design:
    root = files("zesty_trace") / "data" / "demo" / "sensor-node"
    texts = [(root / n).read_text("utf-8") for n in ("parts.csv", "wiring.csv")]
    return import_prototype(texts[0], texts[1], shipped(), demo_base(TODAY, "sensor-node"))


@cache
def fabrication() -> dict[str, str]:
    from zesty_trace.core.board.place import place_rest

    return fabrication_files(Wired(place_rest(Wired(demo_design(), shipped())), shipped()))


def data_files(folder: str, suffix: str) -> list[bytes]:
    root = files("zesty_trace") / "data" / folder
    return [e.read_bytes() for e in sorted(root.iterdir(), key=lambda e: e.name) if e.name.endswith(suffix)]


def design(data: bytes) -> None:
    found = from_json(data)
    assert from_json(to_json(found)) == found


def journal(data: bytes) -> None:
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "p"
        ProjectFolder.create(path, Design(name="base")).close()
        (path / JOURNAL).write_bytes(data)
        read_project(path)


def journal_seeds() -> list[bytes]:
    with tempfile.TemporaryDirectory() as place:
        folder = ProjectFolder.create(Path(place) / "p", Design(name="base"))
        for k in range(3):
            folder.journal(Design(name=f"step {k}"))
        folder.close()
        return [(folder.path / JOURNAL).read_bytes()]


def gerber(data: bytes) -> None:
    image = read_gerber(data.decode("latin-1"), "x.gbr")
    assert image.shape is not None  # as it is drawn


def odd_gerbers() -> list[bytes]:
    from tests.core.test_gerber import AREAS

    return [text.encode() for text, *_ in AREAS.values()]


def odd_drills() -> list[bytes]:
    from tests.core.test_drill_files import HOLES

    return [text.encode() for text, *_ in HOLES.values()]


def netlist(data: bytes) -> None:
    from zesty_trace.core.fabrication.netlist356 import read_netlist

    read_netlist(data.decode("latin-1"))


def finished_set(data: bytes) -> None:
    """One file of a set is bent; the set is read and looked through all the same."""
    from zesty_trace.core.fabrication.finished import read_set
    from zesty_trace.core.fabrication.looking.intake import intake

    name, _, text = data.partition(b"\n")
    files = {n: t for n, t in fabrication().items() if n.startswith(("outline", "paste-top", "drill", "mask-top"))}
    intake(read_set(files | {name.decode("latin-1"): text.decode("latin-1")}))


def set_seeds() -> list[bytes]:
    names = ("outline.gbr", "drill-plated.xnc", "mask-top.gbr", "netlist.ipc")
    return [f"{n}\n{fabrication()[n]}".encode() for n in names]


def drill(data: bytes) -> None:
    read_drill(data.decode("latin-1"), "x.xnc")


def archive(data: bytes) -> None:
    files_found = read_zip(data)
    assert read_zip(zip_bytes(files_found)) == files_found


def zip_seeds() -> list[bytes]:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_BZIP2) as made:
        made.writestr("a.gbr", "M02*")
    return [zip_bytes({"a.gbr": "G04 x*\nM02*\n", "b/c.xnc": "M48\nM30\n"}), out.getvalue()]


def firmware(data: bytes) -> None:
    target = find_target("zt32-64k")
    for name in ("x.bin", "x.hex"):
        try:
            image = parse_image(data, name, target.flash_start)
        except ZestyError:
            continue
        if not any(f.severity == 0 for f in fit_findings(image, target)):
            blocks = blocks_of([(s.address, s.data) for s in image.segments], target.row_bytes)
            pages_of(image, target)
            kept = {a + k: b for a, d in blocks for k, b in enumerate(d)}
            assert all(kept[s.address + k] == b for s in image.segments for k, b in enumerate(s.data))


def firmware_seeds() -> list[bytes]:
    import bincopy

    made = bincopy.BinFile()
    made.add_binary(bytes(range(200)), address=0x1000_0000)
    return [made.as_ihex().encode(), made.as_srec().encode(), bytes(range(256)), b"\x7fELF\x01\x01\x01" + bytes(100)]


def rehearse(kind: Kind, catalogue: Catalogue) -> None:
    """Draw, solve, review and place a part of a kind that was accepted: nothing but own errors may come of it."""
    numbers = [p.number for p in kind.pins]
    value = "4k7" if kind.unit else next(iter(kind.options), "")
    part = Part(ref=f"{kind.prefix[:1]}1", kind=kind.id, value=value, package=kind.packages[0])
    jack = Part(ref="JX1", kind="barrel_jack", package="BarrelJack")
    nets = {f"N{k}": (Pin(part.ref, n),) for k, n in enumerate(numbers)}
    nets["GND"] = (Pin("JX1", "2"),)
    nets["12V"] = (Pin("JX1", "1"),)
    for k, pin in enumerate(kind.pins):
        if pin.role in ("supply_in", "ground"):
            name = "GND" if pin.role == "ground" else "12V"
            nets[name] = (*nets[name], *nets.pop(f"N{k}"))
    whole = Design(parts={part.ref: part, "JX1": jack}, nets=nets)
    check_known(Wired(whole, catalogue))
    for act in (lambda: review(Wired(whole, catalogue)), lambda: arrange(Wired(whole, catalogue))):
        with suppress(ZestyError):
            act()
    spot = {part.ref: Placement(x_nm=0, y_nm=0)}
    from msgspec.structs import replace

    board_pads(Wired(replace(whole, board=replace(whole.board, placements=spot)), catalogue))


def kinds(data: bytes) -> None:
    base = shipped()
    found = kinds_of(data, "own.toml", base)
    catalogue = Catalogue({**base.kinds, **found}, base.packages)
    for kind in list(found.values())[:2]:
        rehearse(kind, catalogue)
        again = kinds_of(write_kind(kind).encode(), "own.toml", base)
        assert again == {kind.id: kind}


def kind_seeds() -> list[bytes]:
    return [write_kind(k).encode() for k in shipped().kinds.values()][::4]


ODD = (
    0,
    -1,
    1e30,
    -1e30,
    1e-30,
    "",
    "x",
    "VDD",
    [],
    {},
    True,
    [["1", "A", "passive"]],
    10**9,
    "../x",
    "resistor",
    "nmos",
    "A",
)


def bent_kinds(data: bytes) -> None:
    """Kinds whose fields are bent one by one: what is accepted must survive the rehearsal."""
    rng = random.Random(data)
    base = shipped()
    kind_id = rng.choice(sorted(base.kinds))
    table = tomllib.loads(write_kind(base.kinds[kind_id]))
    for _ in range(rng.randint(1, 3)):
        _bend(table[kind_id], rng)
    try:
        text = tomli_w.dumps(table)
    except TypeError:
        return
    kinds(text.encode())


def _bend(node: Any, rng: random.Random) -> None:
    keys = list(node) if isinstance(node, dict) else list(range(len(node)))
    if not keys:
        return
    key = rng.choice(keys)
    if isinstance(node[key], dict | list) and rng.random() < 0.75:
        _bend(node[key], rng)
    elif rng.random() < 0.3:
        del node[key]
    else:
        node[key] = copy.deepcopy(rng.choice(ODD))


def house(data: bytes) -> None:
    found = read_house(text_of(data, "x.toml"), "x.toml")
    quote([found], Order(10, 80.0, 50.0, 2, "green", True), TODAY, None, 0.0)


FIGURES: dict[str, tuple[Callable[[str, str], Any], Callable[[Any], str] | None]] = {
    "supplier": (read_supplier, None),
    "offers": (read_offers, None),
    "stock": (read_stock, stock_csv),
    "losses": (read_losses, lambda found: losses_csv(found[: -len(LOSSES)])),
    "hours": (read_maker, maker_toml),
    "pace": (read_pace, None),
    "order": (read_order, order_csv),
    "boards": (read_ordered, ordered_toml),
    "rates": (read_rates, None),
}


def figures(data: bytes) -> None:
    """Read the tables of a purchase; the first line says which. What is accepted reads back the same."""
    name, _, text = text_of(data, "figures").partition("\n")
    reader, writer = FIGURES.get(name, FIGURES["stock"])
    found = reader(text, "x")
    if writer is not None:
        assert reader(writer(found), "x") == found


def figure_seeds() -> list[bytes]:
    seeds = [b"supplier\n" + d for d in data_files("suppliers", ".toml")]
    seeds += [b"offers\n" + d[:900].rpartition(b"\n")[0] for d in data_files("suppliers", ".csv")]
    line = Line(
        "A-1", Sort("led", "red", "LED0603"), 12, Decimal("0.10"), "D1 D2", 3, "led red LED0805", "bag", True, TODAY
    )
    one = BoardsOrdered("Quay Circuits, parcel", 12, money("17.50"), TODAY, TODAY, TODAY, 2.5)
    boards = BoardOrders().with_order(one).with_order(one).after(1, TODAY, "here")
    hours = Own(Maker(off=frozenset({TODAY})), (("SOIC", 14.0),), 0.9, Decimal("0.25"))
    return [
        *seeds,
        b"stock\nkind,value,package,count,place,note\nresistor,10k,R0603,40,tray 1,\nheader_17,,Header-1x17,1,,left\n",
        b"losses\npackage,percent,least\n*0603,8,7\n,1,0\n",
        f"hours\n{maker_toml(hours)}".encode(),
        b"pace\nday,package,parts,seconds\n2026-11-01,R0603,10,80\n",
        f"order\n{order_csv([line], Decimal('2.80'))}".encode(),
        f"boards\n{ordered_toml(boards)}".encode(),
        b'rates\nof = "2026-11-20"\n[rates]\nUSD = 0.92\n',
    ]


def tables(data: bytes) -> None:
    parts, _, wiring = text_of(data, "tables").partition("\n====\n")
    preview_import(parts, wiring, shipped())
    found = import_prototype(parts, wiring, shipped())
    again = import_prototype(export_parts(found), export_wiring(found), shipped())
    assert (again.parts, again.nets, again.not_connected) == (found.parts, found.nets, found.not_connected)


def table_seeds() -> list[bytes]:
    return [
        f"{export_parts(demo_design())}\n====\n{export_wiring(demo_design())}".encode(),
        b"ref,kind,value\nR1,resistor,4k7\nC1,ceramic_capacitor,100n\n\n====\n"
        b"net,ref,pin\nA,R1,1\nB,R1,2\nB,C1,1\nNC,C1,2\n",
    ]


def words(data: bytes) -> None:
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "names.json"
        path.write_bytes(data)
        load_names(path)


def quantities(data: bytes) -> None:
    text = data.decode("utf-8", "replace")
    for read in (
        parse_value,
        parse_length_nm,
        parse_address,
        read_addresses,
        read_bands,
        read_chip,
        lambda t: read_off(t, "Ω"),
        lambda t: parse_serial(t, "A"),
    ):
        try:
            found = read(text)
        except ZestyError:
            continue
        if read is parse_value:
            say(found, "V")


def sentences(data: bytes) -> None:
    understand(data.decode("utf-8", "replace"), Wired(demo_design(), shipped()))


def placing(data: bytes) -> None:
    understand_placing(data.decode("utf-8", "replace"), demo_design())


def wiring_list(data: bytes) -> None:
    read_list(text_of(data, "list"), Wired(demo_design(), shipped()))


def scpi(data: bytes) -> None:
    """An instrument that answers with these bytes."""
    source = io.BytesIO(data)
    link = ScpiLink.__new__(ScpiLink)
    link.resource, link.identity, link._timeout_s, link._manager = "fuzz", "", 0.5, None
    link._session = SimpleNamespace(write_raw=lambda _d: None, close=lambda: None)
    link._byte = lambda _wait: source.read(1)  # type: ignore[method-assign]
    link._timeout_s = 0.01
    value = link.number("MEAS:RES?")
    assert isinstance(value, float)
    assert not math.isnan(value)


def records(data: bytes) -> None:
    with tempfile.TemporaryDirectory() as place:
        (Path(place) / FILE).write_bytes(data)
        with closing(Records(Path(place))) as found:
            found.boards()
            found.verify()


def record_seeds() -> list[bytes]:
    with tempfile.TemporaryDirectory() as place, closing(Records(Path(place))) as made:
        made.add_boards("A", "Full", range(1, 4))
        made.add("A-001", "measured", "fine", "pass", MeasureTold(source="real", readings=(ReadingTold(step=1),)))
        return [made.snapshot()]


def texts(*lines: str) -> Callable[[], list[bytes]]:
    return lambda: [line.encode() for line in lines]


BILL = b"Ref;Value;Package;DNP\nR1-R3;4k7;R0603;\nU1;chip;SOIC-8;x\n"
PLACES = (
    b"# unit: mm\nRef,Val,Package,PosX,PosY,Rot,Side\nR1,4k7,R0603,1.5,2.5,90,top\nU1,chip,SOIC-8,20mm,30mm,0,bottom\n"
)


def bill(data: bytes) -> None:
    read_bom(table_text(data, "b.csv"), "b.csv")


def places(data: bytes) -> None:
    read_centroid(table_text(data, "c.csv"), "c.csv")


def adopted(data: bytes) -> None:
    """Two tables on a board whose files are fixed, as `zt adopt` takes them."""
    first, _, second = data.partition(b"\n====\n")
    bought, placed = read_bom(table_text(first, "b"), "b"), read_centroid(table_text(second, "c"), "c")
    adopt(adopted_board(), {"": bought}, placed, shipped(), "x", "given-x.zip")


@cache
def adopted_board() -> BoardSet:
    return read_set({n: t for n, t in fabrication().items() if n.endswith((".gbr", ".xnc"))})


def adopted_seeds() -> list[bytes]:
    files = fabrication()
    bills, spots = ([t for n, t in files.items() if n.startswith(k)] for k in ("bom", "centroid"))
    return [f"{bills[0]}\n====\n{spots[0]}".encode()]


def drawing_seeds() -> list[bytes]:
    """An outline with arcs, a spline, an ellipse and bulges, as DXF; the demo's own."""
    import ezdxf

    made = ezdxf.new("R2010", units=4)  # mm
    space = made.modelspace()
    space.add_lwpolyline([(0, 0, 0, 0, 0.4), (50, 0), (50, 30, 0, 0, -0.2), (0, 30)], close=True, format="xyseb")
    space.add_circle((10, 10), 2)
    space.add_arc((20, 15), 4, 0, 270)
    space.add_ellipse((30, 15), (4, 0), 0.5)
    space.add_spline([(5, 20), (8, 22), (12, 20)])
    space.add_text("R1 90", dxfattribs={"layer": "TEMPLATE"}).set_placement((10, 10))
    space.add_point((10, 10), dxfattribs={"layer": "TEMPLATE"})
    out = io.StringIO()
    made.write(out)
    return [out.getvalue().encode(), dxf_of(demo_design()).encode()]


def pattern_seeds() -> list[bytes]:
    """Two pads with their numbers, one with a hole, a body and a bare hole, as DXF."""
    import ezdxf

    made = ezdxf.new("R2010", units=4)  # mm
    space = made.modelspace()
    for k, x in ((1, -1.0), (2, 1.0)):
        square = [(x - 0.4, -0.4), (x + 0.4, -0.4), (x + 0.4, 0.4), (x - 0.4, 0.4)]
        space.add_lwpolyline(square, close=True)
        space.add_text(str(k)).set_placement((x, 0))
    space.add_circle((-1, 0), 0.2)
    space.add_circle((4, 0), 0.5, dxfattribs={"layer": "HOLES"})
    space.add_lwpolyline([(-2, -1), (2, -1), (2, 1), (-2, 1)], close=True, dxfattribs={"layer": "BODY"})
    out = io.StringIO()
    made.write(out)
    return [out.getvalue().encode()]


SVG = (
    b'<svg xmlns="http://www.w3.org/2000/svg" width="80mm" height="50mm" viewBox="0 0 80 50">'
    b'<rect x="0" y="0" width="80" height="50" rx="3"/><circle cx="10" cy="10" r="2"/>'
    b'<path d="M20 20 l10 0 a5 5 0 0 1 0 10 C 25 35 20 32 20 30 z" transform="rotate(5)"/></svg>'
)


def drawing(read: Callable[[str], object]) -> Callable[[bytes], None]:
    def act(data: bytes) -> None:
        read(data.decode("utf-8", "replace"))

    return act


TARGETS = {
    "bill": Target(lambda: [BILL, *(t.encode() for n, t in fabrication().items() if n.startswith("bom"))], bill, 300),
    "places": Target(
        lambda: [PLACES, *(t.encode() for n, t in fabrication().items() if n.startswith("centroid"))], places, 300
    ),
    "adopt": Target(adopted_seeds, adopted, 15),
    "outline": Target(drawing_seeds, drawing(rings_from_dxf), 60),
    "svg": Target(lambda: [SVG], drawing(rings_from_svg), 150),
    "object": Target(drawing_seeds, drawing(lambda text: read_object(text, demo_design())), 60),
    "pattern": Target(pattern_seeds, drawing(lambda text: spec_from_dxf("MINE", text, 1.0)), 60),
    "design": Target(lambda: [to_json(demo_design()), to_json(Design())], design, 120),
    "journal": Target(journal_seeds, journal, 60),
    "odd gerber": Target(odd_gerbers, gerber, 200),
    "odd drill": Target(odd_drills, drill, 300),
    "netlist": Target(lambda: [fabrication()["netlist.ipc"].encode()], netlist, 100),
    "set": Target(set_seeds, finished_set, 20),
    "gerber": Target(lambda: [fabrication()[n].encode() for n in ("outline.gbr", "paste-top.gbr")], gerber, 120),
    "drill": Target(lambda: [fabrication()[n].encode() for n in ("drill-plated.xnc", "drill-bare.xnc")], drill, 250),
    "zip": Target(zip_seeds, archive, 250),
    "firmware": Target(firmware_seeds, firmware, 250),
    "kinds": Target(kind_seeds, kinds, 120),
    "bent kinds": Target(lambda: [b"%d" % k for k in range(12)], bent_kinds, 300),
    "houses": Target(lambda: data_files("houses", ".toml"), house, 150),
    "figures": Target(figure_seeds, figures, 400),
    "tables": Target(table_seeds, tables, 120),
    "names": Target(texts('{"ceramic cap": "ceramic_capacitor"}'), words, 100),
    "quantities": Target(
        texts("4k7", "0.1 uF", "12 mil", "0x44", "68", "yellow violet red gold", "472", "3,31 V", "A-001", "1e-320"),
        quantities,
        400,
    ),
    "sentences": Target(
        texts(
            "U3.P10 - R8 330 - D2 red - GND",
            "U5.ADR to 3V3",
            "R8 = 1k on small",
            "add U7 humidity_sensor in SOIC-8",
            "decouple U4",
            "repeat D1, R9 x8 on U3.P10..P12",
            "copy R1, R2",
            "rename SDA to DATA",
            "delete R8, D1",
            'add R30 resistor 4k7 note "x"',
            "leave U3.P10, U3.P11 open",
            "block R1, R2 as Lamp",
            "fit U5 only Full",
        ),
        sentences,
        150,
    ),
    "placing": Target(
        texts("R5 at 20, 14.5", "R1..R9 on circle 40mm", "turn U3 90", "flip U3", "R1, R2 in line 0,0 to 20,20"),
        placing,
        200,
    ),
    "list": Target(lambda: [write_list(Wired(demo_design(), shipped())).encode()], wiring_list, 60),
    "scpi": Target(texts("+4.700E+03\n", "9.9E37\n", "-1\n", "4,700\n", '0,"No error"\n'), scpi, 300),
    "records": Target(record_seeds, records, 60),
}
